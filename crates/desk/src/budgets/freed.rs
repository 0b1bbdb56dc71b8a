//! Money that earlier moves of the week's advice freed and nobody took.

use std::collections::HashMap;

use chrono::NaiveDate;
use tiller_core::ids::CampaignId;
use tiller_core::{Micros, Window};
use tiller_store::facts::CampaignDay;

use crate::book::{Book, Entry, PRESENT_DAYS};
use crate::budgets::room::Room;

/// Days on which budgets that were moved are remembered.
const MOVED_DAYS: u64 = 56;
/// Budgets within this share of each other are one.
const SAME: f64 = 0.03;
/// Spending less than this share of a budget leaves much of it, though budgets may lie a quarter above what a mean day spends.
const LEFT_OVER: f64 = 0.65;
/// This share of what an account spends is little.
const LITTLE: f64 = 0.02;
/// Days that tell what was spent before.
const LEAST_DAYS: usize = 7;

/// Money a day that earlier moves took from campaigns and nobody took.
#[derive(Clone, Debug, Default)]
pub struct Freed {
    /// How much.
    pub free: f64,
    /// What each campaign spends less than before it was moved.
    pub of: HashMap<CampaignId, f64>,
}

impl Freed {
    /// What campaigns spend less than before advice moved their budgets, and will once that has come to pass. Nothing where it
    /// is little.
    pub fn of_account(book: &Book, room: &Room) -> Self {
        let by_advice = || book.entries.iter().filter(|e| room.advised(e.campaign.id));
        let of: HashMap<CampaignId, f64> =
            by_advice().filter_map(|e| Some((e.campaign.id, gave(book, e)?))).collect();
        let now: f64 = of.values().sum();
        let pending: f64 = by_advice().filter_map(|e| pending(book, e)).sum();
        let lately = Window::ending(book.span.to(), PRESENT_DAYS.into());
        let all = book.total(lately).spend.to_units() / lately.days() as f64;
        let free = if now - pending < LITTLE * all { 0.0 } else { now - pending };
        Self { free, of }
    }

    /// What a campaign gave, where that was for nothing.
    pub fn gave(&self, campaign: CampaignId) -> f64 {
        let gave = self.of.get(&campaign).filter(|_| self.free > 0.0);
        gave.map_or(0.0, |gave| gave.max(0.0))
    }
}

/// What a campaign spends less a day than before its budget was moved; none where it was not.
fn gave(book: &Book, entry: &Entry) -> Option<f64> {
    let window = Window::ending(book.span.to(), MOVED_DAYS);
    let days = entry.days.iter().filter(|d| window.contains(d.day));
    let days: Vec<(f64, f64)> =
        days.filter_map(|d| Some((d.budget?.to_units(), d.tally.spend.to_units()))).collect();
    let first = days.first()?.0;
    let before = days.iter().position(|(budget, _)| (budget / first - 1.0).abs() > SAME)?;
    let mean = |of: &[(f64, f64)]| of.iter().map(|d| d.1).sum::<f64>() / of.len() as f64;
    let lately = &days[days.len().saturating_sub(PRESENT_DAYS.into())..];
    (before >= LEAST_DAYS).then(|| mean(&days[..before]) - mean(lately))
}

/// What a campaign is expected to spend more a day than on the last ones, by a change that is not to be judged yet.
fn pending(book: &Book, entry: &Entry) -> Option<f64> {
    let (adds, from) =
        book.touched.get(&entry.campaign.id)?.iter().rev().find_map(|t| Some((t.adds?, t.from)))?;
    let a_day = |last: NaiveDate| {
        let window = Window::ending(last, PRESENT_DAYS.into());
        entry.tally(window).spend.to_units() / window.days() as f64
    };
    let before = from.and_then(|from| from.pred_opt()).unwrap_or(book.span.to());
    let more = a_day(before) + adds - a_day(book.span.to());
    // Whoever leaves much of what it may spend already will not spend what it is still to be given.
    let week: Vec<&CampaignDay> = entry.days.iter().rev().take(LEAST_DAYS).collect();
    let may: f64 = week.iter().filter_map(|d| d.budget).map(Micros::to_units).sum();
    let spends: f64 = week.iter().map(|d| d.tally.spend.to_units()).sum();
    Some(if more > 0.0 && spends < LEFT_OVER * may { 0.0 } else { more })
}
