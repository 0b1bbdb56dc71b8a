//! Changes on their way: the tray, the batches that carry them, the logbook.

use chrono::{DateTime, NaiveDate, Utc};
use serde_json::Value;
use sqlx::PgPool;
use tiller_core::Window;
use tiller_core::change_effect::CameOfIt;
use tiller_core::course::Kind;
use tiller_core::ids::{
    AccountId, AdGroupId, BatchId, CampaignId, ChangeId, ChannelId, ConnectionId, CourseId, ItemId,
    PersonId, RunId,
};

use crate::StoreError;
use crate::structure::{self, Standing};

/// A change that is proposed.
#[derive(Clone, Debug)]
pub struct NewChange {
    /// The campaign.
    pub campaign: CampaignId,
    /// One of its ad groups.
    pub ad_group: Option<AdGroupId>,
    /// One of that group's items.
    pub item: Option<ItemId>,
    /// Where it is, by name.
    pub place: String,
    /// What is set, as JSON of the open interface.
    pub was: Option<Value>,
    /// What shall be set.
    pub set_to: Value,
    /// The word for what is set.
    pub setting: String,
    /// Why.
    pub reason: String,
    /// Figures that it rests on.
    pub evidence: Value,
    /// What it is expected to do.
    pub effect: String,
    /// Money that it adds to a day's budget, in millionths.
    pub a_day: i64,
    /// Money that it is expected to add to what is spent a day, in millionths, where that is known.
    pub spend_a_day: Option<i64>,
    /// hand, causes, plan, undo or course.
    pub origin: &'static str,
    /// The change that it takes back.
    pub undoes: Option<ChangeId>,
    /// What it does, in words that a search may find.
    pub told: String,
}

/// How far a change has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    /// It waits in the tray.
    Waiting,
    /// It is on its way.
    Sending,
    /// The channel has made it.
    Made,
    /// The channel has refused it.
    Refused,
    /// It was taken out of the tray.
    Withdrawn,
}

tiller_core::words!(State: Waiting "waiting", Sending "sending", Made "made", Refused "refused", Withdrawn "withdrawn");
tiller_core::stored!(State);

/// Who puts a change in the tray.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Author {
    /// A person.
    Person(PersonId),
    /// A course takes its next step.
    Course(CourseId),
    /// A rule runs.
    Rule(RunId),
}

impl Author {
    fn ids(self) -> (Option<i64>, Option<i64>, Option<i64>) {
        match self {
            Self::Person(id) => (Some(id.0), None, None),
            Self::Course(id) => (None, Some(id.0), None),
            Self::Rule(id) => (None, None, Some(id.0)),
        }
    }
}

/// A change.
#[derive(Clone, Debug)]
pub struct Change {
    /// Its id.
    pub id: ChangeId,
    /// The campaign.
    pub campaign: CampaignId,
    /// One of its ad groups.
    pub ad_group: Option<AdGroupId>,
    /// One of that group's items.
    pub item: Option<ItemId>,
    /// The channel.
    pub channel: ChannelId,
    /// The channel's name.
    pub channel_name: String,
    /// Where it is, by name.
    pub place: String,
    /// What was set.
    pub was: Option<Value>,
    /// What shall be set.
    pub set_to: Value,
    /// The word for what is set.
    pub setting: String,
    /// Why.
    pub reason: String,
    /// Figures that it rests on.
    pub evidence: Value,
    /// What it is expected to do.
    pub effect: String,
    /// Money that it adds to a day's budget, in millionths.
    pub a_day: i64,
    /// Money that it is expected to add to what is spent a day, in millionths, where that is known.
    pub spend_a_day: Option<i64>,
    /// hand, causes, plan, undo or course.
    pub origin: String,
    /// Who put it in the tray, while they are known.
    pub author: Option<String>,
    /// The kind of the course that it is a step of.
    pub course: Option<Kind>,
    /// The rule that made it, by its name then.
    pub rule: Option<String>,
    /// The run of it.
    pub run: Option<RunId>,
    /// When.
    pub created_at: DateTime<Utc>,
    /// How far it has come.
    pub state: State,
    /// The channel's reason.
    pub answer: String,
    /// When the channel answered.
    pub answered_at: Option<DateTime<Utc>>,
    /// First day that it is in force.
    pub from_day: Option<NaiveDate>,
    /// The day on which it is to be judged.
    pub look_back: Option<NaiveDate>,
    /// When somebody did, or nobody had to.
    pub looked_at: Option<DateTime<Utc>>,
    /// What came of it, once that was judged.
    pub came_of_it: Option<CameOfIt>,
    /// That in money, in millionths, with the range that the verdict rests on.
    pub came_to: Option<i64>,
    /// The range's lower end.
    pub came_low: Option<i64>,
    /// Its upper end.
    pub came_high: Option<i64>,
    /// Other changes that it was judged with.
    pub judged_with: i64,
    /// The change that it takes back.
    pub undoes: Option<ChangeId>,
    /// Whether a change that takes it back has been made or waits.
    pub undone: bool,
}

