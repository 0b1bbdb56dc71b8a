//! What shall be different at a channel, and what the channel says to it.

use serde::{Deserialize, Serialize};
use tiller_core::Micros;
use utoipa::ToSchema;

use super::settings::{
    AdGroupSettings, Adjustment, Budget, CampaignSettings, Hours, ItemSettings, Negative,
    PlacesMode, Strategy,
};
use super::structure::{AdGroup, Structure};
use crate::report::{MatchType, Status};

/// What a change is made to, by the channel's own keys.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Place {
    /// The campaign.
    pub campaign: String,
    /// One of its ad groups.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ad_group: Option<String>,
    /// One of the ad group's items.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
}

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

impl Setting {
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
            | Self::Hours(_)
            | Self::Adjustment(_)
            | Self::Places(_)
            | Self::Negative { .. }) => other,
        }
    }
}

/// One change.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Change {
    /// The sender's own name for it; comes back in the answer.
    pub id: String,
    /// What it is made to.
    pub place: Place,
    /// What the sender believes is set now: where something else is, the change is refused.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub was: Option<Setting>,
    /// What shall be set.
    pub set: Setting,
}

/// Changes that are sent together.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Batch {
    /// At most 500.
    pub changes: Vec<Change>,
}

/// Why a channel does not make a change.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Refusal {
    /// There is no such campaign, ad group or item.
    NoSuchPlace,
    /// This can't be set there.
    NotHere,
    /// Something else is set than the sender believed.
    ChangedMeanwhile,
    /// Below the channel's least bid or budget.
    TooLow,
    /// Hours need a lifetime budget here.
    HoursNeedLifetime,
    /// Floors add up to more than the pooled budget.
    FloorsOverBudget,
    /// A value that makes no sense.
    BadValue,
    /// Too many changes in this hour.
    TooMany,
    /// The channel could not do it now.
    Unavailable,
}

/// What became of one change.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Answer {
    /// The sender's name for it.
    pub id: String,
    /// None if it was made.
    pub refused: Option<Refusal>,
    /// The reason in words.
    #[serde(default)]
    pub message: String,
}

/// The market's date, or by how much it shall move on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Clock {
    /// Days, 1 to 31.
    pub days: u16,
}

/// Why a request was not answered (RFC 9457).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// Status of the answer.
    pub status: u16,
    /// What happened.
    pub title: String,
    /// What to do.
    pub detail: String,
}

impl Setting {
    /// Whether two settings are values of one thing: they can't both be sent.
    pub fn same_thing(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Adjustment(a), Self::Adjustment(b)) => {
                a.dimension == b.dimension && a.segment == b.segment
            }
            (
                Self::Negative { text: a, match_type: m, .. },
                Self::Negative { text: b, match_type: n, .. },
            )
            | (
                Self::Keyword { text: a, match_type: m, .. },
                Self::Keyword { text: b, match_type: n, .. },
            ) => a.eq_ignore_ascii_case(b) && m == n,
            _ => std::mem::discriminant(self) == std::mem::discriminant(other),
        }
    }

    /// The word for what is set, as on the wire.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Status(_) => "status",
            Self::Budget(_) => "budget",
            Self::Bid(_) => "bid",
            Self::Strategy(_) => "strategy",
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

impl Structure {
    /// What is set now where a change would be made; none if it can't be made there.
    pub fn present(&self, place: &Place, setting: &Setting) -> Option<Setting> {
        let campaign = self.campaign(&place.campaign)?;
        let Some(group) = &place.ad_group else {
            return place.item.is_none().then(|| campaign.settings.present(setting))?;
        };
        let group = campaign.ad_groups.iter().find(|g| g.key == *group)?;
        match &place.item {
            Some(item) => group.items.iter().find(|i| i.key == *item)?.settings.present(setting),
            None => keyword_of(group, setting).or_else(|| group.settings.present(setting)),
        }
    }
}

impl CampaignSettings {
    /// The present value of a setting; none if a campaign has no such thing.
    pub fn present(&self, setting: &Setting) -> Option<Setting> {
        Some(match setting {
            Setting::Status(_) => Setting::Status(self.status),
            Setting::Budget(_) => Setting::Budget(self.budget?),
            Setting::Bid(_) => Setting::Bid(self.bid),
            Setting::Strategy(_) => Setting::Strategy(self.strategy),
            Setting::BidFloor(_) => Setting::BidFloor(self.bid_floor),
            Setting::BidCeiling(_) => Setting::BidCeiling(self.bid_ceiling),
            Setting::Hours(_) => Setting::Hours(self.hours.clone()),
            Setting::Adjustment(a) => Setting::Adjustment(Adjustment {
                percent: self
                    .adjustments
                    .iter()
                    .find(|b| b.dimension == a.dimension && b.segment == a.segment)
                    .map_or(0, |b| b.percent),
                ..a.clone()
            }),
            Setting::Places(_) => Setting::Places(self.places.as_ref()?.mode),
            Setting::Negative { text, match_type, .. } => {
                negative_in(&self.negatives, text, *match_type)
            }
            Setting::Floor(_) | Setting::Ceiling(_) | Setting::Keyword { .. } => return None,
        })
    }
}

impl AdGroupSettings {
    /// The present value of a setting; none if an ad group has no such thing. Its keywords are items.
    pub fn present(&self, setting: &Setting) -> Option<Setting> {
        Some(match setting {
            Setting::Status(_) => Setting::Status(self.status),
            Setting::Budget(_) => Setting::Budget(self.budget?),
            Setting::Bid(_) => Setting::Bid(self.bid),
            Setting::Floor(_) => Setting::Floor(self.floor),
            Setting::Ceiling(_) => Setting::Ceiling(self.ceiling),
            Setting::Negative { text, match_type, .. } => {
                negative_in(&self.negatives, text, *match_type)
            }
            _ => return None,
        })
    }
}

impl ItemSettings {
    /// The present value of a setting; none if an item has no such thing.
    pub fn present(&self, setting: &Setting) -> Option<Setting> {
        Some(match setting {
            Setting::Status(_) => Setting::Status(self.status),
            Setting::Bid(_) => Setting::Bid(self.bid),
            _ => return None,
        })
    }
}

fn keyword_of(group: &AdGroup, setting: &Setting) -> Option<Setting> {
    let Setting::Keyword { text, match_type, bid, .. } = setting else { return None };
    let there = group.items.iter().find(|i| {
        i.name.eq_ignore_ascii_case(text)
            && i.match_type == Some(*match_type)
            && i.settings.status == Status::Active
    });
    Some(Setting::Keyword {
        text: text.clone(),
        match_type: *match_type,
        bid: there.map_or(*bid, |i| i.settings.bid),
        present: there.is_some(),
    })
}

fn negative_in(there: &[Negative], text: &str, match_type: MatchType) -> Setting {
    let present =
        there.iter().any(|n| n.match_type == match_type && n.text.eq_ignore_ascii_case(text));
    Setting::Negative { text: text.to_owned(), match_type, present }
}
