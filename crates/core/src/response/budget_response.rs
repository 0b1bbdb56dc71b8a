//! What a campaign's budget can do (A4): whether more money buys more, along which line, and up to where.
//!
//! Bids set by hand or by a target buy the same mix of auctions at the same price however much of the day the
//! budget lets them bid: straight, up to the money that the demand takes. A strategy that must spend its budget
//! bids higher for more of it: bending. So does an audience that has seen the ad often, which only a step experiment
//! can tell from demand. Money beyond its capacity is spent by none.

use statrs::distribution::{Continuous, ContinuousCDF, Normal};

use crate::allocation::{Precision, Response};
use crate::response::Curve;
use crate::response::regression::Prior;
use crate::{Price, Share};

/// Who makes the bids.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Bidding {
    /// Bids, or a target that bids follow: the budget only stops it.
    Priced,
    /// The same, and a step experiment has shown that more money brings less each.
    Saturates,
    /// A strategy that spends what it gets.
    SpendsAll,
}

/// A settled day with its budget.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct BudgetDay {
    /// Money, in units of currency.
    pub spend: f64,
    /// The budget of the day, if known.
    pub budget: Option<f64>,
    /// Share of auctions stood aside from for want of budget, if the channel tells it.
    pub lost_to_budget: Option<Share>,
}

/// Where a capacity comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Evidence {
    /// Days on which the budget did not hold it.
    FreeDays,
    /// The share of auctions that it stood aside from.
    LostAuctions,
    /// Nothing: it may grow by the shock limit only.
    Unknown,
}

/// The most that a campaign can spend a day.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Capacity {
    /// Money a day; absent where nothing tells.
    pub most: Option<f64>,
    /// Where it comes from.
    pub evidence: Evidence,
}

impl Capacity {
    /// What is spent of a daily budget on the average: the mean of the lesser of it and of what a day could spend.
    ///
    /// ```
    /// use tiller_core::response::budget_response::{Capacity, Evidence};
    /// let c = Capacity { most: Some(100.0), evidence: Evidence::LostAuctions };
    /// // At the most of a mean day, days of more make up for less: 100·(1 − 0.2 ÷ √2π).
    /// assert!((c.expected(100.0) - 92.02).abs() < 0.01);
    /// assert!(c.expected(50.0) > 49.9 && c.expected(200.0) > 99.9 && c.expected(200.0) <= 100.0);
    /// ```
    pub fn expected(self, budget: f64) -> f64 {
        let Some(most) = self.most.filter(|most| *most > 0.0) else { return budget };
        let short = (1.0 - budget / most) / VARIES;
        let day = Normal::standard();
        most * (1.0 - VARIES * (short * day.cdf(short) + day.pdf(short)))
    }
}

/// What a day could spend differs, and is known, to this share of the most (ours, no source).
const VARIES: f64 = 0.2;
/// Days from the end that tell of the present.
const RECENT: usize = 28;
/// A day that spent so much of its budget was held by it.
const HELD: f64 = 0.95;
/// Fewer free days than this tell nothing.
const LEAST_FREE: usize = 5;
/// A share of lost auctions below this is noise.
const LOST: f64 = 0.03;
/// So much of the day is seen to be lost at most: what a channel rounds can't be told apart above.
const MOST_LOST: f64 = 0.9;

/// None at all tells as much as half an event: that of Jeffreys' prior.
pub(super) const LEAST_EVENTS: f64 = 0.5;
/// Budgets within this share of each other are one.
const SAME: f64 = 0.1;
/// Days under a new budget from which they alone are asked.
const LEAST_NEW: usize = 4;

/// The last days that had about the present budget: what others held does not tell what this one does. All of them
/// where those are too few.
fn under_present_budget(days: &[BudgetDay]) -> &[BudgetDay] {
    let recent = &days[days.len().saturating_sub(RECENT)..];
    let Some(now) = recent.iter().rev().find_map(|d| d.budget) else { return recent };
    let other = |d: &BudgetDay| d.budget.is_some_and(|b| (b / now - 1.0).abs() > SAME);
    let from = recent.iter().rposition(other).map_or(0, |last| last + 1);
    if recent.len() - from >= LEAST_NEW { &recent[from..] } else { recent }
}

/// So many of the days under the present budget have to tell something.
fn least(recent: &[BudgetDay]) -> usize {
    LEAST_FREE.min(recent.len().max(LEAST_NEW))
}

/// What is spent a day where the budget does not hold it on most days. Days that it did hold count as what was spent:
/// left out, they would be just the days of high demand.
fn free(recent: &[BudgetDay]) -> Option<f64> {
    let known: Vec<&BudgetDay> = recent.iter().filter(|d| d.budget.is_some()).collect();
    let free = known.iter().filter(|d| d.budget.is_some_and(|b| d.spend < HELD * b)).count();
    let most = 2 * free > known.len() && free >= least(recent);
    most.then(|| known.iter().map(|d| d.spend).sum::<f64>() / known.len() as f64)
}

