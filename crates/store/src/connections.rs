//! Connections to channels, and the jobs that fetch from them.

use chrono::{DateTime, NaiveDate, Utc};
use serde_json::Value;
use sqlx::{PgExecutor, PgPool};

use crate::StoreError;
use tiller_core::ids::{AccountId, ChannelId, ConnectionId, SyncId};

/// A connection with its latest job.
#[derive(Clone, Debug)]
pub struct Connection {
    /// Its id.
    pub id: ConnectionId,
    /// The account it belongs to.
    pub account: AccountId,
    /// The channel.
    pub channel: ChannelId,
    /// The channel's name.
    pub channel_name: String,
    /// Address of the interface.
    pub base_url: String,
    /// What opens the account there, sealed.
    pub sealed: Vec<u8>,
    /// What the channel does not allow, as JSON of the interface.
    pub limits: Option<Value>,
    /// Last day that is over there.
    pub last_day: Option<NaiveDate>,
    /// Days after a click in which conversions may be reported.
    pub window_days: Option<i16>,
    /// Last day that has been taken in.
    pub fetched_to: Option<NaiveDate>,
    /// When.
    pub fetched_at: Option<DateTime<Utc>>,
    /// Last day whose splits have been taken in.
    pub splits_to: Option<NaiveDate>,
}

/// How far a job has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    /// It waits for a worker.
    Queued,
    /// One is at it.
    Running,
    /// It is done.
    Done,
    /// It could not be done.
    Failed,
}
tiller_core::words!(State: Queued "queued", Running "running", Done "done", Failed "failed");
tiller_core::stored!(State);

impl State {
    /// Whether it is still to be done.
    pub fn open(self) -> bool {
        matches!(self, Self::Queued | Self::Running)
    }
}

/// A job that fetches from a connection.
#[derive(Clone, Debug)]
pub struct Sync {
    /// Its id.
    pub id: SyncId,
    /// The account.
    pub account: AccountId,
    /// The connection.
    pub connection: ConnectionId,
    /// How far it has come.
    pub state: State,
    /// What it is doing.
    pub step: String,
    /// Bytes of the report so far.
    pub bytes_read: i64,
    /// Rows of the report so far.
    pub rows_read: i64,
    /// How often it was begun.
    pub attempts: i32,
    /// The last trouble.
    pub error: Option<String>,
    /// When it ended.
    pub finished_at: Option<DateTime<Utc>>,
}

/// Adds a connection, or gives the one of this channel another address or token.
pub async fn save(
    db: &PgPool,
    account: AccountId,
    channel: &str,
    base_url: &str,
    sealed: &[u8],
) -> Result<ConnectionId, StoreError> {
    let mut tx = crate::begin(db).await?;
    sqlx::query!(
        "INSERT INTO channel (account_id, name) VALUES ($1, $2) ON CONFLICT DO NOTHING",
        account.0,
        channel
    )
    .execute(&mut *tx)
    .await?;
    let id = sqlx::query_scalar!(
        r#"INSERT INTO connection (account_id, channel_id, base_url, sealed)
           SELECT $1, id, $3, $4 FROM channel WHERE account_id = $1 AND name = $2
           ON CONFLICT (account_id, channel_id) DO UPDATE SET base_url = excluded.base_url, sealed = excluded.sealed, token = NULL
           RETURNING id AS "id: ConnectionId""#,
        account.0,
        channel,
        base_url,
        sealed
    )
    .fetch_one(&mut *tx)
    .await?;
    tx.commit().await?;
    Ok(id)
}

/// Tokens that stand plain in the database, from before they were sealed.
pub async fn plain(db: &PgPool) -> Result<Vec<(AccountId, ConnectionId, String)>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT account_id AS "account: AccountId", id AS "id: ConnectionId", token AS "token!"
           FROM connection WHERE token IS NOT NULL"#
    )
    .fetch_all(db)
    .await?;
    Ok(rows.into_iter().map(|r| (r.account, r.id, r.token)).collect())
}

