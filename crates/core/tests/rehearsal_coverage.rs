//! What a rehearsal says a rule would have kept and lost, held against the same weeks lived again with the rule: other
//! clicks and conversions are drawn, the rule acts on those, and what it frees is spent by the others of the campaign.
//! Days do not suit it: lasting shocks, weekends, heavy-tailed demand and rates, dispersed and late conversions, money
//! that bends, budgets that hold by the day or by the month, channels that tell of lost auctions badly or not at all.
#![allow(clippy::unwrap_used)]

use chrono::{Days as Later, NaiveDate};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, Gamma, Geometric, LogNormal, Normal, Poisson};
use tiller_core::bid_volume::{PRIOR, unmoved};
use tiller_core::custom_rule::{
    Action, Amount, Clause, CustomRule, Evidence, Is, Metric, Over, Than, Things, When,
};
use tiller_core::history::{Came, Counted, History};
use tiller_core::ids::{AdGroupId, CampaignId, ItemId};
use tiller_core::rehearsal::worth::{CampaignDay, Campaigns};
use tiller_core::rehearsal::{Days, Thing, look, rehearse, sum};
use tiller_core::rule::{Body, Rule};
use tiller_core::spot::Spot;
use tiller_core::{Micros, Price, Tally, Target};

const CAMPAIGNS: usize = 5;
const ITEMS: usize = 24;
const BEFORE: usize = 42;
const LIVED: usize = 28;
const SETTLE: u64 = 7;
const TARGET: f64 = 30.0;

/// A kind of account.
#[derive(Clone, Copy)]
struct Unkind {
    /// What each day wants to spend, of the budget.
    wanted: f64,
    /// Whether what a day leaves over may be spent on a later one of the month.
    monthly: bool,
    /// What the next unit of money brings of the average one, where the budget is to be spent.
    bends: Option<f64>,
    /// Log deviation of what the channel tells of lost auctions; none where it tells nothing.
    told: Option<f64>,
    /// Log deviation of shocks that last.
    shocks: f64,
}

const WORLDS: [Unkind; 4] = [
    // Money to spare on most days.
    Unkind { wanted: 0.8, monthly: true, bends: None, told: Some(0.3), shocks: 0.2 },
    // Held by its budget, which buys the same mix until demand runs out.
    Unkind { wanted: 1.15, monthly: false, bends: None, told: Some(0.3), shocks: 0.2 },
    // A strategy that spends any budget.
    Unkind { wanted: 1.0, monthly: false, bends: Some(0.6), told: None, shocks: 0.15 },
    Unkind { wanted: 1.05, monthly: true, bends: None, told: None, shocks: 0.3 },
];

/// What an item truly is.
struct Truth {
    clicks: f64,
    cpc: f64,
    rate: f64,
}

/// A campaign's truth: its items, what its days want, what they may spend.
struct Campaign {
    items: Vec<Truth>,
    demand: Vec<f64>,
    budget: f64,
}

fn date(n: usize) -> NaiveDate {
    NaiveDate::from_ymd_opt(2026, 8, 3).unwrap() + Later::new(n as u64)
}

fn campaign(rng: &mut ChaCha8Rng, of: Unkind) -> Campaign {
    let (clicks, cpc) = (LogNormal::new(0.7, 1.0).unwrap(), LogNormal::new(-0.2, 0.3).unwrap());
    // Rates scatter by half around what the target affords.
    let rate = LogNormal::new(0.0, 0.6).unwrap();
    let items: Vec<Truth> = (0..ITEMS)
        .map(|_| {
            let cpc = cpc.sample(rng);
            Truth { clicks: clicks.sample(rng), cpc, rate: rate.sample(rng) * cpc / TARGET }
        })
        .collect();
    let step = Normal::new(0.0, of.shocks * 0.8).unwrap();
    let mut x = 0.0;
    let demand = (0..BEFORE + LIVED)
        .map(|day| {
            x = 0.6 * x + step.sample(rng);
            if day % 7 >= 5 { 0.7 * f64::exp(x) } else { f64::exp(x) }
        })
        .collect();
    let all: f64 = items.iter().map(|i| i.clicks * i.cpc).sum();
    Campaign { items, demand, budget: 0.9 * all / of.wanted }
}

