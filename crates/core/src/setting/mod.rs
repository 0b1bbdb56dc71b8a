//! What can be set: budget, strategy, bids, hours, people, places, keywords, and whether a thing runs. Money is an
//! integer of millionths of the account's currency.
//!
//! - `budget`, `strategy`, `hours`, `people`, `item`: the values
//! - `present`: what is set on a campaign, an ad group or an item
//! - `limits`: what a channel does not allow
//! - `shared`: what campaigns that share a strategy have in common
//!
//! ```
//! use tiller_core::Micros;
//! use tiller_core::setting::{Budget, MatchType, Setting};
//! let word = |text: &str| {
//!     Setting::Negative { text: text.into(), match_type: MatchType::Exact, present: true }
//! };
//! assert!(word("Honey").same_thing(&word("honey")) && !word("honey").same_thing(&word("bees")));
//! let daily = |units| Setting::Budget(Budget::Daily { amount: Micros::from_units(units) });
//! assert!(daily(5.0).same_thing(&daily(6.0)), "of two, only one can be sent");
//! ```

mod budget;
mod hours;
mod item;
mod limits;
mod people;
mod present;
pub mod shared;
mod strategy;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

pub use budget::{Budget, Pacing};
pub use hours::{Hours, HoursError};
pub use item::{ItemKind, MatchType, Negative, Status};
pub use limits::Limits;
pub use people::{Adjustment, Dimension, Places, PlacesMode};
pub use present::{AdGroupSettings, CampaignSettings, ItemSettings};
pub use strategy::Strategy;

use crate::Micros;

/// A setting with its value.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "setting", content = "value", rename_all = "snake_case", deny_unknown_fields)]
pub enum Setting {
    /// Whether it runs; of a campaign, an ad group or an item.
    Status(Status),
    /// Its budget; of a campaign or an ad group.
    Budget(Budget),
    /// Its bid; of a campaign, an ad group or an item. None inherits.
    Bid(Option<Micros>),
    /// How a campaign bids, with its target.
    Strategy(Strategy),
    /// The shared strategy that a campaign takes part in, by its name; none is a strategy of its own. A name that nobody
    /// has yet makes a shared strategy of the campaign's own.
    Shared(Option<String>),
    /// The least that a campaign's automatic strategy bids.
    BidFloor(Option<Micros>),
    /// The most that a campaign's automatic strategy bids.
    BidCeiling(Option<Micros>),
    /// The least a day that an ad group gets of a pooled budget.
    Floor(Option<Micros>),
    /// The most a day that an ad group gets of a pooled budget.
    Ceiling(Option<Micros>),
    /// When a campaign runs; none is always.
    Hours(Option<Hours>),
    /// A campaign's bid for some people; 0 percent takes an adjustment away.
    Adjustment(Adjustment),
    /// Whom a campaign's places mean.
    Places(PlacesMode),
    /// A negative keyword of a campaign or an ad group, there or not.
    Negative {
        /// The words.
        text: String,
        /// How closely a search has to match them.
        match_type: MatchType,
        /// Whether it shall be there.
        present: bool,
    },
    /// A keyword of an ad group, there or not.
    Keyword {
        /// The words.
        text: String,
        /// How closely a search has to match them.
        match_type: MatchType,
        /// Its own bid.
        bid: Option<Micros>,
        /// Whether it shall be there; one that is taken away is paused, its figures stay.
        present: bool,
    },
}

