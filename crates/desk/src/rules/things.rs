//! What a rule looks at, each with its days, its names and those it is compared with.

use std::collections::HashMap;

use tiller_core::bid_volume::Elasticity;
use tiller_core::custom_rule::Things as Level;
use tiller_core::history::History;
use tiller_core::ids::CampaignId;
use tiller_core::rehearsal::campaigns::CampaignDay;
use tiller_core::rehearsal::{Stage, Thing};
use tiller_core::spot::Spot;
use tiller_core::{Currency, Micros, Price, Share, Target, Window};

use crate::book::Entry;

/// Names from the campaign down; empty where there is none.
pub type Place = [String; 3];

/// A thing's place in words.
pub fn in_words(place: &Place) -> String {
    let parts = place.iter().filter(|n| !n.is_empty());
    parts.map(String::as_str).collect::<Vec<_>>().join(" › ")
}

/// Things with what they are compared with, and their names.
#[derive(Clone, Debug)]
pub struct Things {
    /// The things.
    pub stage: Stage,
    /// Their names, in the same order.
    pub places: Vec<Place>,
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
    pub by_hand: Option<bool>,
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
    /// A campaign's days in a window: how far its budget was used up, and what it lost by that.
    pub(super) fn add_campaign(&mut self, id: CampaignId, entry: &Entry, window: Window) {
        for day in entry.days.iter().filter(|d| window.contains(d.day)) {
            let of = CampaignDay {
                budget: day.budget.map(Micros::to_units).filter(|b| *b > 0.0),
                lost: day.lost_to_budget.map(Share::get),
                counted: day.tally,
            };
            self.stage.campaigns.add(id, day.day, of);
        }
    }

    /// Of items: themselves, their ad groups or their campaigns. Campaigns are compared with those of their channel, the
    /// others with those of their campaign.
    pub(super) fn of(
        level: Level,
        items: Vec<ItemDays>,
        currency: Currency,
        campaigns: &HashMap<CampaignId, OfCampaign<'_>>,
    ) -> Self {
        let up = |spot: Spot| match level {
            Level::Campaigns => Spot::of(spot.campaign),
            Level::AdGroups => spot.up().unwrap_or(spot),
            Level::Items | Level::Terms => spot,
        };
        // The terms of an ad group are where it is: they are told apart by name.
        let name = |item: &ItemDays| match level {
            Level::Terms => item.item.clone(),
            _ => String::new(),
        };
        let mut order: Vec<(Spot, String)> = Vec::new();
        let mut gathered: HashMap<(Spot, String), Vec<ItemDays>> = HashMap::new();
        for item in items {
            let which = (up(item.spot), name(&item));
            let of = gathered.entry(which.clone()).or_insert_with(|| {
                order.push(which);
                Vec::new()
            });
            of.push(item);
        }
        let mut all = Self { stage: Stage::of(currency), places: Vec::new() };
        let mut groups: HashMap<&str, usize> = HashMap::new();
        let mut of_campaign: HashMap<CampaignId, usize> = HashMap::new();
        let mut members: Vec<Vec<usize>> = Vec::new();
        for which in order {
            let (of, spot) = (gathered.remove(&which), which.0);
            let Some((of, campaign)) = of.zip(campaigns.get(&spot.campaign)) else { continue };
            let group = match level {
                Level::Campaigns => groups.entry(campaign.channel).or_insert(members.len()),
                _ => of_campaign.entry(spot.campaign).or_insert(members.len()),
            };
            let group = *group;
            if group == members.len() {
                members.push(Vec::new());
            }
            members[group].push(all.stage.things.len());
            let named = |has: bool, name: &str| if has { name.to_owned() } else { String::new() };
            all.places.push([
                campaign.name.to_owned(),
                named(spot.ad_group.is_some(), &of[0].ad_group),
                named(spot.item.is_some() || level == Level::Terms, &of[0].item),
            ]);
            let history = match <[ItemDays; 1]>::try_from(of) {
                Ok([one]) => one.history,
                Err(of) => History::together(of.iter().map(|i| &i.history)),
            };
            all.stage.things.push(Thing {
                spot,
                history,
                target: campaign.target,
                dispersion: campaign.dispersion,
                aov: campaign.aov,
                group,
                bid: None,
                bids: true,
                by_hand: campaign.by_hand,
                budget: None,
                stopped: false,
                volume: campaign.volume,
            });
        }
        let whole =
            |of: &Vec<usize>| History::together(of.iter().map(|n| &all.stage.things[*n].history));
        all.stage.groups = members.iter().map(whole).collect();
        all
    }
}
