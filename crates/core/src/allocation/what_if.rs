//! What another total would bring, and what each limit costs: the same problem solved again with a part of it changed.

use super::answer::{HeldBy, Solved};
use super::goal::{goal_weight, objective};
use super::outlook::error;
use super::problem::{Goal, Problem, Use};
use super::split::best_split;

/// What 1,000 more in total would bring of the goal.
pub(super) fn next_1000(problem: &Problem, now: f64) -> Option<f64> {
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
