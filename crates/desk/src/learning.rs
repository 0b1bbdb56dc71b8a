//! Which automatic strategies are still learning: since their launch, or since a change that made them begin anew.

use std::collections::HashMap;
use std::sync::Arc;

use chrono::{Days, NaiveDate};
use serde::Deserialize;
use tiller_core::ids::CampaignId;
use tiller_core::learning::{self, LONGEST, Learning};
use tiller_core::setting::{Setting, Status};
use tiller_store::touched::{self, Made};
use tiller_store::{PgPool, StoreError};

use crate::DeskError;
use crate::account::settings::Settings;
use crate::book::{Book, Entry, Period};
use crate::change_words::moved;
use crate::kept::Kept;

/// An account's campaigns that are learning.
pub type Learners = HashMap<CampaignId, Learning>;

static KEPT: Kept<(Period, ()), Learners> = Kept::new(24);

/// The campaigns of an account that are learning on its last reported day.
pub async fn of_account(db: &PgPool, book: &Book) -> Result<Arc<Learners>, DeskError> {
    let read = async || {
        let settings = Settings::of_book(db, book).await?;
        let last = book.span.to();
        let earliest = last.checked_sub_days(Days::new(LONGEST)).unwrap_or(last);
        let made = touched::made_after(db, book.account.id, earliest).await?;
        learners(book, &settings, &made)
    };
    book.keep(&KEPT, (), read).await
}

fn learners(book: &Book, settings: &Settings, made: &[Made]) -> Result<Learners, DeskError> {
    let mut restarts: HashMap<CampaignId, NaiveDate> = HashMap::new();
    for change in made {
        let read = |v| Setting::deserialize(v).map_err(StoreError::from);
        let was = change.was.as_ref().map(read).transpose()?;
        let set = read(&change.set_to)?;
        if learning::restarts(true, moved(was.as_ref(), &set)) {
            restarts.insert(change.campaign, change.from);
        }
    }
    let learner = |e: &Entry| {
        let set = settings.campaign(e.campaign.id)?;
        if !set.strategy.automatic() || set.status != Status::Active {
            return None;
        }
        let began = restarts.get(&e.campaign.id).copied().max(book.launched(e))?;
        let learning = Learning::since(began, book.span.to(), a_day(book, e))?;
        Some((e.campaign.id, learning))
    };
    Ok(book.entries.iter().filter_map(learner).collect())
}

/// Conversions a day, from the settled days of the period.
fn a_day(book: &Book, entry: &Entry) -> f64 {
    book.settled().map_or(0.0, |w| entry.tally(w).conversions / entry.reported(w).max(1) as f64)
}
