//! In which state an account is: two numbers that triggers raise (decision 0011).

use sqlx::PgPool;
use tiller_core::ids::AccountId;

use crate::StoreError;

/// Numbers that grow whenever something of an account changes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Version {
    /// Its figures and its structure.
    pub figures: i64,
    /// What people have decided, and what was sent.
    pub decided: i64,
}

/// The state that an account is in.
pub async fn of(db: &PgPool, account: AccountId) -> Result<Version, StoreError> {
    Ok(sqlx::query_as!(
        Version,
        r#"SELECT figures, coalesce(d.version, 0) AS "decided!"
           FROM account a LEFT JOIN account_decided d ON d.account_id = a.id WHERE a.id = $1"#,
        account.0
    )
    .fetch_one(db)
    .await?)
}
