//! What comes back: budgets, what they bring, what holds each of them, what the limits cost.

use super::conflict::{Conflict, ConflictKind, WholeLimit, find};
use super::coupled::{Coupling, Objective, OutOfReach, Space};
use super::precision::{Outlook, Range, error, outlook};
use super::problem::{Goal, Problem, ProblemError, Use};
use super::repair::{Repair, offer};
use super::response::{Curve, Response};
use super::rounding::round;
use super::stepwise::{self, Missed};
use super::tree::{Tree, line_bounds, spends_all};

/// The answer to a problem.
#[derive(Clone, Debug, PartialEq)]
pub enum Answer {
    /// The best split.
    Optimal(Solved),
    /// The limits contradict each other.
    Infeasible {
        /// Which, in their smallest form.
        conflicts: Vec<Conflict>,
        /// Changes that end them.
        repairs: Vec<Repair>,
    },
}

/// The best split.
#[derive(Clone, Debug, PartialEq)]
pub struct Solved {
    /// What the goal counts, at the split: conversions, value, clicks, profit, or spend.
    pub objective: f64,
    /// The same at the present spends.
    pub present: f64,
    /// In the order of the problem's lines.
    pub lines: Vec<LineAnswer>,
    /// The whole plan.
    pub totals: Totals,
    /// The same for the present spends.
    pub current: Totals,
    /// What 1,000 more in total would bring of the goal; absent for the goal of least spend.
    pub next_1000: Option<f64>,
    /// What is open about the goal's count, where responses tell how well they are known.
    pub outlook: Option<Outlook>,
    /// What to know before believing it.
    pub warnings: Vec<Warning>,
}

/// One line of the answer.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct LineAnswer {
    /// Money for the period.
    pub budget: f64,
    /// Where the cost per click is known.
    pub clicks: Option<f64>,
    /// Expected conversions.
    pub conversions: f64,
    /// Where a conversion's worth is known.
    pub value: Option<f64>,
    /// What one more unit of money here would bring of the goal.
    pub marginal: f64,
    /// What keeps it from getting more or less.
    pub held_by: HeldBy,
}

/// What keeps a line from getting more or less.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HeldBy {
    /// Its floor, or the limit on its decrease.
    Floor,
    /// Its ceiling, or the limit on its increase.
    Ceiling,
    /// All that it can spend.
    Capacity,
    /// The amount that it was set to.
    Fixed,
    /// A floor of a group around it.
    GroupFloor,
    /// A ceiling of a group around it.
    GroupCeiling,
    /// Nothing: its marginal result equals that of the other free lines.
    Nothing,
}

/// Sums over lines.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Totals {
    /// Money.
    pub budget: f64,
    /// Where every line's cost per click is known.
    pub clicks: Option<f64>,
    /// Expected conversions.
    pub conversions: f64,
    /// Where every line's value is known.
    pub value: Option<f64>,
}

impl Totals {
    /// Spend ÷ conversions.
    pub fn cpa(&self) -> Option<f64> {
        (self.conversions > 0.0).then(|| self.budget / self.conversions)
    }
    /// Value ÷ spend.
    pub fn roas(&self) -> Option<f64> {
        self.value.filter(|_| self.budget > 0.0).map(|v| v / self.budget)
    }
}

/// What to know before believing an answer.
#[derive(Clone, Debug, PartialEq)]
pub enum Warning {
    /// Constant rates put at least 80% of the free money on one line.
    Corner {
        /// That line.
        line: String,
        /// Its share of the money above the floors.
        share: f64,
    },
    /// Budgets outside half to double of what has been seen.
    Extrapolates {
        /// Those lines.
        lines: Vec<String>,
    },
    /// The 80% interval of the goal's count reaches further than a quarter from its middle.
    Wide {
        /// The interval.
        range: Range,
    },
}

