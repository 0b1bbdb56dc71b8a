//! PostgreSQL through SQLx: migrations, queries and row types; the only SQL of the project. Every query
//! on an account's data takes the account's id. Never here: rules of the job, sentences for people.

pub mod changes;
pub mod connections;
pub mod courses;
pub mod curves;
pub mod decisions;
pub mod facts;
pub mod fault;
pub mod imports;
pub mod late;
pub mod lines;
pub mod look_backs;
pub mod merge;
pub mod months;
pub mod partitions;
pub mod people;
pub mod plans;
pub mod rules;
pub mod scores;
pub mod sessions;
pub mod splits;
pub mod staging;
pub mod structure;
pub mod targets;
pub mod touched;
pub mod undo;
pub mod versions;
pub mod views;

use std::str::FromStr;
use std::time::Duration;

use sqlx::postgres::{PgConnectOptions, PgPoolOptions};

pub use sqlx::PgPool;
use sqlx::{PgConnection, Postgres, Transaction};
use tiller_core::ids::AccountId;

/// The migrations, for tests that make databases of their own.
pub static MIGRATIONS: sqlx::migrate::Migrator = sqlx::migrate!("./migrations");

/// What can go wrong with the database.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The database refused or did not answer.
    #[error("{}: {}", told(.0), .0)]
    Database(#[from] sqlx::Error),
    /// The schema could not be brought up to date.
    #[error("the database's schema could not be brought up to date: {0}")]
    Migration(#[from] sqlx::migrate::MigrateError),
    /// Somebody else has taken a job over: what is left of this attempt writes nothing.
    #[error("another worker has taken this over")]
    Lost,
    /// Less was found than had been staged.
    #[error(
        "of what was fetched, {found} of {staged} {what} are left; nothing was taken in, and it is fetched again"
    )]
    Short {
        /// What: conversions, segments or search terms.
        what: &'static str,
        /// How many rows were staged.
        staged: i64,
        /// How many are left.
        found: i64,
    },
    /// Stored JSON does not have its form.
    #[error("stored data could not be read: {0}")]
    Json(#[from] serde_json::Error),
}

/// What a program may do about a failure.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Try again later: the database is away, full or busy, or what was staged is gone.
    Passing,
    /// Choose another name: this one is there already.
    Taken,
    /// Leave it: somebody else does it.
    Lost,
    /// Tell whoever runs this: it will fail again.
    Lasting,
}

impl StoreError {
    /// What a program may do about it.
    pub fn kind(&self) -> Kind {
        match self {
            Self::Database(sqlx::Error::Database(e)) if e.is_unique_violation() => Kind::Taken,
            // Connection exception, transaction rollback, insufficient resources, operator intervention.
            Self::Database(sqlx::Error::Database(e))
                if e.code().is_some_and(|c| {
                    ["08", "40", "53", "57"].iter().any(|class| c.starts_with(class))
                }) =>
            {
                Kind::Passing
            }
            Self::Database(
                sqlx::Error::Io(_)
                | sqlx::Error::Tls(_)
                | sqlx::Error::PoolTimedOut
                | sqlx::Error::PoolClosed
                | sqlx::Error::WorkerCrashed
                | sqlx::Error::Protocol(_),
            )
            | Self::Short { .. } => Kind::Passing,
            Self::Lost => Kind::Lost,
            Self::Database(_) | Self::Migration(_) | Self::Json(_) => Kind::Lasting,
        }
    }
}

/// What a failure of the database was, in words.
fn told(error: &sqlx::Error) -> &'static str {
    match error {
        sqlx::Error::Database(_) => "the database refused it",
        sqlx::Error::RowNotFound => "the database does not have it",
        sqlx::Error::Decode(_)
        | sqlx::Error::ColumnDecode { .. }
        | sqlx::Error::ColumnNotFound(_)
        | sqlx::Error::TypeNotFound { .. } => "what the database holds could not be read",
        sqlx::Error::PoolTimedOut => "the database had no connection free in time",
        _ => "the database did not answer",
    }
}

/// Connects; waits a while for a database that is only starting. Statements that take longer than they may are ended.
pub async fn connect(
    url: &str,
    connections: u32,
    longest: Option<Duration>,
) -> Result<PgPool, StoreError> {
    let milliseconds = longest.map_or(0, |l| l.as_millis()).to_string();
    // Compiling a statement costs more than any of these takes.
    let options = [("jit", "off"), ("statement_timeout", milliseconds.as_str())];
    let options = PgConnectOptions::from_str(url)?.options(options);
    let db = PgPoolOptions::new()
        .max_connections(connections)
        // A reader is told soon that the database is away; a worker has time.
        .acquire_timeout(Duration::from_secs(if longest.is_some() { 3 } else { 10 }))
        .connect_with(options.application_name("gold-tiller"))
        .await?;
    Ok(db)
}

/// Begins a transaction. In a task of its own: a `begin` that is dropped half-way, as when a browser leaves, gives its
/// connection back to the pool inside a transaction that nobody ends, and what the next one writes there is lost.
#[allow(clippy::disallowed_methods)]
async fn begin(db: &PgPool) -> Result<Transaction<'static, Postgres>, StoreError> {
    let db = db.clone();
    match tokio::spawn(async move { db.begin().await }).await {
        Ok(begun) => Ok(begun?),
        Err(_) => Err(sqlx::Error::WorkerCrashed.into()),
    }
}

/// Waits until nobody else moves the account's structure and figures; then nobody does until the transaction ends.
async fn alone(tx: &mut PgConnection, account: AccountId) -> Result<(), StoreError> {
    sqlx::query!("SELECT pg_advisory_xact_lock(7001, $1)", account.0 as i32).execute(tx).await?;
    Ok(())
}

/// Brings the schema up to date, under a lock, forward only.
pub async fn migrate(db: &PgPool) -> Result<(), StoreError> {
    Ok(MIGRATIONS.run(db).await?)
}

/// Whether the database answers.
pub async fn ping(db: &PgPool) -> Result<(), StoreError> {
    sqlx::query_scalar!("SELECT 1").fetch_one(db).await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn failures_say_what_they_are_and_what_may_be_done() {
        let of = |e: sqlx::Error| StoreError::from(e);
        let away = of(sqlx::Error::Io(std::io::ErrorKind::ConnectionRefused.into()));
        assert_eq!(away.kind(), Kind::Passing);
        assert!(away.to_string().starts_with("the database did not answer: "), "{away}");
        let unread = of(sqlx::Error::ColumnNotFound("day".into()));
        assert_eq!(unread.kind(), Kind::Lasting);
        assert!(unread.to_string().starts_with("what the database holds"), "{unread}");
        assert_eq!(of(sqlx::Error::PoolTimedOut).kind(), Kind::Passing);
        assert_eq!(StoreError::Lost.kind(), Kind::Lost);
        assert!(std::error::Error::source(&away).is_some(), "its source is kept");
    }
}
