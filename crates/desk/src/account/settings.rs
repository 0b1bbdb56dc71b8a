//! What is set at the channels, as they told it last and with what they made since.

use std::collections::HashMap;
use std::sync::Arc;

use serde::de::DeserializeOwned;
use serde_json::Value;
use tiller_channel::wire::Place;
use tiller_core::ids::{AccountId, AdGroupId, CampaignId, ChannelId, ItemId};
use tiller_core::setting::{
    AdGroupSettings, CampaignSettings, ItemSettings, Limits, Setting, Status, shared,
};
use tiller_core::spot::{Spot, Subject};
use tiller_store::connections::{self, Connection};
use tiller_store::structure::{self, SetCampaign, SetGroup, SetItem, Standing};
use tiller_store::{PgPool, StoreError};

use crate::DeskError;
use crate::book::Book;
use crate::kept::{Kept, Stamp};

static KEPT: Kept<(), Set> = Kept::new(24);

/// The settings of an account: of its campaigns and ad groups, and of the items that were asked for.
#[derive(Clone, Debug)]
pub struct Settings {
    account: AccountId,
    set: Arc<Set>,
    items: HashMap<ItemId, (SetItem, ItemSettings)>,
}

#[derive(Clone, Debug, Default)]
struct Set {
    campaigns: HashMap<CampaignId, (SetCampaign, CampaignSettings)>,
    groups: HashMap<AdGroupId, (SetGroup, AdGroupSettings)>,
    connections: HashMap<ChannelId, (Connection, Limits)>,
}

fn read<T: DeserializeOwned>(value: &Value) -> Result<T, StoreError> {
    Ok(T::deserialize(value)?)
}

impl Set {
    async fn load(db: &PgPool, account: AccountId) -> Result<Self, DeskError> {
        let mut all = Self::default();
        for (id, c) in structure::campaigns(db, account).await? {
            let set = read(&c.settings)?;
            all.campaigns.insert(id, (c, set));
        }
        for (id, g) in structure::ad_groups(db, account).await? {
            let set = read(&g.settings)?;
            all.groups.insert(id, (g, set));
        }
        for c in connections::list(db, account).await? {
            let limits = c.limits.as_ref().map(read).transpose()?.unwrap_or_default();
            all.connections.insert(c.channel, (c, limits));
        }
        Ok(all)
    }
}

impl Settings {
    /// As they are now.
    pub async fn of_account(db: &PgPool, account: AccountId) -> Result<Self, DeskError> {
        Self::of_state(db, account, &Stamp::read(db, account).await?).await
    }

    /// As they were in the state that a book was read of.
    pub async fn of_book(db: &PgPool, book: &Book) -> Result<Self, DeskError> {
        match &book.stamp {
            Some(stamp) => Self::of_state(db, book.account.id, stamp).await,
            None => Self::of_account(db, book.account.id).await,
        }
    }

    async fn of_state(db: &PgPool, account: AccountId, stamp: &Stamp) -> Result<Self, DeskError> {
        let set = KEPT.get(stamp, (), || Set::load(db, account)).await?;
        Ok(Self { account, set, items: HashMap::new() })
    }

    /// With those of some items.
    pub async fn with_items(mut self, db: &PgPool, items: &[ItemId]) -> Result<Self, DeskError> {
        if !items.is_empty() {
            for (id, i) in structure::items(db, self.account, items).await? {
                let set = read(&i.settings)?;
                self.items.insert(id, (i, set));
            }
        }
        Ok(self)
    }

    /// The same without items.
    #[must_use]
    pub fn of_campaigns(&self) -> Self {
        Self { account: self.account, set: Arc::clone(&self.set), items: HashMap::new() }
    }

    /// A campaign's settings, where its channel told them.
    pub fn campaign(&self, id: CampaignId) -> Option<&CampaignSettings> {
        self.set.campaigns.get(&id).map(|(_, s)| s)
    }

    /// A campaign's channel.
    pub fn channel_of(&self, id: CampaignId) -> Option<ChannelId> {
        self.set.campaigns.get(&id).map(|(c, _)| c.channel)
    }

    /// The campaigns of a campaign's channel, itself among them.
    fn beside(
        &self,
        id: CampaignId,
    ) -> impl Iterator<Item = (CampaignId, &CampaignSettings)> + Clone {
        let channel = self.channel_of(id);
        let here = self.set.campaigns.iter().filter(move |(_, (c, _))| Some(c.channel) == channel);
        here.map(|(id, (_, s))| (*id, s))
    }

