//! What is set on a campaign, an ad group or an item, and the present value of a setting there.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{
    Adjustment, Budget, Hours, MatchType, Negative, Pacing, Places, Setting, Status, Strategy,
};
use crate::Micros;

/// What is set on a campaign.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CampaignSettings {
    /// Whether it runs.
    pub status: Status,
    /// The budget its ad groups share; none if each has its own.
    pub budget: Option<Budget>,
    /// How a day's money is spread.
    pub pacing: Pacing,
    /// How bids are made.
    pub strategy: Strategy,
    /// The shared strategy that this is, by its name; none where it is the campaign's own.
    #[serde(default)]
    pub shared: Option<String>,
    /// The bid of a manual strategy, unless an ad group or an item has its own; in millionths.
    pub bid: Option<Micros>,
    /// The least that an automatic strategy bids.
    pub bid_floor: Option<Micros>,
    /// The most that an automatic strategy bids.
    pub bid_ceiling: Option<Micros>,
    /// When it runs; none is always.
    pub hours: Option<Hours>,
    /// Bids raised or lowered for some people.
    #[serde(default)]
    pub adjustments: Vec<Adjustment>,
    /// The places it is meant for; none is the whole world.
    pub places: Option<Places>,
    /// Searches for which nothing is shown.
    #[serde(default)]
    pub negatives: Vec<Negative>,
    /// The conversion events that it counts.
    pub counts: Vec<String>,
    /// The day it was launched, if the channel knows.
    pub launched: Option<NaiveDate>,
}

/// What is set on an ad group.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AdGroupSettings {
    /// Whether it runs.
    pub status: Status,
    /// Its own budget, where the campaign has none.
    pub budget: Option<Budget>,
    /// The least a day that it gets of a pooled budget.
    pub floor: Option<Micros>,
    /// The most a day that it gets of a pooled budget.
    pub ceiling: Option<Micros>,
    /// Its bid, unless an item has its own.
    pub bid: Option<Micros>,
    /// Searches for which nothing is shown.
    #[serde(default)]
    pub negatives: Vec<Negative>,
}

/// What is set on an item.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ItemSettings {
    /// Whether it runs.
    pub status: Status,
    /// Its own bid.
    pub bid: Option<Micros>,
}

impl CampaignSettings {
    /// A campaign that runs and bids in some way, with nothing else set.
    pub fn bidding(strategy: Strategy) -> Self {
        Self {
            status: Status::Active,
            budget: None,
            pacing: Pacing::Even,
            strategy,
            shared: None,
            bid: None,
            bid_floor: None,
            bid_ceiling: None,
            hours: None,
            adjustments: Vec::new(),
            places: None,
            negatives: Vec::new(),
            counts: Vec::new(),
            launched: None,
        }
    }

    /// Sets it; what a campaign does not have is left as it is.
    pub fn put(&mut self, set: &Setting) {
        match set {
            Setting::Status(s) => self.status = *s,
            Setting::Budget(b) => self.budget = self.budget.and(Some(*b)),
            Setting::Bid(m) => self.bid = *m,
            Setting::Strategy(s) => self.strategy = *s,
            Setting::Shared(name) => self.shared.clone_from(name),
            Setting::BidFloor(m) => self.bid_floor = *m,
            Setting::BidCeiling(m) => self.bid_ceiling = *m,
            Setting::Hours(h) => self.hours.clone_from(h),
            Setting::Adjustment(a) => {
                self.adjustments.retain(|b| b.dimension != a.dimension || b.segment != a.segment);
                if a.percent != 0 {
                    self.adjustments.push(a.clone());
                }
            }
            Setting::Places(mode) => {
                if let Some(places) = &mut self.places {
                    places.mode = *mode;
                }
            }
            Setting::Negative { text, match_type, present } => {
                put_negative(&mut self.negatives, text, *match_type, *present);
            }
            Setting::Floor(_) | Setting::Ceiling(_) | Setting::Keyword { .. } => {}
        }
    }

    /// What stands for its bid, as a number: the bid itself where it is set by hand, else its strategy's target or highest
    /// bid; none where nothing does.
    pub fn stands_for_bid(&self) -> Option<f64> {
        let units = |m: Option<Micros>| m.map(Micros::to_units);
        let number = match self.strategy {
            Strategy::ManualCpc | Strategy::ManualCpm => units(self.bid),
            Strategy::TargetCpa { target } => units(Some(target)),
            Strategy::TargetRoas { target } => Some(target),
            Strategy::MostClicks | Strategy::MostConversions | Strategy::MostValue => {
                units(self.bid_ceiling)
            }
        };
        number.filter(|x| *x > 0.0)
    }

    /// The same as a number that rises with its bids.
    pub fn bid_level(&self) -> Option<f64> {
        self.stands_for_bid().map(|number| self.strategy.as_bid(number))
    }

    /// The present value of a setting; none if a campaign has no such thing.
    pub fn present(&self, setting: &Setting) -> Option<Setting> {
        Some(match setting {
            Setting::Status(_) => Setting::Status(self.status),
            Setting::Budget(_) => Setting::Budget(self.budget?),
            Setting::Bid(_) => Setting::Bid(self.bid),
            Setting::Strategy(_) => Setting::Strategy(self.strategy),
            Setting::Shared(_) => Setting::Shared(self.shared.clone()),
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
    /// Sets it; what an ad group does not have is left as it is, and its keywords are items.
    pub fn put(&mut self, set: &Setting) {
        match set {
            Setting::Status(s) => self.status = *s,
            Setting::Budget(b) => self.budget = self.budget.and(Some(*b)),
            Setting::Bid(m) => self.bid = *m,
            Setting::Floor(m) => self.floor = *m,
            Setting::Ceiling(m) => self.ceiling = *m,
            Setting::Negative { text, match_type, present } => {
                put_negative(&mut self.negatives, text, *match_type, *present);
            }
            _ => {}
        }
    }

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
    /// Sets it; what an item does not have is left as it is.
    pub fn put(&mut self, set: &Setting) {
        match set {
            Setting::Status(s) => self.status = *s,
            Setting::Bid(m) => self.bid = *m,
            _ => {}
        }
    }

    /// The present value of a setting; none if an item has no such thing.
    pub fn present(&self, setting: &Setting) -> Option<Setting> {
        Some(match setting {
            Setting::Status(_) => Setting::Status(self.status),
            Setting::Bid(_) => Setting::Bid(self.bid),
            _ => return None,
        })
    }
}

fn put_negative(all: &mut Vec<Negative>, text: &str, match_type: MatchType, present: bool) {
    all.retain(|n| n.match_type != match_type || !n.text.eq_ignore_ascii_case(text));
    if present {
        all.push(Negative { text: text.to_owned(), match_type });
    }
}

fn negative_in(there: &[Negative], text: &str, match_type: MatchType) -> Setting {
    let present =
        there.iter().any(|n| n.match_type == match_type && n.text.eq_ignore_ascii_case(text));
    Setting::Negative { text: text.to_owned(), match_type, present }
}
