//! Response curves (A4): conversions a day as a function of money a day, learned from a campaign's own days.
//!
//! Conversions are quasi-Poisson with log mean = α + b·log (money that was set) + γ·log (money beyond it) + weekday + trend.
//! What a day spends moves with demand, and so do its conversions: that tells of demand, not of money. Only money that
//! somebody set tells what money brings, by a plan or by another budget: as far as spend followed (two-stage least squares;
//! P. G. Wright, The Tariff on Animal and Vegetable Oils (1928), appendix B). The elasticity *b* has a prior that campaigns
//! of a channel share, whose mean is not known exactly either; where nobody moved money, it is all there is. Days that
//! follow one another count for less than as many days that don't. Common practice, no source: returns diminish, so *b*
//! lies below 1.
//!
//! ```
//! use tiller_core::week::DAYS;
//! use tiller_core::response::{BELIEF, Day, fit};
//! // A budget is set between 40 and 160 a day and spent, and conversions follow its root.
//! let days: Vec<Day> = (0..84)
//!     .map(|i| {
//!         let spend = 40.0 * (1.0 + f64::from(i % 4));
//!         let (weekday, conversions) = (DAYS[i as usize % 7], 2.0 * spend.sqrt());
//!         Day { weekday, at: f64::from(i), spend, conversions, budget: Some(spend), step: None }
//!     })
//!     .collect();
//! let curve = fit(&days, BELIEF).unwrap();
//! assert!((curve.elasticity - 0.5).abs() < 0.05);
//! assert!(fit(&days[..5], BELIEF).is_none(), "five days tell nothing");
//! ```

pub mod budget_response;
pub mod compared;
pub mod experiment;
mod lever;
pub mod regression;

use chrono::Weekday;
use nalgebra::DMatrix;
use serde::{Deserialize, Serialize};

use crate::allocation::{Precision, Response};
use crate::evidence::Interval;
use regression::{Prior, Regression, Rows, poisson};

/// What is believed of elasticities before any channel has been seen.
pub const BELIEF: Prior = Prior { mean: 0.7, deviation: 0.2 };
/// How far campaigns of a channel lie apart.
const APART: f64 = 0.15;
/// What is believed of money that nobody set: it came with as much more demand, give or take.
const BY_ITSELF: Prior = Prior { mean: 1.0, deviation: 0.6 };
/// No two days are taken to be more alike than this.
const MOST_ALIKE: f64 = 0.9;
/// Elasticities that are believed at all.
const BELIEVED: (f64, f64) = (0.05, 1.0);
/// Where its own days take off less than this share of the variance of what was believed, a curve leans on that.
const LEAST_TOLD: f64 = 0.5;
/// What is believed of a weekday's effect and of a trend over all days, as logarithms.
const WEEKDAY: Prior = Prior { mean: 0.0, deviation: 0.4 };
const TREND: Prior = Prior { mean: 0.0, deviation: 0.5 };
/// How far from the usual spend the half-way spend may lie, as a logarithm.
const HALF_WAY: f64 = 1.5;
const MOST_STEPS: usize = 40;
/// Days with spend and conversions below which nothing is fitted.
const LEAST_DAYS: usize = 14;
const LEAST_CONVERSIONS: f64 = 5.0;
/// Days from the end whose money is that of now.
const PRESENT: usize = 14;
/// A saturating curve is taken where it fits better by so much (Akaike's criterion, scaled).
const CLEARLY: f64 = 2.0;

/// A settled day.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Day {
    /// Its day of the week.
    pub weekday: Weekday,
    /// Days since the first; gaps are kept.
    pub at: f64,
    /// Money, in units of currency.
    pub spend: f64,
    /// Conversions, or conversions' worth of value.
    pub conversions: f64,
    /// The money that was set for it, if known.
    pub budget: Option<f64>,
    /// On a day of a planned step, the logarithm of its money over the mean of the plan's steps.
    pub step: Option<f64>,
}

/// What is believed of a campaign's elasticity beforehand.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Belief {
    /// From its channel.
    #[serde(flatten)]
    pub prior: Prior,
    /// The part of its deviation that all campaigns of the channel share: its mean is not known exactly.
    #[serde(default)]
    pub error: f64,
}

