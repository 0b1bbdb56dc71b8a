//! Search terms.

use sqlx::PgPool;
use tiller_core::ids::{AccountId, AdGroupId, CampaignId, TermId};
use tiller_core::{Tally, Window};

use crate::StoreError;

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

/// A campaign's search terms by ad group, the dearest first.
pub async fn terms_of(
    db: &PgPool,
    account: AccountId,
    campaign: CampaignId,
    window: Window,
) -> Result<Vec<TermTally>, StoreError> {
    Ok(sqlx::query_as!(
        TermTally,
        r#"SELECT d.term_id AS "term: TermId", t.text, t.seen_at IS NOT NULL AS "seen!", g.campaign_id AS "campaign: CampaignId", g.id AS "ad_group: AdGroupId",
                  g.name AS ad_group_name, (array_agg(i.name ORDER BY d.spend DESC))[1] AS "keyword!",
                  EXISTS (SELECT 1 FROM item x WHERE x.account_id = $1 AND x.ad_group_id = g.id AND x.kind = 'keyword'
                          AND lower(x.name) = lower(t.text)) AS "known!",
                  ARRAY[sum(d.impressions), sum(d.clicks), sum(d.spend), sum(d.conversions), sum(d.value)]::bigint[] AS "tally!: Tally"
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
    .await?)
}

/// An account's search terms, the dearest first: text, campaign, and what was counted.
pub async fn terms(
    db: &PgPool,
    account: AccountId,
    window: Window,
) -> Result<Vec<(String, CampaignId, Tally)>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT t.text, g.campaign_id AS "campaign: CampaignId", ARRAY[sum(d.impressions), sum(d.clicks), sum(d.spend), sum(d.conversions), sum(d.value)]::bigint[] AS "tally!: Tally"
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
    Ok(rows.into_iter().map(|r| (r.text, r.campaign, r.tally)).collect())
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
