//! Rehearsal (R5): what a rule would have done on past days, on what had been reported by each, and what came of the
//! things that it would have touched. Nothing is changed, and what was counted stays what was counted: of a thing that
//! it would have bid for otherwise the rest is an estimate.
//!
//! - `rounds`: what the rule would have done, day by day
//! - `campaigns`: what a campaign makes of money that is freed
//! - `worth`: money kept and conversions lost by it
//! - `late`: conversions that are still to come
//! - `path`: bids and what a click cost, round by round

pub mod campaigns;
pub mod late;
pub mod path;
pub mod rounds;
pub mod worth;

use chrono::NaiveDate;

use crate::bid_rule::Case;
use crate::bid_volume::{Elasticity, Range};
use crate::custom_rule::{Action, Lack};
use crate::history::History;
use crate::metrics::Tally;
use crate::money::{Currency, Price};
use crate::spot::Spot;
use crate::target::Target;
use crate::window::{Window, last_settled};

pub use campaigns::Campaigns;
pub use rounds::{look, rehearse, rehearse_beside};
pub use worth::{Outcome, Sum, sum};

/// A thing that a rule looks at.
#[derive(Clone, Debug)]
pub struct Thing {
    /// Where it is.
    pub spot: Spot,
    /// Its days.
    pub history: History,
    /// What a result may cost.
    pub target: Option<Target>,
    /// Variance of a day's conversions over their mean, at least 1.
    pub dispersion: f64,
    /// What a conversion of its campaign is worth.
    pub aov: Option<Price>,
    /// Which of the groups it is compared in.
    pub group: usize,
    /// What stands for its bid now, where that is known.
    pub bid: Option<Price>,
    /// Whether a rule can set its bid: not where a strategy makes it.
    pub bids: bool,
    /// Whether its campaign's bids are set by hand; none where nobody tells.
    pub by_hand: Option<bool>,
    /// Its daily budget now, where it has one.
    pub budget: Option<Price>,
    /// Whether it is stopped now.
    pub stopped: bool,
    /// How clicks and their price answer to its bid.
    pub volume: Elasticity,
}

/// What a rule looks at, and what that lies in.
#[derive(Clone, Debug)]
pub struct Stage {
    /// Each with its days.
    pub things: Vec<Thing>,
    /// All of a group as one.
    pub groups: Vec<History>,
    /// Each campaign's days.
    pub campaigns: Campaigns,
    /// Of all money; bids and budgets are set in its coins.
    pub currency: Currency,
}

impl Stage {
    /// With nothing on it.
    pub fn of(currency: Currency) -> Self {
        let (things, groups) = (Vec::new(), Vec::new());
        Self { things, groups, campaigns: Campaigns::default(), currency }
    }

    /// An amount as it would be set.
    fn coins(&self, amount: Price) -> Price {
        self.currency.coins(amount.micros()).into()
    }
}

/// Days of rehearsal.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Days {
    /// The first morning on which the rule may run.
    pub from: NaiveDate,
    /// The last one.
    pub to: NaiveDate,
    /// The last day that is known now.
    pub known: NaiveDate,
    /// Days until conversions count as complete.
    pub settle: u64,
}

impl Days {
    /// The days of a window whose conversions are complete.
    fn complete(self, window: Window) -> Option<Window> {
        Window::new(window.from(), window.to().min(last_settled(self.known, self.settle)))
    }
}

/// Why a rule does something, or does not.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Because {
    /// A row of the bid rule's table.
    Case(Case),
    /// Its condition holds.
    Holds,
    /// It holds, and too little is known.
    Lacks(Lack),
}

/// What a rule makes of a thing.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Found {
    /// The thing, by its place among those it was asked of.
    pub thing: usize,
    /// What it does; none where it waits.
    pub action: Option<Action>,
    /// Why.
    pub because: Because,
    /// What was known of it.
    pub known: Tally,
}

/// Something that it would have done.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Act {
    /// The morning.
    pub day: NaiveDate,
    /// What, and on what.
    pub found: Found,
    /// What stood for the thing's bid or budget before, and what would have.
    pub from_to: Option<(Price, Price)>,
    /// What was counted of the thing from that day on, until it would have touched it again.
    pub followed: Tally,
    /// Money that it would have kept, by an estimate except where the thing would have stopped; below 0 it would have
    /// spent more.
    pub kept: Range,
    /// Conversions that it would have lost; below 0 it would have got more.
    pub lost: Range,
    /// Revenue that it would have lost.
    pub lost_value: Range,
    /// Whether that was right.
    pub outcome: Outcome,
}

/// All that a rule would have done.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Rehearsal {
    /// The mornings on which it would have run.
    pub rounds: Vec<NaiveDate>,
    /// What it would have done, in order of days.
    pub acts: Vec<Act>,
    /// How often it looked at something and waited for evidence.
    pub waits: usize,
    /// How often it looked at something.
    pub looks: usize,
    /// Things that it would have stopped and let run again, or whose bid it would have moved up and down again.
    pub undone: Vec<usize>,
}