/// What was lived: each item's days, each campaign's, and what the last weeks were due to spend and bring.
#[derive(Default)]
struct Lived {
    days: Vec<(Vec<Counted>, Vec<Came>)>,
    campaigns: Campaigns,
    due: f64,
    spent: f64,
    /// Whether its bids are set by hand.
    by_hand: bool,
}

impl Lived {
    fn things(&self) -> Vec<Thing> {
        let thing = |(n, (days, came)): (usize, &(Vec<Counted>, Vec<Came>))| Thing {
            spot: spot(n),
            history: History::new(days.clone(), came.clone()),
            target: Some(Target::Cpa(Price(TARGET))),
            dispersion: 1.3,
            aov: None,
            group: n / ITEMS,
            bid: None,
            bids: self.by_hand,
            budget: None,
            stopped: false,
            volume: unmoved(PRIOR),
        };
        self.days.iter().enumerate().map(thing).collect()
    }
}

fn spot(n: usize) -> Spot {
    let of = |n: usize| n as i64 + 1;
    Spot::of(CampaignId(of(n / ITEMS))).ad_group(AdGroupId(of(n / ITEMS))).item(ItemId(of(n)))
}

/// Lives through all days; on those after the first weeks the rule stops what it stops, if there is one. The first weeks
/// are the same for the same `past`, those after them are drawn anew.
fn live(
    past: &mut ChaCha8Rng,
    anew: &mut ChaCha8Rng,
    of: Unkind,
    all: &[Campaign],
    rule: Option<&Rule>,
) -> Lived {
    let days = vec![Default::default(); all.len() * ITEMS];
    let mut lived = Lived { days, by_hand: of.bends.is_none(), ..Lived::default() };
    let mut stopped = vec![false; all.len() * ITEMS];
    let mut left = vec![0.0; all.len()];
    let (busy, late) = (Gamma::new(3.0, 1.0 / 3.0).unwrap(), Geometric::new(0.5).unwrap());
    for day in 0..BEFORE + LIVED {
        let rng = if day < BEFORE { &mut *past } else { &mut *anew };
        if let Some(rule) = rule.filter(|_| day >= BEFORE) {
            let things = lived.things();
            let group = |all: &[Thing]| History::together(all.iter().map(|t| &t.history));
            let groups: Vec<History> = things.chunks(ITEMS).map(group).collect();
            for found in look(&rule.body, &things, &groups, date(day - 1), SETTLE) {
                stopped[found.thing] |= found.action == Some(Action::Pause);
            }
        }
        for (c, campaign) in all.iter().enumerate() {
            let going: Vec<usize> = (0..ITEMS).filter(|i| !stopped[c * ITEMS + i]).collect();
            let money = |i: &usize| campaign.items[*i].clicks * campaign.items[*i].cpc;
            let wanted = campaign.demand[day] * going.iter().map(money).sum::<f64>();
            let may = campaign.budget + if of.monthly { left[c] } else { 0.0 };
            // As many times the clicks that the day would bring, and the price, as the budget makes of them.
            let made = |wanted: f64| match of.bends {
                Some(bends) => ((may / wanted).powf(bends), (may / wanted).powf(1.0 - bends)),
                None => ((may / wanted).min(1.0), 1.0),
            };
            if day >= BEFORE {
                let (clicks, cpc) = made(wanted);
                lived.spent += wanted * clicks * cpc;
                let due = |i: &usize| campaign.items[*i].clicks * campaign.items[*i].rate;
                lived.due += campaign.demand[day] * clicks * going.iter().map(due).sum::<f64>();
            }
            let drawn: Vec<f64> = going
                .iter()
                .map(|i| campaign.items[*i].clicks * campaign.demand[day])
                .map(|mean| Poisson::new(mean.max(1e-9)).unwrap().sample(rng))
                .collect();
            let each = going.iter().zip(&drawn).map(|(i, n)| n * campaign.items[*i].cpc);
            let (clicks, dearer) = made(each.sum::<f64>().max(1e-9));
            let mut counted = Tally::default();
            for (i, drawn) in going.into_iter().zip(drawn) {
                let item = &campaign.items[i];
                // Whole clicks, as many on average.
                let clicks = (drawn * clicks + rng.random_range(0.0..1.0)).floor() as i64;
                let spend = clicks as f64 * item.cpc * dearer;
                let mean = clicks as f64 * item.rate * busy.sample(rng);
                let came = Poisson::new(mean.max(1e-9)).unwrap().sample(rng);
                let (days, all_came) = &mut lived.days[c * ITEMS + i];
                days.push(Counted {
                    day: date(day),
                    impressions: 30 * clicks,
                    clicks,
                    spend: Micros::from_units(spend),
                    bid: None,
                });
                for _ in 0..came as u64 {
                    let age = u16::try_from(late.sample(rng)).unwrap();
                    let value = Micros::from_units(60.0);
                    all_came.push(Came { day: date(day), age, conversions: 1.0, value });
                }
                counted.clicks += clicks;
                counted.spend += Micros::from_units(spend);
                counted.conversions += came;
            }
            left[c] = (left[c] + campaign.budget - counted.spend.to_units()).max(0.0);
            let error = of.told.map(|told| Normal::new(0.0, told).unwrap().sample(rng).exp());
            let lost = error.map(|error| ((1.0 - may / wanted).max(0.0) * error).min(0.95));
            let used = Some(counted.spend.to_units() / campaign.budget);
            lived.campaigns.add(
                spot(c * ITEMS).campaign,
                date(day),
                CampaignDay { used, lost, counted },
            );
        }
    }
    lived
}

