//! One auction against a log-normal highest competing bid.

use statrs::distribution::{ContinuousCDF, Normal};

/// The highest competing bid of an auction.
#[derive(Clone, Copy, Debug)]
pub struct Competition {
    /// Its median, per click.
    pub median: f64,
    /// Standard deviation of its logarithm.
    pub spread: f64,
}

impl Competition {
    /// Probability that `bid` wins.
    pub fn wins(&self, bid: f64) -> f64 {
        Normal::standard().cdf((bid / self.median).ln() / self.spread)
    }

    /// Expected price of a win: the competing bid given that it is below `bid`.
    pub fn price(&self, bid: f64) -> f64 {
        let s = self.spread;
        let x = (bid / self.median).ln() / s;
        let normal = Normal::standard();
        let wins = normal.cdf(x);
        if wins <= 1e-12 {
            return bid;
        }
        (self.median * (s * s / 2.0).exp() * normal.cdf(x - s) / wins).min(bid)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_higher_bid_wins_no_less_and_pays_no_less(median in 0.1f64..20.0, spread in 0.1f64..1.5, bid in 0.05f64..40.0) {
            let c = Competition { median, spread };
            prop_assert!(c.wins(bid * 1.1) >= c.wins(bid));
            prop_assert!(c.price(bid * 1.1) >= c.price(bid) - 1e-9);
            prop_assert!(c.price(bid) <= bid);
        }
    }
}
