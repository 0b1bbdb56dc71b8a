//! One day of a campaign, hour by hour.

use std::sync::Arc;
use tiller_core::week::WeekHour;

use chrono::Datelike;
use rand_chacha::ChaCha8Rng;
use tiller_channel::Micros;
use tiller_core::setting::{Budget, Pacing, Status, Strategy};

use super::auction::Competition;
use super::bidding::{Meets, bids};
use super::campaign::{CampaignDay, CampaignSim, Home, HourTally, Result, StreamDay};
use super::chance::{around, binomial, multinomial, number, poisson, rng};
use super::demand::{self, Moment, Weather};
use super::people::{Mix, Reach, mix};
use super::purse::Allowance;
use crate::world::Campaign;

/// Share of the impressions that an audience still remembers a day later.
const REMEMBERED: f64 = 0.93;
/// Share of what an ad group has shown that still counts a day later when a channel compares.
const LOOKS_KEPT: f64 = 0.97;

/// Items that share money for a day.
struct Unit {
    members: Vec<usize>,
    allowance: Allowance,
    /// Expected spend if money were no matter.
    expected: f64,
    spent: f64,
}

/// An item's day as it is expected, money being no matter.
pub struct Expected {
    /// What it meets.
    pub meets: Meets,
    /// Its bid for a click.
    pub bid: f64,
    /// Impressions.
    pub impressions: f64,
    /// Price of a click.
    pub price: f64,
}

impl Expected {
    /// Expected spend.
    pub fn spend(&self) -> f64 {
        self.impressions * self.meets.ctr * self.price
    }
}

/// What an ad that was seen so often loses in clicks.
pub fn tired(seen: f64, audience: f64) -> f64 {
    let depth = seen / audience.max(1.0);
    let reached = 1.0 - (-depth).exp();
    let frequency = if reached > 1e-9 { depth / reached } else { 1.0 };
    1.0 / (1.0 + 0.3 * (frequency - 1.0))
}

/// What each item meets on a day in a given weather; items that do not run meet no auctions.
pub fn meets(
    sim: &CampaignSim,
    home: Home,
    weather: &Weather,
    mix: &Mix,
    since: i64,
) -> Vec<Meets> {
    let c = home.campaign;
    let freshness = match (c.audience, sim.fatigue.usual) {
        (Some(audience), Some(usual)) => tired(sim.fatigue.seen, audience) / usual,
        _ => 1.0,
    };
    sim.streams
        .iter()
        .map(|s| {
            let (open, worth) = s.open(since);
            let runs = if sim.runs(s) { 1.0 } else { 0.0 };
            let worn = c.wear.map_or(1.0, |life| 0.9f64.powf(s.shown / life));
            Meets {
                auctions: s.auctions * weather.demand * open * mix.reach * runs,
                competition: Competition {
                    median: c.competition * s.competition * weather.competition,
                    spread: c.spread,
                },
                quality: c.quality,
                ctr: (c.ctr * s.ctr * mix.ctr * freshness * worn).min(1.0),
                cvr: (c.cvr * s.cvr * mix.cvr * weather.cvr * worth).min(1.0),
                price: mix.price,
                value: c.value * s.value,
            }
        })
        .collect()
}

/// Who is reached now, as adjustments and places stand.
pub fn who(sim: &CampaignSim, home: Home) -> Option<Mix> {
    let people = home.people()?;
    let first = home
        .campaign
        .places
        .as_ref()
        .map(|p| tiller_core::setting::Places { mode: p.mode, targets: p.targets.clone() });
    let bid = sim.settings.bid.map_or(home.campaign.competition, Micros::to_units);
    let ratio = if sim.settings.strategy == Strategy::ManualCpc {
        bid * home.campaign.quality / home.campaign.competition
    } else {
        1.0
    };
    let now =
        Reach { adjustments: &sim.settings.adjustments, places: sim.settings.places.as_ref() };
    let was = Reach { adjustments: &[], places: first.as_ref() };
    Some(mix(people, now, was, ratio, home.campaign.spread))
}

