//! What rules look at: items with what was counted of them.

use chrono::{Days, NaiveDate};
use sqlx::PgPool;
use tiller_core::history::{Came, Counted, History};
use tiller_core::ids::{AccountId, AdGroupId, CampaignId, ItemId};
use tiller_core::spot::Spot;
use tiller_core::{Micros, Tally, Window};

use crate::StoreError;

/// What was counted of each item over a window, as far as it had been reported by a day; of some campaigns, or of all.
pub async fn counted(
    db: &PgPool,
    account: AccountId,
    campaigns: &[CampaignId],
    window: Window,
    by: NaiveDate,
) -> Result<Vec<(Spot, Tally)>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT g.campaign_id AS "campaign: CampaignId", i.ad_group_id AS "ad_group: AdGroupId", f.item_id AS "item!: ItemId",
                  ARRAY[f.impressions, f.clicks, f.spend, coalesce(v.conversions, 0), coalesce(v.value, 0)] AS "tally!: Tally"
           FROM (SELECT item_id, sum(impressions)::bigint AS impressions, sum(clicks)::bigint AS clicks, sum(spend)::bigint AS spend
                 FROM item_day WHERE account_id = $1 AND day BETWEEN $2 AND $3 GROUP BY item_id) f
           JOIN item i ON i.account_id = $1 AND i.id = f.item_id
           JOIN ad_group g ON g.account_id = $1 AND g.id = i.ad_group_id
           LEFT JOIN (SELECT item_id, sum(count)::bigint AS conversions, sum(value)::bigint AS value
                 FROM conversion_day WHERE account_id = $1 AND counts AND day BETWEEN $2 AND $3 AND day + greatest(age_days, 0) <= $4
                 GROUP BY item_id) v ON v.item_id = f.item_id
           WHERE cardinality($5::bigint[]) = 0 OR g.campaign_id = ANY($5) ORDER BY f.item_id"#,
        account.0,
        window.from(),
        window.to(),
        by,
        &campaigns.iter().map(|c| c.0).collect::<Vec<_>>()
    )
    .fetch_all(db)
    .await?;
    Ok(rows
        .into_iter()
        .map(|r| (Spot::of(r.campaign).ad_group(r.ad_group).item(r.item), r.tally))
        .collect())
}

/// The days of so many items are read in one go.
const ITEMS: i64 = 4000;
/// Those of more are read in as many parts at most, beside each other.
const PARTS: i64 = 4;

/// The days of each item in a window, with the age of each conversion; of some campaigns, or of all.
pub async fn histories(
    db: &PgPool,
    account: AccountId,
    campaigns: &[CampaignId],
    window: Window,
) -> Result<Vec<(Spot, History)>, StoreError> {
    let ids = sqlx::query!(
        r#"SELECT coalesce(min(id), 0) AS "first!", coalesce(max(id), 0) AS "last!" FROM item WHERE account_id = $1"#,
        account.0
    )
    .fetch_one(db)
    .await?;
    let width = ITEMS.max((ids.last - ids.first) / PARTS + 1);
    let part = |first: i64| {
        let campaigns = campaigns.iter().map(|c| c.0).collect();
        tokio::spawn(histories_of(
            db.clone(),
            account,
            campaigns,
            window,
            (first, first + width - 1),
        ))
    };
    let parts: Vec<_> =
        (0..PARTS).map(|n| ids.first + n * width).filter(|n| *n <= ids.last).map(part).collect();
    let mut all = Vec::new();
    for part in parts {
        all.extend(part.await.unwrap_or_else(|e| std::panic::resume_unwind(e.into_panic()))?);
    }
    Ok(all)
}

/// The days of the items between two ids.
async fn histories_of(
    db: PgPool,
    account: AccountId,
    campaigns: Vec<i64>,
    window: Window,
    (first, last): (i64, i64),
) -> Result<Vec<(Spot, History)>, StoreError> {
    // Days are counted from the window's first. Sixty times as many days as items come as bytes, which cost a third less
    // than arrays to make and nothing to read.
    let rows = sqlx::query!(
        r#"WITH mine AS (SELECT i.id, i.ad_group_id, g.campaign_id FROM item i JOIN ad_group g ON g.account_id = $1 AND g.id = i.ad_group_id
                         WHERE i.account_id = $1 AND i.id BETWEEN $5 AND $6 AND (cardinality($4::bigint[]) = 0 OR g.campaign_id = ANY($4)))
           SELECT m.campaign_id AS "campaign: CampaignId", m.ad_group_id AS "ad_group: AdGroupId", m.id AS "item: ItemId",
                  f.days AS "days!", f.impressions AS "impressions!", f.clicks AS "clicks!", f.spend AS "spend!", f.bids AS "bids!",
                  v.days AS came_on, v.ages, v.counts, v.worth
           FROM mine m
           JOIN (SELECT item_id, string_agg(int8send(day - $2), ''::bytea) AS days, string_agg(int8send(impressions), ''::bytea) AS impressions,
                        string_agg(int8send(clicks), ''::bytea) AS clicks, string_agg(int8send(spend), ''::bytea) AS spend,
                        string_agg(int8send(coalesce(bid, 0)), ''::bytea) AS bids
                 FROM item_day WHERE account_id = $1 AND day BETWEEN $2 AND $3 AND item_id BETWEEN $5 AND $6 GROUP BY item_id) f ON f.item_id = m.id
           LEFT JOIN (SELECT item_id, array_agg(day - $2) AS days, array_agg(greatest(age_days, 0)::int) AS ages,
                        array_agg(count) AS counts, array_agg(value) AS worth
                 FROM conversion_day WHERE account_id = $1 AND counts AND day BETWEEN $2 AND $3 AND item_id BETWEEN $5 AND $6 GROUP BY item_id) v ON v.item_id = m.id
           ORDER BY m.id"#,
        account.0,
        window.from(),
        window.to(),
        &campaigns,
        first,
        last
    )
    .fetch_all(&db)
    .await?;
    let on = |n: i64| window.from() + Days::new(u64::try_from(n).unwrap_or(0));
    let mut all = Vec::with_capacity(rows.len());
    for r in rows {
        let (impressions, clicks) = (numbers(&r.impressions), numbers(&r.clicks));
        let each = numbers(&r.days).zip(impressions).zip(clicks);
        let each = each.zip(numbers(&r.spend)).zip(numbers(&r.bids));
        let days = each.map(|((((day, impressions), clicks), spend), bid)| Counted {
            day: on(day),
            impressions,
            clicks,
            spend: Micros::new(spend),
            bid: (bid > 0).then(|| Micros::new(bid)),
        });
        let (came_on, ages) = (r.came_on.unwrap_or_default(), r.ages.unwrap_or_default());
        let (counts, worth) = (r.counts.unwrap_or_default(), r.worth.unwrap_or_default());
        let each = came_on.iter().zip(&ages).zip(&counts).zip(&worth);
        let came = each.map(|(((day, age), count), value)| Came {
            day: on((*day).into()),
            age: u16::try_from(*age).unwrap_or(u16::MAX),
            conversions: Micros::new(*count).to_units(),
            value: Micros::new(*value),
        });
        let spot = Spot::of(r.campaign).ad_group(r.ad_group).item(r.item);
        all.push((spot, History::new(days.collect(), came.collect())));
    }
    Ok(all)
}

