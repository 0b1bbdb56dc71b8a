//! What a rehearsal says a rule would have kept and lost, held against the same weeks lived again with the rule: other
//! clicks and conversions are drawn, the rule acts on those, and what it frees is spent by the others of the campaign.
//! Rules stop items, bid less and more for them, and move budgets.
//! Days do not suit it: lasting shocks, weekends, heavy-tailed demand and rates, dispersed and late conversions, money
//! that bends, budgets that hold by the day or by the month, channels that tell of lost auctions badly or not at all.
#![allow(clippy::unwrap_used)]

use chrono::{Datelike, Days as Later, NaiveDate};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, Gamma, Geometric, LogNormal, Normal, Poisson};
use tiller_core::bid_rule::{Ceiling, Thresholds, Tree};
use tiller_core::bid_volume::{PRIOR, Range, unmoved};
use tiller_core::custom_rule::{
    Action, Amount, Clause, CustomRule, Evidence, Is, Metric, Over, Than, Things, When,
};
use tiller_core::history::{Came, Counted, History};
use tiller_core::ids::{AdGroupId, CampaignId, ItemId};
use tiller_core::rehearsal::campaigns::{CampaignDay, Campaigns};
use tiller_core::rehearsal::{Days, Stage, Thing, look, rehearse, sum};
use tiller_core::rule::{BidRule, Body, Rule};
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
#[derive(Clone, Copy)]
struct Truth {
    clicks: f64,
    cpc: f64,
    rate: f64,
}

/// A campaign's truth: its items, how clicks and their price answer to a bid, what its days want, what they may spend.
struct Campaign {
    items: Vec<Truth>,
    answer: (f64, f64),
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
    // Wider than what is believed of them, and the account's campaigns are not alike.
    let gamma = LogNormal::new(-0.1, 0.5).unwrap().sample(rng);
    let answer = (gamma, rng.random_range(0.35..0.95));
    Campaign { items, answer, demand, budget: 0.9 * all / of.wanted }
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
    /// Each campaign's budget, by what stands on the first day.
    budgets: Vec<f64>,
    /// Whether the rule looks at campaigns.
    campaigns_only: bool,
}

impl Lived {
    fn stage(&self) -> Stage {
        let things = self.things();
        let group = |all: &[Thing]| History::together(all.iter().map(|t| &t.history));
        let groups = things.chunks(ITEMS).map(group).collect();
        let campaigns = self.campaigns.clone();
        Stage { things, groups, campaigns, ..Stage::of("EUR".parse().unwrap()) }
    }

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
            by_hand: Some(self.by_hand),
            budget: None,
            stopped: false,
            volume: unmoved(PRIOR),
        };
        let items = self.days.iter().enumerate().map(thing);
        if !self.campaigns_only {
            return items.collect();
        }
        let items: Vec<Thing> = items.collect();
        let whole = |(c, budget): (usize, &f64)| {
            let of = &items[c * ITEMS..][..ITEMS];
            let history = History::together(of.iter().map(|t| &t.history));
            let spot = Spot::of(of[0].spot.campaign);
            let budget = Some(Price(*budget));
            Thing { spot, history, group: 0, budget, bids: false, ..of[0].clone() }
        };
        self.budgets.iter().enumerate().map(whole).collect()
    }
}

fn spot(n: usize) -> Spot {
    let of = |n: usize| n as i64 + 1;
    Spot::of(CampaignId(of(n / ITEMS))).ad_group(AdGroupId(of(n / ITEMS))).item(ItemId(of(n)))
}

/// What is set.
struct Set {
    stopped: Vec<bool>,
    bids: Vec<f64>,
    touched: Vec<Option<NaiveDate>>,
}

/// The average click costs so much of a bid.
const OF_BID: f64 = 0.7;

impl Set {
    fn at_first(all: &[Campaign]) -> Self {
        let bid = |item: &Truth| coins(item.cpc / OF_BID);
        let bids: Vec<f64> = all.iter().flat_map(|c| &c.items).map(bid).collect();
        Self { stopped: vec![false; bids.len()], touched: vec![None; bids.len()], bids }
    }

    /// What the rule does on a morning.
    fn act(&mut self, rule: &Rule, lived: &mut Lived, morning: NaiveDate) {
        let rest = Later::new(rule.cool_down().max(1).into());
        for found in look(&rule.body, &lived.stage(), morning.pred_opt().unwrap(), SETTLE) {
            let n = found.thing;
            let (Some(action), false) = (found.action, self.stopped[n]) else { continue };
            if self.touched[n].is_some_and(|touched| touched + rest > morning) {
                continue;
            }
            self.touched[n] = Some(morning);
            match action {
                Action::Pause => self.stopped[n] = true,
                Action::BidBy(by) => self.bids[n] = coins(self.bids[n] * (1.0 + by)),
                Action::BidTo(to) => self.bids[n] = coins(to.units()),
                Action::BudgetBy(by) => lived.budgets[n] = coins(lived.budgets[n] * (1.0 + by)),
                other => panic!("{other:?}"),
            }
        }
    }
}

