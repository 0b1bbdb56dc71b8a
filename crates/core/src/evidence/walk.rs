//! Where a rate stands now, and how far it may go: weeks whose level walks, seen through chance (the local level model: A. C.
//! Harvey, Forecasting, Structural Time Series Models and the Kalman Filter (1989), section 4.1). How far it walks in a week is
//! not known; it is learned from the weeks.
//!
//! ```
//! use tiller_core::evidence::walk::ahead;
//! // Eight weeks of 20 results for 100, then four of 30: what comes is nearer to 30.
//! let days: Vec<(f64, f64)> = (0..84).map(|d| (if d < 56 { 20.0 } else { 30.0 } / 7.0, 100.0 / 7.0)).collect();
//! let now = ahead(&days, 1.0, 30);
//! assert!(now.rate > 0.25 && now.rate < 0.31 && now.deviation > 0.05);
//! ```

use std::f64::consts::TAU;

/// Days of a step.
const WEEK: usize = 7;
/// How far a level may walk in a week, as standard deviations of its logarithm.
const STEPS: [f64; 7] = [0.0, 0.01, 0.02, 0.04, 0.07, 0.12, 0.2];
/// Of which much is less likely than little (ours, no source): e times less with each of these.
const USUAL: f64 = 0.15;
/// What the level is before anything was seen, as a variance around the mean of all.
const OPEN: f64 = 1.0;
/// None at all tells as much as half an event.
const LEAST: f64 = 0.5;

/// A rate to come.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Ahead {
    /// Results for a unit of exposure, as the median of what is likely.
    pub rate: f64,
    /// Standard deviation of its logarithm, as a mean of the days to come; chance not included.
    pub deviation: f64,
}

/// The rate of so many days that come, after days of (results, exposure) that vary `dispersion` times as much as by chance.
pub fn ahead(days: &[(f64, f64)], dispersion: f64, to_come: usize) -> Ahead {
    let sum = |part: &[(f64, f64)]| part.iter().fold((0.0, 0.0), |s, d| (s.0 + d.0, s.1 + d.1));
    let all = sum(days);
    let usual = all.0.max(LEAST) / all.1.max(f64::MIN_POSITIVE);
    let weeks: Vec<(f64, f64)> = days
        .rchunks_exact(WEEK)
        .rev()
        .map(sum)
        .filter(|(_, exposure)| *exposure > 0.0)
        .map(|(results, exposure)| {
            // The error goes by what was to be expected: who was lucky is no surer.
            let expected = (usual * exposure).max(LEAST);
            ((results.max(LEAST) / exposure / usual).ln(), dispersion.max(1.0) / expected)
        })
        .collect();
    let given = STEPS.map(|step| Filter::over(&weeks, step));
    let most = given.iter().map(|g| g.likely).fold(f64::NEG_INFINITY, f64::max);
    let weight = |g: &Filter| (g.likely - most - g.step / USUAL).exp();
    let mean = |of: &dyn Fn(&Filter) -> f64| {
        given.iter().map(|g| weight(g) * of(g)).sum::<f64>() / given.iter().map(weight).sum::<f64>()
    };
    let level = mean(&|g| g.level);
    // The mean of k steps of a walk varies by (k + 1)(2k + 1) ÷ 6k steps.
    let k = (to_come as f64 / WEEK as f64).max(1.0);
    let walked = (k + 1.0) * (2.0 * k + 1.0) / (6.0 * k);
    let open = |g: &Filter| g.variance + walked * g.step * g.step + (g.level - level).powi(2);
    Ahead { rate: usual * level.exp(), deviation: mean(&open).sqrt() }
}

/// What is known of the level once all weeks were seen, if it walks so far in each.
struct Filter {
    step: f64,
    level: f64,
    variance: f64,
    /// The logarithm of how likely this made the weeks.
    likely: f64,
}

impl Filter {
    fn over(weeks: &[(f64, f64)], step: f64) -> Self {
        let mut f = Self { step, level: 0.0, variance: OPEN, likely: 0.0 };
        for (seen, error) in weeks {
            let variance = f.variance + step * step;
            let all = variance + error;
            let off = seen - f.level;
            f.likely -= 0.5 * ((TAU * all).ln() + off * off / all);
            f.level += variance / all * off;
            f.variance = variance * error / all;
        }
        f
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::SeedableRng;
    use rand_chacha::ChaCha8Rng;
    use rand_distr::{Distribution, Normal, Poisson};

    /// By hand: a level with variance 1, a week seen at 0.2 with variance 1, no walk: half way, with variance ½.
    #[test]
    fn one_week_by_hand() {
        let f = Filter::over(&[(0.2, 1.0)], 0.0);
        assert!((f.level - 0.1).abs() < 1e-12 && (f.variance - 0.5).abs() < 1e-12);
        // −½(ln 2π·2 + 0.04 ÷ 2).
        assert!((f.likely + 0.5 * ((TAU * 2.0).ln() + 0.02)).abs() < 1e-12);
    }

    /// Months after levels that stay, walk, grow, or swing: 80% of them within 1.28 deviations, chance included.
    #[test]
    fn months_lie_where_they_are_said_to() {
        let mut rng = ChaCha8Rng::seed_from_u64(7);
        for (name, walk, grows, swings, low) in [
            ("stays", 0.0, 0.0, 0.0, 0.76),
            ("walks", 0.05, 0.0, 0.0, 0.7),
            ("walks far", 0.12, 0.0, 0.0, 0.65),
            ("grows 2% a week", 0.0, 0.02, 0.0, 0.6),
            ("swings for days", 0.0, 0.0, 0.25, 0.72),
        ] {
            let mut held = 0;
            for _ in 0..400 {
                let (mut level, mut swing) = (0.0_f64, 0.0_f64);
                let days: Vec<(f64, f64)> = (0..114)
                    .map(|_| {
                        level +=
                            Normal::new(grows / 7.0, walk / 7f64.sqrt()).unwrap().sample(&mut rng);
                        swing = 0.5 * swing
                            + Normal::new(0.0, swings * 0.866).unwrap().sample(&mut rng);
                        (Poisson::new(20.0 * (level + swing).exp()).unwrap().sample(&mut rng), 1.0)
                    })
                    .collect();
                let (past, month) = days.split_at(84);
                let phi = crate::evidence::dispersion(past.iter().copied());
                let said = ahead(past, phi, 30);
                let came: f64 = month.iter().map(|d| d.0).sum();
                let middle = 30.0 * said.rate;
                let reach = (said.deviation.powi(2) + phi / middle).sqrt();
                held += usize::from((came / middle).ln().abs() <= 1.2816 * reach);
            }
            let held = f64::from(u32::try_from(held).unwrap()) / 400.0;
            println!("{name}: held in {held:.2} (nominal 0.80)");
            assert!((low..=0.94).contains(&held), "{name}: {held}");
        }
    }

    #[test]
    fn nothing_seen_is_nothing_known() {
        let none = ahead(&[], 1.0, 30);
        assert!(none.deviation > 0.9 && none.rate.is_finite());
        assert!(ahead(&[(0.0, 10.0); 20], 1.0, 30).rate > 0.0);
    }
}
