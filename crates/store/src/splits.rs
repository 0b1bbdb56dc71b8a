//! What the reports beside the one by items tell: conversions by event and age, people by segments, search
//! terms. They are staged as they come in, and taken in with the report by items, in its transaction.

use chrono::NaiveDate;
use sqlx::{PgConnection, PgPool};
use tiller_core::{Micros, Tally, Window};

use crate::StoreError;
use crate::counts::tally;
use tiller_core::ids::{AccountId, AdGroupId, CampaignId, ConnectionId, ImportId, TermId};

/// Conversions of an item's click day, by event and age.
#[derive(Clone, Debug)]
pub struct StagedConversion {
    /// Campaign, ad group, kind, item and match type, by name.
    pub place: [String; 5],
    /// Day of the click.
    pub day: NaiveDate,
    /// The event.
    pub event: String,
    /// Days between click and report.
    pub age_days: i16,
    /// How many, in millionths.
    pub count: Micros,
    /// Their value.
    pub value: Micros,
    /// Whether the channel counts it.
    pub counted: bool,
}

/// Counts of a split.
#[derive(Clone, Copy, Debug)]
pub struct Counts {
    /// Times shown.
    pub impressions: i64,
    /// Times clicked.
    pub clicks: i64,
    /// Money paid.
    pub spend: Micros,
    /// Results, in millionths.
    pub conversions: Micros,
    /// Their value.
    pub value: Micros,
}

/// An ad group's day, of some people.
#[derive(Clone, Debug)]
pub struct StagedSegment {
    /// Campaign and ad group, by name.
    pub place: [String; 2],
    /// The day.
    pub day: NaiveDate,
    /// What tells the people apart.
    pub dimension: &'static str,
    /// Which of them.
    pub segment: String,
    /// What was counted.
    pub counts: Counts,
}

/// A keyword's day, of one search term.
#[derive(Clone, Debug)]
pub struct StagedTerm {
    /// Campaign, ad group, keyword and match type, by name.
    pub place: [String; 4],
    /// The day.
    pub day: NaiveDate,
    /// What was searched for.
    pub term: String,
    /// What was counted.
    pub counts: Counts,
}

/// Throws away what an earlier try has staged.
pub async fn clear(
    db: &PgPool,
    account: AccountId,
    connection: ConnectionId,
) -> Result<(), StoreError> {
    let mut tx = crate::begin(db).await?;
    clear_in(&mut tx, account, connection).await?;
    Ok(tx.commit().await?)
}

async fn clear_in(
    tx: &mut PgConnection,
    account: AccountId,
    connection: ConnectionId,
) -> Result<(), StoreError> {
    for sql in [
        "DELETE FROM fetched_conversion WHERE account_id = $1 AND connection_id = $2",
        "DELETE FROM fetched_segment WHERE account_id = $1 AND connection_id = $2",
        "DELETE FROM fetched_term WHERE account_id = $1 AND connection_id = $2",
    ] {
        sqlx::query(sql).bind(account.0).bind(connection.0).execute(&mut *tx).await?;
    }
    Ok(())
}

/// A column of rows.
fn column<R, T>(rows: &[R], of: impl Fn(&R) -> T) -> Vec<T> {
    rows.iter().map(of).collect()
}

/// Writes down how many rows an attempt has staged, of conversions, segments and terms, and tells the planner.
pub async fn staged(
    db: &PgPool,
    account: AccountId,
    import: ImportId,
    rows: [i64; 3],
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE report_import SET staged_conversions = $3, staged_segments = $4, staged_terms = $5 WHERE account_id = $1 AND id = $2",
        account.0,
        import.0,
        rows[0],
        rows[1],
        rows[2]
    )
    .execute(db)
    .await?;
    sqlx::raw_sql("ANALYZE fetched_conversion; ANALYZE fetched_segment; ANALYZE fetched_term")
        .execute(db)
        .await?;
    Ok(())
}

