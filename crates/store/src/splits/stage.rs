//! What a fetch brings beside the report by items is staged as it comes in.

use chrono::NaiveDate;
use sqlx::{PgConnection, PgPool};
use tiller_core::Micros;
use tiller_core::ids::{AccountId, ConnectionId, ImportId};

use crate::StoreError;

/// Conversions of an item's click day, by event and age.
#[derive(Clone, Debug)]
pub struct StagedConversion {
    /// Campaign, ad group, kind, item and match type, by name.
    pub place: [String; 5],
    /// Day of the click.
    pub day: NaiveDate,
    /// The event.
    pub event: String,
    /// Days between click and report.
    pub age_days: i16,
    /// How many, in millionths.
    pub count: Micros,
    /// Their value.
    pub value: Micros,
    /// Whether the channel counts it.
    pub counted: bool,
}

/// Counts of a split.
#[derive(Clone, Copy, Debug)]
pub struct Counts {
    /// Times shown.
    pub impressions: i64,
    /// Times clicked.
    pub clicks: i64,
    /// Money paid.
    pub spend: Micros,
    /// Results, in millionths.
    pub conversions: Micros,
    /// Their value.
    pub value: Micros,
}

/// An ad group's day, of some people.
#[derive(Clone, Debug)]
pub struct StagedSegment {
    /// Campaign and ad group, by name.
    pub place: [String; 2],
    /// The day.
    pub day: NaiveDate,
    /// What tells the people apart.
    pub dimension: &'static str,
    /// Which of them.
    pub segment: String,
    /// What was counted.
    pub counts: Counts,
}

/// A keyword's day, of one search term.
#[derive(Clone, Debug)]
pub struct StagedTerm {
    /// Campaign, ad group, keyword and match type, by name.
    pub place: [String; 4],
    /// The day.
    pub day: NaiveDate,
    /// What was searched for.
    pub term: String,
    /// What was counted.
    pub counts: Counts,
}

/// Throws away what an earlier try has staged.
pub async fn clear(
    db: &PgPool,
    account: AccountId,
    connection: ConnectionId,
) -> Result<(), StoreError> {
    let mut tx = crate::begin(db).await?;
    clear_in(&mut tx, account, connection).await?;
    Ok(tx.commit().await?)
}

pub(super) async fn clear_in(
    tx: &mut PgConnection,
    account: AccountId,
    connection: ConnectionId,
) -> Result<(), StoreError> {
    for sql in [
        "DELETE FROM fetched_conversion WHERE account_id = $1 AND connection_id = $2",
        "DELETE FROM fetched_segment WHERE account_id = $1 AND connection_id = $2",
        "DELETE FROM fetched_term WHERE account_id = $1 AND connection_id = $2",
    ] {
        sqlx::query(sql).bind(account.0).bind(connection.0).execute(&mut *tx).await?;
    }
    Ok(())
}

/// A column of rows.
fn column<R, T>(rows: &[R], of: impl Fn(&R) -> T) -> Vec<T> {
    rows.iter().map(of).collect()
}

/// Writes down how many rows an attempt has staged, of conversions, segments and terms, and tells the planner.
pub async fn staged(
    db: &PgPool,
    account: AccountId,
    import: ImportId,
    rows: [i64; 3],
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE report_import SET staged_conversions = $3, staged_segments = $4, staged_terms = $5 WHERE account_id = $1 AND id = $2",
        account.0,
        import.0,
        rows[0],
        rows[1],
        rows[2]
    )
    .execute(db)
    .await?;
    sqlx::raw_sql("ANALYZE fetched_conversion; ANALYZE fetched_segment; ANALYZE fetched_term")
        .execute(db)
        .await?;
    Ok(())
}

/// Stages conversions.
pub async fn stage_conversions(
    db: &PgPool,
    account: AccountId,
    connection: ConnectionId,
    import: ImportId,
    rows: &[StagedConversion],
) -> Result<(), StoreError> {
    let place = |i: usize| column(rows, |r| r.place[i].clone());
    sqlx::query!(
        "INSERT INTO fetched_conversion (account_id, connection_id, import_id, campaign, ad_group, kind, item, match_type, day, event, age_days, count, value, counted)
         SELECT $1, $2, $14, * FROM unnest($3::text[], $4::text[], $5::text[], $6::text[], $7::text[], $8::date[], $9::text[], $10::smallint[], $11::bigint[],
                                     $12::bigint[], $13::boolean[])",
        account.0,
        connection.0,
        &place(0),
        &place(1),
        &place(2),
        &place(3),
        &place(4),
        &column(rows, |r| r.day),
        &column(rows, |r| r.event.clone()),
        &column(rows, |r| r.age_days),
        &column(rows, |r| r.count.get()),
        &column(rows, |r| r.value.get()),
        &column(rows, |r| r.counted),
        import.0
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Stages segments.
pub async fn stage_segments(
    db: &PgPool,
    account: AccountId,
    connection: ConnectionId,
    import: ImportId,
    rows: &[StagedSegment],
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO fetched_segment (account_id, connection_id, import_id, campaign, ad_group, day, dimension, segment, impressions, clicks, spend, conversions, value)
         SELECT $1, $2, $13, * FROM unnest($3::text[], $4::text[], $5::date[], $6::text[], $7::text[], $8::bigint[], $9::bigint[], $10::bigint[], $11::bigint[],
                                     $12::bigint[])",
        account.0,
        connection.0,
        &column(rows, |r| r.place[0].clone()),
        &column(rows, |r| r.place[1].clone()),
        &column(rows, |r| r.day),
        &column(rows, |r| r.dimension.to_owned()),
        &column(rows, |r| r.segment.clone()),
        &column(rows, |r| r.counts.impressions),
        &column(rows, |r| r.counts.clicks),
        &column(rows, |r| r.counts.spend.get()),
        &column(rows, |r| r.counts.conversions.get()),
        &column(rows, |r| r.counts.value.get()),
        import.0
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Stages search terms.
pub async fn stage_terms(
    db: &PgPool,
    account: AccountId,
    connection: ConnectionId,
    import: ImportId,
    rows: &[StagedTerm],
) -> Result<(), StoreError> {
    let place = |i: usize| column(rows, |r| r.place[i].clone());
    sqlx::query!(
        "INSERT INTO fetched_term (account_id, connection_id, import_id, campaign, ad_group, item, match_type, day, term, impressions, clicks, spend, conversions, value)
         SELECT $1, $2, $14, * FROM unnest($3::text[], $4::text[], $5::text[], $6::text[], $7::date[], $8::text[], $9::bigint[], $10::bigint[], $11::bigint[],
                                     $12::bigint[], $13::bigint[])",
        account.0,
        connection.0,
        &place(0),
        &place(1),
        &place(2),
        &place(3),
        &column(rows, |r| r.day),
        &column(rows, |r| r.term.clone()),
        &column(rows, |r| r.counts.impressions),
        &column(rows, |r| r.counts.clicks),
        &column(rows, |r| r.counts.spend.get()),
        &column(rows, |r| r.counts.conversions.get()),
        &column(rows, |r| r.counts.value.get()),
        import.0
    )
    .execute(db)
    .await?;
    Ok(())
}