/// Which changes, and in which order: all of an account in order of arrival but for what is said.
#[derive(Clone, Debug, Default)]
pub struct Find<'a> {
    /// How far they have come.
    pub states: &'a [State],
    /// One of them.
    pub one: Option<ChangeId>,
    /// Carried by a batch.
    pub batch: Option<BatchId>,
    /// Made by a rule's run.
    pub run: Option<RunId>,
    /// Of a campaign.
    pub campaign: Option<CampaignId>,
    /// In force from a day between these.
    pub in_force: Option<Window>,
    /// Answered after a moment.
    pub answered_after: Option<DateTime<Utc>>,
    /// Nobody has looked back at it, or dismissed it.
    pub unseen: bool,
    /// To be judged by a day.
    pub look_back_by: Option<NaiveDate>,
    /// With these words in its place, channel, reason, author or in what it does; empty finds all.
    pub words: &'a str,
    /// The latest answer first.
    pub newest_first: bool,
    /// Of the latest first, those after this one.
    pub after: Option<ChangeId>,
    /// So many at most.
    pub most: Option<i64>,
}

impl Find<'_> {
    /// In the tray: waiting or being sent.
    pub fn tray() -> Self {
        Self { states: &[State::Waiting, State::Sending], ..Self::default() }
    }

    /// In the logbook: answered by the channel, the latest first.
    pub fn logbook() -> Self {
        Self { states: &[State::Made, State::Refused], newest_first: true, ..Self::default() }
    }

    /// One, wherever it is.
    pub fn one(id: ChangeId) -> Self {
        Self { states: &State::ALL, one: Some(id), ..Self::default() }
    }

    /// The load of a batch.
    pub fn batch(id: BatchId) -> Self {
        Self { states: &[State::Sending], batch: Some(id), ..Self::default() }
    }
}

/// Puts a change in the tray. Another that waits for the same setting is replaced if it says the same
/// thing of the same place by the same hand; otherwise both stand, and the tray tells of the conflict. Tells
/// which are new.
pub async fn add(
    db: &PgPool,
    account: AccountId,
    author: Author,
    new: &[NewChange],
) -> Result<Vec<ChangeId>, StoreError> {
    let mut tx = crate::begin(db).await?;
    let added = add_in(&mut tx, account, author, new).await?;
    tx.commit().await?;
    Ok(added)
}

