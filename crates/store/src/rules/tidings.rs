//! What rules have to tell: those that were suspended, and what the others tell of.

use chrono::NaiveDate;
use sqlx::PgPool;
use tiller_core::ids::{AccountId, RuleId, RunId};

use super::Standing;
use crate::StoreError;

/// A rule that has something to tell.
#[derive(Clone, Debug)]
pub struct Tiding {
    /// The rule.
    pub rule: RuleId,
    /// Its name.
    pub name: String,
    /// Its state.
    pub state: Standing,
    /// Why it was suspended.
    pub note: String,
    /// The latest of its runs that told anything.
    pub run: Option<RunId>,
    /// The last day that was known to that run.
    pub day: Option<NaiveDate>,
    /// What that run tells of, by name.
    pub things: Option<Vec<String>>,
}

/// The rules that are suspended, or told anything since a day; those that told last come first.
pub async fn tidings(
    db: &PgPool,
    account: AccountId,
    since: NaiveDate,
) -> Result<Vec<Tiding>, StoreError> {
    Ok(sqlx::query_as!(
        Tiding,
        r#"SELECT r.id AS "rule: RuleId", v.body->>'name' AS "name!", r.state AS "state: Standing", r.note,
                  t.run_id AS "run?: RunId", t.day AS "day?", t.things AS "things?"
           FROM rule r JOIN rule_version v ON v.account_id = r.account_id AND v.rule_id = r.id AND v.version = r.version
           LEFT JOIN LATERAL (
               SELECT a.run_id, a.day, array_agg(a.place ORDER BY a.nth) AS things
               FROM rule_run x JOIN rule_action a ON a.account_id = x.account_id AND a.run_id = x.id
               WHERE x.account_id = r.account_id AND x.rule_id = r.id AND a.did = 'tell' AND a.day >= $2
               GROUP BY a.run_id, a.day ORDER BY a.run_id DESC LIMIT 1) t ON true
           WHERE r.account_id = $1 AND (r.state = 'suspended' OR r.state <> 'removed' AND t.run_id IS NOT NULL)
           ORDER BY t.run_id DESC NULLS LAST, r.id"#,
        account.0,
        since
    )
    .fetch_all(db)
    .await?)
}
