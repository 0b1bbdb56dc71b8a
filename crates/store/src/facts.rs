//! What was counted: rollups by campaign and day for screens, items for drill-downs.

use std::collections::HashMap;
use tiller_core::Share;

use chrono::NaiveDate;
use sqlx::PgPool;
use tiller_core::purpose::Purpose;
use tiller_core::{Micros, Tally, Target, Window};

use crate::{StoreError, targets};
use tiller_core::ids::{AccountId, AdGroupId, CampaignId, ItemId};
use tiller_core::spot::Subject;

/// A campaign as it stands.
#[derive(Clone, Debug)]
pub struct Campaign {
    /// Its id.
    pub id: CampaignId,
    /// Its name.
    pub name: String,
    /// The channel that runs it.
    pub channel: String,
    /// What its items are.
    pub kind: String,
    /// Whether it runs, if reports tell.
    pub status: Option<String>,
    /// Its own target.
    pub own_target: Option<Target>,
    /// What it is for, where somebody said so.
    pub own_purpose: Option<Purpose>,
    /// Whether it counts events of its own choice.
    pub own_events: bool,
    /// First day with anything counted.
    pub first_day: Option<NaiveDate>,
}

/// One campaign's day.
#[derive(Clone, Copy, Debug)]
pub struct CampaignDay {
    /// The campaign.
    pub campaign: CampaignId,
    /// The day.
    pub day: NaiveDate,
    /// What was counted.
    pub tally: Tally,
    /// Its budget, if reports tell.
    pub budget: Option<Micros>,
    /// The highest bid among its items, if reports tell.
    pub bid: Option<Micros>,
    /// Share of its auctions that it stood aside from for want of budget, where the channel tells it.
    pub lost_to_budget: Option<Share>,
    /// Share of its auctions that it lost for want of bid, where the channel tells it.
    pub lost_to_bid: Option<Share>,
    /// Its conversions in the end, by estimate, where the day is not settled.
    pub expected: Option<Estimate>,
}

/// An estimate with its standard error.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Estimate {
    /// The estimate.
    pub mean: f64,
    /// Its standard error.
    pub error: f64,
}

/// One item with what was counted over a window.
#[derive(Clone, Debug)]
pub struct ItemTally {
    /// The item.
    pub item: ItemId,
    /// Its name.
    pub name: String,
    /// keyword, listing, ad or audience.
    pub kind: String,
    /// Of a keyword; empty otherwise.
    pub match_type: String,
    /// Its ad group.
    pub ad_group: AdGroupId,
    /// The ad group's name.
    pub ad_group_name: String,
    /// Its campaign.
    pub campaign: CampaignId,
    /// What was counted.
    pub tally: Tally,
}

/// Tells the planner how much there is now: after a first fetch, which makes of nothing a great deal.
pub async fn learn_sizes(db: &PgPool) -> Result<(), StoreError> {
    sqlx::raw_sql(
        "ANALYZE campaign; ANALYZE ad_group; ANALYZE item; ANALYZE campaign_day; ANALYZE item_day; ANALYZE conversion_day; ANALYZE segment_day; ANALYZE channel_segment_day;
         ANALYZE term; ANALYZE term_day",
    )
    .execute(db)
    .await?;
    Ok(())
}

/// First and last day with anything counted.
pub async fn span(db: &PgPool, account: AccountId) -> Result<Option<Window>, StoreError> {
    let row = sqlx::query!(
        "SELECT min(day), max(day) FROM campaign_day WHERE account_id = $1",
        account.0
    )
    .fetch_one(db)
    .await?;
    Ok(row.min.zip(row.max).and_then(|(from, to)| Window::new(from, to)))
}

/// All campaigns of an account, by name.
pub async fn campaigns(db: &PgPool, account: AccountId) -> Result<Vec<Campaign>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT c.id AS "id: CampaignId", c.name, ch.name AS channel, c.kind, c.status, c.target_cpa, c.target_roas, c.purpose, c.counted_events IS NOT NULL AS "own_events!",
                  (SELECT min(day) FROM campaign_day d WHERE d.account_id = c.account_id AND d.campaign_id = c.id) AS first_day
           FROM campaign c JOIN channel ch ON ch.account_id = c.account_id AND ch.id = c.channel_id
           WHERE c.account_id = $1 ORDER BY c.name, c.id"#,
        account.0
    )
    .fetch_all(db)
    .await?;
    Ok(rows
        .into_iter()
        .map(|r| Campaign {
            id: r.id,
            name: r.name,
            channel: r.channel,
            kind: r.kind,
            status: r.status,
            own_target: targets::read(r.target_cpa, r.target_roas),
            own_purpose: r.purpose.and_then(|w| Purpose::read(&w)),
            own_events: r.own_events,
            first_day: r.first_day,
        })
        .collect())
}

fn share(stored: f32) -> Option<Share> {
    Share::new(stored.into())
}