/// The same within a transaction.
pub(crate) async fn add_in(
    tx: &mut sqlx::PgConnection,
    account: AccountId,
    author: Author,
    new: &[NewChange],
) -> Result<Vec<ChangeId>, StoreError> {
    fn each<T>(new: &[NewChange], of: impl Fn(&NewChange) -> T) -> Vec<T> {
        new.iter().map(of).collect()
    }
    let (person, course, run) = author.ids();
    Ok(sqlx::query_scalar!(
        r#"WITH new AS (
               SELECT DISTINCT ON (campaign_id, ad_group_id, item_id, set_to) *
               FROM unnest($3::bigint[], $4::bigint[], $5::bigint[], $6::text[], $7::jsonb[], $8::jsonb[], $9::text[], $10::text[],
                           $11::jsonb[], $12::text[], $13::bigint[], $14::text[], $15::bigint[], $16::bigint[], $18::text[]) WITH ORDINALITY
                    AS n(campaign_id, ad_group_id, item_id, place, was, set_to, setting, reason, evidence, effect, a_day, origin, undoes, spend_a_day, told, nth)
               ORDER BY campaign_id, ad_group_id, item_id, set_to, nth)
           INSERT INTO change (account_id, created_by, course_id, run_id, campaign_id, ad_group_id, item_id, place, was, set_to, setting, reason, evidence, effect, a_day, origin, undoes, spend_a_day, told)
           SELECT $1, $2, $17, $19, campaign_id, ad_group_id, item_id, place, was, set_to, setting, reason, evidence, effect, a_day, origin, undoes, spend_a_day, told
           FROM new n
           WHERE NOT EXISTS (SELECT 1 FROM change c WHERE c.account_id = $1 AND c.state IN ('waiting', 'sending') AND c.campaign_id = n.campaign_id
               AND c.ad_group_id IS NOT DISTINCT FROM n.ad_group_id AND coalesce(c.item_id, 0) = coalesce(n.item_id, 0) AND c.set_to = n.set_to)
           ORDER BY nth
           RETURNING id AS "id: ChangeId""#,
        account.0,
        person,
        &each(new, |n| n.campaign.0),
        &each(new, |n| n.ad_group.map(|i| i.0)) as &[Option<i64>],
        &each(new, |n| n.item.map(|i| i.0)) as &[Option<i64>],
        &each(new, |n| n.place.clone()),
        &each(new, |n| n.was.clone()) as &[Option<Value>],
        &each(new, |n| n.set_to.clone()),
        &each(new, |n| n.setting.clone()),
        &each(new, |n| n.reason.clone()),
        &each(new, |n| n.evidence.clone()),
        &each(new, |n| n.effect.clone()),
        &each(new, |n| n.a_day),
        &each(new, |n| n.origin.to_owned()),
        &each(new, |n| n.undoes.map(|i| i.0)) as &[Option<i64>],
        &each(new, |n| n.spend_a_day) as &[Option<i64>],
        course,
        &each(new, |n| n.told.clone()),
        run
    )
    .fetch_all(&mut *tx)
    .await?)
}

/// A change that a run has put in the tray.
pub(crate) struct OfRun {
    pub id: ChangeId,
    pub campaign: CampaignId,
    pub ad_group: Option<AdGroupId>,
    pub item: Option<ItemId>,
    pub set_to: Value,
}

/// Those of a run, within its transaction.
pub(crate) async fn of_run_in(
    tx: &mut sqlx::PgConnection,
    account: AccountId,
    run: RunId,
) -> Result<Vec<OfRun>, StoreError> {
    Ok(sqlx::query_as!(
        OfRun,
        r#"SELECT id AS "id: ChangeId", campaign_id AS "campaign: CampaignId", ad_group_id AS "ad_group: AdGroupId", item_id AS "item: ItemId", set_to
           FROM change WHERE account_id = $1 AND run_id = $2"#,
        account.0,
        run.0
    )
    .fetch_all(tx)
    .await?)
}

