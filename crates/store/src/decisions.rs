//! What is decided in the product itself and goes to no channel: targets, purposes, peers, what counts, what a month is
//! to spend. Each is set and written down in one transaction, with what stood before.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use sqlx::{PgConnection, PgPool};
use tiller_core::Target;
use tiller_core::break_even::ProductLine;
use tiller_core::strategy::{Aim, Row};

use crate::lines;
use crate::months::{self, Month};
use crate::{StoreError, splits, targets};
use tiller_core::ids::{AccountId, CampaignId, DecisionId, PersonId};

/// Something that is decided, with its value; of the account, or of a campaign.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Own {
    /// What a result may cost; none: the account's, or nothing.
    Target(Option<Target>),
    /// The least difference from a target that anybody would act on, of the account.
    LeastDifference(f64),
    /// What a campaign is for; none: as guessed.
    Purpose(Option<String>),
    /// Whom a campaign is compared with; none: those of its own kind and purpose.
    Peers(Vec<CampaignId>),
    /// The events that count; none: the account's, or each channel's.
    Events(Option<Vec<String>>),
    /// Days after a click in which a conversion counts, of the account; none: each channel's own.
    ClickWindow(Option<i16>),
    /// What a month is to spend, of the account.
    Month(Month),
    /// The account's own table of conditions for bid strategies; none: the shipped one.
    Strategies(Option<Vec<Row>>),
    /// What is sold, with price and margin: whatever follows a line has its target from it.
    ProductLines(Vec<ProductLine>),
    /// The product line that a campaign or the account follows, and the target that it has from it, or without one.
    Follows {
        /// The line's name.
        line: Option<String>,
        /// The target.
        target: Option<Target>,
    },
    /// What a campaign is run for; none: as its target tells.
    Aim(Option<Aim>),
    /// Whether spend that runs away would be worse than results that a campaign misses.
    FearsRunaway(bool),
}

impl Own {
    fn word(&self) -> &'static str {
        match self {
            Self::Target(_) => "target",
            Self::LeastDifference(_) => "least_difference",
            Self::Purpose(_) => "purpose",
            Self::Peers(_) => "peers",
            Self::Events(_) => "events",
            Self::ClickWindow(_) => "click_window",
            Self::Month(_) => "month",
            Self::Strategies(_) => "strategies",
            Self::ProductLines(_) => "product_lines",
            Self::Follows { .. } => "follows",
            Self::Aim(_) => "aim",
            Self::FearsRunaway(_) => "fears_runaway",
        }
    }
}

/// A decision as it was written down.
#[derive(Clone, Debug)]
pub struct Decision {
    /// Its id.
    pub id: DecisionId,
    /// The campaign; none: the account.
    pub campaign: Option<CampaignId>,
    /// The campaign's name.
    pub name: Option<String>,
    /// What stood before.
    pub was: Own,
    /// What was set.
    pub set_to: Own,
    /// Who.
    pub author: Option<String>,
    /// When.
    pub at: DateTime<Utc>,
    /// The decision that it takes back.
    pub undoes: Option<DecisionId>,
    /// Whether one that takes it back stands.
    pub undone: bool,
}

/// Sets something and writes it down; false if it stands so already, none if the account has no such campaign.
pub async fn decide(
    db: &PgPool,
    account: AccountId,
    person: Option<PersonId>,
    campaign: Option<CampaignId>,
    set_to: &Own,
    undoes: Option<DecisionId>,
) -> Result<Option<bool>, StoreError> {
    let mut tx = crate::begin(db).await?;
    if matches!(set_to, Own::Events(_) | Own::ClickWindow(_)) {
        // An import of the account might be adding up at this moment.
        crate::alone(&mut tx, account).await?;
    }
    let Some(was) = present(&mut tx, account, campaign, set_to).await? else { return Ok(None) };
    if was == *set_to {
        return Ok(Some(false));
    }
    apply(&mut tx, account, campaign, set_to).await?;
    sqlx::query!(
        "INSERT INTO decision (account_id, campaign_id, what, was, set_to, created_by, undoes) VALUES ($1, $2, $3, $4, $5, $6, $7)",
        account.0,
        campaign.map(|c| c.0),
        set_to.word(),
        serde_json::to_value(&was)?,
        serde_json::to_value(set_to)?,
        person.map(|p| p.0),
        undoes.map(|d| d.0)
    )
    .execute(&mut *tx)
    .await?;
    tx.commit().await?;
    Ok(Some(true))
}

