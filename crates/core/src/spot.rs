//! Where: a campaign, one of its ad groups, one of that group's items. What is set at a spot is inherited from
//! [`Spot::up`] where nothing is set at it.
//!
//! ```
//! use tiller_core::ids::{AdGroupId, CampaignId, ItemId};
//! use tiller_core::spot::{Spot, Subject};
//!
//! let item = Spot::of(CampaignId(1)).ad_group(AdGroupId(2)).item(ItemId(3));
//! assert_eq!(item.subject(), Subject::Item(ItemId(3)));
//! assert_eq!(item.up(), Some(Spot::of(CampaignId(1)).ad_group(AdGroupId(2))));
//! assert!(Spot::of(CampaignId(1)).contains(item));
//! ```

use serde::{Deserialize, Serialize};

use crate::ids::{AdGroupId, CampaignId, ItemId};

/// A place with all that it lies in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Spot {
    /// The campaign.
    pub campaign: CampaignId,
    /// One of its ad groups.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ad_group: Option<AdGroupId>,
    /// One of that group's items.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub item: Option<ItemId>,
}

/// A thing by its own number alone, as an address or a form names it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Subject {
    /// A campaign.
    Campaign(CampaignId),
    /// An ad group.
    AdGroup(AdGroupId),
    /// A keyword, listing, ad or audience.
    Item(ItemId),
}

impl Spot {
    /// A campaign.
    #[must_use]
    pub fn of(campaign: CampaignId) -> Self {
        Self { campaign, ad_group: None, item: None }
    }

    /// One of its ad groups.
    #[must_use]
    pub fn ad_group(self, ad_group: AdGroupId) -> Self {
        Self { ad_group: Some(ad_group), item: None, ..self }
    }

    /// One of its items.
    #[must_use]
    pub fn item(self, item: ItemId) -> Self {
        Self { item: Some(item), ..self }
    }

    /// The thing that it is.
    #[must_use]
    pub fn subject(self) -> Subject {
        match (self.ad_group, self.item) {
            (_, Some(id)) => Subject::Item(id),
            (Some(id), None) => Subject::AdGroup(id),
            (None, None) => Subject::Campaign(self.campaign),
        }
    }

    /// What it lies in; nothing above a campaign.
    #[must_use]
    pub fn up(self) -> Option<Self> {
        match self.subject() {
            Subject::Item(_) => Some(Self { item: None, ..self }),
            Subject::AdGroup(_) => Some(Self::of(self.campaign)),
            Subject::Campaign(_) => None,
        }
    }

    /// Whether it is another spot, or the other lies in it.
    #[must_use]
    pub fn contains(self, other: Self) -> bool {
        std::iter::successors(Some(other), |s| s.up()).any(|s| s == self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn spots() -> impl Strategy<Value = Spot> {
        let part = || proptest::option::of(1..3i64);
        (1..3i64, part(), part()).prop_map(|(campaign, ad_group, item)| {
            let spot = Spot::of(CampaignId(campaign));
            let Some(ad_group) = ad_group else { return spot };
            let spot = spot.ad_group(AdGroupId(ad_group));
            item.map_or(spot, |item| spot.item(ItemId(item)))
        })
    }

    proptest! {
        #[test]
        fn the_way_up_ends_at_the_campaign(spot in spots()) {
            let way: Vec<Spot> = std::iter::successors(Some(spot), |s| s.up()).collect();
            prop_assert_eq!(way.last(), Some(&Spot::of(spot.campaign)));
            prop_assert!(way.len() <= 3 && way.iter().all(|s| s.contains(spot)));
        }

        #[test]
        fn of_two_that_hold_each_other_each_is_the_other(a in spots(), b in spots()) {
            prop_assert_eq!(a.contains(b) && b.contains(a), a == b);
            if a.contains(b) {
                prop_assert_eq!(a.campaign, b.campaign);
                prop_assert!(a.ad_group.is_none() || a.ad_group == b.ad_group);
            }
        }
    }
}