/// Changes of an account.
pub async fn list(
    db: &PgPool,
    account: AccountId,
    find: &Find<'_>,
) -> Result<Vec<Change>, StoreError> {
    let states: Vec<String> = find.states.iter().map(|s| s.word().to_owned()).collect();
    Ok(sqlx::query_as!(
        Change,
        r#"SELECT x.id AS "id: ChangeId", x.campaign_id AS "campaign: CampaignId", x.ad_group_id AS "ad_group: AdGroupId",
                  x.item_id AS "item: ItemId", c.channel_id AS "channel: ChannelId", ch.name AS channel_name, x.place, x.was, x.set_to,
                  x.setting, x.reason, x.evidence, x.effect, x.a_day, x.spend_a_day, x.origin, p.name AS "author?", k.kind AS "course?: Kind",
                  v.body ->> 'name' AS rule, x.run_id AS "run: RunId", x.created_at, x.state AS "state: State", x.answer,
                  x.answered_at, x.from_day, x.look_back, x.looked_at, x.came_of_it AS "came_of_it: CameOfIt", x.came_to, x.came_low, x.came_high, x.judged_with, x.undoes AS "undoes: ChangeId",
                  EXISTS (SELECT 1 FROM change u WHERE u.account_id = $1 AND u.undoes = x.id AND u.state IN ('waiting', 'sending', 'made')) AS "undone!"
           FROM change x JOIN campaign c ON c.account_id = x.account_id AND c.id = x.campaign_id
           JOIN channel ch ON ch.account_id = c.account_id AND ch.id = c.channel_id
           LEFT JOIN person p ON p.id = x.created_by
           LEFT JOIN course k ON k.account_id = x.account_id AND k.id = x.course_id
           LEFT JOIN rule_run u ON u.account_id = x.account_id AND u.id = x.run_id
           LEFT JOIN rule_version v ON v.account_id = u.account_id AND v.rule_id = u.rule_id AND v.version = u.version
           WHERE x.account_id = $1 AND x.state = ANY($2) AND ($3::bigint IS NULL OR x.id = $3) AND ($4::bigint IS NULL OR x.batch_id = $4)
             AND ($5::bigint IS NULL OR x.campaign_id = $5) AND ($6::date IS NULL OR x.from_day BETWEEN $6 AND $7)
             AND ($8::timestamptz IS NULL OR x.answered_at > $8) AND NOT ($9 AND x.looked_at IS NOT NULL)
             AND ($10::date IS NULL OR x.look_back <= $10)
             AND ($11 = '' OR position(lower($11) IN lower(concat_ws(E'\n', x.place, ch.name, x.reason, p.name, k.kind, v.body ->> 'name', x.told))) > 0)
             AND ($12::bigint IS NULL OR (x.answered_at, x.id) < (SELECT a.answered_at, a.id FROM change a WHERE a.account_id = $1 AND a.id = $12))
             AND ($15::bigint IS NULL OR x.run_id = $15)
           ORDER BY CASE WHEN $13 THEN x.answered_at END DESC, CASE WHEN $13 THEN -x.id ELSE x.id END
           LIMIT $14"#,
        account.0,
        &states,
        find.one.map(|i| i.0),
        find.batch.map(|i| i.0),
        find.campaign.map(|i| i.0),
        find.in_force.map(|w| w.from()),
        find.in_force.map(|w| w.to()),
        find.answered_after,
        find.unseen,
        find.look_back_by,
        find.words,
        find.after.map(|i| i.0),
        find.newest_first,
        find.most,
        find.run.map(|r| r.0)
    )
    .fetch_all(db)
    .await?)
}

/// How many changes the channels have made and refused since a moment.
pub async fn answered_since(
    db: &PgPool,
    account: AccountId,
    at: DateTime<Utc>,
) -> Result<(i64, i64), StoreError> {
    let row = sqlx::query!(
        r#"SELECT count(*) FILTER (WHERE state = 'made') AS "made!", count(*) FILTER (WHERE state = 'refused') AS "refused!"
           FROM change WHERE account_id = $1 AND answered_at > $2"#,
        account.0,
        at
    )
    .fetch_one(db)
    .await?;
    Ok((row.made, row.refused))
}

/// What waits, in short.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Waiting {
    /// Changes that wait.
    pub changes: i64,
    /// Changes that are being sent.
    pub sending: i64,
    /// Money that they add to a day's budget, in millionths.
    pub a_day: i64,
    /// Money that they are expected to add to what is spent a day, in millionths.
    pub spend_a_day: i64,
    /// Of how many of them that is not known.
    pub unknown: i64,
    /// Look-backs that are due by a day.
    pub due: i64,
    /// Changes of rules that wait.
    pub by_rules: i64,
    /// Rules that are suspended.
    pub suspended: i64,
    /// Whether all rules are stopped.
    pub rules_stopped: bool,
}

