//! How much more days differ than chance alone lets them: variance = φ × mean (quasi-likelihood, R. W. M.
//! Wedderburn, Biometrika 61 (1974)). Evidence counts for 1 ÷ φ of what it is.

/// Days that the belief of no dispersion weighs.
const WEIGHT: f64 = 20.0;

/// Weeks and fortnights, and how many of them what days alone tell weighs: what lasts shows in sums only, of which there are few.
const SPANS: [(usize, f64); 2] = [(7, 4.0), (14, 3.0)];

/// φ from days of (results, exposure): Pearson residuals around one rate, drawn toward 1 by twenty days, at least 1.
/// Days on which nothing was to be expected tell nothing.
pub fn dispersion(days: impl Iterator<Item = (f64, f64)> + Clone) -> f64 {
    let Some(rate) = rate(days.clone()) else { return 1.0 };
    let (mut sum, mut n) = (0.0, 0.0);
    for (found, exposure) in days.filter(|(_, exposure)| *exposure > 0.0) {
        let mean = rate * exposure;
        sum += (found - mean).powi(2) / mean;
        n += 1.0;
    }
    ((sum + WEIGHT) / ((n - 1.0_f64).max(0.0) + WEIGHT)).max(1.0)
}

/// φ for the sum of several weeks, from days in order: what makes one day better than usual often makes the next one too, and
/// then sums differ by more than days. The most that days, weeks and fortnights tell; of these each is held against the one
/// before it, so that a step or a trend is not taken for chance (J. von Neumann, Annals of Mathematical Statistics 12 (1941)).
pub fn lasting_dispersion(days: &[(f64, f64)]) -> f64 {
    let daily = dispersion(days.iter().copied());
    let Some(rate) = rate(days.iter().copied()) else { return daily };
    let of = |(span, weight): (usize, f64)| {
        let sums: Vec<(f64, f64)> = days
            .rchunks_exact(span)
            .map(|part| part.iter().fold((0.0, 0.0), |sum, day| (sum.0 + day.0, sum.1 + day.1)))
            .filter(|(_, exposure)| *exposure > 0.0)
            .collect();
        let differs = |pair: &[(f64, f64)]| {
            let [a, b] = [pair[0], pair[1]];
            (a.0 / a.1 - b.0 / b.1).powi(2) / (rate * (1.0 / a.1 + 1.0 / b.1))
        };
        let sum: f64 = sums.windows(2).map(differs).sum();
        (sum + weight * daily) / (sums.len().saturating_sub(1) as f64 + weight)
    };
    SPANS.into_iter().map(of).fold(daily, f64::max)
}

/// Results for each unit of exposure; none without either.
fn rate(days: impl Iterator<Item = (f64, f64)>) -> Option<f64> {
    let (results, exposure) = days.fold((0.0, 0.0), |s, d| (s.0 + d.0, s.1 + d.1));
    (results > 0.0 && exposure > 0.0).then(|| results / exposure)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::SeedableRng;
    use rand_chacha::ChaCha8Rng;
    use rand_distr::{Distribution, Gamma, Poisson};

    #[test]
    fn it_is_found_as_far_as_days_tell() {
        let mut rng = ChaCha8Rng::seed_from_u64(3);
        for (phi, low, high) in [(1.0, 1.0, 1.25), (2.0, 1.55, 2.1), (4.0, 2.8, 4.3)] {
            let mut sum = 0.0;
            for _ in 0..200 {
                let days: Vec<(f64, f64)> = (0..90)
                    .map(|_| {
                        let mean: f64 = 8.0;
                        let mean = if phi > 1.0 {
                            Gamma::new(mean / (phi - 1.0), phi - 1.0).unwrap().sample(&mut rng)
                        } else {
                            mean
                        };
                        (Poisson::new(mean.max(1e-9)).unwrap().sample(&mut rng), 100.0)
                    })
                    .collect();
                sum += dispersion(days.iter().copied());
            }
            let mean = sum / 200.0;
            assert!((low..high).contains(&mean), "φ {phi}: {mean}");
        }
        assert_eq!(dispersion([(0.0, 10.0)].into_iter()), 1.0);
    }

    /// By hand: each day as expected, so days tell 1. Then weeks of 14 and 28 by turns: two weeks differ by 14 of 21 expected, so
    /// 14² ÷ (2 × 21) = 4⅔ each; of eight weeks there are seven such, and four of what days tell.
    #[test]
    fn weeks_that_differ_tell_what_lasts() {
        let even: Vec<(f64, f64)> = (0..56).map(|_| (3.0, 100.0)).collect();
        assert_eq!(lasting_dispersion(&even), 1.0);
        let by_turns: Vec<(f64, f64)> =
            (0..56).map(|d| (if d / 7 % 2 == 0 { 2.0 } else { 4.0 }, 100.0)).collect();
        // Each day is one off from three: a third, less than chance.
        assert_eq!(dispersion(by_turns.iter().copied()), 1.0);
        let weeks = (7.0 * 14.0 / 3.0 + 4.0) / 11.0;
        assert!((lasting_dispersion(&by_turns) - weeks).abs() < 1e-9);
        // A step is one difference of many; nothing at all tells nothing.
        let step: Vec<(f64, f64)> =
            (0..112).map(|d| (if d < 56 { 2.0 } else { 4.0 }, 100.0)).collect();
        // 28² ÷ (2 × 42) = 9⅓ of seven fortnights, and three of what days tell.
        assert!((lasting_dispersion(&step) - (28.0 / 3.0 + 3.0) / 10.0).abs() < 1e-9);
        assert_eq!(lasting_dispersion(&[(0.0, 10.0), (0.0, 0.0)]), 1.0);
    }
}
