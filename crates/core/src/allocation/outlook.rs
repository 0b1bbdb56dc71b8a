//! What is open about a plan's results, from how well its responses are known together, and from what a period's own noise
//! does to them.

use std::collections::HashMap;

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};
use schemars::JsonSchema;
use serde::Serialize;

use super::precision::Shared;
use super::problem::{Goal, Noise, Problem};

/// Worlds that are drawn for an interval.
const DRAWS: usize = 1000;
const SEED: u64 = 10;
/// Draws that lines share are others than those of their own.
const OF_SHARES: u64 = 1 << 32;
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
    /// Of the plan: what will be counted, the period's own noise included where it is known.
    pub result: Range,
    /// More than at the present spends, in the same drawn worlds; noise is no gain.
    pub gain: Range,
    /// The probability that it is more.
    pub better: f64,
}

/// One drawn world: what the plan brings, and what the present spends do.
#[derive(Clone, Copy, Default)]
struct World {
    planned: f64,
    present: f64,
}

/// Draws worlds in which each line's response differs as far as it is not known, and counts both splits in each;
/// absent where no line tells how well it is known, or where the goal counts nothing uncertain.
///
/// What lines share, they err by together. With it what the plan is due to bring, without its period's noise. Seeded: the same
/// plan has the same interval.
pub(super) fn outlook(
    problem: &Problem,
    budgets: &[f64],
    weights: &[f64],
) -> Option<(Outlook, Range)> {
    let known = problem.lines.iter().any(|l| l.precision.is_some());
    if !known || matches!(problem.goal, Goal::Clicks | Goal::LeastSpend) {
        return None;
    }
    let days = problem.days;
    let mut worlds = vec![World::default(); DRAWS];
    let mut shared = Shares::default();
    for (i, line) in problem.lines.iter().enumerate() {
        let at = |money: f64| weights[i] * line.results(money, days);
        let (planned, present) = (at(budgets[i]), at(line.current));
        let Some(p) = line.precision else {
            for w in &mut worlds {
                w.planned += planned;
                w.present += present;
            }
            continue;
        };
        let mut chance = ChaCha8Rng::seed_from_u64(SEED + i as u64);
        let [a, b, c] = p.root();
        let slope = |money: f64| p.direction(line.response, line.spent(money, days) / days);
        let (there, here) = (slope(budgets[i]), slope(line.current));
        let [levels, spreads, forms] =
            [p.level_shared, p.spread_shared, p.form_shared].map(|s| shared.of(s));
        let of = |z: &Option<Vec<f64>>, n: usize| z.as_ref().map_or(0.0, |z| z[n]);
        for (n, w) in worlds.iter_mut().enumerate() {
            let (x, y): (f64, f64) =
                (StandardNormal.sample(&mut chance), StandardNormal.sample(&mut chance));
            let level = a * x + of(&levels, n) + of(&spreads, n);
            let form = b * x + c * y + of(&forms, n);
            w.planned += planned * (level + there * form).exp();
            w.present += present * (level + here * form).exp();
        }
    }
    let profit = problem.goal == Goal::Profit;
    let cost = |all: f64| if profit { all } else { 0.0 };
    let less = cost(budgets.iter().sum());
    let less_now = cost(problem.lines.iter().map(|l| l.current).sum());
    let gains: Vec<f64> =
        worlds.iter().map(|w| w.planned - less - (w.present - less_now)).collect();
    let better = gains.iter().filter(|g| **g > 0.0).count() as f64 / DRAWS as f64;
    let mut chance = ChaCha8Rng::seed_from_u64(SEED + problem.lines.len() as u64);
    let counted = |w: &World| {
        let (x, y): (f64, f64) =
            (StandardNormal.sample(&mut chance), StandardNormal.sample(&mut chance));
        let Some(Noise { dispersion, drift }) = problem.noise else { return w.planned - less };
        let due = w.planned.max(0.0) * (drift * x).exp();
        (due + (dispersion * due).sqrt() * y).max(0.0) - less
    };
    let due = Range::of(worlds.iter().map(|w| w.planned - less).collect());
    let outlook = Outlook {
        result: Range::of(worlds.iter().map(counted).collect()),
        gain: Range::of(gains),
        better,
    };
    Some((outlook, due))
}

/// What lines err by together, drawn once for all of them.
#[derive(Default)]
struct Shares(HashMap<u32, Vec<f64>>);

