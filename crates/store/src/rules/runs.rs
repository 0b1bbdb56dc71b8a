//! Due times, runs, and what they did: each due time is run once, and all that a run does is written in one transaction.

use std::collections::HashMap;

use chrono::{DateTime, NaiveDate, Utc};
use serde_json::Value;
use sqlx::PgPool;
use tiller_core::Tally;
use tiller_core::ids::{
    AccountId, AdGroupId, CampaignId, ChangeId, ItemId, PersonId, RuleId, RunId,
};
use tiller_core::rule::Done;
use tiller_core::spot::Spot;

use super::Mail;
use crate::StoreError;
use crate::changes::{self, Author, NewChange};

/// A rule that is due.
#[derive(Clone, Debug)]
pub struct Due {
    /// Its account.
    pub account: AccountId,
    /// The rule.
    pub rule: RuleId,
    /// Its version in force.
    pub version: i32,
    /// When it was to run.
    pub due: DateTime<Utc>,
    /// The account's moment.
    pub now: DateTime<Utc>,
    /// What it looks at and does.
    pub body: Value,
    /// The account's time zone.
    pub time_zone: String,
    /// Whether somebody lets its days pass.
    pub market_clock: bool,
}

/// The rule that has been due longest, if any is.
pub async fn due(db: &PgPool) -> Result<Option<Due>, StoreError> {
    Ok(sqlx::query_as!(
        Due,
        r#"SELECT r.account_id AS "account: AccountId", r.id AS "rule: RuleId", r.version, r.next_due AS "due!",
                  account_now(r.account_id) AS "now!", v.body, a.time_zone, a.market_clock
           FROM rule r JOIN account a ON a.id = r.account_id
           JOIN rule_version v ON v.account_id = r.account_id AND v.rule_id = r.id AND v.version = r.version
           WHERE r.state = 'on' AND a.rules_stopped IS NULL AND r.next_due <= account_now(r.account_id)
           ORDER BY r.next_due LIMIT 1"#
    )
    .fetch_optional(db)
    .await?)
}

/// Moves a rule on to its next due time, and queues a run at one of those that have passed, or writes down that it was
/// skipped; false if another server has done so.
pub async fn schedule(
    db: &PgPool,
    of: &Due,
    next: Option<DateTime<Utc>>,
    run_at: Option<DateTime<Utc>>,
    skipped: Option<&str>,
) -> Result<bool, StoreError> {
    let mut tx = crate::begin(db).await?;
    let done = sqlx::query!(
        "UPDATE rule SET next_due = $4 WHERE account_id = $1 AND id = $2 AND next_due = $3 AND state = 'on'",
        of.account.0,
        of.rule.0,
        of.due,
        next
    )
    .execute(&mut *tx)
    .await?;
    if done.rows_affected() == 0 {
        return Ok(false);
    }
    if let Some(at) = run_at {
        sqlx::query!(
            "INSERT INTO rule_run (account_id, rule_id, version, due_at, state, ended_at, note)
             VALUES ($1, $2, $3, $4, CASE WHEN $5::text IS NULL THEN 'queued' ELSE 'skipped' END,
                     CASE WHEN $5::text IS NULL THEN NULL ELSE now() END, coalesce($5, ''))
             ON CONFLICT DO NOTHING",
            of.account.0,
            of.rule.0,
            of.version,
            at,
            skipped
        )
        .execute(&mut *tx)
        .await?;
    }
    tx.commit().await?;
    Ok(true)
}

/// Queues a run that somebody asks for; none while all rules are stopped, or the rule is gone.
pub async fn ask(
    db: &PgPool,
    account: AccountId,
    rule: RuleId,
    person: PersonId,
) -> Result<Option<RunId>, StoreError> {
    Ok(sqlx::query_scalar!(
        r#"INSERT INTO rule_run (account_id, rule_id, version, due_at, asked_by)
           SELECT r.account_id, r.id, r.version, clock_timestamp(), $3 FROM rule r JOIN account a ON a.id = r.account_id
           WHERE r.account_id = $1 AND r.id = $2 AND r.state <> 'removed' AND a.rules_stopped IS NULL
           RETURNING id AS "id: RunId""#,
        account.0,
        rule.0,
        person.0
    )
    .fetch_optional(db)
    .await?)
}

