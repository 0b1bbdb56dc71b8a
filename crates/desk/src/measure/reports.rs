//! Reports: a file uploaded in pieces, its columns agreed on, read as a stream, merged in one transaction.

use bytes::{Bytes, BytesMut};
use chrono::NaiveDate;
use futures::{Stream, StreamExt};
use tiller_channel::report::{Column, Guess, Mapping, Records, RowError, RowReader, guess};
use tiller_core::Currency;
use tiller_core::ids::ImportId;
use tiller_store::PgPool;
use tiller_store::StoreError;
use tiller_store::fault::{self, Point};
use tiller_store::imports::{self, ErrorRow, Import, State};
use tiller_store::people::Account;
use tiller_store::undo::{self, UndoError};

use crate::DeskError;
use crate::measure::reading;

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
    db: &PgPool,
    account: &Account,
    sender: Sender,
    file_name: &str,
    mut body: impl Stream<Item = Result<Bytes, E>> + Unpin,
) -> Result<ImportId, DeskError> {
    let id = imports::begin(db, account.id, sender, file_name).await?;
    let mut buffer = BytesMut::with_capacity(CHUNK);
    let (mut seq, mut size) = (0, 0u64);
    while let Some(piece) = body.next().await {
        let piece = match piece {
            Ok(piece) => piece,
            Err(error) => {
                let message = format!("the upload broke off: {error}; upload the file again");
                imports::broke_off(db, account.id, id, &message).await?;
                return Err(DeskError::BrokeOff(message));
            }
        };
        size += piece.len() as u64;
        if size > LARGEST {
            imports::broke_off(db, account.id, id, "the file is too large").await?;
            return Err(DeskError::Invalid(
                "the file is larger than 16 GB; split it by month and import the parts".into(),
            ));
        }
        buffer.extend_from_slice(&piece);
        while buffer.len() >= CHUNK {
            imports::add_chunk(db, account.id, id, seq, &buffer.split_to(CHUNK)).await?;
            seq += 1;
        }
    }
    if !buffer.is_empty() || seq == 0 {
        imports::add_chunk(db, account.id, id, seq, &buffer).await?;
    }
    fault::at(Point::FileArriving);
    imports::uploaded(db, account.id, id, size as i64).await?;
    fault::at(Point::FileArrived);
    Ok(id)
}

/// One import of the account.
pub async fn get(db: &PgPool, account: &Account, id: ImportId) -> Result<Import, DeskError> {
    imports::get(db, account.id, id).await?.ok_or(DeskError::NotFound("import"))
}

/// The account's last imports.
pub async fn list(db: &PgPool, account: &Account) -> Result<Vec<Import>, DeskError> {
    Ok(imports::list(db, account.id, 50).await?)
}

/// The errors of an import that are kept.
pub async fn errors(
    db: &PgPool,
    account: &Account,
    id: ImportId,
    most: usize,
) -> Result<Vec<ErrorRow>, DeskError> {
    Ok(imports::errors(db, account.id, id, most as i64).await?)
}

/// The header row, as the name of a source.
pub(crate) fn source(headers: &[String]) -> String {
    headers.join("\u{1f}").to_lowercase()
}

/// The first rows of an uploaded file with the guessed or remembered mapping.
pub async fn preview(db: &PgPool, account: &Account, id: ImportId) -> Result<Preview, DeskError> {
    let mut sample = imports::chunk(db, account.id, id, 0)
        .await?
        .ok_or(DeskError::NotFound("file of this import"))?;
    if sample.len() > SAMPLE {
        // Cut at a line's end, so that the last row is whole.
        let end = sample[..SAMPLE].iter().rposition(|b| *b == b'\n').unwrap_or(SAMPLE);
        sample.truncate(end);
    }
    let guess = guess(&sample).map_err(|e| DeskError::Invalid(e.to_string()))?;
    let kept = imports::remembered(db, account.id, &source(&guess.headers)).await?;
    let kept: Option<Mapping> = kept
        .and_then(|m| serde_json::from_value(m).ok())
        .filter(|m: &Mapping| m.columns.len() == guess.headers.len());
    let remembered = kept.is_some();
    let mapping = kept.unwrap_or_else(|| guess.mapping.clone());
    Ok(Preview { guess, mapping, remembered })
}

/// Queues an import with an agreed mapping, and remembers the mapping for the source.
pub async fn start(
    db: &PgPool,
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
    let currency = reading::currency(account)?;
    let sample = imports::chunk(db, account.id, id, 0).await?.unwrap_or_default();
    if let Some(why) = unusable(&sample, mapping, currency) {
        return Err(DeskError::Invalid(why));
    }
    let json = serde_json::to_value(mapping).map_err(StoreError::from)?;
    if imports::queue(db, account.id, id, &json, false).await? {
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
pub async fn accept_good(db: &PgPool, account: &Account, id: ImportId) -> Result<(), DeskError> {
    let import = get(db, account, id).await?;
    let mapping = import.mapping.filter(|_| import.state == State::Decide);
    let Some(mapping) = mapping else {
        return Err(DeskError::Invalid(
            "there is nothing to decide about this import any more".into(),
        ));
    };
    imports::queue(db, account.id, id, &mapping, true).await?;
    Ok(())
}

/// Imports nothing of a file.
pub async fn drop_import(db: &PgPool, account: &Account, id: ImportId) -> Result<(), DeskError> {
    let import = get(db, account, id).await?;
    if !matches!(import.state, State::Mapping | State::Decide | State::Failed) {
        return Err(DeskError::Invalid(
            "this import can’t be discarded any more; undo it instead".into(),
        ));
    }
    Ok(imports::conclude(db, &import, State::Dropped, None, None).await?)
}

/// Back to the columns of a failed import, to read them otherwise or to try again.
pub async fn back(db: &PgPool, account: &Account, id: ImportId) -> Result<(), DeskError> {
    if imports::back(db, account.id, id).await? {
        Ok(())
    } else {
        Err(DeskError::Invalid("the uploaded file is gone; upload it again".into()))
    }
}

/// Takes an import back.
pub async fn undo(db: &PgPool, account: &Account, id: ImportId) -> Result<(), DeskError> {
    undo::undo(db, account.id, id).await.map_err(|e| match e {
        UndoError::Store(e) => DeskError::Store(e),
        other => DeskError::Invalid(other.to_string()),
    })
}

/// Days that an import covered.
pub fn covered(import: &Import) -> Option<(NaiveDate, NaiveDate)> {
    import.first_day.zip(import.last_day)
}