/// Solves a problem, with repairs where its limits contradict each other.
pub fn solve(problem: &Problem) -> Answer {
    match solve_without_repairs(problem) {
        Answer::Infeasible { conflicts, .. } => {
            Answer::Infeasible { repairs: offer(problem, &conflicts), conflicts }
        }
        solved @ Answer::Optimal(_) => solved,
    }
}

/// Checks and solves.
impl Problem {
    /// The answer, unless a value makes no sense.
    pub fn answer(&self) -> Result<Answer, ProblemError> {
        self.check()?;
        Ok(solve(self))
    }
}

pub(super) fn solve_without_repairs(problem: &Problem) -> Answer {
    match best_split(problem) {
        Ok(split) => Answer::Optimal(report(problem, &split)),
        Err(conflicts) => Answer::Infeasible { conflicts, repairs: Vec::new() },
    }
}

struct Split {
    tree: Tree,
    /// In tree order, as solved.
    exact: Vec<f64>,
    /// In tree order, in whole steps.
    amounts: Vec<f64>,
}

fn best_split(problem: &Problem) -> Result<Split, Vec<Conflict>> {
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
    let exact = space
        .solve(&Objective { weights, bonus, price }, &couplings)
        .map_err(|out| vec![out_of_reach(problem, &tree, &curves, out)])?;
    let amounts = if problem.step > 0.0 {
        let rounded = round(&tree, &exact, problem.step);
        stepwise::within(&space, &couplings, rounded, problem.step)
            .map_err(|missed| vec![too_coarse(problem, &tree, &curves, missed)])?
    } else {
        exact.clone()
    };
    Ok(Split { tree, exact, amounts })
}

/// Conversions, or clicks for the goal of most clicks without limits on conversions.
fn goal_curve(problem: &Problem, i: usize) -> Curve {
    let line = &problem.lines[i];
    if problem.goal == Goal::Clicks && problem.limits.on_the_whole().next().is_none() {
        return Curve::Linear { slope: line.cost_per_click().map_or(0.0, |cpc| 1.0 / cpc) };
    }
    let curve = line.response.over(problem.days);
    let (least, _) = line_bounds(problem, i);
    let able = line.spent(least, problem.days);
    // Where it has to get more than it can spend, that is what it gets: only the result there counts.
    if able < least { Curve::Linear { slope: curve.at(able) / least } } else { curve }
}

