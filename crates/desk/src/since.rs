//! What came since a campaign's bids were last moved. After its look-back a campaign is judged by the days of the period
//! again, and some of them tell of bids that are no longer set: another step needs what came since to ask for it too.

use std::collections::HashMap;

use chrono::NaiveDate;
use tiller_core::Window;
use tiller_core::evidence::over_target;
use tiller_core::ids::CampaignId;
use tiller_core::setting::Setting;
use tiller_core::window::later;
use tiller_store::PgPool;

use crate::DeskError;
use crate::account::settings::Settings;
use crate::book::quiet::Quiet;
use crate::book::{Book, Entry};
use crate::change_words::sentence;
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
    /// So likely over its target, and what a campaign left alone for that says.
    pub fn new(over: f64, quiet: Quiet) -> Self {
        Self { over, quiet }
    }

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

/// Of campaigns whose bids were moved within the looked-at days, as of the book's last day.
pub async fn of_account(
    db: &PgPool,
    book: &Book,
    settings: &Settings,
) -> Result<HashMap<CampaignId, Since>, DeskError> {
    let Some(window) = book.settled() else { return Ok(HashMap::new()) };
    let mut changes = made::after(db, &book.account, window.from()).await?;
    changes.retain(|c| c.from <= book.span.to());
    let mut since = HashMap::new();
    let by_budget = |c: &MadeChange| {
        settings.campaign(c.campaign).is_some_and(|c| c.strategy.spends_any_budget())
    };
    for change in changes.iter().filter(|c| moved(c, by_budget(c))) {
        let Ok(entry) = book.entry(change.campaign) else { continue };
        let until = later(change.from, window.days() + book.account.settle_days());
        let what = sentence(change.was.as_ref(), &change.set);
        let quiet = Quiet { what, until: Some(until), undone: false, unclear: true };
        let over = over(entry, window, change.from);
        since.insert(change.campaign, Since::new(over, quiet));
    }
    Ok(since)
}

/// Whether a change moves a campaign's bids, which are its budget's matter where its strategy spends any.
fn moved(change: &MadeChange, by_budget: bool) -> bool {
    let times = match (&change.was, &change.set) {
        (Some(Setting::Budget(was)), Setting::Budget(set)) if by_budget => {
            Some(set.per_day().to_units() / was.per_day().to_units())
        }
        (_, set) if set.moves_bids() => change.bid_times(),
        _ => return false,
    };
    times.is_none_or(|times| (times - 1.0).abs() >= LEAST)
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

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::Micros;
    use tiller_core::setting::Budget;

    fn change(was: Setting, set: Setting) -> MadeChange {
        let from = NaiveDate::from_ymd_opt(2026, 11, 3).unwrap();
        MadeChange { campaign: CampaignId(1), from, was: Some(was), set }
    }

    fn budget(units: f64) -> Setting {
        Setting::Budget(Budget::Daily { amount: Micros::from_units(units) })
    }

    #[test]
    fn a_budget_moves_bids_where_it_is_always_spent() {
        let cut = change(budget(100.0), budget(81.0));
        assert!(moved(&cut, true) && !moved(&cut, false));
        assert!(!moved(&change(budget(100.0), budget(97.0)), true), "too little to be told");
        let bid = |units| Setting::Bid(Some(Micros::from_units(units)));
        assert!(moved(&change(bid(1.0), bid(0.8)), false));
        assert!(moved(&change(bid(1.0), Setting::BidCeiling(None)), false), "another sort of bid");
    }
}
