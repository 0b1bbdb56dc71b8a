//! Facts of a report into the database, in one transaction: rows are copied into a temporary table, the
//! campaign-days that the report covers are set aside and replaced, rollups follow. And back again.

use sqlx::{Acquire, PgConnection, PgPool, Postgres, Transaction};
use tiller_core::Micros;
use tokio::sync::mpsc::Receiver;

use crate::fault::{self, Point};
use crate::imports::{self, ERRORS_KEPT, ErrorRow, Import};
use crate::staging::{CampaignFacts, Contents, ItemKey, run};
use crate::{Kind, StoreError, splits};
use tiller_core::ids::{AccountId, ConnectionId, ImportId};

/// An import under way: one transaction.
pub struct Merge<'a> {
    tx: Transaction<'a, Postgres>,
    account: AccountId,
    import: ImportId,
    /// The number of this attempt: whoever holds an older one has lost the import.
    attempt: i32,
    only_good: bool,
    /// How the file is read.
    mapping: Option<serde_json::Value>,
    /// Brought by a connection, which tells conversions by a report of their own.
    connection: Option<ConnectionId>,
}

/// How a merge ended.
#[derive(Debug)]
pub enum Merged {
    /// The rows are in.
    Done,
    /// Rows have errors and the person has not said to leave them out; nothing was changed.
    Decide(Contents),
}

impl<'a> Merge<'a> {
    /// Begins; waits for another import of the account.
    pub async fn begin(db: &'a PgPool, import: &Import) -> Result<Merge<'a>, StoreError> {
        let mut tx = crate::begin(db).await?;
        crate::alone(&mut tx, import.account).await?;
        sqlx::raw_sql(
            "CREATE TEMP TABLE staged (n int NOT NULL, day date NOT NULL, line bigint NOT NULL, impressions bigint NOT NULL,
                 clicks bigint NOT NULL, spend bigint NOT NULL, conversions bigint NOT NULL, value bigint NOT NULL,
                 bid bigint) ON COMMIT DROP;
             SET LOCAL work_mem = '256MB'",
        )
        .execute(&mut *tx)
        .await?;
        Ok(Self {
            tx,
            account: import.account,
            import: import.id,
            attempt: import.attempts,
            only_good: import.only_good,
            mapping: import.mapping.clone(),
            connection: import.connection,
        })
    }

    /// Sends rows as they come, until the sender is dropped.
    pub async fn copy(&mut self, mut rows: Receiver<Vec<u8>>) -> Result<(), StoreError> {
        let mut copy = self.tx.copy_in_raw("COPY staged FROM STDIN (FORMAT binary)").await?;
        while let Some(bytes) = rows.recv().await {
            copy.send(bytes).await?;
        }
        copy.finish().await?;
        Ok(())
    }

    /// Merges what was copied, remembers that a file with such headers is read so, and commits; or leaves everything as it was.
    pub async fn finish(
        mut self,
        mut contents: Contents,
        headers: Option<&str>,
    ) -> Result<Merged, StoreError> {
        if contents.error_count > 0 && !self.only_good {
            self.tx.rollback().await?;
            return Ok(Merged::Decide(contents));
        }
        self.still_ours().await?;
        self.name_items(&contents).await?;
        self.set_aside(&contents).await?;
        let mut inner = self.tx.begin().await?;
        let facts = if self.connection.is_some() { FETCHED } else { UPLOADED };
        match insert_facts(&mut inner, facts, self.account, self.import).await {
            Ok(()) => inner.commit().await?,
            Err(error) if error.kind() == Kind::Taken => {
                inner.rollback().await?;
                let room = ERRORS_KEPT.saturating_sub(contents.errors.len());
                let (count, double) = duplicates(&mut self.tx, room).await?;
                contents.error_count += count;
                contents.rows -= count;
                contents.errors.extend(double);
                if !self.only_good {
                    self.tx.rollback().await?;
                    return Ok(Merged::Decide(contents));
                }
                drop_duplicates(&mut self.tx).await?;
                insert_facts(&mut self.tx, facts, self.account, self.import).await?;
            }
            Err(error) => return Err(error),
        }
        if let Some(connection) = self.connection {
            splits::take_in(&mut self.tx, self.account, connection, self.import).await?;
        }
        self.roll_up(&contents).await?;
        if let (Some(headers), Some(mapping)) = (headers, &self.mapping) {
            imports::remember(&mut *self.tx, self.account, headers, mapping).await?;
        }
        fault::at(Point::RowsWritten);
        self.tx.commit().await?;
        Ok(Merged::Done)
    }

