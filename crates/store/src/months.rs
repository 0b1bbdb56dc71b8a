//! What a month is to spend: the account, or one of its channels.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::{PgConnection, PgExecutor};
use tiller_core::Micros;

use crate::StoreError;
use tiller_core::ids::AccountId;

/// What a month is to spend.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Month {
    /// Its first day.
    pub first: NaiveDate,
    /// Of the account and of channels, the account first and channels by name.
    pub budgets: Vec<MonthBudget>,
}

/// A month's budget.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct MonthBudget {
    /// The channel's name; none: the whole account.
    pub channel: Option<String>,
    /// The money.
    pub amount: Micros,
}

/// Those of a month, which its first day names.
pub async fn list(
    database: impl PgExecutor<'_>,
    account: AccountId,
    month: NaiveDate,
) -> Result<Vec<MonthBudget>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT c.name AS "channel?", b.amount FROM month_budget b
           LEFT JOIN channel c ON c.account_id = b.account_id AND c.id = b.channel_id
           WHERE b.account_id = $1 AND b.month = $2 ORDER BY c.name COLLATE "C" NULLS FIRST"#,
        account.0,
        month
    )
    .fetch_all(database)
    .await?;
    Ok(rows
        .into_iter()
        .map(|r| MonthBudget { channel: r.channel, amount: Micros::new(r.amount) })
        .collect())
}

/// Replaces those of a month. Channels that the account has not are left out.
pub(crate) async fn set(
    tx: &mut PgConnection,
    account: AccountId,
    month: &Month,
) -> Result<(), StoreError> {
    sqlx::query!(
        "DELETE FROM month_budget WHERE account_id = $1 AND month = $2",
        account.0,
        month.first
    )
    .execute(&mut *tx)
    .await?;
    for budget in &month.budgets {
        sqlx::query!(
            "INSERT INTO month_budget (account_id, month, channel_id, amount)
             SELECT $1, $2, (SELECT id FROM channel WHERE account_id = $1 AND name = $3), $4
             WHERE $3::text IS NULL OR EXISTS (SELECT FROM channel WHERE account_id = $1 AND name = $3)",
            account.0,
            month.first,
            budget.channel,
            budget.amount.get()
        )
        .execute(&mut *tx)
        .await?;
    }
    Ok(())
}

/// Whether the account has all the channels that a month names.
pub(crate) async fn known(
    tx: &mut PgConnection,
    account: AccountId,
    month: &Month,
) -> Result<bool, StoreError> {
    let named: Vec<String> = month.budgets.iter().filter_map(|b| b.channel.clone()).collect();
    let known = sqlx::query_scalar!(
        r#"SELECT count(*) AS "n!" FROM channel WHERE account_id = $1 AND name = ANY($2)"#,
        account.0,
        &named
    )
    .fetch_one(tx)
    .await?;
    Ok(usize::try_from(known).ok() == Some(named.len()))
}
