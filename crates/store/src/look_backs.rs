//! What was changed on which days, by whom, and what came of it.

use chrono::NaiveDate;
use sqlx::PgPool;
use tiller_core::Window;
use tiller_core::change_effect::CameOfIt;
use tiller_core::course::Kind;
use tiller_core::ids::{AccountId, CampaignId, RuleId};

use crate::StoreError;

/// Changes of a campaign that came in force on one day, by one hand.
#[derive(Clone, Debug)]
pub struct Moved {
    /// The campaign.
    pub campaign: CampaignId,
    /// The rule that made them; none where a person, a plan or a course did.
    pub rule: Option<RuleId>,
    /// Since when that rule is watched.
    pub watched_from: Option<NaiveDate>,
    /// Who put them in the tray, while they are known.
    pub author: Option<String>,
    /// The kind of the course whose step they are.
    pub course: Option<Kind>,
    /// The rule's name.
    pub rule_name: Option<String>,
    /// hand, causes, plan, week, undo, course, bids or rule.
    pub origin: String,
    /// The day.
    pub from: NaiveDate,
    /// When they are to be judged.
    pub look_back: Option<NaiveDate>,
    /// How many.
    pub changes: i64,
    /// Whether what came of them has yet to be written down.
    pub open: bool,
}

/// All that channels have made of an account's campaigns from a day on, in order of days.
pub async fn moved(
    db: &PgPool,
    account: AccountId,
    since: NaiveDate,
) -> Result<Vec<Moved>, StoreError> {
    Ok(sqlx::query_as!(
        Moved,
        r#"SELECT c.campaign_id AS "campaign!: CampaignId", x.rule_id AS "rule?: RuleId", r.watched_from AS "watched_from?",
                  p.name AS "author?", k.kind AS "course?: Kind", v.body ->> 'name' AS rule_name, c.origin AS "origin!",
                  c.from_day AS "from!", c.look_back, count(*) AS "changes!", bool_or(c.came_of_it IS NULL) AS "open!"
           FROM change c LEFT JOIN rule_run x ON x.account_id = c.account_id AND x.id = c.run_id
           LEFT JOIN rule r ON r.account_id = x.account_id AND r.id = x.rule_id
           LEFT JOIN rule_version v ON v.account_id = r.account_id AND v.rule_id = r.id AND v.version = r.version
           LEFT JOIN person p ON p.id = c.created_by
           LEFT JOIN course k ON k.account_id = c.account_id AND k.id = c.course_id
           WHERE c.account_id = $1 AND c.state = 'made' AND c.from_day >= $2
           GROUP BY 1, 2, 3, 4, 5, 6, 7, 8, 9 ORDER BY c.from_day, 1, 2"#,
        account.0,
        since
    )
    .fetch_all(db)
    .await?)
}

/// What a look-back found.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Found {
    /// The campaign.
    pub campaign: CampaignId,
    /// The first day on which the changes were in force.
    pub from: NaiveDate,
    /// When they were to be judged.
    pub look_back: NaiveDate,
    /// What came of them.
    pub came: CameOfIt,
    /// In money, in millionths, with the range that the verdict rests on.
    pub worth: Option<[i64; 3]>,
    /// Others that they were judged with.
    pub with: i64,
}

/// Writes down what look-backs found, once. Nobody has to look at what worked, nor at what rules do again and again: those
/// are watched as a whole.
pub async fn found(db: &PgPool, account: AccountId, found: &[Found]) -> Result<(), StoreError> {
    fn each<T>(found: &[Found], of: impl Fn(&Found) -> T) -> Vec<T> {
        found.iter().map(of).collect()
    }
    let part = |n: usize| each(found, |f| f.worth.map(|w| w[n]));
    sqlx::query!(
        "UPDATE change c SET came_of_it = f.came, came_to = f.mid, came_low = f.low, came_high = f.high, judged_with = f.beside,
                looked_at = CASE WHEN f.came = 'worked' OR c.run_id IS NOT NULL THEN coalesce(c.looked_at, now()) ELSE c.looked_at END
         FROM unnest($2::bigint[], $3::date[], $4::date[], $5::text[], $6::bigint[], $7::bigint[], $8::bigint[], $9::bigint[])
              AS f(campaign_id, from_day, look_back, came, mid, low, high, beside)
         WHERE c.account_id = $1 AND c.state = 'made' AND c.came_of_it IS NULL
           AND c.campaign_id = f.campaign_id AND c.from_day = f.from_day AND c.look_back = f.look_back",
        account.0,
        &each(found, |f| f.campaign.0),
        &each(found, |f| f.from),
        &each(found, |f| f.look_back),
        &each(found, |f| f.came.word().to_owned()),
        &part(0) as &[Option<i64>],
        &part(1) as &[Option<i64>],
        &part(2) as &[Option<i64>],
        &each(found, |f| f.with)
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Somebody has looked at all that could not be told and is due by a day; tells how many.
pub async fn looked_at_untold(
    db: &PgPool,
    account: AccountId,
    by: NaiveDate,
) -> Result<u64, StoreError> {
    let done = sqlx::query!(
        "UPDATE change SET looked_at = now()
         WHERE account_id = $1 AND state = 'made' AND looked_at IS NULL AND look_back <= $2 AND came_of_it = 'untold'",
        account.0,
        by
    )
    .execute(db)
    .await?;
    Ok(done.rows_affected())
}

/// How many changes worked, made things worse and could not be told, of those whose look-back came in a window.
pub async fn came(db: &PgPool, account: AccountId, window: Window) -> Result<[i64; 3], StoreError> {
    let row = sqlx::query!(
        r#"SELECT count(*) FILTER (WHERE came_of_it = 'worked') AS "worked!", count(*) FILTER (WHERE came_of_it = 'worse') AS "worse!",
                  count(*) FILTER (WHERE came_of_it = 'untold') AS "untold!"
           FROM change WHERE account_id = $1 AND state = 'made' AND look_back BETWEEN $2 AND $3"#,
        account.0,
        window.from(),
        window.to()
    )
    .fetch_one(db)
    .await?;
    Ok([row.worked, row.worse, row.untold])
}
