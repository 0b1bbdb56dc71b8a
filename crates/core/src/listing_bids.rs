//! Bids of listings (C7): each product has its own CPC, conversion rate and return, and its bid follows.

use statrs::distribution::{ContinuousCDF, Gamma};

use crate::affordable::halfway_bid;
use crate::metrics::Tally;
use crate::target::Target;

/// Conversions that the parent's rate weighs.
const WEIGHT: f64 = 10.0;
/// How surely a click must be worth more or less than is paid for it.
const CONFIDENCE: f64 = 0.9;
/// Conversions that a product's clicks should have brought at its parent's rate before its bid is moved.
const LEAST_EXPECTED: f64 = 3.0;
/// Changes below this share are not worth making.
const LEAST_CHANGE: f64 = 0.05;
/// Bids follow no more often than this, in days (common practice, no source: every 14 to 30 days).
pub const EVERY_DAYS: u64 = 14;

/// A new bid, and why.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Proposal {
    /// What a click may cost, in units of currency, its evidence drawn toward the parent's.
    pub affordable: f64,
    /// The bid that goes halfway there.
    pub bid: f64,
}

/// The bid that a product's own return asks for; absent where the evidence does not part it from what is
/// paid. `bid` is the present one, in units of currency.
pub fn propose(parent: &Tally, tally: &Tally, bid: f64, target: Target) -> Option<Proposal> {
    let (cvr, cpc) = parent.cvr().filter(|r| *r > 0.0).zip(tally.cpc().filter(|c| *c > 0.0))?;
    if tally.clicks as f64 * cvr < LEAST_EXPECTED {
        return None;
    }
    let shape = tally.conversions + WEIGHT;
    let clicks = tally.clicks as f64 + WEIGHT / cvr;
    // What a conversion may cost: for a ROAS target, by what this product's are worth.
    let aov = parent.aov().map(|aov| (tally.value.to_units() + WEIGHT * aov) / shape);
    let per_conversion = target.as_cpa(aov).filter(|c| *c > 0.0)?;
    let at = |conversions: f64| conversions / clicks * per_conversion;
    let gamma = Gamma::new(shape, 1.0).ok()?;
    let affordable = at(shape);
    let surely =
        cpc > at(gamma.inverse_cdf(CONFIDENCE)) || cpc < at(gamma.inverse_cdf(1.0 - CONFIDENCE));
    // The bid moves as the price of a click should.
    let to = bid * halfway_bid(affordable, cpc) / cpc;
    (surely && (to / bid - 1.0).abs() >= LEAST_CHANGE).then_some(Proposal { affordable, bid: to })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::money::Micros;

    fn tally(clicks: i64, cpc: f64, conversions: f64, worth: f64) -> Tally {
        Tally {
            clicks,
            conversions,
            spend: Micros::from_units(clicks as f64 * cpc),
            value: Micros::from_units(conversions * worth),
            ..Tally::default()
        }
    }

    /// By hand: parent 5% and 100 a conversion; 400 clicks with 8 conversions of 100: (8 + 10) ÷ (400 + 200)
    /// × 100 ÷ 4 = 0.75 a click against 1.00 paid; halfway 0.875 of the bid.
    #[test]
    fn worked_by_hand() {
        let parent = tally(10_000, 1.0, 500.0, 100.0);
        let p = propose(&parent, &tally(400, 1.0, 8.0, 100.0), 1.2, Target::Roas(4.0)).unwrap();
        assert!((p.affordable - 0.75).abs() < 1e-9 && (p.bid - 1.05).abs() < 1e-9, "{p:?}");
        let p = propose(&parent, &tally(400, 1.0, 60.0, 100.0), 1.2, Target::Roas(4.0)).unwrap();
        assert!(p.bid > 1.5, "{p:?}");
    }

    #[test]
    fn chance_moves_no_bid() {
        let parent = tally(10_000, 1.0, 500.0, 80.0);
        assert_eq!(propose(&parent, &tally(400, 1.0, 18.0, 80.0), 1.2, Target::Roas(4.0)), None);
        assert_eq!(propose(&parent, &tally(10, 1.0, 0.0, 0.0), 1.2, Target::Roas(4.0)), None);
        assert_eq!(propose(&parent, &Tally::default(), 1.2, Target::Roas(4.0)), None);
        assert_eq!(propose(&Tally::default(), &parent, 1.2, Target::Roas(4.0)), None);
    }
}
