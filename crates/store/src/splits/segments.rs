//! People told apart, and hours.

use chrono::NaiveDate;
use sqlx::PgPool;
use tiller_core::ids::{AccountId, CampaignId};
use tiller_core::week::WeekHour;
use tiller_core::{Micros, Tally, Window};

use crate::StoreError;

/// A segment with what was counted over a window.
#[derive(Clone, Debug, PartialEq)]
pub struct SegmentTally {
    /// The campaign.
    pub campaign: CampaignId,
    /// What tells the people apart.
    pub dimension: String,
    /// Which of them.
    pub segment: String,
    /// What was counted.
    pub tally: Tally,
}

/// People whom a channel tells apart.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Known {
    /// The channel's name.
    pub channel: String,
    /// What tells them apart.
    pub dimension: String,
    /// Which of them.
    pub segment: String,
}

/// Whom an account's channels told apart over a window; hours are no people.
pub async fn people(
    db: &PgPool,
    account: AccountId,
    window: Window,
) -> Result<Vec<Known>, StoreError> {
    Ok(sqlx::query_as!(
        Known,
        r#"SELECT DISTINCT c.name AS channel, s.dimension, s.segment FROM channel_segment_day s
           JOIN channel c ON c.account_id = s.account_id AND c.id = s.channel_id
           WHERE s.account_id = $1 AND s.day BETWEEN $2 AND $3 AND s.dimension <> 'hour' ORDER BY 1, 2, 3"#,
        account.0,
        window.from(),
        window.to()
    )
    .fetch_all(db)
    .await?)
}

/// All segments of a campaign, by dimension and name.
pub async fn segments_of(
    db: &PgPool,
    account: AccountId,
    campaign: CampaignId,
    window: Window,
) -> Result<Vec<SegmentTally>, StoreError> {
    Ok(sqlx::query_as!(
        SegmentTally,
        r#"SELECT g.campaign_id AS "campaign: CampaignId", s.dimension, s.segment, ARRAY[sum(s.impressions), sum(s.clicks), sum(s.spend), sum(s.conversions), sum(s.value)]::bigint[] AS "tally!: Tally"
           FROM ad_group g JOIN LATERAL (SELECT * FROM segment_day d WHERE d.account_id = $1 AND d.ad_group_id = g.id AND d.day BETWEEN $3 AND $4) s ON true
           WHERE g.account_id = $1 AND g.campaign_id = $2 GROUP BY 1, 2, 3 ORDER BY 2, 3"#,
        account.0,
        campaign.0,
        window.from(),
        window.to()
    )
    .fetch_all(db)
    .await?)
}

/// Some campaigns by the segments of a dimension; of one segment, or of all.
pub async fn segments_by(
    db: &PgPool,
    account: AccountId,
    campaigns: &[CampaignId],
    dimension: &str,
    segment: Option<&str>,
    window: Window,
) -> Result<Vec<SegmentTally>, StoreError> {
    let ids: Vec<i64> = campaigns.iter().map(|c| c.0).collect();
    Ok(sqlx::query_as!(
        SegmentTally,
        r#"SELECT g.campaign_id AS "campaign: CampaignId", s.dimension, s.segment, ARRAY[sum(s.impressions), sum(s.clicks), sum(s.spend), sum(s.conversions), sum(s.value)]::bigint[] AS "tally!: Tally"
           FROM ad_group g JOIN LATERAL (SELECT * FROM segment_day d WHERE d.account_id = $1 AND d.ad_group_id = g.id AND d.dimension = $3
                AND ($4::text IS NULL OR d.segment = $4) AND d.day BETWEEN $5 AND $6) s ON true
           WHERE g.account_id = $1 AND g.campaign_id = ANY($2) GROUP BY 1, 2, 3 ORDER BY 3, 1"#,
        account.0,
        &ids,
        dimension,
        segment,
        window.from(),
        window.to()
    )
    .fetch_all(db)
    .await?)
}

