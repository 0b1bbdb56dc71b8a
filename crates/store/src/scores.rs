//! What was said with a range or a probability, and what came true of it.

use std::collections::HashSet;

use chrono::NaiveDate;
use serde_json::Value;
use sqlx::PgPool;
use tiller_core::Window;
use tiller_core::evidence::Interval;
use tiller_core::ids::{AccountId, CampaignId};
use tiller_core::score::Kind;

use crate::StoreError;

/// What was said.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Said {
    /// A probability.
    Chance(f64),
    /// A range.
    Within(Interval),
}

/// Something that was said of a campaign, and can be checked later.
#[derive(Clone, Debug, PartialEq)]
pub struct Statement {
    /// What about.
    pub kind: Kind,
    /// The campaign.
    pub campaign: CampaignId,
    /// The last day that was known when it was said.
    pub said_on: NaiveDate,
    /// The days that it is about.
    pub about: Window,
    /// The first evening on which all of them are known.
    pub due: NaiveDate,
    /// The target that it is about.
    pub target: Option<Value>,
    /// What.
    pub said: Said,
}

/// The last evening of which it was asked what can be said.
pub async fn stated_until(
    db: &PgPool,
    account: AccountId,
) -> Result<Option<NaiveDate>, StoreError> {
    Ok(sqlx::query_scalar!("SELECT stated_until FROM account WHERE id = $1", account.0)
        .fetch_one(db)
        .await?)
}

/// It has been asked what an evening's figures say.
pub async fn stated(db: &PgPool, account: AccountId, evening: NaiveDate) -> Result<(), StoreError> {
    sqlx::query!("UPDATE account SET stated_until = $2 WHERE id = $1", account.0, evening)
        .execute(db)
        .await?;
    Ok(())
}

/// Keeps statements, each once; `on` is the last day that is known now.
pub async fn keep(
    db: &PgPool,
    account: AccountId,
    on: NaiveDate,
    all: &[Statement],
) -> Result<(), StoreError> {
    fn each<T>(all: &[Statement], of: impl Fn(&Statement) -> T) -> Vec<T> {
        all.iter().map(of).collect()
    }
    let (mut chance, mut low, mut high) = (Vec::new(), Vec::new(), Vec::new());
    for s in all {
        let (p, within) = match s.said {
            Said::Chance(p) => (Some(p), None),
            Said::Within(i) => (None, Some(i)),
        };
        chance.push(p);
        low.push(within.map(|i| i.low));
        high.push(within.map(|i| i.high));
    }
    sqlx::query!(
        "INSERT INTO statement (account_id, kept_on, kind, campaign_id, said_on, from_day, to_day, due, target, probability, low, high)
         SELECT $1, $2, n.* FROM unnest($3::text[], $4::bigint[], $5::date[], $6::date[], $7::date[], $8::date[], $9::jsonb[],
                                        $10::float8[], $11::float8[], $12::float8[]) AS n
         ON CONFLICT DO NOTHING",
        account.0,
        on,
        &each(all, |s| s.kind.word().to_owned()),
        &each(all, |s| s.campaign.0),
        &each(all, |s| s.said_on),
        &each(all, |s| s.about.from()),
        &each(all, |s| s.about.to()),
        &each(all, |s| s.due),
        &each(all, |s| s.target.clone()) as &[Option<Value>],
        &chance as &[Option<f64>],
        &low as &[Option<f64>],
        &high as &[Option<f64>]
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Of which campaigns something of a kind has been said from an evening on, and when.
pub async fn said(
    db: &PgPool,
    account: AccountId,
    kind: Kind,
    since: NaiveDate,
) -> Result<HashSet<(CampaignId, NaiveDate)>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT campaign_id AS "campaign: CampaignId", said_on FROM statement WHERE account_id = $1 AND kind = $2 AND said_on >= $3"#,
        account.0,
        kind.word(),
        since
    )
    .fetch_all(db)
    .await?;
    Ok(rows.into_iter().map(|r| (r.campaign, r.said_on)).collect())
}

/// A campaign's budget that was changed on a day on which nothing else of it was.
#[derive(Clone, Copy, Debug)]
pub struct NewBudget {
    /// The campaign.
    pub campaign: CampaignId,
    /// The first day.
    pub from: NaiveDate,
    /// When it is to be judged.
    pub look_back: Option<NaiveDate>,
    /// What it was expected to add to what is spent a day, in millionths.
    pub spend_a_day: i64,
}

