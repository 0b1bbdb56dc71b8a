//! Sessions in PostgreSQL: the published stores lag behind the driver.

use std::time::Duration;

use async_trait::async_trait;
use chrono::{DateTime, Utc};
use tiller_desk::PgPool;
use tiller_store::{StoreError, sessions};
use time::OffsetDateTime;
use tower_sessions::session::{Id, Record};
use tower_sessions::session_store::{Error, Result};
use tower_sessions::{Expiry, SessionManagerLayer, SessionStore};

/// Sessions end after a week without a visit.
const DAYS: i64 = 7;

/// The session store.
#[derive(Clone, Debug)]
pub struct Sessions(PgPool);

/// The layer that loads and saves sessions.
pub fn layer(db: PgPool, https: bool) -> SessionManagerLayer<Sessions> {
    SessionManagerLayer::new(Sessions(db))
        .with_name("gold_tiller")
        .with_secure(https)
        .with_same_site(tower_sessions::cookie::SameSite::Lax)
        .with_expiry(Expiry::OnInactivity(time::Duration::days(DAYS)))
}

/// Removes expired sessions every hour, for as long as the program runs.
pub async fn sweep(db: PgPool) {
    let mut tick = tokio::time::interval(Duration::from_hours(1));
    loop {
        tick.tick().await;
        if let Err(error) = sessions::sweep(&db).await {
            tracing::warn!(%error, "expired sessions could not be removed");
        }
    }
}

fn backend(error: StoreError) -> Error {
    Error::Backend(error.to_string())
}

fn expiry(record: &Record) -> DateTime<Utc> {
    DateTime::from_timestamp(record.expiry_date.unix_timestamp(), 0).unwrap_or_default()
}

fn data(record: &Record) -> Result<serde_json::Value> {
    let body = (&record.data, record.expiry_date.unix_timestamp());
    serde_json::to_value(body).map_err(|e| Error::Encode(e.to_string()))
}

#[async_trait]
impl SessionStore for Sessions {
    async fn create(&self, record: &mut Record) -> Result<()> {
        while !sessions::create(&self.0, &record.id.to_string(), &data(record)?, expiry(record))
            .await
            .map_err(backend)?
        {
            record.id = Id::default();
        }
        Ok(())
    }

    async fn save(&self, record: &Record) -> Result<()> {
        sessions::save(&self.0, &record.id.to_string(), &data(record)?, expiry(record))
            .await
            .map_err(backend)
    }

    async fn load(&self, id: &Id) -> Result<Option<Record>> {
        let Some(body) = sessions::load(&self.0, &id.to_string()).await.map_err(backend)? else {
            return Ok(None);
        };
        let (data, expires): (_, i64) =
            serde_json::from_value(body).map_err(|e| Error::Decode(e.to_string()))?;
        let expiry_date = OffsetDateTime::from_unix_timestamp(expires)
            .map_err(|e| Error::Decode(e.to_string()))?;
        Ok(Some(Record { id: *id, data, expiry_date }))
    }

    async fn delete(&self, id: &Id) -> Result<()> {
        sessions::delete(&self.0, &id.to_string()).await.map_err(backend)
    }
}
