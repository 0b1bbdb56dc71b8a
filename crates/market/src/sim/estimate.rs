//! What a channel expects of a campaign that doesn't exist yet: from its truth, with the vagueness that channels have.

use tiller_channel::Micros;
use tiller_channel::wire::{Between, Draft, Estimate, MoneyBetween};
use tiller_core::setting::{Adjustment, Budget, CampaignSettings, Dimension, Places, PlacesMode};

use super::campaign::{CampaignSim, Home};
use super::chance::{around, number, rng};
use super::day::{everyone, meets, who};
use super::demand::{self, Moment};
use super::market::{AccountSim, Market};
use super::stream::Stream;
use super::truth::Ahead;

/// Days ahead that an estimate is the mean of.
const DAYS: u32 = 28;
/// By how much a channel is wrong of volume and of price, as a standard deviation of the logarithm, and by how much its range reaches beyond
/// what it says: it holds the truth in about four of five cases.
const WRONG: f64 = 0.18;
const REACHES: f64 = 0.32;
/// Shares of the auctions that the least and the most advisable bid win.
const WINS: (f64, f64) = (0.25, 0.75);

/// Why nothing can be said.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unknown {
    /// The channel has no demand of this kind.
    Kind,
    /// A bid or a budget that is not above 0, or a bid by hand that is missing.
    Value,
    /// It knows no such people.
    People,
}

impl Market {
    /// What a channel expects of a campaign to be.
    pub fn estimate(
        &self,
        account: &AccountSim,
        channel: &str,
        draft: &Draft,
    ) -> Result<Estimate, Unknown> {
        let above = |m: Micros| m > Micros::ZERO;
        let by_hand = !draft.strategy.automatic();
        if !above(draft.budget) || draft.bid.map_or(by_hand, |b| !above(b)) {
            return Err(Unknown::Value);
        }
        // The account's own campaigns there tell best, else somebody else's.
        let others = self.accounts.iter().filter(|a| a.index != account.index);
        let (home, sim) = std::iter::once(account)
            .chain(others)
            .find_map(|a| Some((a, self.usual(a, channel, draft)?)))
            .ok_or(Unknown::Kind)?;
        let of_world = self.of_world(home);
        let campaign = &of_world.campaigns[sim.index];
        let at = Home { world: &self.world, account: of_world, campaign };
        let sim = drafted(sim, at, draft)?;
        Ok(said(self, home, &sim, at, draft))
    }

    /// The campaign of a kind at a channel that stands for one to be: the one that meets most of its items, else the
    /// one of middle demand.
    fn usual<'a>(
        &self,
        account: &'a AccountSim,
        channel: &str,
        draft: &Draft,
    ) -> Option<&'a CampaignSim> {
        let of_world = self.of_world(account);
        let mut here: Vec<&CampaignSim> = account
            .campaigns
            .iter()
            .filter(|c| {
                let campaign = &of_world.campaigns[c.index];
                campaign.channel == channel && campaign.kind == draft.kind
            })
            .collect();
        let knows = |c: &CampaignSim| c.streams.iter().filter(|s| named(s, &draft.items)).count();
        if let Some(best) = here.iter().max_by_key(|c| knows(c)).filter(|c| knows(c) > 0) {
            return Some(best);
        }
        let demand = |c: &CampaignSim| of_world.campaigns[c.index].auctions;
        here.sort_by(|a, b| demand(a).total_cmp(&demand(b)));
        here.get(here.len() / 2).copied()
    }
}

fn named(stream: &Stream, items: &[String]) -> bool {
    items.iter().any(|i| i.trim().eq_ignore_ascii_case(&stream.item))
}

/// The campaign to be: the streams of its items, what is set of it, and a strategy that has learned.
fn drafted(usual: &CampaignSim, home: Home, draft: &Draft) -> Result<CampaignSim, Unknown> {
    let mut sim = CampaignSim { days: Vec::new(), ..usual.clone() };
    let known: Vec<Stream> =
        sim.streams.iter().filter(|s| named(s, &draft.items)).cloned().collect();
    let unknown = draft.items.len().saturating_sub(known.len());
    if !draft.items.is_empty() {
        // What it has never seen is taken for as good as what it has.
        let usual = Stream {
            auctions: sim.streams.iter().map(|s| s.auctions).sum::<f64>()
                / sim.streams.len() as f64,
            cvr: 1.0,
            ctr: 1.0,
            competition: 1.0,
            value: 1.0,
            ..sim.streams[0].clone()
        };
        sim.streams = known.into_iter().chain(std::iter::repeat_n(usual, unknown)).collect();
    }
    for stream in &mut sim.streams {
        stream.ad_group = 0;
        stream.settings.bid = None;
        stream.settings.status = tiller_core::setting::Status::Active;
        stream.terms.iter_mut().for_each(|t| t.blocked.clear());
    }
    sim.groups.truncate(1);
    for group in &mut sim.groups {
        group.settings.budget = None;
        group.settings.bid = None;
        group.settings.floor = None;
        group.settings.ceiling = None;
        group.settings.status = tiller_core::setting::Status::Active;
    }
    let by_hand = !draft.strategy.automatic();
    sim.settings = CampaignSettings {
        budget: Some(Budget::Daily { amount: draft.budget }),
        bid: draft.bid.filter(|_| by_hand),
        bid_ceiling: draft.bid.filter(|_| !by_hand),
        places: sim.settings.places.clone(),
        ..CampaignSettings::bidding(draft.strategy)
    };
    sim.learning.conversions = f64::INFINITY;
    only(&mut sim, home, draft)?;
    sim.purse = super::purse::Purse::default();
    Ok(sim)
}

