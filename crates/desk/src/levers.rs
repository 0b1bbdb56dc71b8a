//! What each campaign's daily budget can do, learned from its own days (A4).

use std::collections::HashMap;

use chrono::Datelike;
use tiller_channel::report::Status;
use tiller_channel::wire::{Budget, Strategy};
use tiller_core::evidence::prior_from_peers;
use tiller_core::response::lever::{Bidding, BudgetDay, Lever, lever, rate};
use tiller_core::response::regression::Prior;
use tiller_core::response::{Curve, Day, fit, of_channel};
use tiller_core::verdict::Early;
use tiller_core::{Micros, Tally, Window};
use tiller_store::CampaignId;

use crate::book::{Book, Entry, Judged};
use crate::settings::Settings;

/// Settled days that curves are fitted to.
const CURVE_DAYS: u64 = 112;
/// Settled days that rates are read from.
const RATE_DAYS: u64 = 56;
/// Settled days that tell what is spent now.
const PRESENT_DAYS: u64 = 28;
/// Conversions with which the channel's value of one weighs.
const VALUE_WEIGHT: f64 = 10.0;

/// A campaign with a daily budget, and what that can do.
#[derive(Clone, Debug)]
pub struct Line {
    /// The campaign.
    pub campaign: CampaignId,
    /// Its name.
    pub name: String,
    /// Its daily budget, in units of currency.
    pub budget: f64,
    /// What it spends a day, on average.
    pub spend: f64,
    /// Whether a strategy learns its bids, which a jump of the budget would disturb.
    pub learns: bool,
    /// What its budget can do.
    pub lever: Lever,
    /// Value of a conversion, drawn toward its channel's.
    pub worth: f64,
}

/// The curves of all campaigns, each with the belief of its channel.
fn curves(book: &Book) -> HashMap<CampaignId, Curve> {
    let window = Window::ending(book.last_settled(), CURVE_DAYS);
    let days: Vec<(&Entry, Vec<Day>)> = book.entries.iter().map(|e| (e, days(e, window))).collect();
    let mut beliefs: HashMap<&str, Prior> = HashMap::new();
    for (e, _) in &days {
        let channel = e.campaign.channel.as_str();
        beliefs.entry(channel).or_insert_with(|| {
            let of_it: Vec<&[Day]> = days
                .iter()
                .filter(|(o, _)| o.campaign.channel == channel)
                .map(|(_, d)| d.as_slice())
                .collect();
            of_channel(&of_it)
        });
    }
    days.iter()
        .filter_map(|(e, d)| {
            Some((e.campaign.id, fit(d, *beliefs.get(e.campaign.channel.as_str())?)?))
        })
        .collect()
}

fn days(entry: &Entry, window: Window) -> Vec<Day> {
    entry
        .days
        .iter()
        .filter(|d| window.contains(d.day))
        .map(|d| Day {
            weekday: d.day.weekday().num_days_from_monday() as usize,
            at: (d.day - window.from()).num_days() as f64,
            spend: d.tally.spend.to_units(),
            conversions: d.tally.conversions,
        })
        .collect()
}

/// The campaigns whose daily budgets can be moved: running, not just launched, with conversions that can be
/// trusted.
pub fn of_account(book: &Book, settings: &Settings) -> Vec<Line> {
    let curves = curves(book);
    let window = Window::ending(book.last_settled(), RATE_DAYS);
    let present = Window::ending(book.last_settled(), PRESENT_DAYS);
    // What has just been launched is left in peace.
    let fresh = |j: &Option<Judged>| {
        matches!(j.as_ref().and_then(|j| j.diagnosis.early), Some(Early::Launched { .. }))
    };
    let movable: Vec<(&Entry, Tally)> = book
        .entries
        .iter()
        .zip(book.judge_all())
        .filter(|(e, j)| book.findings(e).is_empty() && !fresh(j))
        .map(|(e, _)| e)
        .map(|e| (e, e.tally(window)))
        .filter(|(_, t)| t.spend.get() > 0)
        .collect();
    let line = |(entry, tally): &(&Entry, Tally)| {
        let set = settings.campaign(entry.campaign.id)?;
        let Some(Budget::Daily { amount }) = set.budget else { return None };
        if set.status != Status::Active {
            return None;
        }
        let peers: Vec<&Tally> = movable
            .iter()
            .filter(|(o, _)| {
                o.campaign.id != entry.campaign.id
                    && o.campaign.channel == entry.campaign.channel
                    && o.campaign.kind == entry.campaign.kind
            })
            .map(|(_, t)| t)
            .collect();
        let others: Vec<(f64, f64)> =
            peers.iter().map(|t| (t.conversions, t.spend.to_units())).collect();
        let spend = tally.spend.to_units();
        let rate = prior_from_peers(&others)
            .map_or(tally.conversions / spend, |p| rate(tally.conversions, spend, p));
        let together: Tally = peers.iter().map(|t| **t).sum::<Tally>() + *tally;
        let usual = together.aov().unwrap_or(0.0);
        let worth =
            (tally.value.to_units() + VALUE_WEIGHT * usual) / (tally.conversions + VALUE_WEIGHT);
        let bidding = match set.strategy {
            Strategy::MostClicks | Strategy::MostConversions | Strategy::MostValue => {
                Bidding::SpendsAll
            }
            _ => Bidding::Priced,
        };
        let budget_days: Vec<BudgetDay> = entry
            .days
            .iter()
            .filter(|d| present.contains(d.day))
            .map(|d| BudgetDay {
                spend: d.tally.spend.to_units(),
                budget: d.budget.map(Micros::to_units),
                lost_to_budget: d.lost_to_budget,
            })
            .collect();
        let cpc = tally.cpc().filter(|c| *c > 0.0)?;
        Some(Line {
            campaign: entry.campaign.id,
            name: entry.campaign.name.clone(),
            budget: amount.to_units(),
            spend: entry.tally(present).spend.to_units() / present.days() as f64,
            learns: set.strategy.automatic(),
            lever: lever(bidding, curves.get(&entry.campaign.id), rate, cpc, &budget_days),
            worth,
        })
    };
    movable.iter().filter_map(line).collect()
}
