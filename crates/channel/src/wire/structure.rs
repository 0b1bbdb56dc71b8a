//! What there is at a channel.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use tiller_core::setting::{
    AdGroupSettings, CampaignSettings, ItemKind, ItemSettings, Limits, MatchType,
};
use utoipa::ToSchema;

/// A channel that a token may speak to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChannelInfo {
    /// Its name.
    pub name: String,
    /// What it does not allow.
    pub limits: Limits,
}

/// Everything of one account at one channel.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Structure {
    /// The channel with its limits.
    pub channel: ChannelInfo,
    /// ISO 4217 code of all money.
    pub currency: String,
    /// IANA time zone of all days.
    pub time_zone: String,
    /// First day that reports reach back to.
    pub first_day: NaiveDate,
    /// Last day that has ended and can be reported.
    pub last_day: NaiveDate,
    /// How many days after a click a conversion may still be reported.
    pub window_days: u16,
    /// The campaigns.
    pub campaigns: Vec<Campaign>,
}

/// A campaign.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Campaign {
    /// The channel's own key; never changes.
    pub key: String,
    /// Its name.
    pub name: String,
    /// What is set.
    pub settings: CampaignSettings,
    /// Its ad groups.
    pub ad_groups: Vec<AdGroup>,
}

/// An ad group.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AdGroup {
    /// The channel's own key.
    pub key: String,
    /// Its name.
    pub name: String,
    /// What is set.
    pub settings: AdGroupSettings,
    /// Its items.
    pub items: Vec<Item>,
}

/// A keyword, listing, ad or audience.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Item {
    /// The channel's own key.
    pub key: String,
    /// What it is.
    pub kind: ItemKind,
    /// Its name.
    pub name: String,
    /// Of a keyword.
    pub match_type: Option<MatchType>,
    /// What is set.
    pub settings: ItemSettings,
}

impl Structure {
    /// Finds a campaign by its key.
    pub fn campaign(&self, key: &str) -> Option<&Campaign> {
        self.campaigns.iter().find(|c| c.key == key)
    }
}