/// Lives through one day.
pub fn live(sim: &mut CampaignSim, home: Home, at: Moment) {
    rebudget(sim, home, at);
    rebid(sim, home, at);
    let previous = sim.days.last().map(|d| Arc::clone(&d.mix));
    let mix = who(sim, home).unwrap_or_else(everyone);
    let mix = previous.filter(|p| **p == mix).unwrap_or_else(|| Arc::new(mix));
    let launched = home.campaign.launched.is_none_or(|l| at.since >= -i64::from(l));
    let runs = launched && sim.settings.status == Status::Active;
    let mut day = CampaignDay {
        at,
        status: sim.settings.status,
        budget: sim.budget_a_day(),
        strategy: sim.settings.strategy,
        lost_to_budget: 0.0,
        lost_to_bid: 0.0,
        mix: Arc::clone(&mix),
        streams: vec![StreamDay::default(); sim.streams.len()],
        hours: vec![[HourTally::default(); 24]; sim.groups.len()],
    };
    if runs {
        let weather = demand::weather(home.world, home.account, home.campaign, at);
        trade(sim, home, &weather, &mut day);
        report(sim, home, &weather, &mut day);
        remember(sim, home, &day);
    }
    if launched {
        sim.days.push(day);
    }
}

/// A world without people tells them apart by nothing.
pub fn everyone() -> Mix {
    Mix { dimensions: Vec::new(), reach: 1.0, ctr: 1.0, cvr: 1.0, price: 1.0, highest: 1.0 }
}

fn trade(sim: &mut CampaignSim, home: Home, weather: &Weather, day: &mut CampaignDay) {
    if let Some(audience) = home.campaign.audience.filter(|_| sim.fatigue.usual.is_none()) {
        // What ran before the history has long been seen as often as it will be.
        let met = meets(sim, home, weather, &day.mix, day.at.since);
        let shown: f64 = met.iter().map(|m| m.auctions * m.wins(m.competition.median)).sum();
        if home.campaign.launched.is_none() {
            sim.fatigue.seen = shown / (1.0 - REMEMBERED);
        }
        sim.fatigue.usual = Some(tired(sim.fatigue.seen, audience));
    }
    let met = meets(sim, home, weather, &day.mix, day.at.since);
    let allowances = open_purses(sim, day.at);
    let (bids, mut units) = share_money(sim, home, &met, &allowances);
    let expected = expect(&met, &bids);
    for unit in &mut units {
        unit.expected = unit.members.iter().map(|i| expected[*i].spend()).sum();
    }
    let hours = hours(sim, day.at);
    let mut rngs: Vec<ChaCha8Rng> = (0..sim.streams.len())
        .map(|i| {
            let purpose = [
                2,
                number(&home.account.key),
                sim.index as u64,
                i as u64,
                day.at.number(home.world),
            ];
            rng(home.world.seed, &purpose)
        })
        .collect();
    let by_thousand = sim.settings.strategy == Strategy::ManualCpm;
    let mut money = vec![0.0f64; sim.streams.len()];
    let (mut stood_aside, mut offered) = (0.0, 0.0);
    for (h, hour) in hours.iter().enumerate() {
        let share = sim.day.demand[h] * hour.demand;
        let ahead: f64 =
            (h..24).map(|i| sim.day.demand[i] * hours[i].demand * hours[i].price).sum();
        for unit in &mut units {
            let left = (unit.allowance.aim - unit.spent).max(0.0);
            let throttle = match sim.settings.pacing {
                Pacing::Even if unit.expected * ahead > 0.0 => {
                    (left / (unit.expected * ahead)).min(1.0)
                }
                _ if left > 0.0 => 1.0,
                _ => 0.0,
            };
            for &i in &unit.members {
                let e = &expected[i];
                offered += e.meets.auctions * share;
                stood_aside += e.meets.auctions * share * (1.0 - throttle);
                let mean = e.impressions * share * throttle;
                let mut impressions = poisson(mean, &mut rngs[i]);
                if impressions == 0 {
                    continue;
                }
                let mut clicks = binomial(impressions, e.meets.ctr, &mut rngs[i]);
                let price = (e.price * hour.price).min(e.bid * hour.bid);
                let purse = (unit.allowance.most - unit.spent).max(0.0);
                let paid = if by_thousand {
                    let each = price * e.meets.ctr;
                    impressions = impressions.min((purse / each.max(1e-12)) as u32);
                    clicks = clicks.min(impressions);
                    f64::from(impressions) * each
                } else {
                    clicks = clicks.min((purse / price.max(1e-12)) as u32);
                    f64::from(clicks) * price
                };
                let cvr = e.meets.cvr * sim.day.cvr[h];
                let converted = binomial(clicks, cvr, &mut rngs[i]);
                unit.spent += paid;
                money[i] += paid;
                let s = &mut day.streams[i];
                s.impressions += impressions;
                s.clicks += clicks;
                s.due += f64::from(clicks) * cvr.min(1.0);
                s.converted += converted;
                let t = &mut day.hours[sim.streams[i].ad_group][h];
                t.impressions += impressions;
                t.clicks += clicks;
                t.spend += paid as f32;
                t.converted += converted;
            }
        }
    }
    for (i, s) in day.streams.iter_mut().enumerate() {
        s.bid = cents(expected[i].bid);
        // Down to the whole cent, so that a click costs its bid at most and a day its budget.
        s.spend = Micros::new((money[i] * 100.0 + 1e-6).floor() as i64 * 10_000);
    }
    day.lost_to_budget = if offered > 0.0 { stood_aside / offered } else { 0.0 };
    let won: f64 = expected.iter().map(|e| e.impressions).sum();
    let all: f64 = expected.iter().map(|e| e.meets.auctions).sum();
    day.lost_to_bid =
        if all > 0.0 { (1.0 - won / all).max(0.0) * (1.0 - day.lost_to_budget) } else { 0.0 };
    close_purses(sim, &money);
}