    /// The other campaigns that share a campaign's strategy, in order of their numbers.
    pub fn sharers(&self, id: CampaignId) -> Vec<CampaignId> {
        let name = self.campaign(id).and_then(|c| c.shared.as_deref());
        self.members(id, name).into_iter().filter(|m| *m != id).collect()
    }

    /// The campaigns of a campaign's channel that take part in a shared strategy, in order of their numbers.
    fn members(&self, id: CampaignId, name: Option<&str>) -> Vec<CampaignId> {
        if name.is_none() {
            return Vec::new();
        }
        let shares = |c: &CampaignSettings| c.shared.as_deref() == name;
        let mut all: Vec<_> =
            self.beside(id).filter(|(_, c)| shares(c)).map(|(id, _)| id).collect();
        all.sort_unstable();
        all
    }

    /// Takes a change of a campaign over, where a strategy is shared or will be, and tells what is set besides: where,
    /// what was set there, and what is.
    pub fn share(&mut self, spot: Spot, set: &Setting) -> Vec<(CampaignId, Setting, Setting)> {
        let shares = self.campaign(spot.campaign).is_some_and(|c| c.shared.is_some());
        let concerned = matches!(set, Setting::Shared(_)) || (shares && shared::is_term(set));
        if spot.ad_group.is_some() || !concerned {
            return Vec::new();
        }
        let mut all = shared::implied(spot.campaign, set, self.beside(spot.campaign));
        all.sort_by_key(|(id, _)| *id);
        let was = |id, set: &Setting| self.campaign(id)?.present(set);
        let besides: Vec<_> =
            all.into_iter().filter_map(|(id, set)| Some((id, was(id, &set)?, set))).collect();
        self.put(spot, set);
        for (id, _, set) in &besides {
            self.put(Spot::of(*id), set);
        }
        besides
    }

    /// Takes over what has been set at a spot.
    pub fn put(&mut self, spot: Spot, set: &Setting) {
        if let Some(item) = spot.item {
            if let Some((_, there)) = self.items.get_mut(&item) {
                there.put(set);
            }
            return;
        }
        let all = Arc::make_mut(&mut self.set);
        if let Some(group) = spot.ad_group {
            if let Some((_, there)) = all.groups.get_mut(&group) {
                there.put(set);
            }
        } else if let Some((_, there)) = all.campaigns.get_mut(&spot.campaign) {
            there.put(set);
        }
    }

    /// All that is set at a spot, as it is kept; none where its channel told of nothing there.
    pub fn standing(&self, spot: Spot) -> Result<Option<Standing>, StoreError> {
        let settings = if let Some(item) = spot.item {
            self.items.get(&item).map(|(_, s)| serde_json::to_value(s))
        } else if let Some(group) = spot.ad_group {
            self.set.groups.get(&group).map(|(_, s)| serde_json::to_value(s))
        } else {
            self.set.campaigns.get(&spot.campaign).map(|(_, s)| serde_json::to_value(s))
        };
        Ok(settings.transpose()?.map(|settings| Standing { spot, settings }))
    }