/// Puts its seal in a token's place.
pub async fn sealed(
    db: &PgPool,
    account: AccountId,
    id: ConnectionId,
    sealed: &[u8],
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE connection SET sealed = $3, token = NULL WHERE account_id = $1 AND id = $2",
        account.0,
        id.0,
        sealed
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Ends a connection; what was fetched stays.
pub async fn remove(db: &PgPool, account: AccountId, id: ConnectionId) -> Result<(), StoreError> {
    sqlx::query!("DELETE FROM connection WHERE account_id = $1 AND id = $2", account.0, id.0)
        .execute(db)
        .await?;
    Ok(())
}

/// The account's connections, by channel.
pub async fn list(db: &PgPool, account: AccountId) -> Result<Vec<Connection>, StoreError> {
    Ok(sqlx::query_as!(
        Connection,
        r#"SELECT c.id AS "id: ConnectionId", c.account_id AS "account: AccountId", c.channel_id AS "channel: ChannelId",
                  ch.name AS channel_name, base_url, sealed, limits, last_day, window_days, fetched_to, fetched_at, splits_to
           FROM connection c JOIN channel ch ON ch.account_id = c.account_id AND ch.id = c.channel_id
           WHERE c.account_id = $1 ORDER BY ch.name"#,
        account.0
    )
    .fetch_all(db)
    .await?)
}

/// Every connection to an address: accounts that share a market see its days pass together.
pub async fn at_address(
    db: &PgPool,
    base_url: &str,
) -> Result<Vec<(AccountId, ConnectionId)>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT account_id AS "account: AccountId", id AS "id: ConnectionId" FROM connection WHERE base_url = $1"#,
        base_url
    )
    .fetch_all(db)
    .await?;
    Ok(rows.into_iter().map(|r| (r.account, r.id)).collect())
}

/// Points all connections at one address to another: a market that moved.
pub async fn move_address(db: &PgPool, from: &str, to: &str) -> Result<(), StoreError> {
    sqlx::query!("UPDATE connection SET base_url = $2 WHERE base_url = $1", from, to)
        .execute(db)
        .await?;
    Ok(())
}

/// Queues a job unless one is open; tells whether it did.
pub async fn queue(
    db: impl PgExecutor<'_>,
    account: AccountId,
    id: ConnectionId,
) -> Result<bool, StoreError> {
    let done = sqlx::query!(
        "INSERT INTO sync_job (account_id, connection_id) SELECT account_id, id FROM connection WHERE account_id = $1 AND id = $2
         ON CONFLICT DO NOTHING",
        account.0,
        id.0
    )
    .execute(db)
    .await?;
    Ok(done.rows_affected() == 1)
}

/// Takes the next job, or one whose worker has been silent for a minute. An account has one under way at a time: a slow channel
/// keeps its own account waiting, and no other.
pub async fn claim(db: &PgPool) -> Result<Option<(Sync, Connection)>, StoreError> {
    let mut tx = crate::begin(db).await?;
    // One claims after the other, so that two don't take two of one account.
    sqlx::query!("SELECT pg_advisory_xact_lock(7002)").execute(&mut *tx).await?;
    let claimed = sqlx::query_as!(
        Sync,
        r#"UPDATE sync_job SET state = 'running', claimed_at = now(), attempts = attempts + 1, bytes_read = 0, rows_read = 0
           WHERE (account_id, id) IN (
               SELECT account_id, id FROM sync_job j
               WHERE ((state = 'queued' AND not_before <= now()) OR (state = 'running' AND claimed_at < now() - interval '60 seconds'))
                 AND NOT EXISTS (SELECT FROM sync_job r WHERE r.account_id = j.account_id AND r.id <> j.id AND r.state = 'running'
                                 AND r.claimed_at >= now() - interval '60 seconds')
               ORDER BY id LIMIT 1)
           RETURNING id AS "id: SyncId", account_id AS "account: AccountId", connection_id AS "connection: ConnectionId",
                     state AS "state: State", step, bytes_read, rows_read, attempts, error, finished_at"#
    )
    .fetch_optional(&mut *tx)
    .await?;
    tx.commit().await?;
    let Some(sync) = claimed else { return Ok(None) };
    let of = list(db, sync.account).await?.into_iter().find(|c| c.id == sync.connection);
    Ok(of.map(|connection| (sync, connection)))
}

/// Tells what a job is doing, how far it is, and that it lives; an error once another worker has it.
pub async fn progress(
    db: &PgPool,
    sync: &Sync,
    step: &str,
    bytes: i64,
    rows: i64,
) -> Result<(), StoreError> {
    let done = sqlx::query!(
        "UPDATE sync_job SET step = $3, bytes_read = $4, rows_read = $5, claimed_at = now()
         WHERE account_id = $1 AND id = $2 AND state = 'running' AND attempts = $6",
        sync.account.0,
        sync.id.0,
        step,
        bytes,
        rows,
        sync.attempts
    )
    .execute(db)
    .await?;
    if done.rows_affected() == 1 { Ok(()) } else { Err(StoreError::Lost) }
}

