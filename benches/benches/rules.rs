//! Rules from memory: a million items through the table of thresholds, and a rehearsal of 90 days over 20,000 items.

use std::hint::black_box;

use chrono::{Days as Later, NaiveDate};
use criterion::{Criterion, criterion_group, criterion_main};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tiller_core::bid_rule::{Ceiling, Limits, Thresholds, Tree, decide};
use tiller_core::bid_volume::{PRIOR, unmoved};
use tiller_core::history::{Came, Counted, History};
use tiller_core::ids::{AdGroupId, CampaignId, ItemId};
use tiller_core::rehearsal::{Days, Stage, Thing, rehearse};
use tiller_core::rule::{BidRule, Body, Rule};
use tiller_core::spot::Spot;
use tiller_core::{Micros, Price, Tally, Target};

const ITEMS: usize = 1_000_000;
const REHEARSED: usize = 20_000;
const DAYS: u64 = 90;

fn limits() -> Limits {
    let units = Micros::from_units;
    Thresholds {
        spend_without_sale: units(12.0),
        ceiling: Ceiling::Acos(0.25),
        headroom: units(0.16),
        lowest_bid: units(0.3),
        clicks: 10,
        least_cvr: 0.1,
    }
    .into()
}

fn tallies() -> Vec<Tally> {
    let mut rng = ChaCha8Rng::seed_from_u64(7);
    (0..ITEMS)
        .map(|_| {
            let clicks = rng.random_range(0..60);
            let conversions = f64::from(rng.random_range(0..4));
            Tally {
                impressions: clicks * 40,
                clicks,
                spend: Micros::from_units(clicks as f64 * rng.random_range(0.2..1.0)),
                conversions,
                value: Micros::from_units(conversions * 40.0),
            }
        })
        .collect()
}

fn day(n: u64) -> NaiveDate {
    NaiveDate::default() + Later::new(20_000 + n)
}

fn things() -> Vec<Thing> {
    let mut rng = ChaCha8Rng::seed_from_u64(9);
    let mut thing = |n: usize| {
        let bid = rng.random_range(0.3..1.5);
        let mut came = Vec::new();
        let days = (0..DAYS).map(|d| {
            let clicks = rng.random_range(0..5);
            if clicks > 0 && rng.random_range(0..20) == 0 {
                let age = rng.random_range(0..7);
                came.push(Came {
                    day: day(d),
                    age,
                    conversions: 1.0,
                    value: Micros::from_units(45.0),
                });
            }
            Counted {
                day: day(d),
                impressions: clicks * 40,
                clicks,
                spend: Micros::from_units(clicks as f64 * bid * 0.7),
                bid: Some(Micros::from_units(bid)),
            }
        });
        let days = days.collect();
        let id = n as i64;
        Thing {
            spot: Spot::of(CampaignId(id / 50)).ad_group(AdGroupId(id / 10)).item(ItemId(id)),
            history: History::new(days, came),
            target: Some(Target::Roas(4.0)),
            dispersion: 1.5,
            aov: Some(Price(45.0)),
            group: 0,
            bid: Some(Price(bid)),
            bids: true,
            by_hand: None,
            budget: None,
            stopped: false,
            volume: unmoved(PRIOR),
        }
    };
    (0..REHEARSED).map(&mut thing).collect()
}

fn rules(c: &mut Criterion) {
    let tree = Tree::new(limits());
    let items = tallies();
    let spot = |n: usize| {
        let n = n as i64;
        Spot::of(CampaignId(n / 2500)).ad_group(AdGroupId(n / 50)).item(ItemId(n))
    };
    let mut group = c.benchmark_group("rules");
    group.sample_size(10);
    // Each item's thresholds are looked up from itself upward.
    group.bench_function("1000000 items through the table", |b| {
        b.iter(|| {
            let decided = items.iter().enumerate().filter_map(|(n, counted)| {
                Some(decide(&tree.at(spot(n)).complete().ok()?, counted))
            });
            black_box(decided.filter(|d| d.case == tiller_core::bid_rule::Case::Pays).count())
        });
    });
    let Ok(eur) = "EUR".parse() else { return };
    let stage = Stage { things: things(), groups: vec![History::default()], ..Stage::of(eur) };
    let days = Days { from: day(0), to: day(DAYS - 1), known: day(DAYS - 1), settle: 2 };
    let limits = tree.clone();
    let of = BidRule { within: vec![], window_days: 30, cool_down: 7, limits };
    let rule = Rule::new("Every morning", Body::Bid(of));
    group.bench_function("20000 items rehearsed every morning of 90 days", |b| {
        b.iter(|| black_box(rehearse(&rule, &stage, days).acts.len()));
    });
    group.finish();
}

criterion_group!(benches, rules);
criterion_main!(benches);
