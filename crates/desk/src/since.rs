//! What came since a campaign's bids were last moved. After its look-back a campaign is judged by the days of the period
//! again, and some of them tell of bids that are no longer set: another step needs what came since to ask for it too.

use std::collections::HashMap;

use serde::Deserialize;
use tiller_core::Window;
use tiller_core::evidence::over_target;
use tiller_core::ids::CampaignId;
use tiller_core::learning::relative;
use tiller_core::setting::Setting;
use tiller_core::window::later;
use tiller_store::touched::{self, Made};
use tiller_store::{PgPool, StoreError};

use crate::DeskError;
use crate::book::quiet::Quiet;
use crate::book::{Book, Entry};
use crate::change_words::{amount, sentence};

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

    /// Why a higher bid has to wait.
    pub fn against_more(&self) -> Option<&Quiet> {
        (self.over > 1.0 - LEFT).then_some(&self.quiet)
    }
}

/// By campaign, those whose bids were moved within the looked-at days.
pub type Moves = HashMap<CampaignId, Since>;

/// Reads them as of the book's last day.
pub async fn of_account(db: &PgPool, book: &Book) -> Result<Moves, DeskError> {
    let Some(window) = book.settled() else { return Ok(Moves::new()) };
    let made = touched::made_after(db, book.account.id, window.from()).await?;
    of(book, window, &made)
}

fn of(book: &Book, window: Window, made: &[Made]) -> Result<Moves, DeskError> {
    let mut moves = Moves::new();
    for change in made.iter().filter(|c| c.from <= book.span.to()) {
        let read = |v| Setting::deserialize(v).map_err(StoreError::from);
        let was = change.was.as_ref().map(read).transpose()?;
        let set = read(&change.set_to)?;
        let Some(entry) = book.entries.iter().find(|e| e.campaign.id == change.campaign) else {
            continue;
        };
        if moved(was.as_ref(), &set) {
            let until = later(change.from, window.days() + book.account.settle_days());
            let what = sentence(was.as_ref(), &set);
            let quiet = Quiet { what, until: Some(until), undone: false, unclear: true };
            let over = over(entry, window, change.from);
            moves.insert(change.campaign, Since { over, quiet });
        }
    }
    Ok(moves)
}

/// Whether a change of a campaign moves its bids.
fn moved(was: Option<&Setting>, set: &Setting) -> bool {
    if !matches!(set, Setting::Bid(_) | Setting::Strategy(_) | Setting::BidCeiling(_)) {
        return false;
    }
    let both = was.and_then(amount).zip(amount(set));
    both.is_none_or(|(from, to)| relative(from, to).is_none_or(|by| by.abs() >= LEAST))
}

/// How likely a campaign is over its target, by the settled days from one on; as likely as not without any.
fn over(entry: &Entry, window: Window, from: chrono::NaiveDate) -> f64 {
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