/// What stands where something would be set; none if there is no such place. Locks it.
async fn present(
    tx: &mut PgConnection,
    account: AccountId,
    campaign: Option<CampaignId>,
    like: &Own,
) -> Result<Option<Own>, StoreError> {
    let Some(campaign) = campaign else {
        let a = sqlx::query!(
            "SELECT target_cpa, target_roas, least_difference, counted_events, click_window, strategies, product_lines, product_line FROM account WHERE id = $1 FOR UPDATE",
            account.0
        )
        .fetch_optional(&mut *tx)
        .await?;
        if let (Some(_), Own::Month(month)) = (&a, like) {
            let budgets = months::list(&mut *tx, account, month.first).await?;
            let known = months::known(tx, account, month).await?;
            return Ok(known.then_some(Own::Month(Month { budgets, ..*month })));
        }
        let Some(a) = a else { return Ok(None) };
        return Ok(match like {
            Own::Target(_) => Some(Own::Target(targets::read(a.target_cpa, a.target_roas))),
            Own::LeastDifference(_) => Some(Own::LeastDifference(a.least_difference)),
            Own::Events(_) => Some(Own::Events(a.counted_events)),
            Own::ClickWindow(_) => Some(Own::ClickWindow(a.click_window)),
            Own::Strategies(_) => {
                Some(Own::Strategies(a.strategies.map(serde_json::from_value).transpose()?))
            }
            Own::ProductLines(_) => {
                Some(Own::ProductLines(serde_json::from_value(a.product_lines)?))
            }
            Own::Follows { .. } => Some(Own::Follows {
                line: a.product_line,
                target: targets::read(a.target_cpa, a.target_roas),
            }),
            Own::Purpose(_)
            | Own::Peers(_)
            | Own::Month(_)
            | Own::Aim(_)
            | Own::FearsRunaway(_) => None,
        });
    };
    let c = sqlx::query!(
        "SELECT target_cpa, target_roas, purpose, counted_events, aim, fears_runaway, product_line FROM campaign WHERE account_id = $1 AND id = $2 FOR UPDATE",
        account.0,
        campaign.0
    )
    .fetch_optional(&mut *tx)
    .await?;
    let Some(c) = c else { return Ok(None) };
    Ok(match like {
        Own::Target(_) => Some(Own::Target(targets::read(c.target_cpa, c.target_roas))),
        Own::Purpose(_) => Some(Own::Purpose(c.purpose)),
        Own::Events(_) => Some(Own::Events(c.counted_events)),
        Own::Peers(_) => {
            let peers = sqlx::query_scalar!(
                r#"SELECT peer_id AS "id: CampaignId" FROM campaign_peer WHERE account_id = $1 AND campaign_id = $2 ORDER BY 1"#,
                account.0,
                campaign.0
            )
            .fetch_all(&mut *tx)
            .await?;
            Some(Own::Peers(peers))
        }
        Own::Aim(_) => Some(Own::Aim(c.aim.as_deref().and_then(Aim::read))),
        Own::FearsRunaway(_) => Some(Own::FearsRunaway(c.fears_runaway)),
        Own::Follows { .. } => Some(Own::Follows {
            line: c.product_line,
            target: targets::read(c.target_cpa, c.target_roas),
        }),
        Own::LeastDifference(_)
        | Own::ClickWindow(_)
        | Own::Month(_)
        | Own::Strategies(_)
        | Own::ProductLines(_) => None,
    })
}

async fn apply(
    tx: &mut PgConnection,
    account: AccountId,
    campaign: Option<CampaignId>,
    set_to: &Own,
) -> Result<(), StoreError> {
    match (set_to, campaign) {
        (Own::Target(target), None) => targets::set_default(tx, account, *target).await,
        (Own::Target(target), Some(id)) => targets::set_own(tx, account, id, *target).await,
        (Own::LeastDifference(share), _) => {
            sqlx::query!(
                "UPDATE account SET least_difference = $2 WHERE id = $1",
                account.0,
                share
            )
            .execute(&mut *tx)
            .await?;
            Ok(())
        }
        (Own::Purpose(word), id) => {
            sqlx::query!(
                "UPDATE campaign SET purpose = $3 WHERE account_id = $1 AND id = $2",
                account.0,
                id.map(|c| c.0),
                word.as_deref()
            )
            .execute(&mut *tx)
            .await?;
            Ok(())
        }
        (Own::Peers(peers), id) => {
            let id = id.map(|c| c.0);
            sqlx::query!(
                "DELETE FROM campaign_peer WHERE account_id = $1 AND campaign_id = $2",
                account.0,
                id
            )
            .execute(&mut *tx)
            .await?;
            sqlx::query!(
                "INSERT INTO campaign_peer (account_id, campaign_id, peer_id)
                 SELECT $1, $2, c.id FROM campaign c WHERE c.account_id = $1 AND c.id = ANY($3)",
                account.0,
                id,
                &peers.iter().map(|p| p.0).collect::<Vec<_>>()
            )
            .execute(&mut *tx)
            .await?;
            Ok(())
        }
        (Own::Events(events), id) => splits::set_events(tx, account, id, events.as_deref()).await,
        (Own::Month(month), _) => months::set(tx, account, month).await,
        (Own::ClickWindow(days), _) => splits::set_click_window(tx, account, *days).await,
        (Own::Strategies(rows), _) => {
            let rows = rows.as_ref().map(serde_json::to_value).transpose()?;
            sqlx::query!("UPDATE account SET strategies = $2 WHERE id = $1", account.0, rows)
                .execute(&mut *tx)
                .await?;
            Ok(())
        }
        (Own::ProductLines(lines), _) => lines::set(tx, account, lines).await,
        (Own::Follows { line, target }, id) => {
            lines::follow(tx, account, id, line.as_deref(), *target).await
        }
        (Own::Aim(aim), id) => {
            sqlx::query!(
                "UPDATE campaign SET aim = $3 WHERE account_id = $1 AND id = $2",
                account.0,
                id.map(|c| c.0),
                aim.map(Aim::word)
            )
            .execute(&mut *tx)
            .await?;
            Ok(())
        }
        (Own::FearsRunaway(fears), id) => {
            sqlx::query!(
                "UPDATE campaign SET fears_runaway = $3 WHERE account_id = $1 AND id = $2",
                account.0,
                id.map(|c| c.0),
                fears
            )
            .execute(&mut *tx)
            .await?;
            Ok(())
        }
    }
}

