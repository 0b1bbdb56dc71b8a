//! The faults that docs/demo.md lists are really in the demo's world: what a channel reports shows them.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::collections::HashMap;
use std::sync::{Arc, LazyLock};

use chrono::NaiveDate;
use tiller_core::setting::Dimension;
use tiller_market::world::AMBERFOLD;
use tiller_market::{Market, World};

fn day(text: &str) -> NaiveDate {
    text.parse().unwrap()
}

static MARKET: LazyLock<Market> =
    LazyLock::new(|| Market::begin(Arc::new(World::parse(AMBERFOLD).unwrap()), day("2026-11-09")));

#[derive(Clone, Copy, Debug, Default)]
struct Sum {
    clicks: f64,
    spend: f64,
    conversions: f64,
    value: f64,
}

impl Sum {
    fn add(&mut self, clicks: u64, spend: f64, conversions: f64, value: f64) {
        self.clicks += clicks as f64;
        self.spend += spend;
        self.conversions += conversions;
        self.value += value;
    }
    fn cpa(&self) -> f64 {
        self.spend / self.conversions
    }
}

fn segments(account: &str, channel: &str, campaign: &str) -> HashMap<(Dimension, String), Sum> {
    let mut sums: HashMap<_, Sum> = HashMap::new();
    let sim = MARKET.account(account).unwrap();
    for r in MARKET.segments(sim, channel, day("2026-10-11"), day("2026-11-07")) {
        if r.campaign == campaign {
            sums.entry((r.dimension, r.segment)).or_default().add(
                r.clicks,
                r.spend,
                r.conversions,
                r.value,
            );
        }
    }
    sums
}

/// Sums of the settled 28 days by ad group and item.
fn items(account: &str, campaign: &str) -> HashMap<(String, String), Sum> {
    items_between(account, campaign, "2026-10-11", "2026-11-07")
}

fn items_between(
    account: &str,
    campaign: &str,
    from: &str,
    to: &str,
) -> HashMap<(String, String), Sum> {
    let mut sums: HashMap<_, Sum> = HashMap::new();
    let sim = MARKET.account(account).unwrap();
    for r in MARKET.items(sim, None, day(from), day(to)).filter(|r| r.campaign == campaign) {
        sums.entry((r.ad_group.to_string(), r.item.to_string())).or_default().add(
            r.clicks as u64,
            r.spend.to_units(),
            r.conversions.to_units(),
            r.value.to_units(),
        );
    }
    sums
}

fn by_group(account: &str, campaign: &str) -> HashMap<String, Sum> {
    let mut groups: HashMap<String, Sum> = HashMap::new();
    for ((group, _), s) in items(account, campaign) {
        groups.entry(group).or_default().add(s.clicks as u64, s.spend, s.conversions, s.value);
    }
    groups
}

#[test]
fn fault_2_the_interested_live_elsewhere() {
    let all = segments("school", "Panewall", "Apiary visits, display");
    let of = |name: &str| all[&(Dimension::Country, name.to_owned())];
    assert!(of("Denmark").cpa() < 40.0);
    assert!(of("India").cpa() > 150.0 && of("India").spend > 200.0);
}

#[test]
fn fault_5_the_excess_sits_in_one_country_and_one_age_band() {
    let all = segments("school", "Emberlane", "Queen rearing, feed");
    let excess = |d: Dimension| -> Vec<(String, f64)> {
        let of = all.iter().filter(|((x, _), _)| *x == d);
        of.map(|((_, s), t)| (s.clone(), t.spend - 30.0 * t.conversions)).collect()
    };
    let worst = |d: Dimension| excess(d).into_iter().max_by(|a, b| a.1.total_cmp(&b.1)).unwrap();
    let whole: f64 = excess(Dimension::Country).iter().map(|e| e.1).sum();
    let (country, age) = (worst(Dimension::Country), worst(Dimension::Age));
    assert_eq!((country.0.as_str(), age.0.as_str()), ("Germany", "18-24"));
    assert!(country.1 > 0.5 * whole && age.1 > 0.4 * whole, "{whole} {country:?} {age:?}");
}

#[test]
fn fault_6_nobody_answers_at_night() {
    let all = segments("school", "Emberlane", "Evening calls, feed");
    let (mut night, mut rest) = (Sum::default(), Sum::default());
    for ((_, hour), s) in all.iter().filter(|((d, _), _)| *d == Dimension::Hour) {
        let hour: u32 = hour.parse().unwrap();
        let sum = if (6..22).contains(&hour) { &mut rest } else { &mut night };
        sum.add(s.clicks as u64, s.spend, s.conversions, s.value);
    }
    assert!(night.spend > 0.25 * (night.spend + rest.spend));
    assert!(night.conversions / night.clicks < 0.35 * rest.conversions / rest.clicks);
    assert!(rest.cpa() < 30.0, "{}", rest.cpa());
}

#[test]
fn fault_7_one_product_returns_2_and_another_11() {
    let all = items("supply", "Shop listings");
    let roas = |item: &str| {
        let s = all.iter().find(|((_, i), _)| i == item).unwrap().1;
        s.value / s.spend
    };
    let [poor, good] = ["Extractor, 3 frames, hand", "Foundation, 5 kg"].map(roas);
    assert!((1.0..3.2).contains(&poor) && (8.0..15.0).contains(&good), "{poor} {good}");
}