/// What waits in an account on a day.
pub async fn waiting(
    db: &PgPool,
    account: AccountId,
    today: NaiveDate,
) -> Result<Waiting, StoreError> {
    Ok(sqlx::query_as!(
        Waiting,
        r#"SELECT count(*) FILTER (WHERE state = 'waiting') AS "changes!", count(*) FILTER (WHERE state = 'sending') AS "sending!",
                  coalesce(sum(a_day) FILTER (WHERE state IN ('waiting', 'sending')), 0)::bigint AS "a_day!",
                  coalesce(sum(spend_a_day) FILTER (WHERE state IN ('waiting', 'sending')), 0)::bigint AS "spend_a_day!",
                  count(*) FILTER (WHERE state IN ('waiting', 'sending') AND spend_a_day IS NULL) AS "unknown!",
                  count(*) FILTER (WHERE state = 'made' AND looked_at IS NULL AND look_back <= $2) AS "due!",
                  count(*) FILTER (WHERE state = 'waiting' AND run_id IS NOT NULL) AS "by_rules!",
                  (SELECT count(*) FROM rule WHERE account_id = $1 AND state = 'suspended') AS "suspended!",
                  (SELECT rules_stopped IS NOT NULL FROM account WHERE id = $1) AS "rules_stopped!"
           FROM change WHERE account_id = $1 AND (state IN ('waiting', 'sending') OR (state = 'made' AND looked_at IS NULL))"#,
        account.0,
        today
    )
    .fetch_one(db)
    .await?)
}

/// Takes changes out of the tray, and stops the courses whose steps they are with a note; tells how many.
pub async fn withdraw(
    db: &PgPool,
    account: AccountId,
    ids: &[ChangeId],
    note: &str,
) -> Result<i64, StoreError> {
    let ids: Vec<i64> = ids.iter().map(|i| i.0).collect();
    Ok(sqlx::query_scalar!(
        r#"WITH gone AS (UPDATE change SET state = 'withdrawn' WHERE account_id = $1 AND id = ANY($2) AND state = 'waiting' RETURNING id, course_id),
                ended AS (UPDATE course SET state = 'stopped', note = $3
                          WHERE account_id = $1 AND state <> 'stopped' AND id IN (SELECT course_id FROM gone))
           SELECT count(*) AS "count!" FROM gone"#,
        account.0,
        &ids,
        note
    )
    .fetch_one(db)
    .await?)
}

/// Puts refused changes back in the tray; tells how many.
pub async fn again(db: &PgPool, account: AccountId, ids: &[ChangeId]) -> Result<u64, StoreError> {
    let ids: Vec<i64> = ids.iter().map(|i| i.0).collect();
    let done = sqlx::query!(
        "UPDATE change SET state = 'waiting', batch_id = NULL, answer = '', answered_at = NULL, looked_at = NULL
         WHERE account_id = $1 AND id = ANY($2) AND state = 'refused'",
        account.0,
        &ids
    )
    .execute(db)
    .await?;
    Ok(done.rows_affected())
}

/// Makes waiting changes the load of new batches, one a channel; tells how many changes. Two who press at
/// once can't send a change twice: it leaves the waiting ones in the same transaction.
pub async fn load(db: &PgPool, account: AccountId, ids: &[ChangeId]) -> Result<u64, StoreError> {
    let mut tx = crate::begin(db).await?;
    let taken = load_in(&mut tx, account, ids).await?;
    tx.commit().await?;
    Ok(taken)
}

/// The same within a transaction.
pub(crate) async fn load_in(
    tx: &mut sqlx::PgConnection,
    account: AccountId,
    ids: &[ChangeId],
) -> Result<u64, StoreError> {
    let ids: Vec<i64> = ids.iter().map(|i| i.0).collect();
    let taken = sqlx::query!(
        "WITH taken AS (UPDATE change SET state = 'sending' WHERE account_id = $1 AND id = ANY($2) AND state = 'waiting' RETURNING id, campaign_id)
         SELECT t.id AS \"id!\", c.channel_id FROM taken t JOIN campaign c ON c.account_id = $1 AND c.id = t.campaign_id ORDER BY t.id",
        account.0,
        &ids
    )
    .fetch_all(&mut *tx)
    .await?;
    let mut channels: Vec<i64> = taken.iter().map(|t| t.channel_id).collect();
    channels.sort_unstable();
    channels.dedup();
    for channel in channels {
        let mine: Vec<i64> =
            taken.iter().filter(|t| t.channel_id == channel).map(|t| t.id).collect();
        for load in mine.chunks(500) {
            let batch = sqlx::query_scalar!(
                "INSERT INTO change_batch (account_id, channel_id) VALUES ($1, $2) RETURNING id",
                account.0,
                channel
            )
            .fetch_one(&mut *tx)
            .await?;
            sqlx::query!(
                "UPDATE change SET batch_id = $3 WHERE account_id = $1 AND id = ANY($2)",
                account.0,
                load,
                batch
            )
            .execute(&mut *tx)
            .await?;
        }
    }
    Ok(taken.len() as u64)
}

