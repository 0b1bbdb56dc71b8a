//! Statements are kept once a fortnight, and as something begins; each is checked when its days are known.

use chrono::NaiveDate;
use tiller_core::window::{earlier, later};
use tiller_store::PgPool;
use tiller_store::people::Account;
use tiller_store::scores as store;

use super::evening::{BEFORE, EVERY, Evenings};
use super::{begun, came};
use crate::book::{Book, PeriodChoice};
use crate::{DeskError, courses};

/// Keeps what is to be said by a day, and checks what is due. Evenings that nobody kept are worked out from what had been reported
/// by then.
pub(crate) async fn score(
    db: &PgPool,
    account: &Account,
    last_day: NaiveDate,
) -> Result<(), DeskError> {
    let Some(book) = Book::load(db, account, PeriodChoice::default()).await? else {
        return Ok(());
    };
    let courses = courses::list(db, account).await?;
    let begun = begun::since(db, &book, &courses, last_day).await?;
    let next = match store::stated_until(db, account.id).await? {
        Some(last) => later(last, EVERY),
        None => later(book.span.from(), BEFORE).max(earlier(last_day, super::DAYS)),
    };
    let first = begun.keys().next().map_or(next, |day| next.min(*day));
    if first <= last_day
        && let Some(evenings) = Evenings::of(db, account, courses, first, last_day).await?
    {
        for (day, all) in begun {
            if let Some(evening) = evenings.at(db, day).await? {
                let statements = begun::statements(&evening, &all);
                store::keep(db, account.id, last_day, &statements).await?;
            }
        }
        let mut day = next;
        while day <= last_day {
            if let Some(evening) = evenings.at(db, day).await? {
                let statements = evening.statements(db).await?;
                store::keep(db, account.id, last_day, &statements).await?;
            }
            store::stated(db, account.id, day).await?;
            day = later(day, EVERY);
        }
    }
    let due = store::due(db, account.id, last_day).await?;
    let Some(first) = due.iter().map(|d| d.from).min() else { return Ok(()) };
    // All the days that any of them is about.
    let all = PeriodChoice { from: Some(first), to: Some(last_day), ..PeriodChoice::default() };
    let Some(book) = Book::load(db, account, all).await? else { return Ok(()) };
    let found = came::check(db, &book, &due).await?;
    Ok(store::checked(db, account.id, &found).await?)
}
