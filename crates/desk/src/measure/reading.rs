//! A report's rows on their way from the stored pieces of a file into the merge.

use std::collections::HashMap;
use std::io::Read;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};

use tiller_channel::report::{Mapping, Records, RowReader};
use tiller_core::{Currency, Micros};
use tiller_store::imports::{self, ERRORS_KEPT, ErrorRow, Import};
use tiller_store::merge::{Merge, Merged};
use tiller_store::people::Account;
use tiller_store::staging::{Contents, CopyBuffer, ItemKey, StagedRow};
use tiller_store::{PgPool, StoreError, partitions};
use tokio::sync::mpsc;

use crate::DeskError;
use crate::numerals::full_day;

/// Days between the first and the last of a file, at most.
const LONGEST_SPAN: i64 = 3_653;

/// How far an import has come.
#[derive(Default)]
pub(crate) struct Counters {
    /// Bytes read.
    pub(crate) bytes: AtomicI64,
    /// Rows read.
    pub(crate) rows: AtomicI64,
}

/// Reads an uploaded file and merges it; that such headers are read so is remembered where they are told. A file without rows is a mistake unless it may be empty.
pub(crate) async fn read(
    db: &PgPool,
    import: &Import,
    counters: &Arc<Counters>,
    headers: Option<&str>,
    may_be_empty: bool,
) -> Result<Merged, DeskError> {
    let gone = || DeskError::Invalid("the uploaded file is gone; upload it again".into());
    let mapping: Mapping = serde_json::from_value(import.mapping.clone().ok_or_else(gone)?)
        .map_err(StoreError::from)?;
    let currency = currency_of(db, import).await?;
    let mut merge = Merge::begin(db, import).await?;
    let (chunk_sender, chunks) = mpsc::channel::<Vec<u8>>(2);
    let (row_sender, rows) = mpsc::channel::<Vec<u8>>(4);
    let counting = Arc::clone(counters);
    let parser = tokio::task::spawn_blocking(move || {
        parse(ChunkReader::new(chunks), &mapping, currency, &row_sender, &counting)
    });
    let feed = async {
        let mut seq = 0;
        while let Some(chunk) = imports::chunk(db, import.account, import.id, seq).await? {
            seq += 1;
            if chunk_sender.send(chunk).await.is_err() {
                break;
            }
        }
        drop(chunk_sender);
        Ok::<_, DeskError>(seq)
    };
    let copy = async { Ok::<_, DeskError>(merge.copy(rows).await?) };
    let (chunks, ()) = tokio::try_join!(feed, copy)?;
    if chunks == 0 {
        return Err(gone());
    }
    let contents = parser
        .await
        .map_err(|e| DeskError::Invalid(format!("the file could not be read: {e}")))??;
    if contents.rows == 0 && contents.error_count == 0 && !may_be_empty {
        return Err(DeskError::Invalid(
            "the file has a header and no rows; export the report for days that have data".into(),
        ));
    }
    let days = || contents.days.keys().map(|(_, day)| *day);
    if let (Some(first), Some(last)) = (days().min(), days().max())
        && (last - first).num_days() > LONGEST_SPAN
    {
        return Err(DeskError::Invalid(format!(
            "the file reaches from {} to {}; at most ten years are taken in at once: correct the dates, or split the file",
            full_day(first),
            full_day(last)
        )));
    }
    partitions::ensure(db, days()).await?;
    Ok(merge.finish(contents, headers).await?)
}

pub(crate) fn currency(account: &Account) -> Result<Currency, DeskError> {
    account.currency.parse().map_err(|e: tiller_core::MoneyError| DeskError::Invalid(e.to_string()))
}

async fn currency_of(db: &PgPool, import: &Import) -> Result<Currency, DeskError> {
    let code = tiller_store::people::account_currency(db, import.account).await?;
    code.parse().map_err(|e: tiller_core::MoneyError| DeskError::Invalid(e.to_string()))
}

/// The uploaded pieces as one stream of bytes.
struct ChunkReader {
    chunks: mpsc::Receiver<Vec<u8>>,
    current: Vec<u8>,
    at: usize,
}

impl ChunkReader {
    fn new(chunks: mpsc::Receiver<Vec<u8>>) -> Self {
        Self { chunks, current: Vec::new(), at: 0 }
    }
}