impl From<Prior> for Belief {
    fn from(prior: Prior) -> Self {
        Self { prior, error: 0.0 }
    }
}

/// A campaign's curve with its evidence.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Curve {
    /// Its form and parameters, at the level of the last days.
    pub response: Response,
    /// Elasticity of the power form.
    pub elasticity: f64,
    /// Its standard error.
    pub elasticity_error: f64,
    /// Variance over mean of a day's conversions given the curve.
    pub dispersion: f64,
    /// Correlation of how far a day lies off with how far the one before does.
    #[serde(default)]
    pub follows: f64,
    /// Days and conversions that it was fitted to.
    pub days: usize,
    /// See `days`.
    pub conversions: f64,
    /// Standard deviation of the logarithm of money as it was set, as far as spend followed.
    pub spread: f64,
    /// Its own days tell less of its form than its channel does: money was hardly moved, or results are few.
    pub leans: bool,
    /// The part of the elasticity's error that it has together with all campaigns of its channel.
    #[serde(default)]
    pub shared: f64,
    /// What planned steps of its money measured of the elasticity, without its channel.
    #[serde(default)]
    pub measured: Option<Prior>,
    /// How well it is known, and where it has been seen.
    pub precision: Precision,
}

impl Curve {
    /// Conversions a day at a spend a day.
    pub fn at(&self, spend: f64) -> f64 {
        self.response.at(spend)
    }

    /// Interval of the mean of conversions a day at a spend a day.
    pub fn interval(&self, spend: f64, confidence: f64) -> Interval {
        self.precision.interval(self.response, spend, confidence)
    }
}

/// What is believed of the elasticity of each of a channel's campaigns: what the others tell.
///
/// Each campaign is fitted with the belief alone, its own evidence is parted from that, and the channel's mean
/// follows from all the others; its error is part of the belief.
pub fn of_channel(campaigns: &[&[Day]]) -> Vec<Belief> {
    let wide = Prior { deviation: BELIEF.deviation.hypot(APART), ..BELIEF };
    let told = |days: &&[Day]| {
        let own = own_evidence(&power(&Useful::of(days)?, wide)?, wide)?;
        let weight = 1.0 / (own.deviation.powi(2) + APART * APART);
        Some((weight, weight * own.mean.clamp(BELIEVED.0 - 0.5, BELIEVED.1 + 0.5)))
    };
    let told: Vec<Option<(f64, f64)>> = campaigns.iter().map(told).collect();
    let start = BELIEF.deviation.powi(-2);
    let all = told
        .iter()
        .flatten()
        .fold((start, BELIEF.mean * start), |sum, t| (sum.0 + t.0, sum.1 + t.1));
    let belief = |own: &Option<(f64, f64)>| {
        let own = own.unwrap_or_default();
        let (precision, sum) = (all.0 - own.0, all.1 - own.1);
        let error = precision.powf(-0.5);
        Belief {
            prior: Prior {
                mean: (sum / precision).clamp(0.3, 0.95),
                deviation: APART.hypot(error),
            },
            error,
        }
    };
    told.iter().map(belief).collect()
}

/// What a fit tells of its elasticity without what was believed beforehand; none where that is next to nothing.
fn own_evidence(fit: &Regression, prior: Prior) -> Option<Prior> {
    let (b, variance) = (fit.coefficients[1], fit.covariance[(1, 1)]);
    let information = 1.0 / variance - prior.deviation.powi(-2);
    let mean = (b / variance - prior.mean * prior.deviation.powi(-2)) / information;
    (information > 1e-6).then(|| Prior { mean, deviation: information.powf(-0.5) })
}

/// Days that tell something, with the spend in their middle and what of each day's money was set.
struct Useful {
    days: Vec<Day>,
    /// The geometric mean of what they spend.
    reference: f64,
    /// Of each day, the logarithm of its money as it was set over the reference.
    set: Vec<f64>,
}

