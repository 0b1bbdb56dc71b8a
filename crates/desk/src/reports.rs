//! Reports: a file uploaded in pieces, its columns agreed on, read as a stream, merged in one transaction.

use std::collections::HashMap;
use std::io::Read;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use chrono::NaiveDate;
use futures::{Stream, StreamExt};
use tiller_channel::report::{Column, Guess, Mapping, Records, RowError, RowReader, guess};
use tiller_core::ids::ImportId;
use tiller_core::{Currency, Micros};
use tiller_store::PgPool;
use tiller_store::StoreError;
use tiller_store::imports::{self, ERRORS_KEPT, ErrorRow, Import, State};
use tiller_store::merge::{self, Contents, CopyBuffer, ItemKey, Merge, Merged, StagedRow};
use tiller_store::people::Account;
use tokio::sync::mpsc;

use crate::{DeskError, curves};

pub use tiller_store::imports::{Import as ReportImport, Sender, State as ImportState};

/// Size of a stored piece of an upload.
const CHUNK: usize = 1 << 20;
/// Bytes that the preview looks at.
const SAMPLE: usize = 100 << 10;
/// The largest file taken.
pub const LARGEST: u64 = 16 << 30;

/// The first rows of an upload and how they will be read.
#[derive(Clone, Debug)]
pub struct Preview {
    /// Headers and rows.
    pub guess: Guess,
    /// Remembered from last time, else guessed.
    pub mapping: Mapping,
    /// Whether it is remembered.
    pub remembered: bool,
}

/// Stores an upload as it arrives.
pub async fn upload<E: std::fmt::Display>(
    pool: &PgPool,
    account: &Account,
    sender: Sender,
    file_name: &str,
    mut body: impl Stream<Item = Result<Bytes, E>> + Unpin,
) -> Result<ImportId, DeskError> {
    let id = imports::begin(pool, account.id, sender, file_name).await?;
    let mut buffer = BytesMut::with_capacity(CHUNK);
    let (mut seq, mut size) = (0, 0u64);
    while let Some(piece) = body.next().await {
        let piece = match piece {
            Ok(piece) => piece,
            Err(error) => {
                let message = format!("the upload broke off: {error}; upload the file again");
                imports::broke_off(pool, account.id, id, &message).await?;
                return Err(DeskError::Invalid(message));
            }
        };
        size += piece.len() as u64;
        if size > LARGEST {
            imports::broke_off(pool, account.id, id, "the file is too large").await?;
            return Err(DeskError::Invalid(
                "the file is larger than 16 GB; split it by month and import the parts".into(),
            ));
        }
        buffer.extend_from_slice(&piece);
        while buffer.len() >= CHUNK {
            imports::add_chunk(pool, account.id, id, seq, &buffer.split_to(CHUNK)).await?;
            seq += 1;
        }
    }
    if !buffer.is_empty() || seq == 0 {
        imports::add_chunk(pool, account.id, id, seq, &buffer).await?;
    }
    imports::uploaded(pool, account.id, id, size as i64).await?;
    Ok(id)
}

/// One import of the account.
pub async fn get(pool: &PgPool, account: &Account, id: ImportId) -> Result<Import, DeskError> {
    imports::get(pool, account.id, id).await?.ok_or(DeskError::NotFound("import"))
}

/// The account's last imports.
pub async fn list(pool: &PgPool, account: &Account) -> Result<Vec<Import>, DeskError> {
    Ok(imports::list(pool, account.id, 50).await?)
}

/// The errors of an import that are kept.
pub async fn errors(
    pool: &PgPool,
    account: &Account,
    id: ImportId,
    most: usize,
) -> Result<Vec<ErrorRow>, DeskError> {
    Ok(imports::errors(pool, account.id, id, most as i64).await?)
}

/// The header row, as the name of a source.
fn source(headers: &[String]) -> String {
    headers.join("\u{1f}").to_lowercase()
}