/// Decisions of an account, the newest first.
pub async fn list(db: &PgPool, account: AccountId) -> Result<Vec<Decision>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT d.id AS "id: DecisionId", d.campaign_id AS "campaign: CampaignId", c.name AS "name?", d.was, d.set_to, p.name AS "author?",
                  d.created_at, d.undoes AS "undoes: DecisionId",
                  EXISTS (SELECT 1 FROM decision u WHERE u.account_id = $1 AND u.undoes = d.id) AS "undone!"
           FROM decision d LEFT JOIN campaign c ON c.account_id = d.account_id AND c.id = d.campaign_id
           LEFT JOIN person p ON p.id = d.created_by
           WHERE d.account_id = $1 ORDER BY d.id DESC"#,
        account.0
    )
    .fetch_all(db)
    .await?;
    rows.into_iter()
        .map(|r| {
            Ok(Decision {
                id: r.id,
                campaign: r.campaign,
                name: r.name,
                was: serde_json::from_value(r.was)?,
                set_to: serde_json::from_value(r.set_to)?,
                author: r.author,
                at: r.created_at,
                undoes: r.undoes,
                undone: r.undone,
            })
        })
        .collect()
}

/// Each campaign's peers that were chosen by hand: pairs of campaign and peer.
pub async fn peers(
    db: &PgPool,
    account: AccountId,
) -> Result<Vec<(CampaignId, CampaignId)>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT campaign_id AS "campaign: CampaignId", peer_id AS "peer: CampaignId" FROM campaign_peer WHERE account_id = $1 ORDER BY 1, 2"#,
        account.0
    )
    .fetch_all(db)
    .await?;
    Ok(rows.into_iter().map(|r| (r.campaign, r.peer)).collect())
}

/// What somebody answered of a campaign that figures can't tell.
#[derive(Clone, Copy, Debug, Default)]
pub struct Answered {
    /// What it is run for.
    pub aim: Option<Aim>,
    /// Whether spend that runs away is feared.
    pub fears_runaway: bool,
}

/// The account's own table of conditions for bid strategies, and what was answered of its campaigns.
pub async fn strategies(
    db: &PgPool,
    account: AccountId,
) -> Result<(Option<Vec<Row>>, HashMap<CampaignId, Answered>), StoreError> {
    let own = sqlx::query_scalar!("SELECT strategies FROM account WHERE id = $1", account.0)
        .fetch_optional(db)
        .await?
        .flatten();
    let answers = sqlx::query!(
        r#"SELECT id AS "id: CampaignId", aim, fears_runaway FROM campaign
           WHERE account_id = $1 AND (aim IS NOT NULL OR fears_runaway)"#,
        account.0
    )
    .fetch_all(db)
    .await?;
    let answered = |aim: Option<String>, fears_runaway| Answered {
        aim: aim.as_deref().and_then(Aim::read),
        fears_runaway,
    };
    let answers = answers.into_iter().map(|r| (r.id, answered(r.aim, r.fears_runaway))).collect();
    Ok((own.map(serde_json::from_value).transpose()?, answers))
}

/// What names and structure tell of a campaign's purpose.
#[derive(Clone, Debug)]
pub struct Clues {
    /// The campaign.
    pub campaign: CampaignId,
    /// The names of its ad groups.
    pub ad_groups: Vec<String>,
    /// Share of its items whose name has the account's own in it.
    pub own_name_share: f64,
}

/// The clues of all campaigns; `own_name` in lower case.
pub async fn clues(
    db: &PgPool,
    account: AccountId,
    own_name: Option<&str>,
) -> Result<Vec<Clues>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT g.campaign_id AS "campaign: CampaignId", array_agg(DISTINCT g.name) AS "ad_groups!",
                  (count(i.id) FILTER (WHERE strpos(lower(i.name), $2) > 0))::float8 / greatest(count(i.id), 1) AS "share!"
           FROM ad_group g LEFT JOIN item i ON i.account_id = g.account_id AND i.ad_group_id = g.id
           WHERE g.account_id = $1 GROUP BY 1"#,
        account.0,
        own_name
    )
    .fetch_all(db)
    .await?;
    let own = own_name.is_some();
    Ok(rows
        .into_iter()
        .map(|r| Clues {
            campaign: r.campaign,
            ad_groups: r.ad_groups,
            own_name_share: if own { r.share } else { 0.0 },
        })
        .collect())
}
