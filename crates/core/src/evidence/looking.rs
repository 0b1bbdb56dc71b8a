//! Looking every day: a thing at its target looks as if it were over it at some time far more often than on one day.

use statrs::distribution::{Continuous, ContinuousCDF, Normal};

/// Daily looks over which a false call is counted.
pub const LOOKS: f64 = 90.0;

/// The probability that a thing at its target, looked at on 90 evenings over its last `days` days, looks at some time as if it
/// were over it with the probability `p` or more.
///
/// A sum of the last days, moved on by a day each evening, goes like the process of D. Slepian ("First passage time for a particular
/// Gaussian process", Annals of Mathematical Statistics 32 (1961)), which within one span of the window's length crosses u with the
/// probability 1 − Φ² + φ·(u·Φ + φ): to the first order once for each u·φ + 1 − Φ. It is looked at in steps, between which it comes
/// back: a factor of exp(−0.583·x) for a step of x (D. Siegmund, Sequential Analysis (1985), ch. IV).
///
/// ```
/// use tiller_core::evidence::looking::at_some_time;
/// // One look in ten, over four weeks, is two in three over three months.
/// assert!((0.6..0.7).contains(&at_some_time(0.9, 28)));
/// // A longer window moves more slowly.
/// assert!(at_some_time(0.99, 84) < at_some_time(0.99, 28));
/// ```
pub fn at_some_time(p: f64, days: u64) -> f64 {
    at_some_time_over(boundary(p), days)
}

/// What is as high as `p` on one look, in standard deviations.
fn boundary(p: f64) -> f64 {
    Normal::standard().inverse_cdf(p.clamp(1e-9, 1.0 - 1e-12))
}

fn at_some_time_over(u: f64, days: u64) -> f64 {
    let normal = Normal::standard();
    let span = days.max(1) as f64;
    let in_steps = (-0.583 * u.max(0.0) * (2.0 / span).sqrt()).exp();
    let each_span = u.max(0.0) * normal.pdf(u) * in_steps + normal.sf(u);
    1.0 - normal.cdf(u) * (-LOOKS / span * each_span).exp()
}

/// The score of a single look, in standard deviations, that a thing at its target reaches at some time in `chance` of 90 daily looks
/// at its last `days` days.
pub fn score_for(chance: f64, days: u64) -> f64 {
    let (mut low, mut high) = (1.0, 8.0);
    for _ in 0..40 {
        let middle = f64::midpoint(low, high);
        if at_some_time_over(middle, days) > chance { low = middle } else { high = middle }
    }
    high
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::SeedableRng;
    use rand_chacha::ChaCha8Rng;
    use rand_distr::Distribution;

    /// Drawn days, summed over windows that move on by one.
    #[test]
    fn it_is_as_often_as_drawn_days_cross() {
        let mut rng = ChaCha8Rng::seed_from_u64(90);
        let normal = rand_distr::StandardNormal;
        for days in [7_usize, 28, 84] {
            let mut highest: Vec<f64> = (0..4000)
                .map(|_| {
                    let drawn: Vec<f64> = (0..days + 90).map(|_| normal.sample(&mut rng)).collect();
                    let score = |w: &[f64]| w.iter().sum::<f64>() / (days as f64).sqrt();
                    drawn.windows(days).take(90).map(score).fold(f64::MIN, f64::max)
                })
                .collect();
            highest.sort_by(f64::total_cmp);
            for chance in [0.05, 0.1, 0.2, 0.4] {
                let reached = highest[4000 - (4000.0 * chance) as usize];
                let said = score_for(chance, days as u64);
                assert!((said - reached).abs() < 0.14, "{days} days, {chance}: {said}, {reached}");
                assert!((at_some_time_over(said, days as u64) - chance).abs() < 1e-9);
            }
        }
    }
}