/// Leaves out everybody but the people that it is for.
fn only(sim: &mut CampaignSim, home: Home, draft: &Draft) -> Result<(), Unknown> {
    for dimension in Dimension::ALL {
        let of = draft.people.iter().filter(|w| w.dimension == dimension);
        let wanted: Vec<&str> = of.map(|w| w.segment.as_str()).collect();
        if wanted.is_empty() {
            continue;
        }
        let parts = home.people().map(|p| p.parts(dimension)).unwrap_or_default();
        if wanted.iter().any(|w| !parts.iter().any(|p| p.segment == *w)) {
            return Err(Unknown::People);
        }
        if dimension == Dimension::Country {
            let targets = wanted.iter().map(|w| (*w).to_owned()).collect();
            sim.settings.places = Some(Places { mode: PlacesMode::In, targets });
            continue;
        }
        let others = parts.iter().filter(|p| !wanted.contains(&p.segment.as_str()));
        sim.settings.adjustments.extend(others.map(|p| Adjustment {
            dimension,
            segment: p.segment.clone(),
            percent: -100,
        }));
    }
    Ok(())
}

fn said(
    market: &Market,
    account: &AccountSim,
    sim: &CampaignSim,
    home: Home,
    draft: &Draft,
) -> Estimate {
    let ahead = Ahead::of(market, account, sim, DAYS);
    let budget = draft.budget.to_units();
    let day = ahead.outlook(Some(budget), 1.0);
    let enough = ahead.outlook(Some(budget.max(1.0) * 1000.0), 1.0).spend;
    // Asked the same again, it says the same again.
    let asked = serde_json::to_string(draft).unwrap_or_default();
    let mut chance = rng(market.world.seed, &[9, number(&home.account.key), number(&asked)]);
    let mut wrong = || around(WRONG, &mut chance);
    let (volume, price) = (wrong(), wrong());
    let count = |x: f64| {
        let x = x.max(1e-3);
        Between { low: rounded(x * (-REACHES).exp()), high: rounded(x * REACHES.exp()) }
    };
    let money = |x: f64| {
        let Between { low, high } = count(x);
        let coin = |x: f64| Micros::from_units(x.max(0.01));
        MoneyBetween { low: coin(low), high: coin(high) }
    };
    let spend = (day.spend * volume).min(budget);
    let audience = home.campaign.audience;
    let reach = audience.map(|people| {
        people * (1.0 - (-day.impressions * volume * f64::from(DAYS) / people.max(1.0)).exp())
    });
    let (least, most) =
        (bid_that_wins(sim, home, market, WINS.0), bid_that_wins(sim, home, market, WINS.1));
    let coin = |x: f64| Micros::from_units(rounded(x * price).max(0.01));
    let money_spent = money(spend);
    Estimate {
        reach: reach.map(count),
        impressions: count(day.impressions * volume),
        clicks: count(day.clicks * spend / day.spend.max(1e-9) / price),
        spend: MoneyBetween {
            high: money_spent.high.min(draft.budget),
            low: money_spent.low.min(draft.budget),
        },
        bids: MoneyBetween { low: coin(least), high: coin(most) },
        enough: money(enough * volume),
    }
}

/// Two digits are as much as a channel tells.
fn rounded(x: f64) -> f64 {
    let unit = 10f64.powf(x.abs().max(1e-9).log10().floor() - 1.0);
    (x / unit).round() * unit
}

/// The bid for a click that wins a share of the auctions of a day like today, by bisection on its logarithm.
fn bid_that_wins(sim: &CampaignSim, home: Home, market: &Market, share: f64) -> f64 {
    let at = Moment { date: market.today, since: market.since() };
    let weather = demand::expected(home.world, home.account, home.campaign, at);
    let mix = who(sim, home).unwrap_or_else(everyone);
    let met = meets(sim, home, &weather, &mix, at.since);
    let all: f64 = met.iter().map(|m| m.auctions).sum();
    let won = |bid: f64| met.iter().map(|m| m.auctions * m.wins(bid)).sum::<f64>();
    let (mut low, mut high) = (1e-3f64.ln(), 1e4f64.ln());
    for _ in 0..40 {
        let middle = f64::midpoint(low, high);
        if won(middle.exp()) < share * all { low = middle } else { high = middle }
    }
    high.exp()
}