/// The whole account by the segments of a dimension, in the order of their names.
pub async fn segments(
    db: &PgPool,
    account: AccountId,
    dimension: &str,
    window: Window,
) -> Result<Vec<(String, Tally)>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT segment, ARRAY[sum(impressions), sum(clicks), sum(spend), sum(conversions), sum(value)]::bigint[] AS "tally!: Tally"
           FROM channel_segment_day WHERE account_id = $1 AND dimension = $2 AND day BETWEEN $3 AND $4 GROUP BY segment ORDER BY segment"#,
        account.0,
        dimension,
        window.from(),
        window.to()
    )
    .fetch_all(db)
    .await?;
    Ok(rows.into_iter().map(|r| (r.segment, r.tally)).collect())
}

struct HourRow {
    hour: i32,
    tally: Tally,
}

/// Hours of the week with what was counted, of a campaign or of the whole account.
pub async fn week(
    db: &PgPool,
    account: AccountId,
    campaign: Option<CampaignId>,
    window: Window,
) -> Result<Vec<(WeekHour, Tally)>, StoreError> {
    let rows = match campaign {
        Some(id) => {
            sqlx::query_as!(
                HourRow,
                r#"SELECT extract(isodow FROM s.day)::int * 24 - 24 + s.segment::int AS "hour!", ARRAY[sum(s.impressions), sum(s.clicks), sum(s.spend), sum(s.conversions), sum(s.value)]::bigint[] AS "tally!: Tally"
                   FROM ad_group g JOIN LATERAL (SELECT * FROM segment_day d WHERE d.account_id = $1 AND d.ad_group_id = g.id AND d.dimension = 'hour'
                        AND d.day BETWEEN $3 AND $4) s ON true
                   WHERE g.account_id = $1 AND g.campaign_id = $2 GROUP BY 1 ORDER BY 1"#,
                account.0,
                id.0,
                window.from(),
                window.to()
            )
            .fetch_all(db)
            .await?
        }
        None => {
            sqlx::query_as!(
                HourRow,
                r#"SELECT extract(isodow FROM day)::int * 24 - 24 + segment::int AS "hour!", ARRAY[sum(impressions), sum(clicks), sum(spend), sum(conversions), sum(value)]::bigint[] AS "tally!: Tally"
                   FROM channel_segment_day WHERE account_id = $1 AND dimension = 'hour' AND day BETWEEN $2 AND $3 GROUP BY 1 ORDER BY 1"#,
                account.0,
                window.from(),
                window.to()
            )
            .fetch_all(db)
            .await?
        }
    };
    let hour = |r: &HourRow| WeekHour::nth(usize::try_from(r.hour).unwrap_or_default());
    Ok(rows.into_iter().map(|r| (hour(&r), r.tally)).collect())
}

/// What each campaign spent before noon and in all, by day, where its channel tells of hours.
pub async fn before_noon(
    db: &PgPool,
    account: AccountId,
    window: Window,
) -> Result<Vec<(CampaignId, NaiveDate, Micros, Micros)>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT g.campaign_id AS "campaign: CampaignId", s.day, coalesce(sum(s.spend) FILTER (WHERE s.segment::int < 12), 0)::bigint AS "before!",
                  sum(s.spend)::bigint AS "spend!"
           FROM ad_group g JOIN segment_day s ON s.account_id = g.account_id AND s.ad_group_id = g.id
           WHERE g.account_id = $1 AND s.account_id = $1 AND s.dimension = 'hour' AND s.day BETWEEN $2 AND $3
           GROUP BY 1, 2 ORDER BY 1, 2"#,
        account.0,
        window.from(),
        window.to()
    )
    .fetch_all(db)
    .await?;
    Ok(rows
        .into_iter()
        .map(|r| (r.campaign, r.day, Micros::new(r.before), Micros::new(r.spend)))
        .collect())
}
