//! What several uncertain figures of one kind are, known together: each is drawn toward their mean as far as they differ by
//! no more than chance, so that picking the best of them is not flattered. Neither their mean nor how far they really lie
//! apart is known; both are learned from them (A. Gelman & al., Bayesian Data Analysis, 3rd ed., sections 5.4 and 5.5;
//! the spread has a half-Cauchy prior, A. Gelman, Bayesian Analysis 1 (2006)).
//!
//! ```
//! use tiller_core::evidence::levels::{Seen, together};
//! let of = |means: [f64; 4]| together(&means.map(|mean| Seen { mean, variance: 0.04 }), 0.3);
//! // Four that differ by no more than their errors are taken for alike; four that lie far apart for what they are.
//! let reach = |means| of(means).iter().map(|l| l.mean).fold(0.0, f64::max);
//! assert!(reach([0.1, -0.1, 0.2, -0.2]) < 0.1 && reach([1.5, -1.5, 0.5, -0.5]) > 1.3);
//! ```

use std::f64::consts::FRAC_PI_2;

/// Spreads that are tried.
const SPREADS: usize = 40;

/// A figure as it was seen alone.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Seen {
    /// Its estimate.
    pub mean: f64,
    /// The variance of that, above 0.
    pub variance: f64,
}

/// A figure as it is known beside the others.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Level {
    /// Its estimate.
    pub mean: f64,
    /// The variance that is its own.
    pub own: f64,
    /// The standard deviation of what it errs by together with all the others, because their mean is not known.
    pub shared: f64,
    /// The same because how far they lie apart is not known: those above the mean err one way, those below it the other.
    pub spread: f64,
}

impl Level {
    /// Its whole variance.
    pub fn variance(&self) -> f64 {
        self.own + self.shared.powi(2) + self.spread.powi(2)
    }
}

/// Draws figures toward their mean; `usual` is how far such figures lie apart, as a standard deviation: as likely less as more.
pub fn together(seen: &[Seen], usual: f64) -> Vec<Level> {
    // The middles of equally likely parts of a half-Cauchy distribution.
    let spread = |i: usize| usual * (FRAC_PI_2 * (i as f64 + 0.5) / SPREADS as f64).tan();
    over(seen, &(0..SPREADS).map(spread).collect::<Vec<_>>())
}

/// The same over spreads that are equally likely beforehand.
fn over(seen: &[Seen], spreads: &[f64]) -> Vec<Level> {
    let given: Vec<Given> = spreads.iter().map(|spread| Given::new(seen, *spread)).collect();
    let most = given.iter().map(|g| g.likely).fold(f64::NEG_INFINITY, f64::max);
    let weights: Vec<f64> = given.iter().map(|g| (g.likely - most).exp()).collect();
    let all: f64 = weights.iter().sum();
    let mean = |of: &dyn Fn(&Given) -> f64| {
        given.iter().zip(&weights).map(|(g, w)| w * of(g)).sum::<f64>() / all
    };
    // How much of what differs is believed, as one number for each spread.
    let believed = |g: &Given| seen.iter().map(|s| g.known(s)).sum::<f64>();
    let usual = mean(&believed);
    let deviation = mean(&|g| (believed(g) - usual).powi(2)).sqrt().max(f64::MIN_POSITIVE);
    let level = |s: &Seen| {
        let middle = mean(&|g| g.level(s).mean);
        let spread = mean(&|g| (g.level(s).mean - middle) * (believed(g) - usual)) / deviation;
        let apart = mean(&|g| (g.level(s).mean - middle).powi(2)) - spread * spread;
        Level {
            mean: middle,
            own: mean(&|g| g.level(s).own) + apart.max(0.0),
            shared: mean(&|g| g.level(s).shared.powi(2)).sqrt(),
            spread,
        }
    };
    seen.iter().map(level).collect()
}

/// What follows if they really lie so far apart.
struct Given {
    spread: f64,
    mean: f64,
    /// Standard error of that.
    error: f64,
    /// The logarithm of how likely this spread made what was seen.
    likely: f64,
}

impl Given {
    fn new(seen: &[Seen], spread: f64) -> Self {
        let weight = |s: &Seen| 1.0 / (s.variance + spread * spread);
        let all: f64 = seen.iter().map(weight).sum();
        let mean =
            seen.iter().map(|s| weight(s) * s.mean).sum::<f64>() / all.max(f64::MIN_POSITIVE);
        let each = |s: &Seen| 0.5 * (weight(s).ln() - weight(s) * (s.mean - mean).powi(2));
        let likely = seen.iter().map(each).sum::<f64>() - 0.5 * all.ln();
        Self { spread, mean, error: all.sqrt().recip(), likely }
    }

    /// The share of what a figure was seen as that is believed.
    fn known(&self, s: &Seen) -> f64 {
        self.spread.powi(2) / (self.spread.powi(2) + s.variance)
    }