/// A run on its way.
#[derive(Clone, Debug)]
pub struct Run {
    /// Its id.
    pub id: RunId,
    /// The account.
    pub account: AccountId,
    /// The rule.
    pub rule: RuleId,
    /// The version that runs.
    pub version: i32,
    /// Whether somebody asked for it.
    pub asked: bool,
    /// What it looks at and does.
    pub body: Value,
    /// How often it was begun: whoever holds an older number has lost it.
    pub attempts: i32,
}

/// Takes the next run, or one whose runner has been silent for a minute.
pub async fn claim(db: &PgPool) -> Result<Option<Run>, StoreError> {
    Ok(sqlx::query_as!(
        Run,
        r#"UPDATE rule_run x SET state = 'running', claimed_at = now(), attempts = attempts + 1
           FROM rule_version v
           WHERE (x.account_id, x.id) IN (
               SELECT account_id, id FROM rule_run
               WHERE (state = 'queued' AND not_before <= now()) OR (state = 'running' AND claimed_at < now() - interval '60 seconds')
               ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED)
             AND v.account_id = x.account_id AND v.rule_id = x.rule_id AND v.version = x.version
           RETURNING x.id AS "id: RunId", x.account_id AS "account: AccountId", x.rule_id AS "rule: RuleId", x.version, x.asked_by IS NOT NULL AS "asked!", v.body, x.attempts"#
    )
    .fetch_optional(db)
    .await?)
}

/// Something that a run does.
#[derive(Clone, Debug)]
pub struct NewAction {
    /// To what.
    pub spot: Spot,
    /// Where it is, by name.
    pub place: String,
    /// pause, resume, bid, budget, target, exclude, tell.
    pub did: &'static str,
    /// What it does, as a sentence without its end.
    pub told: String,
    /// Why.
    pub reason: String,
    /// What was known.
    pub known: Tally,
    /// The change that it makes, by its place among the changes of the run; none where it only tells.
    pub change: Option<usize>,
}

/// What came of a run.
#[derive(Clone, Debug, Default)]
pub struct Outcome {
    /// The last day that was known.
    pub as_of: Option<NaiveDate>,
    /// Things that it looked at.
    pub looked_at: i32,
    /// Things that waited for evidence.
    pub waited: i32,
    /// Things that the day's limits held back.
    pub held: i32,
    /// Things that rest.
    pub resting: i32,
    /// What is to be said of it besides.
    pub note: String,
}

