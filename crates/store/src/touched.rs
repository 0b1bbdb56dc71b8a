//! What was changed lately, or is about to be: what can't be judged yet, and what strategies have begun to learn from.

use chrono::NaiveDate;
use serde_json::Value;
use sqlx::PgPool;
use tiller_core::ids::{AccountId, AdGroupId, CampaignId, ItemId};

use crate::StoreError;

/// A change that is in force and not yet judged, waits, or was taken back.
#[derive(Clone, Debug)]
pub struct Touch {
    /// The campaign.
    pub campaign: CampaignId,
    /// One of its ad groups.
    pub ad_group: Option<AdGroupId>,
    /// One of that group's items.
    pub item: Option<ItemId>,
    /// What was set.
    pub was: Option<Value>,
    /// What was set then.
    pub set_to: Value,
    /// First day in force.
    pub from_day: Option<NaiveDate>,
    /// The day on which it is to be judged.
    pub look_back: Option<NaiveDate>,
    /// Whether it takes another back.
    pub undoes: bool,
    /// How many things of its sort its campaign has: ad groups or items; one, of the campaign itself.
    pub parts: i64,
    /// Money that it is expected to add to what is spent a day, in millionths, where anything tells.
    pub spend_a_day: Option<i64>,
}

/// Changes whose look-back is after a day, those that take another back for so many days longer, and, if asked for,
/// those that wait.
pub async fn touched(
    db: &PgPool,
    account: AccountId,
    after: NaiveDate,
    undone_after: NaiveDate,
    waiting: bool,
) -> Result<Vec<Touch>, StoreError> {
    Ok(sqlx::query_as!(
        Touch,
        r#"WITH x AS MATERIALIZED (
               SELECT id, campaign_id, ad_group_id, item_id, was, set_to, from_day, look_back, undoes, spend_a_day FROM change
               WHERE account_id = $1 AND (($4 AND state IN ('waiting', 'sending'))
                   OR (state = 'made' AND (look_back > $2 OR (undoes IS NOT NULL AND from_day > $3))))),
           sizes AS (
               SELECT g.campaign_id, count(DISTINCT g.id) AS groups, count(i.id) AS items
               FROM ad_group g LEFT JOIN item i ON i.account_id = g.account_id AND i.ad_group_id = g.id
               WHERE g.account_id = $1 AND g.campaign_id IN (SELECT campaign_id FROM x WHERE ad_group_id IS NOT NULL)
               GROUP BY g.campaign_id)
           SELECT x.campaign_id AS "campaign!: CampaignId", x.ad_group_id AS "ad_group: AdGroupId", x.item_id AS "item: ItemId",
                  x.was, x.set_to AS "set_to!", x.from_day, x.look_back, x.undoes IS NOT NULL AS "undoes!", x.spend_a_day,
                  CASE WHEN x.item_id IS NOT NULL THEN s.items WHEN x.ad_group_id IS NOT NULL THEN s.groups ELSE 1 END AS "parts!"
           FROM x LEFT JOIN sizes s ON s.campaign_id = x.campaign_id
           ORDER BY x.from_day, x.id"#,
        account.0,
        after,
        undone_after,
        waiting
    )
    .fetch_all(db)
    .await?)
}

/// A change of a campaign as a whole that a channel has made.
#[derive(Clone, Debug)]
pub struct Made {
    /// The campaign.
    pub campaign: CampaignId,
    /// What was set.
    pub was: Option<Value>,
    /// What it set.
    pub set_to: Value,
    /// First day in force.
    pub from: NaiveDate,
}

/// What was made on campaigns as a whole after a day, in order of the first day in force.
pub async fn made_after(
    db: &PgPool,
    account: AccountId,
    after: NaiveDate,
) -> Result<Vec<Made>, StoreError> {
    Ok(sqlx::query_as!(
        Made,
        r#"SELECT campaign_id AS "campaign!: CampaignId", was, set_to AS "set_to!", from_day AS "from!" FROM change
           WHERE account_id = $1 AND state = 'made' AND ad_group_id IS NULL AND from_day > $2
           ORDER BY from_day, id"#,
        account.0,
        after
    )
    .fetch_all(db)
    .await?)
}

/// Money a day, in millionths, that advice has added to campaigns' budgets, or taken off, below 0. Steps of a course and
/// changes taken back count as what they belong to.
pub async fn advised_budgets(
    db: &PgPool,
    account: AccountId,
) -> Result<Vec<(CampaignId, i64)>, StoreError> {
    let rows = sqlx::query!(
        r#"WITH RECURSIVE traced AS (
               SELECT campaign_id, a_day, origin, undoes, course_id FROM change
               WHERE account_id = $1 AND state = 'made' AND setting = 'budget' AND ad_group_id IS NULL
               UNION ALL
               SELECT t.campaign_id, t.a_day, s.origin, s.undoes, s.course_id
               FROM traced t JOIN change s ON s.account_id = $1 AND s.id = CASE t.origin
                   WHEN 'undo' THEN t.undoes
                   WHEN 'course' THEN (SELECT min(f.id) FROM change f
                       WHERE f.account_id = $1 AND f.course_id = t.course_id AND f.origin <> 'course') END)
           SELECT campaign_id AS "campaign!: CampaignId", sum(a_day)::bigint AS "a_day!" FROM traced
           WHERE origin IN ('causes', 'week', 'bids') GROUP BY campaign_id ORDER BY campaign_id"#,
        account.0
    )
    .fetch_all(db)
    .await?;
    Ok(rows.into_iter().map(|r| (r.campaign, r.a_day)).collect())
}