/// Tells that a job lives; an error once another worker has it.
pub async fn alive(db: &PgPool, sync: &Sync) -> Result<(), StoreError> {
    let done = sqlx::query!(
        "UPDATE sync_job SET claimed_at = now() WHERE account_id = $1 AND id = $2 AND state = 'running' AND attempts = $3",
        sync.account.0,
        sync.id.0,
        sync.attempts
    )
    .execute(db)
    .await?;
    if done.rows_affected() == 1 { Ok(()) } else { Err(StoreError::Lost) }
}

/// How a job ended.
#[derive(Clone, Debug)]
pub enum End<'a> {
    /// Everything up to this day is in.
    Done(NaiveDate),
    /// It is tried again after so many seconds.
    Again(&'a str, f64),
    /// It failed for good.
    Failed(&'a str),
}

/// Ends a job of this attempt.
pub async fn end(db: &PgPool, sync: &Sync, how: End<'_>) -> Result<(), StoreError> {
    let mut tx = crate::begin(db).await?;
    let ours = sqlx::query_scalar!(
        "SELECT attempts FROM sync_job WHERE account_id = $1 AND id = $2 AND state = 'running' FOR UPDATE",
        sync.account.0,
        sync.id.0
    )
    .fetch_optional(&mut *tx)
    .await?;
    if ours != Some(sync.attempts) {
        return Err(StoreError::Lost);
    }
    let (state, error, pause) = match how {
        End::Done(to) => {
            sqlx::query!(
                "UPDATE connection SET fetched_to = $3, splits_to = $3, fetched_at = now() WHERE account_id = $1 AND id = $2",
                sync.account.0,
                sync.connection.0,
                to
            )
            .execute(&mut *tx)
            .await?;
            (State::Done, None, 0.0)
        }
        End::Again(error, pause) => (State::Queued, Some(error), pause),
        End::Failed(error) => (State::Failed, Some(error), 0.0),
    };
    sqlx::query!(
        "UPDATE sync_job SET state = $3, error = $4, not_before = now() + make_interval(secs => $5),
                finished_at = CASE WHEN $3 = 'queued' THEN NULL ELSE now() END
         WHERE account_id = $1 AND id = $2",
        sync.account.0,
        sync.id.0,
        state.word(),
        error,
        pause
    )
    .execute(&mut *tx)
    .await?;
    tx.commit().await?;
    Ok(())
}

/// Each connection's latest job.
pub async fn latest_jobs(db: &PgPool, account: AccountId) -> Result<Vec<Sync>, StoreError> {
    Ok(sqlx::query_as!(
        Sync,
        r#"SELECT DISTINCT ON (connection_id) id AS "id: SyncId", account_id AS "account: AccountId",
                  connection_id AS "connection: ConnectionId", state AS "state: State", step, bytes_read, rows_read, attempts, error, finished_at
           FROM sync_job WHERE account_id = $1 ORDER BY connection_id, id DESC"#,
        account.0
    )
    .fetch_all(db)
    .await?)
}

/// Removes what an earlier try of a connection's job left half-done.
pub async fn drop_half_done(
    db: &PgPool,
    account: AccountId,
    id: ConnectionId,
) -> Result<(), StoreError> {
    sqlx::query!(
        "DELETE FROM report_import WHERE account_id = $1 AND connection_id = $2 AND state <> 'done'",
        account.0,
        id.0
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Forgets what a fetched report replaced, and which fetched reports came before it: there is no going back.
pub async fn forget_replaced(
    db: &PgPool,
    account: AccountId,
    id: ConnectionId,
) -> Result<(), StoreError> {
    let mut tx = crate::begin(db).await?;
    for sql in [
        "DELETE FROM replaced_item_day r USING report_import i WHERE r.account_id = $1 AND i.account_id = $1 AND i.connection_id = $2 AND r.replaced_by = i.id",
        "DELETE FROM replaced_conversion_day r USING report_import i WHERE r.account_id = $1 AND i.account_id = $1 AND i.connection_id = $2 AND r.replaced_by = i.id",
        "DELETE FROM import_campaign_day d USING import_campaign_day n, report_import i, report_import j
         WHERE d.account_id = $1 AND n.account_id = $1 AND i.account_id = $1 AND j.account_id = $1
           AND d.import_id = i.id AND i.connection_id = $2 AND n.import_id = j.id AND j.connection_id = $2
           AND n.campaign_id = d.campaign_id AND n.day = d.day AND n.import_id > d.import_id",
        "DELETE FROM report_import i WHERE account_id = $1 AND connection_id = $2 AND state = 'done'
           AND NOT EXISTS (SELECT 1 FROM import_campaign_day d WHERE d.account_id = $1 AND d.import_id = i.id)",
    ] {
        sqlx::query(sql).bind(account.0).bind(id.0).execute(&mut *tx).await?;
    }
    tx.commit().await?;
    Ok(())
}
