//! Rules and their versions.

use chrono::{DateTime, NaiveDate, Utc};
use serde_json::Value;
use sqlx::{PgConnection, PgPool};
use tiller_core::ids::{AccountId, PersonId, RuleId};

use super::Run;
use crate::StoreError;

/// Whether a rule runs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// Nobody has switched it on.
    Off,
    /// It runs when it is due.
    On,
    /// It made things worse, and was stopped.
    Suspended,
    /// It is gone; what it did stays written.
    Removed,
}
tiller_core::words!(Standing: Off "off", On "on", Suspended "suspended", Removed "removed");
tiller_core::stored!(Standing);

/// A rule with its version in force.
#[derive(Clone, Debug)]
pub struct Kept {
    /// Its id.
    pub id: RuleId,
    /// Its version in force.
    pub version: i32,
    /// Whether it runs.
    pub state: Standing,
    /// Why it was suspended.
    pub note: String,
    /// When it runs next.
    pub next_due: Option<DateTime<Utc>>,
    /// Changes from this day on are what it is watched by; all, where it was switched on before rules were watched.
    pub watched_from: Option<NaiveDate>,
    /// What it looks at and does.
    pub body: Value,
}

/// One version of a rule.
#[derive(Clone, Debug)]
pub struct Version {
    /// Its number, from 1.
    pub version: i32,
    /// What it looked at and did.
    pub body: Value,
    /// As a sentence, as it read then.
    pub told: String,
    /// Who wrote it.
    pub author: Option<String>,
    /// When.
    pub created_at: DateTime<Utc>,
}

/// The rules of an account: those that were suspended, then in the order in which they were written.
pub async fn list(db: &PgPool, account: AccountId) -> Result<Vec<Kept>, StoreError> {
    Ok(sqlx::query_as!(
        Kept,
        r#"SELECT r.id AS "id: RuleId", r.version, r.state AS "state: Standing", r.note, r.next_due, r.watched_from, v.body
           FROM rule r JOIN rule_version v ON v.account_id = r.account_id AND v.rule_id = r.id AND v.version = r.version
           WHERE r.account_id = $1 AND r.state <> 'removed' ORDER BY r.state <> 'suspended', r.id"#,
        account.0
    )
    .fetch_all(db)
    .await?)
}

/// A rule's versions, the latest first.
pub async fn versions(
    db: &PgPool,
    account: AccountId,
    id: RuleId,
) -> Result<Vec<Version>, StoreError> {
    Ok(sqlx::query_as!(
        Version,
        r#"SELECT v.version, v.body, v.told, p.name AS "author?", v.created_at
           FROM rule_version v LEFT JOIN person p ON p.id = v.created_by
           WHERE v.account_id = $1 AND v.rule_id = $2 ORDER BY v.version DESC"#,
        account.0,
        id.0
    )
    .fetch_all(db)
    .await?)
}

/// Adds a rule, switched off.
pub async fn add(
    db: &PgPool,
    account: AccountId,
    person: PersonId,
    body: &Value,
    told: &str,
) -> Result<RuleId, StoreError> {
    let mut tx = crate::begin(db).await?;
    let id = sqlx::query_scalar!(
        r#"INSERT INTO rule (account_id) VALUES ($1) RETURNING id AS "id: RuleId""#,
        account.0
    )
    .fetch_one(&mut *tx)
    .await?;
    write(&mut tx, account, person, (id, 1), body, told).await?;
    tx.commit().await?;
    Ok(id)
}

async fn write(
    tx: &mut PgConnection,
    account: AccountId,
    person: PersonId,
    (id, version): (RuleId, i32),
    body: &Value,
    told: &str,
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO rule_version (account_id, rule_id, version, body, told, created_by) VALUES ($1, $2, $3, $4, $5, $6)",
        account.0,
        id.0,
        version,
        body,
        told,
        person.0
    )
    .execute(tx)
    .await?;
    Ok(())
}

/// Writes a rule's next version, unless somebody has written one since `version`; false then. A rule that is on is next due
/// at the moment given.
pub async fn save(
    db: &PgPool,
    account: AccountId,
    person: PersonId,
    (id, version): (RuleId, i32),
    (body, told): (&Value, &str),
    next_due: Option<DateTime<Utc>>,
) -> Result<bool, StoreError> {
    let mut tx = crate::begin(db).await?;
    let done = sqlx::query!(
        "UPDATE rule SET version = version + 1, next_due = CASE WHEN state = 'on' THEN $4::timestamptz END
         WHERE account_id = $1 AND id = $2 AND version = $3 AND state <> 'removed'",
        account.0,
        id.0,
        version,
        next_due
    )
    .execute(&mut *tx)
    .await?;
    if done.rows_affected() == 0 {
        return Ok(false);
    }
    write(&mut tx, account, person, (id, version + 1), body, told).await?;
    tx.commit().await?;
    Ok(true)
}

/// Switches a rule on, off, or removes it; false if there is none that is not so already. One that is switched on is
/// watched anew; what waits of another, or is under way, is dropped.
pub async fn switch(
    db: &PgPool,
    account: AccountId,
    id: RuleId,
    state: Standing,
    next_due: Option<DateTime<Utc>>,
) -> Result<bool, StoreError> {
    let mut tx = crate::begin(db).await?;
    let done = sqlx::query!(
        "UPDATE rule r SET state = $3, note = '', next_due = $4,
                watched_from = CASE WHEN $3 = 'on' THEN (account_now(a.id) AT TIME ZONE a.time_zone)::date ELSE watched_from END
         FROM account a WHERE a.id = $1 AND r.account_id = $1 AND r.id = $2 AND r.state <> 'removed' AND r.state <> $3",
        account.0,
        id.0,
        state.word(),
        next_due
    )
    .execute(&mut *tx)
    .await?;
    if state != Standing::On && done.rows_affected() == 1 {
        sqlx::query!(
            "UPDATE rule_run SET state = 'skipped', ended_at = now(), note = 'the rule was switched off'
             WHERE account_id = $1 AND rule_id = $2 AND state IN ('queued', 'running')",
            account.0,
            id.0
        )
        .execute(&mut *tx)
        .await?;
    }
    tx.commit().await?;
    Ok(done.rows_affected() == 1)
}

