//! What came since a campaign's bids were last moved. After its look-back a campaign is judged by the days of the period
//! again, and some of them tell of bids that are no longer set: another step needs what came since to ask for it too.

use std::collections::HashMap;

use chrono::NaiveDate;
use tiller_core::evidence::over_target;
use tiller_core::ids::CampaignId;
use tiller_core::setting::{Budget, Setting};
use tiller_core::window::{earlier, later};
use tiller_core::{Tally, Window};
use tiller_store::PgPool;

use crate::DeskError;
use crate::book::quiet::Quiet;
use crate::book::{Book, Entry};
use crate::change_words::{amount, sentence};
use crate::made::{self, MadeChange};

/// A verdict that was entered is left below this probability.
const LEFT: f64 = 0.7;
/// Smaller moves of a bid change nothing that could be told.
const LEAST: f64 = 0.05;

/// What is known since.
#[derive(Clone, Debug)]
pub struct Since {
    /// How likely the campaign is over its target with its present bids.
    over: f64,
    quiet: Quiet,
}

impl Since {
    /// Why a lower bid has to wait, if it has: what came since does not ask for it.
    pub fn against_less(&self) -> Option<&Quiet> {
        (self.over < LEFT).then_some(&self.quiet)
    }

    /// What waiting says.
    pub fn quiet(&self) -> &Quiet {
        &self.quiet
    }

    /// Why a higher bid has to wait.
    pub fn against_more(&self) -> Option<&Quiet> {
        (self.over > 1.0 - LEFT).then_some(&self.quiet)
    }
}

/// What the last days' changes tell.
#[derive(Clone, Debug, Default)]
pub struct Lately {
    /// Of campaigns whose bids were moved within the looked-at days.
    pub since: HashMap<CampaignId, Since>,
    /// Money a day that lower bids have freed within those days and that nobody has been given since.
    pub freed: f64,
}

/// Reads it as of the book's last day.
pub async fn of_account(db: &PgPool, book: &Book) -> Result<Lately, DeskError> {
    let Some(window) = book.settled() else { return Ok(Lately::default()) };
    let mut changes = made::after(db, &book.account, window.from()).await?;
    changes.retain(|c| c.from <= book.span.to());
    Ok(of(book, window, &changes))
}

fn of(book: &Book, window: Window, changes: &[MadeChange]) -> Lately {
    let mut since = HashMap::new();
    for change in changes {
        let Some(entry) = book.entries.iter().find(|e| e.campaign.id == change.campaign) else {
            continue;
        };
        if moved(change) {
            let until = later(change.from, window.days() + book.account.settle_days());
            let what = sentence(change.was.as_ref(), &change.set);
            let quiet = Quiet { what, until: Some(until), undone: false, unclear: true };
            let over = over(entry, window, change.from);
            since.insert(change.campaign, Since { over, quiet });
        }
    }
    Lately { since, freed: freed(book, changes) }
}

/// Days before and after a lower bid that tell what it has freed: two weeks, so that weekdays weigh the same.
const BESIDE: u64 = 14;

/// What campaigns with lower bids spend less a day than before the first of them, less what budgets have been raised by
/// since: that has been given away. No more than what the account spends less.
fn freed(book: &Book, changes: &[MadeChange]) -> f64 {
    let mut first: HashMap<CampaignId, NaiveDate> = HashMap::new();
    for change in changes.iter().filter(|c| moved(c) && c.bid_times().is_some_and(|t| t < 1.0)) {
        first.entry(change.campaign).or_insert(change.from);
    }
    let Some(begun) = first.values().min() else { return 0.0 };
    let last = book.span.to();
    let saved = |from: NaiveDate, spend: &dyn Fn(Window) -> Tally| {
        let a_day = |from: NaiveDate, to: NaiveDate| {
            let window = Window::new(from, to).filter(|w| w.days() >= BESIDE / 2)?;
            Some(spend(window).spend.to_units() / window.days() as f64)
        };
        let before = a_day(earlier(from, BESIDE), earlier(from, 1))?;
        Some((before - a_day(from.max(earlier(last, BESIDE - 1)), last)?).max(0.0))
    };
    let by_bids = first.iter().filter_map(|(id, from)| {
        let entry = book.entry(*id).ok()?;
        saved(*from, &|w| entry.tally(w))
    });
    let raised = changes
        .iter()
        .filter(|c| c.from >= *begun && matches!(c.set, Setting::Budget(Budget::Daily { .. })))
        .filter_map(|c| Some((c.was.as_ref().and_then(amount)?, amount(&c.set)?)))
        .map(|(was, to)| (to - was).max(0.0));
    let left = by_bids.sum::<f64>() - raised.sum::<f64>();
    left.min(saved(*begun, &|w| book.total(w)).unwrap_or(0.0)).max(0.0)
}

/// Whether a change moves a campaign's bids.
fn moved(change: &MadeChange) -> bool {
    matches!(change.set, Setting::Bid(_) | Setting::Strategy(_) | Setting::BidCeiling(_))
        && change.bid_times().is_none_or(|times| (times - 1.0).abs() >= LEAST)
}

/// How likely a campaign is over its target, by the settled days from one on; as likely as not without any.
fn over(entry: &Entry, window: Window, from: NaiveDate) -> f64 {
    let unknown = 0.5;
    let Some((target, since)) = entry.target.zip(Window::new(from.max(window.from()), window.to()))
    else {
        return unknown;
    };
    let aov = entry.tally(window).aov();
    let tally = entry.tally(since);
    let results = match (target, aov) {
        (tiller_core::Target::Roas(_), Some(aov)) if aov.units() > 0.0 => {
            tally.value.to_units() / aov.units()
        }
        _ => tally.conversions,
    };
    let phi = entry.rules(target, window).dispersion;
    let cpa = target.as_cpa(aov);
    cpa.map_or(unknown, |cpa| over_target(tally.spend.to_units() / phi, results / phi, cpa))
}
