//! What is open about a plan's results, from how well its responses are known.

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};
use schemars::JsonSchema;
use serde::Serialize;

use super::problem::{Goal, Problem};

/// Worlds that are drawn for an interval.
const DRAWS: usize = 1000;
const SEED: u64 = 10;
/// Intervals of plans are at this confidence.
pub const CONFIDENCE: f64 = 0.8;

/// Standard error of what the goal counts at a split, by propagation.
pub(super) fn error(problem: &Problem, budgets: &[f64], weights: &[f64]) -> f64 {
    let one = |i: usize| {
        let line = &problem.lines[i];
        let a_day = line.spent(budgets[i], problem.days) / problem.days;
        let result = weights[i] * problem.days * line.response.at(a_day);
        line.precision.map_or(0.0, |p| result * result * p.variance(line.response, a_day))
    };
    if problem.goal == Goal::Clicks {
        return 0.0;
    }
    (0..budgets.len()).map(one).sum::<f64>().sqrt()
}

/// A median with its interval.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Range {
    /// Lower bound.
    pub low: f64,
    /// Median.
    pub mid: f64,
    /// Upper bound.
    pub high: f64,
}

impl Range {
    fn of(mut draws: Vec<f64>) -> Self {
        draws.sort_by(f64::total_cmp);
        let at = |q: f64| draws[((draws.len() - 1) as f64 * q).round() as usize];
        let tail = (1.0 - CONFIDENCE) / 2.0;
        Self { low: at(tail), mid: at(0.5), high: at(1.0 - tail) }
    }

    /// Whether either bound lies further than a share of the median from it.
    pub fn wider_than(&self, share: f64) -> bool {
        let reach = (self.high - self.mid).max(self.mid - self.low);
        reach > share * self.mid.abs()
    }
}

/// What the goal counts of a plan, and what it has more than the present.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Outlook {
    /// Of the plan.
    pub result: Range,
    /// More than at the present spends, in the same drawn worlds.
    pub gain: Range,
}

/// Draws worlds in which each line's response differs as far as it is not known, and counts both splits in each;
/// absent where no line tells how well it is known, or where the goal counts nothing uncertain.
///
/// Lines err independently. Seeded: the same plan has the same interval.
pub(super) fn outlook(problem: &Problem, budgets: &[f64], weights: &[f64]) -> Option<Outlook> {
    let known = problem.lines.iter().any(|l| l.precision.is_some());
    if !known || matches!(problem.goal, Goal::Clicks | Goal::LeastSpend) {
        return None;
    }
    let days = problem.days;
    let mut sums = vec![(0.0, 0.0); DRAWS];
    for (i, line) in problem.lines.iter().enumerate() {
        let at = |money: f64| weights[i] * line.results(money, days);
        let (planned, present) = (at(budgets[i]), at(line.current));
        let Some(p) = line.precision else {
            sums.iter_mut().for_each(|s| *s = (s.0 + planned, s.1 + present));
            continue;
        };
        let mut chance = ChaCha8Rng::seed_from_u64(SEED + i as u64);
        let [a, b, c] = p.root();
        let slope = |money: f64| p.direction(line.response, line.spent(money, days) / days);
        let (there, here) = (slope(budgets[i]), slope(line.current));
        for sum in &mut sums {
            let (x, y): (f64, f64) =
                (StandardNormal.sample(&mut chance), StandardNormal.sample(&mut chance));
            let (level, form) = (a * x, b * x + c * y);
            sum.0 += planned * (level + there * form).exp();
            sum.1 += present * (level + here * form).exp();
        }
    }
    let less = if problem.goal == Goal::Profit {
        (budgets.iter().sum::<f64>(), problem.lines.iter().map(|l| l.current).sum::<f64>())
    } else {
        (0.0, 0.0)
    };
    Some(Outlook {
        result: Range::of(sums.iter().map(|s| s.0 - less.0).collect()),
        gain: Range::of(sums.iter().map(|s| s.0 - less.0 - (s.1 - less.1)).collect()),
    })
}

#[cfg(test)]
mod tests {
    use super::super::Precision;
    use super::super::problem::tests::{power, problem};
    use super::*;

    fn precision(level: f64, form: f64) -> Precision {
        let covariance = [[level, 0.0], [0.0, form]];
        Precision { reference: 50.0, covariance, observed: [25.0, 100.0] }
    }

    /// One line whose level alone is open: the total is log-normal, its bounds exp(±1.2816 σ) times the median.
    #[test]
    fn the_interval_of_one_line_is_its_own() {
        let mut p = problem(50.0, vec![power("a", 2.0, 0.5)]);
        p.lines[0].precision = Some(precision(0.04, 0.0));
        let o = outlook(&p, &[50.0], &[1.0]).unwrap();
        let mid = 2.0 * 50f64.sqrt();
        let high = mid * (1.2816f64 * 0.2).exp();
        assert!((o.result.mid / mid - 1.0).abs() < 0.02, "{o:?} {mid}");
        assert!((o.result.high / high - 1.0).abs() < 0.03, "{o:?} {high}");
        assert_eq!(o.gain, Range { low: 0.0, mid: 0.0, high: 0.0 });
        assert_eq!(outlook(&p, &[50.0], &[1.0]), Some(o), "seeded");
        let i = precision(0.04, 0.0).interval(p.lines[0].response, 50.0, CONFIDENCE);
        assert!((i.high / high - 1.0).abs() < 1e-4);
    }

    #[test]
    fn lines_err_independently_and_far_from_what_was_seen_more() {
        let mut p = problem(400.0, (0..16).map(|i| power(&i.to_string(), 2.0, 0.5)).collect());
        for l in &mut p.lines {
            l.precision = Some(precision(0.04, 0.04));
        }
        let reach = |r: Range| (r.high - r.low) / r.mid;
        let all = outlook(&p, &[50.0; 16], &[1.0; 16]).unwrap().result;
        let far = outlook(&p, &[500.0; 16], &[1.0; 16]).unwrap().result;
        // A sixteenth of the variance: a quarter of one line's reach, 2 × 1.2816 × 0.2.
        assert!((reach(all) / (2.0 * 1.2816 * 0.2 / 4.0) - 1.0).abs() < 0.1, "{all:?}");
        assert!(reach(far) > 2.0 * reach(all) && all.wider_than(0.05) && !all.wider_than(0.25));
        p.lines.iter_mut().for_each(|l| l.precision = None);
        assert_eq!(outlook(&p, &[50.0; 16], &[1.0; 16]), None);
    }
}
