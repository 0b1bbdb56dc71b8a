//! Facts of a report into the database, in one transaction: rows are copied into a temporary table, the
//! campaign-days that the report covers are set aside and replaced, rollups follow. And back again.

use std::collections::HashMap;

use chrono::{Datelike, NaiveDate};
use sqlx::{Acquire, PgConnection, PgPool, Postgres, Transaction};
use tiller_core::Micros;
use tokio::sync::mpsc::Receiver;

use crate::imports::{self, ERRORS_KEPT, ErrorRow, Import};
use crate::{Kind, StoreError, splits};
use tiller_core::ids::{AccountId, ConnectionId, ImportId};

/// The names that tell an item from all others.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct ItemKey {
    /// Channel.
    pub channel: String,
    /// Campaign.
    pub campaign: String,
    /// Ad group.
    pub ad_group: String,
    /// keyword, listing, ad or audience.
    pub kind: &'static str,
    /// Item.
    pub item: String,
    /// Of a keyword; empty otherwise.
    pub match_type: &'static str,
}

/// One row on its way into the database; the item by its number in the file.
#[derive(Clone, Copy, Debug)]
pub struct StagedRow {
    /// Number of the item, from 0 in order of first appearance.
    pub item: i32,
    /// The day.
    pub day: NaiveDate,
    /// Line of the file.
    pub line: i64,
    /// Times shown.
    pub impressions: i64,
    /// Times clicked.
    pub clicks: i64,
    /// Money paid.
    pub spend: Micros,
    /// Results, in millionths.
    pub conversions: Micros,
    /// Revenue.
    pub value: Micros,
    /// Bid in force.
    pub bid: Option<Micros>,
}

/// What a file says of a campaign's day: its items' sums, and what only the campaign has.
#[derive(Clone, Debug, Default)]
pub struct CampaignFacts {
    /// Times shown.
    pub impressions: i64,
    /// Times clicked.
    pub clicks: i64,
    /// Money paid.
    pub spend: Micros,
    /// Results, in millionths.
    pub conversions: Micros,
    /// Revenue.
    pub value: Micros,
    /// The highest bid.
    pub bid: Option<Micros>,
    /// Daily budget.
    pub budget: Option<Micros>,
    /// Whether it runs.
    pub status: Option<&'static str>,
    /// Share of its auctions from which it stood aside for want of budget.
    pub lost_to_budget: Option<f32>,
    /// Share of its auctions that it lost for want of bid.
    pub lost_to_bid: Option<f32>,
}

impl CampaignFacts {
    /// Adds a row's counts.
    pub fn add(&mut self, row: &StagedRow) {
        self.impressions += row.impressions;
        self.clicks += row.clicks;
        self.spend += row.spend;
        self.conversions += row.conversions;
        self.value += row.value;
        self.bid = self.bid.max(row.bid);
    }
}

/// What a file holds beside its rows; grows with items and campaign-days, not with rows.
#[derive(Debug, Default)]
pub struct Contents {
    /// Items by number.
    pub items: Vec<ItemKey>,
    /// Campaigns by number of an item of theirs, with their days.
    pub days: HashMap<(i32, NaiveDate), CampaignFacts>,
    /// Errors kept.
    pub errors: Vec<ErrorRow>,
    /// Errors found.
    pub error_count: i64,
    /// Good rows.
    pub rows: i64,
}

/// Rows in PostgreSQL's binary copy format.
#[derive(Debug)]
pub struct CopyBuffer {
    bytes: Vec<u8>,
}