/// A batch on its way.
#[derive(Clone, Debug)]
pub struct Batch {
    /// Its id.
    pub id: BatchId,
    /// The account.
    pub account: AccountId,
    /// The channel.
    pub channel: ChannelId,
    /// Sent with it each time.
    pub key: String,
    /// How often it was begun.
    pub attempts: i32,
    /// What the channel has been asked for, once it has.
    pub body: Option<Value>,
}

/// Takes the next batch, or one whose carrier has been silent for a minute.
pub async fn claim(db: &PgPool) -> Result<Option<Batch>, StoreError> {
    Ok(sqlx::query_as!(
        Batch,
        r#"UPDATE change_batch SET state = 'running', claimed_at = now(), attempts = attempts + 1
           WHERE (account_id, id) IN (
               SELECT account_id, id FROM change_batch
               WHERE (state = 'queued' AND not_before <= now()) OR (state = 'running' AND claimed_at < now() - interval '60 seconds')
               ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED)
           RETURNING id AS "id: BatchId", account_id AS "account: AccountId", channel_id AS "channel: ChannelId", key, attempts, body"#
    )
    .fetch_optional(db)
    .await?)
}

/// Writes down what a channel is about to be asked for, before it is.
pub async fn seal(db: &PgPool, batch: &Batch, body: &Value) -> Result<(), StoreError> {
    let done = sqlx::query!(
        "UPDATE change_batch SET body = $4 WHERE account_id = $1 AND id = $2 AND attempts = $3 AND body IS NULL",
        batch.account.0,
        batch.id.0,
        batch.attempts,
        body
    )
    .execute(db)
    .await?;
    if done.rows_affected() == 0 { Err(StoreError::Lost) } else { Ok(()) }
}

/// What a channel said to a change.
#[derive(Clone, Debug)]
pub struct Answered {
    /// The change.
    pub id: ChangeId,
    /// None if it was made, else the channel's reason.
    pub refused: Option<String>,
    /// When it is to be judged, if it was made.
    pub look_back: Option<NaiveDate>,
}

/// What a channel has set besides a change that it made.
#[derive(Clone, Debug)]
pub struct Besides {
    /// That change.
    pub change: ChangeId,
    /// The campaign on which it is set.
    pub campaign: CampaignId,
    /// Its name.
    pub place: String,
    /// What was set, as JSON of the open interface.
    pub was: Value,
    /// What is set.
    pub set_to: Value,
    /// The word for that.
    pub setting: String,
    /// Why, after the change's own reason.
    pub reason: String,
    /// When it is to be judged.
    pub look_back: NaiveDate,
    /// What it does, in words that a search may find.
    pub told: String,
}

/// What came of a batch.
#[derive(Clone, Debug)]
pub struct Outcome {
    /// The first day on which what was made is in force.
    pub from_day: NaiveDate,
    /// What the channel said to each change.
    pub answers: Vec<Answered>,
    /// What it has set besides.
    pub besides: Vec<Besides>,
    /// What is set by now wherever it made something.
    pub standing: Vec<Standing>,
}