impl Useful {
    fn of(days: &[Day]) -> Option<Self> {
        let days: Vec<Day> = days.iter().filter(|d| d.spend > 0.0).copied().collect();
        let conversions: f64 = days.iter().map(|d| d.conversions).sum();
        if days.len() < LEAST_DAYS || conversions < LEAST_CONVERSIONS {
            return None;
        }
        let reference = (days.iter().map(|d| d.spend.ln()).sum::<f64>() / days.len() as f64).exp();
        let set = lever::set(&days);
        Some(Self { days, reference, set })
    }

    /// Of a day, the logarithm of its money over what was set.
    fn by_itself(&self, i: usize) -> f64 {
        (self.days[i].spend / self.reference).ln() - self.set[i]
    }

    /// Columns: constant, the form's parameter at the money that was set, six weekdays, trend from the last day backwards, and
    /// the money that moved by itself.
    fn columns(&self, form: impl Fn(f64) -> f64) -> DMatrix<f64> {
        let days = &self.days;
        DMatrix::from_fn(days.len(), COLUMNS, |i, j| match j {
            0 => 1.0,
            1 => form(self.set[i]),
            9 => self.by_itself(i),
            _ => lever::of_time(days, i, j - 2),
        })
    }

    /// Means over the last days: money as it was set, and by itself.
    fn present(&self) -> (f64, f64) {
        let n = self.days.len();
        let last = n - PRESENT.min(n)..n;
        let mean =
            |of: &dyn Fn(usize) -> f64| last.clone().map(of).sum::<f64>() / last.len() as f64;
        (mean(&|i| self.set[i]), mean(&|i| self.by_itself(i)))
    }

    fn counts(&self) -> Vec<f64> {
        self.days.iter().map(|d| d.conversions).collect()
    }
}

/// Columns of the regression.
const COLUMNS: usize = 10;

fn priors(form: Prior) -> [Option<Prior>; COLUMNS] {
    let mut all = [Some(WEEKDAY); COLUMNS];
    all[0] = None;
    all[1] = Some(form);
    all[8] = Some(TREND);
    all[9] = Some(BY_ITSELF);
    all
}

fn power(of: &Useful, elasticity: Prior) -> Option<Regression> {
    let (counts, priors) = (of.counts(), priors(elasticity));
    let mut rows = Rows::new(of.columns(|set| set), &counts);
    let alone = poisson(&rows, &priors)?;
    rows.alike = alike(of, &alone);
    if rows.alike > 1.0 { poisson(&rows, &priors) } else { Some(alone) }
}

/// How many times as much a slope errs because a day that is better than usual is often followed by another, where the money
/// of a day is like that of the day before too (M. S. Bartlett, Journal of the Royal Statistical Society 98 (1935)).
fn alike(of: &Useful, fit: &Regression) -> f64 {
    // Days of a plan follow one another; between it and the others lie no days of their own.
    let moved: Vec<f64> = if lever::planned(&of.days) {
        of.days.iter().filter_map(|d| d.step).collect()
    } else {
        of.set.clone()
    };
    times_alike(follows(&moved), follows(&off(of, fit)))
}

/// The same of how far days follow one another in what was set, and in how far they lie off.
fn times_alike(set: f64, off: f64) -> f64 {
    let both = (set * off).clamp(0.0, MOST_ALIKE);
    (1.0 + both) / (1.0 - both)
}

/// How far each day lies off a fit, in standard deviations of chance alone (Pearson's residuals).
fn off(of: &Useful, fit: &Regression) -> Vec<f64> {
    let off = |(d, m): (&Day, &f64)| (d.conversions - m) / m.max(1e-9).sqrt();
    of.days.iter().zip(&fit.fitted).map(off).collect()
}

/// Correlation of each number with the one before it.
fn follows(numbers: &[f64]) -> f64 {
    let all: f64 = numbers.iter().map(|x| x * x).sum();
    let pairs: f64 = numbers.windows(2).map(|w| w[0] * w[1]).sum();
    if all > 0.0 { pairs / all } else { 0.0 }
}