fn coins(x: f64) -> f64 {
    (100.0 * x).round().max(1.0) / 100.0
}

/// Lives through all days; on those after the first weeks the rule does what it does, if there is one. The first weeks
/// are the same for the same `past`, those after them are drawn anew.
fn live(
    past: &mut ChaCha8Rng,
    anew: &mut ChaCha8Rng,
    of: Unkind,
    all: &[Campaign],
    rule: Option<&Rule>,
) -> Lived {
    let days = vec![Default::default(); all.len() * ITEMS];
    let budgets = all.iter().map(|c| c.budget).collect();
    let campaigns_only = rule.is_some_and(|rule| rule.things() == Things::Campaigns);
    let by_hand = of.bends.is_none();
    let mut lived = Lived { days, budgets, by_hand, campaigns_only, ..Lived::default() };
    let mut set = Set::at_first(all);
    let mut left = vec![0.0; all.len()];
    let (busy, late) = (Gamma::new(3.0, 1.0 / 3.0).unwrap(), Geometric::new(0.5).unwrap());
    for day in 0..BEFORE + LIVED {
        let rng = if day < BEFORE { &mut *past } else { &mut *anew };
        if let Some(rule) = rule.filter(|_| day >= BEFORE) {
            set.act(rule, &mut lived, date(day));
        }
        if date(day).day() == 1 {
            left.fill(0.0);
        }
        for (c, campaign) in all.iter().enumerate() {
            let bid = |i: usize| set.bids[c * ITEMS + i];
            // Each at the bid that stands.
            let answers = |(i, item): (usize, &Truth)| {
                let (times, (gamma, kappa)) = (bid(i) / (item.cpc / OF_BID), campaign.answer);
                let (clicks, cpc) = (item.clicks * times.powf(gamma), item.cpc * times.powf(kappa));
                Truth { clicks, cpc, ..*item }
            };
            let items: Vec<Truth> = campaign.items.iter().enumerate().map(answers).collect();
            let going: Vec<usize> = (0..ITEMS).filter(|i| !set.stopped[c * ITEMS + i]).collect();
            let money = |i: &usize| items[*i].clicks * items[*i].cpc;
            let wanted = campaign.demand[day] * going.iter().map(money).sum::<f64>();
            let budget = lived.budgets[c];
            let may = budget + if of.monthly { left[c] } else { 0.0 };
            // As many times the clicks that the day would bring, and the price, as the budget makes of them.
            let made = |wanted: f64| match of.bends {
                Some(bends) => ((may / wanted).powf(bends), (may / wanted).powf(1.0 - bends)),
                None => ((may / wanted).min(1.0), 1.0),
            };
            if day >= BEFORE {
                let (clicks, cpc) = made(wanted);
                lived.spent += wanted * clicks * cpc;
                let due = |i: &usize| items[*i].clicks * items[*i].rate;
                lived.due += campaign.demand[day] * clicks * going.iter().map(due).sum::<f64>();
            }
            let drawn: Vec<f64> = going
                .iter()
                .map(|i| items[*i].clicks * campaign.demand[day])
                .map(|mean| Poisson::new(mean.max(1e-9)).unwrap().sample(rng))
                .collect();
            let each = going.iter().zip(&drawn).map(|(i, n)| n * items[*i].cpc);
            let (clicks, dearer) = made(each.sum::<f64>().max(1e-9));
            let mut counted = Tally::default();
            for (i, drawn) in going.into_iter().zip(drawn) {
                let item = &items[i];
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
                    bid: Some(Micros::from_units(bid(i))),
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
            left[c] = (left[c] + budget - counted.spend.to_units()).max(0.0);
            let error = of.told.map(|told| Normal::new(0.0, told).unwrap().sample(rng).exp());
            let lost = error.map(|error| ((1.0 - may / wanted).max(0.0) * error).min(0.95));
            lived.campaigns.add(
                spot(c * ITEMS).campaign,
                date(day),
                CampaignDay { budget: Some(budget), lost, counted },
            );
        }
    }
    lived
}

fn custom(things: Things, evidence: Evidence, clause: Clause, then: Action, rest: u16) -> Rule {
    let rule = CustomRule {
        evidence,
        cool_down: rest,
        ..CustomRule::new(things, When::all([clause]), then)
    };
    Rule::new("A rule", Body::Custom(rule))
}

/// Stops what has cost twice the target in four weeks and brought nothing.
fn stops() -> Rule {
    let over = Over::Days(28);
    let none = Clause { metric: Metric::Conversions, over, is: Is::AtMost, than: Than::Value(0.0) };
    let evidence = Evidence { spend: Some(Amount::TimesTarget(2.0)), ..Evidence::default() };
    custom(Things::Items, evidence, none, Action::Pause, 60)
}

/// Bids or budgets less for what was dear over two weeks, or more for what was cheap.
fn moves(things: Things, dear: bool, then: Action) -> Rule {
    let (is, times) = if dear { (Is::Above, 1.3) } else { (Is::Below, 0.8) };
    let over = Over::Days(14);
    let clause = Clause { metric: Metric::Cpa, over, is, than: Than::Target(times) };
    custom(things, Evidence { clicks: 20, ..Evidence::default() }, clause, then, 14)
}

/// The table of thresholds: stops what has cost twice the target without a result, bids what is affordable for what is too
/// dear, and a little above the average click for the rest.
fn table() -> Rule {
    let limits = Thresholds {
        spend_without_sale: Micros::from_units(2.0 * TARGET),
        ceiling: Ceiling::Cpa(Price(TARGET)),
        headroom: Micros::from_units(0.3),
        lowest_bid: Micros::from_units(0.1),
        clicks: 20,
        least_cvr: 0.0,
    };
    let limits = Tree::new(limits.into());
    Rule::new(
        "A table",
        Body::Bid(BidRule { within: vec![], window_days: 28, cool_down: 14, limits }),
    )
}

/// How often what was truly kept and lost lies in the range, over drawn accounts in which the rule would have acted; and
/// all of it, with what was said.
#[derive(Debug, Default)]
struct Held {
    times: usize,
    kept: (usize, f64, f64),
    lost: (usize, f64, f64),
}

fn held(rule: &Rule, of: Unkind, times: usize, rng: &mut ChaCha8Rng) -> Held {
    let mut held = Held::default();
    while held.times < times {
        let all: Vec<Campaign> = (0..CAMPAIGNS).map(|_| campaign(rng, of)).collect();
        let past = ChaCha8Rng::seed_from_u64(rng.random());
        let mut stay = live(&mut past.clone(), rng, of, &all, None);
        let ruled = live(&mut past.clone(), rng, of, &all, Some(rule));
        stay.campaigns_only = ruled.campaigns_only;
        let last = date(BEFORE + LIVED - 1);
        let days = Days { from: date(BEFORE), to: last, known: last, settle: SETTLE };
        let acts = rehearse(rule, &stay.stage(), days).acts;
        if acts.is_empty() {
            continue;
        }
        held.times += 1;
        let said = sum(&acts);
        let count = |of: &mut (usize, f64, f64), said: Range, truly: f64| {
            of.0 += usize::from(said.around.contains(truly));
            (of.1, of.2) = (of.1 + truly, of.2 + said.mid);
        };
        count(&mut held.kept, said.kept, stay.spent - ruled.spent);
        count(&mut held.lost, said.lost, stay.due - ruled.due);
    }
    held
}

#[test]
fn money_kept_and_conversions_lost_lie_where_they_are_said_to() {
    let mut rng = ChaCha8Rng::seed_from_u64(4);
    let bid = |dear, by| moves(Things::Items, dear, Action::BidBy(by));
    let budget = |dear, by| moves(Things::Campaigns, dear, Action::BudgetBy(by));
    let rules = [
        ("stops", stops()),
        ("bids less", bid(true, -0.25)),
        ("bids more", bid(false, 0.2)),
        ("bids by a table", table()),
        ("budgets less", budget(true, -0.2)),
        ("budgets more", budget(false, 0.2)),
    ];
    let times = 40;
    for (name, rule) in rules {
        for (n, of) in WORLDS.into_iter().enumerate() {
            // Where a strategy bids, no rule does.
            if name.starts_with("bids") && of.bends.is_some() {
                continue;
            }
            let Held { kept, lost, .. } = held(&rule, of, times, &mut rng);
            eprintln!("{name}, world {n}: kept {kept:.0?}, lost {lost:.0?}");
            // Eight of ten, less what forty draws differ by.
            assert!(kept.0 >= 27 && lost.0 >= 27, "{name}, world {n}: {kept:.0?}, {lost:.0?}");
            // Where a channel tells of lost auctions, the middle is no promise either.
            if name == "stops" && of.told.is_some() {
                assert!((0.8..1.25).contains(&(kept.2 / kept.1)), "world {n}: {kept:.0?}");
            }
        }
    }
}
