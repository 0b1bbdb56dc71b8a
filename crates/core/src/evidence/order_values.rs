//! Order values: how far they differ from one another, and whether a campaign's are lower than its peers'.

use statrs::distribution::{ContinuousCDF, Normal};

use super::peers::{MARGIN, Standing};
use crate::metrics::Tally;

/// The squared coefficient of variation that order values usually have (common practice, no source: a log
/// standard deviation of about 0.83).
const USUAL: f64 = 1.0;
/// Days that it weighs: a heavy tail is seen late.
const WEIGHT: f64 = 20.0;
/// Fewer orders than this say nothing of their mean.
const LEAST: f64 = 5.0;

/// Orders with the variance of one order's value.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Orders {
    /// How many.
    pub count: f64,
    /// Their mean value, in units of currency.
    pub mean: f64,
    /// Squared coefficient of variation of one order's value.
    pub variation: f64,
}

/// The orders of days: their variance from how far each day's value lies from its conversions times the mean,
/// drawn toward the usual one. Absent without value.
pub fn orders<'a>(days: impl Iterator<Item = &'a Tally> + Clone) -> Option<Orders> {
    let total: Tally = days.clone().copied().sum();
    let mean = total.aov()?.positive()?.units();
    let with = days.filter(|d| d.conversions > 0.0);
    let (sum, n) = with.fold((0.0, 0.0), |(sum, n), d| {
        (sum + (d.value.to_units() - mean * d.conversions).powi(2) / d.conversions, n + 1.0)
    });
    let variation = (sum / (mean * mean) + WEIGHT * USUAL) / ((n - 1.0_f64).max(0.0) + WEIGHT);
    Some(Orders { count: total.conversions, mean, variation })
}

impl Standing {
    /// Compares the mean of orders with the peers', on the log scale. The wider of the two spreads counts for
    /// both: the one with fewer orders may not have seen its tail yet. Absent for fewer than five orders.
    pub fn of_order_values(own: Orders, peers: Orders) -> Option<Self> {
        if own.count < LEAST || peers.count < LEAST {
            return None;
        }
        let variation = own.variation.max(peers.variation);
        // Variance of log(mean) of n orders: log(1 + variation ÷ n), exact for a log-normal mean.
        let error = (variation / own.count).ln_1p() + (variation / peers.count).ln_1p();
        let z = ((MARGIN * peers.mean / own.mean).ln() - error / 2.0) / error.sqrt();
        Some(Self::from_probability(Normal::standard().cdf(z)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::money::Micros;
    use rand::SeedableRng;
    use rand_chacha::ChaCha8Rng;
    use rand_distr::{Distribution, LogNormal, Poisson};

    fn day(orders: f64, value: f64) -> Tally {
        Tally { conversions: orders, value: Micros::from_units(value), ..Tally::default() }
    }

    /// Days of orders drawn from a log-normal with mean 1 and this log standard deviation.
    fn drawn(rng: &mut ChaCha8Rng, days: usize, a_day: f64, mean: f64, sd: f64) -> Orders {
        let value = LogNormal::new(mean.ln() - sd * sd / 2.0, sd).unwrap();
        let count = Poisson::new(a_day).unwrap();
        let days: Vec<Tally> = (0..days)
            .map(|_| {
                let n = count.sample(rng);
                day(n, (0..n as usize).map(|_| value.sample(rng)).sum())
            })
            .collect();
        orders(days.iter()).unwrap()
    }

    #[test]
    fn equal_orders_do_not_vary_and_the_usual_weighs_twenty_days() {
        let same = orders([day(2.0, 100.0), day(3.0, 150.0)].iter()).unwrap();
        assert_eq!((same.count, same.mean), (5.0, 50.0));
        assert!((same.variation - 20.0 / 21.0).abs() < 1e-12);
        assert!(orders([day(3.0, 0.0)].iter()).is_none());
    }

    /// Orders alike with their peers' are called lower in at most one of ten, however heavy their tail.
    #[test]
    fn alike_orders_are_seldom_called_lower() {
        let mut rng = ChaCha8Rng::seed_from_u64(5);
        for (sd, a_day) in [(0.6, 0.5), (1.0, 0.5), (1.2, 0.5), (1.0, 2.0), (1.2, 4.0)] {
            let lower = (0..400)
                .filter(|_| {
                    let own = drawn(&mut rng, 28, a_day, 1.0, sd);
                    let peers = drawn(&mut rng, 28, 4.0 * a_day, 1.0, sd);
                    Standing::of_order_values(own, peers) == Some(Standing::Lower)
                })
                .count();
            assert!(lower <= 40, "log-sd {sd}, {a_day} a day: {lower} of 400");
        }
    }

    #[test]
    fn half_the_value_is_seen() {
        let mut rng = ChaCha8Rng::seed_from_u64(6);
        let seen = (0..200)
            .filter(|_| {
                let own = drawn(&mut rng, 28, 4.0, 0.5, 0.8);
                let peers = drawn(&mut rng, 28, 8.0, 1.0, 0.8);
                Standing::of_order_values(own, peers) == Some(Standing::Lower)
            })
            .count();
        assert!(seen >= 180, "{seen} of 200");
    }
}
