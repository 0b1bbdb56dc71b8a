//! An import taken back.

use sqlx::PgPool;
use tiller_core::ids::{AccountId, ImportId};

use crate::staging::run;
use crate::{StoreError, splits};

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
    crate::alone(&mut tx, account).await?;
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
    let (a, i) = (account.0, import.0);
    run(&mut tx, &[
        ("CREATE TEMP TABLE mine (item_id bigint, campaign_id bigint, day date) ON COMMIT DROP", &[]),
        ("INSERT INTO mine SELECT DISTINCT i.id, m.campaign_id, m.day FROM import_campaign_day m
         JOIN ad_group g ON g.account_id = $1 AND g.campaign_id = m.campaign_id
         JOIN item i ON i.account_id = $1 AND i.ad_group_id = g.id WHERE m.account_id = $1 AND m.import_id = $2", &[a, i]),
        ("DELETE FROM item_day f USING mine WHERE f.account_id = $1 AND f.item_id = mine.item_id AND f.day = mine.day", &[a]),
        ("DELETE FROM conversion_day f USING mine WHERE f.account_id = $1 AND f.item_id = mine.item_id AND f.day = mine.day", &[a]),
        ("INSERT INTO item_day (account_id, item_id, day, import_id, impressions, clicks, spend, bid)
         SELECT account_id, item_id, day, import_id, impressions, clicks, spend, bid FROM replaced_item_day WHERE account_id = $1 AND replaced_by = $2", &[a, i]),
        ("INSERT INTO conversion_day (account_id, item_id, day, age_days, event, import_id, count, value, channel_counts, counts)
         SELECT account_id, item_id, day, age_days, event, import_id, count, value, channel_counts, counts FROM replaced_conversion_day WHERE account_id = $1 AND replaced_by = $2", &[a, i]),
        ("DELETE FROM replaced_item_day WHERE account_id = $1 AND replaced_by = $2", &[a, i]),
        ("DELETE FROM replaced_conversion_day WHERE account_id = $1 AND replaced_by = $2", &[a, i]),
        ("DELETE FROM campaign_day d USING mine WHERE d.account_id = $1 AND d.campaign_id = mine.campaign_id AND d.day = mine.day", &[a]),
        ("INSERT INTO campaign_day (account_id, campaign_id, day, impressions, clicks, spend, conversions, value, budget, bid, lost_to_budget, lost_to_bid, expected, expected_error)
         SELECT $1, mine.campaign_id, mine.day, sum(f.impressions), sum(f.clicks), sum(f.spend), sum(coalesce(v.count, 0)), sum(coalesce(v.value, 0)),
                max(m.replaced_budget), max(f.bid), max(m.replaced_lost_to_budget), max(m.replaced_lost_to_bid), max(m.replaced_expected),
                max(m.replaced_expected_error)
         FROM mine JOIN item_day f ON f.account_id = $1 AND f.item_id = mine.item_id AND f.day = mine.day
         JOIN import_campaign_day m ON m.account_id = $1 AND m.import_id = $2 AND m.campaign_id = mine.campaign_id AND m.day = mine.day
         LEFT JOIN (SELECT item_id, day, sum(count) AS count, sum(value) AS value FROM conversion_day WHERE account_id = $1 GROUP BY 1, 2) v
             ON v.item_id = mine.item_id AND v.day = mine.day
         GROUP BY mine.campaign_id, mine.day", &[a, i]),
        ("DELETE FROM import_campaign_day WHERE account_id = $1 AND import_id = $2", &[a, i]),
        ("UPDATE campaign c SET status = s.status FROM import_status s WHERE c.account_id = $1 AND s.account_id = $1 AND s.import_id = $2 AND c.id = s.campaign_id", &[a, i]),
        ("DELETE FROM import_status WHERE account_id = $1 AND import_id = $2", &[a, i]),
        // What nothing was ever counted for and nobody has set a target for goes with the import that named it.
        ("DELETE FROM item i USING (SELECT DISTINCT item_id FROM mine) m WHERE i.account_id = $1 AND i.id = m.item_id AND i.channel_key IS NULL
             AND NOT EXISTS (SELECT 1 FROM item_day f WHERE f.account_id = $1 AND f.item_id = i.id)
             AND NOT EXISTS (SELECT 1 FROM replaced_item_day f WHERE f.account_id = $1 AND f.item_id = i.id)", &[a]),
        ("DELETE FROM ad_group g WHERE account_id = $1 AND channel_key IS NULL AND NOT EXISTS (SELECT 1 FROM item i WHERE i.account_id = $1 AND i.ad_group_id = g.id)", &[a]),
        ("DELETE FROM campaign c WHERE account_id = $1 AND target_cpa IS NULL AND target_roas IS NULL AND channel_key IS NULL
             AND NOT EXISTS (SELECT 1 FROM ad_group g WHERE g.account_id = $1 AND g.campaign_id = c.id)", &[a]),
        ("DELETE FROM channel ch WHERE account_id = $1 AND NOT EXISTS (SELECT 1 FROM campaign c WHERE c.account_id = $1 AND c.channel_id = ch.id)", &[a]),
    ])
    .await?;
    // What counts may have been chosen anew since.
    splits::recount(&mut tx, account, None).await?;
    tx.commit().await?;
    Ok(())
}
