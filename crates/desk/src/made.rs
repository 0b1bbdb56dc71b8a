//! Changes of campaigns that were made, as settings before and after.

use chrono::NaiveDate;
use serde::Deserialize;
use tiller_core::ids::CampaignId;
use tiller_core::setting::Setting;
use tiller_store::people::Account;
use tiller_store::touched::{self, Made};
use tiller_store::{PgPool, StoreError};

use crate::DeskError;

/// A change of a campaign as a whole that its channel has made.
pub struct MadeChange {
    /// The campaign.
    pub campaign: CampaignId,
    /// First day in force.
    pub from: NaiveDate,
    /// What was set, where that is known.
    pub was: Option<Setting>,
    /// What it set.
    pub set: Setting,
}

/// Those made after a day, in order of the first day in force.
pub async fn after(
    db: &PgPool,
    account: &Account,
    day: NaiveDate,
) -> Result<Vec<MadeChange>, DeskError> {
    let made = touched::made_after(db, account.id, day).await?;
    made.iter().map(MadeChange::read).collect()
}

impl MadeChange {
    fn read(made: &Made) -> Result<Self, DeskError> {
        let read = |v| Setting::deserialize(v).map_err(StoreError::from);
        let (was, set) = (made.was.as_ref().map(read).transpose()?, read(&made.set_to)?);
        Ok(Self { campaign: made.campaign, from: made.from, was, set })
    }

    /// What the campaign bid before, as a number that rises with its bids; none where something else stood for its bids.
    pub fn bid_before(&self) -> Option<f64> {
        self.was.as_ref().filter(|was| was.alike(&self.set)).and_then(Setting::bid_level)
    }

    /// Times as much as before that is bid since.
    pub fn bid_times(&self) -> Option<f64> {
        Some(self.set.bid_level()? / self.bid_before()?)
    }
}
