//! Bid rules (R1): thresholds that pause and re-bid keywords, listings and ads.
//!
//! - `limits`: thresholds, where they are set, and where each is inherited from
//! - `posture`: the thresholds that follow from price, margin and what is wanted of a product
//! - `spiral`: bids that are set from the average that the last one caused
//!
//! ```
//! use tiller_core::bid_rule::{Action, Ceiling, Thresholds, decide};
//! use tiller_core::{Micros, Tally};
//! let units = Micros::from_units;
//! let limits = Thresholds {
//!     spend_without_sale: units(20.0),
//!     ceiling: Ceiling::Acos(0.25),
//!     headroom: units(0.41),
//!     lowest_bid: units(0.3),
//!     clicks: 10,
//!     least_cvr: 0.0,
//! };
//! let counted = Tally { clicks: 40, spend: units(20.0), conversions: 1.0, value: units(60.0), ..Tally::default() };
//! // 20 spent of the 15 that 60 afford: a click may cost 15 ÷ 40.
//! assert_eq!(decide(&limits, &counted).action, Action::Bid(units(0.375)));
//! ```

pub mod limits;
pub mod posture;
pub mod spiral;

use schemars::JsonSchema;
use serde::Serialize;

pub use limits::{Ceiling, Field, Limits, Thresholds, Tree};
pub use posture::{Ground, Posture, Setup};
pub use spiral::Spiral;

use crate::metrics::Tally;
use crate::money::Micros;

/// From this share of the ceiling on a sale barely pays.
pub const NEAR: f64 = 0.9;
/// As many clicks as anybody waits for before acting (common practice, no source).
pub const MOST_CLICKS: u32 = 20;

/// What a rule does about an item.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Action {
    /// Nothing yet.
    Wait,
    /// It stops.
    Pause,
    /// Its bid.
    Bid(Micros),
}

/// The row of the table that held.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Case {
    /// It has spent what may be spent without a sale.
    SpentWithoutSale,
    /// It has had the clicks that may come without a sale.
    ClicksWithoutSale,
    /// Too few clicks to act on.
    TooFewClicks,
    /// Its sales cost more than they may.
    OverCeiling,
    /// They do, and a click that it can afford costs less than the lowest bid.
    UnderLowestBid,
    /// Its sales cost about what they may, and too few of its clicks bring one.
    BarelyPays,
    /// It pays: the bid goes by the average click.
    Pays,
}

/// What a rule does, and by which row.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Decision {
    /// The row.
    pub case: Case,
    /// What it does.
    pub action: Action,
}