    fn level(&self, s: &Seen) -> Level {
        let known = self.known(s);
        Level {
            mean: known * s.mean + (1.0 - known) * self.mean,
            own: known * s.variance,
            shared: (1.0 - known) * self.error,
            spread: 0.0,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::SeedableRng;
    use rand_chacha::ChaCha8Rng;
    use rand_distr::{Distribution, Normal};

    /// Coaching in eight schools (D. B. Rubin, Journal of Educational Statistics 6 (1981); Bayesian Data Analysis, 3rd ed.,
    /// section 5.5): effects and errors of table 5.2; posterior means by long simulation with a flat prior of the spread, from
    /// memory: 11.4, 7.9, 6.1, 7.6, 5.1, 6.2, 10.6, 8.4.
    #[test]
    fn eight_schools() {
        let effects = [28.0, 8.0, -3.0, 7.0, -1.0, 1.0, 18.0, 12.0];
        let errors = [15.0, 10.0, 16.0, 11.0, 9.0, 11.0, 10.0, 18.0_f64];
        let seen = |(mean, error): (f64, f64)| Seen { mean, variance: error * error };
        let seen: Vec<Seen> = effects.into_iter().zip(errors).map(seen).collect();
        let spreads: Vec<f64> = (0..800).map(|i| 0.05 + 0.1 * f64::from(i)).collect();
        let found = over(&seen, &spreads);
        let published = [11.4, 7.9, 6.1, 7.6, 5.1, 6.2, 10.6, 8.4];
        for (level, mean) in found.iter().zip(published) {
            assert!((level.mean - mean).abs() < 0.6, "{found:?}");
        }
        // Standard deviations of the same simulation: 8.2 of the first, 6.3 of the second.
        let deviation = |l: &Level| l.variance().sqrt();
        assert!(
            (deviation(&found[0]) - 8.2).abs() < 0.8 && (deviation(&found[1]) - 6.3).abs() < 0.6
        );
    }

    /// Whatever they really lie apart: 80% intervals hold, the best one's too, and the best of ten that are alike is promised
    /// next to nothing.
    #[test]
    fn the_best_is_not_flattered() {
        let mut rng = ChaCha8Rng::seed_from_u64(11);
        for (apart, heavy) in [(0.0, false), (0.1, false), (0.3, false), (0.8, false), (0.3, true)]
        {
            let (mut held, mut best_held, mut promised, mut all) = (0, 0, 0.0, 0);
            for _ in 0..400 {
                let level = Normal::new(0.0, apart).unwrap();
                let true_of = |rng: &mut ChaCha8Rng| {
                    let far = if heavy && level.sample(rng) > 1.5 * apart { 3.0 } else { 1.0 };
                    far * level.sample(rng)
                };
                let truth: Vec<f64> = (0..10).map(|_| true_of(&mut rng)).collect();
                let seen: Vec<Seen> = truth
                    .iter()
                    .enumerate()
                    .map(|(i, t)| {
                        let variance = 0.01 * f64::from(1 + u8::try_from(i).unwrap() % 5);
                        let mean = Normal::new(*t, f64::sqrt(variance)).unwrap().sample(&mut rng);
                        Seen { mean, variance }
                    })
                    .collect();
                let found = together(&seen, 0.3);
                let holds = |i: usize| {
                    let deviation = found[i].variance().sqrt();
                    usize::from((truth[i] - found[i].mean).abs() <= 1.2816 * deviation)
                };
                held += (0..10).map(holds).sum::<usize>();
                let best =
                    (0..10).max_by(|a, b| found[*a].mean.total_cmp(&found[*b].mean)).unwrap();
                best_held += holds(best);
                let middle = found.iter().map(|l| l.mean).sum::<f64>() / 10.0;
                let really = truth.iter().sum::<f64>() / 10.0;
                promised += (found[best].mean - middle) - (truth[best] - really);
                all += 1;
            }
            let share = |n: usize, of: usize| n as f64 / of as f64;
            let (each, best) = (share(held, 10 * all), share(best_held, all));
            let flattered = promised / all as f64;
            println!(
                "apart {apart}, heavy {heavy}: held {each:.2}, the best {best:.2}, flattered by {flattered:.3}"
            );
            // Where all are alike, or some are far off, the prior doesn't suit; it errs to the safe side.
            assert!(each > 0.76 && best > 0.7, "apart {apart}: {each}, {best}");
            assert!(flattered.abs() < 0.06, "apart {apart}: {flattered}");
        }
    }

    #[test]
    fn one_alone_is_what_it_is() {
        let alone = together(&[Seen { mean: 2.0, variance: 0.09 }], 0.3)[0];
        assert!((alone.mean - 2.0).abs() < 1e-12);
        assert!((alone.variance() - 0.09).abs() < 1e-9, "{alone:?}");
        assert!(together(&[], 0.3).is_empty());
    }
}