/// Writes down all that a run does and what came of it, in one transaction: its changes into the tray, or on their way at
/// once. Refused if another runner has it, or all rules have been stopped meanwhile.
pub async fn conclude(
    db: &PgPool,
    run: &Run,
    outcome: &Outcome,
    new: &[NewChange],
    actions: &[NewAction],
    straight: bool,
) -> Result<u64, StoreError> {
    fn each<T>(of: &[(&NewAction, Option<i64>)], f: impl Fn(&NewAction) -> T) -> Vec<T> {
        of.iter().map(|(a, _)| f(a)).collect()
    }
    let mut tx = crate::begin(db).await?;
    let mine = sqlx::query_scalar!(
        r#"SELECT 1 AS "one!" FROM rule_run x JOIN account a ON a.id = x.account_id
           WHERE x.account_id = $1 AND x.id = $2 AND x.attempts = $3 AND x.state = 'running' AND a.rules_stopped IS NULL
           FOR UPDATE OF x FOR SHARE OF a"#,
        run.account.0,
        run.id.0,
        run.attempts
    )
    .fetch_optional(&mut *tx)
    .await?;
    if mine.is_none() {
        return Err(StoreError::Lost);
    }
    let ids = changes::add_in(&mut tx, run.account, Author::Rule(run.id), new).await?;
    let told = changes::of_run_in(&mut tx, run.account, run.id).await?;
    // What waits already, by another hand, is no change of this run.
    let mut at: HashMap<_, Vec<_>> = HashMap::new();
    for t in &told {
        at.entry((t.campaign, t.ad_group, t.item)).or_default().push(t);
    }
    let change = |a: &NewAction| {
        let n = &new[a.change?];
        let there = at.get(&(n.campaign, n.ad_group, n.item))?;
        there.iter().find(|t| t.set_to == n.set_to).map(|t| t.id.0)
    };
    let done: Vec<(&NewAction, Option<i64>)> = actions
        .iter()
        .map(|a| (a, change(a)))
        .filter(|(a, id)| a.change.is_none() || id.is_some())
        .collect();
    sqlx::query!(
        "INSERT INTO rule_action (account_id, run_id, nth, campaign_id, ad_group_id, item_id, place, did, told, reason, known, change_id, day)
         SELECT $1, $2, n.nth, n.campaign_id, n.ad_group_id, n.item_id, n.place, n.did, n.told, n.reason,
                ARRAY[n.impressions, n.clicks, n.spend, n.conversions, n.value], n.change_id, $15
         FROM unnest($3::bigint[], $4::bigint[], $5::bigint[], $6::text[], $7::text[], $8::text[], $9::text[], $10::bigint[],
                     $11::bigint[], $12::bigint[], $13::bigint[], $14::bigint[], $16::bigint[]) WITH ORDINALITY
              AS n(campaign_id, ad_group_id, item_id, place, did, told, reason, impressions, clicks, spend, conversions, value, change_id, nth)",
        run.account.0,
        run.id.0,
        &each(&done, |a| a.spot.campaign.0),
        &each(&done, |a| a.spot.ad_group.map(|i| i.0)) as &[Option<i64>],
        &each(&done, |a| a.spot.item.map(|i| i.0)) as &[Option<i64>],
        &each(&done, |a| a.place.clone()),
        &each(&done, |a| a.did.to_owned()),
        &each(&done, |a| a.told.clone()),
        &each(&done, |a| a.reason.clone()),
        &each(&done, |a| a.known.impressions),
        &each(&done, |a| a.known.clicks),
        &each(&done, |a| a.known.spend.get()),
        &each(&done, |a| tiller_core::Micros::from_units(a.known.conversions).get()),
        &each(&done, |a| a.known.value.get()),
        outcome.as_of.unwrap_or_default(),
        &done.iter().map(|(_, id)| *id).collect::<Vec<_>>() as &[Option<i64>]
    )
    .execute(&mut *tx)
    .await?;
    if straight {
        changes::load_in(&mut tx, run.account, &ids).await?;
    }
    sqlx::query!(
        "UPDATE rule_run SET state = 'done', ended_at = now(), as_of = $3, looked_at = $4, acted = $5, waited = $6, held = $7, resting = $8, note = $9,
                mail = CASE WHEN $10 THEN 'due' ELSE 'none' END
         WHERE account_id = $1 AND id = $2",
        run.account.0,
        run.id.0,
        outcome.as_of,
        outcome.looked_at,
        done.len() as i32,
        outcome.waited,
        outcome.held,
        outcome.resting,
        outcome.note,
        done.iter().any(|(a, _)| a.did == "tell")
    )
    .execute(&mut *tx)
    .await?;
    tx.commit().await?;
    Ok(done.len() as u64)
}

/// A run could not be done: it is tried again after so many seconds, or has failed.
pub async fn put_off(
    db: &PgPool,
    run: &Run,
    error: &str,
    again: Option<f64>,
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE rule_run SET state = CASE WHEN $5::float8 IS NULL THEN 'failed' ELSE 'queued' END, note = $4,
                not_before = now() + make_interval(secs => coalesce($5, 0)), ended_at = CASE WHEN $5::float8 IS NULL THEN now() END
         WHERE account_id = $1 AND id = $2 AND attempts = $3 AND state = 'running'",
        run.account.0,
        run.id.0,
        run.attempts,
        error,
        again
    )
    .execute(db)
    .await?;
    Ok(())
}

/// How a run stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RunState {
    /// It waits for a worker.
    Queued,
    /// It is under way.
    Running,
    /// It has ended.
    Done,
    /// It could not be done.
    Failed,
    /// It was left out.
    Skipped,
}
tiller_core::words!(RunState: Queued "queued", Running "running", Done "done", Failed "failed", Skipped "skipped");
tiller_core::stored!(RunState);

/// A run as it stands.
#[derive(Clone, Debug)]
pub struct Ran {
    /// Its id.
    pub id: RunId,
    /// The rule.
    pub rule: RuleId,
    /// The version that ran.
    pub version: i32,
    /// When it was due.
    pub due_at: DateTime<Utc>,
    /// Who asked for it.
    pub asked_by: Option<String>,
    /// How it stands.
    pub state: RunState,
    /// The last day that was known.
    pub as_of: Option<NaiveDate>,
    /// Things that it looked at.
    pub looked_at: i32,
    /// Things that it touched, or told of.
    pub acted: i32,
    /// Whether it only told of them.
    pub told: bool,
    /// Things that waited for evidence.
    pub waited: i32,
    /// Things that the day's limits held back.
    pub held: i32,
    /// Things that rested.
    pub resting: i32,
    /// What is said of it besides.
    pub note: String,
    /// How far its e-mail has come.
    pub mail: Mail,
}

