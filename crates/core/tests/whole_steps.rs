//! Plans in whole steps against every split that there is.
#![allow(clippy::unwrap_used)]

use crate::instances::{Random, members, solved};
use tiller_core::allocation::{Goal, Problem, Use};

/// A limit is kept to this share of what it compares, as the solver keeps it.
const SLACK: f64 = 1e-9;

/// What the goal counts of a split, or none where it breaks a limit.
fn counts(p: &Problem, steps: &[u32]) -> Option<f64> {
    let money: Vec<f64> = steps.iter().map(|n| f64::from(*n) * p.step).collect();
    let sum: f64 = money.iter().sum();
    let near = 1e-6 * p.step;
    let fits = |low: f64, x: f64, high: f64| x >= low - near && x <= high + near;
    let least = if p.total.spend == Use::All { p.total.amount } else { 0.0 };
    let groups_kept = p.groups.iter().all(|g| {
        let inside: f64 = members(p, &g.id).into_iter().map(|i| money[i]).sum();
        let low = g.share_floor.unwrap_or(0.0) * p.total.amount;
        let high = g.share_ceiling.unwrap_or(f64::INFINITY) * p.total.amount;
        fits(low, inside, high)
    });
    let each = |of: &dyn Fn(usize) -> f64| (0..money.len()).map(of).sum::<f64>();
    let results = |i: usize| p.lines[i].results(money[i], p.days);
    let worth = |i: usize| results(i) * p.lines[i].value_per_conversion.unwrap();
    let kept = |gets: f64, asks: f64| gets - asks >= -SLACK * sum.max(1.0);
    let cpa_kept = p.limits.max_cpa.is_none_or(|cpa| kept(cpa * each(&results), sum));
    let roas_kept = p.limits.min_roas.is_none_or(|roas| kept(each(&worth), roas * sum));
    if !(fits(least, sum, p.total.amount) && groups_kept && cpa_kept && roas_kept) {
        return None;
    }
    let margin = |i: usize| worth(i) * p.lines[i].margin.unwrap();
    let clicks = |i: usize| {
        let line = &p.lines[i];
        line.spent(money[i], p.days) / line.cost_per_click().unwrap()
    };
    Some(match p.goal {
        Goal::Conversions => each(&results),
        Goal::Value => each(&worth),
        Goal::Profit => each(&margin) - sum,
        Goal::Clicks => each(&clicks),
        Goal::LeastSpend => -sum,
    })
}

/// The steps that a line may have; what it can't spend is not given to it.
fn range(p: &Problem, i: usize) -> (u32, u32) {
    let line = &p.lines[i];
    let change = p.limits.max_change;
    let low = line.floor.max(change.map_or(0.0, |x| line.current * (1.0 - x)));
    let able = line.capacity.map_or(f64::INFINITY, |c| (c * p.days).max(low));
    let most = change.map_or(f64::INFINITY, |x| line.current * (1.0 + x));
    let high = line.ceiling.unwrap_or(f64::INFINITY).min(most).min(able).min(p.total.amount);
    ((low / p.step - 1e-6).ceil() as u32, (high / p.step + 1e-6).floor().max(0.0) as u32)
}

/// The best of all splits.
fn best(p: &Problem, ranges: &[(u32, u32)]) -> Option<f64> {
    fn go(
        p: &Problem,
        ranges: &[(u32, u32)],
        steps: &mut Vec<u32>,
        left: u32,
        best: &mut Option<f64>,
    ) {
        let Some((low, high)) = ranges.get(steps.len()) else {
            if let Some(found) = counts(p, steps) {
                *best = Some(best.map_or(found, |b| b.max(found)));
            }
            return;
        };
        for n in *low..=(*high).min(left) {
            steps.push(n);
            go(p, ranges, steps, left - n, best);
            steps.pop();
        }
    }
    let mut found = None;
    go(p, ranges, &mut Vec::new(), (p.total.amount / p.step).round() as u32, &mut found);
    found
}

/// Without limits on the whole a plan is the best of all splits, or there is none; with them (where finding the best is a
/// knapsack) it keeps them wherever a split can, and is the best in ninety-nine of a hundred.
#[test]
fn coarse_plans_are_the_best_of_all_splits() {
    let (mut compared, mut beside, mut without) = (0, 0, 0);
    for seed in 0..2000 {
        let p = Random::new(20_000 + seed).coarse_problem();
        let ranges: Vec<(u32, u32)> = (0..p.lines.len()).map(|i| range(&p, i)).collect();
        let possible = ranges.iter().all(|(low, high)| low <= high);
        let best = possible.then(|| best(&p, &ranges)).flatten();
        match (best, solved(&p)) {
            (Some(best), Some(ours)) => {
                let budgets: Vec<u32> =
                    ours.lines.iter().map(|l| (l.budget / p.step).round() as u32).collect();
                assert!(counts(&p, &budgets).is_some(), "seed {seed}: a limit is broken");
                let gap = (best - ours.objective) / best.abs();
                let whole = p.limits.max_cpa.is_some() || p.limits.min_roas.is_some();
                compared += 1;
                beside += usize::from(gap > 1e-9);
                assert!(whole || gap <= 1e-9, "seed {seed}: {gap}");
            }
            (None, None) => without += 1,
            (best, ours) => panic!("seed {seed}: {best:?} against {:?}", ours.map(|o| o.objective)),
        }
    }
    assert!(compared >= 800 && without >= 300, "{compared} compared, {without} without");
    assert!(beside * 100 <= compared, "{beside} of {compared} beside the best");
}
