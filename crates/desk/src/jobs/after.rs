//! What follows from new figures, in this order: days settle, look-backs that are due are judged, curves are fitted, score is kept,
//! courses take the steps due.

use chrono::NaiveDate;
use tiller_core::ids::ConnectionId;
use tiller_core::window::earlier;
use tiller_store::PgPool;
use tiller_store::connections;
use tiller_store::people::{self, Account};

use crate::book::{Book, PeriodChoice};
use crate::budgets::curves;
use crate::{DeskError, courses, look_backs, measure, scores};

/// A channel that has told nothing for so many days, and is not being asked, keeps the others waiting no longer.
const SILENT: u64 = 7;

/// After new figures up to a day, through a connection or from a file.
pub(super) async fn new_figures(
    db: &PgPool,
    account: &Account,
    through: Option<ConnectionId>,
    last_day: NaiveDate,
) -> Result<(), DeskError> {
    measure::learn_lag(db, account.id, last_day).await?;
    // After how many days one has settled may be another number now.
    let account = &people::account(db, account.id).await?.ok_or(DeskError::NotFound("account"))?;
    look_backs::due::judge(db, account).await?;
    curves::refit(db, account.id).await?;
    if let Some(told) = told_by_all(db, account, through, last_day).await? {
        // It holds an evening's figures, which the callers need no room for.
        Box::pin(scores::keep::score(db, account, told)).await?;
    }
    courses::advance(db, account).await?;
    // The first page after new figures finds them read.
    Book::load(db, account, PeriodChoice::default()).await?;
    Ok(())
}

/// The last day that all channels have told of: what is said of an evening, and what came of it, are of the whole account. None
/// while a channel is being fetched for the first time.
async fn told_by_all(
    db: &PgPool,
    account: &Account,
    through: Option<ConnectionId>,
    last_day: NaiveDate,
) -> Result<Option<NaiveDate>, DeskError> {
    let jobs = connections::latest_jobs(db, account.id).await?;
    let mut told = last_day;
    for c in connections::list(db, account.id).await?.iter().filter(|c| Some(c.id) != through) {
        let open = jobs.iter().any(|j| j.connection == c.id && j.state.open());
        match c.fetched_to {
            Some(to) if open || to > earlier(last_day, SILENT) => told = told.min(to),
            None if open => return Ok(None),
            _ => {}
        }
    }
    Ok(Some(told))
}