/// What a setting is a value of, at its spot.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Thing<'a> {
    /// What there is one of: its budget, its bid.
    Of(&'static str),
    /// The bid for some people.
    People(Dimension, &'a str),
    /// A keyword or a negative one, as matched.
    Words(&'static str, String, MatchType),
}

impl Setting {
    /// What it makes of a campaign's bids, as a number that rises with them; none where it sets no number for them.
    ///
    /// ```
    /// use tiller_core::setting::{Setting, Strategy};
    /// assert_eq!(Setting::Strategy(Strategy::TargetRoas { target: 4.0 }).bid_level(), Some(0.25));
    /// assert_eq!(Setting::Strategy(Strategy::MostClicks).bid_level(), None);
    /// ```
    pub fn bid_level(&self) -> Option<f64> {
        let level = match self {
            Self::Bid(bid) | Self::BidCeiling(bid) => bid.map(Micros::to_units),
            Self::Strategy(Strategy::TargetCpa { target }) => Some(target.to_units()),
            Self::Strategy(s @ Strategy::TargetRoas { target }) => Some(s.as_bid(*target)),
            _ => None,
        };
        level.filter(|x| *x > 0.0 && x.is_finite())
    }

    /// Whether it sets what stands for bids: the bid itself, a strategy with its target, a highest bid.
    pub fn moves_bids(&self) -> bool {
        matches!(self, Self::Bid(_) | Self::Strategy(_) | Self::BidCeiling(_))
    }

    /// Whether both set the same thing in the same way: of two strategies, whether they are of one kind.
    pub fn alike(&self, other: &Self) -> bool {
        use std::mem::discriminant;
        match (self, other) {
            (Self::Strategy(a), Self::Strategy(b)) => discriminant(a) == discriminant(b),
            _ => discriminant(self) == discriminant(other),
        }
    }

    /// With all of its money as `f` has it.
    #[must_use]
    pub fn map_money(self, f: impl Fn(Micros) -> Micros) -> Self {
        match self {
            Self::Budget(Budget::Daily { amount }) => {
                Self::Budget(Budget::Daily { amount: f(amount) })
            }
            Self::Budget(Budget::Lifetime { amount, starts, ends }) => {
                Self::Budget(Budget::Lifetime { amount: f(amount), starts, ends })
            }
            Self::Strategy(Strategy::TargetCpa { target }) => {
                Self::Strategy(Strategy::TargetCpa { target: f(target) })
            }
            Self::Bid(m) => Self::Bid(m.map(f)),
            Self::BidFloor(m) => Self::BidFloor(m.map(f)),
            Self::BidCeiling(m) => Self::BidCeiling(m.map(f)),
            Self::Floor(m) => Self::Floor(m.map(f)),
            Self::Ceiling(m) => Self::Ceiling(m.map(f)),
            Self::Keyword { text, match_type, bid, present } => {
                Self::Keyword { text, match_type, bid: bid.map(f), present }
            }
            other @ (Self::Status(_)
            | Self::Strategy(_)
            | Self::Shared(_)
            | Self::Hours(_)
            | Self::Adjustment(_)
            | Self::Places(_)
            | Self::Negative { .. }) => other,
        }
    }

    /// What it is a value of: of two values of one thing, only one can be sent.
    pub fn thing(&self) -> Thing<'_> {
        match self {
            Self::Adjustment(a) => Thing::People(a.dimension, &a.segment),
            Self::Negative { text, match_type, .. } | Self::Keyword { text, match_type, .. } => {
                Thing::Words(self.word(), text.to_ascii_lowercase(), *match_type)
            }
            _ => Thing::Of(self.word()),
        }
    }

    /// Whether two settings are values of one thing.
    pub fn same_thing(&self, other: &Self) -> bool {
        self.thing() == other.thing()
    }

    /// The word for what is set, as on the wire.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Status(_) => "status",
            Self::Budget(_) => "budget",
            Self::Bid(_) => "bid",
            Self::Strategy(_) => "strategy",
            Self::Shared(_) => "shared",
            Self::BidFloor(_) => "bid_floor",
            Self::BidCeiling(_) => "bid_ceiling",
            Self::Floor(_) => "floor",
            Self::Ceiling(_) => "ceiling",
            Self::Hours(_) => "hours",
            Self::Adjustment(_) => "adjustment",
            Self::Places(_) => "places",
            Self::Negative { .. } => "negative",
            Self::Keyword { .. } => "keyword",
        }
    }
}
