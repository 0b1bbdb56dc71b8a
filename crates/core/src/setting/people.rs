//! Whom an ad is meant for: people told apart, and places.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

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
    /// Income tier of the household; those of whom nothing is known are a segment too, as of age and gender.
    Income,
}

crate::words!(Dimension: Device "device", Country "country", Age "age", Gender "gender", Placement "placement", Hour "hour", Income "income");

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
