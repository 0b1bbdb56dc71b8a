//! What shall be different at a channel, and what the channel says to it.

use serde::{Deserialize, Serialize};
use tiller_core::setting::{Setting, Status};
use utoipa::ToSchema;

use super::structure::{AdGroup, Structure};

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
