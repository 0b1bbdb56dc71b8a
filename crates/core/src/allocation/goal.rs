//! What the goal counts, of a line and of a whole split.

use super::problem::{Goal, Problem};
use super::response::Curve;
use super::tree::line_bounds;

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

/// Conversions, or clicks for the goal of most clicks without limits on conversions.
pub(super) fn goal_curve(problem: &Problem, i: usize) -> Curve {
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

pub(super) fn goal_weight(problem: &Problem, i: usize) -> f64 {
    let line = &problem.lines[i];
    match problem.goal {
        Goal::Conversions | Goal::Clicks => 1.0,
        Goal::Value => line.value_per_conversion.unwrap_or(0.0),
        Goal::Profit => line.value_per_conversion.unwrap_or(0.0) * line.margin.unwrap_or(0.0),
        Goal::LeastSpend => 0.0,
    }
}

pub(super) fn objective(problem: &Problem, budgets: &[f64]) -> f64 {
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

pub(super) fn totals(problem: &Problem, budgets: &[f64]) -> Totals {
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

pub(super) fn marginal(problem: &Problem, i: usize, budget: f64) -> f64 {
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
