//! How much more days differ than chance alone lets them: variance = φ × mean (quasi-likelihood, R. W. M.
//! Wedderburn, Biometrika 61 (1974)). Evidence counts for 1 ÷ φ of what it is.

/// Days that the belief of no dispersion weighs.
const WEIGHT: f64 = 20.0;

/// φ from days of (results, exposure): Pearson residuals around one rate, drawn toward 1 by twenty days, at least 1.
/// Days on which nothing was to be expected tell nothing.
pub fn dispersion(days: impl Iterator<Item = (f64, f64)> + Clone) -> f64 {
    let (results, exposure) = days.clone().fold((0.0, 0.0), |s, d| (s.0 + d.0, s.1 + d.1));
    if results <= 0.0 || exposure <= 0.0 {
        return 1.0;
    }
    let rate = results / exposure;
    let (mut sum, mut n) = (0.0, 0.0);
    for (found, exposure) in days.filter(|(_, exposure)| *exposure > 0.0) {
        let mean = rate * exposure;
        sum += (found - mean).powi(2) / mean;
        n += 1.0;
    }
    ((sum + WEIGHT) / ((n - 1.0_f64).max(0.0) + WEIGHT)).max(1.0)
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
}
