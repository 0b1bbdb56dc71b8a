//! What a rule looks at, each with its days, its names and those it is compared with.

use std::collections::HashMap;

use tiller_core::bid_volume::Elasticity;
use tiller_core::custom_rule::Things as Level;
use tiller_core::history::History;
use tiller_core::ids::CampaignId;
use tiller_core::rehearsal::Thing;
use tiller_core::rehearsal::worth::Campaigns;
use tiller_core::spot::Spot;
use tiller_core::{Price, Target};

/// Names from the campaign down; empty where there is none.
pub type Place = [String; 3];

/// A thing's place in words.
pub fn in_words(place: &Place) -> String {
    let parts = place.iter().filter(|n| !n.is_empty());
    parts.map(String::as_str).collect::<Vec<_>>().join(" › ")
}

/// Things with what they are compared with.
#[derive(Clone, Debug, Default)]
pub struct Things {
    /// Each with its days.
    pub things: Vec<Thing>,
    /// Their names, in the same order.
    pub places: Vec<Place>,
    /// All of a group as one.
    pub groups: Vec<History>,
    /// Each campaign's days.
    pub campaigns: Campaigns,
}

/// What holds for all that is in a campaign.
#[derive(Clone, Copy, Debug)]
pub(super) struct OfCampaign<'a> {
    pub name: &'a str,
    /// Whom its campaigns are compared with.
    pub channel: &'a str,
    pub target: Option<Target>,
    pub dispersion: f64,
    pub aov: Option<Price>,
    pub volume: Elasticity,
}

/// An item with its days.
#[derive(Clone, Debug)]
pub(super) struct ItemDays {
    pub spot: Spot,
    pub ad_group: String,
    pub item: String,
    pub history: History,
}

impl Things {
    /// Of items: themselves, their ad groups or their campaigns. Campaigns are compared with those of their channel, the
    /// others with those of their campaign.
    pub(super) fn of(
        level: Level,
        items: Vec<ItemDays>,
        campaigns: &HashMap<CampaignId, OfCampaign<'_>>,
    ) -> Self {
        let up = |spot: Spot| match level {
            Level::Campaigns => Spot::of(spot.campaign),
            Level::AdGroups => spot.up().unwrap_or(spot),
            Level::Items | Level::Terms => spot,
        };
        let mut order: Vec<Spot> = Vec::new();
        let mut gathered: HashMap<Spot, Vec<ItemDays>> = HashMap::new();
        for item in items {
            let spot = up(item.spot);
            let of = gathered.entry(spot).or_insert_with(|| {
                order.push(spot);
                Vec::new()
            });
            of.push(item);
        }
        let mut all = Self::default();
        let mut groups: HashMap<&str, usize> = HashMap::new();
        let mut of_campaign: HashMap<CampaignId, usize> = HashMap::new();
        let mut members: Vec<Vec<usize>> = Vec::new();
        for spot in order {
            let Some((of, campaign)) = gathered.remove(&spot).zip(campaigns.get(&spot.campaign))
            else {
                continue;
            };
            let group = match level {
                Level::Campaigns => groups.entry(campaign.channel).or_insert(members.len()),
                _ => of_campaign.entry(spot.campaign).or_insert(members.len()),
            };
            let group = *group;
            if group == members.len() {
                members.push(Vec::new());
            }
            members[group].push(all.things.len());
            let named = |spot: Option<_>, name: &str| {
                if spot.is_some() { name.to_owned() } else { String::new() }
            };
            all.places.push([
                campaign.name.to_owned(),
                named(spot.ad_group.map(|g| g.0), &of[0].ad_group),
                named(spot.item.map(|i| i.0), &of[0].item),
            ]);
            let history = match <[ItemDays; 1]>::try_from(of) {
                Ok([one]) => one.history,
                Err(of) => History::together(of.iter().map(|i| &i.history)),
            };
            all.things.push(Thing {
                spot,
                history,
                target: campaign.target,
                dispersion: campaign.dispersion,
                aov: campaign.aov,
                group,
                bid: None,
                bids: true,
                budget: None,
                stopped: false,
                volume: campaign.volume,
            });
        }
        let whole = |of: &Vec<usize>| History::together(of.iter().map(|n| &all.things[*n].history));
        all.groups = members.iter().map(whole).collect();
        all
    }
}
