//! Response curves (A4): conversions a day as a function of money a day, learned from a campaign's own days.
//!
//! Conversions are quasi-Poisson with log mean = α + b·log spend + weekday + trend. Weekdays and the trend take
//! what demand does of its own accord, so that it is not taken for an answer to money; what is left of that
//! only a planned change of the budget can tell. The elasticity *b* has a prior that campaigns of a channel
//! share. Common practice, no source: returns diminish, so *b* lies below 1.
//!
//! ```
//! use tiller_core::week::DAYS;
//! use tiller_core::response::{BELIEF, Day, fit};
//! // Money swings between 40 and 160 a day, and conversions follow its root.
//! let days: Vec<Day> = (0..84)
//!     .map(|i| {
//!         let spend = 40.0 * (1.0 + f64::from(i % 4));
//!         Day { weekday: DAYS[i as usize % 7], at: f64::from(i), spend, conversions: 2.0 * spend.sqrt() }
//!     })
//!     .collect();
//! let curve = fit(&days, BELIEF).unwrap();
//! assert!((curve.elasticity - 0.5).abs() < 0.05);
//! assert!(fit(&days[..5], BELIEF).is_none(), "five days tell nothing");
//! ```

pub mod budget_response;
pub mod experiment;
pub mod regression;

use chrono::Weekday;
use nalgebra::DMatrix;
use serde::{Deserialize, Serialize};

use crate::allocation::{Precision, Response};
use crate::evidence::Interval;
use crate::week::DAYS;
use regression::{Prior, Regression, Rows, poisson};

/// What is believed of elasticities before any channel has been seen.
pub const BELIEF: Prior = Prior { mean: 0.7, deviation: 0.2 };
/// How far campaigns of a channel lie apart.
const APART: f64 = 0.15;
/// Elasticities that are believed at all.
const BELIEVED: (f64, f64) = (0.05, 1.0);
/// Below this standard deviation of log spend a curve leans on its prior.
const LEAST_SPREAD: f64 = 0.15;
/// What is believed of a weekday's effect and of a trend over all days, as logarithms.
const WEEKDAY: Prior = Prior { mean: 0.0, deviation: 0.4 };
const TREND: Prior = Prior { mean: 0.0, deviation: 0.5 };
/// How far from the usual spend the half-way spend may lie, as a logarithm.
const HALF_WAY: f64 = 1.5;
const MOST_STEPS: usize = 40;
/// Days with spend and conversions below which nothing is fitted.
const LEAST_DAYS: usize = 14;
const LEAST_CONVERSIONS: f64 = 5.0;
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
    /// Days and conversions that it was fitted to.
    pub days: usize,
    /// See `days`.
    pub conversions: f64,
    /// Standard deviation of log spend.
    pub spread: f64,
    /// Spend hardly varied, so that the form is the prior's.
    pub leans: bool,
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

/// The elasticities of a channel: what is believed of a campaign there.
///
/// Each campaign is fitted with the belief alone, its own evidence is parted from that, and the channel's mean
/// follows from all of them.
pub fn of_channel(campaigns: &[&[Day]]) -> Prior {
    let wide = Prior { deviation: BELIEF.deviation.hypot(APART), ..BELIEF };
    let (mut precision, mut sum) =
        (BELIEF.deviation.powi(-2), BELIEF.mean * BELIEF.deviation.powi(-2));
    for fit in campaigns.iter().filter_map(|days| power(days, wide)) {
        let (b, variance) = (fit.coefficients[1], fit.covariance[(1, 1)]);
        let information = 1.0 / variance - wide.deviation.powi(-2);
        if information <= 1e-6 {
            continue;
        }
        let own = (b / variance - wide.mean * wide.deviation.powi(-2)) / information;
        let weight = 1.0 / (1.0 / information + APART * APART);
        precision += weight;
        sum += weight * own.clamp(BELIEVED.0 - 0.5, BELIEVED.1 + 0.5);
    }
    Prior { mean: (sum / precision).clamp(0.3, 0.95), deviation: APART }
}

/// Days that tell something, and the spend in their middle.
fn useful(days: &[Day]) -> Option<(Vec<Day>, f64)> {
    let days: Vec<Day> = days.iter().filter(|d| d.spend > 0.0).copied().collect();
    let conversions: f64 = days.iter().map(|d| d.conversions).sum();
    if days.len() < LEAST_DAYS || conversions < LEAST_CONVERSIONS {
        return None;
    }
    let reference = (days.iter().map(|d| d.spend.ln()).sum::<f64>() / days.len() as f64).exp();
    Some((days, reference))
}

/// Columns: constant, the form's parameter, six weekdays, trend from the last day backwards.
fn columns(days: &[Day], form: impl Fn(&Day) -> f64) -> DMatrix<f64> {
    let (first, last) = (days[0].at, days[days.len() - 1].at);
    let length = (last - first).max(1.0);
    DMatrix::from_fn(days.len(), 9, |i, j| {
        let d = &days[i];
        match j {
            0 => 1.0,
            1 => form(d),
            8 => (d.at - last) / length,
            // Deviations from Sunday's place, so that the constant is the mean of the week.
            _ if d.weekday == Weekday::Sun => -1.0,
            _ => f64::from(d.weekday == DAYS[j - 2]),
        }
    })
}

fn priors(form: Prior) -> [Option<Prior>; 9] {
    let mut all = [Some(WEEKDAY); 9];
    all[0] = None;
    all[1] = Some(form);
    all[8] = Some(TREND);
    all
}