/// The first rows of an uploaded file with the guessed or remembered mapping.
pub async fn preview(pool: &PgPool, account: &Account, id: ImportId) -> Result<Preview, DeskError> {
    let mut sample = imports::chunk(pool, account.id, id, 0)
        .await?
        .ok_or(DeskError::NotFound("file of this import"))?;
    if sample.len() > SAMPLE {
        // Cut at a line's end, so that the last row is whole.
        let end = sample[..SAMPLE].iter().rposition(|b| *b == b'\n').unwrap_or(SAMPLE);
        sample.truncate(end);
    }
    let guess = guess(&sample).map_err(|e| DeskError::Invalid(e.to_string()))?;
    let kept = imports::remembered(pool, account.id, &source(&guess.headers)).await?;
    let kept: Option<Mapping> = kept
        .and_then(|m| serde_json::from_value(m).ok())
        .filter(|m: &Mapping| m.columns.len() == guess.headers.len());
    let remembered = kept.is_some();
    let mapping = kept.unwrap_or_else(|| guess.mapping.clone());
    Ok(Preview { guess, mapping, remembered })
}

/// Queues an import with an agreed mapping, and remembers the mapping for the source.
pub async fn start(
    pool: &PgPool,
    account: &Account,
    id: ImportId,
    mapping: &Mapping,
) -> Result<(), DeskError> {
    mapping.check().map_err(|e| DeskError::Invalid(e.to_string()))?;
    if let Some(chosen) =
        mapping.currency.as_deref().filter(|_| mapping.place(Column::Currency).is_none())
    {
        let currency: Currency = chosen
            .parse()
            .map_err(|e: tiller_core::MoneyError| DeskError::Invalid(e.to_string()))?;
        if currency.code() != account.currency {
            return Err(DeskError::Invalid(format!(
                "the report is in {currency}, the account in {}; convert the money in the file, or import it into an account in {currency}",
                account.currency
            )));
        }
    }
    let currency = currency(account)?;
    let sample = imports::chunk(pool, account.id, id, 0).await?.unwrap_or_default();
    if let Some(why) = unusable(&sample, mapping, currency) {
        return Err(DeskError::Invalid(why));
    }
    let json = serde_json::to_value(mapping).map_err(StoreError::from)?;
    if imports::queue(pool, account.id, id, &json, false).await? {
        Ok(())
    } else {
        Err(DeskError::Invalid("this import has been started already".into()))
    }
}

/// The columns that none of the first rows can be read with, if any: no row of the file would be taken in.
fn unusable(sample: &[u8], mapping: &Mapping, currency: Currency) -> Option<String> {
    let mut records = Records::new(&sample[..sample.len().min(SAMPLE)], mapping.dialect.delimiter);
    records.next_record().ok()?;
    let mut reader = RowReader::new(mapping, currency);
    let mut wrong: Vec<(RowError, usize)> = Vec::new();
    let mut rows = 0;
    // The last row of a sample may be cut.
    while rows < LOOKED_AT
        && let Ok(Some(record)) = records.next_record()
    {
        rows += 1;
        for error in reader.read(&record).err().into_iter().flatten() {
            match wrong.iter_mut().find(|(e, _)| e.column == error.column) {
                Some((_, times)) => *times += 1,
                None => wrong.push((error, 1)),
            }
        }
    }
    wrong.retain(|(_, times)| rows > 1 && *times == rows);
    let (first, _) = wrong.first()?;
    let repair = if first.column == Column::Currency.name() {
        format!("Convert the money in the file, or import it into an account in {}", first.found)
    } else {
        "Choose another column, or how dates and numbers are written".to_owned()
    };
    let told = |(e, _): &(RowError, usize)| {
        format!("{}: ‘{}’ found in line {}, {} expected", e.column, e.found, e.line, e.expected)
    };
    Some(format!(
        "none of the first {rows} rows can be read like this. {}. {repair}; nothing has been imported",
        wrong.iter().map(told).collect::<Vec<_>>().join("; ")
    ))
}

