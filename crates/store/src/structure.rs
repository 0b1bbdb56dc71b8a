//! What a channel tells of its structure: names, keys and settings.

use std::collections::HashMap;

use serde_json::Value;
use sqlx::{PgConnection, PgPool};
use tiller_core::Window;

use crate::StoreError;
use crate::connections::Connection;
use tiller_core::ids::{AccountId, AdGroupId, CampaignId, ChannelId, ItemId};
use tiller_core::spot::Spot;

/// Makes room for names that moved, in a table below one parent: what is told by its key under another name gives its
/// own up for the moment, and what holds a told name under another key was made anew at the channel; it keeps its
/// figures under a name that says so. Two may swap names, and a new one may take an old one's.
macro_rules! free_names {
    ($tx:expr, $table:tt, $parent:tt, $account:expr, $id:expr, $told:expr) => {{
        let keys: Vec<String> = $told.iter().map(|x| x.told.key.clone()).collect();
        let names: Vec<String> = $told.iter().map(|x| x.told.name.clone()).collect();
        sqlx::query!(
            "UPDATE " + $table + " x SET name = 'renaming ' || x.id || ' ' || gen_random_uuid() FROM unnest($3::text[], $4::text[]) AS t(key, name)
             WHERE x.account_id = $1 AND x." + $parent + " = $2 AND x.channel_key = t.key AND x.name <> t.name",
            $account.0,
            $id,
            &keys,
            &names
        )
        .execute(&mut *$tx)
        .await?;
        sqlx::query!(
            "UPDATE " + $table + " x SET name = x.name || ' (before ' || x.id || ')' FROM unnest($3::text[], $4::text[]) AS t(key, name)
             WHERE x.account_id = $1 AND x." + $parent + " = $2 AND x.name = t.name AND x.channel_key IS NOT NULL AND x.channel_key <> t.key",
            $account.0,
            $id,
            &keys,
            &names
        )
        .execute(&mut *$tx)
        .await?;
    }};
}

/// Writes what stands at the spots of one table.
macro_rules! take_over {
    ($tx:expr, $sets:tt, $account:expr, $part:expr) => {
        sqlx::query!(
            "UPDATE " + $sets + "
         FROM unnest($2::bigint[], $3::jsonb[]) AS t(id, settings) WHERE x.account_id = $1 AND x.id = t.id",
            $account.0,
            &$part.ids,
            &$part.settings
        )
        .execute(&mut *$tx)
        .await?
    };
}

/// Something with a name, the channel's key, and its settings as JSON of the open interface.
#[derive(Clone, Debug)]
pub struct Told {
    /// The channel's key.
    pub key: String,
    /// Its name.
    pub name: String,
    /// What is set.
    pub settings: Value,
}

/// An item as a channel tells it.
#[derive(Clone, Debug)]
pub struct ToldItem {
    /// Key, name, settings.
    pub told: Told,
    /// keyword, listing, ad or audience.
    pub kind: &'static str,
    /// Of a keyword; empty otherwise.
    pub match_type: &'static str,
}

/// An ad group with its items.
#[derive(Clone, Debug)]
pub struct ToldGroup {
    /// Key, name, settings.
    pub told: Told,
    /// Its items.
    pub items: Vec<ToldItem>,
}

/// A campaign with its ad groups.
#[derive(Clone, Debug)]
pub struct ToldCampaign {
    /// Key, name, settings.
    pub told: Told,
    /// What most of its items are.
    pub kind: &'static str,
    /// active, paused or ended.
    pub status: &'static str,
    /// Its ad groups.
    pub ad_groups: Vec<ToldGroup>,
}

/// What a channel tells of itself.
#[derive(Clone, Debug)]
pub struct ToldChannel {
    /// What it does not allow.
    pub limits: Value,
    /// The days that its reports reach over.
    pub days: Window,
    /// Days after a click in which conversions may be reported.
    pub window_days: i16,
    /// Its campaigns.
    pub campaigns: Vec<ToldCampaign>,
}

/// Takes a structure in: what has a known key keeps its figures under a new name, whoever had that name before.
pub async fn save(
    db: &PgPool,
    connection: &Connection,
    told: &ToldChannel,
) -> Result<(), StoreError> {
    let account = connection.account;
    let mut tx = crate::begin(db).await?;
    crate::alone(&mut tx, account).await?;
    sqlx::query!(
        "UPDATE connection SET limits = $3, last_day = $4, window_days = $5 WHERE account_id = $1 AND id = $2",
        account.0,
        connection.id.0,
        told.limits,
        told.days.to(),
        told.window_days
    )
    .execute(&mut *tx)
    .await?;
    free_names!(tx, "campaign", "channel_id", account, connection.channel.0, told.campaigns);
    for campaign in &told.campaigns {
        save_campaign(&mut tx, account, connection.channel, campaign).await?;
    }
    tx.commit().await?;
    Ok(())
}