fn power(days: &[Day], elasticity: Prior) -> Option<Regression> {
    let (days, reference) = useful(days)?;
    let counts: Vec<f64> = days.iter().map(|d| d.conversions).collect();
    let x = columns(&days, |d| (d.spend / reference).ln());
    poisson(&Rows::new(x, &counts), &priors(elasticity))
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
        let all: f64 = r.iter().map(|x| x * x).sum();
        let pairs: f64 = r.windows(2).map(|w| w[0] * w[1]).sum();
        let correlation = if all > 0.0 { pairs / all } else { 0.0 };
        (correlation, correlation > 2.0 / (r.len().max(1) as f64).sqrt())
    }
}

/// Fits a campaign's settled days, in order of time, with what is believed of its channel's elasticities.
/// Absent below 14 days with spend or 5 conversions.
pub fn fit(days: &[Day], elasticity: Prior) -> Option<Curve> {
    examine(days, elasticity).map(|e| e.curve)
}

/// The same with what the curve says of each day.
pub fn examine(days: &[Day], elasticity: Prior) -> Option<Examined> {
    let regression = power(days, elasticity)?;
    let (used, reference) = useful(days)?;
    let logs: Vec<f64> = used.iter().map(|d| (d.spend / reference).ln()).collect();
    let spread = (logs.iter().map(|l| l * l).sum::<f64>() / logs.len() as f64).sqrt();
    let leans = spread < LEAST_SPREAD;
    let b = regression.coefficients[1].clamp(BELIEVED.0, BELIEVED.1 - 1e-3);
    let (level, week) = level(&regression);
    let c = |r: &Regression| {
        // An inverse is symmetric but for rounding.
        let both = f64::midpoint(r.covariance[(0, 1)], r.covariance[(1, 0)]);
        [[r.covariance[(0, 0)], both], [both, r.covariance[(1, 1)]]]
    };
    let mut curve = Curve {
        response: Response::Power {
            scale: (level.exp() * week) / reference.powf(b),
            elasticity: b,
        },
        elasticity: b,
        elasticity_error: regression.covariance[(1, 1)].sqrt(),
        dispersion: regression.dispersion,
        days: used.len(),
        conversions: used.iter().map(|d| d.conversions).sum(),
        spread,
        leans,
        precision: Precision {
            reference,
            covariance: c(&regression),
            observed: used.iter().fold([f64::MAX, 0.0], |[least, most], d| {
                [f64::min(least, d.spend), f64::max(most, d.spend)]
            }),
        },
    };
    if !leans
        && let Some((half_at, r)) = saturating(&used, reference)
        && r.deviance / curve.dispersion + CLEARLY < regression.deviance / curve.dispersion
    {
        let (level, week) = self::level(&r);
        let at_reference = reference / (half_at + reference);
        curve.response = Response::Saturating { limit: level.exp() * week / at_reference, half_at };
        curve.precision.covariance = c(&r);
        let (expected, trend) = (r.fitted.clone(), r.coefficients[8]);
        return Some(Examined { curve, days: used, expected, trend });
    }
    let (expected, trend) = (regression.fitted, regression.coefficients[8]);
    Some(Examined { curve, days: used, expected, trend })
}

/// The log level of the middle of the week on the last day, and the week's mean over it.
fn level(r: &Regression) -> (f64, f64) {
    let effects: Vec<f64> = (2..8).map(|j| r.coefficients[j]).collect();
    let sunday = -effects.iter().sum::<f64>();
    let week = (effects.iter().map(|e| e.exp()).sum::<f64>() + sunday.exp()) / 7.0;
    (r.coefficients[0], week)
}

/// The saturating form: its half-way spend by Gauss and Newton's steps in the logarithm, each a regression about
/// the last one.
fn saturating(days: &[Day], reference: f64) -> Option<(f64, Regression)> {
    let counts: Vec<f64> = days.iter().map(|d| d.conversions).collect();
    let mut log_k = reference.ln();
    for _ in 0..MOST_STEPS {
        let k = log_k.exp();
        // The log mean relative to that at the reference, and its slope in log k.
        let share = |s: f64| s / (k + s);
        let slope = |s: f64| k / (k + reference) - k / (k + s);
        let rows = Rows {
            offset: days.iter().map(|d| (share(d.spend) / share(reference)).ln()).collect(),
            ..Rows::new(columns(days, |d| slope(d.spend)), &counts)
        };
        let prior = Prior { mean: reference.ln() - log_k, deviation: HALF_WAY };
        let r = poisson(&rows, &priors(prior))?;
        let step = r.coefficients[1];
        if step.abs() < 1e-4 {
            return Some((k, r));
        }
        log_k += step.clamp(-1.0, 1.0);
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A week in which spend goes up and down; conversions are exactly the curve's.
    fn days(n: usize, curve: impl Fn(f64) -> f64) -> Vec<Day> {
        (0..n)
            .map(|i| {
                let spend = 60.0 + 15.0 * ((i * 7 % 11) as f64);
                Day { weekday: DAYS[i % 7], at: i as f64, spend, conversions: curve(spend) }
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
            .map(|i| Day { weekday: DAYS[i % 7], at: i as f64, spend: 100.0, conversions: 5.0 })
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
        let prior = of_channel(&refs);
        assert!(prior.mean > 0.82 && prior.mean < 0.9, "{prior:?}");
        assert_eq!(of_channel(&[]).mean, 0.7);
    }
}