fn cents(units: f64) -> Micros {
    Micros::new((units.min(1e9) * 100.0).round() as i64 * 10_000)
}

/// What each item would do on the day at its bid.
pub fn expect(met: &[Meets], bids: &[f64]) -> Vec<Expected> {
    met.iter()
        .zip(bids)
        .map(|(m, bid)| Expected {
            meets: *m,
            bid: *bid,
            impressions: m.auctions * m.wins(*bid),
            price: m.price(*bid),
        })
        .collect()
}

fn open_purses(sim: &mut CampaignSim, at: Moment) -> Vec<Allowance> {
    match sim.settings.budget {
        Some(budget) => vec![sim.purse.open(budget, at.date)],
        None => sim
            .groups
            .iter_mut()
            .map(|g| match g.settings.budget {
                Some(budget) => g.purse.open(budget, at.date),
                None => Allowance { aim: 0.0, most: 0.0 },
            })
            .collect(),
    }
}

fn close_purses(sim: &mut CampaignSim, money: &[f64]) {
    let by_group = |g: usize| -> f64 {
        sim.streams.iter().zip(money).filter(|(s, _)| s.ad_group == g).map(|(_, m)| m).sum()
    };
    if sim.settings.budget.is_some() {
        let all = money.iter().sum();
        sim.purse.pay(all);
    } else {
        let spent: Vec<f64> = (0..sim.groups.len()).map(by_group).collect();
        sim.groups.iter_mut().zip(spent).for_each(|(g, money)| g.purse.pay(money));
    }
}

fn members(sim: &CampaignSim, group: usize) -> Vec<usize> {
    (0..sim.streams.len()).filter(|i| sim.streams[*i].ad_group == group).collect()
}

