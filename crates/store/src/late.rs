//! Conversions by the day on which they came in: what an account knew on a past day is what it knows now without them.

use chrono::NaiveDate;
use sqlx::PgPool;
use tiller_core::ids::{AccountId, CampaignId};
use tiller_core::{Micros, Window};

use crate::StoreError;

/// What one event brought on a campaign's day.
#[derive(Clone, Debug, PartialEq)]
pub struct EventDay {
    /// The campaign.
    pub campaign: CampaignId,
    /// Day of the click.
    pub day: NaiveDate,
    /// The event; empty where a report tells none.
    pub event: String,
    /// How many conversions, within the account's window of days after the click.
    pub conversions: Micros,
    /// Their value.
    pub value: Micros,
    /// Whether they count.
    pub counts: bool,
}

/// Conversions that came in after the day of their click.
#[derive(Clone, Debug, PartialEq)]
pub struct Late {
    /// What came in.
    pub of: EventDay,
    /// The day on which it did.
    pub on: NaiveDate,
}

/// What each event brought, by day, in order of campaign and day.
pub async fn event_days(
    db: &PgPool,
    account: AccountId,
    window: Window,
) -> Result<Vec<EventDay>, StoreError> {
    Ok(sqlx::query_as!(
        EventDay,
        r#"SELECT campaign_id AS "campaign: CampaignId", day, event, count AS "conversions: Micros", value AS "value: Micros", counts
           FROM campaign_event_day WHERE account_id = $1 AND day BETWEEN $2 AND $3 ORDER BY campaign_id, day"#,
        account.0,
        window.from(),
        window.to()
    )
    .fetch_all(db)
    .await?)
}

/// Conversions of a window's clicks that came in after a day, where reports tell when.
pub async fn after(
    db: &PgPool,
    account: AccountId,
    window: Window,
    day: NaiveDate,
) -> Result<Vec<Late>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT g.campaign_id AS "campaign: CampaignId", v.day, v.age_days, v.event, v.counts,
                  sum(v.count)::bigint AS "conversions!: Micros", sum(v.value)::bigint AS "value!: Micros"
           FROM conversion_day v JOIN item i ON i.account_id = $1 AND i.id = v.item_id JOIN ad_group g ON g.account_id = $1 AND g.id = i.ad_group_id
           JOIN account a ON a.id = $1
           WHERE v.account_id = $1 AND v.day BETWEEN $2 AND $3 AND v.age_days > 0 AND v.day + v.age_days > $4
             AND v.age_days <= coalesce(a.click_window, 32767)
           GROUP BY 1, 2, 3, 4, 5 ORDER BY 1, 2, 3"#,
        account.0,
        window.from(),
        window.to(),
        day
    )
    .fetch_all(db)
    .await?;
    Ok(rows
        .into_iter()
        .map(|r| Late {
            on: tiller_core::window::later(r.day, r.age_days.unsigned_abs().into()),
            of: EventDay {
                campaign: r.campaign,
                day: r.day,
                event: r.event,
                conversions: r.conversions,
                value: r.value,
                counts: r.counts,
            },
        })
        .collect())
}
