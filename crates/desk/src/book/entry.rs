//! One campaign of a book.

use std::sync::Arc;
use tiller_core::Share;

use tiller_core::evidence::{dispersion, lasting_dispersion};
use tiller_core::purpose::Purpose;
use tiller_core::segments::Rules;
use tiller_core::verdict::{BudgetUse, LimitedBy};
use tiller_core::{Micros, Price, Tally, Target, Window};
use tiller_store::facts::{Campaign, CampaignDay};

/// One campaign with all that the book knows of it.
#[derive(Clone, Debug)]
pub struct Entry {
    /// The campaign.
    pub campaign: Campaign,
    /// What a result may cost: its own target, else the account's.
    pub target: Option<Target>,
    /// What it is for among its peers: as somebody said, else as guessed.
    pub purpose: Purpose,
    /// Its days, history included.
    pub days: Arc<[CampaignDay]>,
}

/// What was counted, with the conversions that are still to come.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Completed {
    /// Both together.
    pub tally: Tally,
    /// How many are still to come.
    pub to_come: f64,
    /// The standard error of that.
    pub error: f64,
}

impl Entry {
    /// What was counted in a window.
    pub fn tally(&self, window: Window) -> Tally {
        self.days.iter().filter(|d| window.contains(d.day)).map(|d| d.tally).sum()
    }

    /// The same with the conversions that are still to come, by the campaign's own run-off: their value goes with them.
    pub(crate) fn completed(&self, window: Window) -> Completed {
        let mut all = Completed::default();
        let mut variance = 0.0;
        for day in self.days.iter().filter(|d| window.contains(d.day)) {
            let mut tally = day.tally;
            if let Some(expected) = day.expected.filter(|e| e.mean > tally.conversions) {
                let times =
                    if tally.conversions > 0.0 { expected.mean / tally.conversions } else { 1.0 };
                all.to_come += expected.mean - tally.conversions;
                tally.value = Micros::from_units(tally.value.to_units() * times);
                tally.conversions = expected.mean;
                variance += expected.error.powi(2);
            }
            all.tally += tally;
        }
        all.error = variance.sqrt();
        all
    }

    /// Days in a window on which anything was counted.
    pub(crate) fn reported(&self, window: Window) -> u64 {
        self.days.iter().filter(|d| window.contains(d.day)).count() as u64
    }

    /// Budget use and bid over a window.
    pub fn budget_use(&self, window: Window) -> BudgetUse {
        let mut budget_use = BudgetUse::default();
        let (mut spend, mut budgets) = (0.0, 0.0);
        for day in self.days.iter().filter(|d| window.contains(d.day)) {
            if let Some(budget) = day.budget.map(Micros::to_units).filter(|b| *b > 0.0) {
                let spent = day.tally.spend.to_units();
                budget_use.days += 1;
                budget_use.full_days += u32::from(spent >= 0.95 * budget);
                spend += spent;
                budgets += budget;
            }
            budget_use.ceiling = day.bid.map(Price::from).or(budget_use.ceiling);
        }
        let days = self.days.iter().filter(|d| window.contains(d.day));
        budget_use.lost_to_bid = Share::mean(days.filter_map(|d| d.lost_to_bid));
        budget_use.used = (budgets > 0.0).then(|| spend / budgets);
        budget_use
    }

    /// What holds for bids of its parts: its days tell how much they differ, and where its budget is the limit more
    /// clicks are of no use.
    pub fn rules(&self, target: Target, window: Window) -> Rules {
        let dispersion = dispersion(self.yield_of_days(target.is_roas(), window).into_iter());
        let raise =
            self.budget_use(window).limited_by(self.tally(window).cpc()) != LimitedBy::Budget;
        Rules { target, dispersion, raise }
    }

    /// How much more its results of some weeks differ than chance alone lets them.
    pub fn lasting_dispersion(&self, by_value: bool, window: Window) -> f64 {
        lasting_dispersion(&self.yield_of_days(by_value, window))
    }

    /// Results and clicks of each day up to a window's last: by value, in orders of the mean.
    fn yield_of_days(&self, by_value: bool, window: Window) -> Vec<(f64, f64)> {
        let days = || self.days.iter().filter(|d| d.day <= window.to()).map(|d| &d.tally);
        let aov = days().copied().sum::<Tally>().aov().and_then(Price::positive);
        let results = |t: &Tally| match aov.filter(|_| by_value) {
            Some(aov) => Price::from(t.value) / aov,
            None => t.conversions,
        };
        days().map(|t| (results(t), t.clicks as f64)).collect()
    }

    /// The last known daily budget.
    pub fn budget(&self) -> Option<f64> {
        self.days.iter().rev().find_map(|d| d.budget).map(Micros::to_units)
    }
}