/// So many rows show whether a column can be read at all.
const LOOKED_AT: usize = 20;

/// Imports the good rows of a file whose other rows have errors.
pub async fn accept_good(pool: &PgPool, account: &Account, id: ImportId) -> Result<(), DeskError> {
    let import = get(pool, account, id).await?;
    let mapping = import.mapping.filter(|_| import.state == State::Decide);
    let Some(mapping) = mapping else {
        return Err(DeskError::Invalid(
            "there is nothing to decide about this import any more".into(),
        ));
    };
    imports::queue(pool, account.id, id, &mapping, true).await?;
    Ok(())
}

/// Imports nothing of a file.
pub async fn drop_import(pool: &PgPool, account: &Account, id: ImportId) -> Result<(), DeskError> {
    let import = get(pool, account, id).await?;
    if !matches!(import.state, State::Mapping | State::Decide | State::Failed) {
        return Err(DeskError::Invalid(
            "this import can’t be discarded any more; undo it instead".into(),
        ));
    }
    Ok(imports::settle(pool, &import, State::Dropped, None, None).await?)
}

/// Back to the columns of a failed import, to read them otherwise or to try again.
pub async fn back(pool: &PgPool, account: &Account, id: ImportId) -> Result<(), DeskError> {
    if imports::back(pool, account.id, id).await? {
        Ok(())
    } else {
        Err(DeskError::Invalid("the uploaded file is gone; upload it again".into()))
    }
}

/// Takes an import back.
pub async fn undo(pool: &PgPool, account: &Account, id: ImportId) -> Result<(), DeskError> {
    merge::undo(pool, account.id, id).await.map_err(|e| match e {
        merge::UndoError::Store(e) => DeskError::Store(e),
        other => DeskError::Invalid(other.to_string()),
    })
}

/// Runs the next import in the queue; false if there is none.
pub async fn run_next(pool: &PgPool) -> Result<bool, DeskError> {
    let Some(import) = imports::claim(pool).await? else { return Ok(false) };
    let sample = imports::chunk(pool, import.account, import.id, 0).await?.unwrap_or_default();
    let read_as = guess(&sample).ok().map(|g| source(&g.headers));
    let counters = Arc::new(Counters::default());
    let outcome = tokio::select! {
        outcome = run(pool, &import, &counters, false) => outcome,
        never = report_progress(pool, &import, &counters) => never,
    };
    let settled = match outcome {
        Ok(Merged::Done) => {
            // Only what worked is remembered.
            if let (Some(mapping), Some(source)) = (&import.mapping, &read_as) {
                imports::remember(pool, import.account, source, mapping).await?;
            }
            return curves::refit(pool, import.account).await.map(|()| true);
        }
        Ok(Merged::Decide(contents)) => {
            let errors = Some((contents.errors.as_slice(), contents.error_count));
            imports::settle(pool, &import, State::Decide, None, errors).await
        }
        Err(DeskError::Store(StoreError::Lost)) => Err(StoreError::Lost),
        Err(DeskError::Store(error)) if error.is_passing() && import.attempts < ATTEMPTS => {
            tracing::warn!(import = import.id.0, %error, "an import is tried again");
            let pause = 2f64.powi(import.attempts).min(60.0);
            imports::again(pool, &import, "the database was busy; it is tried again", pause).await
        }
        Err(error) => {
            tracing::error!(import = import.id.0, %error, "import failed");
            let message = match &error {
                DeskError::Invalid(message) => message.clone(),
                other => format!(
                    "nothing was imported, and the file is kept: {other}. Go back to the columns to try again, or discard it"
                ),
            };
            imports::settle(pool, &import, State::Failed, Some(&message), None).await
        }
    };
    match settled {
        // Another worker has it: what that one does counts.
        Err(StoreError::Lost) => Ok(true),
        other => other.map(|()| true).map_err(DeskError::from),
    }
}

