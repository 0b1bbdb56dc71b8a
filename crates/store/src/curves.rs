//! Response curves, as they were fitted last.

use chrono::NaiveDate;
use serde_json::Value;
use sqlx::PgPool;
use tiller_core::{Tally, Window};

use crate::StoreError;
use tiller_core::ids::{AccountId, AdGroupId, CampaignId};

/// A curve as it is kept.
#[derive(Clone, Debug)]
pub struct Kept {
    /// Its campaign.
    pub campaign: CampaignId,
    /// One of its ad groups, if it is that one's.
    pub ad_group: Option<AdGroupId>,
    /// The days that it was fitted to.
    pub window: Window,
    /// The curve with its evidence.
    pub body: Value,
}

/// Keeps an account's curves in place of those before.
pub async fn replace(db: &PgPool, account: AccountId, curves: &[Kept]) -> Result<(), StoreError> {
    let mut tx = crate::begin(db).await?;
    sqlx::query!("DELETE FROM response_curve WHERE account_id = $1", account.0)
        .execute(&mut *tx)
        .await?;
    sqlx::query!(
        "INSERT INTO response_curve (account_id, campaign_id, ad_group_id, from_day, to_day, body)
         SELECT $1, c, g, f, t, b FROM unnest($2::bigint[], $3::bigint[], $4::date[], $5::date[], $6::jsonb[]) AS x(c, g, f, t, b)
         ON CONFLICT DO NOTHING",
        account.0,
        &curves.iter().map(|c| c.campaign.0).collect::<Vec<_>>(),
        &curves.iter().map(|c| c.ad_group.map(|g| g.0)).collect::<Vec<_>>() as &[Option<i64>],
        &curves.iter().map(|c| c.window.from()).collect::<Vec<_>>(),
        &curves.iter().map(|c| c.window.to()).collect::<Vec<_>>(),
        &curves.iter().map(|c| c.body.clone()).collect::<Vec<_>>()
    )
    .execute(&mut *tx)
    .await?;
    Ok(tx.commit().await?)
}

/// An account's curves.
pub async fn list(db: &PgPool, account: AccountId) -> Result<Vec<Kept>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT campaign_id AS "campaign: CampaignId", ad_group_id AS "ad_group: AdGroupId", from_day, to_day, body
           FROM response_curve WHERE account_id = $1 ORDER BY campaign_id, ad_group_id NULLS FIRST"#,
        account.0
    )
    .fetch_all(db)
    .await?;
    Ok(rows
        .into_iter()
        .filter_map(|r| {
            let window = Window::new(r.from_day, r.to_day)?;
            Some(Kept { campaign: r.campaign, ad_group: r.ad_group, window, body: r.body })
        })
        .collect())
}

/// A day of an ad group.
#[derive(Clone, Debug)]
pub struct GroupDay {
    /// The ad group.
    pub ad_group: AdGroupId,
    /// The day.
    pub day: NaiveDate,
    /// What was counted.
    pub tally: Tally,
}

/// Days of the ad groups of some campaigns, in order of ad group and day.
pub async fn group_days(
    db: &PgPool,
    account: AccountId,
    campaigns: &[CampaignId],
    window: Window,
) -> Result<Vec<GroupDay>, StoreError> {
    Ok(sqlx::query_as!(
        GroupDay,
        r#"WITH mine AS (SELECT i.id, i.ad_group_id FROM item i JOIN ad_group g ON g.account_id = $1 AND g.id = i.ad_group_id
                         WHERE i.account_id = $1 AND g.campaign_id = ANY($2)),
                f AS (SELECT m.ad_group_id, d.day, sum(d.impressions)::bigint AS impressions, sum(d.clicks)::bigint AS clicks, sum(d.spend)::bigint AS spend
                      FROM mine m JOIN item_day d ON d.account_id = $1 AND d.item_id = m.id AND d.day BETWEEN $3 AND $4 GROUP BY 1, 2),
                v AS (SELECT m.ad_group_id, d.day, sum(d.count)::bigint AS conversions, sum(d.value)::bigint AS value
                      FROM mine m JOIN conversion_day d ON d.account_id = $1 AND d.item_id = m.id AND d.counts AND d.day BETWEEN $3 AND $4 GROUP BY 1, 2)
           SELECT f.ad_group_id AS "ad_group!: AdGroupId", f.day AS "day!", ARRAY[f.impressions, f.clicks, f.spend, coalesce(v.conversions, 0), coalesce(v.value, 0)] AS "tally!: Tally"
           FROM f LEFT JOIN v USING (ad_group_id, day) ORDER BY 1, 2"#,
        account.0,
        &campaigns.iter().map(|c| c.0).collect::<Vec<_>>(),
        window.from(),
        window.to()
    )
    .fetch_all(db)
    .await?)
}
