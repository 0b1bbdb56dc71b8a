//! PostgreSQL through SQLx: migrations, queries and row types; the only SQL of the project. Every query
//! on an account's data takes the account's id. Never here: rules of the job, sentences for people.

pub mod changes;
pub mod connections;
pub mod courses;
pub mod curves;
pub mod decisions;
pub mod facts;
pub mod imports;
pub mod merge;
pub mod months;
pub mod people;
pub mod plans;
pub mod sessions;
pub mod splits;
pub mod structure;
pub mod targets;
pub mod views;

use std::time::Duration;

use sqlx::postgres::{PgConnectOptions, PgPoolOptions};

pub use sqlx::PgPool;
use sqlx::{Postgres, Transaction};

/// The migrations, for tests that make databases of their own.
pub static MIGRATIONS: sqlx::migrate::Migrator = sqlx::migrate!("./migrations");

/// What can go wrong with the database.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The database refused or did not answer.
    #[error("the database did not answer: {0}")]
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

impl StoreError {
    /// Whether it may well succeed later: the database was away, full, or busy.
    pub fn is_passing(&self) -> bool {
        match self {
            Self::Database(sqlx::Error::Database(e)) => {
                // Connection exception, transaction rollback, insufficient resources, operator intervention.
                let code = e.code();
                code.is_some_and(|c| {
                    ["08", "40", "53", "57"].iter().any(|class| c.starts_with(class))
                })
            }
            Self::Database(
                sqlx::Error::Io(_)
                | sqlx::Error::Tls(_)
                | sqlx::Error::PoolTimedOut
                | sqlx::Error::PoolClosed
                | sqlx::Error::WorkerCrashed
                | sqlx::Error::Protocol(_),
            )
            | Self::Short { .. } => true,
            _ => false,
        }
    }

    /// Whether a unique name was taken already.
    pub fn is_taken(&self) -> bool {
        matches!(self, Self::Database(sqlx::Error::Database(e)) if e.is_unique_violation())
    }
}

/// Connects; waits a while for a database that is only starting.
pub async fn connect(url: &str, connections: u32) -> Result<PgPool, StoreError> {
    let options: PgConnectOptions = url.parse()?;
    let pool = PgPoolOptions::new()
        .max_connections(connections)
        .acquire_timeout(Duration::from_secs(10))
        .connect_with(options.application_name("gold-tiller"))
        .await?;
    Ok(pool)
}

/// Begins a transaction. In a task of its own: a `begin` that is dropped half-way, as when a browser leaves, gives its
/// connection back to the pool inside a transaction that nobody ends, and what the next one writes there is lost.
#[allow(clippy::disallowed_methods)]
async fn begin(pool: &PgPool) -> Result<Transaction<'static, Postgres>, StoreError> {
    let pool = pool.clone();
    match tokio::spawn(async move { pool.begin().await }).await {
        Ok(begun) => Ok(begun?),
        Err(_) => Err(sqlx::Error::WorkerCrashed.into()),
    }
}

/// Brings the schema up to date, under a lock, forward only.
pub async fn migrate(pool: &PgPool) -> Result<(), StoreError> {
    Ok(MIGRATIONS.run(pool).await?)
}

/// Whether the database answers.
pub async fn ping(pool: &PgPool) -> Result<(), StoreError> {
    sqlx::query_scalar!("SELECT 1").fetch_one(pool).await?;
    Ok(())
}