impl Default for CopyBuffer {
    fn default() -> Self {
        let mut bytes = Vec::with_capacity(COPY_SIZE + 1024);
        bytes.extend_from_slice(b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0");
        Self { bytes }
    }
}

/// Bytes that are sent at once.
const COPY_SIZE: usize = 1 << 18;

impl CopyBuffer {
    /// Adds a row.
    pub fn push(&mut self, row: &StagedRow) {
        // 1 January 2000 is PostgreSQL's day 0, and day 730 120 of the common era.
        let day = row.day.num_days_from_ce() - 730_120;
        let b = &mut self.bytes;
        b.extend_from_slice(&9i16.to_be_bytes());
        for int in [row.item, day] {
            b.extend_from_slice(&4i32.to_be_bytes());
            b.extend_from_slice(&int.to_be_bytes());
        }
        for big in [
            row.line,
            row.impressions,
            row.clicks,
            row.spend.get(),
            row.conversions.get(),
            row.value.get(),
        ] {
            b.extend_from_slice(&8i32.to_be_bytes());
            b.extend_from_slice(&big.to_be_bytes());
        }
        match row.bid {
            Some(bid) => {
                b.extend_from_slice(&8i32.to_be_bytes());
                b.extend_from_slice(&bid.get().to_be_bytes());
            }
            None => b.extend_from_slice(&(-1i32).to_be_bytes()),
        }
    }

    /// The bytes so far, if there are enough to send.
    pub fn take_full(&mut self) -> Option<Vec<u8>> {
        (self.bytes.len() >= COPY_SIZE)
            .then(|| std::mem::replace(&mut self.bytes, Vec::with_capacity(COPY_SIZE + 1024)))
    }