/// A passing trouble is tried so often.
const ATTEMPTS: i32 = 6;

/// How far an import has come.
#[derive(Default)]
pub(crate) struct Counters {
    /// Bytes read.
    pub(crate) bytes: AtomicI64,
    /// Rows read.
    pub(crate) rows: AtomicI64,
}

/// Writes down how far the import has come, for as long as it runs. An import that is this worker's no more finds that
/// out before it writes; here it may as well have ended a moment ago, with its work done.
async fn report_progress(
    pool: &PgPool,
    import: &Import,
    counters: &Counters,
) -> Result<Merged, DeskError> {
    let mut tick = tokio::time::interval(Duration::from_millis(250));
    loop {
        tick.tick().await;
        let (bytes, rows) =
            (counters.bytes.load(Ordering::Relaxed), counters.rows.load(Ordering::Relaxed));
        match imports::progress(pool, import, bytes, rows).await {
            Err(StoreError::Lost) => std::future::pending().await,
            told => told?,
        }
    }
}

/// Reads an uploaded file and merges it. A file without rows is a mistake unless it may be empty.
pub(crate) async fn run(
    pool: &PgPool,
    import: &Import,
    counters: &Arc<Counters>,
    may_be_empty: bool,
) -> Result<Merged, DeskError> {
    let gone = || DeskError::Invalid("the uploaded file is gone; upload it again".into());
    let mapping: Mapping = serde_json::from_value(import.mapping.clone().ok_or_else(gone)?)
        .map_err(StoreError::from)?;
    let currency = currency_of(pool, import).await?;
    let mut merge = Merge::begin(pool, import).await?;
    let (chunk_sender, chunks) = mpsc::channel::<Vec<u8>>(2);
    let (row_sender, rows) = mpsc::channel::<Vec<u8>>(4);
    let counting = Arc::clone(counters);
    let parser = tokio::task::spawn_blocking(move || {
        parse(ChunkReader::new(chunks), &mapping, currency, &row_sender, &counting)
    });
    let feed = async {
        let mut seq = 0;
        while let Some(chunk) = imports::chunk(pool, import.account, import.id, seq).await? {
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
    Ok(merge.finish(contents).await?)
}

fn currency(account: &Account) -> Result<Currency, DeskError> {
    account.currency.parse().map_err(|e: tiller_core::MoneyError| DeskError::Invalid(e.to_string()))
}

async fn currency_of(pool: &PgPool, import: &Import) -> Result<Currency, DeskError> {
    let code = tiller_store::people::account_currency(pool, import.account).await?;
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

/// Imports a whole file at once, without a page: for the command line and the demo.
pub async fn import_now<E: std::fmt::Display>(
    pool: &PgPool,
    account: &Account,
    file_name: &str,
    body: impl Stream<Item = Result<Bytes, E>> + Unpin,
    adjust: impl FnOnce(&mut Mapping),
    only_good: bool,
) -> Result<Import, DeskError> {
    let id = upload(pool, account, Sender::Nobody, file_name, body).await?;
    let started = async {
        let mut mapping = preview(pool, account, id).await?.mapping;
        adjust(&mut mapping);
        start(pool, account, id, &mapping).await
    };
    if let Err(error) = started.await {
        drop_import(pool, account, id).await?;
        return Err(error);
    }
    loop {
        run_next(pool).await?;
        let import = get(pool, account, id).await?;
        match import.state {
            State::Decide if only_good => accept_good(pool, account, id).await?,
            // Another worker took it: look again when that one has had time for it.
            State::Queued | State::Running => tokio::time::sleep(Duration::from_millis(100)).await,
            _ => return Ok(import),
        }
    }
}

/// Days that an import covered.
pub fn covered(import: &Import) -> Option<(NaiveDate, NaiveDate)> {
    import.first_day.zip(import.last_day)
}