/// Stages conversions.
pub async fn stage_conversions(
    db: &PgPool,
    account: AccountId,
    connection: ConnectionId,
    import: ImportId,
    rows: &[StagedConversion],
) -> Result<(), StoreError> {
    let place = |i: usize| column(rows, |r| r.place[i].clone());
    sqlx::query!(
        "INSERT INTO fetched_conversion (account_id, connection_id, import_id, campaign, ad_group, kind, item, match_type, day, event, age_days, count, value, counted)
         SELECT $1, $2, $14, * FROM unnest($3::text[], $4::text[], $5::text[], $6::text[], $7::text[], $8::date[], $9::text[], $10::smallint[], $11::bigint[],
                                     $12::bigint[], $13::boolean[])",
        account.0,
        connection.0,
        &place(0),
        &place(1),
        &place(2),
        &place(3),
        &place(4),
        &column(rows, |r| r.day),
        &column(rows, |r| r.event.clone()),
        &column(rows, |r| r.age_days),
        &column(rows, |r| r.count.get()),
        &column(rows, |r| r.value.get()),
        &column(rows, |r| r.counted),
        import.0
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Stages segments.
pub async fn stage_segments(
    db: &PgPool,
    account: AccountId,
    connection: ConnectionId,
    import: ImportId,
    rows: &[StagedSegment],
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO fetched_segment (account_id, connection_id, import_id, campaign, ad_group, day, dimension, segment, impressions, clicks, spend, conversions, value)
         SELECT $1, $2, $13, * FROM unnest($3::text[], $4::text[], $5::date[], $6::text[], $7::text[], $8::bigint[], $9::bigint[], $10::bigint[], $11::bigint[],
                                     $12::bigint[])",
        account.0,
        connection.0,
        &column(rows, |r| r.place[0].clone()),
        &column(rows, |r| r.place[1].clone()),
        &column(rows, |r| r.day),
        &column(rows, |r| r.dimension.to_owned()),
        &column(rows, |r| r.segment.clone()),
        &column(rows, |r| r.counts.impressions),
        &column(rows, |r| r.counts.clicks),
        &column(rows, |r| r.counts.spend.get()),
        &column(rows, |r| r.counts.conversions.get()),
        &column(rows, |r| r.counts.value.get()),
        import.0
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Stages search terms.
pub async fn stage_terms(
    db: &PgPool,
    account: AccountId,
    connection: ConnectionId,
    import: ImportId,
    rows: &[StagedTerm],
) -> Result<(), StoreError> {
    let place = |i: usize| column(rows, |r| r.place[i].clone());
    sqlx::query!(
        "INSERT INTO fetched_term (account_id, connection_id, import_id, campaign, ad_group, item, match_type, day, term, impressions, clicks, spend, conversions, value)
         SELECT $1, $2, $14, * FROM unnest($3::text[], $4::text[], $5::text[], $6::text[], $7::date[], $8::text[], $9::bigint[], $10::bigint[], $11::bigint[],
                                     $12::bigint[], $13::bigint[])",
        account.0,
        connection.0,
        &place(0),
        &place(1),
        &place(2),
        &place(3),
        &column(rows, |r| r.day),
        &column(rows, |r| r.term.clone()),
        &column(rows, |r| r.counts.impressions),
        &column(rows, |r| r.counts.clicks),
        &column(rows, |r| r.counts.spend.get()),
        &column(rows, |r| r.counts.conversions.get()),
        &column(rows, |r| r.counts.value.get()),
        import.0
    )
    .execute(db)
    .await?;
    Ok(())
}

/// Takes in what has been staged: the days that it tells of are replaced. Within the transaction of the
/// report by items, after its items have been named, its facts inserted without conversions, and before its
/// `touched` campaign-days are rolled up: their conversions are added up here.
pub(crate) async fn take_in(
    tx: &mut PgConnection,
    account: AccountId,
    connection: ConnectionId,
    import: ImportId,
) -> Result<(), StoreError> {
    whole(tx, account, import).await?;
    for sql in TAKE_IN {
        // Whole numbers of ours, written into the text: a statement that makes a table takes no parameters.
        let sql = sql
            .replace("$1", &format!("{}::bigint", account.0))
            .replace("$2", &format!("{}::bigint", connection.0))
            .replace("$3", &format!("{}::bigint", import.0));
        sqlx::raw_sql(sqlx::AssertSqlSafe(sql)).execute(&mut *tx).await?;
    }
    clear_in(tx, account, connection).await
}

/// Refuses what is less than was staged: a crash may have taken some of it, and the days would lose it in silence.
async fn whole(
    tx: &mut PgConnection,
    account: AccountId,
    import: ImportId,
) -> Result<(), StoreError> {
    let r = sqlx::query!(
        r#"SELECT coalesce(staged_conversions, -1) AS "conversions!", coalesce(staged_segments, -1) AS "segments!", coalesce(staged_terms, -1) AS "terms!",
                  (SELECT count(*) FROM fetched_conversion f WHERE f.account_id = $1 AND f.import_id = $2) AS "found_conversions!",
                  (SELECT count(*) FROM fetched_segment f WHERE f.account_id = $1 AND f.import_id = $2) AS "found_segments!",
                  (SELECT count(*) FROM fetched_term f WHERE f.account_id = $1 AND f.import_id = $2) AS "found_terms!"
           FROM report_import WHERE account_id = $1 AND id = $2"#,
        account.0,
        import.0
    )
    .fetch_optional(&mut *tx)
    .await?
    .ok_or(StoreError::Lost)?;
    for (what, staged, found) in [
        ("conversions", r.conversions, r.found_conversions),
        ("segments", r.segments, r.found_segments),
        ("search terms", r.terms, r.found_terms),
    ] {
        if staged != found {
            return Err(StoreError::Short { what, staged, found });
        }
    }
    Ok(())
}

/// $1 the account, $2 the connection, $3 the import. Names are looked up in temporary tables of the channel's
/// own, whose sizes the planner is told: the standing tables may have grown a thousandfold a moment ago.
const TAKE_IN: &[&str] = &[
    "CREATE TEMP TABLE group_named ON COMMIT DROP AS
     SELECT g.id, c.id AS campaign_id, c.name AS campaign, g.name AS ad_group, c.counted_events AS own, a.counted_events AS usual, a.click_window
     FROM connection k JOIN campaign c ON c.account_id = $1 AND c.channel_id = k.channel_id JOIN ad_group g ON g.account_id = $1 AND g.campaign_id = c.id
     JOIN account a ON a.id = $1 WHERE k.account_id = $1 AND k.id = $2;
     CREATE TEMP TABLE item_named ON COMMIT DROP AS
     SELECT i.id, g.id AS ad_group_id, i.kind, i.name, i.match_type FROM group_named g JOIN item i ON i.account_id = $1 AND i.ad_group_id = g.id;
     ANALYZE group_named; ANALYZE item_named",
    "CREATE TEMP TABLE converted ON COMMIT DROP AS
     SELECT i.id AS item_id, g.campaign_id, f.day, f.age_days, f.event, sum(f.count) AS count, sum(f.value) AS value, bool_or(f.counted) AS channel_counts,
            bool_or(is_counted(f.event, f.age_days, f.counted, g.own, g.usual, g.click_window)) AS counts,
            bool_or(f.age_days <= coalesce(g.click_window, 32767)) AS in_window
     FROM fetched_conversion f JOIN group_named g ON g.campaign = f.campaign AND g.ad_group = f.ad_group
     JOIN item_named i ON i.ad_group_id = g.id AND i.kind = f.kind AND i.name = f.item AND i.match_type = f.match_type
     WHERE f.account_id = $1 AND f.connection_id = $2 AND f.import_id = $3 GROUP BY i.id, g.campaign_id, f.day, f.age_days, f.event;
     ANALYZE converted",
    "INSERT INTO conversion_day (account_id, item_id, day, age_days, event, import_id, count, value, channel_counts, counts)
     SELECT $1, item_id, day, age_days, event, $3, count, value, channel_counts, counts FROM converted ORDER BY item_id, day",
    "UPDATE touched t SET conversions = coalesce(s.count, 0), value = coalesce(s.value, 0)
     FROM touched o LEFT JOIN (SELECT campaign_id, day, sum(count) AS count, sum(value) AS value FROM converted WHERE counts GROUP BY 1, 2) s
         USING (campaign_id, day)
     WHERE o.campaign_id = t.campaign_id AND o.day = t.day",
    "INSERT INTO campaign_event_day (account_id, campaign_id, day, event, count, value, channel_counts, counts)
     SELECT $1, campaign_id, day, event, sum(count), sum(value), bool_or(channel_counts), bool_or(counts)
     FROM converted WHERE in_window AND event <> '' GROUP BY campaign_id, day, event",
    "SELECT ensure_month(m) FROM (SELECT DISTINCT date_trunc('month', day)::date AS m FROM fetched_segment WHERE account_id = $1 AND connection_id = $2 AND import_id = $3
         UNION SELECT DISTINCT date_trunc('month', day)::date FROM fetched_term WHERE account_id = $1 AND connection_id = $2 AND import_id = $3) t",
    "DELETE FROM segment_day s USING group_named g WHERE s.account_id = $1 AND s.ad_group_id = g.id
       AND s.day >= (SELECT min(day) FROM fetched_segment WHERE account_id = $1 AND connection_id = $2 AND import_id = $3)",
    "INSERT INTO segment_day (account_id, ad_group_id, day, dimension, segment, impressions, clicks, spend, conversions, value)
     SELECT $1, g.id, f.day, f.dimension, f.segment, sum(f.impressions), sum(f.clicks), sum(f.spend), sum(f.conversions), sum(f.value)
     FROM fetched_segment f JOIN group_named g ON g.campaign = f.campaign AND g.ad_group = f.ad_group
     WHERE f.account_id = $1 AND f.connection_id = $2 AND f.import_id = $3 GROUP BY g.id, f.day, f.dimension, f.segment",
    "DELETE FROM channel_segment_day s USING connection k WHERE k.account_id = $1 AND k.id = $2 AND s.account_id = $1 AND s.channel_id = k.channel_id
       AND s.day >= (SELECT min(day) FROM fetched_segment WHERE account_id = $1 AND connection_id = $2 AND import_id = $3);
     INSERT INTO channel_segment_day (account_id, channel_id, dimension, segment, day, impressions, clicks, spend, conversions, value)
     SELECT $1, k.channel_id, f.dimension, f.segment, f.day, sum(f.impressions), sum(f.clicks), sum(f.spend), sum(f.conversions), sum(f.value)
     FROM fetched_segment f JOIN connection k ON k.account_id = $1 AND k.id = $2
     WHERE f.account_id = $1 AND f.connection_id = $2 AND f.import_id = $3 AND EXISTS (SELECT 1 FROM group_named g WHERE g.campaign = f.campaign AND g.ad_group = f.ad_group)
     GROUP BY k.channel_id, f.dimension, f.segment, f.day",
    "INSERT INTO term (account_id, text) SELECT DISTINCT $1, term FROM fetched_term WHERE account_id = $1 AND connection_id = $2 AND import_id = $3 ON CONFLICT DO NOTHING;
     CREATE TEMP TABLE term_named ON COMMIT DROP AS SELECT id, text FROM term WHERE account_id = $1;
     ANALYZE term_named",
    "DELETE FROM term_day t USING item_named i WHERE t.account_id = $1 AND t.item_id = i.id
       AND t.day >= (SELECT min(day) FROM fetched_term WHERE account_id = $1 AND connection_id = $2 AND import_id = $3)",
    "INSERT INTO term_day (account_id, item_id, term_id, day, impressions, clicks, spend, conversions, value)
     SELECT $1, i.id, t.id, f.day, sum(f.impressions), sum(f.clicks), sum(f.spend), sum(f.conversions), sum(f.value)
     FROM fetched_term f JOIN group_named g ON g.campaign = f.campaign AND g.ad_group = f.ad_group
     JOIN item_named i ON i.ad_group_id = g.id AND i.kind = 'keyword' AND i.name = f.item AND i.match_type = f.match_type
     JOIN term_named t ON t.text = f.term
     WHERE f.account_id = $1 AND f.connection_id = $2 AND f.import_id = $3 GROUP BY i.id, t.id, f.day",
];

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

struct SegmentRow {
    campaign: CampaignId,
    dimension: String,
    segment: String,
    impressions: i64,
    clicks: i64,
    spend: i64,
    conversions: i64,
    value: i64,
}

impl From<SegmentRow> for SegmentTally {
    fn from(r: SegmentRow) -> Self {
        Self {
            campaign: r.campaign,
            dimension: r.dimension,
            segment: r.segment,
            tally: tally(r.impressions, r.clicks, r.spend, r.conversions, r.value),
        }
    }
}

/// All segments of a campaign, by dimension and name.
pub async fn segments_of(
    db: &PgPool,
    account: AccountId,
    campaign: CampaignId,
    window: Window,
) -> Result<Vec<SegmentTally>, StoreError> {
    let rows = sqlx::query_as!(
        SegmentRow,
        r#"SELECT g.campaign_id AS "campaign: CampaignId", s.dimension, s.segment, sum(s.impressions)::bigint AS "impressions!", sum(s.clicks)::bigint AS "clicks!",
                  sum(s.spend)::bigint AS "spend!", sum(s.conversions)::bigint AS "conversions!", sum(s.value)::bigint AS "value!"
           FROM ad_group g JOIN LATERAL (SELECT * FROM segment_day d WHERE d.account_id = $1 AND d.ad_group_id = g.id AND d.day BETWEEN $3 AND $4) s ON true
           WHERE g.account_id = $1 AND g.campaign_id = $2 GROUP BY 1, 2, 3 ORDER BY 2, 3"#,
        account.0,
        campaign.0,
        window.from(),
        window.to()
    )
    .fetch_all(db)
    .await?;
    Ok(rows.into_iter().map(SegmentTally::from).collect())
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
    let rows = sqlx::query_as!(
        SegmentRow,
        r#"SELECT g.campaign_id AS "campaign: CampaignId", s.dimension, s.segment, sum(s.impressions)::bigint AS "impressions!", sum(s.clicks)::bigint AS "clicks!",
                  sum(s.spend)::bigint AS "spend!", sum(s.conversions)::bigint AS "conversions!", sum(s.value)::bigint AS "value!"
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
    .await?;
    Ok(rows.into_iter().map(SegmentTally::from).collect())
}

/// The whole account by the segments of a dimension, in the order of their names.
pub async fn segments(
    db: &PgPool,
    account: AccountId,
    dimension: &str,
    window: Window,
) -> Result<Vec<(String, Tally)>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT segment, sum(impressions)::bigint AS "impressions!", sum(clicks)::bigint AS "clicks!", sum(spend)::bigint AS "spend!",
                  sum(conversions)::bigint AS "conversions!", sum(value)::bigint AS "value!"
           FROM channel_segment_day WHERE account_id = $1 AND dimension = $2 AND day BETWEEN $3 AND $4 GROUP BY segment ORDER BY segment"#,
        account.0,
        dimension,
        window.from(),
        window.to()
    )
    .fetch_all(db)
    .await?;
    Ok(rows
        .into_iter()
        .map(|r| (r.segment, tally(r.impressions, r.clicks, r.spend, r.conversions, r.value)))
        .collect())
}

struct HourRow {
    weekday: i32,
    hour: i32,
    impressions: i64,
    clicks: i64,
    spend: i64,
    conversions: i64,
    value: i64,
}

/// Hours of the week with what was counted, of a campaign or of the whole account: weekday from 0 for Monday,
/// hour from 0.
pub async fn week(
    db: &PgPool,
    account: AccountId,
    campaign: Option<CampaignId>,
    window: Window,
) -> Result<Vec<((u8, u8), Tally)>, StoreError> {
    let rows = match campaign {
        Some(id) => {
            sqlx::query_as!(
                HourRow,
                r#"SELECT extract(isodow FROM s.day)::int AS "weekday!", s.segment::int AS "hour!", sum(s.impressions)::bigint AS "impressions!",
                          sum(s.clicks)::bigint AS "clicks!", sum(s.spend)::bigint AS "spend!", sum(s.conversions)::bigint AS "conversions!", sum(s.value)::bigint AS "value!"
                   FROM ad_group g JOIN LATERAL (SELECT * FROM segment_day d WHERE d.account_id = $1 AND d.ad_group_id = g.id AND d.dimension = 'hour'
                        AND d.day BETWEEN $3 AND $4) s ON true
                   WHERE g.account_id = $1 AND g.campaign_id = $2 GROUP BY 1, 2 ORDER BY 1, 2"#,
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
                r#"SELECT extract(isodow FROM day)::int AS "weekday!", segment::int AS "hour!", sum(impressions)::bigint AS "impressions!",
                          sum(clicks)::bigint AS "clicks!", sum(spend)::bigint AS "spend!", sum(conversions)::bigint AS "conversions!", sum(value)::bigint AS "value!"
                   FROM channel_segment_day WHERE account_id = $1 AND dimension = 'hour' AND day BETWEEN $2 AND $3 GROUP BY 1, 2 ORDER BY 1, 2"#,
                account.0,
                window.from(),
                window.to()
            )
            .fetch_all(db)
            .await?
        }
    };
    let small = |n: i32| u8::try_from(n).unwrap_or(0);
    Ok(rows
        .into_iter()
        .map(|r| {
            let hour = (small(r.weekday).saturating_sub(1).min(6), small(r.hour).min(23));
            (hour, tally(r.impressions, r.clicks, r.spend, r.conversions, r.value))
        })
        .collect())
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

/// A search term of an ad group over a window.
#[derive(Clone, Debug)]
pub struct TermTally {
    /// The term.
    pub term: TermId,
    /// What was searched for.
    pub text: String,
    /// Whether somebody has been through it before the last reports came.
    pub seen: bool,
    /// The campaign.
    pub campaign: CampaignId,
    /// The ad group.
    pub ad_group: AdGroupId,
    /// Its name.
    pub ad_group_name: String,
    /// The keyword that brought most of it.
    pub keyword: String,
    /// Whether it is a keyword of the ad group already, however it matches.
    pub known: bool,
    /// What was counted.
    pub tally: Tally,
}

struct TermRow {
    term: TermId,
    text: String,
    seen: bool,
    campaign: CampaignId,
    ad_group: AdGroupId,
    ad_group_name: String,
    keyword: String,
    known: bool,
    impressions: i64,
    clicks: i64,
    spend: i64,
    conversions: i64,
    value: i64,
}

impl From<TermRow> for TermTally {
    fn from(r: TermRow) -> Self {
        Self {
            term: r.term,
            text: r.text,
            seen: r.seen,
            campaign: r.campaign,
            ad_group: r.ad_group,
            ad_group_name: r.ad_group_name,
            keyword: r.keyword,
            known: r.known,
            tally: tally(r.impressions, r.clicks, r.spend, r.conversions, r.value),
        }
    }
}

/// A campaign's search terms by ad group, the dearest first.
pub async fn terms_of(
    db: &PgPool,
    account: AccountId,
    campaign: CampaignId,
    window: Window,
) -> Result<Vec<TermTally>, StoreError> {
    let rows = sqlx::query_as!(
        TermRow,
        r#"SELECT d.term_id AS "term: TermId", t.text, t.seen_at IS NOT NULL AS "seen!", g.campaign_id AS "campaign: CampaignId", g.id AS "ad_group: AdGroupId",
                  g.name AS ad_group_name, (array_agg(i.name ORDER BY d.spend DESC))[1] AS "keyword!",
                  EXISTS (SELECT 1 FROM item x WHERE x.account_id = $1 AND x.ad_group_id = g.id AND x.kind = 'keyword'
                          AND lower(x.name) = lower(t.text)) AS "known!",
                  sum(d.impressions)::bigint AS "impressions!", sum(d.clicks)::bigint AS "clicks!", sum(d.spend)::bigint AS "spend!",
                  sum(d.conversions)::bigint AS "conversions!", sum(d.value)::bigint AS "value!"
           FROM ad_group g JOIN item i ON i.account_id = $1 AND i.ad_group_id = g.id
           JOIN LATERAL (SELECT term_id, sum(impressions) AS impressions, sum(clicks) AS clicks, sum(spend) AS spend, sum(conversions) AS conversions,
                        sum(value) AS value FROM term_day f WHERE f.account_id = $1 AND f.item_id = i.id AND f.day BETWEEN $3 AND $4 GROUP BY 1) d ON true
           JOIN term t ON t.account_id = $1 AND t.id = d.term_id
           WHERE g.account_id = $1 AND g.campaign_id = $2
           GROUP BY d.term_id, t.text, t.seen_at, g.campaign_id, g.id, g.name ORDER BY sum(d.spend) DESC, t.text"#,
        account.0,
        campaign.0,
        window.from(),
        window.to()
    )
    .fetch_all(db)
    .await?;
    Ok(rows.into_iter().map(TermTally::from).collect())
}

/// An account's search terms, the dearest first: text, campaign, and what was counted.
pub async fn terms(
    db: &PgPool,
    account: AccountId,
    window: Window,
) -> Result<Vec<(String, CampaignId, Tally)>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT t.text, g.campaign_id AS "campaign: CampaignId", sum(d.impressions)::bigint AS "impressions!", sum(d.clicks)::bigint AS "clicks!",
                  sum(d.spend)::bigint AS "spend!", sum(d.conversions)::bigint AS "conversions!", sum(d.value)::bigint AS "value!"
           FROM (SELECT item_id, term_id, sum(impressions) AS impressions, sum(clicks) AS clicks, sum(spend) AS spend, sum(conversions) AS conversions,
                        sum(value) AS value FROM term_day WHERE account_id = $1 AND day BETWEEN $2 AND $3 GROUP BY 1, 2) d
           JOIN term t ON t.account_id = $1 AND t.id = d.term_id
           JOIN item i ON i.account_id = $1 AND i.id = d.item_id JOIN ad_group g ON g.account_id = $1 AND g.id = i.ad_group_id
           GROUP BY t.text, g.campaign_id ORDER BY sum(d.spend) DESC, t.text"#,
        account.0,
        window.from(),
        window.to()
    )
    .fetch_all(db)
    .await?;
    Ok(rows
        .into_iter()
        .map(|r| {
            let tally = tally(r.impressions, r.clicks, r.spend, r.conversions, r.value);
            (r.text, r.campaign, tally)
        })
        .collect())
}

/// Remembers that somebody has been through these terms.
pub async fn terms_seen(
    db: &PgPool,
    account: AccountId,
    terms: &[TermId],
) -> Result<(), StoreError> {
    let ids: Vec<i64> = terms.iter().map(|t| t.0).collect();
    sqlx::query!(
        "UPDATE term SET seen_at = now() WHERE account_id = $1 AND id = ANY($2) AND seen_at IS NULL",
        account.0,
        &ids
    )
    .execute(db)
    .await?;
    Ok(())
}
