//! A change that somebody or some advice proposes, with its reason, its evidence and what it is expected to add.

use tiller_core::ids::ChangeId;
use tiller_core::setting::{CampaignSettings, Setting, Strategy};
use tiller_core::{Micros, Price};

use tiller_core::spot::{Spot, Subject};

use crate::account::settings::Settings;
use crate::change_words;

/// Where a proposal comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Origin {
    /// Set by hand in a table.
    Hand,
    /// Advice of Causes.
    Causes,
    /// A plan.
    Plan,
    /// The week's advice.
    Week,
    /// A change is taken back.
    Undo,
    /// A course takes its next step.
    Course,
    /// Another strategy.
    Bids,
    /// A rule.
    Rule,
}
tiller_core::words!(Origin: Hand "hand", Causes "causes", Plan "plan", Week "week", Undo "undo", Course "course", Bids "bids", Rule "rule");

/// What a change is expected to add a day; absent where nothing tells.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Adds {
    /// Spend, in units of currency.
    pub spend: Option<f64>,
    /// Conversions.
    pub conversions: Option<f64>,
    /// Their value.
    pub value: Option<f64>,
}

impl Adds {
    /// What a change of spend and conversions adds, of results that are worth so much.
    pub fn of(spend: f64, conversions: f64, worth: Option<Price>) -> Self {
        let value = worth.map(|w| w.units() * conversions);
        Self { spend: Some(spend), conversions: Some(conversions), value }
    }
}

/// A change that somebody or some advice proposes.
#[derive(Clone, Debug)]
pub struct Proposal {
    /// To what.
    pub subject: Subject,
    /// What shall be set.
    pub set: Setting,
    /// Why.
    pub reason: String,
    /// Figures that it rests on, as they stand.
    pub evidence: Vec<(String, String)>,
    /// What it is expected to do.
    pub effect: String,
    /// What it is expected to add a day.
    pub adds: Adds,
    /// Where it comes from.
    pub origin: Origin,
    /// The change that it takes back.
    pub undoes: Option<ChangeId>,
    /// What has to change with it for it to do what it is for.
    pub along: Vec<Proposal>,
}

impl Proposal {
    /// What shall be set where, and why.
    pub fn new(subject: Subject, set: Setting, origin: Origin, reason: impl Into<String>) -> Self {
        Self {
            subject,
            set,
            reason: reason.into(),
            evidence: Vec::new(),
            effect: String::new(),
            adds: Adds::default(),
            origin,
            undoes: None,
            along: Vec::new(),
        }
    }

    /// What it sets, and what changes with it, as a page says it.
    pub fn aim(&self) -> String {
        let along = self.along.iter().map(|p| change_words::aim(&p.set).to_lowercase());
        std::iter::once(change_words::aim(&self.set)).chain(along).collect::<Vec<_>>().join(", ")
    }

    /// Itself and what changes with it, each by itself.
    pub fn apart(mut self) -> impl Iterator<Item = Self> {
        let along = std::mem::take(&mut self.along);
        std::iter::once(self).chain(along)
    }

    /// With a figure that it rests on.
    #[must_use]
    pub fn because(mut self, title: impl Into<String>, figure: impl Into<String>) -> Self {
        self.evidence.push((title.into(), figure.into()));
        self
    }

    /// With what it is expected to do, in words and in figures.
    #[must_use]
    pub fn expecting(mut self, effect: impl Into<String>, adds: Adds) -> Self {
        self.effect = effect.into();
        self.adds = adds;
        self
    }

    /// As the change that takes another back.
    #[must_use]
    pub fn undoing(mut self, change: ChangeId) -> Self {
        self.undoes = Some(change);
        self
    }
}

/// Money as it is proposed: in hundredths; the account's own coins are seen to in the tray.
pub(crate) fn coins(units: f64) -> Micros {
    Micros::from_units((units * 100.0).round() / 100.0)
}

/// A highest bid holds what a click costs where that is at least this share of it (ours, no source: a click costs 0.7 to
/// 0.8 of a bid by hand).
const HELD: f64 = 0.6;

/// Whether a highest bid is what holds what a click costs: far above that it does nothing.
pub fn holds(highest: f64, paid: Price) -> bool {
    paid.units() >= HELD * highest
}

/// The level that lower bids of a campaign are counted from: what stands for its bid, and of a highest bid no more than
/// where it begins to hold.
pub fn lower_from(set: &CampaignSettings, paid: Price) -> Option<f64> {
    let held = if set.strategy.spends_any_budget() { paid.units() / HELD } else { f64::INFINITY };
    Some(set.bid_level()?.min(held))
}

/// So many times what sets bids at a spot: its bid, its strategy's target or highest bid; none where nothing does. Where a
/// click costs `paid`, lower ones are counted from where they begin to hold.
pub fn bid_times(
    settings: &Settings,
    spot: Spot,
    ratio: f64,
    paid: Option<Price>,
) -> Option<Setting> {
    let campaign = settings.campaign(spot.campaign)?;
    match campaign.strategy {
        Strategy::ManualCpc | Strategy::ManualCpm => {
            let bid = settings.bid(spot)?.to_units() * ratio;
            Some(Setting::Bid(Some(coins(bid))))
        }
        // Its ad groups and items have no targets of their own.
        _ if spot.ad_group.is_some() => None,
        Strategy::TargetCpa { target } => {
            let target = coins(target.to_units() * ratio);
            Some(Setting::Strategy(Strategy::TargetCpa { target }))
        }
        Strategy::TargetRoas { target } => {
            let target = (target / ratio * 100.0).round() / 100.0;
            Some(Setting::Strategy(Strategy::TargetRoas { target }))
        }
        Strategy::MostClicks | Strategy::MostConversions | Strategy::MostValue => {
            let from = match paid.filter(|_| ratio < 1.0) {
                Some(paid) => lower_from(campaign, paid)?,
                None => campaign.bid_level()?,
            };
            Some(Setting::BidCeiling(Some(coins(from * ratio))))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_highest_bid_far_above_what_is_paid_is_lowered_from_where_it_holds() {
        let mut set = CampaignSettings::bidding(Strategy::MostValue);
        set.bid_ceiling = Some(Micros::from_units(1.2));
        assert!(!holds(1.2, Price(0.3)) && holds(1.2, Price(0.72)));
        assert_eq!(lower_from(&set, Price(0.3)), Some(0.5), "0.30 is six tenths of 0.50");
        assert_eq!(lower_from(&set, Price(0.9)), Some(1.2), "it holds already");
        set.bid_ceiling = None;
        assert_eq!(lower_from(&set, Price(0.3)), None, "nothing stands for its bid");
        // A target is not the price of a click.
        let target = Micros::from_units(30.0);
        let asks = CampaignSettings::bidding(Strategy::TargetCpa { target });
        assert_eq!(lower_from(&asks, Price(0.3)), Some(30.0));
    }
}
