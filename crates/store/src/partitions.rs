//! The parts in which facts lie, by the quarter of their day.

use std::collections::BTreeSet;

use chrono::{Datelike, NaiveDate, Utc};
use sqlx::PgPool;

use crate::StoreError;

/// Quarters ahead of today that are made before anybody needs them.
const AHEAD: u32 = 2;

/// Makes the parts for days, each in a transaction of its own: nobody waits for more than one of them.
pub async fn ensure(
    db: &PgPool,
    days: impl IntoIterator<Item = NaiveDate>,
) -> Result<(), StoreError> {
    // Where a quarter goes on by months, each of them counts.
    let months: BTreeSet<NaiveDate> = days.into_iter().filter_map(|d| d.with_day(1)).collect();
    let months: Vec<NaiveDate> = months.into_iter().collect();
    let missing = sqlx::query_scalar!(
        r#"SELECT m AS "m!" FROM unnest($1::date[]) AS m WHERE EXISTS (
               SELECT FROM unnest(ARRAY['item_day', 'conversion_day', 'segment_day', 'term_day']) AS facts
               WHERE to_regclass(facts || to_char(m, '_YYYY"q"Q')) IS NULL AND to_regclass(facts || to_char(m, '_YYYY_MM')) IS NULL)"#,
        &months
    )
    .fetch_all(db)
    .await?;
    for month in missing {
        sqlx::query!("SELECT ensure_part($1)", month).execute(db).await?;
    }
    Ok(())
}

/// Makes those of today and of the quarters ahead.
pub async fn ahead(db: &PgPool) -> Result<(), StoreError> {
    let today = Utc::now().date_naive();
    let quarters = (0..=AHEAD).filter_map(|n| today.checked_add_months(chrono::Months::new(3 * n)));
    ensure(db, quarters).await
}
