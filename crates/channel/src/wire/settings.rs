//! What can be set on a campaign, an ad group or an item. Money is an integer of millionths of the
//! account's currency.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use tiller_core::Micros;
use utoipa::ToSchema;

use crate::report::{MatchType, Status};

/// Money to spend, by the day or over a flight.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Budget {
    /// So much a day on average over a month of 30.4 days.
    Daily {
        /// Millionths of the currency.
        amount: Micros,
    },
    /// So much from the first to the last day of a flight.
    Lifetime {
        /// Millionths of the currency.
        amount: Micros,
        /// First day.
        starts: NaiveDate,
        /// Last day.
        ends: NaiveDate,
    },
}

impl Budget {
    /// Money a day: of a flight, its even share.
    pub fn per_day(self) -> Micros {
        match self {
            Self::Daily { amount } => amount,
            Self::Lifetime { amount, starts, ends } => {
                Micros::new(amount.get() / ((ends - starts).num_days() + 1).max(1))
            }
        }
    }
}

/// How a day's money is spread over its hours.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Pacing {
    /// So that it lasts the day.
    #[default]
    Even,
    /// As fast as demand allows, until it is gone.
    Fast,
}

/// How bids are made.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Strategy {
    /// A fixed bid a click.
    ManualCpc,
    /// A fixed bid a thousand impressions.
    ManualCpm,
    /// The most clicks that the budget buys.
    MostClicks,
    /// The most conversions that the budget buys.
    MostConversions,
    /// The most conversion value that the budget buys.
    MostValue,
    /// Target × predicted conversion rate.
    TargetCpa {
        /// What a conversion may cost, in millionths.
        target: Micros,
    },
    /// Predicted value a click ÷ target.
    TargetRoas {
        /// What a unit of spend has to return.
        target: f64,
    },
}

impl Strategy {
    /// Whether the channel sets the bids from what it has learned.
    pub fn automatic(self) -> bool {
        !matches!(self, Self::ManualCpc | Self::ManualCpm)
    }
}

/// Whom places mean.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum PlacesMode {
    /// People who are in the places.
    In,
    /// Also people elsewhere who are interested in them.
    Interested,
}

/// The places that a campaign is meant for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Places {
    /// Whom they mean.
    pub mode: PlacesMode,
    /// Countries by name; none is the whole world.
    pub targets: Vec<String>,
}

/// What people are told apart by.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, ToSchema,
)]
#[serde(rename_all = "snake_case")]
pub enum Dimension {
    /// Phone, desktop, tablet.
    Device,
    /// Country.
    Country,
    /// Age band.
    Age,
    /// Gender.
    Gender,
    /// Where the ad stood.
    Placement,
    /// Hour of the day, in the account's time zone.
    Hour,
}

impl Dimension {
    /// All of them.
    pub const ALL: [Self; 6] =
        [Self::Device, Self::Country, Self::Age, Self::Gender, Self::Placement, Self::Hour];

    /// The word in files and addresses.
    pub fn word(self) -> &'static str {
        match self {
            Self::Device => "device",
            Self::Country => "country",
            Self::Age => "age",
            Self::Gender => "gender",
            Self::Placement => "placement",
            Self::Hour => "hour",
        }
    }
}

/// A bid that is raised or lowered for some people.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Adjustment {
    /// What tells them apart.
    pub dimension: Dimension,
    /// Which of them.
    pub segment: String,
    /// Percent added to the bid; −100 leaves them out.
    #[schema(minimum = -100, maximum = 900)]
    pub percent: i16,
}

/// A search term for which nothing is shown.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Negative {
    /// The words.
    pub text: String,
    /// How closely a search has to match them.
    pub match_type: MatchType,
}

/// The hours of a week in which a campaign runs, from Monday 0:00 in the account's time zone.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(try_from = "Vec<Option<i16>>", into = "Vec<Option<i16>>")]
#[schema(value_type = Vec<Option<i16>>)]
pub struct Hours(Vec<Option<i16>>);

/// Why a week of hours can't be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum HoursError {
    /// Not a week.
    #[error("a week has 168 hours; {0} were given")]
    Length(usize),
    /// An adjustment out of bounds.
    #[error("an hour's adjustment lies between -90 and 900 percent; {0} was given")]
    Adjustment(i16),
    /// Nothing left.
    #[error("all hours are off; pause the campaign instead")]
    Never,
}

impl Hours {
    /// A week has so many hours.
    pub const WEEK: usize = 168;

    /// From the week's hours: none is off, else percent added to the bid.
    pub fn new(hours: Vec<Option<i16>>) -> Result<Self, HoursError> {
        if hours.len() != Self::WEEK {
            return Err(HoursError::Length(hours.len()));
        }
        if let Some(wrong) = hours.iter().flatten().find(|p| !(-90..=900).contains(*p)) {
            return Err(HoursError::Adjustment(*wrong));
        }
        if hours.iter().all(Option::is_none) {
            return Err(HoursError::Never);
        }
        Ok(Self(hours))
    }

    /// On in the given hours of the given days (Monday is 0), off otherwise.
    pub fn only(on: impl Fn(usize, usize) -> bool) -> Result<Self, HoursError> {
        Self::new((0..Self::WEEK).map(|h| on(h / 24, h % 24).then_some(0)).collect())
    }

    /// What holds in an hour of the week.
    pub fn at(&self, weekday: usize, hour: usize) -> Option<i16> {
        self.0[(weekday % 7) * 24 + hour % 24]
    }

    /// How many hours of the week it runs.
    pub fn on(&self) -> usize {
        self.0.iter().flatten().count()
    }
}

impl TryFrom<Vec<Option<i16>>> for Hours {
    type Error = HoursError;
    fn try_from(hours: Vec<Option<i16>>) -> Result<Self, HoursError> {
        Self::new(hours)
    }
}

impl From<Hours> for Vec<Option<i16>> {
    fn from(hours: Hours) -> Self {
        hours.0
    }
}

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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_week_is_whole_or_refused() {
        assert_eq!(Hours::new(vec![Some(0); 24]), Err(HoursError::Length(24)));
        assert_eq!(Hours::new(vec![None; 168]), Err(HoursError::Never));
        assert_eq!(Hours::new(vec![Some(-100); 168]), Err(HoursError::Adjustment(-100)));
        let office = Hours::only(|day, hour| day < 5 && (9..17).contains(&hour)).unwrap();
        assert_eq!((office.on(), office.at(0, 9), office.at(5, 9)), (40, Some(0), None));
        let json = serde_json::to_string(&office).unwrap();
        assert_eq!(serde_json::from_str::<Hours>(&json).unwrap(), office);
        assert!(serde_json::from_str::<Hours>("[0,0]").is_err());
    }

    #[test]
    fn a_flight_is_spread_over_its_days() {
        let day = |d| NaiveDate::from_ymd_opt(2026, 11, d).unwrap();
        let flight =
            Budget::Lifetime { amount: Micros::new(140_000_000), starts: day(1), ends: day(7) };
        assert_eq!(flight.per_day(), Micros::new(20_000_000));
    }
}