    /// Why a setting is barred from a campaign by what a shared strategy is, if it is.
    pub fn barred(&self, spot: Spot, set: &Setting) -> Option<&'static str> {
        let own = self.campaign(spot.campaign).filter(|_| spot.ad_group.is_none())?;
        let name = match set {
            Setting::Shared(name) => name.as_deref(),
            _ => own.shared.as_deref(),
        };
        let exists = self.members(spot.campaign, name).iter().any(|m| *m != spot.campaign);
        shared::barred(set, own, exists)
    }

    /// The connection of a campaign's channel.
    pub fn connection(&self, campaign: CampaignId) -> Option<&Connection> {
        self.channel(campaign).map(|(c, _)| c)
    }

    fn channel(&self, campaign: CampaignId) -> Option<&(Connection, Limits)> {
        self.set.connections.get(&self.set.campaigns.get(&campaign)?.0.channel)
    }

    /// What a campaign's channel does not allow.
    pub fn limits(&self, campaign: CampaignId) -> Limits {
        self.channel(campaign).map(|(_, limits)| *limits).unwrap_or_default()
    }

    /// The ad groups of a campaign.
    pub fn ad_groups_of(
        &self,
        id: CampaignId,
    ) -> impl Iterator<Item = (AdGroupId, &AdGroupSettings)> {
        self.set
            .groups
            .iter()
            .filter(move |(_, (g, _))| g.campaign == id)
            .map(|(id, (_, s))| (*id, s))
    }

    /// An ad group's name.
    pub fn group_name(&self, id: AdGroupId) -> Option<&str> {
        self.set.groups.get(&id).map(|(g, _)| g.name.as_str())
    }

    /// The spot of a campaign, an ad group or an item, if the channel told of it.
    pub fn spot(&self, subject: Subject) -> Option<Spot> {
        match subject {
            Subject::Campaign(id) => self.set.campaigns.contains_key(&id).then_some(Spot {
                campaign: id,
                ad_group: None,
                item: None,
            }),
            Subject::AdGroup(id) => {
                let (group, _) = self.set.groups.get(&id)?;
                Some(Spot { campaign: group.campaign, ad_group: Some(id), item: None })
            }
            Subject::Item(id) => {
                let (item, _) = self.items.get(&id)?;
                let (group, _) = self.set.groups.get(&item.ad_group)?;
                Some(Spot {
                    campaign: group.campaign,
                    ad_group: Some(item.ad_group),
                    item: Some(id),
                })
            }
        }
    }

    /// What is set now where a change would be made; none if it can't be made there, or is unknown.
    pub fn present(&self, spot: Spot, setting: &Setting) -> Option<Setting> {
        match (spot.ad_group, spot.item) {
            (_, Some(item)) => self.items.get(&item)?.1.present(setting),
            (Some(group), None) => {
                let set = &self.set.groups.get(&group)?.1;
                self.keyword(group, setting).or_else(|| set.present(setting))
            }
            (None, None) => self.set.campaigns.get(&spot.campaign)?.1.present(setting),
        }
    }

    /// Whether a keyword is among the items of an ad group that were loaded; the channel has the last word.
    fn keyword(&self, group: AdGroupId, setting: &Setting) -> Option<Setting> {
        let Setting::Keyword { text, match_type, bid, .. } = setting else { return None };
        let there = self.items.values().find(|(i, set)| {
            i.ad_group == group
                && i.name.eq_ignore_ascii_case(text)
                && i.match_type == match_type.word()
                && set.status == Status::Active
        });
        Some(Setting::Keyword {
            text: text.clone(),
            match_type: *match_type,
            bid: there.map_or(*bid, |(_, set)| set.bid),
            present: there.is_some(),
        })
    }

    /// The bid in force at a spot: its own, or the one that it inherits.
    pub fn bid(&self, spot: Spot) -> Option<tiller_core::Micros> {
        let item = spot.item.and_then(|i| self.items.get(&i)).and_then(|(_, s)| s.bid);
        let group = spot.ad_group.and_then(|g| self.set.groups.get(&g)).and_then(|(_, s)| s.bid);
        item.or(group).or_else(|| self.campaign(spot.campaign)?.bid)
    }

    /// The channel's keys of a spot.
    pub fn keys(&self, spot: Spot) -> Option<Place> {
        let group = |id| self.set.groups.get(&id).map(|(g, _)| g.key.clone());
        let item = |id| self.items.get(&id).map(|(i, _)| i.key.clone());
        Some(Place {
            campaign: self.set.campaigns.get(&spot.campaign)?.0.key.clone(),
            ad_group: match spot.ad_group {
                Some(id) => Some(group(id)?),
                None => None,
            },
            item: match spot.item {
                Some(id) => Some(item(id)?),
                None => None,
            },
        })
    }

    /// The names of a spot, from the campaign down.
    pub fn names(&self, spot: Spot) -> Option<String> {
        let campaign = &self.set.campaigns.get(&spot.campaign)?.0.name;
        let group = spot.ad_group.and_then(|id| self.set.groups.get(&id)).map(|(g, _)| &g.name);
        let item = spot.item.and_then(|id| self.items.get(&id)).map(|(i, _)| &i.name);
        let parts = [Some(campaign), group, item].into_iter().flatten();
        let parts: Vec<&str> = parts.map(String::as_str).filter(|n| !n.is_empty()).collect();
        Some(parts.join(" › "))
    }
}