/// What `int8send` wrote, one after the other.
fn numbers(bytes: &[u8]) -> impl Iterator<Item = i64> {
    bytes.as_chunks().0.iter().map(|n| i64::from_be_bytes(*n))
}

/// Names of ad groups and items.
#[derive(Clone, Debug)]
pub struct Named {
    /// Where it is.
    pub spot: Spot,
    /// The ad group's name.
    pub ad_group: String,
    /// The item's; none for an ad group as a whole.
    pub item: Option<String>,
}

/// The names of all ad groups and items of some campaigns, or of all.
pub async fn names(
    db: &PgPool,
    account: AccountId,
    campaigns: &[CampaignId],
) -> Result<Vec<Named>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT g.campaign_id AS "campaign: CampaignId", g.id AS "ad_group: AdGroupId", g.name AS ad_group_name, i.id AS "item?: ItemId", i.name AS "item_name?"
           FROM ad_group g LEFT JOIN item i ON i.account_id = $1 AND i.ad_group_id = g.id
           WHERE g.account_id = $1 AND (cardinality($2::bigint[]) = 0 OR g.campaign_id = ANY($2))
           ORDER BY g.campaign_id, g.name, g.id, i.name, i.id"#,
        account.0,
        &campaigns.iter().map(|c| c.0).collect::<Vec<_>>()
    )
    .fetch_all(db)
    .await?;
    Ok(rows
        .into_iter()
        .map(|r| Named {
            spot: Spot { campaign: r.campaign, ad_group: Some(r.ad_group), item: r.item },
            ad_group: r.ad_group_name,
            item: r.item_name,
        })
        .collect())
}

/// A search term of an ad group, and what was counted of it on a day.
type TermDay = (Spot, String, NaiveDate, Tally);

/// The days of each search term of an ad group in a window; no report tells when its conversions were reported.
pub async fn term_histories(
    db: &PgPool,
    account: AccountId,
    campaigns: &[CampaignId],
    window: Window,
) -> Result<Vec<(Spot, String, History)>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT g.campaign_id AS "campaign: CampaignId", g.id AS "ad_group: AdGroupId", t.text, d.day,
                  ARRAY[sum(d.impressions), sum(d.clicks), sum(d.spend), sum(d.conversions), sum(d.value)]::bigint[] AS "tally!: Tally"
           FROM term_day d JOIN term t ON t.account_id = $1 AND t.id = d.term_id
           JOIN item i ON i.account_id = $1 AND i.id = d.item_id JOIN ad_group g ON g.account_id = $1 AND g.id = i.ad_group_id
           WHERE d.account_id = $1 AND d.day BETWEEN $2 AND $3 AND (cardinality($4::bigint[]) = 0 OR g.campaign_id = ANY($4))
           GROUP BY g.campaign_id, g.id, t.text, d.day ORDER BY g.campaign_id, g.id, t.text, d.day"#,
        account.0,
        window.from(),
        window.to(),
        &campaigns.iter().map(|c| c.0).collect::<Vec<_>>()
    )
    .fetch_all(db)
    .await?;
    let rows: Vec<TermDay> = rows
        .into_iter()
        .map(|r| (Spot::of(r.campaign).ad_group(r.ad_group), r.text, r.day, r.tally))
        .collect();
    let of = |rows: &[TermDay]| {
        let days = rows.iter().map(|(_, _, day, t)| Counted {
            day: *day,
            impressions: t.impressions,
            clicks: t.clicks,
            spend: t.spend,
            bid: None,
        });
        let came = rows.iter().map(|(_, _, day, t)| Came {
            day: *day,
            age: 0,
            conversions: t.conversions,
            value: t.value,
        });
        (rows[0].0, rows[0].1.clone(), History::new(days.collect(), came.collect()))
    };
    Ok(rows.chunk_by(|a, b| (a.0, &a.1) == (b.0, &b.1)).map(of).collect())
}
