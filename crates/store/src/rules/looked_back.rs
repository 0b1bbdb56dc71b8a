//! What was changed on which days, by which rule: what look-backs judge.

use chrono::NaiveDate;
use sqlx::PgPool;
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
    /// The day.
    pub from: NaiveDate,
    /// When they are to be judged.
    pub look_back: Option<NaiveDate>,
    /// How many.
    pub changes: i64,
}

/// All that channels have made of an account's campaigns from a day on, in order of days.
pub async fn moved(
    db: &PgPool,
    account: AccountId,
    since: NaiveDate,
) -> Result<Vec<Moved>, StoreError> {
    Ok(sqlx::query_as!(
        Moved,
        r#"SELECT c.campaign_id AS "campaign!: CampaignId", x.rule_id AS "rule?: RuleId", r.watched_from AS "watched_from?", c.from_day AS "from!", c.look_back, count(*) AS "changes!"
           FROM change c LEFT JOIN rule_run x ON x.account_id = c.account_id AND x.id = c.run_id
           LEFT JOIN rule r ON r.account_id = x.account_id AND r.id = x.rule_id
           WHERE c.account_id = $1 AND c.state = 'made' AND c.from_day >= $2
           GROUP BY 1, 2, 3, 4, 5 ORDER BY c.from_day, 1, 2"#,
        account.0,
        since
    )
    .fetch_all(db)
    .await?)
}
