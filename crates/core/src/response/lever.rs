//! What of a day's money somebody set: by the steps of a plan, or else by its budget as far as spend followed that. The rest
//! came by itself, with demand.

use chrono::Weekday;
use nalgebra::{DMatrix, DVector};

use super::Day;
use crate::week::DAYS;

/// Columns of time: six weekdays and a trend.
pub(super) const OF_TIME: usize = 7;
/// Budgets that differ by less than this, as a standard deviation of their logarithm beside weekdays and a trend, are one.
const MOVED: f64 = 0.02;

/// Whether a plan moved money up and down among the days.
pub(super) fn planned(days: &[Day]) -> bool {
    let steps = || days.iter().filter_map(|d| d.step);
    steps().any(|s| s > 0.0) && steps().any(|s| s < 0.0)
}

/// A column of time: weekdays as deviations from Sunday's place, so that the constant is the mean of the week; last, the trend
/// from the last day backwards.
pub(super) fn of_time(days: &[Day], i: usize, column: usize) -> f64 {
    let (first, last) = (days[0].at, days[days.len() - 1].at);
    match column {
        6 => (days[i].at - last) / (last - first).max(1.0),
        _ if days[i].weekday == Weekday::Sun => -1.0,
        n => f64::from(days[i].weekday == DAYS[n]),
    }
}

/// Of each day, the logarithm of its money as it was set, about a mean of none.
pub(super) fn set(days: &[Day]) -> Vec<f64> {
    if planned(days) {
        return days.iter().map(|d| d.step.unwrap_or(0.0)).collect();
    }
    let told: Vec<f64> =
        days.iter().filter_map(|d| Some(d.budget.filter(|b| *b > 0.0)?.ln())).collect();
    let mean = told.iter().sum::<f64>() / told.len().max(1) as f64;
    let budget = |d: &Day| d.budget.filter(|b| *b > 0.0).map_or(0.0, |b| b.ln() - mean);
    let budgets: Vec<f64> = days.iter().map(budget).collect();
    let followed = followed(days, &budgets).unwrap_or(0.0).clamp(0.0, 1.0);
    budgets.into_iter().map(|b| followed * b).collect()
}

/// By how much spend followed the budget, beside weekdays and a trend: least squares of logarithms. None where budgets were not
/// moved.
fn followed(days: &[Day], budgets: &[f64]) -> Option<f64> {
    let time = DMatrix::from_fn(days.len(), 1 + OF_TIME, |i, j| match j {
        0 => 1.0,
        _ => of_time(days, i, j - 1),
    });
    let budgets = DVector::from_column_slice(budgets);
    let decomposed = time.clone().svd(true, true);
    let moved = &budgets - &time * decomposed.solve(&budgets, 1e-9).ok()?;
    let spend = DVector::from_iterator(days.len(), days.iter().map(|d| d.spend.ln()));
    let size = moved.norm_squared();
    (size > MOVED * MOVED * days.len() as f64).then(|| moved.dot(&spend) / size)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn days(of: impl Fn(usize) -> (f64, Option<f64>)) -> Vec<Day> {
        let day = |i: usize| {
            let (spend, budget) = of(i);
            let (weekday, at) = (DAYS[i % 7], i as f64);
            Day { weekday, at, spend, conversions: 1.0, budget, step: None }
        };
        (0..56).map(day).collect()
    }

    /// A budget of 50, then of 100, of which all or the half (in logarithms) is spent.
    #[test]
    fn money_was_set_as_far_as_spend_followed() {
        let moved = |i: usize| if (14..42).contains(&i) { 100.0 } else { 50.0 };
        let all = set(&days(|i| (moved(i), Some(moved(i)))));
        assert!(
            (all[20] - all[0] - 2f64.ln()).abs() < 1e-9 && all.iter().sum::<f64>().abs() < 1e-9
        );
        let half = set(&days(|i| (moved(i).sqrt(), Some(moved(i)))));
        assert!((half[20] - half[0] - 0.5 * 2f64.ln()).abs() < 1e-9);
    }

    #[test]
    fn money_that_nobody_set_came_by_itself() {
        let swings = |i: usize| 50.0 + 10.0 * (i % 5) as f64;
        for budget in [None, Some(200.0)] {
            assert!(set(&days(|i| (swings(i), budget))).iter().all(|s| s.abs() < 1e-9));
        }
        // Another budget that it did not use up.
        let unused = days(|i| (swings(i), Some(if i < 28 { 200.0 } else { 400.0 })));
        assert!(set(&unused).iter().all(|s| s.abs() < 0.1), "{:?}", set(&unused));
    }
}
