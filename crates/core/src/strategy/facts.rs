//! What the advice on a strategy goes by.

use serde::{Deserialize, Serialize};

use crate::setting::Strategy;

/// What a campaign is run for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Aim {
    /// To be seen.
    Awareness,
    /// Visits.
    Traffic,
    /// People who leave their name.
    Leads,
    /// Orders.
    Sales,
}
crate::words!(Aim: Awareness "awareness", Traffic "traffic", Leads "leads", Sales "sales");

/// What is known of what results are worth.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Values {
    /// No value is counted.
    Absent,
    /// Each is worth about the same.
    Alike,
    /// They differ.
    Differ,
}
crate::words!(Values: Absent "absent", Alike "alike", Differ "differ");

/// A strategy without its target.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Kind {
    /// A bid a click.
    ManualCpc,
    /// A bid a thousand impressions.
    ManualCpm,
    /// Most clicks.
    MostClicks,
    /// Most conversions.
    MostConversions,
    /// Most value.
    MostValue,
    /// Target CPA.
    TargetCpa,
    /// Target ROAS.
    TargetRoas,
}
crate::words!(Kind: ManualCpc "manual_cpc", ManualCpm "manual_cpm", MostClicks "most_clicks",
    MostConversions "most_conversions", MostValue "most_value", TargetCpa "target_cpa", TargetRoas "target_roas");

impl Kind {
    /// Whether the channel sets the bids.
    pub fn automatic(self) -> bool {
        !matches!(self, Self::ManualCpc | Self::ManualCpm)
    }

    /// The strategy; none where it needs a target.
    pub fn without_target(self) -> Option<Strategy> {
        Some(match self {
            Self::ManualCpc => Strategy::ManualCpc,
            Self::ManualCpm => Strategy::ManualCpm,
            Self::MostClicks => Strategy::MostClicks,
            Self::MostConversions => Strategy::MostConversions,
            Self::MostValue => Strategy::MostValue,
            Self::TargetCpa | Self::TargetRoas => return None,
        })
    }
}

impl From<Strategy> for Kind {
    fn from(strategy: Strategy) -> Self {
        match strategy {
            Strategy::ManualCpc => Self::ManualCpc,
            Strategy::ManualCpm => Self::ManualCpm,
            Strategy::MostClicks => Self::MostClicks,
            Strategy::MostConversions => Self::MostConversions,
            Strategy::MostValue => Self::MostValue,
            Strategy::TargetCpa { .. } => Self::TargetCpa,
            Strategy::TargetRoas { .. } => Self::TargetRoas,
        }
    }
}

/// What the advice on a campaign's strategy goes by.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Facts {
    /// What it is run for.
    pub aim: Aim,
    /// What is known of its results' worth.
    pub values: Values,
    /// Conversions in the last 30 settled days.
    pub conversions: f64,
    /// Days since its first conversion; 0 without any.
    pub history: f64,
    /// Days that it runs; infinite without an end.
    pub flight: f64,
    /// Whether somebody has said what a result may cost.
    pub target_known: bool,
    /// Whether spend that runs away would be worse than results that are missed.
    pub fears_runaway: bool,
}