impl Read for ChunkReader {
    fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
        while self.at == self.current.len() {
            let Some(next) = self.chunks.blocking_recv() else { return Ok(0) };
            (self.current, self.at) = (next, 0);
        }
        let n = out.len().min(self.current.len() - self.at);
        out[..n].copy_from_slice(&self.current[self.at..self.at + n]);
        self.at += n;
        Ok(n)
    }
}

/// Reads every record: good rows are sent on, errors kept. Memory grows with items and campaign-days only.
fn parse(
    source: impl Read,
    mapping: &Mapping,
    currency: Currency,
    rows: &mpsc::Sender<Vec<u8>>,
    counters: &Counters,
) -> Result<Contents, DeskError> {
    let broken = |e: std::io::Error| DeskError::Invalid(format!("the file could not be read: {e}"));
    let mut records = Records::new(source, mapping.dialect.delimiter);
    records.next_record().map_err(broken)?;
    let mut reader = RowReader::new(mapping, currency);
    let mut contents = Contents::default();
    let mut numbers = Numbers::default();
    let mut buffer = CopyBuffer::default();
    let mut read = 0i64;
    loop {
        let Some(record) = records.next_record().map_err(broken)? else { break };
        let line = record.line;
        match reader.read(&record) {
            Ok(row) => {
                let (item, campaign) = numbers.of(&row, &mut contents.items);
                let staged = StagedRow {
                    item,
                    day: row.date,
                    line: line as i64,
                    impressions: row.impressions,
                    clicks: row.clicks,
                    spend: row.spend,
                    conversions: row.conversions,
                    value: row.value,
                    bid: row.bid,
                };
                let facts = contents.days.entry((campaign, row.date)).or_default();
                facts.add(&staged);
                facts.budget = facts.budget.max(row.budget);
                let share = |m: Micros| m.to_units().min(1.0) as f32;
                facts.lost_to_budget = facts.lost_to_budget.or(row.lost_to_budget.map(share));
                facts.lost_to_bid = facts.lost_to_bid.or(row.lost_to_bid.map(share));
                facts.status = facts.status.or(row.status.map(tiller_core::setting::Status::word));
                buffer.push(&staged);
                contents.rows += 1;
            }
            Err(errors) => {
                contents.error_count += errors.len() as i64;
                let room = ERRORS_KEPT.saturating_sub(contents.errors.len());
                contents.errors.extend(errors.into_iter().take(room).map(|e| ErrorRow {
                    line: e.line as i64,
                    column: e.column,
                    found: e.found,
                    expected: e.expected,
                }));
            }
        }
        read += 1;
        if let Some(full) = buffer.take_full() {
            counters.rows.store(read, Ordering::Relaxed);
            counters.bytes.store(records.position() as i64, Ordering::Relaxed);
            // The other end is gone only if the database refused: its error is the one to tell.
            if rows.blocking_send(full).is_err() {
                return Ok(contents);
            }
        }
    }
    rows.blocking_send(buffer.finish()).ok();
    Ok(contents)
}

/// Numbers of items and of campaigns (by their first item), looked up without allocating.
#[derive(Default)]
struct Numbers {
    items: HashMap<String, (i32, i32)>,
    campaigns: HashMap<(String, String), i32>,
    key: String,
}

impl Numbers {
    fn of(
        &mut self,
        row: &tiller_channel::report::ReportRow,
        items: &mut Vec<ItemKey>,
    ) -> (i32, i32) {
        let match_type = row.match_type.map_or("", tiller_core::setting::MatchType::word);
        self.key.clear();
        for part in
            [&*row.channel, &*row.campaign, &*row.ad_group, row.kind.word(), &*row.item, match_type]
        {
            self.key.push_str(part);
            self.key.push('\0');
        }
        if let Some(found) = self.items.get(&self.key) {
            return *found;
        }
        let item = items.len() as i32;
        let campaign = *self
            .campaigns
            .entry((row.channel.to_string(), row.campaign.to_string()))
            .or_insert(item);
        items.push(ItemKey {
            channel: row.channel.to_string(),
            campaign: row.campaign.to_string(),
            ad_group: row.ad_group.to_string(),
            kind: row.kind.word(),
            item: row.item.to_string(),
            match_type,
        });
        self.items.insert(self.key.clone(), (item, campaign));
        (item, campaign)
    }
}