/// A curve with what it says of each day that it was fitted to.
#[derive(Clone, Debug, PartialEq)]
pub struct Examined {
    /// The curve.
    pub curve: Curve,
    /// The days with spend, in order.
    pub days: Vec<Day>,
    /// Conversions that each of them was to bring, weekday and trend considered.
    pub expected: Vec<f64>,
    /// Growth over all days that money does not explain, as a logarithm.
    pub trend: f64,
}

impl Examined {
    /// How far each day lies off, in standard deviations of a day (Pearson's residuals over the dispersion).
    pub fn residuals(&self) -> Vec<f64> {
        let off = |(d, m): (&Day, &f64)| {
            (d.conversions - m) / (self.curve.dispersion * m.max(1e-9)).sqrt()
        };
        self.days.iter().zip(&self.expected).map(off).collect()
    }

    /// Correlation of each day's residual with that of the day before, and whether chance would hardly bring it
    /// (beyond two standard errors of 1 ÷ √n).
    pub fn runs(&self) -> (f64, bool) {
        let r = self.residuals();
        let correlation = follows(&r);
        (correlation, correlation > 2.0 / (r.len().max(1) as f64).sqrt())
    }
}

/// Fits a campaign's settled days, in order of time, with what is believed of its channel's elasticities.
/// Absent below 14 days with spend or 5 conversions.
pub fn fit(days: &[Day], belief: impl Into<Belief>) -> Option<Curve> {
    examine(days, belief).map(|e| e.curve)
}

/// The same with what the curve says of each day.
pub fn examine(days: &[Day], belief: impl Into<Belief>) -> Option<Examined> {
    let Belief { prior, error } = belief.into();
    let of = Useful::of(days)?;
    let regression = power(&of, prior)?;
    let told = regression.covariance[(1, 1)] / prior.deviation.powi(2);
    let b = regression.coefficients[1].clamp(BELIEVED.0, BELIEVED.1 - 1e-3);
    let now = Now::of(&of, &regression, |set| set, |set| b * set);
    let used = &of.days;
    let mut curve = Curve {
        response: Response::Power { scale: now.rate / now.spend.powf(b), elasticity: b },
        elasticity: b,
        elasticity_error: regression.covariance[(1, 1)].sqrt(),
        dispersion: regression.dispersion,
        follows: follows(&off(&of, &regression)),
        days: used.len(),
        conversions: used.iter().map(|d| d.conversions).sum(),
        spread: (of.set.iter().map(|l| l * l).sum::<f64>() / of.set.len() as f64).sqrt(),
        leans: told > LEAST_TOLD,
        // So much of what the channel's mean errs by is in the estimate as its own days did not speak against it.
        shared: told * error,
        measured: lever::planned(used).then(|| own_evidence(&regression, prior)).flatten(),
        precision: Precision::alone(
            now.spend,
            now.covariance,
            used.iter().fold([f64::MAX, 0.0], |[least, most], d| {
                [f64::min(least, d.spend), f64::max(most, d.spend)]
            }),
        ),
    };
    let mut fitted = regression;
    if !curve.leans
        && let Some((half_at, r)) = saturating(&of, alike(&of, &fitted))
        && r.deviance / curve.dispersion + CLEARLY < fitted.deviance / curve.dispersion
    {
        let form = Saturating { half_at, reference: of.reference };
        let now = Now::of(&of, &r, |set| form.slope(set), |set| form.log_mean(set));
        let share = now.spend / (half_at + now.spend);
        curve.response = Response::Saturating { limit: now.rate / share, half_at };
        (curve.precision.reference, curve.precision.covariance) = (now.spend, now.covariance);
        fitted = r;
    }
    let (expected, trend) = (fitted.fitted, fitted.coefficients[8]);
    Some(Examined { curve, days: of.days, expected, trend })
}

/// What the last days spend, and what that brings in the middle of a week.
struct Now {
    spend: f64,
    rate: f64,
    /// Of the logarithm of the rate, and of the form's parameter.
    covariance: [[f64; 2]; 2],
}

