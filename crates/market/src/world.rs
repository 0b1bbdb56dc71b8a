//! World files: what there is to be simulated, as TOML.

use serde::Deserialize;
use tiller_channel::report::{ItemKind, MatchType};

/// A world: its accounts with their campaigns.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct World {
    /// Everything random follows from it.
    pub seed: u64,
    /// Length of the history in days.
    pub days: u32,
    /// Patterns that make keywords of stems: `{}` stands for the stem.
    pub forms: Vec<String>,
    /// The accounts.
    pub accounts: Vec<Account>,
}

/// One advertiser's account.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Account {
    /// Short name.
    pub key: String,
    /// Full name.
    pub name: String,
    /// ISO 4217 code.
    pub currency: String,
    /// IANA time zone.
    pub time_zone: String,
    /// What a lead may cost, for accounts that count leads.
    #[serde(default)]
    pub target_cpa: Option<f64>,
    /// What an order has to return, for accounts that count orders.
    #[serde(default)]
    pub target_roas: Option<f64>,
    /// The campaigns.
    pub campaigns: Vec<Campaign>,
}

/// How a campaign bids.
#[derive(Clone, Copy, Debug, Deserialize)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Strategy {
    /// A fixed bid a click.
    ManualCpc {
        /// The bid.
        bid: f64,
    },
    /// Target × predicted CVR.
    TargetCpa {
        /// What a conversion may cost, as set at the channel.
        target: f64,
        /// The highest bid.
        #[serde(default)]
        ceiling: Option<f64>,
    },
}

/// One campaign: its demand in all, spread over the items of its ad groups.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Campaign {
    /// Name.
    pub name: String,
    /// Channel that runs it.
    pub channel: String,
    /// What its items are.
    pub kind: ItemKind,
    /// How it bids.
    pub strategy: Strategy,
    /// Daily budget.
    pub budget: f64,
    /// Auctions a day, before season and weekday.
    pub auctions: f64,
    /// Median of the highest competing bid, per click.
    pub competition: f64,
    /// Spread of its logarithm.
    #[serde(default = "default_spread")]
    pub spread: f64,
    /// Click-through rate.
    pub ctr: f64,
    /// Conversion rate.
    pub cvr: f64,
    /// Value per conversion.
    #[serde(default)]
    pub value: f64,
    /// Share of conversions that are reported on their day; the rest follow geometrically.
    #[serde(default = "default_promptness")]
    pub promptness: f64,
    /// Days before the last on which it was launched; it ran before the history otherwise.
    #[serde(default)]
    pub launched: Option<u32>,
    /// Days without reported conversions at the end: the tag is silent.
    #[serde(default)]
    pub silent: u32,
    /// Weekend demand over weekday demand.
    #[serde(default = "default_weekend")]
    pub weekend: f64,
    /// Spread of CVR and worth between its items (standard deviation of the logarithm).
    #[serde(default = "default_unlike")]
    pub unlike: f64,
    /// Its ad groups.
    pub ad_groups: Vec<AdGroup>,
}

/// One ad group.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AdGroup {
    /// Name.
    pub name: String,
    /// Words that the forms make keywords of, or whole items where the kind is not a keyword.
    pub stems: Vec<String>,
    /// Of its keywords.
    #[serde(default = "default_match")]
    pub match_type: MatchType,
}

fn default_spread() -> f64 {
    0.5
}
fn default_promptness() -> f64 {
    0.75
}
fn default_weekend() -> f64 {
    0.8
}
fn default_unlike() -> f64 {
    0.15
}
fn default_match() -> MatchType {
    MatchType::Phrase
}

/// Why a world file can't be used.
#[derive(Debug, thiserror::Error)]
pub enum WorldError {
    /// Not TOML of this form.
    #[error("the world file can't be read: {0}")]
    Form(#[from] toml::de::Error),
    /// A value that makes no sense.
    #[error("{campaign}: {what}")]
    Value {
        /// Where.
        campaign: String,
        /// What to mend.
        what: &'static str,
    },
}

/// The world of the demo.
pub const AMBERFOLD: &str = include_str!("../worlds/amberfold.toml");

impl World {
    /// Reads and checks a world file.
    pub fn parse(text: &str) -> Result<Self, WorldError> {
        let world: Self = toml::from_str(text)?;
        for campaign in world.accounts.iter().flat_map(|a| &a.campaigns) {
            let wrong = |what| Err(WorldError::Value { campaign: campaign.name.clone(), what });
            let rate = |x: f64| (0.0..=1.0).contains(&x);
            if !rate(campaign.ctr) || !rate(campaign.cvr) || !rate(campaign.promptness) {
                return wrong("ctr, cvr and promptness are shares from 0 to 1");
            }
            if campaign.competition <= 0.0 || campaign.spread <= 0.0 || campaign.budget <= 0.0 {
                return wrong("competition, spread and budget are above 0");
            }
            if campaign.ad_groups.iter().all(|g| g.stems.is_empty()) {
                return wrong("it needs an ad group with a stem");
            }
        }
        Ok(world)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_demo_world_has_the_size_that_the_docs_name() {
        let world = World::parse(AMBERFOLD).unwrap();
        let campaigns: Vec<_> = world.accounts.iter().flat_map(|a| &a.campaigns).collect();
        let groups: usize = campaigns.iter().map(|c| c.ad_groups.len()).sum();
        let items: usize =
            world.accounts.iter().flat_map(|a| crate::sim::streams(&world, a)).count();
        assert_eq!((world.accounts.len(), world.days), (3, 150));
        assert!((24..=28).contains(&campaigns.len()), "{}", campaigns.len());
        assert!((80..=100).contains(&groups), "{groups}");
        assert!((1200..=1400).contains(&items), "{items}");
    }

    #[test]
    fn a_wrong_world_is_refused_by_name() {
        assert!(World::parse("seed = 1").is_err());
        let broken = AMBERFOLD.replacen("ctr = 0.", "ctr = 3.", 1);
        assert!(matches!(World::parse(&broken), Err(WorldError::Value { .. })));
    }
}