fn goal_weight(problem: &Problem, i: usize) -> f64 {
    let line = &problem.lines[i];
    match problem.goal {
        Goal::Conversions | Goal::Clicks => 1.0,
        Goal::Value => line.value_per_conversion.unwrap_or(0.0),
        Goal::Profit => line.value_per_conversion.unwrap_or(0.0) * line.margin.unwrap_or(0.0),
        Goal::LeastSpend => 0.0,
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

fn objective(problem: &Problem, budgets: &[f64]) -> f64 {
    let totals = totals(problem, budgets);
    match problem.goal {
        Goal::Conversions => totals.conversions,
        Goal::Value => totals.value.unwrap_or(0.0),
        Goal::Clicks => totals.clicks.unwrap_or(0.0),
        Goal::Profit => {
            let margin: f64 = (0..budgets.len())
                .map(|i| {
                    goal_weight(problem, i) * problem.lines[i].results(budgets[i], problem.days)
                })
                .sum();
            margin - totals.budget
        }
        Goal::LeastSpend => totals.budget,
    }
}

fn totals(problem: &Problem, budgets: &[f64]) -> Totals {
    let mut sum = Totals { clicks: Some(0.0), value: Some(0.0), ..Totals::default() };
    for (line, &budget) in problem.lines.iter().zip(budgets) {
        let conversions = line.results(budget, problem.days);
        sum.budget += budget;
        sum.conversions += conversions;
        sum.clicks = sum
            .clicks
            .zip(line.cost_per_click())
            .map(|(c, cpc)| c + line.spent(budget, problem.days) / cpc);
        sum.value =
            sum.value.zip(line.value_per_conversion).map(|(v, worth)| v + conversions * worth);
    }
    sum
}

fn report(problem: &Problem, split: &Split) -> Solved {
    let budgets = split.tree.restore(&split.amounts);
    let held = held_by(problem, split);
    let lines = problem
        .lines
        .iter()
        .zip(&budgets)
        .enumerate()
        .map(|(i, (line, &budget))| {
            let conversions = line.results(budget, problem.days);
            LineAnswer {
                budget,
                clicks: line.cost_per_click().map(|cpc| line.spent(budget, problem.days) / cpc),
                conversions,
                value: line.value_per_conversion.map(|v| v * conversions),
                marginal: marginal(problem, i, budget),
                held_by: held[i],
            }
        })
        .collect();
    let present: Vec<f64> = problem.lines.iter().map(|l| l.current).collect();
    let best = objective(problem, &budgets);
    let weights: Vec<f64> = (0..budgets.len()).map(|i| goal_weight(problem, i)).collect();
    let outlook = outlook(problem, &budgets, &weights);
    Solved {
        objective: best,
        present: objective(problem, &present),
        lines,
        totals: totals(problem, &budgets),
        current: totals(problem, &present),
        next_1000: next_1000(problem, objective(problem, &split.tree.restore(&split.exact))),
        warnings: warnings(problem, &split.tree, &budgets, outlook.as_ref()),
        outlook,
    }
}

fn marginal(problem: &Problem, i: usize, budget: f64) -> f64 {
    let line = &problem.lines[i];
    let able = line.capacity.map_or(f64::INFINITY, |c| c * problem.days);
    // What it can't spend brings nothing, and costs nothing.
    if budget >= able * (1.0 - 1e-12) {
        return 0.0;
    }
    let curve = match (problem.goal, line.cost_per_click()) {
        (Goal::Clicks, Some(cpc)) => Curve::Linear { slope: 1.0 / cpc },
        _ => goal_curve(problem, i),
    };
    // The slope of a power is without end at 0: there, what the first unit of money brings.
    let slope = match curve.marginal(budget) {
        slope if slope.is_finite() => slope,
        _ => curve.at(able.min(1.0)) / able.min(1.0),
    };
    match problem.goal {
        Goal::Profit => goal_weight(problem, i) * slope - 1.0,
        Goal::LeastSpend => slope,
        _ => goal_weight(problem, i) * slope,
    }
}

/// What a line brings of what the goal counts at some money: conversions, value, clicks, or, before that money is
/// taken off, profit.
pub fn brings(problem: &Problem, line: usize, money: f64) -> f64 {
    let of = &problem.lines[line];
    let results = of.results(money, problem.days);
    match problem.goal {
        Goal::Clicks => of.cost_per_click().map_or(0.0, |cpc| of.spent(money, problem.days) / cpc),
        Goal::LeastSpend => results,
        _ => goal_weight(problem, line) * results,
    }
}

/// What one more unit of money on a line would bring of the goal, at some money of a checked problem; 0 at its
/// capacity.
pub fn marginal_at(problem: &Problem, line: usize, money: f64) -> f64 {
    marginal(problem, line, money)
}

fn next_1000(problem: &Problem, now: f64) -> Option<f64> {
    if problem.goal == Goal::LeastSpend {
        return None;
    }
    let mut more = problem.clone();
    more.total.amount += 1000.0;
    // Whole steps would hide the worth of a small change.
    more.step = 0.0;
    let with = |p: &Problem| best_split(p).ok().map(|s| objective(p, &s.tree.restore(&s.amounts)));
    let then = with(&more).or_else(|| {
        more.total.spend = Use::UpTo;
        with(&more)
    });
    then.map(|then| then - now)
}

fn held_by(problem: &Problem, split: &Split) -> Vec<HeldBy> {
    let (tree, amounts) = (&split.tree, &split.exact);
    let near = 1e-9 * problem.total.amount.max(1.0);
    let mut sums = vec![0.0; tree.nodes.len()];
    for (a, &n) in amounts.iter().zip(&tree.node_of) {
        sums[n] += a;
    }
    for i in 0..tree.root() {
        let sum = sums[i];
        sums[tree.nodes[i].parent] += sum;
    }
    let at_group = |mut n: usize| loop {
        let node = &tree.nodes[n];
        if sums[n] >= node.high - near {
            return Some(HeldBy::GroupCeiling);
        }
        if node.low > 0.0 && sums[n] <= node.low + near {
            return Some(HeldBy::GroupFloor);
        }
        if node.parent == n {
            return None;
        }
        n = node.parent;
    };
    let mut held = vec![HeldBy::Nothing; amounts.len()];
    for (place, &line) in tree.order.iter().enumerate() {
        let (low, high) = tree.bounds[place];
        held[line] = if problem.lines[line].fixed.is_some() {
            HeldBy::Fixed
        } else if amounts[place] >= high - near.min(high / 2.0) {
            let able = problem.lines[line].capacity.map(|c| c * problem.days);
            if able.is_some_and(|a| a <= high + near) { HeldBy::Capacity } else { HeldBy::Ceiling }
        } else if amounts[place] <= low + near {
            HeldBy::Floor
        } else {
            at_group(tree.node_of[place]).unwrap_or(HeldBy::Nothing)
        };
    }
    held
}

/// Further than this share from its middle an interval is wide.
const WIDE: f64 = 0.25;

fn warnings(
    problem: &Problem,
    tree: &Tree,
    budgets: &[f64],
    outlook: Option<&Outlook>,
) -> Vec<Warning> {
    let floors = tree.restore(&tree.bounds.iter().map(|b| b.0).collect::<Vec<_>>());
    let free: Vec<f64> = budgets.iter().zip(&floors).map(|(b, f)| b - f).collect();
    let all: f64 = free.iter().sum();
    let constant = |i: usize| {
        problem.goal == Goal::Clicks
            || matches!(problem.lines[i].response, Response::Constant { .. })
    };
    let corner = (0..free.len())
        .max_by(|&a, &b| free[a].total_cmp(&free[b]))
        .filter(|&i| free.len() > 1 && all > 0.0 && constant(i) && free[i] >= 0.8 * all)
        .map(|i| Warning::Corner { line: problem.lines[i].id.clone(), share: free[i] / all });
    let outside: Vec<String> = problem
        .lines
        .iter()
        .zip(budgets)
        .filter(|(l, b)| {
            let [least, most] = l
                .precision
                .map_or([l.current; 2], |p| p.observed.map(|a_day| a_day * problem.days));
            most > 0.0 && (**b > 2.0 * most || **b < 0.5 * least)
        })
        .map(|(l, _)| l.id.clone())
        .collect();
    let extrapolates = (!outside.is_empty()).then_some(Warning::Extrapolates { lines: outside });
    let wide = outlook.map(|o| o.result).filter(|r| r.wider_than(WIDE));
    let wide = wide.map(|range| Warning::Wide { range });
    corner.into_iter().chain(extrapolates).chain(wide).collect()
}

/// The best result of another total.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct AtTotal {
    /// Money.
    pub total: f64,
    /// What the goal counts.
    pub result: f64,
    /// Its standard error, by propagation; 0 where no line tells how well it is known.
    pub error: f64,
}

/// The best results of other totals, all of each spent where it can be: floors, ceilings and groups hold, the limit
/// on change and set amounts do not. Totals that the limits do not allow are left out. For the goal of least
/// spend, conversions.
pub fn at_totals(problem: &Problem, totals: &[f64]) -> Vec<AtTotal> {
    let mut free = Problem { step: 0.0, ..problem.clone() };
    free.limits.max_change = None;
    free.lines.iter_mut().for_each(|l| l.fixed = None);
    free.total.spend = Use::UpTo;
    if free.goal == Goal::LeastSpend {
        free.goal = Goal::Conversions;
        free.limits.min_conversions = None;
    }
    let weights: Vec<f64> = (0..free.lines.len()).map(|i| goal_weight(&free, i)).collect();
    let at = |total: &f64| {
        free.total.amount = *total;
        let split = best_split(&free).ok()?;
        let budgets = split.tree.restore(&split.amounts);
        let result = objective(&free, &budgets);
        Some(AtTotal { total: *total, result, error: error(&free, &budgets, &weights) })
    };
    totals.iter().filter_map(at).collect()
}

/// What each floor and ceiling that holds a line or a group costs: the goal's gain without it, as
/// (line or group, whether a group, which bound, gain). One solve each.
pub fn limit_costs(problem: &Problem, solved: &Solved) -> Vec<(String, HeldBy, f64)> {
    let gain = |relax: &dyn Fn(&mut Problem)| {
        let mut free = problem.clone();
        relax(&mut free);
        let sign = if problem.goal == Goal::LeastSpend { -1.0 } else { 1.0 };
        best_split(&free)
            .ok()
            .map(|s| sign * (objective(&free, &s.tree.restore(&s.amounts)) - solved.objective))
    };
    let lines =
        problem.lines.iter().zip(&solved.lines).enumerate().filter_map(|(i, (line, answer))| {
            let relax: &dyn Fn(&mut Problem) = match answer.held_by {
                HeldBy::Floor if line.floor > 0.0 => &|p| p.lines[i].floor = 0.0,
                HeldBy::Ceiling if line.ceiling.is_some() => &|p| p.lines[i].ceiling = None,
                HeldBy::Fixed => &|p| p.lines[i].fixed = None,
                _ => return None,
            };
            Some((line.id.clone(), answer.held_by, gain(relax)?))
        });
    let groups = problem.groups.iter().enumerate().flat_map(|(g, group)| {
        let held = |kind| {
            problem
                .lines
                .iter()
                .zip(&solved.lines)
                .any(|(l, a)| l.group.as_ref() == Some(&group.id) && a.held_by == kind)
        };
        let floor = held(HeldBy::GroupFloor).then(|| {
            gain(&|p| {
                p.groups[g].floor = None;
                p.groups[g].share_floor = None;
            })
            .map(|x| (group.id.clone(), HeldBy::GroupFloor, x))
        });
        let ceiling = held(HeldBy::GroupCeiling).then(|| {
            gain(&|p| {
                p.groups[g].ceiling = None;
                p.groups[g].share_ceiling = None;
            })
            .map(|x| (group.id.clone(), HeldBy::GroupCeiling, x))
        });
        [floor, ceiling].into_iter().flatten().flatten()
    });
    lines.chain(groups).filter(|(_, _, gain)| *gain > 1e-9 * solved.objective.abs()).collect()
}

#[cfg(test)]
mod tests {
    use super::super::problem::tests::{constant, power, problem};
    use super::super::{Group, Line};
    use super::*;

    fn solved(p: &Problem) -> Solved {
        match p.answer().unwrap() {
            Answer::Optimal(s) => s,
            Answer::Infeasible { conflicts, .. } => panic!("{conflicts:?}"),
        }
    }

    fn budgets(p: &Problem) -> Vec<f64> {
        solved(p).lines.iter().map(|l| l.budget).collect()
    }

    /// Closed form: b = ½, a = (1, 2), B = 100 → 20 / 80, total √(B·Σa²) = √500.
    #[test]
    fn two_power_lines() {
        let s = solved(&problem(100.0, vec![power("a", 1.0, 0.5), power("b", 2.0, 0.5)]));
        assert!((s.lines[0].budget - 20.0).abs() < 1e-9 && (s.lines[1].budget - 80.0).abs() < 1e-9);
        assert!((s.objective - 500f64.sqrt()).abs() < 1e-9);
        assert!((s.lines[0].marginal - s.lines[1].marginal).abs() < 1e-12);
        assert!((s.next_1000.unwrap() - (5500f64.sqrt() - 500f64.sqrt())).abs() < 1e-8);
    }

    /// By hand: 100 on a straight line at 2 a click and 5% brings 50 clicks and 2.5 conversions; at 80 each, 200 of
    /// value; with a margin of half 100 before their cost. Now 40 bring two fifths of it.
    #[test]
    fn a_line_brings_what_the_goal_counts() {
        let mut p = problem(100.0, vec![constant("a", 2.0, 0.05)]);
        let line = &mut p.lines[0];
        (line.value_per_conversion, line.margin, line.current) = (Some(80.0), Some(0.5), 40.0);
        for (goal, brought, objective) in [
            (Goal::Conversions, 2.5, 2.5),
            (Goal::Clicks, 50.0, 50.0),
            (Goal::Value, 200.0, 200.0),
            (Goal::Profit, 100.0, 0.0),
        ] {
            p.goal = goal;
            assert!((brings(&p, 0, 100.0) - brought).abs() < 1e-9, "{goal:?}");
            let s = solved(&p);
            assert!((s.objective - objective).abs() < 1e-9, "{goal:?} {}", s.objective);
            assert!((s.present - 0.4 * objective).abs() < 1e-9, "{goal:?} {}", s.present);
        }
        p.lines[0].capacity = Some(60.0);
        p.goal = Goal::Clicks;
        assert_eq!(brings(&p, 0, 100.0), 30.0, "what it can't spend buys no click");
    }

    #[test]
    fn equal_lines_share_equally() {
        for make in [|n: &str| power(n, 1.3, 0.7), |n: &str| constant(n, 2.0, 0.05)] {
            let b = budgets(&problem(90.0, ["a", "b", "c"].map(make).to_vec()));
            assert!(b.iter().all(|b| (b - 30.0).abs() < 1e-9), "{b:?}");
        }
    }

    #[test]
    fn constant_rates_go_to_one_corner_and_say_so() {
        let mut p = problem(100.0, vec![constant("dear", 2.0, 0.02), constant("cheap", 2.0, 0.05)]);
        let s = solved(&p);
        assert_eq!(s.lines[1].budget, 100.0);
        assert!(matches!(&s.warnings[0], Warning::Corner { line, .. } if line == "cheap"));
        p.lines[1].ceiling = Some(60.0);
        assert_eq!(budgets(&p), [40.0, 60.0]);
        assert_eq!(solved(&p).lines[1].held_by, HeldBy::Ceiling);
    }

    #[test]
    fn groups_hold_their_lines() {
        let mut p =
            problem(100.0, vec![power("a", 1.0, 0.5), power("b", 2.0, 0.5), power("c", 2.0, 0.5)]);
        p.groups = vec![Group { id: "g".into(), share_ceiling: Some(0.3), ..Group::default() }];
        p.lines[1].group = Some("g".into());
        p.lines[2].group = Some("g".into());
        let s = solved(&p);
        assert!((s.lines[0].budget - 70.0).abs() < 1e-9);
        assert!((s.lines[1].budget - 15.0).abs() < 1e-9);
        assert_eq!(s.lines[1].held_by, HeldBy::GroupCeiling);
        let costs = limit_costs(&p, &s);
        assert!(matches!(&costs[..], [(g, HeldBy::GroupCeiling, gain)] if g == "g" && *gain > 0.0));
    }

    #[test]
    fn steps_are_whole_and_the_total_exact() {
        let mut p = problem(100.0, ["a", "b", "c"].map(|n| power(n, 1.0, 0.5)).to_vec());
        p.step = 0.01;
        let b = budgets(&p);
        assert_eq!(b.iter().map(|b| (b * 100.0).round() as i64).sum::<i64>(), 10_000);
        assert!(b.iter().all(|b| (b * 100.0 - (b * 100.0).round()).abs() < 1e-9));
    }

    #[test]
    fn least_spend_reaches_the_number_and_no_more() {
        let mut p = problem(1000.0, vec![power("a", 1.0, 0.5), power("b", 2.0, 0.5)]);
        p.goal = Goal::LeastSpend;
        p.limits.min_conversions = Some(500f64.sqrt());
        let s = solved(&p);
        assert!((s.totals.budget - 100.0).abs() < 1e-6, "{}", s.totals.budget);
        assert_eq!(s.next_1000, None);
    }

    #[test]
    fn cpa_at_most_leaves_money_unspent() {
        let mut p = problem(1000.0, vec![power("a", 1.0, 0.5), power("b", 2.0, 0.5)]);
        p.limits.max_cpa = Some(10.0);
        let Answer::Infeasible { conflicts, repairs } = p.answer().unwrap() else { panic!() };
        assert_eq!(conflicts[0].kind, ConflictKind::OutOfReach(WholeLimit::MaxCpa));
        assert!(repairs.contains(&Repair::SpendUpTo));
        p.total.spend = Use::UpTo;
        let s = solved(&p);
        // Σs ÷ √(5·Σs) = 10 → Σs = 500.
        assert!((s.totals.budget - 500.0).abs() < 1e-6);
        assert!((s.totals.cpa().unwrap() - 10.0).abs() < 1e-9);
    }

    #[test]
    fn profit_stops_where_a_unit_brings_less_than_itself() {
        let mut p = problem(
            1e6,
            vec![Line {
                value_per_conversion: Some(20.0),
                margin: Some(0.5),
                ..power("a", 2.0, 0.5)
            }],
        );
        p.goal = Goal::Profit;
        p.total.spend = Use::UpTo;
        // 10·2·½·s^−½ = 1 → s = 100.
        assert!((budgets(&p)[0] - 100.0).abs() < 1e-8);
    }

    #[test]
    fn most_clicks_goes_to_the_cheapest_click() {
        let mut p = problem(
            10.0,
            vec![constant("a", 2.0, 0.5), Line { cpc: Some(1.0), ..power("b", 1.0, 0.5) }],
        );
        p.goal = Goal::Clicks;
        assert_eq!(budgets(&p), [0.0, 10.0]);
    }

    #[test]
    fn contradictions_are_named_and_mended() {
        let base = || problem(100.0, vec![power("a", 1.0, 0.5), power("b", 2.0, 0.5)]);
        let mut floors = base();
        floors.lines[0].floor = 80.0;
        floors.lines[1].floor = 60.0;
        let Answer::Infeasible { conflicts, repairs } = floors.answer().unwrap() else { panic!() };
        assert_eq!(conflicts.len(), 1);
        assert_eq!(
            (conflicts[0].kind, conflicts[0].short_by()),
            (ConflictKind::FloorsAboveTotal, 40.0)
        );
        assert_eq!(repairs[0], Repair::Total { to: 140.0 });
        assert!(
            matches!(&repairs[1], Repair::Floors { lines } if (lines[0].1 - 400.0 / 7.0).abs() < 1e-9)
        );

        let mut shock = base();
        shock.limits.max_change = Some(0.2);
        shock.lines[0].floor = 90.0;
        let Answer::Infeasible { conflicts, repairs } = shock.answer().unwrap() else { panic!() };
        assert_eq!(conflicts[0].kind, ConflictKind::FloorAboveChange);
        assert!(
            repairs
                .iter()
                .any(|r| matches!(r, Repair::MaxChange { to } if (*to - 0.8).abs() < 1e-9)),
            "{repairs:?}"
        );

        let mut group = base();
        group.groups = vec![Group { id: "g".into(), floor: Some(70.0), ..Group::default() }];
        group.lines[0].group = Some("g".into());
        group.lines[0].ceiling = Some(50.0);
        let Answer::Infeasible { conflicts, .. } = group.answer().unwrap() else { panic!() };
        assert_eq!(
            (conflicts[0].kind, conflicts[0].short_by()),
            (ConflictKind::GroupFloorAboveMembers, 20.0)
        );
    }

    #[test]
    fn a_line_of_no_use_gets_money_only_when_all_must_go() {
        let mut p = problem(
            100.0,
            vec![constant("none", 1.0, 0.0), Line { ceiling: Some(30.0), ..power("a", 1.0, 0.5) }],
        );
        assert_eq!(budgets(&p), [70.0, 30.0]);
        p.total.spend = Use::UpTo;
        assert_eq!(budgets(&p), [0.0, 30.0]);
    }

    #[test]
    fn what_a_line_cannot_spend_goes_elsewhere_or_brings_nothing() {
        let capped = |most| Line { capacity: Some(most), ..constant("cheap", 1.0, 0.1) };
        let p = problem(100.0, vec![capped(30.0), constant("dear", 1.0, 0.05)]);
        let s = solved(&p);
        assert_eq!((s.lines[0].budget, s.lines[0].held_by), (30.0, HeldBy::Capacity));
        assert!((s.objective - (3.0 + 3.5)).abs() < 1e-9);
        // Set by hand beyond what it can spend: the money is lost there.
        let mut p = p;
        p.lines[0].fixed = Some(60.0);
        let s = solved(&p);
        assert_eq!((s.lines[0].budget, s.lines[0].held_by), (60.0, HeldBy::Fixed));
        assert!((s.lines[0].conversions - 3.0).abs() < 1e-9 && (s.objective - 5.0).abs() < 1e-9);
        assert!(
            limit_costs(&p, &s).iter().any(|c| c.1 == HeldBy::Fixed && (c.2 - 1.5).abs() < 1e-9)
        );
        // A limit on the whole counts what is really brought.
        p.limits.min_conversions = Some(5.2);
        assert!(matches!(p.answer().unwrap(), Answer::Infeasible { .. }));
    }

    #[test]
    fn set_amounts_that_contradict_are_released() {
        let fixed = |id: &str, amount| Line { fixed: Some(amount), ..power(id, 1.0, 0.5) };
        let mut p = problem(100.0, vec![fixed("a", 80.0), fixed("b", 40.0)]);
        let Answer::Infeasible { repairs, .. } = p.answer().unwrap() else { panic!() };
        let release = repairs.iter().find(|r| matches!(r, Repair::Release { .. })).unwrap();
        release.apply(&mut p);
        assert_eq!(budgets(&p), [50.0, 50.0]);
    }

    /// Closed form: two lines a·√s bring √(B·Σa²), whatever the total.
    #[test]
    fn other_totals_lie_on_the_best_curve() {
        let mut p = problem(100.0, vec![power("a", 1.0, 0.5), power("b", 2.0, 0.5)]);
        p.lines[0].fixed = Some(90.0);
        let points = at_totals(&p, &[25.0, 400.0]);
        for point in points {
            assert!((point.result - (5.0 * point.total).sqrt()).abs() < 1e-8, "{point:?}");
            assert_eq!(point.error, 0.0);
        }
    }

    #[test]
    fn a_poorly_known_plan_says_so() {
        let mut p = problem(100.0, vec![power("a", 1.0, 0.5), power("b", 2.0, 0.5)]);
        let known = |variance: f64| super::super::Precision {
            reference: 50.0,
            covariance: [[variance, 0.0], [0.0, 0.01]],
            observed: [15.0, 90.0],
        };
        p.lines.iter_mut().for_each(|l| l.precision = Some(known(0.002)));
        let s = solved(&p);
        assert!(s.outlook.is_some() && s.warnings.is_empty(), "{:?}", s.warnings);
        p.lines.iter_mut().for_each(|l| l.precision = Some(known(0.3)));
        assert!(matches!(solved(&p).warnings[..], [Warning::Wide { .. }]));
        p.lines.iter_mut().for_each(|l| {
            l.precision = Some(super::super::Precision { observed: [1.0, 5.0], ..known(0.002) })
        });
        assert!(
            matches!(&solved(&p).warnings[..], [Warning::Extrapolates { lines }] if lines.len() == 2)
        );
    }
}
