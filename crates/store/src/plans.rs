//! Saved plans.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use serde_json::Value;
use sqlx::PgPool;
use tiller_core::Window;

use crate::StoreError;
use tiller_core::ids::{AccountId, PersonId, PlanId};

/// A saved plan; its body is a plan file.
#[derive(Clone, Debug)]
pub struct Plan {
    /// Its id.
    pub id: PlanId,
    /// Its name.
    pub name: String,
    /// The days that its present figures are from.
    pub window: Window,
    /// The plan file.
    pub body: Value,
    /// Its campaigns that have been renamed since it was saved: their names in the file, and now.
    pub renamed: HashMap<String, String>,
    /// Whether the month follows it.
    pub followed: bool,
    /// When it was last changed.
    pub updated_at: DateTime<Utc>,
}

/// Saves a new plan.
pub async fn add(
    db: &PgPool,
    account: AccountId,
    person: PersonId,
    name: &str,
    window: Window,
    body: &Value,
) -> Result<PlanId, StoreError> {
    Ok(sqlx::query_scalar!(
        r#"INSERT INTO plan (account_id, name, from_day, to_day, body, created_by, campaigns)
           SELECT $1, $2, $3, $4, $5, $6, coalesce(jsonb_object_agg(l.label, l.campaign_id) FILTER (WHERE l.label IS NOT NULL), '{}')
           FROM (SELECT 1) one LEFT JOIN campaign_label l ON l.account_id = $1 AND l.label IN (SELECT line ->> 'id' FROM jsonb_array_elements($5::jsonb -> 'lines') line)
           RETURNING id AS "id: PlanId""#,
        account.0,
        name,
        window.from(),
        window.to(),
        body,
        person.0
    )
    .fetch_one(db)
    .await?)
}

/// Changes a plan; false if the account has no such plan.
pub async fn update(
    db: &PgPool,
    account: AccountId,
    id: PlanId,
    name: &str,
    body: &Value,
) -> Result<bool, StoreError> {
    let done = sqlx::query!(
        "UPDATE plan SET name = $3, body = $4, updated_at = now(), campaigns = coalesce(
             (SELECT jsonb_object_agg(l.label, l.campaign_id) FROM campaign_label l
              WHERE l.account_id = $1 AND l.label IN (SELECT line ->> 'id' FROM jsonb_array_elements($4::jsonb -> 'lines') line)), '{}')
         WHERE account_id = $1 AND id = $2",
        account.0,
        id.0,
        name,
        body
    )
    .execute(db)
    .await?;
    Ok(done.rows_affected() == 1)
}

/// Removes a plan.
pub async fn delete(db: &PgPool, account: AccountId, id: PlanId) -> Result<(), StoreError> {
    sqlx::query!("DELETE FROM plan WHERE account_id = $1 AND id = $2", account.0, id.0)
        .execute(db)
        .await?;
    Ok(())
}

/// Holds the month against a plan, or against none; false if the account has no such plan.
pub async fn follow(
    db: &PgPool,
    account: AccountId,
    id: Option<PlanId>,
) -> Result<bool, StoreError> {
    let mut tx = crate::begin(db).await?;
    sqlx::query!("UPDATE plan SET followed = false WHERE account_id = $1 AND followed", account.0)
        .execute(&mut *tx)
        .await?;
    let Some(id) = id else {
        tx.commit().await?;
        return Ok(true);
    };
    let done = sqlx::query!(
        "UPDATE plan SET followed = true WHERE account_id = $1 AND id = $2",
        account.0,
        id.0
    )
    .execute(&mut *tx)
    .await?;
    if done.rows_affected() == 1 {
        tx.commit().await?;
    }
    Ok(done.rows_affected() == 1)
}

/// One plan.
pub async fn get(db: &PgPool, account: AccountId, id: PlanId) -> Result<Option<Plan>, StoreError> {
    Ok(all(db, account, Some(id)).await?.pop())
}

/// The account's plans, the last changed first.
pub async fn list(db: &PgPool, account: AccountId) -> Result<Vec<Plan>, StoreError> {
    all(db, account, None).await
}

async fn all(db: &PgPool, account: AccountId, id: Option<PlanId>) -> Result<Vec<Plan>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT id AS "id: PlanId", name, from_day, to_day, body, followed, updated_at,
                  coalesce((SELECT jsonb_object_agg(was.key, l.label) FROM jsonb_each_text(campaigns) was
                            JOIN campaign_label l ON l.account_id = $1 AND l.campaign_id = was.value::bigint AND l.label <> was.key), '{}') AS "renamed!"
           FROM plan
           WHERE account_id = $1 AND ($2::bigint IS NULL OR id = $2) ORDER BY updated_at DESC, id DESC"#,
        account.0,
        id.map(|i| i.0)
    )
    .fetch_all(db)
    .await?;
    rows.into_iter()
        .filter_map(|r| Some((Window::new(r.from_day, r.to_day)?, r)))
        .map(|(window, r)| {
            Ok(Plan {
                id: r.id,
                name: r.name,
                window,
                body: r.body,
                renamed: serde_json::from_value(r.renamed)?,
                followed: r.followed,
                updated_at: r.updated_at,
            })
        })
        .collect()
}