/// The first row that holds for what was counted in the window. Amounts are compared in millionths, so that a limit
/// that is reached exactly is reached.
pub fn decide(limits: &Thresholds, counted: &Tally) -> Decision {
    let of = |case, action| Decision { case, action };
    let clicks = counted.clicks;
    if counted.conversions <= 0.0 {
        if counted.spend >= limits.spend_without_sale {
            return of(Case::SpentWithoutSale, Action::Pause);
        }
        if clicks >= limits.clicks.into() {
            return of(Case::ClicksWithoutSale, Action::Pause);
        }
    }
    if clicks < limits.clicks.into() {
        return of(Case::TooFewClicks, Action::Wait);
    }
    let each = |amount: Micros| Micros::from_units(amount.to_units() / clicks.max(1) as f64);
    let may = limits.ceiling.allows(counted);
    if counted.spend > may {
        return match each(may) {
            bid if bid < limits.lowest_bid => of(Case::UnderLowestBid, Action::Pause),
            bid => of(Case::OverCeiling, Action::Bid(bid)),
        };
    }
    let barely = counted.spend >= Micros::from_units(NEAR * may.to_units());
    let least = Micros::from_units(limits.least_cvr * clicks as f64);
    if barely && Micros::from_units(counted.conversions) < least {
        return of(Case::BarelyPays, Action::Pause);
    }
    of(Case::Pays, Action::Bid(limits.lowest_bid.max(each(counted.spend) + limits.headroom)))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn units(x: f64) -> Micros {
        Micros::from_units(x)
    }

    /// Spend without a sale 20, ACoS 35%, headroom 0.41, lowest bid 1.00, 10 clicks, a CVR of 10% near break-even.
    fn limits() -> Thresholds {
        Thresholds {
            spend_without_sale: units(20.0),
            ceiling: Ceiling::Acos(0.35),
            headroom: units(0.41),
            lowest_bid: units(1.0),
            clicks: 10,
            least_cvr: 0.1,
        }
    }

    fn counted(clicks: i64, spend: f64, conversions: f64, value: f64) -> Tally {
        let (spend, value) = (units(spend), units(value));
        Tally { impressions: 1000, clicks, spend, conversions, value }
    }

    /// Every row, on either side of each of its limits.
    #[test]
    fn the_table_cell_by_cell() {
        let pause = Action::Pause;
        let rows = [
            // Without a sale: spend or clicks, whichever comes first.
            (counted(4, 20.0, 0.0, 0.0), Case::SpentWithoutSale, pause),
            (counted(4, 19.999_999, 0.0, 0.0), Case::TooFewClicks, Action::Wait),
            (counted(10, 5.0, 0.0, 0.0), Case::ClicksWithoutSale, pause),
            (counted(9, 5.0, 0.0, 0.0), Case::TooFewClicks, Action::Wait),
            (counted(0, 0.0, 0.0, 0.0), Case::TooFewClicks, Action::Wait),
            (counted(12, 30.0, 0.0, 0.0), Case::SpentWithoutSale, pause),
            // With a sale it waits for clicks, however dear.
            (counted(9, 90.0, 1.0, 20.0), Case::TooFewClicks, Action::Wait),
            (counted(10, 90.0, 1.0, 100.0), Case::OverCeiling, Action::Bid(units(3.5))),
            // 35% of 40 is 14: reached, not passed; one of eight clicks converts, so it stays.
            (counted(16, 14.0, 2.0, 40.0), Case::Pays, Action::Bid(units(1.285))),
            (counted(10, 14.000_001, 2.0, 40.0), Case::OverCeiling, Action::Bid(units(1.4))),
            // Affordable is 0.7 a click, and the lowest bid 1.00; exactly 1.00 is affordable.
            (counted(20, 16.0, 2.0, 40.0), Case::UnderLowestBid, pause),
            (counted(14, 16.0, 2.0, 40.0), Case::OverCeiling, Action::Bid(units(1.0))),
            // From 90% of the ceiling on too few that convert are too few; 10% exactly is enough.
            (counted(21, 12.6, 2.0, 40.0), Case::BarelyPays, pause),
            (counted(21, 12.599_998, 2.0, 40.0), Case::Pays, Action::Bid(units(1.01))),
            (counted(20, 12.6, 2.0, 40.0), Case::Pays, Action::Bid(units(1.04))),
            // Never below the lowest bid.
            (counted(20, 4.0, 2.0, 40.0), Case::Pays, Action::Bid(units(1.0))),
            // Sales that bring nothing pay for nothing.
            (counted(20, 4.0, 2.0, 0.0), Case::UnderLowestBid, pause),
        ];
        for (what, case, action) in rows {
            assert_eq!(decide(&limits(), &what), Decision { case, action }, "{what:?}");
        }
    }

    #[test]
    fn the_same_by_what_a_sale_costs() {
        let by_sale = Thresholds { ceiling: Ceiling::Cpa(crate::Price(7.0)), ..limits() };
        let decision = decide(&by_sale, &counted(10, 14.0, 2.0, 0.0));
        assert_eq!(decision.action, Action::Bid(units(1.81)), "as much as two may cost");
        let decision = decide(&by_sale, &counted(10, 20.0, 2.0, 0.0));
        assert_eq!(decision.action, Action::Bid(units(1.4)));
    }

    #[test]
    fn without_a_least_rate_nothing_is_paused_for_it() {
        let any = Thresholds { least_cvr: 0.0, ..limits() };
        assert_eq!(decide(&any, &counted(21, 12.6, 2.0, 40.0)).case, Case::Pays);
    }
}