/// A day as it is expected.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Outlook {
    /// Money.
    pub spend: f64,
    /// Times shown.
    pub impressions: f64,
    /// Times clicked.
    pub clicks: f64,
    /// Conversions.
    pub conversions: f64,
    /// Their value.
    pub value: f64,
}

/// The day that is expected in a weather, and remembered as if it had been lived through.
pub fn outlook(
    sim: &mut CampaignSim,
    home: Home,
    weather: &Weather,
    mix: &Mix,
    at: Moment,
) -> Outlook {
    let met = meets(sim, home, weather, mix, at.since);
    let allowances = open_purses(sim, at);
    let (bids, units) = share_money(sim, home, &met, &allowances);
    let expected = expect(&met, &bids);
    let hours = hours(sim, at);
    let mut day = Outlook::default();
    let mut money = vec![0.0; sim.streams.len()];
    for unit in units {
        let all: f64 = unit.members.iter().map(|i| expected[*i].spend()).sum();
        let mut left = unit.allowance.aim;
        for (h, hour) in hours.iter().enumerate() {
            let demand = |i: usize| sim.day.demand[i] * hours[i].demand;
            let wanted = all * demand(h) * hour.price;
            let ahead: f64 = (h..24).map(|i| all * demand(i) * hours[i].price).sum();
            let throttle = match sim.settings.pacing {
                _ if wanted <= 0.0 => 0.0,
                Pacing::Even => (left / ahead).min(1.0),
                Pacing::Fast => (left / wanted).min(1.0),
            };
            left -= wanted * throttle;
            for i in &unit.members {
                let e = &expected[*i];
                let shown = e.impressions * demand(h) * throttle;
                let clicks = shown * e.meets.ctr;
                let conversions = clicks * (e.meets.cvr * sim.day.cvr[h]).min(1.0);
                money[*i] += clicks * e.price * hour.price;
                day.impressions += shown;
                day.clicks += clicks;
                day.conversions += conversions;
                day.value += conversions * e.meets.value;
            }
        }
    }
    day.spend = money.iter().sum();
    close_purses(sim, &money);
    sim.fatigue.seen = sim.fatigue.seen * REMEMBERED + day.impressions;
    sim.learning.conversions += day.conversions;
    day
}

/// Who shares which money, and the bids that follow.
fn share_money(
    sim: &CampaignSim,
    home: Home,
    met: &[Meets],
    allowances: &[Allowance],
) -> (Vec<f64>, Vec<Unit>) {
    let unit = |members: Vec<usize>, allowance: Allowance| Unit {
        members,
        allowance,
        expected: 0.0,
        spent: 0.0,
    };
    let own = sim.settings.budget.is_none();
    let bounded =
        |g: &super::campaign::Group| g.settings.floor.is_some() || g.settings.ceiling.is_some();
    let units: Vec<Unit> = if own {
        allowances.iter().enumerate().map(|(g, a)| unit(members(sim, g), *a)).collect()
    } else if home.favours() > 0.0 || sim.groups.iter().any(bounded) {
        let all = (0..sim.streams.len()).collect::<Vec<_>>();
        let first = bids(sim, home, met, &[(all, allowances[0].aim)]);
        let wants: Vec<f64> = (0..sim.groups.len())
            .map(|g| members(sim, g).iter().map(|i| met[*i].spend(first[*i])).sum())
            .collect();
        let shares = pool(sim, home.favours(), &wants, allowances[0].aim);
        shares
            .into_iter()
            .enumerate()
            .map(|(g, aim)| {
                let of = if allowances[0].aim > 0.0 { aim / allowances[0].aim } else { 0.0 };
                unit(members(sim, g), Allowance { aim, most: allowances[0].most * of })
            })
            .collect()
    } else {
        vec![unit((0..sim.streams.len()).collect(), allowances[0])]
    };
    let shapes: Vec<_> = units.iter().map(|u| (u.members.clone(), u.allowance.aim)).collect();
    (bids(sim, home, met, &shapes), units)
}

