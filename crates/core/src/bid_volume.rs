//! Bid against volume: what a campaign would buy at another CPC, from its own days at different CPCs.
//!
//! log clicks = α + γ·log CPC + weekday, γ ~ Normal(1, 0.5²) truncated at 0: Bayesian linear regression
//! with a known prior on one coefficient (ridge form), residual variance from the fit.
//!
//! ```
//! use tiller_core::bid_volume::elasticity;
//! assert!(elasticity(&[]).is_none(), "no days, no answer");
//! ```

use crate::Price;
use chrono::Weekday;
use nalgebra::{DMatrix, DVector};
use statrs::distribution::{ContinuousCDF, Normal};

use crate::evidence::Interval;
use crate::metrics::Tally;

const PRIOR_MEAN: f64 = 1.0;
const PRIOR_SD: f64 = 0.5;
/// Days that weigh as much as the prior at least: below this the answer is the prior's.
const LEAST_DAYS: usize = 14;

/// One day of the campaign.
#[derive(Clone, Copy, Debug)]
pub struct Day {
    /// Its day of the week.
    pub weekday: Weekday,
    /// Clicks and spend of the day.
    pub tally: Tally,
}

/// The elasticity of clicks to CPC.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Elasticity {
    /// Posterior mean of γ before truncation.
    pub mean: f64,
    /// Its standard deviation.
    pub sd: f64,
    /// Least and greatest CPC seen, in units of currency.
    pub seen: Interval,
}

/// Fits γ; with too few days the prior answers.
pub fn elasticity(days: &[Day]) -> Option<Elasticity> {
    let rows: Vec<(usize, f64, f64)> = days
        .iter()
        .filter_map(|d| {
            Some((
                d.weekday.num_days_from_monday() as usize,
                d.tally.cpc()?.positive()?.units().ln(),
                (d.tally.clicks as f64).ln(),
            ))
        })
        .collect();
    let seen = Interval {
        low: rows.iter().map(|r| r.1).fold(f64::INFINITY, f64::min).exp(),
        high: rows.iter().map(|r| r.1).fold(f64::NEG_INFINITY, f64::max).exp(),
    };
    if rows.is_empty() {
        return None;
    }
    if rows.len() < LEAST_DAYS {
        return Some(Elasticity { mean: PRIOR_MEAN, sd: PRIOR_SD, seen });
    }
    let centre = rows.iter().map(|r| r.1).sum::<f64>() / rows.len() as f64;
    let design = DMatrix::from_fn(rows.len(), 8, |i, j| match j {
        7 => rows[i].1 - centre,
        _ => f64::from(u8::from(rows[i].0 == j)),
    });
    // Subtracting the prior mean's part turns the prior into one centred on 0.
    let y = DVector::from_fn(rows.len(), |i, _| rows[i].2 - PRIOR_MEAN * (rows[i].1 - centre));
    let solve = |noise: f64| {
        let mut normal = design.transpose() * &design;
        normal[(7, 7)] += noise / (PRIOR_SD * PRIOR_SD);
        for j in 0..7 {
            normal[(j, j)] += 1e-6;
        }
        let inverse = normal.try_inverse()?;
        let beta = &inverse * design.transpose() * &y;
        let residual = (&y - &design * &beta).norm_squared() / (rows.len() as f64 - 8.0).max(1.0);
        Some((beta[7], (residual.max(1e-9) * inverse[(7, 7)]).sqrt(), residual.max(1e-9)))
    };
    // Twice is enough: the noise moves the prior's weight only slightly.
    let (_, _, noise) = solve(0.05)?;
    let (shift, sd, _) = solve(noise)?;
    Some(Elasticity { mean: PRIOR_MEAN + shift, sd, seen })
}

impl Elasticity {
    /// Median and interval of γ, truncated to ≥ 0.
    fn quantile(&self, p: f64) -> f64 {
        let normal = Normal::standard();
        let below = normal.cdf(-self.mean / self.sd);
        (self.mean
            + self.sd * normal.inverse_cdf((below + p * (1.0 - below)).clamp(1e-12, 1.0 - 1e-12)))
        .max(0.0)
    }

    /// Clicks at `new_cpc` over clicks at `cpc`: median and 80% interval.
    pub fn volume(&self, cpc: Price, new_cpc: Price) -> (f64, Interval) {
        let log = (new_cpc / cpc).ln();
        let at = |p| (self.quantile(p) * log).exp();
        let (a, b) = (at(0.1), at(0.9));
        (at(0.5), Interval { low: a.min(b), high: a.max(b) })
    }

    /// What the next click costs over the mean one, at any CPC: a higher bid pays more for every click that it had
    /// before, so 1 + 1/γ. Median and 80% interval; infinite where a higher bid may bring nothing.
    pub fn next_click(&self) -> (f64, Interval) {
        let at = |p| 1.0 + 1.0 / self.quantile(p);
        (at(0.5), Interval { low: at(0.9), high: at(0.1) })
    }

    /// Whether `cpc` lies within what has been seen.
    pub fn has_seen(&self, cpc: Price) -> bool {
        self.seen.contains(cpc.units())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::money::Micros;

    fn days(gamma: f64, n: usize) -> Vec<Day> {
        (0..n)
            .map(|i| {
                // CPC swings by ±30%; weekday changes the level, not the slope.
                let cpc = 2.0 * (0.3 * (i as f64 * 1.7).sin()).exp();
                let clicks =
                    (2000.0 * cpc.powf(gamma) * if i % 7 == 5 { 0.5 } else { 1.0 }).round();
                let tally = Tally {
                    clicks: clicks as i64,
                    spend: Micros::from_units(clicks * cpc),
                    ..Tally::default()
                };
                Day { weekday: crate::week::DAYS[i % 7], tally }
            })
            .collect()
    }

    #[test]
    fn recovers_the_slope() {
        for gamma in [0.4, 1.0, 1.8] {
            let e = elasticity(&days(gamma, 84)).unwrap();
            assert!((e.mean - gamma).abs() < 0.02, "{gamma}: {e:?}");
        }
    }

    #[test]
    fn few_days_answer_with_the_prior() {
        let e = elasticity(&days(0.4, 10)).unwrap();
        assert_eq!((e.mean, e.sd), (1.0, 0.5));
        assert!(elasticity(&[]).is_none());
    }

    /// By differences: spend over clicks between two CPCs that lie close together.
    #[test]
    fn the_next_click_costs_what_spend_and_clicks_say() {
        let e = Elasticity { mean: 0.8, sd: 0.02, seen: Interval { low: 1.0, high: 2.0 } };
        let clicks = |cpc: f64| 100.0 * e.volume(Price(1.5), Price(cpc)).0;
        let (a, b) = (1.5, 1.5001);
        let marginal = (clicks(b) * b - clicks(a) * a) / (clicks(b) - clicks(a));
        let (times, range) = e.next_click();
        assert!((marginal / a - times).abs() < 1e-3, "{marginal} {times}");
        assert!(range.contains(times) && range.low > 1.0);
        let unsure = Elasticity { mean: 0.0, sd: 0.5, ..e };
        assert!(unsure.next_click().1.high > 10.0, "it may bring nothing");
    }

    #[test]
    fn a_lower_cpc_never_brings_more() {
        let e = elasticity(&days(0.4, 10)).unwrap();
        let (median, interval) = e.volume(Price(11.3), Price(9.4));
        assert!(interval.low <= median && median <= interval.high && interval.high <= 1.0);
        assert!(!e.has_seen(Price(11.3)));
    }
}