async fn save_campaign(
    tx: &mut PgConnection,
    account: AccountId,
    channel: ChannelId,
    told: &ToldCampaign,
) -> Result<(), StoreError> {
    let t = &told.told;
    // Reports may have named it before the channel told its key.
    sqlx::query!(
        "UPDATE campaign SET channel_key = $4 WHERE account_id = $1 AND channel_id = $2 AND name = $3 AND channel_key IS NULL
           AND NOT EXISTS (SELECT 1 FROM campaign WHERE account_id = $1 AND channel_id = $2 AND channel_key = $4)",
        account.0,
        channel.0,
        t.name,
        t.key
    )
    .execute(&mut *tx)
    .await?;
    let id = sqlx::query_scalar!(
        "INSERT INTO campaign (account_id, channel_id, name, kind, status, channel_key, settings) VALUES ($1, $2, $3, $4, $5, $6, $7)
         ON CONFLICT ON CONSTRAINT campaign_channel_key DO UPDATE SET name = excluded.name, status = excluded.status, settings = excluded.settings
         RETURNING id",
        account.0,
        channel.0,
        t.name,
        told.kind,
        told.status,
        t.key,
        t.settings
    )
    .fetch_one(&mut *tx)
    .await?;
    free_names!(tx, "ad_group", "campaign_id", account, id, told.ad_groups);
    for group in &told.ad_groups {
        let g = &group.told;
        sqlx::query!(
            "UPDATE ad_group SET channel_key = $4 WHERE account_id = $1 AND campaign_id = $2 AND name = $3 AND channel_key IS NULL
               AND NOT EXISTS (SELECT 1 FROM ad_group WHERE account_id = $1 AND campaign_id = $2 AND channel_key = $4)",
            account.0,
            id,
            g.name,
            g.key
        )
        .execute(&mut *tx)
        .await?;
        let group_id = sqlx::query_scalar!(
            "INSERT INTO ad_group (account_id, campaign_id, name, channel_key, settings) VALUES ($1, $2, $3, $4, $5)
             ON CONFLICT ON CONSTRAINT ad_group_channel_key DO UPDATE SET name = excluded.name, settings = excluded.settings
             RETURNING id",
            account.0,
            id,
            g.name,
            g.key,
            g.settings
        )
        .fetch_one(&mut *tx)
        .await?;
        save_items(&mut *tx, account, group_id, &group.items).await?;
    }
    Ok(())
}

