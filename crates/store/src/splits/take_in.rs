//! What was staged is taken in with the report by items, in its transaction.

use sqlx::PgConnection;
use tiller_core::ids::{AccountId, ConnectionId, ImportId};

use super::stage::clear_in;
use crate::StoreError;
use crate::staging::run;

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
    let (a, c, i) = (account.0, connection.0, import.0);
    // Names are looked up in temporary tables of the channel's own, whose sizes the planner is told: the standing
    // tables may have grown a thousandfold a moment ago.
    run(tx, &[
        ("CREATE TEMP TABLE group_named (id bigint, campaign_id bigint, campaign text, ad_group text, own text[], usual text[], click_window smallint) ON COMMIT DROP", &[]),
        ("INSERT INTO group_named
           SELECT g.id, c.id AS campaign_id, c.name AS campaign, g.name AS ad_group, c.counted_events AS own, a.counted_events AS usual, a.click_window
           FROM connection k JOIN campaign c ON c.account_id = $1 AND c.channel_id = k.channel_id JOIN ad_group g ON g.account_id = $1 AND g.campaign_id = c.id
           JOIN account a ON a.id = $1 WHERE k.account_id = $1 AND k.id = $2", &[a, c]),
        ("CREATE TEMP TABLE item_named (id bigint, ad_group_id bigint, kind text, name text, match_type text) ON COMMIT DROP", &[]),
        ("INSERT INTO item_named
           SELECT i.id, g.id AS ad_group_id, i.kind, i.name, i.match_type FROM group_named g JOIN item i ON i.account_id = $1 AND i.ad_group_id = g.id", &[a]),
        ("ANALYZE group_named", &[]),
        ("ANALYZE item_named", &[]),
        ("CREATE TEMP TABLE converted (item_id bigint, campaign_id bigint, day date, age_days smallint, event text, count bigint, value bigint, channel_counts boolean, counts boolean, in_window boolean) ON COMMIT DROP", &[]),
        ("INSERT INTO converted
           SELECT i.id AS item_id, g.campaign_id, f.day, f.age_days, f.event, sum(f.count) AS count, sum(f.value) AS value, bool_or(f.counted) AS channel_counts,
                  bool_or(is_counted(f.event, f.age_days, f.counted, g.own, g.usual, g.click_window)) AS counts,
                  bool_or(f.age_days <= coalesce(g.click_window, 32767)) AS in_window
           FROM fetched_conversion f JOIN group_named g ON g.campaign = f.campaign AND g.ad_group = f.ad_group
           JOIN item_named i ON i.ad_group_id = g.id AND i.kind = f.kind AND i.name = f.item AND i.match_type = f.match_type
           WHERE f.account_id = $1 AND f.connection_id = $2 AND f.import_id = $3 GROUP BY i.id, g.campaign_id, f.day, f.age_days, f.event", &[a, c, i]),
        ("ANALYZE converted", &[]),
        ("INSERT INTO conversion_day (account_id, item_id, day, age_days, event, import_id, count, value, channel_counts, counts)
           SELECT $1, item_id, day, age_days, event, $2, count, value, channel_counts, counts FROM converted ORDER BY item_id, day", &[a, i]),
        ("UPDATE touched t SET conversions = coalesce(s.count, 0), value = coalesce(s.value, 0)
           FROM touched o LEFT JOIN (SELECT campaign_id, day, sum(count) AS count, sum(value) AS value FROM converted WHERE counts GROUP BY 1, 2) s
               USING (campaign_id, day)
           WHERE o.campaign_id = t.campaign_id AND o.day = t.day", &[]),
        ("INSERT INTO campaign_event_day (account_id, campaign_id, day, event, count, value, channel_counts, counts)
           SELECT $1, campaign_id, day, event, sum(count), sum(value), bool_or(channel_counts), bool_or(counts)
           FROM converted WHERE in_window AND event <> '' GROUP BY campaign_id, day, event", &[a]),
        ("DELETE FROM segment_day s USING group_named g WHERE s.account_id = $1 AND s.ad_group_id = g.id
             AND s.day >= (SELECT min(day) FROM fetched_segment WHERE account_id = $1 AND connection_id = $2 AND import_id = $3)", &[a, c, i]),
        ("INSERT INTO segment_day (account_id, ad_group_id, day, dimension, segment, impressions, clicks, spend, conversions, value)
           SELECT $1, g.id, f.day, f.dimension, f.segment, sum(f.impressions), sum(f.clicks), sum(f.spend), sum(f.conversions), sum(f.value)
           FROM fetched_segment f JOIN group_named g ON g.campaign = f.campaign AND g.ad_group = f.ad_group
           WHERE f.account_id = $1 AND f.connection_id = $2 AND f.import_id = $3 GROUP BY g.id, f.day, f.dimension, f.segment", &[a, c, i]),
        ("DELETE FROM channel_segment_day s USING connection k WHERE k.account_id = $1 AND k.id = $2 AND s.account_id = $1 AND s.channel_id = k.channel_id
             AND s.day >= (SELECT min(day) FROM fetched_segment WHERE account_id = $1 AND connection_id = $2 AND import_id = $3)", &[a, c, i]),
        ("INSERT INTO channel_segment_day (account_id, channel_id, dimension, segment, day, impressions, clicks, spend, conversions, value)
           SELECT $1, k.channel_id, f.dimension, f.segment, f.day, sum(f.impressions), sum(f.clicks), sum(f.spend), sum(f.conversions), sum(f.value)
           FROM fetched_segment f JOIN connection k ON k.account_id = $1 AND k.id = $2
           WHERE f.account_id = $1 AND f.connection_id = $2 AND f.import_id = $3 AND EXISTS (SELECT 1 FROM group_named g WHERE g.campaign = f.campaign AND g.ad_group = f.ad_group)
           GROUP BY k.channel_id, f.dimension, f.segment, f.day", &[a, c, i]),
        ("INSERT INTO term (account_id, text) SELECT DISTINCT $1, term FROM fetched_term WHERE account_id = $1 AND connection_id = $2 AND import_id = $3 ON CONFLICT DO NOTHING", &[a, c, i]),
        ("CREATE TEMP TABLE term_named (id bigint, text text) ON COMMIT DROP", &[]),
        ("INSERT INTO term_named
           SELECT id, text FROM term WHERE account_id = $1", &[a]),
        ("ANALYZE term_named", &[]),
        ("DELETE FROM term_day t USING item_named i WHERE t.account_id = $1 AND t.item_id = i.id
             AND t.day >= (SELECT min(day) FROM fetched_term WHERE account_id = $1 AND connection_id = $2 AND import_id = $3)", &[a, c, i]),
        ("INSERT INTO term_day (account_id, item_id, term_id, day, impressions, clicks, spend, conversions, value)
           SELECT $1, i.id, t.id, f.day, sum(f.impressions), sum(f.clicks), sum(f.spend), sum(f.conversions), sum(f.value)
           FROM fetched_term f JOIN group_named g ON g.campaign = f.campaign AND g.ad_group = f.ad_group
           JOIN item_named i ON i.ad_group_id = g.id AND i.kind = 'keyword' AND i.name = f.item AND i.match_type = f.match_type
           JOIN term_named t ON t.text = f.term
           WHERE f.account_id = $1 AND f.connection_id = $2 AND f.import_id = $3 GROUP BY i.id, t.id, f.day", &[a, c, i]),
    ])
    .await?;
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