    /// The last bytes.
    pub fn finish(mut self) -> Vec<u8> {
        self.bytes.extend_from_slice(&(-1i16).to_be_bytes());
        self.bytes
    }
}

/// An import under way: one transaction.
pub struct Merge<'a> {
    tx: Transaction<'a, Postgres>,
    account: AccountId,
    import: ImportId,
    /// The number of this attempt: whoever holds an older one has lost the import.
    attempt: i32,
    only_good: bool,
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
        sqlx::query!("SELECT pg_advisory_xact_lock(7001, $1)", import.account.0 as i32)
            .execute(&mut *tx)
            .await?;
        sqlx::raw_sql(
            "CREATE TEMP TABLE staged (n int NOT NULL, day date NOT NULL, line bigint NOT NULL, impressions bigint NOT NULL,
                 clicks bigint NOT NULL, spend bigint NOT NULL, conversions bigint NOT NULL, value bigint NOT NULL,
                 bid bigint) ON COMMIT DROP;
             SET LOCAL work_mem = '256MB'; SET LOCAL jit = off",
        )
        .execute(&mut *tx)
        .await?;
        Ok(Self {
            tx,
            account: import.account,
            import: import.id,
            attempt: import.attempts,
            only_good: import.only_good,
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

    /// Merges what was copied and commits, or leaves everything as it was.
    pub async fn finish(mut self, mut contents: Contents) -> Result<Merged, StoreError> {
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
        for sql in [
            "INSERT INTO channel (account_id, name) SELECT DISTINCT $1::bigint, channel FROM named ON CONFLICT DO NOTHING",
            "INSERT INTO campaign (account_id, channel_id, name, kind)
             SELECT DISTINCT ON (ch.id, k.campaign) $1::bigint, ch.id, k.campaign, k.kind
             FROM (SELECT channel, campaign, kind, count(*) AS items FROM named GROUP BY 1, 2, 3) k
             JOIN channel ch ON ch.account_id = $1 AND ch.name = k.channel
             ORDER BY ch.id, k.campaign, k.items DESC, k.kind ON CONFLICT DO NOTHING",
            "UPDATE named n SET campaign_id = c.id FROM campaign c JOIN channel ch ON ch.account_id = c.account_id AND ch.id = c.channel_id
             WHERE c.account_id = $1 AND ch.name = n.channel AND c.name = n.campaign",
            "INSERT INTO ad_group (account_id, campaign_id, name)
             SELECT DISTINCT $1::bigint, campaign_id, ad_group FROM named ON CONFLICT DO NOTHING",
            "UPDATE named n SET ad_group_id = g.id FROM ad_group g
             WHERE g.account_id = $1 AND g.campaign_id = n.campaign_id AND g.name = n.ad_group",
            "INSERT INTO item (account_id, ad_group_id, kind, name, match_type)
             SELECT $1::bigint, ad_group_id, kind, item, match_type FROM named ON CONFLICT DO NOTHING",
            "UPDATE named n SET item_id = i.id FROM item i
             WHERE i.account_id = $1 AND i.ad_group_id = n.ad_group_id AND i.kind = n.kind AND i.name = n.item AND i.match_type = n.match_type",
            "ANALYZE named",
        ] {
            let query = sqlx::query(sql);
            let query = if sql.contains("$1") { query.bind(self.account.0) } else { query };
            query.execute(&mut *self.tx).await?;
        }
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
        sqlx::raw_sql("ANALYZE touched; SELECT ensure_month(m) FROM (SELECT DISTINCT date_trunc('month', day)::date AS m FROM touched) t")
            .execute(&mut *self.tx)
            .await?;
        for sql in [
            "INSERT INTO import_campaign_day (account_id, import_id, campaign_id, day, budget, replaced_budget, replaced_lost_to_budget, replaced_lost_to_bid, replaced_expected, replaced_expected_error)
             SELECT $1, $2, t.campaign_id, t.day, t.budget, d.budget, d.lost_to_budget, d.lost_to_bid, d.expected, d.expected_error
             FROM touched t LEFT JOIN campaign_day d ON d.account_id = $1 AND d.campaign_id = t.campaign_id AND d.day = t.day",
            "CREATE TEMP TABLE standing ON COMMIT DROP AS
             SELECT i.id AS item_id, t.day FROM touched t
             JOIN campaign_day d ON d.account_id = $1 AND d.campaign_id = t.campaign_id AND d.day = t.day
             JOIN ad_group g ON g.account_id = $1 AND g.campaign_id = t.campaign_id
             JOIN item i ON i.account_id = $1 AND i.ad_group_id = g.id",
            "ANALYZE standing",
            "WITH gone AS (DELETE FROM item_day f USING standing s WHERE f.account_id = $1 AND f.item_id = s.item_id AND f.day = s.day RETURNING f.*)
             INSERT INTO replaced_item_day (account_id, replaced_by, item_id, day, import_id, impressions, clicks, spend, bid)
             SELECT account_id, $2, item_id, day, import_id, impressions, clicks, spend, bid FROM gone",
            "WITH gone AS (DELETE FROM conversion_day f USING standing s WHERE f.account_id = $1 AND f.item_id = s.item_id AND f.day = s.day RETURNING f.*)
             INSERT INTO replaced_conversion_day (account_id, replaced_by, item_id, day, age_days, event, import_id, count, value, channel_counts, counts)
             SELECT account_id, $2, item_id, day, age_days, event, import_id, count, value, channel_counts, counts FROM gone",
            "DELETE FROM campaign_day d USING touched t WHERE d.account_id = $1 AND d.campaign_id = t.campaign_id AND d.day = t.day",
            "DELETE FROM campaign_event_day d USING touched t WHERE d.account_id = $1 AND d.campaign_id = t.campaign_id AND d.day = t.day",
        ] {
            self.run(sql).await?;
        }
        Ok(())
    }

    /// Rollups, statuses, and the import's own row.
    async fn roll_up(&mut self, contents: &Contents) -> Result<(), StoreError> {
        for sql in [
            "INSERT INTO campaign_day (account_id, campaign_id, day, impressions, clicks, spend, conversions, value, budget, bid, lost_to_budget, lost_to_bid)
             SELECT $1, campaign_id, day, impressions, clicks, spend, conversions, value, budget, bid, lost_to_budget, lost_to_bid FROM touched",
            "INSERT INTO import_status (account_id, import_id, campaign_id, status)
             SELECT $1, $2, c.id, c.status FROM campaign c WHERE c.account_id = $1
             AND c.id IN (SELECT campaign_id FROM touched WHERE status IS NOT NULL)",
            "UPDATE campaign c SET status = t.status FROM (SELECT DISTINCT ON (campaign_id) campaign_id, status FROM touched
             WHERE status IS NOT NULL ORDER BY campaign_id, day DESC) t WHERE c.account_id = $1 AND c.id = t.campaign_id",
        ] {
            self.run(sql).await?;
        }
        imports::replace_errors(&mut self.tx, self.account, self.import, &contents.errors).await?;
        imports::drop_file(&mut self.tx, self.account, self.import).await?;
        let days = contents.days.keys().map(|(_, day)| *day);
        sqlx::query!(
            "UPDATE report_import SET state = 'done', rows_kept = $3, error_count = $4, first_day = $5, last_day = $6, bytes_read = size,
                    rows_read = $7, finished_at = now() WHERE account_id = $1 AND id = $2",
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

    /// Runs a statement on the temporary tables, which the compile-time check can't know.
    async fn run(&mut self, sql: &'static str) -> Result<(), StoreError> {
        run(&mut self.tx, sql, self.account, self.import).await
    }
}

async fn run(
    tx: &mut PgConnection,
    sql: &'static str,
    account: AccountId,
    import: ImportId,
) -> Result<(), StoreError> {
    // $1 and $2 are whole numbers of ours, written into the text: a statement that makes a table takes no parameters.
    let sql = sql
        .replace("$1", &format!("{}::bigint", account.0))
        .replace("$2", &format!("{}::bigint", import.0));
    sqlx::raw_sql(sqlx::AssertSqlSafe(sql)).execute(tx).await?;
    Ok(())
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
        run(tx, sql, account, import).await?;
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

/// Why an import can't be undone.
#[derive(Debug, thiserror::Error)]
pub enum UndoError {
    /// It is not in.
    #[error("this import is not in, so there is nothing to undo")]
    NotDone,
    /// A later import replaced days of it.
    #[error("the later import ‘{0}’ replaced some of the same days; undo that one first")]
    Later(String),
    /// A channel's report replaced days of it.
    #[error(
        "some of its days have been fetched from the channel since; what they held before is gone"
    )]
    Fetched,
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl From<sqlx::Error> for UndoError {
    fn from(error: sqlx::Error) -> Self {
        Self::Store(error.into())
    }
}

/// Takes an import back: what it wrote is removed, what it replaced stands again.
pub async fn undo(db: &PgPool, account: AccountId, import: ImportId) -> Result<(), UndoError> {
    let mut tx = crate::begin(db).await?;
    sqlx::query!("SELECT pg_advisory_xact_lock(7001, $1)", account.0 as i32)
        .execute(&mut *tx)
        .await?;
    let done = sqlx::query!(
        "UPDATE report_import SET state = 'undone' WHERE account_id = $1 AND id = $2 AND state = 'done' AND connection_id IS NULL",
        account.0,
        import.0
    )
    .execute(&mut *tx)
    .await?;
    if done.rows_affected() == 0 {
        return Err(UndoError::NotDone);
    }
    let later = sqlx::query!(
        "SELECT r.file_name, r.connection_id FROM report_import r WHERE r.account_id = $1 AND r.state = 'done' AND r.id IN (
             SELECT l.import_id FROM import_campaign_day l JOIN import_campaign_day m USING (account_id, campaign_id, day)
             WHERE m.account_id = $1 AND m.import_id = $2 AND l.import_id > $2) ORDER BY r.id DESC LIMIT 1",
        account.0,
        import.0
    )
    .fetch_optional(&mut *tx)
    .await?;
    match later {
        Some(r) if r.connection_id.is_some() => return Err(UndoError::Fetched),
        Some(r) => return Err(UndoError::Later(r.file_name)),
        None => {}
    }
    for sql in [
        "CREATE TEMP TABLE mine ON COMMIT DROP AS SELECT DISTINCT i.id AS item_id, m.campaign_id, m.day FROM import_campaign_day m
         JOIN ad_group g ON g.account_id = $1 AND g.campaign_id = m.campaign_id
         JOIN item i ON i.account_id = $1 AND i.ad_group_id = g.id WHERE m.account_id = $1 AND m.import_id = $2",
        "DELETE FROM item_day f USING mine WHERE f.account_id = $1 AND f.item_id = mine.item_id AND f.day = mine.day",
        "DELETE FROM conversion_day f USING mine WHERE f.account_id = $1 AND f.item_id = mine.item_id AND f.day = mine.day",
        "INSERT INTO item_day (account_id, item_id, day, import_id, impressions, clicks, spend, bid)
         SELECT account_id, item_id, day, import_id, impressions, clicks, spend, bid FROM replaced_item_day WHERE account_id = $1 AND replaced_by = $2",
        "INSERT INTO conversion_day (account_id, item_id, day, age_days, event, import_id, count, value, channel_counts, counts)
         SELECT account_id, item_id, day, age_days, event, import_id, count, value, channel_counts, counts FROM replaced_conversion_day WHERE account_id = $1 AND replaced_by = $2",
        "DELETE FROM replaced_item_day WHERE account_id = $1 AND replaced_by = $2",
        "DELETE FROM replaced_conversion_day WHERE account_id = $1 AND replaced_by = $2",
        "DELETE FROM campaign_day d USING mine WHERE d.account_id = $1 AND d.campaign_id = mine.campaign_id AND d.day = mine.day",
        "INSERT INTO campaign_day (account_id, campaign_id, day, impressions, clicks, spend, conversions, value, budget, bid, lost_to_budget, lost_to_bid, expected, expected_error)
         SELECT $1, mine.campaign_id, mine.day, sum(f.impressions), sum(f.clicks), sum(f.spend), sum(coalesce(v.count, 0)), sum(coalesce(v.value, 0)),
                max(m.replaced_budget), max(f.bid), max(m.replaced_lost_to_budget), max(m.replaced_lost_to_bid), max(m.replaced_expected),
                max(m.replaced_expected_error)
         FROM mine JOIN item_day f ON f.account_id = $1 AND f.item_id = mine.item_id AND f.day = mine.day
         JOIN import_campaign_day m ON m.account_id = $1 AND m.import_id = $2 AND m.campaign_id = mine.campaign_id AND m.day = mine.day
         LEFT JOIN (SELECT item_id, day, sum(count) AS count, sum(value) AS value FROM conversion_day WHERE account_id = $1 GROUP BY 1, 2) v
             ON v.item_id = mine.item_id AND v.day = mine.day
         GROUP BY mine.campaign_id, mine.day",
        "DELETE FROM import_campaign_day WHERE account_id = $1 AND import_id = $2",
        "UPDATE campaign c SET status = s.status FROM import_status s WHERE c.account_id = $1 AND s.account_id = $1 AND s.import_id = $2 AND c.id = s.campaign_id",
        "DELETE FROM import_status WHERE account_id = $1 AND import_id = $2",
        // What nothing was ever counted for and nobody has set a target for goes with the import that named it.
        "DELETE FROM item i USING (SELECT DISTINCT item_id FROM mine) m WHERE i.account_id = $1 AND i.id = m.item_id AND i.channel_key IS NULL
             AND NOT EXISTS (SELECT 1 FROM item_day f WHERE f.account_id = $1 AND f.item_id = i.id)
             AND NOT EXISTS (SELECT 1 FROM replaced_item_day f WHERE f.account_id = $1 AND f.item_id = i.id)",
        "DELETE FROM ad_group g WHERE account_id = $1 AND channel_key IS NULL AND NOT EXISTS (SELECT 1 FROM item i WHERE i.account_id = $1 AND i.ad_group_id = g.id)",
        "DELETE FROM campaign c WHERE account_id = $1 AND target_cpa IS NULL AND target_roas IS NULL AND channel_key IS NULL
             AND NOT EXISTS (SELECT 1 FROM ad_group g WHERE g.account_id = $1 AND g.campaign_id = c.id)",
        "DELETE FROM channel ch WHERE account_id = $1 AND NOT EXISTS (SELECT 1 FROM campaign c WHERE c.account_id = $1 AND c.channel_id = ch.id)",
    ] {
        run(&mut tx, sql, account, import).await?;
    }
    // What counts may have been chosen anew since.
    splits::recount(&mut tx, account, None).await?;
    tx.commit().await?;
    Ok(())
}
