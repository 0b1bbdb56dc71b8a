//! What a campaign would do that doesn't exist yet.

use serde::{Deserialize, Serialize};
use tiller_core::Micros;
use tiller_core::setting::{Dimension, ItemKind, Strategy};
use utoipa::ToSchema;

/// People of one kind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Who {
    /// What tells them apart.
    pub dimension: Dimension,
    /// Which of them.
    pub segment: String,
}

/// A campaign to be.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Draft {
    /// What its items are.
    pub kind: ItemKind,
    /// Its keywords, listings, ads or audiences, by name; none is what campaigns of its kind usually hold here.
    #[serde(default)]
    pub items: Vec<String>,
    /// The only people that it is for; of a dimension that is not named, all. Places are countries.
    #[serde(default)]
    pub people: Vec<Who>,
    /// How it bids.
    pub strategy: Strategy,
    /// Its bid where that is set by hand, else the most that its strategy bids; in millionths.
    pub bid: Option<Micros>,
    /// Its budget a day, in millionths.
    pub budget: Micros,
}

/// A range of counts.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Between {
    /// Lower end.
    pub low: f64,
    /// Upper end.
    pub high: f64,
}

/// A range of money, in millionths.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MoneyBetween {
    /// Lower end.
    pub low: Micros,
    /// Upper end.
    pub high: Micros,
}

/// What a channel expects of a campaign to be: ranges that hold what comes in about four of five cases. A channel knows its
/// auctions, not what its clicks are worth to the account.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Estimate {
    /// People reached in four weeks, where it counts them.
    pub reach: Option<Between>,
    /// Times shown a day.
    pub impressions: Between,
    /// Clicks a day.
    pub clicks: Between,
    /// Spend a day.
    pub spend: MoneyBetween,
    /// Bids for a click that win a quarter, and three quarters, of its auctions.
    pub bids: MoneyBetween,
    /// The budget a day above which more buys nothing.
    pub enough: MoneyBetween,
}
