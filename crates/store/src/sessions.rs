//! Server-side sessions: data that expire, under the SHA-256 of an opaque id. Who reads the table can't sign in with it.

use chrono::{DateTime, Utc};
use sqlx::PgPool;

use crate::StoreError;

/// Saves a session under a new id; false if the id is taken.
pub async fn create(
    db: &PgPool,
    id: &str,
    data: &serde_json::Value,
    expires: DateTime<Utc>,
) -> Result<bool, StoreError> {
    let done = sqlx::query!(
        "INSERT INTO session (id, data, expires_at) VALUES (encode(sha256(convert_to($1, 'UTF8')), 'hex'), $2, $3) ON CONFLICT (id) DO NOTHING",
        id,
        data,
        expires
    )
    .execute(db)
    .await?;
    Ok(done.rows_affected() == 1)
}

/// Saves a session.
pub async fn save(
    db: &PgPool,
    id: &str,
    data: &serde_json::Value,
    expires: DateTime<Utc>,
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO session (id, data, expires_at) VALUES (encode(sha256(convert_to($1, 'UTF8')), 'hex'), $2, $3)
         ON CONFLICT (id) DO UPDATE SET data = excluded.data, expires_at = excluded.expires_at",
        id,
        data,
        expires
    )
    .execute(db)
    .await?;
    Ok(())
}

/// A session that has not expired.
pub async fn load(db: &PgPool, id: &str) -> Result<Option<serde_json::Value>, StoreError> {
    Ok(sqlx::query_scalar!("SELECT data FROM session WHERE id = encode(sha256(convert_to($1, 'UTF8')), 'hex') AND expires_at > now()", id)
        .fetch_optional(db)
        .await?)
}

/// Ends a session.
pub async fn delete(db: &PgPool, id: &str) -> Result<(), StoreError> {
    sqlx::query!(
        "DELETE FROM session WHERE id = encode(sha256(convert_to($1, 'UTF8')), 'hex')",
        id
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Removes expired sessions.
pub async fn sweep(db: &PgPool) -> Result<u64, StoreError> {
    Ok(sqlx::query!("DELETE FROM session WHERE expires_at <= now()")
        .execute(db)
        .await?
        .rows_affected())
}
