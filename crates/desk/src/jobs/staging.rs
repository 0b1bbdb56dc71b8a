//! The reports beside the one by items, on their way into the database: read row by row, staged in batches.

use serde::de::DeserializeOwned;
use tiller_channel::connection::{Connection as _, HttpConnection, rows};
use tiller_channel::wire::{ConversionRow, ReportKind, SegmentRow, TermRow};
use tiller_core::ids::ImportId;
use tiller_core::{Micros, Window};
use tiller_store::StoreError;
use tiller_store::connections::{self, Connection, Sync};
use tiller_store::fault::{self, Point};
use tiller_store::splits::{self, Counts, StagedConversion, StagedSegment, StagedTerm};

use super::fetch::Trouble;
use crate::PgPool;

/// Fetches and stages conversions for one window, segments and terms for another, all of one attempt's import.
pub(super) async fn stage(
    db: &PgPool,
    sync: &Sync,
    c: &Connection,
    channel: &HttpConnection,
    import: ImportId,
    conversions: Window,
    people: Window,
) -> Result<(), Trouble> {
    splits::clear(db, c.account, c.id).await?;
    let rows = [
        each::<ConversionRow>(db, sync, c, channel, import, conversions).await?,
        each::<SegmentRow>(db, sync, c, channel, import, people).await?,
        each::<TermRow>(db, sync, c, channel, import, people).await?,
    ];
    Ok(splits::staged(db, c.account, import, rows).await?)
}

/// A row of a report that is staged.
trait Staged: DeserializeOwned + Send + 'static {
    const KIND: ReportKind;
    fn put(
        db: &PgPool,
        c: &Connection,
        import: ImportId,
        rows: Vec<Self>,
    ) -> impl Future<Output = Result<(), StoreError>> + Send;
}

impl Staged for ConversionRow {
    const KIND: ReportKind = ReportKind::Conversions;
    async fn put(
        db: &PgPool,
        c: &Connection,
        import: ImportId,
        rows: Vec<Self>,
    ) -> Result<(), StoreError> {
        let rows: Vec<_> = rows.into_iter().map(conversion).collect();
        splits::stage_conversions(db, c.account, c.id, import, &rows).await
    }
}

impl Staged for SegmentRow {
    const KIND: ReportKind = ReportKind::Segments;
    async fn put(
        db: &PgPool,
        c: &Connection,
        import: ImportId,
        rows: Vec<Self>,
    ) -> Result<(), StoreError> {
        let rows: Vec<_> = rows.into_iter().map(segment).collect();
        splits::stage_segments(db, c.account, c.id, import, &rows).await
    }
}

impl Staged for TermRow {
    const KIND: ReportKind = ReportKind::Terms;
    async fn put(
        db: &PgPool,
        c: &Connection,
        import: ImportId,
        rows: Vec<Self>,
    ) -> Result<(), StoreError> {
        let rows: Vec<_> = rows.into_iter().map(term).collect();
        splits::stage_terms(db, c.account, c.id, import, &rows).await
    }
}

/// Stages a report's rows as they come in, and tells how far it is.
async fn each<T: Staged>(
    db: &PgPool,
    sync: &Sync,
    c: &Connection,
    channel: &HttpConnection,
    import: ImportId,
    window: Window,
) -> Result<i64, Trouble> {
    let pieces = channel.report(T::KIND, window.from(), window.to()).await?;
    let mut read = 0;
    let mut batches = rows::<T>(pieces);
    while let Some(batch) = batches.recv().await {
        let batch = batch?;
        read += batch.len() as i64;
        T::put(db, c, import, batch).await?;
        fault::at(Point::SomeStaged);
        connections::progress(db, sync, T::KIND.word(), 0, read).await?;
    }
    Ok(read)
}

fn conversion(r: ConversionRow) -> StagedConversion {
    StagedConversion {
        place: [
            r.campaign,
            r.ad_group,
            r.kind.word().into(),
            r.item,
            r.match_type.map_or(String::new(), |m| m.word().into()),
        ],
        day: r.date,
        event: r.event,
        age_days: i16::try_from(r.age_days).unwrap_or(i16::MAX),
        count: Micros::from_units(r.conversions),
        value: Micros::from_units(r.value),
        counted: r.counted,
    }
}

fn counts(impressions: u64, clicks: u64, spend: f64, conversions: f64, value: f64) -> Counts {
    let whole = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
    Counts {
        impressions: whole(impressions),
        clicks: whole(clicks),
        spend: Micros::from_units(spend),
        conversions: Micros::from_units(conversions),
        value: Micros::from_units(value),
    }
}

fn segment(r: SegmentRow) -> StagedSegment {
    StagedSegment {
        counts: counts(r.impressions, r.clicks, r.spend, r.conversions, r.value),
        place: [r.campaign, r.ad_group],
        day: r.date,
        dimension: r.dimension.word(),
        segment: r.segment,
    }
}

fn term(r: TermRow) -> StagedTerm {
    StagedTerm {
        counts: counts(r.impressions, r.clicks, r.spend, r.conversions, r.value),
        place: [r.campaign, r.ad_group, r.item, r.match_type.word().into()],
        day: r.date,
        term: r.term,
    }
}
