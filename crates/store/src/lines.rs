//! Product lines, and what follows them: a line's target is written where it is followed, so that whatever reads targets
//! reads one.

use std::collections::HashMap;

use sqlx::{PgConnection, PgPool};
use tiller_core::Target;
use tiller_core::break_even::ProductLine;
use tiller_core::ids::{AccountId, CampaignId};

use crate::{StoreError, targets};

/// An account's product lines, and who follows which.
#[derive(Clone, Debug, Default)]
pub struct Lines {
    /// The lines.
    pub all: Vec<ProductLine>,
    /// The line that the account's target follows.
    pub account: Option<String>,
    /// The lines that campaigns follow.
    pub campaigns: HashMap<CampaignId, String>,
}

/// The lines of an account.
pub async fn of_account(db: &PgPool, account: AccountId) -> Result<Lines, StoreError> {
    let a =
        sqlx::query!("SELECT product_lines, product_line FROM account WHERE id = $1", account.0)
            .fetch_optional(db)
            .await?;
    let Some(a) = a else { return Ok(Lines::default()) };
    let rows = sqlx::query!(
        r#"SELECT id AS "id: CampaignId", product_line AS "line!" FROM campaign
           WHERE account_id = $1 AND product_line IS NOT NULL"#,
        account.0
    )
    .fetch_all(db)
    .await?;
    Ok(Lines {
        all: serde_json::from_value(a.product_lines)?,
        account: a.product_line,
        campaigns: rows.into_iter().map(|r| (r.id, r.line)).collect(),
    })
}

/// Sets the lines, and the targets of whatever follows them. What followed a line that is gone keeps its target.
pub(crate) async fn set(
    tx: &mut PgConnection,
    account: AccountId,
    lines: &[ProductLine],
) -> Result<(), StoreError> {
    let names: Vec<String> = lines.iter().map(|l| l.name.clone()).collect();
    let pairs = lines.iter().map(|l| l.target().map(Target::pair).unwrap_or_default());
    let (cpas, roas): (Vec<Option<f64>>, Vec<Option<f64>>) = pairs.unzip();
    sqlx::query!(
        "UPDATE account SET product_lines = $2 WHERE id = $1",
        account.0,
        serde_json::to_value(lines)?
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!(
        "UPDATE account a SET target_cpa = l.cpa, target_roas = l.roas
         FROM unnest($2::text[], $3::float8[], $4::float8[]) AS l(name, cpa, roas) WHERE a.id = $1 AND a.product_line = l.name",
        account.0,
        &names,
        &cpas as &[Option<f64>],
        &roas as &[Option<f64>]
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!(
        "UPDATE campaign c SET target_cpa = l.cpa, target_roas = l.roas
         FROM unnest($2::text[], $3::float8[], $4::float8[]) AS l(name, cpa, roas)
         WHERE c.account_id = $1 AND c.product_line = l.name",
        account.0,
        &names,
        &cpas as &[Option<f64>],
        &roas as &[Option<f64>]
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!(
        "UPDATE account SET product_line = NULL WHERE id = $1 AND product_line <> ALL($2)",
        account.0,
        &names
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!(
        "UPDATE campaign SET product_line = NULL WHERE account_id = $1 AND product_line <> ALL($2)",
        account.0,
        &names
    )
    .execute(tx)
    .await?;
    Ok(())
}

/// Has a campaign or the account follow a line, or none, with a target.
pub(crate) async fn follow(
    tx: &mut PgConnection,
    account: AccountId,
    campaign: Option<CampaignId>,
    line: Option<&str>,
    target: Option<Target>,
) -> Result<(), StoreError> {
    match campaign {
        None => targets::set_default(tx, account, target).await?,
        Some(id) => targets::set_own(tx, account, id, target).await?,
    }
    match campaign {
        None => {
            sqlx::query!("UPDATE account SET product_line = $2 WHERE id = $1", account.0, line)
                .execute(tx)
                .await?
        }
        Some(id) => {
            sqlx::query!(
                "UPDATE campaign SET product_line = $3 WHERE account_id = $1 AND id = $2",
                account.0,
                id.0,
                line
            )
            .execute(tx)
            .await?
        }
    };
    Ok(())
}