/// How much a campaign could spend a day, from its last days, in order of time.
pub fn capacity(days: &[BudgetDay]) -> Capacity {
    let recent = under_present_budget(days);
    let told: Vec<(f64, f64)> =
        recent.iter().filter_map(|d| Some((d.spend, d.lost_to_budget?.get()))).collect();
    let mean =
        |of: &dyn Fn(&(f64, f64)) -> f64| told.iter().map(of).sum::<f64>() / told.len() as f64;
    let wanted = || Some(mean(&|(spend, lost)| spend / (1.0 - lost.clamp(0.0, MOST_LOST))));
    let enough = told.len() >= least(recent);
    if enough && mean(&|(_, lost)| *lost) >= LOST {
        return Capacity { most: wanted(), evidence: Evidence::LostAuctions };
    }
    match free(recent) {
        Some(most) => Capacity { most: Some(most), evidence: Evidence::FreeDays },
        // Nothing is lost, and yet the budget is just used up: this is what there is.
        None if enough => Capacity { most: wanted(), evidence: Evidence::LostAuctions },
        None => Capacity { most: None, evidence: Evidence::Unknown },
    }
}

/// Whether an experiment leaves hardly a doubt that more money brings less each.
pub fn surely_bends(measured: Prior) -> bool {
    measured.mean + DOUBT * measured.deviation < 1.0
}

/// The normal quantile of 95%.
const DOUBT: f64 = 1.645;

/// A campaign's answer to its budget.
#[derive(Clone, Debug, PartialEq)]
pub struct BudgetResponse {
    /// Conversions a day for money a day, below the capacity.
    pub response: Response,
    /// How well that is known.
    pub precision: Precision,
    /// The most that it can spend.
    pub capacity: Capacity,
    /// The fitted curve, where it bends.
    pub curve: Option<Curve>,
}

/// How a campaign answers to its budget: a straight line at its rate, or the curve where its strategy spends what it gets.
pub fn budget_response(
    bidding: Bidding,
    curve: Option<&Curve>,
    rate: Rate,
    cpc: Price,
    days: &[BudgetDay],
) -> BudgetResponse {
    match (bidding, curve) {
        (Bidding::SpendsAll | Bidding::Saturates, Some(c)) => BudgetResponse {
            response: c.response,
            precision: c.precision,
            capacity: match (bidding, free(under_present_budget(days))) {
                (Bidding::Saturates, _) => capacity(days),
                // It spends what it gets, at higher bids; only where most days leave money over has that an end.
                // What it stands aside from is its pacing, not its budget.
                (_, Some(most)) => Capacity { most: Some(most), evidence: Evidence::FreeDays },
                (_, None) => Capacity { most: None, evidence: Evidence::Unknown },
            },
            curve: Some(c.clone()),
        },
        _ => BudgetResponse {
            response: Response::Constant { cpc: cpc.units(), cvr: rate.mean * cpc.units() },
            precision: Precision::alone(
                mean(days).max(f64::MIN_POSITIVE),
                [[rate.variance, 0.0], [0.0, 0.0]],
                days.iter().filter(|d| d.spend > 0.0).fold([f64::MAX, 0.0], |[least, most], d| {
                    [f64::min(least, d.spend), f64::max(most, d.spend)]
                }),
            ),
            capacity: capacity(days),
            curve: None,
        },
    }
}

fn mean(days: &[BudgetDay]) -> f64 {
    days.iter().map(|d| d.spend).sum::<f64>() / days.len().max(1) as f64
}

/// Conversions for a unit of money.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Rate {
    /// The estimate.
    pub mean: f64,
    /// Variance of its logarithm.
    pub variance: f64,
}

