//! Bids of listings (C7): each product has its own CPC, conversion rate and return, and its bid follows.
//!
//! ```
//! use tiller_core::listing_bids::propose;
//! use tiller_core::segments::Rules;
//! use tiller_core::{Micros, Price, Tally, Target};
//! let counted = |clicks: i64, spend, conversions| Tally {
//!     clicks,
//!     spend: Micros::from_units(spend),
//!     conversions,
//!     ..Tally::default()
//! };
//! let rules = Rules { target: Target::Cpa(Price(20.0)), dispersion: 1.0, raise: true };
//! // 400 clicks at 2.00 brought 8 at 100 each: a step down, no further.
//! let proposal = propose(&counted(2000, 2000.0, 100.0), &counted(400, 800.0, 8.0), Price(2.0), rules).unwrap();
//! assert!((proposal.bid - Price(1.6)).units().abs() < 1e-9);
//! ```

use crate::Price;
use statrs::distribution::{ContinuousCDF, Gamma};

use crate::affordable::halfway_bid;
use crate::evidence::{FALSE_SHARE, discoveries};
use crate::learning::SHOCK;
use crate::metrics::Tally;
use crate::segments::Rules;

/// Conversions that the parent's rate weighs.
const WEIGHT: f64 = 10.0;
/// Conversions that a product's clicks should have brought at its parent's rate before its bid is moved.
const LEAST_EXPECTED: f64 = 3.0;
/// Changes below this share are not worth making.
const LEAST_CHANGE: f64 = 0.05;
/// Bids follow no more often than this, in days (common practice, no source: every 14 to 30 days).
pub const EVERY_DAYS: u64 = 14;

/// A new bid, and why.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Proposal {
    /// What a click may cost, its evidence drawn toward the parent's.
    pub affordable: Price,
    /// The bid that goes halfway there, by one step at most.
    pub bid: Price,
    /// How likely chance alone parts what a click is worth so far from what is paid.
    pub p: f64,
}

/// Which of many proposals may be believed together.
pub fn believed(proposals: &[Proposal]) -> Vec<bool> {
    discoveries(&proposals.iter().map(|p| p.p).collect::<Vec<_>>(), FALSE_SHARE)
}

/// The bid that a product's own return asks for; absent where too little is known, or the change is not worth
/// making. `bid` is the present one.
pub fn propose(parent: &Tally, tally: &Tally, bid: Price, rules: Rules) -> Option<Proposal> {
    let (cvr, cpc) = parent.cvr().filter(|r| *r > 0.0).zip(tally.cpc()?.positive())?;
    if tally.clicks as f64 * cvr < LEAST_EXPECTED {
        return None;
    }
    let phi = rules.dispersion.max(1.0);
    let shape = tally.conversions + WEIGHT;
    let clicks = tally.clicks as f64 + WEIGHT / cvr;
    // What a conversion may cost: for a ROAS target, by what this product's are worth.
    let aov = parent.aov().map(|aov| (Price::from(tally.value) + aov * WEIGHT) / shape);
    let per_conversion = rules.target.as_cpa(aov)?.positive()?;
    let affordable = per_conversion * (shape / clicks);
    // What is paid as conversions per click: how far in the tail of what is known of this product does it lie?
    let paid = cpc / per_conversion * clicks;
    let below = Gamma::new(shape / phi, 1.0 / phi).ok()?.cdf(paid);
    let p = (2.0 * below.min(1.0 - below)).min(1.0);
    // The bid moves as the price of a click should, by one step.
    let by = (halfway_bid(affordable, cpc) / cpc).clamp(1.0 - SHOCK, 1.0 + SHOCK);
    // A raise pays while the next conversion, at twice the mean price of the raised clicks, meets the target.
    let room = if rules.raise { affordable / (cpc * 2.0) } else { 0.0 };
    let by = if by > 1.0 { by.min(room) } else { by };
    let worth_it = (by - 1.0).abs() >= LEAST_CHANGE && (by > 1.0) == (affordable > cpc);
    worth_it.then_some(Proposal { affordable, bid: bid * by, p })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Target;
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

    const RULES: Rules = Rules { target: Target::Roas(4.0), dispersion: 1.0, raise: true };

    /// By hand: parent 5% and 100 a conversion; 400 clicks with 8 conversions of 100: (8 + 10) ÷ (400 + 200)
    /// × 100 ÷ 4 = 0.75 a click against 1.00 paid; halfway 0.875 of the bid.
    #[test]
    fn worked_by_hand() {
        let parent = tally(10_000, 1.0, 500.0, 100.0);
        let p = propose(&parent, &tally(400, 1.0, 8.0, 100.0), Price(1.2), RULES).unwrap();
        assert!(
            (p.affordable.units() - 0.75).abs() < 1e-9 && (p.bid.units() - 1.05).abs() < 1e-9,
            "{p:?}"
        );
        // Worth 2.92 a click: one step up, and none where the budget is the limit.
        let rich = tally(400, 1.0, 60.0, 100.0);
        let p = propose(&parent, &rich, Price(1.2), RULES).unwrap();
        assert!((p.bid.units() - 1.2 * 1.2).abs() < 1e-9 && p.p < 0.001, "{p:?}");
        assert_eq!(propose(&parent, &rich, Price(1.2), Rules { raise: false, ..RULES }), None);
        // Worth 1.25: the next click at a raised bid would cost more than it brings.
        assert_eq!(propose(&parent, &tally(400, 1.0, 22.0, 100.0), Price(1.2), RULES), None);
    }

    #[test]
    fn chance_moves_no_bid() {
        let parent = tally(10_000, 1.0, 500.0, 80.0);
        let alike = |c| propose(&parent, &tally(400, 1.0, c, 80.0), Price(1.2), RULES);
        let many: Vec<Proposal> = (10..28).filter_map(|c| alike(f64::from(c))).collect();
        assert!(believed(&many).iter().all(|b| !b), "{many:?}");
        assert_eq!(propose(&parent, &tally(10, 1.0, 0.0, 0.0), Price(1.2), RULES), None);
        assert_eq!(propose(&parent, &Tally::default(), Price(1.2), RULES), None);
        assert_eq!(propose(&Tally::default(), &parent, Price(1.2), RULES), None);
    }
}
