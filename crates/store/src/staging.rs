//! A report's rows on their way into the database, what else a report has, and the temporary tables that take them.

use std::collections::HashMap;

use chrono::{Datelike, NaiveDate};
use sqlx::PgConnection;
use tiller_core::Micros;

use crate::StoreError;
use crate::imports::ErrorRow;

/// The names that tell an item from all others.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct ItemKey {
    /// Channel.
    pub channel: String,
    /// Campaign.
    pub campaign: String,
    /// Ad group.
    pub ad_group: String,
    /// keyword, listing, ad or audience.
    pub kind: &'static str,
    /// Item.
    pub item: String,
    /// Of a keyword; empty otherwise.
    pub match_type: &'static str,
}

/// One row on its way into the database; the item by its number in the file.
#[derive(Clone, Copy, Debug)]
pub struct StagedRow {
    /// Number of the item, from 0 in order of first appearance.
    pub item: i32,
    /// The day.
    pub day: NaiveDate,
    /// Line of the file.
    pub line: i64,
    /// Times shown.
    pub impressions: i64,
    /// Times clicked.
    pub clicks: i64,
    /// Money paid.
    pub spend: Micros,
    /// Results, in millionths.
    pub conversions: Micros,
    /// Revenue.
    pub value: Micros,
    /// Bid in force.
    pub bid: Option<Micros>,
}

/// What a file says of a campaign's day: its items' sums, and what only the campaign has.
#[derive(Clone, Debug, Default)]
pub struct CampaignFacts {
    /// Times shown.
    pub impressions: i64,
    /// Times clicked.
    pub clicks: i64,
    /// Money paid.
    pub spend: Micros,
    /// Results, in millionths.
    pub conversions: Micros,
    /// Revenue.
    pub value: Micros,
    /// The highest bid.
    pub bid: Option<Micros>,
    /// Daily budget.
    pub budget: Option<Micros>,
    /// Whether it runs.
    pub status: Option<&'static str>,
    /// Share of its auctions from which it stood aside for want of budget.
    pub lost_to_budget: Option<f32>,
    /// Share of its auctions that it lost for want of bid.
    pub lost_to_bid: Option<f32>,
}

impl CampaignFacts {
    /// Adds a row's counts.
    pub fn add(&mut self, row: &StagedRow) {
        self.impressions += row.impressions;
        self.clicks += row.clicks;
        self.spend += row.spend;
        self.conversions += row.conversions;
        self.value += row.value;
        self.bid = self.bid.max(row.bid);
    }
}

/// What a file holds beside its rows; grows with items and campaign-days, not with rows.
#[derive(Debug, Default)]
pub struct Contents {
    /// Items by number.
    pub items: Vec<ItemKey>,
    /// Campaigns by number of an item of theirs, with their days.
    pub days: HashMap<(i32, NaiveDate), CampaignFacts>,
    /// Errors kept.
    pub errors: Vec<ErrorRow>,
    /// Errors found.
    pub error_count: i64,
    /// Good rows.
    pub rows: i64,
}

/// Rows in PostgreSQL's binary copy format.
#[derive(Debug)]
pub struct CopyBuffer {
    bytes: Vec<u8>,
}

impl Default for CopyBuffer {
    fn default() -> Self {
        let mut bytes = Vec::with_capacity(COPY_SIZE + 1024);
        bytes.extend_from_slice(b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0");
        Self { bytes }
    }
}

/// Bytes that are sent at once.
const COPY_SIZE: usize = 1 << 18;

impl CopyBuffer {
    /// Adds a row.
    pub fn push(&mut self, row: &StagedRow) {
        // 1 January 2000 is PostgreSQL's day 0, and day 730 120 of the common era.
        let day = row.day.num_days_from_ce() - 730_120;
        let b = &mut self.bytes;
        b.extend_from_slice(&9i16.to_be_bytes());
        for int in [row.item, day] {
            b.extend_from_slice(&4i32.to_be_bytes());
            b.extend_from_slice(&int.to_be_bytes());
        }
        for big in [
            row.line,
            row.impressions,
            row.clicks,
            row.spend.get(),
            row.conversions.get(),
            row.value.get(),
        ] {
            b.extend_from_slice(&8i32.to_be_bytes());
            b.extend_from_slice(&big.to_be_bytes());
        }
        match row.bid {
            Some(bid) => {
                b.extend_from_slice(&8i32.to_be_bytes());
                b.extend_from_slice(&bid.get().to_be_bytes());
            }
            None => b.extend_from_slice(&(-1i32).to_be_bytes()),
        }
    }

    /// The bytes so far, if there are enough to send.
    pub fn take_full(&mut self) -> Option<Vec<u8>> {
        (self.bytes.len() >= COPY_SIZE)
            .then(|| std::mem::replace(&mut self.bytes, Vec::with_capacity(COPY_SIZE + 1024)))
    }

    /// The last bytes.
    pub fn finish(mut self) -> Vec<u8> {
        self.bytes.extend_from_slice(&(-1i16).to_be_bytes());
        self.bytes
    }
}

/// Runs statements on temporary tables, which the compile-time check can't know, with ids for their parameters.
/// Each is planned for the sizes that it finds.
pub(crate) async fn run(
    tx: &mut PgConnection,
    statements: &[(&'static str, &[i64])],
) -> Result<(), StoreError> {
    for (sql, ids) in statements {
        let query = ids.iter().fold(sqlx::query(*sql).persistent(false), |q, id| q.bind(*id));
        query.execute(&mut *tx).await?;
    }
    Ok(())
}