/// Suspends a rule in the run in which it was found to make things worse, and has its author told. Refused if another
/// runner has the run.
pub async fn suspend(db: &PgPool, run: &Run, why: &str) -> Result<(), StoreError> {
    let mut tx = crate::begin(db).await?;
    let mine = sqlx::query!(
        "UPDATE rule_run SET state = 'skipped', ended_at = now(), note = $4, mail = 'due'
         WHERE account_id = $1 AND id = $2 AND attempts = $3 AND state = 'running'",
        run.account.0,
        run.id.0,
        run.attempts,
        why
    )
    .execute(&mut *tx)
    .await?;
    if mine.rows_affected() == 0 {
        return Err(StoreError::Lost);
    }
    sqlx::query!(
        "UPDATE rule SET state = 'suspended', note = $3, next_due = NULL WHERE account_id = $1 AND id = $2 AND state = 'on'",
        run.account.0,
        run.rule.0,
        why
    )
    .execute(&mut *tx)
    .await?;
    tx.commit().await?;
    Ok(())
}

/// Since when an account's rules are stopped, and who stopped them.
pub async fn stopped(
    db: &PgPool,
    account: AccountId,
) -> Result<Option<(DateTime<Utc>, Option<String>)>, StoreError> {
    let row = sqlx::query!(
        r#"SELECT a.rules_stopped, p.name AS "name?" FROM account a LEFT JOIN person p ON p.id = a.rules_stopped_by WHERE a.id = $1"#,
        account.0
    )
    .fetch_one(db)
    .await?;
    Ok(row.rules_stopped.map(|at| (at, row.name)))
}

/// Stops all rules of an account: runs that wait are dropped, one under way writes nothing any more, and what no channel
/// has been told of yet goes back to the tray.
pub async fn stop_all(db: &PgPool, account: AccountId, person: PersonId) -> Result<(), StoreError> {
    let mut tx = crate::begin(db).await?;
    sqlx::query!(
        "UPDATE account SET rules_stopped = coalesce(rules_stopped, now()), rules_stopped_by = coalesce(rules_stopped_by, $2) WHERE id = $1",
        account.0,
        person.0
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!(
        "UPDATE rule_run SET state = 'skipped', ended_at = now(), note = 'all rules were stopped'
         WHERE account_id = $1 AND state IN ('queued', 'running')",
        account.0
    )
    .execute(&mut *tx)
    .await?;
    // A batch that a worker has begun may have reached the channel.
    sqlx::query!(
        "WITH mine AS (SELECT DISTINCT b.id FROM change_batch b JOIN change c ON c.account_id = b.account_id AND c.batch_id = b.id
                       WHERE b.account_id = $1 AND b.state = 'queued' AND b.attempts = 0 AND c.run_id IS NOT NULL
                       ORDER BY b.id),
              locked AS (SELECT id FROM change_batch WHERE account_id = $1 AND id IN (SELECT id FROM mine)
                         AND state = 'queued' AND attempts = 0 FOR UPDATE SKIP LOCKED),
              back AS (UPDATE change SET state = 'waiting', batch_id = NULL
                       WHERE account_id = $1 AND batch_id IN (SELECT id FROM locked) AND state = 'sending' RETURNING 1)
         UPDATE change_batch SET state = 'failed', error = NULL WHERE account_id = $1 AND id IN (SELECT id FROM locked)",
        account.0
    )
    .execute(&mut *tx)
    .await?;
    tx.commit().await?;
    Ok(())
}

/// Lets an account's rules run again; due times that passed meanwhile are not made up for.
pub async fn let_run(
    db: &PgPool,
    account: AccountId,
    next_due: &[(RuleId, Option<DateTime<Utc>>)],
) -> Result<(), StoreError> {
    let mut tx = crate::begin(db).await?;
    sqlx::query!(
        "UPDATE rule r SET next_due = n.due FROM unnest($2::bigint[], $3::timestamptz[]) AS n(id, due)
         WHERE r.account_id = $1 AND r.id = n.id AND r.state = 'on'",
        account.0,
        &next_due.iter().map(|(id, _)| id.0).collect::<Vec<_>>(),
        &next_due.iter().map(|(_, due)| *due).collect::<Vec<_>>() as &[Option<DateTime<Utc>>]
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!(
        "UPDATE account SET rules_stopped = NULL, rules_stopped_by = NULL WHERE id = $1",
        account.0
    )
    .execute(&mut *tx)
    .await?;
    tx.commit().await?;
    Ok(())
}

/// The moment at which an account is.
pub async fn now(db: &PgPool, account: AccountId) -> Result<DateTime<Utc>, StoreError> {
    Ok(sqlx::query_scalar!(r#"SELECT account_now($1) AS "now!""#, account.0).fetch_one(db).await?)
}

/// From now on an account's time is that of its channels.
pub async fn by_market_clock(db: &PgPool, account: AccountId) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE account SET market_clock = true WHERE id = $1 AND NOT market_clock",
        account.0
    )
    .execute(db)
    .await?;
    Ok(())
}