/// Conversions for a unit of money, which vary `dispersion` times as much as by chance alone.
pub fn rate(conversions: f64, spend: f64, dispersion: f64) -> Rate {
    let dispersion = dispersion.max(1.0);
    let events = (conversions / dispersion).max(LEAST_EVENTS);
    let mean = if spend > 0.0 { events * dispersion / spend } else { 0.0 };
    Rate { mean, variance: 1.0 / events }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn days(n: usize, of: impl Fn(usize) -> (f64, f64, Option<f64>)) -> Vec<BudgetDay> {
        (0..n)
            .map(|i| {
                let (spend, budget, lost) = of(i);
                let lost_to_budget = lost.and_then(Share::new);
                BudgetDay { spend, budget: Some(budget), lost_to_budget }
            })
            .collect()
    }

    #[test]
    fn what_is_lost_tells_how_much_more_there_is() {
        // Half of the auctions were stood aside from: twice the money would have been spent.
        let c = capacity(&days(40, |_| (100.0, 100.0, Some(0.5))));
        assert_eq!((c.most, c.evidence), (Some(200.0), Evidence::LostAuctions));
        // Nothing lost: what it spends is all there is, though it happens to be the budget.
        let c = capacity(&days(40, |_| (100.0, 100.0, Some(0.0))));
        assert_eq!((c.most, c.evidence), (Some(100.0), Evidence::LostAuctions));
    }

    #[test]
    fn free_days_tell_it_where_channels_do_not() {
        let c =
            capacity(&days(
                28,
                |i| if i % 4 == 0 { (80.0, 80.0, None) } else { (60.0, 80.0, None) },
            ));
        assert_eq!((c.most, c.evidence), (Some(65.0), Evidence::FreeDays));
        let held = capacity(&days(28, |_| (80.0, 80.0, None)));
        assert_eq!((held.most, held.evidence), (None, Evidence::Unknown));
        assert_eq!(capacity(&[]).evidence, Evidence::Unknown);
    }

    #[test]
    fn a_new_budget_is_asked_alone() {
        // Held at 30 for weeks, then given 100, of which it spends 60.
        let told =
            |i: usize| if i < 23 { (30.0, 30.0, Some(0.4)) } else { (60.0, 100.0, Some(0.0)) };
        let c = capacity(&days(28, told));
        assert_eq!((c.most, c.evidence), (Some(60.0), Evidence::FreeDays));
        // Three days are too few to go by.
        let early =
            |i: usize| if i < 25 { (30.0, 30.0, Some(0.5)) } else { (60.0, 100.0, Some(0.0)) };
        assert_eq!(capacity(&days(28, early)).evidence, Evidence::LostAuctions);
    }

    #[test]
    fn only_a_strategy_that_spends_what_it_gets_bends() {
        let data: Vec<crate::response::Day> = (0..60)
            .map(|i| {
                let spend = 60.0 + 15.0 * ((i * 7 % 11) as f64);
                let conversions = spend.powf(0.6);
                crate::response::Day {
                    weekday: crate::week::DAYS[i % 7],
                    at: i as f64,
                    spend,
                    conversions,
                    budget: Some(spend),
                    step: None,
                }
            })
            .collect();
        let curve = crate::response::fit(&data, crate::response::BELIEF).unwrap();
        let days = days(28, |_| (100.0, 100.0, Some(0.2)));
        let rate = Rate { mean: 0.05, variance: 0.01 };
        let straight = budget_response(Bidding::Priced, Some(&curve), rate, Price(2.0), &days);
        assert_eq!(straight.response, Response::Constant { cpc: 2.0, cvr: 0.1 });
        assert_eq!(straight.capacity.most, Some(125.0));
        assert_eq!(straight.precision.observed, [100.0, 100.0]);
        let bent = budget_response(Bidding::SpendsAll, Some(&curve), rate, Price(2.0), &days);
        assert_eq!((bent.response, bent.capacity.most), (curve.response, None));
        // Where its budget is more than it spends, whatever it stood aside from, it has an end.
        let idle: Vec<BudgetDay> =
            days.iter().map(|d| BudgetDay { budget: Some(300.0), ..*d }).collect();
        let ended = budget_response(Bidding::SpendsAll, Some(&curve), rate, Price(2.0), &idle);
        assert_eq!(ended.capacity.most, Some(100.0));
        // An experiment has shown it: bending, and no further than what it stands aside from allows.
        let tired = budget_response(Bidding::Saturates, Some(&curve), rate, Price(2.0), &days);
        assert_eq!((tired.response, tired.capacity.most), (curve.response, Some(125.0)));
        let blind = budget_response(Bidding::SpendsAll, None, rate, Price(2.0), &days);
        assert!(matches!(blind.response, Response::Constant { .. }));
    }

    /// 0.7 ± 0.15 keeps 95% below 0.95; ± 0.2 does not.
    #[test]
    fn an_experiment_has_to_be_sure() {
        assert!(surely_bends(Prior { mean: 0.7, deviation: 0.15 }));
        assert!(!surely_bends(Prior { mean: 0.7, deviation: 0.2 }));
    }

    /// By hand: 4 conversions for 200 that vary twice as much as by chance count for 2.
    #[test]
    fn a_rate_is_as_sure_as_its_events() {
        assert_eq!(rate(4.0, 200.0, 1.0), Rate { mean: 0.02, variance: 0.25 });
        assert_eq!(rate(4.0, 200.0, 2.0), Rate { mean: 0.02, variance: 0.5 });
        assert_eq!(rate(0.0, 0.0, 1.0), Rate { mean: 0.0, variance: 2.0 });
    }
}