/// A pooled budget over its ad groups: to what looks best so far, within floors and ceilings, and never
/// more than a group can spend while another could.
fn pool(sim: &CampaignSim, favours: f64, wants: &[f64], money: f64) -> Vec<f64> {
    let (spent, won) =
        sim.groups.iter().fold((0.0, 0.0), |s, g| (s.0 + g.looks.0, s.1 + g.looks.1));
    let usual = if won > 0.0 { spent / won } else { 1.0 };
    let runs = |g: usize| sim.groups[g].settings.status == Status::Active && wants[g] > 0.0;
    let weight: Vec<f64> = (0..wants.len())
        .map(|g| {
            let (spent, won) = sim.groups[g].looks;
            let rate = (won + 1.0) / (spent + usual) * usual;
            if runs(g) { wants[g] * rate.powf(favours) } else { 0.0 }
        })
        .collect();
    let bound = |b: Option<Micros>, none: f64| b.map_or(none, Micros::to_units);
    let low: Vec<f64> = (0..wants.len())
        .map(|g| if runs(g) { bound(sim.groups[g].settings.floor, 0.0) } else { 0.0 })
        .collect();
    let high: Vec<f64> = (0..wants.len())
        .map(|g| bound(sim.groups[g].settings.ceiling, f64::INFINITY).min(wants[g]).max(low[g]))
        .collect();
    // Water level by bisection: each gets weight × level, kept between its bounds.
    let at = |level: f64| -> Vec<f64> {
        (0..wants.len()).map(|g| (weight[g] * level).clamp(low[g], high[g])).collect()
    };
    let (mut down, mut up) = (0.0f64, 1e9f64);
    for _ in 0..80 {
        let middle = f64::midpoint(down, up);
        if at(middle).iter().sum::<f64>() > money { up = middle } else { down = middle }
    }
    let shares = at(down);
    let all: f64 = shares.iter().sum();
    // Floors above the budget share it in proportion.
    if all > money && all > 0.0 {
        return shares.iter().map(|s| s * money / all).collect();
    }
    shares
}

/// What the week's hours do to an hour.
#[derive(Clone, Copy)]
struct Hour {
    demand: f64,
    price: f64,
    bid: f64,
}

fn hours(sim: &CampaignSim, at: Moment) -> [Hour; 24] {
    let mut hours = [Hour { demand: 1.0, price: 1.0, bid: 1.0 }; 24];
    let Some(set) = &sim.settings.hours else { return hours };
    let one = Competition { median: 1.0, spread: 0.4 };
    for (h, hour) in (0..).zip(&mut hours) {
        *hour = match set.at(WeekHour::new(at.date.weekday(), h)) {
            None => Hour { demand: 0.0, price: 1.0, bid: 1.0 },
            Some(percent) => {
                let bid = 1.0 + f64::from(percent) / 100.0;
                Hour {
                    demand: one.wins(bid) / one.wins(1.0),
                    price: one.price(bid) / one.price(1.0),
                    bid,
                }
            }
        };
    }
    hours
}

/// What so many conversions are worth, each so much on average.
fn worth(campaign: &Campaign, value: f64, count: u32, rng: &mut ChaCha8Rng) -> Micros {
    cents((0..count).map(|_| value * around(campaign.orders, rng)).sum())
}

