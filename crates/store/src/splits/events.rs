//! Conversions by event and by age.

use chrono::NaiveDate;
use sqlx::PgPool;
use tiller_core::ids::{AccountId, CampaignId};
use tiller_core::{Micros, Window};

use crate::StoreError;

/// Conversions of a campaign by event over days, whether they count or not.
#[derive(Clone, Debug, PartialEq)]
pub struct EventTally {
    /// The campaign.
    pub campaign: CampaignId,
    /// The event; empty where reports do not tell it.
    pub event: String,
    /// How many were counted within the account's window of days after a click.
    pub conversions: f64,
    /// Their value.
    pub value: Micros,
    /// Whether the channel counts it.
    pub channel_counts: bool,
    /// Whether we do.
    pub counts: bool,
}

/// Conversions by campaign and event.
pub async fn events(
    db: &PgPool,
    account: AccountId,
    window: Window,
) -> Result<Vec<EventTally>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT campaign_id AS "campaign: CampaignId", event, sum(count)::bigint AS "count!", sum(value)::bigint AS "value!",
                  bool_or(channel_counts) AS "channel_counts!", bool_or(counts) AS "counts!"
           FROM campaign_event_day WHERE account_id = $1 AND day BETWEEN $2 AND $3
           GROUP BY 1, 2 ORDER BY 1, 3 DESC, 2"#,
        account.0,
        window.from(),
        window.to()
    )
    .fetch_all(db)
    .await?;
    Ok(rows
        .into_iter()
        .map(|r| EventTally {
            campaign: r.campaign,
            event: r.event,
            conversions: Micros::new(r.count).to_units(),
            value: Micros::new(r.value),
            channel_counts: r.channel_counts,
            counts: r.counts,
        })
        .collect())
}

/// Counted conversions of a campaign's click day at an age.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Aged {
    /// The campaign.
    pub campaign: CampaignId,
    /// Day of the click.
    pub day: NaiveDate,
    /// Days between click and report.
    pub age: i16,
    /// How many.
    pub conversions: f64,
}

/// Counted conversions by click day and age, where reports tell the age.
pub async fn aged(
    db: &PgPool,
    account: AccountId,
    window: Window,
) -> Result<Vec<Aged>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT g.campaign_id AS "campaign: CampaignId", v.day, v.age_days, sum(v.count)::bigint AS "count!"
           FROM conversion_day v JOIN item i ON i.account_id = $1 AND i.id = v.item_id JOIN ad_group g ON g.account_id = $1 AND g.id = i.ad_group_id
           WHERE v.account_id = $1 AND v.counts AND v.age_days >= 0 AND v.day BETWEEN $2 AND $3 GROUP BY 1, 2, 3"#,
        account.0,
        window.from(),
        window.to()
    )
    .fetch_all(db)
    .await?;
    Ok(rows
        .into_iter()
        .map(|r| Aged {
            campaign: r.campaign,
            day: r.day,
            age: r.age_days,
            conversions: Micros::new(r.count).to_units(),
        })
        .collect())
}

/// Writes down after how many days a click day is settled.
pub async fn set_settle_days(db: &PgPool, account: AccountId, days: i16) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE account SET settle_days = $2 WHERE id = $1 AND settle_days <> $2",
        account.0,
        days
    )
    .execute(db)
    .await?;
    Ok(())
}
