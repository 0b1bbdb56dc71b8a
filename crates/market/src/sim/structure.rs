//! What there is at a channel, as the channel tells it.

use tiller_channel::wire::{AdGroup, Campaign, Item, Structure};

use super::campaign::CampaignSim;
use super::market::{AccountSim, Market};

impl Market {
    /// The channels of an account, in the world file's order.
    pub fn channels(&self, sim: &AccountSim) -> Vec<&str> {
        let mut names: Vec<&str> = Vec::new();
        for campaign in &self.of_world(sim).campaigns {
            if !names.contains(&campaign.channel.as_str()) {
                names.push(&campaign.channel);
            }
        }
        names
    }

    /// Everything of an account at a channel.
    pub fn structure(&self, sim: &AccountSim, channel: &str) -> Structure {
        let account = self.of_world(sim);
        let here = sim
            .campaigns
            .iter()
            .filter(|c| account.campaigns[c.index].channel == channel)
            .filter(|c| c.settings.launched.is_none_or(|l| l <= self.today));
        Structure {
            channel: self.channel(channel),
            currency: account.currency.clone(),
            time_zone: account.time_zone.clone(),
            first_day: self.first(),
            last_day: self.today,
            window_days: account.window,
            campaigns: here.map(|c| campaign(c, &account.campaigns[c.index])).collect(),
        }
    }
}

fn campaign(sim: &CampaignSim, world: &crate::world::Campaign) -> Campaign {
    let items = |g: usize| {
        sim.streams
            .iter()
            .filter(|s| s.ad_group == g)
            .map(|s| Item {
                key: s.key.clone(),
                kind: s.kind,
                name: s.item.clone(),
                match_type: s.match_type,
                settings: s.settings.clone(),
            })
            .collect()
    };
    Campaign {
        key: sim.key.clone(),
        name: world.name.clone(),
        settings: sim.settings.clone(),
        ad_groups: sim
            .groups
            .iter()
            .enumerate()
            .map(|(g, group)| AdGroup {
                key: group.key.clone(),
                name: world.ad_groups[g].name.clone(),
                settings: group.settings.clone(),
                items: items(g),
            })
            .collect(),
    }
}
