//! How far levels stray: a season, a competitor, a market that turns. The days of one campaign tell little of that, so what would have
//! been forecast on evenings gone by is held against what came, over all campaigns: each strays like the others, as far as its own
//! evenings don't say otherwise (empirical Bayes; C. N. Morris, "Parametric empirical Bayes inference", JASA 78 (1983)).

use std::collections::BTreeMap;

/// Evenings gone by, so many days ago, from which as many days as lie between them are forecast.
pub(super) const EVENINGS: [u64; 3] = [14, 28, 42];
/// Days that are forecast from each, and the least that have to lie before.
pub(super) const DAYS: u64 = 14;
/// What a level may stray by from day to day, as a log deviation, with what each is believed before anything is seen.
const STEPS: [(f64, f64); 6] =
    [(0.0, 0.7), (0.01, 0.12), (0.02, 0.08), (0.04, 0.05), (0.08, 0.03), (0.16, 0.02)];
/// Campaigns that this belief weighs.
const WEIGHT: f64 = 3.0;
/// Rounds in which campaigns and what they have in common are told from each other.
const ROUNDS: usize = 12;
/// Single evenings may be far off: Student's t with so many degrees of freedom.
const FREEDOM: f64 = 5.0;
/// No forecast is surer than this share of what it says.
const LEAST_DEVIATION: f64 = 0.004;
/// Pairs of campaigns that it weighs that they stray as alike as their days differ.
const PAIRS: f64 = 10.0;

/// A forecast of an evening gone by against what came, as shares of what it said.
#[derive(Clone, Copy, Debug)]
pub(super) struct Miss {
    pub evening: u64,
    pub by: f64,
    /// Its standard deviation, were the level to stay.
    pub deviation: f64,
}

/// What a campaign strays by: steps with their weights, which sum to 1.
#[derive(Clone, Copy, Debug)]
pub(super) struct Stray([f64; STEPS.len()]);

impl Stray {
    /// What one draw strays by from day to day: `at` is uniform.
    pub(super) fn step(&self, mut at: f64) -> f64 {
        let chosen = self.0.iter().zip(STEPS).find(|(weight, _)| {
            at -= **weight;
            at < 0.0
        });
        chosen.map_or(0.0, |(_, (step, _))| step)
    }

    fn mean(&self) -> f64 {
        self.0.iter().zip(STEPS).map(|(weight, (step, _))| weight * step).sum()
    }
}

/// Variance of the mean of so many days of a walk whose steps have the variance 1.
fn of_mean(days: u64) -> f64 {
    let n = days as f64;
    (n + 1.0) * (2.0 * n + 1.0) / (6.0 * n)
}

fn variance(miss: &Miss, step: f64) -> f64 {
    miss.deviation.max(LEAST_DEVIATION).powi(2) + step * step * of_mean(DAYS)
}

fn likelihood(misses: &[Miss], step: f64) -> f64 {
    let one = |m: &Miss| {
        let variance = variance(m, step);
        let off = m.by * m.by / variance / FREEDOM;
        variance.powf(-0.5) * (1.0 + off).powf(-(FREEDOM + 1.0) / 2.0)
    };
    misses.iter().map(one).product()
}

/// What each campaign strays by, from its evenings and those of the others, and the share of that which they have in common:
/// `alike` where evenings tell nothing of it.
pub(super) fn learn(campaigns: &[Vec<Miss>], alike: f64) -> (Vec<Stray>, f64) {
    let told: Vec<[f64; STEPS.len()]> =
        campaigns.iter().map(|c| STEPS.map(|(step, _)| likelihood(c, step))).collect();
    let weigh = |told: &[f64; STEPS.len()], common: &[f64; STEPS.len()]| {
        let mut weights: [f64; STEPS.len()] = std::array::from_fn(|k| told[k] * common[k]);
        let sum: f64 = weights.iter().sum();
        weights.iter_mut().for_each(|w| *w /= sum.max(f64::MIN_POSITIVE));
        Stray(weights)
    };
    let mut common = STEPS.map(|(_, believed)| believed);
    for _ in 0..ROUNDS {
        let mut sums = STEPS.map(|(_, believed)| believed * WEIGHT);
        let mut n = WEIGHT;
        for (told, _) in told.iter().zip(campaigns).filter(|(_, misses)| !misses.is_empty()) {
            let Stray(weights) = weigh(told, &common);
            sums.iter_mut().zip(weights).for_each(|(sum, w)| *sum += w);
            n += 1.0;
        }
        common = sums.map(|sum| sum / n);
    }
    let strays: Vec<Stray> = told.iter().map(|told| weigh(told, &common)).collect();
    let mut evenings: BTreeMap<u64, (f64, f64, f64)> = BTreeMap::new();
    for (misses, stray) in campaigns.iter().zip(&strays) {
        for m in misses {
            let off = m.by / variance(m, stray.mean()).sqrt();
            // One that is far off for a reason of its own says nothing of the others.
            let off = off.clamp(-2.0, 2.0);
            let evening = evenings.entry(m.evening).or_default();
            *evening = (evening.0 + 1.0, evening.1 + off, evening.2 + off * off);
        }
    }
    let (products, pairs) = super::days::products(evenings.values());
    let shared = (products + PAIRS * alike) / (pairs + PAIRS);
    (strays, shared.clamp(0.0, 0.95))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn misses(by: &[f64]) -> Vec<Miss> {
        let miss = |(n, by): (usize, &f64)| Miss { evening: EVENINGS[n], by: *by, deviation: 0.02 };
        by.iter().enumerate().map(miss).collect()
    }

    #[test]
    fn those_that_came_as_said_stay_and_the_others_stray() {
        let steady = vec![misses(&[0.01, -0.02, 0.015]); 8];
        let (strays, _) = learn(&steady, 0.2);
        assert!(strays.iter().all(|s| s.mean() < 0.009), "{strays:?}");
        let mut restless = vec![misses(&[0.2, -0.15, 0.1]); 8];
        restless.push(misses(&[0.01, 0.0, -0.01]));
        restless.push(Vec::new());
        let (strays, shared) = learn(&restless, 0.2);
        assert!(strays[0].mean() > 0.03, "{strays:?}");
        assert!(strays[8].mean() < strays[0].mean(), "its own evenings say otherwise");
        assert!(strays[9].mean() > 0.02, "of one without evenings the others tell");
        assert!(shared > 0.5, "they stray together: {shared}");
        // Without any evenings it is as believed.
        let (none, shared) = learn(&[Vec::new()], 0.3);
        assert!((none[0].mean() - 0.0104).abs() < 1e-6 && (shared - 0.3).abs() < 1e-9, "{none:?}");
    }

    /// The mean of a walk's first three days is w₁ + ⅔w₂ + ⅓w₃: its variance is 1 + 4/9 + 1/9 = 14/9.
    #[test]
    fn a_mean_of_a_walk_by_hand() {
        assert!((of_mean(3) - 14.0 / 9.0).abs() < 1e-12);
        let stray = Stray([0.5, 0.5, 0.0, 0.0, 0.0, 0.0]);
        assert_eq!((stray.step(0.2), stray.step(0.7)), (0.0, 0.01));
    }
}
