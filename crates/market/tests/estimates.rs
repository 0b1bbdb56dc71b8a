//! What a channel says of a campaign that doesn't exist yet, against the market's own truth.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::sync::Arc;

use crate::common::day;
use tiller_channel::Micros;
use tiller_channel::wire::{Draft, Who};
use tiller_core::setting::{Dimension, ItemKind, Status, Strategy};
use tiller_market::sim::{Unknown, truth};
use tiller_market::world::AMBERFOLD;
use tiller_market::{Market, World};

fn market(seed: u64) -> Market {
    let mut world = World::parse(AMBERFOLD).unwrap();
    world.seed = seed;
    Market::begin(Arc::new(world), day("2026-11-09"))
}

fn search(budget: f64, bid: f64) -> Draft {
    Draft {
        kind: ItemKind::Keyword,
        items: Vec::new(),
        people: Vec::new(),
        strategy: Strategy::ManualCpc,
        bid: Some(Micros::from_units(bid)),
        budget: Micros::from_units(budget),
    }
}

/// A campaign that is there already, asked for as if it were not: its items, its bid, its budget. The channel's ranges
/// hold what the market knows of it in about four of five cases, and never by being boundless.
#[test]
fn ranges_hold_the_truth_in_four_of_five_cases() {
    let (mut asked, mut held, mut widest) = (0, [0, 0], 1.0f64);
    for seed in 1..=6 {
        let market = market(seed);
        for account in &market.accounts {
            let known = truth(&market, account);
            let of_world = market.of_world(account);
            for channel in market.channels(account) {
                for c in market.structure(account, channel).campaigns {
                    let t = known.iter().find(|t| t.campaign == c.name).unwrap();
                    let set = &c.settings;
                    let runs = set.status == Status::Active && t.present.clicks > 1.0;
                    let alike = set.budget.is_some()
                        && set.hours.is_none()
                        && c.ad_groups.iter().all(|g| g.settings.bid.is_none());
                    let launched = set.launched.is_none();
                    let campaign = of_world.campaigns.iter().find(|w| w.name == c.name).unwrap();
                    if !(runs && alike && launched) || campaign.flight.is_some() {
                        continue;
                    }
                    let items: Vec<String> =
                        c.ad_groups.iter().flat_map(|g| &g.items).map(|i| i.name.clone()).collect();
                    let draft = Draft {
                        kind: campaign.kind,
                        items,
                        people: Vec::new(),
                        strategy: set.strategy,
                        bid: if set.strategy.automatic() { set.bid_ceiling } else { set.bid },
                        budget: set.budget.unwrap().per_day(),
                    };
                    let e = market.estimate(account, channel, &draft).unwrap();
                    asked += 1;
                    let within = |low: f64, high: f64, x: f64| usize::from(low <= x && x <= high);
                    held[0] += within(e.clicks.low, e.clicks.high, t.present.clicks);
                    held[1] +=
                        within(e.spend.low.to_units(), e.spend.high.to_units(), t.present.spend);
                    widest = widest.max(e.clicks.high / e.clicks.low);
                    assert!(e.bids.low <= e.bids.high && e.spend.high <= draft.budget, "{e:?}");
                }
            }
        }
    }
    let share = |n: usize| n as f64 / f64::from(asked);
    assert!(asked > 80, "{asked}");
    assert!((0.68..=0.95).contains(&share(held[0])), "clicks {}", share(held[0]));
    assert!(share(held[1]) >= 0.68, "spend {}", share(held[1]));
    assert!(widest < 2.3, "{widest}");
}

#[test]
fn more_bid_more_people_and_more_money_bring_no_less() {
    let market = market(2);
    let account = market.account("school").unwrap();
    let ask = |draft: &Draft| market.estimate(account, "Findle", draft);
    let plain = ask(&search(500.0, 5.0)).unwrap();
    assert_eq!(ask(&search(500.0, 5.0)).unwrap(), plain, "asked again it says the same");
    // A click's price and the vagueness of an answer move less than so much.
    assert!(ask(&search(500.0, 15.0)).unwrap().impressions.low > plain.impressions.low);
    assert!(ask(&search(20.0, 5.0)).unwrap().clicks.high < plain.clicks.high);
    assert!(ask(&search(20.0, 5.0)).unwrap().spend.high <= Micros::from_units(20.0));
    let device = |segment: &str| Who { dimension: Dimension::Device, segment: segment.into() };
    let known = market.structure(account, "Findle");
    assert!(!known.campaigns.is_empty());
    let only = Draft { people: vec![device("tablet")], ..search(500.0, 5.0) };
    let few = ask(&only);
    assert!(few.is_err() || few.unwrap().impressions.high < plain.impressions.low);
    let nobody = Draft { people: vec![device("abacus")], ..search(500.0, 5.0) };
    assert_eq!(ask(&nobody), Err(Unknown::People));
}

#[test]
fn what_can_not_be_is_refused() {
    let market = market(2);
    let account = market.account("school").unwrap();
    let ask = |channel: &str, draft: &Draft| market.estimate(account, channel, draft);
    let free = Draft { bid: None, ..search(100.0, 1.0) };
    assert_eq!(ask("Findle", &free), Err(Unknown::Value), "a bid by hand is needed");
    assert_eq!(ask("Findle", &search(0.0, 1.0)), Err(Unknown::Value));
    assert_eq!(ask("Panewall", &search(100.0, 1.0)), Err(Unknown::Kind), "no searches there");
}
