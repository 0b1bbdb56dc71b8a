//! Targets: an account's default, and a campaign's own.

use sqlx::PgConnection;
use tiller_core::Target;

use crate::StoreError;
use tiller_core::ids::{AccountId, CampaignId};

/// A target from its columns, of which the database holds at most one, above 0.
pub(crate) fn read(cpa: Option<f64>, roas: Option<f64>) -> Option<Target> {
    Target::given(cpa, roas).ok().flatten()
}

impl crate::people::Account {
    /// The account's default target.
    pub fn target(&self) -> Option<Target> {
        read(self.target_cpa, self.target_roas)
    }
}

/// Sets the account's default.
pub(crate) async fn set_default(
    tx: &mut PgConnection,
    account: AccountId,
    target: Option<Target>,
) -> Result<(), StoreError> {
    let (cpa, roas) = target.map(Target::pair).unwrap_or_default();
    sqlx::query!(
        "UPDATE account SET target_cpa = $2, target_roas = $3 WHERE id = $1",
        account.0,
        cpa,
        roas
    )
    .execute(tx)
    .await?;
    Ok(())
}

/// Sets a campaign's own target; none follows the account.
pub(crate) async fn set_own(
    tx: &mut PgConnection,
    account: AccountId,
    campaign: CampaignId,
    target: Option<Target>,
) -> Result<(), StoreError> {
    let (cpa, roas) = target.map(Target::pair).unwrap_or_default();
    sqlx::query!(
        "UPDATE campaign SET target_cpa = $3, target_roas = $4 WHERE account_id = $1 AND id = $2",
        account.0,
        campaign.0,
        cpa,
        roas
    )
    .execute(tx)
    .await?;
    Ok(())
}
