//! What follows from new figures, in this order: days settle, look-backs that are due are judged, curves are fitted, score is kept,
//! courses take the steps due.

use chrono::NaiveDate;
use tiller_store::PgPool;
use tiller_store::people::{self, Account};

use crate::book::{Book, PeriodChoice};
use crate::budgets::curves;
use crate::{DeskError, courses, look_backs, measure, scores};

/// After new figures up to a day.
pub(super) async fn new_figures(
    db: &PgPool,
    account: &Account,
    last_day: NaiveDate,
) -> Result<(), DeskError> {
    measure::learn_lag(db, account.id, last_day).await?;
    // After how many days one has settled may be another number now.
    let account = &people::account(db, account.id).await?.ok_or(DeskError::NotFound("account"))?;
    look_backs::due::judge(db, account).await?;
    curves::refit(db, account.id).await?;
    // It holds an evening's figures, which the callers need no room for.
    Box::pin(scores::keep::score(db, account, last_day)).await?;
    courses::advance(db, account).await?;
    // The first page after new figures finds them read.
    Book::load(db, account, PeriodChoice::default()).await?;
    Ok(())
}