/// Events and ages of the day's conversions.
fn report(sim: &CampaignSim, home: Home, weather: &Weather, day: &mut CampaignDay) {
    let events = home.events();
    let window = usize::from(home.account.window);
    let prompt = home.campaign.promptness.clamp(1e-6, 1.0);
    // Geometric over the days of the window; what would come later comes on its last day.
    let mut ages: Vec<f64> = (0..window).map(|a| prompt * (1.0 - prompt).powi(a as i32)).collect();
    ages.push((1.0 - prompt).powi(window as i32));
    let shares: Vec<f64> = events.iter().map(|e| e.of_conversions).collect();
    for (i, s) in day.streams.iter_mut().enumerate().filter(|(_, s)| s.clicks > 0) {
        let purpose =
            [4, number(&home.account.key), sim.index as u64, i as u64, day.at.number(home.world)];
        let mut rng = rng(home.world.seed, &purpose);
        let value = home.campaign.value * sim.streams[i].value;
        if weather.silent {
            s.worth = worth(home.campaign, value, s.converted, &mut rng);
            continue;
        }
        for (e, count) in multinomial(s.converted, &shares, &mut rng).into_iter().enumerate() {
            if count == 0 {
                continue;
            }
            for (age, count) in multinomial(count, &ages, &mut rng).into_iter().enumerate() {
                if count > 0 {
                    let value = worth(home.campaign, value, count, &mut rng);
                    s.worth += value;
                    s.results.push(Result { event: e as u8, age: age as u16, count, value });
                }
            }
        }
        for (e, event) in events.iter().enumerate().filter(|(_, e)| e.of_clicks > 0.0) {
            let count = binomial(s.clicks, event.of_clicks, &mut rng);
            if count > 0 {
                s.results.push(Result { event: e as u8, age: 0, count, value: Micros::ZERO });
            }
        }
    }
}

/// What the day leaves behind: what was seen, learned, and looks good.
fn remember(sim: &mut CampaignSim, home: Home, day: &CampaignDay) {
    let shown: u32 = day.streams.iter().map(|s| s.impressions).sum();
    sim.fatigue.seen = sim.fatigue.seen * REMEMBERED + f64::from(shown);
    sim.learning.conversions += day.streams.iter().map(|s| f64::from(s.converted)).sum::<f64>();
    let by_value = home.campaign.value > 0.0;
    for group in &mut sim.groups {
        group.looks = (group.looks.0 * LOOKS_KEPT, group.looks.1 * LOOKS_KEPT);
    }
    for (s, stream) in day.streams.iter().zip(&mut sim.streams) {
        stream.shown += f64::from(s.impressions);
        let worth = if by_value { stream.value } else { 1.0 };
        let looks = &mut sim.groups[stream.ad_group].looks;
        looks.0 += s.spend.to_units();
        looks.1 += f64::from(s.converted) * worth;
    }
}

/// Somebody sets the budget; where ad groups have their own there is none to set.
fn rebudget(sim: &mut CampaignSim, home: Home, at: Moment) {
    let now = home.campaign.rebudgets.iter().find(|r| r.from == at.since);
    if let (Some(now), Some(budget)) = (now, &mut sim.settings.budget) {
        *budget = Budget::Daily { amount: cents(now.budget) };
    }
}

/// Somebody sets bids from the average CPC that the last ones caused.
fn rebid(sim: &mut CampaignSim, home: Home, at: Moment) {
    let Some(r) = home.campaign.rebids else { return };
    if at.since < r.from || at.since > r.to || (at.since - r.from) % i64::from(r.every.max(1)) != 0
    {
        return;
    }
    let last = sim.days.len().saturating_sub(7);
    for (i, stream) in sim.streams.iter_mut().enumerate() {
        let days = sim.days[last..].iter().filter_map(|d| d.streams.get(i));
        let (clicks, spend) =
            days.fold((0, 0.0), |s, d| (s.0 + d.clicks, s.1 + d.spend.to_units()));
        if clicks > 0 {
            stream.settings.bid = Some(cents(spend / f64::from(clicks) + r.headroom));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_audience_tires_the_more_it_has_seen() {
        assert!((tired(0.0, 1000.0) - 1.0).abs() < 1e-9);
        assert!(tired(5000.0, 1000.0) < tired(1000.0, 1000.0));
    }
}