/// Writes down what came of a batch, closes it, and queues a fetch from the connection that carried it.
pub async fn answered(
    db: &PgPool,
    batch: &Batch,
    through: Option<ConnectionId>,
    outcome: &Outcome,
) -> Result<(), StoreError> {
    fn each<T>(besides: &[Besides], of: impl Fn(&Besides) -> T) -> Vec<T> {
        besides.iter().map(of).collect()
    }
    let Outcome { from_day, answers, besides, standing } = outcome;
    let mut tx = crate::begin(db).await?;
    crate::alone(&mut tx, batch.account).await?;
    structure::stand(&mut tx, batch.account, standing).await?;
    sqlx::query!(
        "UPDATE change c SET state = CASE WHEN a.refused IS NULL THEN 'made' ELSE 'refused' END, answer = coalesce(a.refused, ''),
                answered_at = now(), from_day = CASE WHEN a.refused IS NULL THEN $2::date END, look_back = a.look_back
         FROM unnest($3::bigint[], $4::text[], $5::date[]) AS a(id, refused, look_back)
         WHERE c.account_id = $1 AND c.id = a.id AND c.state = 'sending'",
        batch.account.0,
        from_day,
        &answers.iter().map(|a| a.id.0).collect::<Vec<_>>(),
        &answers.iter().map(|a| a.refused.clone()).collect::<Vec<_>>() as &[Option<String>],
        &answers.iter().map(|a| a.look_back).collect::<Vec<_>>() as &[Option<NaiveDate>]
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!(
        "INSERT INTO change (account_id, implied_by, created_by, course_id, run_id, origin, campaign_id, place, was, set_to, setting, reason, told,
                             evidence, effect, a_day, state, answer, answered_at, from_day, look_back, batch_id)
         SELECT c.account_id, c.id, c.created_by, c.course_id, c.run_id, c.origin, b.campaign_id, b.place, b.was, b.set_to, b.setting,
                concat_ws(' ', c.reason, b.reason), b.told, c.evidence, '', 0, c.state, c.answer, c.answered_at, c.from_day, b.look_back, c.batch_id
         FROM unnest($2::bigint[], $3::bigint[], $4::text[], $5::jsonb[], $6::jsonb[], $7::text[], $8::text[], $9::date[], $10::text[])
              WITH ORDINALITY AS b(change_id, campaign_id, place, was, set_to, setting, reason, look_back, told, nth)
         JOIN change c ON c.account_id = $1 AND c.id = b.change_id AND c.state = 'made' ORDER BY b.nth",
        batch.account.0,
        &each(besides, |b| b.change.0),
        &each(besides, |b| b.campaign.0),
        &each(besides, |b| b.place.clone()),
        &each(besides, |b| b.was.clone()),
        &each(besides, |b| b.set_to.clone()),
        &each(besides, |b| b.setting.clone()),
        &each(besides, |b| b.reason.clone()),
        &each(besides, |b| b.look_back),
        &each(besides, |b| b.told.clone())
    )
    .execute(&mut *tx)
    .await?;
    let done = sqlx::query!(
        "UPDATE change_batch SET state = 'answered', error = NULL WHERE account_id = $1 AND id = $2 AND attempts = $3",
        batch.account.0,
        batch.id.0,
        batch.attempts
    )
    .execute(&mut *tx)
    .await?;
    if done.rows_affected() == 0 {
        return Err(StoreError::Lost);
    }
    if let Some(connection) = through {
        crate::connections::queue(&mut *tx, batch.account, connection).await?;
    }
    tx.commit().await?;
    Ok(())
}

/// A batch could not be delivered: it is tried again after so many seconds.
pub async fn delay(
    db: &PgPool,
    batch: &Batch,
    error: &str,
    seconds: f64,
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE change_batch SET state = 'queued', error = $3, not_before = now() + make_interval(secs => $4) WHERE account_id = $1 AND id = $2 AND attempts = $5",
        batch.account.0,
        batch.id.0,
        error,
        seconds,
        batch.attempts
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Batches that are held up for one reason.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HeldUp {
    /// Why.
    pub error: String,
    /// Whether the channel has been asked: then it may have made their changes, though its answer is not known.
    pub asked: bool,
}

/// Those of an account.
pub async fn held_up(db: &PgPool, account: AccountId) -> Result<Vec<HeldUp>, StoreError> {
    Ok(sqlx::query_as!(
        HeldUp,
        r#"SELECT DISTINCT error AS "error!", body IS NOT NULL AS "asked!" FROM change_batch
           WHERE account_id = $1 AND state IN ('queued', 'running') AND error IS NOT NULL"#,
        account.0
    )
    .fetch_all(db)
    .await?)
}

/// Somebody has looked back at a change, or dismissed one that was refused; false if there was nothing to look at.
pub async fn looked(db: &PgPool, account: AccountId, id: ChangeId) -> Result<bool, StoreError> {
    let done = sqlx::query!(
        "UPDATE change SET looked_at = now() WHERE account_id = $1 AND id = $2 AND state IN ('made', 'refused') AND looked_at IS NULL",
        account.0,
        id.0
    )
    .execute(db)
    .await?;
    Ok(done.rows_affected() == 1)
}
