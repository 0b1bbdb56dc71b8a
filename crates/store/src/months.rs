//! What a month is to spend: the account, or one of its channels.

use chrono::NaiveDate;
use sqlx::PgPool;
use tiller_core::Micros;

use crate::{AccountId, StoreError};

/// A month's budget.
#[derive(Clone, Debug, PartialEq)]
pub struct MonthBudget {
    /// The channel's name; none: the whole account.
    pub channel: Option<String>,
    /// The money.
    pub amount: Micros,
}

/// Those of a month, which its first day names.
pub async fn list(
    pool: &PgPool,
    account: AccountId,
    month: NaiveDate,
) -> Result<Vec<MonthBudget>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT c.name AS "channel?", b.amount FROM month_budget b
           LEFT JOIN channel c ON c.account_id = b.account_id AND c.id = b.channel_id
           WHERE b.account_id = $1 AND b.month = $2 ORDER BY 1 NULLS FIRST"#,
        account.0,
        month
    )
    .fetch_all(pool)
    .await?;
    Ok(rows
        .into_iter()
        .map(|r| MonthBudget { channel: r.channel, amount: Micros::new(r.amount) })
        .collect())
}

/// Replaces those of a month; false, and nothing is replaced, if the account has no such channel.
pub async fn set(
    pool: &PgPool,
    account: AccountId,
    month: NaiveDate,
    budgets: &[MonthBudget],
) -> Result<bool, StoreError> {
    let mut tx = pool.begin().await?;
    sqlx::query!("DELETE FROM month_budget WHERE account_id = $1 AND month = $2", account.0, month)
        .execute(&mut *tx)
        .await?;
    for budget in budgets {
        let done = sqlx::query!(
            "INSERT INTO month_budget (account_id, month, channel_id, amount)
             SELECT $1, $2, (SELECT id FROM channel WHERE account_id = $1 AND name = $3), $4
             WHERE $3::text IS NULL OR EXISTS (SELECT FROM channel WHERE account_id = $1 AND name = $3)",
            account.0,
            month,
            budget.channel,
            budget.amount.get()
        )
        .execute(&mut *tx)
        .await?;
        if done.rows_affected() == 0 {
            return Ok(false);
        }
    }
    tx.commit().await?;
    Ok(true)
}
