//! Bid spirals: bids that fall round after round because each is set from the average click that the last one caused.

use crate::money::Price;

/// What a click costs of its bid, and where bids that go by it end.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Spiral {
    /// What a click costs, as a share of the bid: below 1.
    pub share: f64,
    /// The bid at which it comes to rest.
    pub rests: Price,
    /// The amount above the average click that holds what a click costs now.
    pub holds: Price,
}

/// What the next round bids where a click costs `share` of the bid.
pub fn next_bid(bid: Price, share: f64, headroom: Price) -> Price {
    bid * share + headroom
}

/// Where bids come to rest that are set `headroom` above an average click of `share` of the bid: h ÷ (1 − k), the fixed
/// point of β ← k·β + h. None where a click costs as much as is bid.
///
/// ```
/// use tiller_core::Price;
/// use tiller_core::bid_rule::spiral::{headroom_that_holds, rests};
/// assert_eq!(rests(0.5, Price(0.41)), Some(Price(0.82)));
/// assert_eq!(headroom_that_holds(0.5, Price(1.0)), Some(Price(1.0)));
/// ```
pub fn rests(share: f64, headroom: Price) -> Option<Price> {
    (0.0..1.0).contains(&share).then(|| headroom / (1.0 - share))
}

/// The amount above the average click that holds a CPC: p·(1 − k) ÷ k.
pub fn headroom_that_holds(share: f64, cpc: Price) -> Option<Price> {
    (share > 0.0 && share < 1.0).then(|| cpc * ((1.0 - share) / share))
}

/// Whether bids that are set so far above the average click sink: none where they hold or rise. By how much is told by
/// what comes out: a coin more or less is no spiral, so the bid at rest has to be 2% lower.
pub fn sinks(bid: Price, cpc: Price, headroom: Price, lowest: Price) -> Option<Spiral> {
    let share = cpc / bid.positive()?;
    let rests = rests(share, headroom)?;
    let holds = headroom_that_holds(share, cpc)?;
    (rests < lowest.min(bid) || rests < bid * 0.98).then_some(Spiral { share, rests, holds })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// The formulas against the rounds themselves.
        #[test]
        fn rounds_end_where_the_formula_says(share in 0.05f64..0.95, headroom in 0.0f64..2.0, first in 0.05f64..5.0) {
            let rounds = (0..2000).fold(Price(first), |bid, _| next_bid(bid, share, Price(headroom)));
            let rest = rests(share, Price(headroom)).unwrap();
            prop_assert!((rounds - rest).units().abs() < 1e-9 * (1.0 + rest.units()), "{rounds:?} {rest:?}");
        }

        #[test]
        fn the_headroom_that_holds_holds(share in 0.05f64..0.95, cpc in 0.05f64..5.0) {
            let bid = Price(cpc / share);
            let headroom = headroom_that_holds(share, Price(cpc)).unwrap();
            let next = next_bid(bid, share, headroom);
            prop_assert!((next - bid).units().abs() < 1e-9 * (1.0 + bid.units()));
            prop_assert_eq!(sinks(bid, Price(cpc), headroom * 1.000_001, Price(0.01)), None);
        }

        /// What is called a spiral falls, round after round, toward where it rests.
        #[test]
        fn a_spiral_falls(share in 0.05f64..0.95, bid in 0.1f64..5.0, headroom in 0.0f64..2.0) {
            let (bid, headroom) = (Price(bid), Price(headroom));
            if let Some(spiral) = sinks(bid, bid * share, headroom, Price(0.01)) {
                let next = next_bid(bid, spiral.share, headroom);
                prop_assert!(next < bid && next >= spiral.rests);
                prop_assert!(spiral.holds > headroom);
            }
        }
    }

    #[test]
    fn nothing_is_told_of_nothing() {
        assert_eq!(rests(1.0, Price(0.1)), None);
        assert_eq!(headroom_that_holds(0.0, Price(1.0)), None);
        assert_eq!(sinks(Price(0.0), Price(0.0), Price(0.1), Price(0.1)), None);
    }
}
