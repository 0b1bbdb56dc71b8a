//! What limits a campaign's volume: its budget, its bid, or neither.

use crate::{Price, Share};

/// What is known of a campaign's budget and bid over the window.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct BudgetUse {
    /// Days whose budget is known.
    pub days: u32,
    /// Of them, days that spent at least 95% of it.
    pub full_days: u32,
    /// Spend ÷ budget over those days.
    pub used: Option<f64>,
    /// The present bid or bid ceiling.
    pub ceiling: Option<Price>,
    /// Share of the auctions that went to others for want of bid, where the channel tells it.
    pub lost_to_bid: Option<Share>,
}

/// Share of the auctions lost for want of bid from which on the bid is what holds the volume.
const LOST: f64 = 0.2;

/// What holds a campaign's volume.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LimitedBy {
    /// Spend reaches 95% of the budget on at least half of the days.
    Budget,
    /// Under 80% of the budget is spent, and auctions are lost for want of bid; where the channel does not
    /// tell that, the CPC stands at the bid.
    Bid,
    /// Neither.
    Neither,
    /// The reports tell no budget.
    Unknown,
}

impl BudgetUse {
    /// Which of them holds it, where a click costs `cpc`.
    pub fn limited_by(&self, cpc: Option<Price>) -> LimitedBy {
        match self.used {
            None => LimitedBy::Unknown,
            Some(_) if 2 * self.full_days >= self.days => LimitedBy::Budget,
            Some(used) if used < 0.8 && self.loses_for_its_bid(cpc) => LimitedBy::Bid,
            Some(_) => LimitedBy::Neither,
        }
    }

    /// Whether auctions are lost for want of bid; where the channel does not tell that, whether the CPC stands at the bid.
    pub fn loses_for_its_bid(&self, cpc: Option<Price>) -> bool {
        let at_ceiling = || matches!((cpc, self.ceiling), (Some(c), Some(b)) if c >= b * 0.95);
        self.lost_to_bid.map_or_else(at_ceiling, |l| l.get() >= LOST)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn held_by_budget_or_bid() {
        let budget_use = |days, full_days, used, ceiling| BudgetUse {
            days,
            full_days,
            used: Some(used),
            ceiling,
            lost_to_bid: None,
        };
        assert_eq!(budget_use(28, 14, 0.97, None).limited_by(Some(Price(1.0))), LimitedBy::Budget);
        assert_eq!(
            budget_use(28, 13, 0.7, Some(Price(1.0))).limited_by(Some(Price(0.96))),
            LimitedBy::Bid
        );
        assert_eq!(
            budget_use(28, 0, 0.7, Some(Price(2.0))).limited_by(Some(Price(0.96))),
            LimitedBy::Neither
        );
        let told = |lost| BudgetUse {
            lost_to_bid: Share::new(lost),
            ..budget_use(28, 0, 0.7, Some(Price(2.0)))
        };
        assert_eq!(told(0.4).limited_by(Some(Price(0.96))), LimitedBy::Bid);
        assert_eq!(told(0.05).limited_by(Some(Price(2.0))), LimitedBy::Neither);
        assert_eq!(BudgetUse::default().limited_by(Some(Price(0.96))), LimitedBy::Unknown);
    }
}