async fn save_items(
    tx: &mut PgConnection,
    account: AccountId,
    group: i64,
    items: &[ToldItem],
) -> Result<(), StoreError> {
    let text = |f: fn(&ToldItem) -> &str| items.iter().map(|i| f(i).to_owned()).collect::<Vec<_>>();
    let settings: Vec<Value> = items.iter().map(|i| i.told.settings.clone()).collect();
    let (keys, names) = (text(|i| &i.told.key), text(|i| &i.told.name));
    let (kinds, matches) = (text(|i| i.kind), text(|i| i.match_type));
    sqlx::query!(
        "UPDATE item i SET name = 'renaming ' || i.id || ' ' || gen_random_uuid() FROM unnest($3::text[], $4::text[]) AS t(key, name)
         WHERE i.account_id = $1 AND i.ad_group_id = $2 AND i.channel_key = t.key AND i.name <> t.name",
        account.0,
        group,
        &keys,
        &names
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!(
        "UPDATE item i SET name = i.name || ' (before ' || i.id || ')' FROM unnest($3::text[], $4::text[], $5::text[], $6::text[]) AS t(key, name, kind, match_type)
         WHERE i.account_id = $1 AND i.ad_group_id = $2 AND i.name = t.name AND i.kind = t.kind AND i.match_type = t.match_type
           AND i.channel_key IS NOT NULL AND i.channel_key <> t.key",
        account.0,
        group,
        &keys,
        &names,
        &kinds,
        &matches
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!(
        "UPDATE item i SET channel_key = t.key FROM unnest($3::text[], $4::text[], $5::text[], $6::text[]) AS t(key, name, kind, match_type)
         WHERE i.account_id = $1 AND i.ad_group_id = $2 AND i.channel_key IS NULL
           AND i.name = t.name AND i.kind = t.kind AND i.match_type = t.match_type
           AND NOT EXISTS (SELECT 1 FROM item j WHERE j.account_id = $1 AND j.ad_group_id = $2 AND j.channel_key = t.key)",
        account.0,
        group,
        &keys,
        &names,
        &kinds,
        &matches
    )
    .execute(&mut *tx)
    .await?;
    sqlx::query!(
        "INSERT INTO item (account_id, ad_group_id, kind, name, match_type, channel_key, settings)
         SELECT $1, $2, t.kind, t.name, t.match_type, t.key, t.settings
         FROM unnest($3::text[], $4::text[], $5::text[], $6::text[], $7::jsonb[]) AS t(key, name, kind, match_type, settings)
         ON CONFLICT ON CONSTRAINT item_channel_key DO UPDATE SET name = excluded.name, settings = excluded.settings",
        account.0,
        group,
        &keys,
        &names,
        &kinds,
        &matches,
        &settings
    )
    .execute(&mut *tx)
    .await?;
    Ok(())
}

/// All that is set at one spot, as JSON of the open interface.
#[derive(Clone, Debug)]
pub struct Standing {
    /// The spot.
    pub spot: Spot,
    /// What is set there.
    pub settings: Value,
}

/// Takes over what a channel has made, until it tells its structure again.
pub(crate) async fn stand(
    tx: &mut PgConnection,
    account: AccountId,
    all: &[Standing],
) -> Result<(), StoreError> {
    let (mut campaigns, mut groups, mut items) =
        (Part::default(), Part::default(), Part::default());
    for Standing { spot, settings } in all {
        match (spot.ad_group, spot.item) {
            (_, Some(item)) => items.add(item.0, settings),
            (Some(group), None) => groups.add(group.0, settings),
            (None, None) => campaigns.add(spot.campaign.0, settings),
        }
    }
    take_over!(
        tx,
        "campaign x SET settings = t.settings, status = t.settings ->> 'status'",
        account,
        campaigns
    );
    take_over!(tx, "ad_group x SET settings = t.settings", account, groups);
    take_over!(tx, "item x SET settings = t.settings", account, items);
    Ok(())
}

/// Standings of one table.
#[derive(Default)]
struct Part {
    ids: Vec<i64>,
    settings: Vec<Value>,
}

impl Part {
    fn add(&mut self, id: i64, settings: &Value) {
        self.ids.push(id);
        self.settings.push(settings.clone());
    }
}

/// A campaign as its channel told it last.
#[derive(Clone, Debug)]
pub struct SetCampaign {
    /// Its id.
    pub id: CampaignId,
    /// The channel.
    pub channel: ChannelId,
    /// The channel's name.
    pub channel_name: String,
    /// Its name.
    pub name: String,
    /// The channel's key.
    pub key: String,
    /// What is set.
    pub settings: Value,
}

/// The account's campaigns with settings, or one of them.
pub async fn campaigns(
    db: &PgPool,
    account: AccountId,
) -> Result<HashMap<CampaignId, SetCampaign>, StoreError> {
    let rows = sqlx::query_as!(
        SetCampaign,
        r#"SELECT c.id AS "id: CampaignId", c.channel_id AS "channel: ChannelId", ch.name AS channel_name, c.name,
                  channel_key AS "key!", settings AS "settings!"
           FROM campaign c JOIN channel ch ON ch.account_id = c.account_id AND ch.id = c.channel_id
           WHERE c.account_id = $1 AND channel_key IS NOT NULL AND settings IS NOT NULL"#,
        account.0
    )
    .fetch_all(db)
    .await?;
    Ok(rows.into_iter().map(|c| (c.id, c)).collect())
}

/// An ad group as its channel told it last.
#[derive(Clone, Debug)]
pub struct SetGroup {
    /// Its id.
    pub id: AdGroupId,
    /// Its campaign.
    pub campaign: CampaignId,
    /// Its name.
    pub name: String,
    /// The channel's key.
    pub key: String,
    /// What is set.
    pub settings: Value,
}

/// The account's ad groups with settings, or those of one campaign.
pub async fn ad_groups(
    db: &PgPool,
    account: AccountId,
) -> Result<HashMap<AdGroupId, SetGroup>, StoreError> {
    let rows = sqlx::query_as!(
        SetGroup,
        r#"SELECT id AS "id: AdGroupId", campaign_id AS "campaign: CampaignId", name, channel_key AS "key!", settings AS "settings!"
           FROM ad_group WHERE account_id = $1 AND channel_key IS NOT NULL AND settings IS NOT NULL"#,
        account.0
    )
    .fetch_all(db)
    .await?;
    Ok(rows.into_iter().map(|g| (g.id, g)).collect())
}

/// An item as its channel told it last.
#[derive(Clone, Debug)]
pub struct SetItem {
    /// Its id.
    pub id: ItemId,
    /// Its ad group.
    pub ad_group: AdGroupId,
    /// Its name.
    pub name: String,
    /// Of a keyword; empty otherwise.
    pub match_type: String,
    /// The channel's key.
    pub key: String,
    /// What is set.
    pub settings: Value,
}

/// Some of the account's items, with settings.
pub async fn items(
    db: &PgPool,
    account: AccountId,
    ids: &[ItemId],
) -> Result<HashMap<ItemId, SetItem>, StoreError> {
    let ids: Vec<i64> = ids.iter().map(|i| i.0).collect();
    let rows = sqlx::query_as!(
        SetItem,
        r#"SELECT id AS "id: ItemId", ad_group_id AS "ad_group: AdGroupId", name, match_type, channel_key AS "key!", settings AS "settings!"
           FROM item WHERE account_id = $1 AND id = ANY($2) AND channel_key IS NOT NULL AND settings IS NOT NULL"#,
        account.0,
        &ids
    )
    .fetch_all(db)
    .await?;
    Ok(rows.into_iter().map(|i| (i.id, i)).collect())
}
