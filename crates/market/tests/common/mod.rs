//! A small world of one campaign, made to order.
#![allow(dead_code, clippy::unwrap_used, clippy::expect_used)]

use std::sync::Arc;

use chrono::NaiveDate;
use tiller_channel::wire::{Change, Place};
use tiller_core::setting::Setting;
use tiller_market::{Market, World};

pub fn day(text: &str) -> NaiveDate {
    text.parse().unwrap()
}

pub const STRATEGIES: [&str; 5] = [
    "{ manual_cpc = { bid = 1.1 } }",
    "{ manual_cpm = { bid = 30.0 } }",
    "{ target_cpa = { target = 14.0 } }",
    "{ most_clicks = {} }",
    "{ most_conversions = { ceiling = 40.0 } }",
];

/// A market whose history of so many days ends on 9 November 2026. Lines of `campaign` replace or add to
/// those of its only campaign.
pub fn small(seed: u64, days: u32, strategy: &str, campaign: &str) -> Market {
    let usual = [
        ("budget", "40.0"),
        ("auctions", "3000.0"),
        ("competition", "1.0"),
        ("ctr", "0.05"),
        ("cvr", "0.08"),
        ("promptness", "0.7"),
    ];
    let named = |key: &str| campaign.lines().any(|l| l.starts_with(&format!("{key} ")));
    let lines: Vec<String> = usual
        .iter()
        .filter(|(key, _)| !named(key))
        .map(|(key, value)| format!("{key} = {value}"))
        .collect();
    let lines = lines.join("\n");
    let text = format!(
        r#"
seed = {seed}
days = {days}
forms = ["{{}}", "{{}} price"]
tails = ["today", "north"]
[[people]]
name = "all"
device = [{{ segment = "phone", share = 0.6, cvr = 0.8 }}, {{ segment = "desktop", share = 0.4, cvr = 1.2 }}]
country = [{{ segment = "Denmark", share = 0.7 }}, {{ segment = "Elsewhere", share = 0.3, cvr = 0.2 }}]
age = [{{ segment = "18-44", share = 0.5 }}, {{ segment = "45 and over", share = 0.5, competition = 1.3 }}]
[[channels]]
name = "Findle"
least_bid = 0.05
least_budget = 1.0
people = "all"
[[accounts]]
key = "t"
name = "Amberfold Test"
token = "test-token"
currency = "EUR"
time_zone = "Europe/Copenhagen"
target_cpa = 15.0
[[accounts.campaigns]]
name = "Kits"
channel = "Findle"
kind = "keyword"
strategy = {strategy}
{lines}
{campaign}
[[accounts.campaigns.ad_groups]]
name = "Good"
stems = ["hive kit", "bee kit"]
cvr = 1.6
loose = [{{ term = "bee sting", share = 0.5, relevance = 0.02 }}, {{ term = "staff outing", share = 0.8, relevance = 1.5 }}]
[[accounts.campaigns.ad_groups]]
name = "Poor"
stems = ["bee house", "bee box"]
cvr = 0.4
"#
    );
    Market::begin(Arc::new(World::parse(&text).unwrap()), day("2026-11-09"))
}

pub fn channel_change(place: Place, set: Setting) -> Change {
    Change { id: "1".into(), place, was: None, set }
}

pub fn change(campaign: &str, set: Setting) -> Change {
    channel_change(Place { campaign: campaign.into(), ad_group: None, item: None }, set)
}