/// The runs of an account, of one of its rules, or one of them, the latest first.
pub async fn ran(
    db: &PgPool,
    account: AccountId,
    rule: Option<RuleId>,
    one: Option<RunId>,
    most: i64,
) -> Result<Vec<Ran>, StoreError> {
    Ok(sqlx::query_as!(
        Ran,
        r#"SELECT x.id AS "id: RunId", x.rule_id AS "rule: RuleId", x.version, x.due_at, p.name AS "asked_by?", x.state AS "state: RunState",
                  x.as_of, x.looked_at, x.acted, x.waited, x.held, x.resting, x.note, x.mail AS "mail: Mail",
                  coalesce((SELECT a.did = 'tell' FROM rule_action a WHERE a.account_id = x.account_id AND a.run_id = x.id ORDER BY a.nth LIMIT 1), false) AS "told!"
           FROM rule_run x LEFT JOIN person p ON p.id = x.asked_by
           WHERE x.account_id = $1 AND ($2::bigint IS NULL OR x.rule_id = $2) AND ($4::bigint IS NULL OR x.id = $4) ORDER BY x.id DESC LIMIT $3"#,
        account.0,
        rule.map(|r| r.0),
        most,
        one.map(|r| r.0)
    )
    .fetch_all(db)
    .await?)
}

/// Something that a run did, and what became of it.
#[derive(Clone, Debug)]
pub struct Action {
    /// The run.
    pub run: RunId,
    /// The rule.
    pub rule: RuleId,
    /// The campaign.
    pub campaign: CampaignId,
    /// One of its ad groups.
    pub ad_group: Option<AdGroupId>,
    /// One of that group's items.
    pub item: Option<ItemId>,
    /// Where it is, by name.
    pub place: String,
    /// pause, resume, bid, budget, target, exclude, tell.
    pub did: String,
    /// What it did, as a sentence without its end.
    pub told: String,
    /// Why.
    pub reason: String,
    /// What was known.
    pub known: Tally,
    /// The last day that was known.
    pub day: NaiveDate,
    /// Its change.
    pub change: Option<ChangeId>,
    /// What became of that.
    pub state: Option<changes::State>,
    /// The first day on which it is in force.
    pub from: Option<NaiveDate>,
    /// When it is to be judged.
    pub look_back: Option<NaiveDate>,
    /// Whether it has been taken back.
    pub undone: bool,
}

/// How much a rule has done of late, and what waits of it.
#[derive(Clone, Copy, Debug)]
pub struct Lately {
    /// The rule.
    pub rule: RuleId,
    /// What it changed.
    pub made: i64,
    /// What it told of.
    pub told: i64,
    /// Its changes that wait in the tray, however old.
    pub waiting: i64,
}

/// What each rule of an account has done since a day.
pub async fn lately(
    db: &PgPool,
    account: AccountId,
    since: NaiveDate,
) -> Result<Vec<Lately>, StoreError> {
    Ok(sqlx::query_as!(
        Lately,
        r#"SELECT r.id AS "rule: RuleId", coalesce(d.made, 0) AS "made!", coalesce(d.told, 0) AS "told!", coalesce(w.waiting, 0) AS "waiting!"
           FROM rule r
           LEFT JOIN (SELECT x.rule_id, count(*) FILTER (WHERE a.did <> 'tell') AS made, count(*) FILTER (WHERE a.did = 'tell') AS told
                      FROM rule_action a JOIN rule_run x ON x.account_id = a.account_id AND x.id = a.run_id
                      WHERE a.account_id = $1 AND a.day >= $2 GROUP BY x.rule_id) d ON d.rule_id = r.id
           LEFT JOIN (SELECT x.rule_id, count(*) AS waiting
                      FROM change c JOIN rule_run x ON x.account_id = c.account_id AND x.id = c.run_id
                      WHERE c.account_id = $1 AND c.state = 'waiting' GROUP BY x.rule_id) w ON w.rule_id = r.id
           WHERE r.account_id = $1"#,
        account.0,
        since
    )
    .fetch_all(db)
    .await?)
}