impl Now {
    /// `slope` is the form's column at the logarithm of money that was set, `log_mean` what it makes of the rate.
    fn of(
        of: &Useful,
        r: &Regression,
        slope: impl Fn(f64) -> f64,
        log_mean: impl Fn(f64) -> f64,
    ) -> Self {
        let (set, by_itself) = of.present();
        let (level, week) = level(r);
        let rate = (level + log_mean(set) + r.coefficients[9] * by_itself).exp() * week;
        let told = [(0, 1.0), (1, slope(set)), (9, by_itself)];
        let with = |j: usize| told.iter().map(|(i, x)| x * r.covariance[(*i, j)]).sum::<f64>();
        let variance = told.iter().map(|(j, x)| x * with(*j)).sum::<f64>();
        Self {
            spend: of.reference * (set + by_itself).exp(),
            rate,
            covariance: [[variance, with(1)], [with(1), r.covariance[(1, 1)]]],
        }
    }
}

/// The log level of the middle of the week on the last day, and the week's mean over it.
fn level(r: &Regression) -> (f64, f64) {
    let effects: Vec<f64> = (2..8).map(|j| r.coefficients[j]).collect();
    let sunday = -effects.iter().sum::<f64>();
    let week = (effects.iter().map(|e| e.exp()).sum::<f64>() + sunday.exp()) / 7.0;
    (r.coefficients[0], week)
}

/// The saturating form about a spend, by the logarithm of money over it.
#[derive(Clone, Copy)]
struct Saturating {
    half_at: f64,
    reference: f64,
}

impl Saturating {
    /// The log mean relative to that at the reference.
    fn log_mean(self, set: f64) -> f64 {
        let share = |s: f64| s / (self.half_at + s);
        (share(self.reference * set.exp()) / share(self.reference)).ln()
    }

    /// Its slope in the logarithm of the half-way spend.
    fn slope(self, set: f64) -> f64 {
        let k = self.half_at;
        k / (k + self.reference) - k / (k + self.reference * set.exp())
    }
}

