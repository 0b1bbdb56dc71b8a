//! Views of Spend that a member has put by: a name for a query string.

use sqlx::PgPool;

use crate::StoreError;
use tiller_core::ids::{AccountId, PersonId};

/// A member's views, by name: name and query.
pub async fn list(
    db: &PgPool,
    account: AccountId,
    person: PersonId,
) -> Result<Vec<(String, String)>, StoreError> {
    let rows = sqlx::query!(
        "SELECT name, query FROM saved_view WHERE account_id = $1 AND person_id = $2 ORDER BY name",
        account.0,
        person.0
    )
    .fetch_all(db)
    .await?;
    Ok(rows.into_iter().map(|r| (r.name, r.query)).collect())
}

/// Puts a view by; one of the same name is replaced.
pub async fn save(
    db: &PgPool,
    account: AccountId,
    person: PersonId,
    name: &str,
    query: &str,
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO saved_view (account_id, person_id, name, query) VALUES ($1, $2, $3, $4)
         ON CONFLICT (account_id, person_id, name) DO UPDATE SET query = excluded.query",
        account.0,
        person.0,
        name,
        query
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Gives a view up; tells whether there was one.
pub async fn remove(
    db: &PgPool,
    account: AccountId,
    person: PersonId,
    name: &str,
) -> Result<bool, StoreError> {
    let done = sqlx::query!(
        "DELETE FROM saved_view WHERE account_id = $1 AND person_id = $2 AND name = $3",
        account.0,
        person.0,
        name
    )
    .execute(db)
    .await?;
    Ok(done.rows_affected() == 1)
}