/// What a run did, in order: after the first so many of it, so many at most, or all that is left.
pub async fn actions(
    db: &PgPool,
    account: AccountId,
    run: RunId,
    after: i32,
    most: Option<i64>,
) -> Result<Vec<Action>, StoreError> {
    Ok(sqlx::query_as!(
        Action,
        r#"SELECT a.run_id AS "run: RunId", x.rule_id AS "rule: RuleId", a.campaign_id AS "campaign: CampaignId", a.ad_group_id AS "ad_group: AdGroupId",
                  a.item_id AS "item: ItemId", a.place, a.did, a.told, a.reason, a.known AS "known: Tally", a.day,
                  a.change_id AS "change: ChangeId", c.state AS "state?: changes::State", c.from_day AS "from?", c.look_back AS "look_back?",
                  EXISTS (SELECT 1 FROM change u WHERE u.account_id = $1 AND u.undoes = a.change_id AND u.state IN ('waiting', 'sending', 'made')) AS "undone!"
           FROM rule_action a JOIN rule_run x ON x.account_id = a.account_id AND x.id = a.run_id
           LEFT JOIN change c ON c.account_id = a.account_id AND c.id = a.change_id
           WHERE a.account_id = $1 AND a.run_id = $2 AND a.nth > $3
           ORDER BY a.nth LIMIT $4"#,
        account.0,
        run.0,
        after,
        most
    )
    .fetch_all(db)
    .await?)
}

/// Whether anything that a run did waits still, or is made and has not been taken back.
pub async fn undoable(db: &PgPool, account: AccountId, run: RunId) -> Result<bool, StoreError> {
    Ok(sqlx::query_scalar!(
        r#"SELECT EXISTS (SELECT 1 FROM change c WHERE c.account_id = $1 AND c.run_id = $2 AND c.state IN ('waiting', 'made')
               AND NOT EXISTS (SELECT 1 FROM change u WHERE u.account_id = $1 AND u.undoes = c.id AND u.state IN ('waiting', 'sending', 'made'))) AS "some!""#,
        account.0,
        run.0
    )
    .fetch_one(db)
    .await?)
}

/// What a rule has touched since a day, where that is by name, and when last: what was withdrawn or refused counts as not
/// touched.
pub async fn touched(
    db: &PgPool,
    account: AccountId,
    rule: RuleId,
    since: NaiveDate,
) -> Result<Vec<(Spot, String, NaiveDate)>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT a.campaign_id AS "campaign: CampaignId", a.ad_group_id AS "ad_group: AdGroupId", a.item_id AS "item: ItemId", a.place, max(a.day) AS "day!"
           FROM rule_action a JOIN rule_run x ON x.account_id = a.account_id AND x.id = a.run_id
           LEFT JOIN change c ON c.account_id = a.account_id AND c.id = a.change_id
           WHERE a.account_id = $1 AND x.rule_id = $2 AND a.day >= $3 AND (c.id IS NULL OR c.state IN ('waiting', 'sending', 'made'))
           GROUP BY 1, 2, 3, 4"#,
        account.0,
        rule.0,
        since
    )
    .fetch_all(db)
    .await?;
    let spot = |campaign, ad_group, item| Spot { campaign, ad_group, item };
    Ok(rows.into_iter().map(|r| (spot(r.campaign, r.ad_group, r.item), r.place, r.day)).collect())
}

/// What a rule has done of a day already: runs on that day that were asked for count too.
pub async fn done_of_day(
    db: &PgPool,
    account: AccountId,
    rule: RuleId,
    day: NaiveDate,
) -> Result<Done, StoreError> {
    let row = sqlx::query!(
        r#"SELECT count(*) AS "actions!", count(*) FILTER (WHERE a.did = 'pause') AS "pauses!",
                  coalesce(sum(c.a_day) FILTER (WHERE c.setting = 'budget' AND c.a_day > 0), 0)::bigint AS "up!",
                  coalesce(sum(-c.a_day) FILTER (WHERE c.setting = 'budget' AND c.a_day < 0), 0)::bigint AS "down!"
           FROM rule_action a JOIN rule_run x ON x.account_id = a.account_id AND x.id = a.run_id
           LEFT JOIN change c ON c.account_id = a.account_id AND c.id = a.change_id
           WHERE a.account_id = $1 AND x.rule_id = $2 AND a.day = $3 AND (c.id IS NULL OR c.state <> 'withdrawn')"#,
        account.0,
        rule.0,
        day
    )
    .fetch_one(db)
    .await?;
    let money = |m: i64| tiller_core::Micros::new(m).to_units();
    Ok(Done {
        actions: row.actions as u32,
        pauses: row.pauses as u32,
        budget_up: money(row.up),
        budget_down: money(row.down),
    })
}