/// The saturating form: its half-way spend by Gauss and Newton's steps in the logarithm, each a regression about
/// the last one.
fn saturating(of: &Useful, alike: f64) -> Option<(f64, Regression)> {
    let (counts, reference) = (of.counts(), of.reference);
    let mut log_k = reference.ln();
    for _ in 0..MOST_STEPS {
        let form = Saturating { half_at: log_k.exp(), reference };
        let rows = Rows {
            offset: of.set.iter().map(|set| form.log_mean(*set)).collect(),
            alike,
            ..Rows::new(of.columns(|set| form.slope(set)), &counts)
        };
        let prior = Prior { mean: reference.ln() - log_k, deviation: HALF_WAY };
        let r = poisson(&rows, &priors(prior))?;
        let step = r.coefficients[1];
        if step.abs() < 1e-4 {
            return Some((form.half_at, r));
        }
        log_k += step.clamp(-1.0, 1.0);
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::week::DAYS;

    /// A week in which spend goes up and down; conversions are exactly the curve's.
    fn days(n: usize, curve: impl Fn(f64) -> f64) -> Vec<Day> {
        (0..n)
            .map(|i| {
                let spend = 60.0 + 15.0 * ((i * 7 % 11) as f64);
                Day {
                    weekday: DAYS[i % 7],
                    at: i as f64,
                    spend,
                    conversions: curve(spend),
                    budget: Some(spend),
                    step: None,
                }
            })
            .collect()
    }

    #[test]
    fn a_power_curve_is_found_again() {
        let data = days(112, |s| 2.0 * s.powf(0.6));
        let c = fit(&data, Prior { mean: 0.7, deviation: 0.15 }).unwrap();
        assert!((c.elasticity - 0.6).abs() < 0.02 && !c.leans, "{c:?}");
        for spend in [70.0, 120.0, 200.0] {
            let (ours, truth) = (c.at(spend), 2.0 * spend.powf(0.6));
            assert!((ours / truth - 1.0).abs() < 0.01, "{ours} is not {truth}");
            let i = c.interval(spend, 0.8);
            assert!(i.low < truth && truth < i.high);
        }
        assert!(
            c.interval(600.0, 0.8).high / c.at(600.0) > c.interval(120.0, 0.8).high / c.at(120.0)
        );
    }

    #[test]
    fn a_saturating_curve_is_told_from_a_power_curve() {
        let data = days(112, |s| 400.0 * s / (40.0 + s));
        let c = fit(&data, Prior { mean: 0.7, deviation: 0.15 }).unwrap();
        let Response::Saturating { half_at, .. } = c.response else { panic!("{c:?}") };
        assert!((half_at / 40.0 - 1.0).abs() < 0.3, "{half_at}");
        assert!((c.at(100.0) / (400.0 * 100.0 / 140.0) - 1.0).abs() < 0.02, "{}", c.at(100.0));
    }

    #[test]
    fn weekdays_and_trend_are_no_answer_to_money() {
        let mut data = days(112, |s| s.powf(0.5));
        for d in &mut data {
            // Weekends bring half as much, and demand doubles over the days.
            let weekend = if matches!(d.weekday, Weekday::Sat | Weekday::Sun) { 0.5 } else { 1.0 };
            d.conversions *= weekend * 2f64.powf(d.at / 111.0);
        }
        let c = fit(&data, Prior { mean: 0.7, deviation: 0.15 }).unwrap();
        assert!((c.elasticity - 0.5).abs() < 0.05, "{}", c.elasticity);
        // The level is that of the last days: twice the first's, six sevenths of a weekday's.
        let truth = 100f64.sqrt() * 2.0 * (5.0 + 2.0 * 0.5) / 7.0;
        assert!((c.at(100.0) / truth - 1.0).abs() < 0.08, "{} is not {truth}", c.at(100.0));
    }

    #[test]
    fn a_campaign_that_never_varied_leans_on_its_channel() {
        let flat: Vec<Day> = (0..60)
            .map(|i| Day {
                weekday: DAYS[i % 7],
                at: i as f64,
                spend: 100.0,
                conversions: 5.0,
                budget: Some(100.0),
                step: None,
            })
            .collect();
        let c = fit(&flat, Prior { mean: 0.55, deviation: 0.15 }).unwrap();
        assert!(c.leans && (c.elasticity - 0.55).abs() < 1e-6, "{c:?}");
        assert!((c.at(100.0) - 5.0).abs() < 0.05);
        assert_eq!(fit(&flat[..10], BELIEF), None);
    }

    #[test]
    fn days_that_the_curve_does_not_know_of_come_in_runs() {
        let mut data = days(112, |s| s.powf(0.8));
        let quiet = examine(&data, BELIEF).unwrap();
        assert!(quiet.residuals().iter().all(|r| r.abs() < 0.5) && !quiet.runs().1);
        assert!(
            quiet
                .days
                .iter()
                .zip(&quiet.expected)
                .all(|(d, m)| (d.conversions / m - 1.0).abs() < 0.05)
        );
        // Two weeks of a broken page in the middle.
        for d in &mut data[40..54] {
            d.conversions *= 0.3;
        }
        let broken = examine(&data, BELIEF).unwrap();
        assert!(broken.runs().1 && broken.curve.dispersion > quiet.curve.dispersion);
    }

    #[test]
    fn campaigns_of_a_channel_share_what_they_tell() {
        let steep: Vec<Vec<Day>> = (0..6).map(|_| days(112, |s| s.powf(0.9))).collect();
        let refs: Vec<&[Day]> = steep.iter().map(Vec::as_slice).collect();
        let belief = of_channel(&refs)[0];
        assert!(belief.prior.mean > 0.82 && belief.prior.mean < 0.9, "{belief:?}");
        // One alone is told nothing: the channel's mean may be 0.2 off, and it may lie 0.15 from that.
        let alone = of_channel(&refs[..1])[0];
        assert!((alone.prior.mean - 0.7).abs() < 1e-12 && (alone.error - 0.2).abs() < 1e-12);
        assert!((alone.prior.deviation - 0.25).abs() < 1e-12);
        let curve = fit(&steep[0], alone).unwrap();
        assert!(0.0 < curve.shared && curve.shared < curve.elasticity_error, "{curve:?}");
    }
}
