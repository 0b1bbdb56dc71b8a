//! Rollups that have been read, kept for as long as the database says that they have not changed: most pages of
//! an account look at the same days. Only a copy is kept here; several servers may run on one database.

use std::collections::HashMap;
use std::sync::{Arc, LazyLock};
use std::time::Duration;

use moka::sync::Cache;
use tiller_core::Window;
use tiller_core::ids::{AccountId, CampaignId};
use tiller_core::purpose::{self, Purpose};
use tiller_core::tracking::EventCount;
use tiller_store::decisions::{self, Clues};
use tiller_store::facts::{self, CampaignDay};
use tiller_store::people::Account;
use tiller_store::{PgPool, splits};

use crate::DeskError;

/// Days of campaigns that are kept at most, some 150 bytes each.
const MOST_DAYS: u64 = 400_000;
/// What nobody looks at is let go.
pub const IDLE: Duration = Duration::from_mins(10);

/// Days and events of an account's campaigns.
#[derive(Clone, Debug, Default)]
pub struct Rollups {
    /// Each campaign's days.
    pub days: HashMap<CampaignId, Arc<[CampaignDay]>>,
    /// What each campaign's events brought in the period, where reports tell them.
    pub events: HashMap<CampaignId, Vec<EventCount>>,
    /// What names and structure tell of each campaign's purpose.
    pub clues: HashMap<CampaignId, Clues>,
}

impl Rollups {
    /// What a campaign is likely to be for.
    pub fn guess(&self, account: &str, campaign: &facts::Campaign) -> Purpose {
        let own_name = purpose::own_name(account);
        let clues = self.clues.get(&campaign.id);
        let ad_groups: Vec<&str> =
            clues.iter().flat_map(|c| &c.ad_groups).map(String::as_str).collect();
        purpose::guess(&purpose::Clues {
            campaign: &campaign.name,
            kind: &campaign.kind,
            ad_groups: &ad_groups,
            own_name: own_name.as_deref(),
            own_name_share: clues.map_or(0.0, |c| c.own_name_share),
        })
    }
}

/// The state of an account's figures: whatever is computed of them alone is the same while this is.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Stamp {
    database: String,
    account: AccountId,
    version: i64,
}

impl Stamp {
    /// Reads it. Before the figures: what is read after it may be newer than it says, never older.
    pub async fn read(pool: &PgPool, account: AccountId) -> Result<Self, DeskError> {
        let options = pool.connect_options();
        let name = options.get_database().unwrap_or_default();
        let database = format!("{}:{}/{name}", options.get_host(), options.get_port());
        Ok(Self { database, account, version: facts::version(pool, account).await? })
    }
}

/// Days that are looked at, and the period.
type Key = (Stamp, Window, Window);

static KEPT: LazyLock<Cache<Key, Arc<Rollups>>> = LazyLock::new(|| {
    Cache::builder()
        .weigher(|_, r: &Arc<Rollups>| {
            let days: usize = r.days.values().map(|d| d.len()).sum();
            u32::try_from(days).unwrap_or(u32::MAX).max(1)
        })
        .max_capacity(MOST_DAYS)
        .time_to_idle(IDLE)
        .build()
});

/// The days of `reach`, and the events of `period`.
pub async fn read(
    pool: &PgPool,
    account: &Account,
    reach: Window,
    period: Window,
) -> Result<Arc<Rollups>, DeskError> {
    let own_name = purpose::own_name(&account.name);
    let account = account.id;
    let key = (Stamp::read(pool, account).await?, reach, period);
    if let Some(kept) = KEPT.get(&key) {
        return Ok(kept);
    }
    let (days, events, clues) = tokio::try_join!(
        facts::campaign_days(pool, account, reach),
        splits::events(pool, account, period),
        decisions::clues(pool, account, own_name.as_deref())
    )?;
    let clues = clues.into_iter().map(|c| (c.campaign, c)).collect();
    let mut rollups = Rollups { clues, ..Rollups::default() };
    for of_one in days.chunk_by(|a, b| a.campaign == b.campaign) {
        rollups.days.insert(of_one[0].campaign, of_one.into());
    }
    for e in events {
        rollups.events.entry(e.campaign).or_default().push(EventCount {
            event: e.event,
            conversions: e.conversions,
            value: e.value.to_units(),
            counts: e.counts,
        });
    }
    let rollups = Arc::new(rollups);
    KEPT.insert(key, Arc::clone(&rollups));
    Ok(rollups)
}
