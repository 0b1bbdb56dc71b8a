//! What counts: a choice marks conversions anew and renews the rollups, in one transaction.

use sqlx::PgConnection;
use tiller_core::ids::{AccountId, CampaignId};

use crate::StoreError;

/// Changes the events that count, of a campaign or of the account; every figure follows in the same transaction.
pub(crate) async fn set_events(
    tx: &mut PgConnection,
    account: AccountId,
    campaign: Option<CampaignId>,
    events: Option<&[String]>,
) -> Result<(), StoreError> {
    match campaign {
        Some(id) => {
            sqlx::query!(
                "UPDATE campaign SET counted_events = $3 WHERE account_id = $1 AND id = $2",
                account.0,
                id.0,
                events
            )
            .execute(&mut *tx)
            .await?;
        }
        None => {
            sqlx::query!("UPDATE account SET counted_events = $2 WHERE id = $1", account.0, events)
                .execute(&mut *tx)
                .await?;
        }
    }
    recount(tx, account, campaign.map(|c| c.0)).await
}

/// Changes how many days after a click a conversion counts; every figure follows in the same transaction.
pub(crate) async fn set_click_window(
    tx: &mut PgConnection,
    account: AccountId,
    days: Option<i16>,
) -> Result<(), StoreError> {
    sqlx::query!("UPDATE account SET click_window = $2 WHERE id = $1", account.0, days)
        .execute(&mut *tx)
        .await?;
    recount(tx, account, None).await
}

/// Marks what counts, and adds it up by campaign and day; of one campaign, or of all.
pub(crate) async fn recount(
    tx: &mut PgConnection,
    account: AccountId,
    campaign: Option<i64>,
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE conversion_day v SET counts = NOT v.counts
         FROM account a JOIN campaign c ON c.account_id = a.id JOIN ad_group g ON g.account_id = a.id AND g.campaign_id = c.id
              JOIN item i ON i.account_id = a.id AND i.ad_group_id = g.id
         WHERE a.id = $1 AND ($2::bigint IS NULL OR c.id = $2) AND v.account_id = $1 AND v.item_id = i.id
           AND v.counts <> is_counted(v.event, v.age_days, v.channel_counts, c.counted_events, a.counted_events, a.click_window)",
        account.0,
        campaign
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!(
        "UPDATE campaign_day d SET conversions = coalesce(s.count, 0), value = coalesce(s.value, 0)
         FROM campaign_day e LEFT JOIN (
             SELECT g.campaign_id, v.day, sum(v.count)::bigint AS count, sum(v.value)::bigint AS value
             FROM conversion_day v JOIN item i ON i.account_id = $1 AND i.id = v.item_id JOIN ad_group g ON g.account_id = $1 AND g.id = i.ad_group_id
             WHERE v.account_id = $1 AND v.counts AND ($2::bigint IS NULL OR g.campaign_id = $2) GROUP BY 1, 2) s
           ON s.campaign_id = e.campaign_id AND s.day = e.day
         WHERE e.account_id = $1 AND ($2::bigint IS NULL OR e.campaign_id = $2)
           AND d.account_id = $1 AND d.campaign_id = e.campaign_id AND d.day = e.day
           AND (d.conversions <> coalesce(s.count, 0) OR d.value <> coalesce(s.value, 0))",
        account.0,
        campaign
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!(
        "DELETE FROM campaign_event_day WHERE account_id = $1 AND ($2::bigint IS NULL OR campaign_id = $2)",
        account.0,
        campaign
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!(
        "INSERT INTO campaign_event_day (account_id, campaign_id, day, event, count, value, channel_counts, counts)
         SELECT $1, g.campaign_id, v.day, v.event, sum(v.count), sum(v.value), bool_or(v.channel_counts), bool_or(v.counts)
         FROM conversion_day v JOIN account a ON a.id = $1
         JOIN item i ON i.account_id = $1 AND i.id = v.item_id JOIN ad_group g ON g.account_id = $1 AND g.id = i.ad_group_id
         WHERE v.account_id = $1 AND v.event <> '' AND v.age_days <= coalesce(a.click_window, 32767)
           AND ($2::bigint IS NULL OR g.campaign_id = $2)
         GROUP BY 2, 3, 4",
        account.0,
        campaign
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}
