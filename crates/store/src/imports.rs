//! Report imports: uploaded files, the queue, errors, progress.

use chrono::{DateTime, NaiveDate, Utc};
use serde_json::Value;
use sqlx::{PgExecutor, PgPool};

use crate::StoreError;
use tiller_core::ids::{AccountId, ConnectionId, ImportId, PersonId};

/// Where an import stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    /// The file is arriving.
    Uploading,
    /// It has arrived; the person says what its columns mean.
    Mapping,
    /// It waits for a worker.
    Queued,
    /// A worker reads it.
    Running,
    /// It is in.
    Done,
    /// Rows have errors; the person decides.
    Decide,
    /// It can't be imported; the message says why.
    Failed,
    /// It was taken back.
    Undone,
    /// The person wanted none of it.
    Dropped,
}

tiller_core::words!(State: Uploading "uploading", Mapping "mapping", Queued "queued", Running "running", Done "done",
    Decide "decide", Failed "failed", Undone "undone", Dropped "dropped");
tiller_core::stored!(State);

/// One import.
#[derive(Clone, Debug)]
pub struct Import {
    /// Its id.
    pub id: ImportId,
    /// The account it belongs to.
    pub account: AccountId,
    /// The connection that fetched it.
    pub connection: Option<ConnectionId>,
    /// The file's name.
    pub file_name: String,
    /// The file's size in bytes.
    pub size: i64,
    /// Where it stands.
    pub state: State,
    /// How the file is read, as JSON of the channel's mapping.
    pub mapping: Option<Value>,
    /// How often it was taken up.
    pub attempts: i32,
    /// Whether the person chose to import only the good rows.
    pub only_good: bool,
    /// Progress in bytes.
    pub bytes_read: i64,
    /// Progress in rows.
    pub rows_read: i64,
    /// Rows imported.
    pub rows_kept: i64,
    /// Errors found.
    pub error_count: i64,
    /// Why it failed.
    pub message: Option<String>,
    /// First day in the file.
    pub first_day: Option<NaiveDate>,
    /// Last day in the file.
    pub last_day: Option<NaiveDate>,
    /// When the upload began.
    pub created_at: DateTime<Utc>,
}

/// An error of a row.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ErrorRow {
    /// Line of the file.
    pub line: i64,
    /// Column of the report.
    pub column: String,
    /// What stands there.
    pub found: String,
    /// What is allowed.
    pub expected: String,
}

/// Who brings a report.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Sender {
    /// A command.
    Nobody,
    /// A person.
    Person(PersonId),
    /// A connection that fetched it.
    Connection(ConnectionId),
}

/// How many errors are kept for the list; all are counted.
pub const ERRORS_KEPT: usize = 10_000;

macro_rules! import {
    ($r:expr) => {
        Import {
            id: $r.id,
            account: $r.account,
            connection: $r.connection,
            file_name: $r.file_name,
            size: $r.size,
            state: $r.state,
            mapping: $r.mapping,
            attempts: $r.attempts,
            only_good: $r.only_good,
            bytes_read: $r.bytes_read,
            rows_read: $r.rows_read,
            rows_kept: $r.rows_kept,
            error_count: $r.error_count,
            message: $r.message,
            first_day: $r.first_day,
            last_day: $r.last_day,
            created_at: $r.created_at,
        }
    };
}

/// Begins an upload.
pub async fn begin(
    db: &PgPool,
    account: AccountId,
    sender: Sender,
    file_name: &str,
) -> Result<ImportId, StoreError> {
    let (person, connection) = match sender {
        Sender::Nobody => (None, None),
        Sender::Person(id) => (Some(id.0), None),
        Sender::Connection(id) => (None, Some(id.0)),
    };
    Ok(sqlx::query_scalar!(
        r#"INSERT INTO report_import (account_id, file_name, created_by, connection_id) VALUES ($1, $2, $3, $4) RETURNING id AS "id: ImportId""#,
        account.0,
        file_name,
        person,
        connection
    )
    .fetch_one(db)
    .await?)
}

/// Stores one piece of the file.
pub async fn add_chunk(
    db: &PgPool,
    account: AccountId,
    id: ImportId,
    seq: i32,
    bytes: &[u8],
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO report_chunk (account_id, import_id, seq, bytes) VALUES ($1, $2, $3, $4)",
        account.0,
        id.0,
        seq,
        bytes
    )
    .execute(db)
    .await?;
    Ok(())
}