/// Stops what has cost twice the target in four weeks and brought nothing.
fn stops() -> Rule {
    let over = Over::Days(28);
    let none = Clause { metric: Metric::Conversions, over, is: Is::AtMost, than: Than::Value(0.0) };
    let rule = CustomRule {
        evidence: Evidence { spend: Some(Amount::TimesTarget(2.0)), ..Evidence::default() },
        cool_down: 60,
        ..CustomRule::new(Things::Items, When::all([none]), Action::Pause)
    };
    Rule::new("Stops what brings nothing", Body::Custom(rule))
}

#[test]
fn money_kept_and_conversions_lost_lie_where_they_are_said_to() {
    let mut rng = ChaCha8Rng::seed_from_u64(4);
    let (rule, times) = (stops(), 40);
    for (n, of) in WORLDS.into_iter().enumerate() {
        let (mut kept_in, mut lost_in) = (0, 0);
        let (mut kept, mut lost) = ((0.0, 0.0), (0.0, 0.0));
        for _ in 0..times {
            let all: Vec<Campaign> = (0..CAMPAIGNS).map(|_| campaign(&mut rng, of)).collect();
            let past = ChaCha8Rng::seed_from_u64(rng.random());
            let stay = live(&mut past.clone(), &mut rng, of, &all, None);
            let ruled = live(&mut past.clone(), &mut rng, of, &all, Some(&rule));
            let last = date(BEFORE + LIVED - 1);
            let days = Days { from: date(BEFORE), to: last, known: last, settle: SETTLE };
            let things = stay.things();
            let group = |all: &[Thing]| History::together(all.iter().map(|t| &t.history));
            let groups: Vec<History> = things.chunks(ITEMS).map(group).collect();
            let said = sum(&rehearse(&rule, &things, &groups, days, &stay.campaigns).acts);
            let truly = (stay.spent - ruled.spent, stay.due - ruled.due);
            kept_in += usize::from(said.kept.around.contains(truly.0));
            lost_in += usize::from(said.lost.around.contains(truly.1));
            kept = (kept.0 + truly.0, kept.1 + said.kept.mid);
            lost = (lost.0 + truly.1, lost.1 + said.lost.mid);
        }
        eprintln!("world {n}: kept {kept_in}, {kept:.0?}; lost {lost_in}, {lost:.0?}");
        // Eight of ten, less what forty draws differ by.
        assert!(kept_in >= 27 && lost_in >= 27, "world {n}: {kept_in}, {lost_in} of {times}");
        // Where a channel tells of lost auctions, the middle is no promise either.
        if of.told.is_some() {
            assert!((0.8..1.25).contains(&(kept.1 / kept.0)), "world {n}: {kept:.0?}");
        }
    }
}
