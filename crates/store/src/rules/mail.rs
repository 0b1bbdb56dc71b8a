//! Runs of which something is to be told by e-mail: each waits its turn until a server has taken it.

use serde_json::Value;
use sqlx::PgPool;
use tiller_core::ids::{AccountId, RunId};

use super::RunState;
use crate::StoreError;

/// How far a run's e-mail has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mail {
    /// There is nothing to tell.
    None,
    /// It waits.
    Due,
    /// A server has taken it.
    Sent,
    /// No server took it.
    Failed,
}
tiller_core::words!(Mail: None "none", Due "due", Sent "sent", Failed "failed");
tiller_core::stored!(Mail);

/// An e-mail on its way.
#[derive(Clone, Debug)]
pub struct Letter {
    /// The account.
    pub account: AccountId,
    /// Its name.
    pub account_name: String,
    /// The run that it tells of.
    pub run: RunId,
    /// How that ended.
    pub state: RunState,
    /// What is said of it besides.
    pub note: String,
    /// The rule, as it ran.
    pub body: Value,
    /// The address of who wrote that version; none where they have left the account.
    pub to: Option<String>,
    /// Their name.
    pub name: Option<String>,
    /// How often it was tried: whoever holds an older number has lost it.
    pub attempts: i32,
}

/// Takes the next e-mail, for five minutes. What is older than a day is no news.
pub async fn claim_mail(db: &PgPool) -> Result<Option<Letter>, StoreError> {
    Ok(sqlx::query_as!(
        Letter,
        r#"WITH mine AS (
               UPDATE rule_run SET mail_attempts = mail_attempts + 1, mail_not_before = now() + interval '5 minutes'
               WHERE (account_id, id) IN (
                   SELECT account_id, id FROM rule_run
                   WHERE mail = 'due' AND mail_not_before <= now() AND ended_at > now() - interval '1 day'
                   ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED)
               RETURNING account_id, id, rule_id, version, state, note, mail_attempts)
           SELECT m.account_id AS "account: AccountId", a.name AS account_name, m.id AS "run: RunId", m.state AS "state: RunState", m.note,
                  v.body, p.email AS "to?", p.name AS "name?", m.mail_attempts AS attempts
           FROM mine m JOIN account a ON a.id = m.account_id
           JOIN rule_version v ON v.account_id = m.account_id AND v.rule_id = m.rule_id AND v.version = m.version
           LEFT JOIN (person p JOIN membership s ON s.person_id = p.id) ON p.id = v.created_by AND s.account_id = m.account_id"#
    )
    .fetch_optional(db)
    .await?)
}

/// What became of an e-mail.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Posted {
    /// A server took it.
    Sent,
    /// It is tried again after so many seconds.
    Again(f64),
    /// No server will take it.
    Failed,
}

/// Writes down what became of an e-mail, unless another has it by now.
pub async fn posted(db: &PgPool, of: &Letter, posted: Posted) -> Result<(), StoreError> {
    let (state, pause) = match posted {
        Posted::Sent => (Mail::Sent, 0.0),
        Posted::Again(pause) => (Mail::Due, pause),
        Posted::Failed => (Mail::Failed, 0.0),
    };
    sqlx::query!(
        "UPDATE rule_run SET mail = $4, mail_not_before = now() + make_interval(secs => $5)
         WHERE account_id = $1 AND id = $2 AND mail_attempts = $3 AND mail = 'due'",
        of.account.0,
        of.run.0,
        of.attempts,
        state.word(),
        pause
    )
    .execute(db)
    .await?;
    Ok(())
}