/// Every campaign's days in a window, in order of campaign and day.
pub async fn campaign_days(
    db: &PgPool,
    account: AccountId,
    window: Window,
) -> Result<Vec<CampaignDay>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT campaign_id AS "campaign: CampaignId", day, ARRAY[impressions, clicks, spend, conversions, value] AS "tally!: Tally", budget, bid, lost_to_budget, lost_to_bid, expected, expected_error
           FROM campaign_day WHERE account_id = $1 AND day BETWEEN $2 AND $3 ORDER BY campaign_id, day"#,
        account.0,
        window.from(),
        window.to()
    )
    .fetch_all(db)
    .await?;
    Ok(rows
        .into_iter()
        .map(|r| CampaignDay {
            campaign: r.campaign,
            day: r.day,
            tally: r.tally,
            budget: r.budget.map(Micros::new),
            bid: r.bid.map(Micros::new),
            lost_to_budget: r.lost_to_budget.and_then(share),
            lost_to_bid: r.lost_to_bid.and_then(share),
            expected: r
                .expected
                .zip(r.expected_error)
                .map(|(mean, error)| Estimate { mean, error }),
        })
        .collect())
}

/// Writes down what open click days will have brought in the end; of all other days nothing is estimated.
pub async fn expect(
    db: &PgPool,
    account: AccountId,
    days: &[(CampaignId, NaiveDate, Estimate)],
) -> Result<(), StoreError> {
    let mut tx = crate::begin(db).await?;
    // An import of the account might be adding up at this moment; both touch the same rows.
    crate::alone(&mut tx, account).await?;
    sqlx::query!(
        "UPDATE campaign_day SET expected = NULL, expected_error = NULL WHERE account_id = $1 AND expected IS NOT NULL",
        account.0
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!(
        "UPDATE campaign_day d SET expected = e.mean, expected_error = e.error
         FROM unnest($2::bigint[], $3::date[], $4::double precision[], $5::double precision[]) AS e(campaign_id, day, mean, error)
         WHERE d.account_id = $1 AND d.campaign_id = e.campaign_id AND d.day = e.day",
        account.0,
        &days.iter().map(|(c, _, _)| c.0).collect::<Vec<_>>(),
        &days.iter().map(|(_, d, _)| *d).collect::<Vec<_>>(),
        &days.iter().map(|(_, _, e)| e.mean).collect::<Vec<_>>(),
        &days.iter().map(|(_, _, e)| e.error).collect::<Vec<_>>()
    )
    .execute(&mut *tx)
    .await?;
    Ok(tx.commit().await?)
}

/// All items with anything counted in a window, by spend, with the conversions that had come in by a day, if one is
/// given.
pub async fn items(
    db: &PgPool,
    account: AccountId,
    window: Window,
    as_of: Option<NaiveDate>,
) -> Result<Vec<ItemTally>, StoreError> {
    Ok(sqlx::query_as!(
        ItemTally,
        r#"SELECT i.id AS "item: ItemId", i.name, i.kind, i.match_type, g.id AS "ad_group: AdGroupId",
                  g.name AS ad_group_name, g.campaign_id AS "campaign: CampaignId",
                  ARRAY[f.impressions, f.clicks, f.spend, coalesce(v.conversions, 0), coalesce(v.value, 0)] AS "tally!: Tally"
           FROM item i
           JOIN ad_group g ON g.account_id = i.account_id AND g.id = i.ad_group_id
           JOIN (SELECT item_id, sum(impressions)::bigint AS impressions, sum(clicks)::bigint AS clicks, sum(spend)::bigint AS spend
                 FROM item_day WHERE account_id = $1 AND day BETWEEN $2 AND $3 GROUP BY item_id) f ON f.item_id = i.id
           LEFT JOIN (SELECT item_id, sum(count)::bigint AS conversions, sum(value)::bigint AS value
                 FROM conversion_day WHERE account_id = $1 AND counts AND day BETWEEN $2 AND $3
                   AND ($4::date IS NULL OR day + greatest(age_days, 0) <= $4) GROUP BY item_id) v ON v.item_id = i.id
           WHERE i.account_id = $1
           ORDER BY f.spend DESC, i.id"#,
        account.0,
        window.from(),
        window.to(),
        as_of
    )
    .fetch_all(db)
    .await?)
}

/// The items of a campaign with anything counted in a window, by spend, with the conversions that had come in by a
/// day, if one is given. They are few among many: each is looked up by its key.
pub async fn items_of(
    db: &PgPool,
    account: AccountId,
    campaign: CampaignId,
    window: Window,
    as_of: Option<NaiveDate>,
) -> Result<Vec<ItemTally>, StoreError> {
    Ok(sqlx::query_as!(
        ItemTally,
        r#"SELECT i.id AS "item: ItemId", i.name, i.kind, i.match_type, g.id AS "ad_group: AdGroupId",
                  g.name AS ad_group_name, g.campaign_id AS "campaign: CampaignId",
                  ARRAY[f.impressions, f.clicks, f.spend, coalesce(v.conversions, 0), coalesce(v.value, 0)] AS "tally!: Tally"
           FROM ad_group g JOIN item i ON i.account_id = $1 AND i.ad_group_id = g.id
           JOIN LATERAL (SELECT sum(impressions)::bigint AS impressions, sum(clicks)::bigint AS clicks, sum(spend)::bigint AS spend
                 FROM item_day d WHERE d.account_id = $1 AND d.item_id = i.id AND d.day BETWEEN $3 AND $4) f ON f.spend IS NOT NULL
           LEFT JOIN LATERAL (SELECT sum(count)::bigint AS conversions, sum(value)::bigint AS value
                 FROM conversion_day d WHERE d.account_id = $1 AND d.counts AND d.item_id = i.id AND d.day BETWEEN $3 AND $4
                   AND ($5::date IS NULL OR d.day + greatest(d.age_days, 0) <= $5)) v ON true
           WHERE g.account_id = $1 AND g.campaign_id = $2
           ORDER BY f.spend DESC, i.id"#,
        account.0,
        campaign.0,
        window.from(),
        window.to(),
        as_of
    )
    .fetch_all(db)
    .await?)
}

/// One item's day with the bid that stood; conversions are not counted here.
#[derive(Clone, Debug)]
pub struct BidDay {
    /// The item.
    pub item: ItemId,
    /// Its name.
    pub name: String,
    /// The day.
    pub day: NaiveDate,
    /// The bid, if reports tell.
    pub bid: Option<Micros>,
    /// What was counted.
    pub tally: Tally,
}

/// A campaign's items day by day with their bids, in order of item and day.
pub async fn bid_days(
    db: &PgPool,
    account: AccountId,
    campaign: CampaignId,
    window: Window,
) -> Result<Vec<BidDay>, StoreError> {
    Ok(sqlx::query_as!(
        BidDay,
        r#"SELECT i.id AS "item: ItemId", i.name, d.day, d.bid AS "bid: Micros", ARRAY[d.impressions, d.clicks, d.spend, 0, 0] AS "tally!: Tally"
           FROM ad_group g JOIN item i ON i.account_id = $1 AND i.ad_group_id = g.id
           JOIN item_day d ON d.account_id = $1 AND d.item_id = i.id AND d.day BETWEEN $3 AND $4
           WHERE g.account_id = $1 AND g.campaign_id = $2 ORDER BY i.id, d.day"#,
        account.0,
        campaign.0,
        window.from(),
        window.to()
    )
    .fetch_all(db)
    .await?)
}

/// The days of an ad group or an item in a window.
pub async fn days_of(
    db: &PgPool,
    account: AccountId,
    subject: Subject,
    window: Window,
) -> Result<Vec<(NaiveDate, Tally)>, StoreError> {
    let (campaign, ad_group, item) = match subject {
        Subject::Campaign(id) => (Some(id.0), None, None),
        Subject::AdGroup(id) => (None, Some(id.0), None),
        Subject::Item(id) => (None, None, Some(id.0)),
    };
    let rows = sqlx::query!(
        r#"WITH mine AS (SELECT id FROM item WHERE account_id = $1 AND (ad_group_id = $2 OR id = $3
                              OR ad_group_id IN (SELECT id FROM ad_group WHERE account_id = $1 AND campaign_id = $6))),
                f AS (SELECT day, sum(impressions)::bigint AS impressions, sum(clicks)::bigint AS clicks, sum(spend)::bigint AS spend
                      FROM item_day WHERE account_id = $1 AND day BETWEEN $4 AND $5 AND item_id IN (SELECT id FROM mine) GROUP BY day),
                v AS (SELECT day, sum(count)::bigint AS conversions, sum(value)::bigint AS value
                      FROM conversion_day WHERE account_id = $1 AND counts AND day BETWEEN $4 AND $5 AND item_id IN (SELECT id FROM mine) GROUP BY day)
           SELECT f.day AS "day!", ARRAY[f.impressions, f.clicks, f.spend, coalesce(v.conversions, 0), coalesce(v.value, 0)] AS "tally!: Tally"
           FROM f LEFT JOIN v USING (day) ORDER BY f.day"#,
        account.0,
        ad_group,
        item,
        window.from(),
        window.to(),
        campaign
    )
    .fetch_all(db)
    .await?;
    Ok(rows.into_iter().map(|r| (r.day, r.tally)).collect())
}

/// What a campaign has a day.
#[derive(Clone, Copy, Debug, Default)]
pub struct Present {
    /// Money.
    pub spend: Micros,
    /// Results.
    pub conversions: f64,
}

/// What each campaign has a day, over so many last reported days of the account.
pub async fn present(
    db: &PgPool,
    account: AccountId,
    days: i32,
) -> Result<HashMap<CampaignId, Present>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT campaign_id AS "campaign: CampaignId", (sum(spend) / $2::int)::bigint AS "spend!",
                  (sum(conversions) / $2::int)::bigint AS "conversions!"
           FROM campaign_day WHERE account_id = $1 AND day > (SELECT max(day) FROM campaign_day WHERE account_id = $1) - $2::int
           GROUP BY 1"#,
        account.0,
        days
    )
    .fetch_all(db)
    .await?;
    let present = |spend, conversions| Present {
        spend: Micros::new(spend),
        conversions: Micros::new(conversions).to_units(),
    };
    Ok(rows.into_iter().map(|r| (r.campaign, present(r.spend, r.conversions))).collect())
}