/// An upload did not arrive whole: what came of it is of no use.
pub async fn broke_off(
    db: &PgPool,
    account: AccountId,
    id: ImportId,
    message: &str,
) -> Result<(), StoreError> {
    let mut tx = crate::begin(db).await?;
    sqlx::query!(
        "UPDATE report_import SET state = 'failed', message = $3, finished_at = now() WHERE account_id = $1 AND id = $2",
        account.0,
        id.0,
        message
    )
    .execute(&mut *tx)
    .await?;
    drop_file(&mut tx, account, id).await?;
    Ok(tx.commit().await?)
}

/// One piece of the file.
pub async fn chunk(
    db: &PgPool,
    account: AccountId,
    id: ImportId,
    seq: i32,
) -> Result<Option<Vec<u8>>, StoreError> {
    Ok(sqlx::query_scalar!(
        "SELECT bytes FROM report_chunk WHERE account_id = $1 AND import_id = $2 AND seq = $3",
        account.0,
        id.0,
        seq
    )
    .fetch_optional(db)
    .await?)
}

/// The file has arrived whole.
pub async fn uploaded(
    db: &PgPool,
    account: AccountId,
    id: ImportId,
    size: i64,
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE report_import SET state = 'mapping', size = $3 WHERE account_id = $1 AND id = $2 AND state = 'uploading'",
        account.0,
        id.0,
        size
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Puts an import into the queue, from a state that allows it; false if it stands elsewhere.
pub async fn queue(
    db: &PgPool,
    account: AccountId,
    id: ImportId,
    mapping: &Value,
    only_good: bool,
) -> Result<bool, StoreError> {
    let done = sqlx::query!(
        "UPDATE report_import SET state = 'queued', mapping = $3, only_good = $4, bytes_read = 0, rows_read = 0, message = NULL
         WHERE account_id = $1 AND id = $2 AND state IN ('mapping', 'decide')",
        account.0,
        id.0,
        mapping,
        only_good
    )
    .execute(db)
    .await?;
    Ok(done.rows_affected() == 1)
}

/// Takes the next import from the queue, or one whose worker has been silent for a minute and up to a third more, by its id: whatever
/// ends servers once a minute shall not meet the same import again and have its file blamed.
pub async fn claim(db: &PgPool) -> Result<Option<Import>, StoreError> {
    let row = sqlx::query!(
        r#"UPDATE report_import SET state = 'running', claimed_at = now(), attempts = attempts + 1, deaths = deaths + (state = 'running')::int
           WHERE (account_id, id) IN (
               SELECT account_id, id FROM report_import
               WHERE connection_id IS NULL AND ((state = 'queued' AND not_before <= now())
                   OR (state = 'running' AND claimed_at < now() - make_interval(secs => 60 + id * 7 % 20)))
               ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED)
           RETURNING id AS "id: ImportId", account_id AS "account: AccountId", connection_id AS "connection: ConnectionId", file_name, size, state AS "state: State", mapping, only_good,
                     bytes_read, rows_read, rows_kept, error_count, message, first_day, last_day, created_at, attempts"#
    )
    .fetch_optional(db)
    .await?;
    Ok(row.map(|r| import!(r)))
}

/// Takes one whose rows are in, and whose worker has been silent for a minute before it did what follows from them.
pub async fn claim_unfollowed(db: &PgPool) -> Result<Option<Import>, StoreError> {
    let row = sqlx::query!(
        r#"UPDATE report_import SET claimed_at = now()
           WHERE (account_id, id) IN (
               SELECT account_id, id FROM report_import
               WHERE NOT followed AND state = 'done' AND claimed_at < now() - interval '60 seconds'
               ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED)
           RETURNING id AS "id: ImportId", account_id AS "account: AccountId", connection_id AS "connection: ConnectionId", file_name, size, state AS "state: State", mapping, only_good,
                     bytes_read, rows_read, rows_kept, error_count, message, first_day, last_day, created_at, attempts"#
    )
    .fetch_optional(db)
    .await?;
    Ok(row.map(|r| import!(r)))
}

/// Tells that what follows from an import is being done, that its worker lives, and at last that it is done.
pub async fn follow(db: &PgPool, import: &Import, done: bool) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE report_import SET claimed_at = now(), followed = $3 WHERE account_id = $1 AND id = $2",
        import.account.0,
        import.id.0,
        done
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Ends imports whose readers have died twice, with a message: a third would do no better. Tells how many.
pub async fn quarantine(db: &PgPool, message: &str) -> Result<u64, StoreError> {
    let done = sqlx::query!(
        "UPDATE report_import SET state = 'failed', attempts = attempts + 1, message = $1
         WHERE connection_id IS NULL AND state = 'running' AND claimed_at < now() - interval '60 seconds' AND deaths >= 1",
        message
    )
    .execute(db)
    .await?;
    Ok(done.rows_affected())
}

/// Tells how far a worker has come, and that it lives; an error once another worker has the import.
pub async fn progress(
    db: &PgPool,
    import: &Import,
    bytes: i64,
    rows: i64,
) -> Result<(), StoreError> {
    let done = sqlx::query!(
        "UPDATE report_import SET bytes_read = $4, rows_read = $5, claimed_at = now()
         WHERE account_id = $1 AND id = $2 AND state = 'running' AND attempts = $3",
        import.account.0,
        import.id.0,
        import.attempts,
        bytes,
        rows
    )
    .execute(db)
    .await?;
    if done.rows_affected() == 1 { Ok(()) } else { Err(StoreError::Lost) }
}

/// Sets an import down in a state with its errors, if it still is the one of this attempt. Only what a person drops
/// loses its file: until then it can be tried again.
pub async fn conclude(
    db: &PgPool,
    import: &Import,
    state: State,
    message: Option<&str>,
    errors: Option<(&[ErrorRow], i64)>,
) -> Result<(), StoreError> {
    let (account, id) = (import.account, import.id);
    let mut tx = crate::begin(db).await?;
    let done = sqlx::query!(
        "UPDATE report_import SET state = $3, message = $4, error_count = coalesce($5, error_count), finished_at = now()
         WHERE account_id = $1 AND id = $2 AND attempts = $6",
        account.0,
        id.0,
        state.word(),
        message,
        errors.map(|e| e.1),
        import.attempts
    )
    .execute(&mut *tx)
    .await?;
    if done.rows_affected() == 0 {
        return Err(StoreError::Lost);
    }
    if let Some((errors, _)) = errors {
        replace_errors(&mut tx, account, id, errors).await?;
    }
    if state == State::Dropped {
        drop_file(&mut tx, account, id).await?;
    }
    tx.commit().await?;
    Ok(())
}

/// Queues an import of this attempt again, after so many seconds.
pub async fn again(
    db: &PgPool,
    import: &Import,
    message: &str,
    seconds: f64,
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE report_import SET state = 'queued', message = $4, not_before = now() + make_interval(secs => $5)
         WHERE account_id = $1 AND id = $2 AND state = 'running' AND attempts = $3",
        import.account.0,
        import.id.0,
        import.attempts,
        message,
        seconds
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Back to the columns of a failed import whose file is still there; false if it is not.
pub async fn back(db: &PgPool, account: AccountId, id: ImportId) -> Result<bool, StoreError> {
    let done = sqlx::query!(
        "UPDATE report_import i SET state = 'mapping' WHERE account_id = $1 AND id = $2 AND state = 'failed'
           AND EXISTS (SELECT 1 FROM report_chunk c WHERE c.account_id = $1 AND c.import_id = i.id)",
        account.0,
        id.0
    )
    .execute(db)
    .await?;
    Ok(done.rows_affected() == 1)
}

pub(crate) async fn drop_file(
    tx: &mut sqlx::PgConnection,
    account: AccountId,
    id: ImportId,
) -> Result<(), StoreError> {
    sqlx::query!(
        "DELETE FROM report_chunk WHERE account_id = $1 AND import_id = $2",
        account.0,
        id.0
    )
    .execute(tx)
    .await?;
    Ok(())
}

pub(crate) async fn replace_errors(
    tx: &mut sqlx::PgConnection,
    account: AccountId,
    id: ImportId,
    errors: &[ErrorRow],
) -> Result<(), StoreError> {
    sqlx::query!(
        "DELETE FROM report_error WHERE account_id = $1 AND import_id = $2",
        account.0,
        id.0
    )
    .execute(&mut *tx)
    .await?;
    let kept = &errors[..errors.len().min(ERRORS_KEPT)];
    let text = |f: fn(&ErrorRow) -> &String| kept.iter().map(|e| f(e).clone()).collect::<Vec<_>>();
    sqlx::query!(
        "INSERT INTO report_error (account_id, import_id, seq, line, column_name, found, expected)
         SELECT $1, $2, row_number() OVER (), * FROM unnest($3::bigint[], $4::text[], $5::text[], $6::text[])",
        account.0,
        id.0,
        &kept.iter().map(|e| e.line).collect::<Vec<_>>(),
        &text(|e| &e.column),
        &text(|e| &e.found),
        &text(|e| &e.expected)
    )
    .execute(tx)
    .await?;
    Ok(())
}

/// The first errors of an import, in order.
pub async fn errors(
    db: &PgPool,
    account: AccountId,
    id: ImportId,
    most: i64,
) -> Result<Vec<ErrorRow>, StoreError> {
    Ok(sqlx::query_as!(
        ErrorRow,
        r#"SELECT line, column_name AS "column", found, expected FROM report_error
           WHERE account_id = $1 AND import_id = $2 ORDER BY seq LIMIT $3"#,
        account.0,
        id.0,
        most
    )
    .fetch_all(db)
    .await?)
}

/// One import.
pub async fn get(
    db: &PgPool,
    account: AccountId,
    id: ImportId,
) -> Result<Option<Import>, StoreError> {
    let row = sqlx::query!(
        r#"SELECT id AS "id: ImportId", account_id AS "account: AccountId", connection_id AS "connection: ConnectionId", file_name, size, state AS "state: State", mapping, only_good,
                  bytes_read, rows_read, rows_kept, error_count, message, first_day, last_day, created_at, attempts
           FROM report_import WHERE account_id = $1 AND id = $2"#,
        account.0,
        id.0
    )
    .fetch_optional(db)
    .await?;
    Ok(row.map(|r| import!(r)))
}

/// The account's last imports, the newest first.
pub async fn list(db: &PgPool, account: AccountId, most: i64) -> Result<Vec<Import>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT id AS "id: ImportId", account_id AS "account: AccountId", connection_id AS "connection: ConnectionId", file_name, size, state AS "state: State", mapping, only_good,
                  bytes_read, rows_read, rows_kept, error_count, message, first_day, last_day, created_at, attempts
           FROM report_import WHERE account_id = $1 AND connection_id IS NULL ORDER BY id DESC LIMIT $2"#,
        account.0,
        most
    )
    .fetch_all(db)
    .await?;
    Ok(rows.into_iter().map(|r| import!(r)).collect())
}