    /// Nobody else has taken the import over; nobody will until this transaction ends.
    async fn still_ours(&mut self) -> Result<(), StoreError> {
        let attempt = sqlx::query_scalar!(
            "SELECT attempts FROM report_import WHERE account_id = $1 AND id = $2 AND state = 'running' FOR UPDATE",
            self.account.0,
            self.import.0
        )
        .fetch_optional(&mut *self.tx)
        .await?;
        if attempt == Some(self.attempt) { Ok(()) } else { Err(StoreError::Lost) }
    }

    /// Finds or adds the channels, campaigns, ad groups and items of the file.
    async fn name_items(&mut self, contents: &Contents) -> Result<(), StoreError> {
        sqlx::raw_sql(
            "CREATE TEMP TABLE named (n int PRIMARY KEY, channel text, campaign text, ad_group text, kind text, item text,
                 match_type text, campaign_id bigint, ad_group_id bigint, item_id bigint) ON COMMIT DROP",
        )
        .execute(&mut *self.tx)
        .await?;
        for (start, items) in contents.items.chunks(5_000).enumerate() {
            let text =
                |f: fn(&ItemKey) -> &str| items.iter().map(|i| f(i).to_owned()).collect::<Vec<_>>();
            sqlx::query(
                "INSERT INTO named (n, channel, campaign, ad_group, kind, item, match_type)
                 SELECT $1 + ordinality - 1, a, b, c, d, e, f
                 FROM unnest($2::text[], $3::text[], $4::text[], $5::text[], $6::text[], $7::text[]) WITH ORDINALITY AS t(a, b, c, d, e, f)",
            )
            .bind(start as i64 * 5_000)
            .bind(text(|i| &i.channel))
            .bind(text(|i| &i.campaign))
            .bind(text(|i| &i.ad_group))
            .bind(text(|i| i.kind))
            .bind(text(|i| &i.item))
            .bind(text(|i| i.match_type))
            .execute(&mut *self.tx)
            .await?;
        }
        // A campaign's kind is what most of its items are; ties go by name, so that row order is no matter.
        let a = self.account.0;
        run(&mut self.tx, &[
            ("INSERT INTO channel (account_id, name) SELECT DISTINCT $1::bigint, channel FROM named ON CONFLICT DO NOTHING", &[a]),
            ("INSERT INTO campaign (account_id, channel_id, name, kind)
             SELECT DISTINCT ON (ch.id, k.campaign) $1::bigint, ch.id, k.campaign, k.kind
             FROM (SELECT channel, campaign, kind, count(*) AS items FROM named GROUP BY 1, 2, 3) k
             JOIN channel ch ON ch.account_id = $1 AND ch.name = k.channel
             ORDER BY ch.id, k.campaign, k.items DESC, k.kind ON CONFLICT DO NOTHING", &[a]),
            ("UPDATE named n SET campaign_id = c.id FROM campaign c JOIN channel ch ON ch.account_id = c.account_id AND ch.id = c.channel_id
             WHERE c.account_id = $1 AND ch.name = n.channel AND c.name = n.campaign", &[a]),
            ("INSERT INTO ad_group (account_id, campaign_id, name)
             SELECT DISTINCT $1::bigint, campaign_id, ad_group FROM named ON CONFLICT DO NOTHING", &[a]),
            ("UPDATE named n SET ad_group_id = g.id FROM ad_group g
             WHERE g.account_id = $1 AND g.campaign_id = n.campaign_id AND g.name = n.ad_group", &[a]),
            ("INSERT INTO item (account_id, ad_group_id, kind, name, match_type)
             SELECT $1::bigint, ad_group_id, kind, item, match_type FROM named ON CONFLICT DO NOTHING", &[a]),
            ("UPDATE named n SET item_id = i.id FROM item i
             WHERE i.account_id = $1 AND i.ad_group_id = n.ad_group_id AND i.kind = n.kind AND i.name = n.item AND i.match_type = n.match_type", &[a]),
            ("ANALYZE named", &[]),
        ])
        .await?;
        Ok(())
    }

    /// Moves the facts of the campaign-days that the file covers out of the way.
    async fn set_aside(&mut self, contents: &Contents) -> Result<(), StoreError> {
        sqlx::raw_sql("CREATE TEMP TABLE touched (campaign_id bigint, day date, budget bigint, status text, impressions bigint, clicks bigint,
                 spend bigint, conversions bigint, value bigint, bid bigint, lost_to_budget real, lost_to_bid real) ON COMMIT DROP")
            .execute(&mut *self.tx)
            .await?;
        let days: Vec<_> = contents.days.iter().collect();
        for days in days.chunks(5_000) {
            let int =
                |f: fn(&CampaignFacts) -> i64| days.iter().map(|(_, d)| f(d)).collect::<Vec<_>>();
            sqlx::query(
                "INSERT INTO touched SELECT n.campaign_id, t.day, t.budget, t.status, t.impressions, t.clicks, t.spend, t.conversions, t.value, t.bid, t.lost_to_budget, t.lost_to_bid
                 FROM unnest($1::int[], $2::date[], $3::bigint[], $4::text[], $5::bigint[], $6::bigint[], $7::bigint[], $8::bigint[], $9::bigint[],
                      $10::bigint[], $11::real[], $12::real[])
                      AS t(n, day, budget, status, impressions, clicks, spend, conversions, value, bid, lost_to_budget, lost_to_bid) JOIN named n USING (n)",
            )
            .bind(days.iter().map(|((n, _), _)| *n).collect::<Vec<_>>())
            .bind(days.iter().map(|((_, day), _)| *day).collect::<Vec<_>>())
            .bind(days.iter().map(|(_, f)| f.budget.map(Micros::get)).collect::<Vec<_>>())
            .bind(days.iter().map(|(_, f)| f.status.map(str::to_owned)).collect::<Vec<_>>())
            .bind(int(|f| f.impressions))
            .bind(int(|f| f.clicks))
            .bind(int(|f| f.spend.get()))
            .bind(int(|f| f.conversions.get()))
            .bind(int(|f| f.value.get()))
            .bind(days.iter().map(|(_, f)| f.bid.map(Micros::get)).collect::<Vec<_>>())
            .bind(days.iter().map(|(_, f)| f.lost_to_budget).collect::<Vec<_>>())
            .bind(days.iter().map(|(_, f)| f.lost_to_bid).collect::<Vec<_>>())
            .execute(&mut *self.tx)
            .await?;
        }
        sqlx::raw_sql("ANALYZE touched").execute(&mut *self.tx).await?;
        let (a, i) = (self.account.0, self.import.0);
        run(&mut self.tx, &[
            ("INSERT INTO import_campaign_day (account_id, import_id, campaign_id, day, budget, replaced_budget, replaced_lost_to_budget, replaced_lost_to_bid, replaced_expected, replaced_expected_error)
             SELECT $1, $2, t.campaign_id, t.day, t.budget, d.budget, d.lost_to_budget, d.lost_to_bid, d.expected, d.expected_error
             FROM touched t LEFT JOIN campaign_day d ON d.account_id = $1 AND d.campaign_id = t.campaign_id AND d.day = t.day", &[a, i]),
            ("CREATE TEMP TABLE standing (item_id bigint, day date) ON COMMIT DROP", &[]),
            ("INSERT INTO standing
             SELECT i.id, t.day FROM touched t
             JOIN campaign_day d ON d.account_id = $1 AND d.campaign_id = t.campaign_id AND d.day = t.day
             JOIN ad_group g ON g.account_id = $1 AND g.campaign_id = t.campaign_id
             JOIN item i ON i.account_id = $1 AND i.ad_group_id = g.id", &[a]),
            ("ANALYZE standing", &[]),
            ("WITH gone AS (DELETE FROM item_day f USING standing s WHERE f.account_id = $1 AND f.item_id = s.item_id AND f.day = s.day RETURNING f.*)
             INSERT INTO replaced_item_day (account_id, replaced_by, item_id, day, import_id, impressions, clicks, spend, bid)
             SELECT account_id, $2, item_id, day, import_id, impressions, clicks, spend, bid FROM gone", &[a, i]),
            ("WITH gone AS (DELETE FROM conversion_day f USING standing s WHERE f.account_id = $1 AND f.item_id = s.item_id AND f.day = s.day RETURNING f.*)
             INSERT INTO replaced_conversion_day (account_id, replaced_by, item_id, day, age_days, event, import_id, count, value, channel_counts, counts)
             SELECT account_id, $2, item_id, day, age_days, event, import_id, count, value, channel_counts, counts FROM gone", &[a, i]),
            ("DELETE FROM campaign_day d USING touched t WHERE d.account_id = $1 AND d.campaign_id = t.campaign_id AND d.day = t.day", &[a]),
            ("DELETE FROM campaign_event_day d USING touched t WHERE d.account_id = $1 AND d.campaign_id = t.campaign_id AND d.day = t.day", &[a]),
        ])
        .await?;
        Ok(())
    }

    /// Rollups, statuses, and the import's own row.
    async fn roll_up(&mut self, contents: &Contents) -> Result<(), StoreError> {
        let (a, i) = (self.account.0, self.import.0);
        run(&mut self.tx, &[
            ("INSERT INTO campaign_day (account_id, campaign_id, day, impressions, clicks, spend, conversions, value, budget, bid, lost_to_budget, lost_to_bid)
             SELECT $1, campaign_id, day, impressions, clicks, spend, conversions, value, budget, bid, lost_to_budget, lost_to_bid FROM touched", &[a]),
            ("INSERT INTO import_status (account_id, import_id, campaign_id, status)
             SELECT $1, $2, c.id, c.status FROM campaign c WHERE c.account_id = $1
             AND c.id IN (SELECT campaign_id FROM touched WHERE status IS NOT NULL)", &[a, i]),
            ("UPDATE campaign c SET status = t.status FROM (SELECT DISTINCT ON (campaign_id) campaign_id, status FROM touched
             WHERE status IS NOT NULL ORDER BY campaign_id, day DESC) t WHERE c.account_id = $1 AND c.id = t.campaign_id", &[a]),
        ])
        .await?;
        imports::replace_errors(&mut self.tx, self.account, self.import, &contents.errors).await?;
        imports::drop_file(&mut self.tx, self.account, self.import).await?;
        let days = contents.days.keys().map(|(_, day)| *day);
        sqlx::query!(
            "UPDATE report_import SET state = 'done', rows_kept = $3, error_count = $4, first_day = $5, last_day = $6, bytes_read = size,
                    rows_read = $7, finished_at = now(), followed = connection_id IS NOT NULL WHERE account_id = $1 AND id = $2",
            self.account.0,
            self.import.0,
            contents.rows,
            contents.error_count,
            days.clone().min(),
            days.max(),
            contents.rows + contents.error_count
        )
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }
}

const ITEM_DAYS: &str = "INSERT INTO item_day (account_id, item_id, day, import_id, impressions, clicks, spend, bid)
    SELECT $1, n.item_id, s.day, $2, s.impressions, s.clicks, s.spend, s.bid FROM staged s JOIN named n USING (n)
    ORDER BY n.item_id, s.day";

/// What a fetched report by items brings; its conversions come by event and age ([`splits`]).
const FETCHED: &[&str] = &[ITEM_DAYS];

/// What an uploaded report brings.
const UPLOADED: &[&str] = &[
    ITEM_DAYS,
    "INSERT INTO conversion_day (account_id, item_id, day, import_id, count, value)
         SELECT $1, n.item_id, s.day, $2, s.conversions, s.value FROM staged s JOIN named n USING (n) WHERE s.conversions <> 0 OR s.value <> 0
     ORDER BY n.item_id, s.day",
];

async fn insert_facts(
    tx: &mut PgConnection,
    facts: &[&'static str],
    account: AccountId,
    import: ImportId,
) -> Result<(), StoreError> {
    for sql in facts {
        run(tx, &[(*sql, &[account.0, import.0])]).await?;
    }
    Ok(())
}

/// Rows that tell of one item and day more than once: all of them, since none is more right than another. They are
/// counted, and no more of them named than there is room for: a file may double itself.
async fn duplicates(
    tx: &mut PgConnection,
    room: usize,
) -> Result<(i64, Vec<ErrorRow>), StoreError> {
    let count: i64 = sqlx::query_scalar(
        "SELECT coalesce(sum(times), 0)::bigint FROM (SELECT count(*) AS times FROM staged GROUP BY n, day HAVING count(*) > 1) d",
    )
    .fetch_one(&mut *tx)
    .await?;
    let rows: Vec<(i64, String, i64)> = sqlx::query_as(
        "SELECT s.line, coalesce(nullif(n.item, ''), n.ad_group, n.campaign) || ' on ' || s.day, d.times
         FROM staged s JOIN (SELECT n, day, count(*) AS times FROM staged GROUP BY n, day HAVING count(*) > 1) d USING (n, day)
         JOIN named n USING (n) ORDER BY s.line LIMIT $1",
    )
    .bind(room as i64)
    .fetch_all(tx)
    .await?;
    let error = |(line, found, times): (i64, String, i64)| ErrorRow {
        line,
        column: "item".into(),
        found: format!("{found}, {times} times"),
        expected: "one row for each item and day".into(),
    };
    Ok((count, rows.into_iter().map(error).collect()))
}

/// Takes double rows out, and their counts out of the campaigns' sums.
async fn drop_duplicates(tx: &mut PgConnection) -> Result<(), StoreError> {
    sqlx::raw_sql(
        "DELETE FROM staged s USING (SELECT n, day FROM staged GROUP BY n, day HAVING count(*) > 1) d WHERE s.n = d.n AND s.day = d.day;
         UPDATE touched SET impressions = 0, clicks = 0, spend = 0, conversions = 0, value = 0, bid = NULL;
         UPDATE touched t SET impressions = f.impressions, clicks = f.clicks, spend = f.spend, conversions = f.conversions, value = f.value, bid = f.bid
         FROM (SELECT campaign_id, day, sum(impressions) AS impressions, sum(clicks) AS clicks, sum(spend) AS spend, sum(conversions) AS conversions,
                      sum(value) AS value, max(bid) AS bid FROM staged JOIN named USING (n) GROUP BY 1, 2) f
         WHERE f.campaign_id = t.campaign_id AND f.day = t.day",
    )
    .execute(tx)
    .await?;
    Ok(())
}
