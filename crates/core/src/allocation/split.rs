//! The best split of a checked problem, or what contradicts itself in it.

use super::conflict::{Conflict, ConflictKind, WholeLimit, find};
use super::coupled::{Coupling, Objective, OutOfReach, Space};
use super::goal::{goal_curve, goal_weight};
use super::problem::{Goal, Problem};
use super::response::Curve;
use super::rounding::{NoStep, round};
use super::stepwise::{Missed, Whole};
use super::tree::{Tree, spends_all};

/// A split, in tree order.
pub(super) struct Split {
    /// The order.
    pub(super) tree: Tree,
    /// As solved.
    pub(super) exact: Vec<f64>,
    /// In whole steps.
    pub(super) amounts: Vec<f64>,
}

pub(super) fn best_split(problem: &Problem) -> Result<Split, Vec<Conflict>> {
    let tree = Tree::new(problem);
    let conflicts = find(problem, &tree);
    if !conflicts.is_empty() {
        return Err(conflicts);
    }
    let mut reach = tree.reach();
    // Bounds that differ by rounding only are one.
    for r in &mut reach {
        r.1 = r.1.max(r.0);
    }
    let curves: Vec<Curve> = tree.order.iter().map(|&i| goal_curve(problem, i)).collect();
    let couplings = couplings(problem, &tree);
    // Limits on conversions need their curves: what the goal counts is then a bonus on each unit of money.
    let by_click = |i: usize| problem.lines[i].cost_per_click().map_or(0.0, |cpc| 1.0 / cpc);
    let (weights, bonus) = if problem.goal == Goal::Clicks && !couplings.is_empty() {
        (vec![0.0; tree.order.len()], tree.order.iter().map(|&i| by_click(i)).collect())
    } else {
        (tree.order.iter().map(|&i| goal_weight(problem, i)).collect(), Vec::new())
    };
    let price = if matches!(problem.goal, Goal::Profit | Goal::LeastSpend) { 1.0 } else { 0.0 };
    let space = Space {
        tree: &tree,
        reach: &reach,
        curves: &curves,
        total: problem.total.amount,
        all: spends_all(problem),
    };
    let goal = Objective { weights, bonus, price };
    let exact = space
        .solve(&goal, &couplings)
        .map_err(|out| vec![out_of_reach(problem, &tree, &curves, out)])?;
    let amounts = if problem.step > 0.0 {
        let whole = Whole { space: &space, goal: &goal, limits: &couplings, step: problem.step };
        let fixed = |place: usize| problem.lines[tree.order[place]].fixed.is_some();
        let rounded = round(&tree, &exact, (space.total, space.all), fixed, problem.step)
            .map_err(|none| vec![no_step(problem, &tree, none)])?;
        let kept = whole
            .within_limits(rounded)
            .map_err(|missed| vec![too_coarse(problem, &tree, &curves, missed)])?;
        whole.improved(kept)
    } else {
        exact.clone()
    };
    Ok(Split { tree, exact, amounts })
}

/// A limit that the exact plan keeps, and that no plan in whole steps can.
fn no_step(problem: &Problem, tree: &Tree, none: NoStep) -> Conflict {
    let (asked, members, group) = match none {
        NoStep::Line(place) => {
            (tree.bounds[place].0, vec![problem.lines[tree.order[place]].id.clone()], None)
        }
        NoStep::Node(n) => match tree.nodes[n].group {
            Some(g) => (tree.reach()[n].0, Vec::new(), Some(problem.groups[g].id.clone())),
            None => (problem.total.amount, Vec::new(), None),
        },
    };
    let possible = (asked / problem.step).round() * problem.step;
    Conflict {
        kind: ConflictKind::BetweenSteps,
        asked,
        possible,
        group,
        groups: Vec::new(),
        members,
    }
}

fn couplings(problem: &Problem, tree: &Tree) -> Vec<Coupling> {
    let l = &problem.limits;
    let ones = vec![1.0; tree.order.len()];
    let values = || {
        tree.order.iter().map(|&i| problem.lines[i].value_per_conversion.unwrap_or(0.0)).collect()
    };
    let cpa = l.max_cpa.map(|t| Coupling {
        limit: WholeLimit::MaxCpa,
        weights: vec![t; tree.order.len()],
        price: 1.0,
        least: 0.0,
    });
    let roas = l.min_roas.map(|r| Coupling {
        limit: WholeLimit::MinRoas,
        weights: values(),
        price: r,
        least: 0.0,
    });
    let count = l.min_conversions.map(|n| Coupling {
        limit: WholeLimit::MinConversions,
        weights: ones,
        price: 0.0,
        least: n,
    });
    [cpa, roas, count].into_iter().flatten().collect()
}

fn out_of_reach(problem: &Problem, tree: &Tree, curves: &[Curve], out: OutOfReach) -> Conflict {
    let kind = ConflictKind::OutOfReach(out.limit);
    missed_whole(problem, tree, curves, kind, out.limit, &out.best)
}

/// The exact plan meets the limit; no plan in whole steps does.
fn too_coarse(problem: &Problem, tree: &Tree, curves: &[Curve], missed: Missed) -> Conflict {
    let kind = ConflictKind::StepTooCoarse(missed.limit);
    missed_whole(problem, tree, curves, kind, missed.limit, &missed.amounts)
}

fn missed_whole(
    problem: &Problem,
    tree: &Tree,
    curves: &[Curve],
    kind: ConflictKind,
    limit: WholeLimit,
    best: &[f64],
) -> Conflict {
    let conversions: f64 = curves.iter().zip(best).map(|(f, s)| f.at(*s)).sum();
    let value: f64 = (0..curves.len())
        .map(|p| {
            curves[p].at(best[p]) * problem.lines[tree.order[p]].value_per_conversion.unwrap_or(0.0)
        })
        .sum();
    let spend: f64 = best.iter().sum();
    let (asked, possible) = match limit {
        WholeLimit::MaxCpa => (problem.limits.max_cpa, spend / conversions),
        WholeLimit::MinRoas => (problem.limits.min_roas, value / spend),
        WholeLimit::MinConversions => (problem.limits.min_conversions, conversions),
    };
    Conflict {
        kind,
        asked: asked.unwrap_or(0.0),
        possible,
        group: None,
        groups: Vec::new(),
        members: Vec::new(),
    }
}