/// How this account read these headers last time.
pub async fn remembered(
    db: &PgPool,
    account: AccountId,
    source: &str,
) -> Result<Option<Value>, StoreError> {
    Ok(sqlx::query_scalar!(
        "SELECT mapping FROM report_mapping WHERE account_id = $1 AND source = encode(sha256(convert_to($2, 'UTF8')), 'hex')",
        account.0,
        source
    )
    .fetch_optional(db)
    .await?)
}

/// Remembers how these headers are read.
pub(crate) async fn remember(
    db: impl PgExecutor<'_>,
    account: AccountId,
    source: &str,
    mapping: &Value,
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO report_mapping (account_id, source, mapping) VALUES ($1, encode(sha256(convert_to($2, 'UTF8')), 'hex'), $3)
         ON CONFLICT (account_id, source) DO UPDATE SET mapping = excluded.mapping",
        account.0,
        source,
        mapping
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Removes uploads that broke off a day ago, and those that nobody has gone on with for a month.
pub async fn sweep(db: &PgPool) -> Result<u64, StoreError> {
    let done = sqlx::query!(
        "DELETE FROM report_import WHERE (state = 'uploading' AND created_at < now() - interval '1 day')
            OR (state IN ('mapping', 'decide', 'failed') AND connection_id IS NULL AND created_at < now() - interval '30 days')"
    )
    .execute(db)
    .await?;
    Ok(done.rows_affected())
}

/// Takes one import in, now: a worker's own, which is in no queue.
pub async fn run_now(
    db: &PgPool,
    account: AccountId,
    id: ImportId,
    mapping: &Value,
) -> Result<Option<Import>, StoreError> {
    let row = sqlx::query!(
        r#"UPDATE report_import SET state = 'running', claimed_at = now(), attempts = attempts + 1, mapping = $3 WHERE account_id = $1 AND id = $2 AND state = 'mapping'
           RETURNING id AS "id: ImportId", account_id AS "account: AccountId", connection_id AS "connection: ConnectionId", file_name, size, state AS "state: State", mapping, only_good,
                     bytes_read, rows_read, rows_kept, error_count, message, first_day, last_day, created_at, attempts"#,
        account.0,
        id.0,
        mapping
    )
    .fetch_optional(db)
    .await?;
    Ok(row.map(|r| import!(r)))
}
