//! Courses: dated steps of a campaign's daily budget.

use chrono::NaiveDate;
use serde_json::Value;
use sqlx::{PgConnection, PgPool};

use crate::StoreError;
use crate::changes::{self, NewChange};
use tiller_core::ids::{AccountId, CampaignId, ChangeId, CourseId, PersonId};

/// A course.
#[derive(Clone, Debug)]
pub struct Course {
    /// Its id.
    pub id: CourseId,
    /// The campaign.
    pub campaign: CampaignId,
    /// experiment, lift or ramp.
    pub kind: String,
    /// [[days after the first step, millionths], …].
    pub steps: Value,
    /// What was set before, in millionths.
    pub base: i64,
    /// The first step's first day, once known.
    pub starts: Option<NaiveDate>,
    /// Steps that have been sent.
    pub taken: i32,
    /// waiting, running, done or stopped.
    pub state: String,
    /// Why it was stopped.
    pub note: String,
    /// Who decided on it.
    pub created_by: Option<PersonId>,
    /// The change that begins it.
    pub change: Option<ChangeId>,
    /// What became of that.
    pub change_state: Option<String>,
    /// The first day on which that is in force.
    pub change_from: Option<NaiveDate>,
}

/// A course to be.
#[derive(Clone, Debug)]
pub struct New {
    /// The campaign.
    pub campaign: CampaignId,
    /// experiment, lift or ramp.
    pub kind: &'static str,
    /// Its steps.
    pub steps: Value,
    /// What is set now, in millionths.
    pub base: i64,
    /// The first step's first day, of a lift.
    pub starts: Option<NaiveDate>,
    /// The change that begins it, of others.
    pub change: Option<ChangeId>,
}

/// Why a course could not begin.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Busy {
    /// The campaign has one already.
    Course,
    /// Its first change waits in the tray already.
    Change,
}

/// Begins a course with the change that is its first step, both or neither.
pub async fn begin(
    db: &PgPool,
    account: AccountId,
    person: PersonId,
    mut new: New,
    first: &NewChange,
) -> Result<Result<CourseId, Busy>, StoreError> {
    let mut tx = crate::begin(db).await?;
    let added = changes::add_in(&mut tx, account, person, std::slice::from_ref(first)).await?;
    new.change = added.first().copied();
    if new.change.is_none() {
        return Ok(Err(Busy::Change));
    }
    let Some(id) = add_in(&mut tx, account, person, &new).await? else {
        return Ok(Err(Busy::Course));
    };
    tx.commit().await?;
    Ok(Ok(id))
}

/// Begins a course without a change; none if the campaign has one already.
pub async fn add(
    db: &PgPool,
    account: AccountId,
    person: PersonId,
    new: &New,
) -> Result<Option<CourseId>, StoreError> {
    let mut tx = crate::begin(db).await?;
    let id = add_in(&mut tx, account, person, new).await?;
    tx.commit().await?;
    Ok(id)
}

async fn add_in(
    tx: &mut PgConnection,
    account: AccountId,
    person: PersonId,
    new: &New,
) -> Result<Option<CourseId>, StoreError> {
    let state = if new.starts.is_some() { "running" } else { "waiting" };
    Ok(sqlx::query_scalar!(
        r#"INSERT INTO course (account_id, campaign_id, kind, steps, base, starts, taken, change_id, state, created_by)
           VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) ON CONFLICT DO NOTHING RETURNING id AS "id: CourseId""#,
        account.0,
        new.campaign.0,
        new.kind,
        new.steps,
        new.base,
        new.starts,
        i32::from(new.change.is_some()),
        new.change.map(|c| c.0),
        state,
        person.0
    )
    .fetch_optional(tx)
    .await?)
}

/// The account's courses, those that go on first, then the latest.
pub async fn list(db: &PgPool, account: AccountId) -> Result<Vec<Course>, StoreError> {
    Ok(sqlx::query_as!(
        Course,
        r#"SELECT c.id AS "id: CourseId", c.campaign_id AS "campaign: CampaignId", c.kind, c.steps, c.base, c.starts, c.taken, c.state, c.note,
                  c.created_by AS "created_by: PersonId", c.change_id AS "change: ChangeId", h.state AS "change_state?", h.from_day AS change_from
           FROM course c LEFT JOIN change h ON h.account_id = c.account_id AND h.id = c.change_id
           WHERE c.account_id = $1 ORDER BY c.state IN ('waiting', 'running') DESC, c.id DESC LIMIT 500"#,
        account.0
    )
    .fetch_all(db)
    .await?)
}

/// Where a course has come to.
#[derive(Clone, Debug)]
pub struct Progress<'a> {
    /// Its new state.
    pub state: &'a str,
    /// The first step's first day.
    pub starts: Option<NaiveDate>,
    /// Steps that have been sent.
    pub taken: i32,
    /// Why it was stopped.
    pub note: &'a str,
}

/// Writes down where a course has come to, if nobody has moved it meanwhile; false if somebody has.
pub async fn progress(
    db: &PgPool,
    account: AccountId,
    course: &Course,
    to: &Progress<'_>,
) -> Result<bool, StoreError> {
    let done = sqlx::query!(
        "UPDATE course SET state = $5, starts = $6, taken = $7, note = $8 WHERE account_id = $1 AND id = $2 AND state = $3 AND taken = $4",
        account.0,
        course.id.0,
        course.state,
        course.taken,
        to.state,
        to.starts,
        to.taken,
        to.note
    )
    .execute(db)
    .await?;
    Ok(done.rows_affected() == 1)
}