/// Those from a day on of which it was expected what they add; without the steps of courses.
pub async fn new_budgets(
    db: &PgPool,
    account: AccountId,
    since: NaiveDate,
) -> Result<Vec<NewBudget>, StoreError> {
    Ok(sqlx::query_as!(
        NewBudget,
        r#"SELECT campaign_id AS "campaign!: CampaignId", from_day AS "from!", min(look_back) AS look_back, sum(spend_a_day)::bigint AS "spend_a_day!"
           FROM change WHERE account_id = $1 AND state = 'made' AND from_day >= $2 GROUP BY 1, 2
           HAVING count(*) = 1 AND bool_and(setting = 'budget' AND course_id IS NULL AND spend_a_day IS NOT NULL) ORDER BY 2, 1"#,
        account.0,
        since
    )
    .fetch_all(db)
    .await?)
}

/// A statement that can be checked now.
#[derive(Clone, Debug)]
pub struct Due {
    /// Its number.
    pub id: i64,
    /// What about.
    pub kind: Kind,
    /// The campaign.
    pub campaign: CampaignId,
    /// When it was said.
    pub said_on: NaiveDate,
    /// The first day that it is about.
    pub from: NaiveDate,
    /// The last one.
    pub to: NaiveDate,
    /// The target that it is about.
    pub target: Option<Value>,
}

/// Those whose days are all known by a day, and that have not been checked.
pub async fn due(db: &PgPool, account: AccountId, by: NaiveDate) -> Result<Vec<Due>, StoreError> {
    Ok(sqlx::query_as!(
        Due,
        r#"SELECT id, kind AS "kind: Kind", campaign_id AS "campaign: CampaignId", said_on, from_day AS "from", to_day AS "to", target
           FROM statement WHERE account_id = $1 AND due <= $2 AND truth IS NULL AND NOT void ORDER BY id"#,
        account.0,
        by
    )
    .fetch_all(db)
    .await?)
}

/// Writes down what came; none where what it was about had been changed.
pub async fn checked(
    db: &PgPool,
    account: AccountId,
    found: &[(i64, Option<f64>)],
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE statement s SET truth = f.truth, void = f.truth IS NULL
         FROM unnest($2::bigint[], $3::float8[]) AS f(id, truth) WHERE s.account_id = $1 AND s.id = f.id",
        account.0,
        &found.iter().map(|f| f.0).collect::<Vec<_>>(),
        &found.iter().map(|f| f.1).collect::<Vec<_>>() as &[Option<f64>]
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Forgets what has not been checked of a campaign, or of all: what it was about counts otherwise now.
pub async fn forget(
    db: &PgPool,
    account: AccountId,
    campaign: Option<CampaignId>,
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE statement SET void = true WHERE account_id = $1 AND truth IS NULL AND NOT void AND campaign_id = coalesce($2, campaign_id)",
        account.0,
        campaign.map(|c| c.0)
    )
    .execute(db)
    .await?;
    Ok(())
}

/// A statement with what came of it.
#[derive(Clone, Debug)]
pub struct Kept {
    /// What about.
    pub kind: Kind,
    /// The campaign's name.
    pub campaign: String,
    /// When it was said.
    pub said_on: NaiveDate,
    /// The last day that was known when it was written down.
    pub kept_on: NaiveDate,
    /// The first day that it is about.
    pub from: NaiveDate,
    /// The last one.
    pub to: NaiveDate,
    /// When it can be checked.
    pub due: NaiveDate,
    /// The probability, or
    pub probability: Option<f64>,
    /// the range's lower bound
    pub low: Option<f64>,
    /// and its upper one.
    pub high: Option<f64>,
    /// What came; none yet.
    pub truth: Option<f64>,
    /// Whether what it was about was changed before.
    pub void: bool,
}

/// All that was said from a day on, the latest first.
pub async fn list(
    db: &PgPool,
    account: AccountId,
    since: NaiveDate,
) -> Result<Vec<Kept>, StoreError> {
    Ok(sqlx::query_as!(
        Kept,
        r#"SELECT s.kind AS "kind: Kind", c.name AS campaign, s.said_on, s.kept_on, s.from_day AS "from", s.to_day AS "to", s.due,
                  s.probability, s.low, s.high, s.truth, s.void
           FROM statement s JOIN campaign c ON c.account_id = s.account_id AND c.id = s.campaign_id
           WHERE s.account_id = $1 AND s.said_on >= $2 ORDER BY s.said_on DESC, s.kind, c.name, s.id"#,
        account.0,
        since
    )
    .fetch_all(db)
    .await?)
}
