//! Where the pages of an account are.

use std::fmt;

use tiller_core::spot::Subject;
use tiller_desk::{Account, CampaignId};

use crate::params::Params;

/// The addresses of an account's pages; by itself, the beginning of all of them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Paths(String);

impl Paths {
    /// Of an account.
    pub fn of(account: &Account) -> Self {
        Self(format!("/accounts/{}", account.slug))
    }

    /// A page by its name.
    pub fn page(&self, page: &str) -> String {
        format!("{self}/{page}")
    }

    /// The page that examines a thing.
    pub fn causes(&self, of: Subject, days: &Params) -> String {
        match of {
            Subject::Campaign(id) => format!("{self}/causes/campaigns/{id}{days}"),
            Subject::AdGroup(id) => format!("{self}/causes/ad-groups/{id}{days}"),
            Subject::Item(id) => format!("{self}/causes/items/{id}{days}"),
        }
    }

    /// The page on which a campaign's peers are chosen.
    pub fn peers(&self, of: CampaignId, days: &Params) -> String {
        format!("{self}/causes/campaigns/{of}/peers{days}")
    }

    /// A page of a campaign's budget: flight, hours, curve or pool.
    pub fn budget(&self, of: CampaignId, page: &str, days: &Params) -> String {
        format!("{self}/budgets/campaigns/{of}/{page}{days}")
    }
}

impl fmt::Display for Paths {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}
