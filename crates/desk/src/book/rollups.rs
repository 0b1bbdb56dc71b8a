//! Rollups that have been read, kept for as long as the figures stand: most pages of an account look at the same days.

use std::collections::HashMap;
use std::sync::Arc;

use tiller_core::Window;
use tiller_core::ids::CampaignId;
use tiller_core::purpose::{self, Purpose};
use tiller_store::PgPool;
use tiller_store::decisions::{self, Clues};
use tiller_store::facts::{self, CampaignDay};
use tiller_store::late::{self, EventDay};
use tiller_store::people::Account;

use crate::DeskError;
use crate::kept::{Kept, Stamp};

/// Days and events of an account's campaigns.
#[derive(Clone, Debug, Default)]
pub struct Rollups {
    /// Each campaign's days.
    pub days: HashMap<CampaignId, Arc<[CampaignDay]>>,
    /// What each campaign's events brought a day, where reports tell them.
    pub events: Arc<HashMap<CampaignId, Vec<EventDay>>>,
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

/// Of so many periods; some 150 bytes a campaign and day.
static KEPT: Kept<(Window, Window), Rollups> = Kept::new(16);

/// The days of `reach`, and the events of `period`.
pub async fn read(
    db: &PgPool,
    account: &Account,
    stamp: &Stamp,
    reach: Window,
    period: Window,
) -> Result<Arc<Rollups>, DeskError> {
    KEPT.get(&stamp.of_figures(), (reach, period), || load(db, account, reach, period)).await
}

async fn load(
    db: &PgPool,
    account: &Account,
    reach: Window,
    period: Window,
) -> Result<Rollups, DeskError> {
    let own_name = purpose::own_name(&account.name);
    let account = account.id;
    let (days, events, clues) = tokio::try_join!(
        facts::campaign_days(db, account, reach),
        late::event_days(db, account, period),
        decisions::clues(db, account, own_name.as_deref())
    )?;
    let clues = clues.into_iter().map(|c| (c.campaign, c)).collect();
    let events = events.chunk_by(|a, b| a.campaign == b.campaign);
    let events = events.map(|of_one| (of_one[0].campaign, of_one.to_vec())).collect();
    let mut rollups = Rollups { clues, events: Arc::new(events), ..Rollups::default() };
    for of_one in days.chunk_by(|a, b| a.campaign == b.campaign) {
        rollups.days.insert(of_one[0].campaign, of_one.into());
    }
    Ok(rollups)
}