#[test]
fn fault_8_bids_fall_round_after_round() {
    let sim = MARKET.account("supply").unwrap();
    let bid = |on: &str| {
        let rows = MARKET.items(sim, None, day(on), day(on));
        let bids: Vec<f64> = rows
            .filter(|r| r.campaign == "Stall, jars")
            .map(|r| r.bid.unwrap().to_units())
            .collect();
        bids.iter().sum::<f64>() / bids.len() as f64
    };
    let path = ["2026-08-31", "2026-09-04", "2026-09-11", "2026-09-18", "2026-10-09"].map(bid);
    assert!(path.windows(2).all(|w| w[1] < w[0]), "{path:?}");
    let clicks = |from, to| -> f64 {
        items_between("supply", "Stall, jars", from, to).values().map(|s| s.clicks).sum()
    };
    assert!(clicks("2026-10-11", "2026-11-07") < 0.7 * clicks("2026-08-03", "2026-08-30"));
}

#[test]
fn fault_10_two_of_four_ad_groups_are_starved() {
    let groups = by_group("supply", "Beginner sets, feed");
    let all: f64 = groups.values().map(|s| s.spend).sum();
    let mut shares: Vec<f64> = ["Unboxing", "Gardens", "Gift", "Spring"]
        .iter()
        .map(|g| groups.get(*g).map_or(0.0, |s| s.spend) / all)
        .collect();
    shares.sort_by(f64::total_cmp);
    assert!(shares[1] < 0.1, "{shares:?}");
}

#[test]
fn fault_11_stings_and_recipes_are_paid_for() {
    let sim = MARKET.account("school").unwrap();
    let mut terms: HashMap<String, Sum> = HashMap::new();
    for r in MARKET.terms(sim, "Findle", day("2026-08-10"), day("2026-11-07")) {
        if r.ad_group == "Company outings" {
            terms.entry(r.term).or_default().add(r.clicks, r.spend, r.conversions, r.value);
        }
    }
    let all: f64 = terms.values().map(|s| s.spend).sum();
    let waste: f64 = terms
        .iter()
        .filter(|(t, _)| t.contains("sting") || t.contains("recipe"))
        .map(|(_, s)| s.spend)
        .sum();
    assert!(waste > 0.25 * all, "{waste} of {all}");
    let (clicks, conversions) = terms
        .iter()
        .filter(|(t, _)| t.contains("sting") || t.contains("recipe"))
        .fold((0.0, 0.0), |(n, c), (_, s)| (n + s.clicks, c + s.conversions));
    assert!(conversions / clicks < 0.02, "{conversions} of {clicks}");
    for good in ["team building with bees", "company day at the apiary", "staff outing beekeeper"] {
        assert!(terms[good].conversions > 3.0, "{good}: {:?}", terms[good]);
    }
}

#[test]
fn fault_12_page_views_are_counted_beside_orders() {
    let sim = MARKET.account("supply").unwrap();
    let mut events: HashMap<String, f64> = HashMap::new();
    for r in MARKET.conversions(sim, "Findle", day("2026-10-11"), day("2026-11-07")) {
        if r.campaign == "Jar listings" && r.counted {
            *events.entry(r.event).or_default() += r.conversions;
        }
    }
    assert!(events["catalogue view"] > 3.0 * events["order"], "{events:?}");
}

#[test]
fn fault_13_one_trial_takes_half_the_pool_and_another_nothing() {
    let groups = by_group("supply", "New pictures, feed");
    let all: f64 = groups.values().map(|s| s.spend).sum();
    let share = |g: &str| groups.get(g).map_or(0.0, |s| s.spend / all);
    assert!(share("Trial: first honey") > 0.45, "{groups:?}");
    assert!(share("Trial: winter work") < 0.03, "{groups:?}");
}

#[test]
fn fault_14_a_high_target_starves_its_campaign() {
    let all = items("supply", "Smokers, search");
    let (spend, value) = all.values().fold((0.0, 0.0), |s, x| (s.0 + x.spend, s.1 + x.value));
    assert!(spend < 0.25 * 28.0 * 60.0 && value / spend > 7.0);
}

/// Somebody changed the budget of Suits every few weeks, the last time a fortnight before the last day; its strategy
/// spends what it gets.
#[test]
fn later_budgets_are_set_and_spent() {
    let sim = MARKET.account("supply").unwrap();
    let in_days = |from: &str, to: &str| {
        let all = MARKET.items(sim, None, day(from), day(to));
        let suits: Vec<_> = all.filter(|r| r.campaign == "Suits, search").collect();
        let budgets: Vec<f64> = suits.iter().map(|r| r.budget.unwrap().to_units()).collect();
        (budgets, suits.iter().map(|r| r.spend.to_units()).sum::<f64>())
    };
    for (from, to, budget, days) in
        [("2026-09-30", "2026-10-25", 75.0, 26.0), ("2026-10-26", "2026-11-09", 90.0, 15.0)]
    {
        let (budgets, spend) = in_days(from, to);
        assert!(budgets.iter().all(|b| *b == budget), "{from}: {budgets:?}");
        assert!((spend / (budget * days) - 1.0).abs() < 0.1, "{from}: {spend}");
    }
    let broken = AMBERFOLD.replacen("budget = 36.0 }", "budget = 0.0 }", 1);
    assert!(World::parse(&broken).is_err_and(|e| e.to_string().contains("later budgets")));
}
