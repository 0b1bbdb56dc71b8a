//! Courses: dated steps of a campaign's daily budget, or of what stands for its bid.

use chrono::NaiveDate;
use serde_json::Value;
use sqlx::{PgConnection, PgPool};
use tiller_core::course::{Kind, Lever, State};
use tiller_core::ids::{AccountId, CampaignId, ChangeId, CourseId, PersonId};

use crate::StoreError;
use crate::changes::{self, Author, NewChange};

/// A course.
#[derive(Clone, Debug)]
pub struct Course {
    /// Its id.
    pub id: CourseId,
    /// The campaign.
    pub campaign: CampaignId,
    /// What it is for.
    pub kind: Kind,
    /// What it moves.
    pub lever: Lever,
    /// [[days after the first step, millionths], …].
    pub steps: Value,
    /// What was set before, in millionths.
    pub base: i64,
    /// The first step's first day, once known.
    pub starts: Option<NaiveDate>,
    /// Steps that have been sent.
    pub taken: i32,
    /// How far it has come.
    pub state: State,
    /// Why it was stopped.
    pub note: String,
    /// Its latest change.
    pub latest: Option<ChangeId>,
    /// What became of that.
    pub latest_state: Option<changes::State>,
    /// The first day on which that is in force.
    pub latest_from: Option<NaiveDate>,
}

/// A course to be.
#[derive(Clone, Debug)]
pub struct New {
    /// The campaign.
    pub campaign: CampaignId,
    /// What it is for.
    pub kind: Kind,
    /// What it moves.
    pub lever: Lever,
    /// Its steps.
    pub steps: Value,
    /// What is set now, in millionths.
    pub base: i64,
    /// The first step's first day, where that is decided with it; others wait for their first step.
    pub starts: Option<NaiveDate>,
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
    new: &New,
    first: &NewChange,
) -> Result<Result<CourseId, Busy>, StoreError> {
    let mut tx = crate::begin(db).await?;
    let Some(id) = add_in(&mut tx, account, person, new).await? else {
        return Ok(Err(Busy::Course));
    };
    let first = std::slice::from_ref(first);
    let added = changes::add_in(&mut tx, account, Author::Person(person), first).await?;
    let Some(change) = added.first() else { return Ok(Err(Busy::Change)) };
    sqlx::query!(
        "UPDATE change SET course_id = $3 WHERE account_id = $1 AND id = $2",
        account.0,
        change.0,
        id.0
    )
    .execute(&mut *tx)
    .await?;
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
    let (state, taken) = match new.starts {
        Some(_) => (State::Running, 0),
        None => (State::Waiting, 1),
    };
    Ok(sqlx::query_scalar!(
        r#"INSERT INTO course (account_id, campaign_id, kind, steps, base, starts, taken, state, created_by, lever)
           VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) ON CONFLICT DO NOTHING RETURNING id AS "id: CourseId""#,
        account.0,
        new.campaign.0,
        new.kind.word(),
        new.steps,
        new.base,
        new.starts,
        taken,
        state.word(),
        person.0,
        new.lever.word()
    )
    .fetch_optional(tx)
    .await?)
}

/// The account's courses, those that go on first, then the latest.
pub async fn list(db: &PgPool, account: AccountId) -> Result<Vec<Course>, StoreError> {
    Ok(sqlx::query_as!(
        Course,
        r#"SELECT c.id AS "id: CourseId", c.campaign_id AS "campaign: CampaignId", c.kind AS "kind: Kind", c.lever AS "lever: Lever", c.steps, c.base, c.starts,
                  c.taken, c.state AS "state: State", c.note, h.id AS "latest?: ChangeId", h.state AS "latest_state?: changes::State",
                  h.from_day AS latest_from
           FROM course c LEFT JOIN LATERAL (
               SELECT id, state, from_day FROM change
               WHERE account_id = c.account_id AND course_id = c.id AND implied_by IS NULL ORDER BY id DESC LIMIT 1) h ON true
           WHERE c.account_id = $1 ORDER BY c.state IN ('waiting', 'running') DESC, c.id DESC LIMIT 500"#,
        account.0
    )
    .fetch_all(db)
    .await?)
}

/// Steps that courses have put in the tray and nobody has sent yet. What a course that was stopped left there, or a
/// person put back, waits for a person.
pub async fn unsent(db: &PgPool, account: AccountId) -> Result<Vec<ChangeId>, StoreError> {
    Ok(sqlx::query_scalar!(
        r#"SELECT x.id AS "id: ChangeId" FROM change x JOIN course c ON c.account_id = x.account_id AND c.id = x.course_id
           WHERE x.account_id = $1 AND x.origin = 'course' AND x.state = 'waiting' AND c.state <> 'stopped' ORDER BY x.id"#,
        account.0
    )
    .fetch_all(db)
    .await?)
}

/// Where a course has come to.
#[derive(Clone, Debug)]
pub struct Progress<'a> {
    /// Its new state.
    pub state: State,
    /// The first step's first day.
    pub starts: Option<NaiveDate>,
    /// Steps that have been taken.
    pub taken: i32,
    /// Why it was stopped.
    pub note: &'a str,
}

/// What came of an attempt to move a course.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Moved {
    /// It is written down.
    Done,
    /// Somebody has moved it meanwhile.
    Meanwhile,
    /// The same setting waits in the tray already, by somebody else's hand.
    Waits,
}

/// Writes down where a course has come to, and puts the step that it takes in the tray: both or neither, and only
/// if nobody has moved it meanwhile.
pub async fn progress(
    db: &PgPool,
    account: AccountId,
    course: &Course,
    to: &Progress<'_>,
    step: Option<&NewChange>,
) -> Result<Moved, StoreError> {
    let mut tx = crate::begin(db).await?;
    let done = sqlx::query!(
        "UPDATE course SET state = $5, starts = $6, taken = $7, note = $8 WHERE account_id = $1 AND id = $2 AND state = $3 AND taken = $4",
        account.0,
        course.id.0,
        course.state.word(),
        course.taken,
        to.state.word(),
        to.starts,
        to.taken,
        to.note
    )
    .execute(&mut *tx)
    .await?;
    if done.rows_affected() == 0 {
        return Ok(Moved::Meanwhile);
    }
    if let Some(step) = step {
        let step = std::slice::from_ref(step);
        if changes::add_in(&mut tx, account, Author::Course(course.id), step).await?.is_empty() {
            return Ok(Moved::Waits);
        }
    }
    tx.commit().await?;
    Ok(Moved::Done)
}