impl Shares {
    /// Its part in each world, as a deviation.
    fn of(&mut self, shared: Option<Shared>) -> Option<Vec<f64>> {
        let Shared { with, by } = shared?;
        let drawn = self.0.entry(with).or_insert_with(|| {
            let mut chance = ChaCha8Rng::seed_from_u64(OF_SHARES + u64::from(with));
            (0..DRAWS).map(|_| StandardNormal.sample(&mut chance)).collect()
        });
        Some(drawn.iter().map(|z| by * z).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::super::Precision;
    use super::super::problem::tests::{power, problem};
    use super::*;

    fn precision(level: f64, form: f64) -> Precision {
        let covariance = [[level, 0.0], [0.0, form]];
        Precision::alone(50.0, covariance, [25.0, 100.0])
    }

    /// One line whose level alone is open: the total is log-normal, its bounds exp(±1.2816 σ) times the median.
    #[test]
    fn the_interval_of_one_line_is_its_own() {
        let mut p = problem(50.0, vec![power("a", 2.0, 0.5)]);
        p.lines[0].precision = Some(precision(0.04, 0.0));
        let o = outlook(&p, &[50.0], &[1.0]).unwrap().0;
        let mid = 2.0 * 50f64.sqrt();
        let high = mid * (1.2816f64 * 0.2).exp();
        assert!((o.result.mid / mid - 1.0).abs() < 0.02, "{o:?} {mid}");
        assert!((o.result.high / high - 1.0).abs() < 0.03, "{o:?} {high}");
        assert_eq!(o.gain, Range { low: 0.0, mid: 0.0, high: 0.0 });
        assert_eq!(outlook(&p, &[50.0], &[1.0]).unwrap().0, o, "seeded");
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
        let all = outlook(&p, &[50.0; 16], &[1.0; 16]).unwrap().0.result;
        let far = outlook(&p, &[500.0; 16], &[1.0; 16]).unwrap().0.result;
        // A sixteenth of the variance: a quarter of one line's reach, 2 × 1.2816 × 0.2.
        assert!((reach(all) / (2.0 * 1.2816 * 0.2 / 4.0) - 1.0).abs() < 0.1, "{all:?}");
        assert!(reach(far) > 2.0 * reach(all) && all.wider_than(0.05) && !all.wider_than(0.25));
        p.lines.iter_mut().for_each(|l| l.precision = None);
        assert_eq!(outlook(&p, &[50.0; 16], &[1.0; 16]), None);
    }

    /// What all share does not average out: sixteen lines err as one does.
    #[test]
    fn what_is_shared_does_not_average_out() {
        let mut p = problem(400.0, (0..16).map(|i| power(&i.to_string(), 2.0, 0.5)).collect());
        for l in &mut p.lines {
            let level_shared = Some(Shared { with: 1, by: 0.2 });
            l.precision = Some(Precision { level_shared, ..precision(0.04, 0.0) });
        }
        let all = outlook(&p, &[25.0; 16], &[1.0; 16]).unwrap().0;
        let high = (1.2816f64 * 0.2).exp();
        assert!((all.result.high / all.result.mid / high - 1.0).abs() < 0.03, "{all:?}");
    }

    /// By hand: 100 results with variance 4 × 100 reach 1.2816 × 20 to either side; a gain has no noise, and a line that gets
    /// more brings more in every world.
    #[test]
    fn a_result_has_the_noise_of_its_period() {
        let mut p = problem(50.0, vec![power("a", 100.0 / 50f64.sqrt(), 0.5)]);
        p.lines[0].current = 40.0;
        p.lines[0].precision = Some(precision(1e-9, 0.0));
        p.noise = Some(Noise { dispersion: 4.0, drift: 0.0 });
        let (o, due) = outlook(&p, &[50.0], &[1.0]).unwrap();
        assert!((o.result.high - o.result.mid - 25.6).abs() < 3.0, "{o:?}");
        assert!(o.gain.high - o.gain.low < 0.1 && (o.better - 1.0).abs() < 1e-12);
        assert!(due.high - due.low < 0.1 && (due.mid - 100.0).abs() < 0.1, "{due:?}");
        // A drift by a tenth either way reaches 100 × (e^(1.2816 ÷ 10) − 1).
        p.noise = Some(Noise { dispersion: 0.0, drift: 0.1 });
        let o = outlook(&p, &[50.0], &[1.0]).unwrap().0;
        assert!((o.result.high - o.result.mid - 13.7).abs() < 2.0, "{o:?}");
    }
}
