//! Bid against volume (B8): what a campaign would buy at another bid, from what happened around the changes of the bids
//! (or targets) that were *set*. The CPC that came would not do: it moves with the competition, which moves the clicks.
//!
//! log clicks = α + γ·log bid + weekday + trend, γ ~ Normal(m, s²) truncated at 0: Bayesian linear regression with a
//! known prior on one coefficient (ridge form). The residuals' variance widens γ's error, and so does what is left of
//! yesterday in today: residuals that follow one another tell less than as many that don't.
//!
//! ```
//! use tiller_core::bid_volume::{PRIOR, elasticity};
//! assert!(elasticity(&[], PRIOR).is_none(), "no days, no answer");
//! ```

use crate::Price;
use chrono::Weekday;
use nalgebra::{DMatrix, DVector};
use statrs::distribution::{ContinuousCDF, Normal};

use crate::evidence::Interval;

/// What is believed of γ before any bid has moved.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Prior {
    /// Its mean.
    pub mean: f64,
    /// Its standard deviation.
    pub sd: f64,
}

/// As many more clicks as the bid is higher, give or take half as many (common practice, no source).
pub const PRIOR: Prior = Prior { mean: 1.0, sd: 0.5 };
/// How much campaigns of one kind differ from one another.
const AMONG_PEERS: f64 = 0.35;
/// Days that weigh as much as the prior at least: below this the answer is the prior's.
const LEAST_DAYS: usize = 14;
/// Bids that differ by less than this (standard deviation of their logarithm) have not moved.
const MOVED: f64 = 0.02;
/// Residuals are believed to follow one another no more than this.
const MOST_PERSISTENT: f64 = 0.8;
/// Columns of the design beside the weekdays: trend and bid.
const COLUMNS: usize = 9;

/// One day of the campaign.
#[derive(Clone, Copy, Debug)]
pub struct Day {
    /// Its day of the week.
    pub weekday: Weekday,
    /// Its place in time, in days.
    pub at: f64,
    /// Times clicked.
    pub clicks: i64,
    /// What was set: the bid of a click, or what stands for it. In units of currency; only ratios matter.
    pub bid: Option<f64>,
}

/// The elasticity of clicks to the bid.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Elasticity {
    /// Posterior mean of γ before truncation.
    pub mean: f64,
    /// Its standard deviation.
    pub sd: f64,
    /// Least and greatest bid set, over the last one; none where none is known.
    pub seen: Option<Interval>,
    /// Whether bids have moved: else the answer is the prior's.
    pub moved: bool,
}

/// Fits γ around the changes of bids; without any the prior answers. None without days.
pub fn elasticity(days: &[Day], prior: Prior) -> Option<Elasticity> {
    let rows: Vec<(&Day, f64)> = days
        .iter()
        .filter(|d| d.clicks > 0)
        .filter_map(|d| Some((d, d.bid.filter(|b| *b > 0.0)?.ln())))
        .collect();
    let last = rows.last().map(|r| r.1);
    let seen = last.map(|last| Interval {
        low: rows.iter().map(|r| r.1 - last).fold(f64::INFINITY, f64::min).exp(),
        high: rows.iter().map(|r| r.1 - last).fold(f64::NEG_INFINITY, f64::max).exp(),
    });
    let unmoved = Elasticity { mean: prior.mean, sd: prior.sd, seen, moved: false };
    if days.is_empty() {
        return None;
    }
    let n = rows.len() as f64;
    let centre = rows.iter().map(|r| r.1).sum::<f64>() / n;
    let spread = (rows.iter().map(|r| (r.1 - centre).powi(2)).sum::<f64>() / n).sqrt();
    if rows.len() < LEAST_DAYS || spread < MOVED {
        return Some(unmoved);
    }
    let middle = rows.iter().map(|r| r.0.at).sum::<f64>() / n;
    let design = DMatrix::from_fn(rows.len(), COLUMNS, |i, j| match j {
        8 => rows[i].1 - centre,
        7 => (rows[i].0.at - middle) / 100.0,
        _ => f64::from(u8::from(rows[i].0.weekday.num_days_from_monday() as usize == j)),
    });
    // Subtracting the prior mean's part turns the prior into one centred on 0.
    let y = DVector::from_fn(rows.len(), |i, _| {
        (rows[i].0.clicks as f64).ln() - prior.mean * (rows[i].1 - centre)
    });
    let solve = |noise: f64, widened: f64| {
        let mut normal = design.transpose() * &design;
        normal[(8, 8)] += noise * widened / (prior.sd * prior.sd);
        for j in 0..8 {
            normal[(j, j)] += 1e-6;
        }
        let inverse = normal.try_inverse()?;
        let beta = &inverse * design.transpose() * &y;
        let off = &y - &design * &beta;
        let free = (n - COLUMNS as f64).max(1.0);
        let variance = (off.norm_squared() / free).max(1e-9);
        Some((beta[8], inverse[(8, 8)], variance, off))
    };
    // Twice is enough: the noise moves the prior's weight only slightly.
    let (_, _, noise, off) = solve(0.05, 1.0)?;
    let widened = persistence(off.as_slice());
    let (shift, inverse, noise, _) = solve(noise, widened)?;
    let sd = (noise * widened * inverse).sqrt().min(prior.sd);
    Some(Elasticity { mean: prior.mean + shift, sd, seen, moved: true })
}

/// How many times as much the variance of a mean of residuals that follow one another is: (1 + ρ) ÷ (1 − ρ) by their
/// autocorrelation of one day, its own bias (about −(1 + 3ρ)/n: M. Kendall, "Note on bias in the estimation of
/// autocorrelation", Biometrika 41 (1954)) and its standard error added on the wide side.
fn persistence(off: &[f64]) -> f64 {
    let n = off.len() as f64;
    let all: f64 = off.iter().map(|x| x * x).sum();
    let next: f64 = off.windows(2).map(|w| w[0] * w[1]).sum();
    let rho = if all > 0.0 { next / all } else { 0.0 };
    let rho = (rho + (1.0 + 3.0 * rho.max(0.0)) / n + 1.0 / n.sqrt()).clamp(0.0, MOST_PERSISTENT);
    (1.0 + rho) / (1.0 - rho)
}

/// The prior that campaigns of one kind give one another, from those whose bids have moved.
///
/// ```
/// use tiller_core::bid_volume::{Elasticity, PRIOR, of_kind};
/// let flat = Elasticity { mean: 0.3, sd: 0.05, seen: None, moved: true };
/// let prior = of_kind(&[flat; 6]);
/// assert!(prior.mean < 0.5 && prior.sd < PRIOR.sd);
/// assert_eq!(of_kind(&[]), PRIOR);
/// ```
pub fn of_kind(others: &[Elasticity]) -> Prior {
    let (mut weight, mut sum) = (1.0 / PRIOR.sd.powi(2), PRIOR.mean / PRIOR.sd.powi(2));
    let mut any = false;
    for e in others.iter().filter(|e| e.moved) {
        let w = 1.0 / (e.sd.powi(2) + AMONG_PEERS.powi(2));
        weight += w;
        sum += w * e.mean;
        any = true;
    }
    if !any {
        return PRIOR;
    }
    Prior { mean: sum / weight, sd: (AMONG_PEERS.powi(2) + 1.0 / weight).sqrt().min(PRIOR.sd) }
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

    /// Clicks at so many times the bid, over clicks now: median and 80% interval.
    pub fn volume(&self, times: f64) -> (f64, Interval) {
        let log = times.ln();
        let at = |p| (self.quantile(p) * log).exp();
        let (a, b) = (at(0.1), at(0.9));
        (at(0.5), Interval { low: a.min(b), high: a.max(b) })
    }

    /// What the next click costs over the mean one, at any bid: a higher bid pays more for every click that it had
    /// before, so 1 + 1/γ. Median and 80% interval; infinite where a higher bid may bring nothing.
    pub fn next_click(&self) -> (f64, Interval) {
        let at = |p| 1.0 + 1.0 / self.quantile(p);
        (at(0.5), Interval { low: at(0.9), high: at(0.1) })
    }

    /// The probability that one more conversion costs no more than so many times the mean one: 1 + 1/γ ≤ times.
    ///
    /// ```
    /// use tiller_core::bid_volume::{Elasticity, PRIOR};
    /// let e = Elasticity { mean: PRIOR.mean, sd: PRIOR.sd, seen: None, moved: false };
    /// // Twice the mean is what the next costs at γ 1.
    /// assert!((e.next_within(2.0) - 0.5).abs() < 0.02 && e.next_within(1.0) == 0.0);
    /// ```
    pub fn next_within(&self, times: f64) -> f64 {
        if times <= 1.0 {
            return 0.0;
        }
        let normal = Normal::standard();
        let above = |x: f64| 1.0 - normal.cdf((x - self.mean) / self.sd);
        (above(1.0 / (times - 1.0)) / above(0.0)).clamp(0.0, 1.0)
    }

    /// Whether so many times the bid lies within what has been set.
    pub fn has_seen(&self, times: f64) -> bool {
        self.seen.is_some_and(|s| s.contains(times))
    }
}

/// What a campaign would have at another bid, in the days that it is looked at over.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct AtBid {
    /// Times the bid of now.
    pub times: f64,
    /// Clicks.
    pub clicks: Range,
    /// Money, in units of currency.
    pub spend: Range,
    /// Results, the conversion rate held (common practice, no source: as good at lower bids).
    pub conversions: Range,
    /// What one costs.
    pub cpa: Option<Price>,
    /// What one more costs; without an end where a higher bid may bring nothing.
    pub next: Option<Range>,
}

/// A median with its 80% interval.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Range {
    /// The median.
    pub mid: f64,
    /// The interval.
    pub around: Interval,
}

impl Range {
    fn times(of: (f64, Interval), by: f64) -> Self {
        let (mid, i) = of;
        Self { mid: mid * by, around: Interval { low: i.low * by, high: i.high * by } }
    }
}

/// What so many clicks, money and results would be at so many times the bid: a click costs as many times as much.
pub fn at_bid(e: &Elasticity, clicks: f64, spend: f64, conversions: f64, times: f64) -> AtBid {
    let volume = e.volume(times);
    let cpa = (conversions > 0.0).then(|| spend / conversions * times);
    AtBid {
        times,
        clicks: Range::times(volume, clicks),
        spend: Range::times(volume, spend * times),
        conversions: Range::times(volume, conversions),
        cpa: cpa.map(Price),
        next: cpa.map(|cpa| Range::times(e.next_click(), cpa)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Bids that go up and down by a quarter every other fortnight; weekends at half.
    fn days(gamma: f64, n: usize) -> Vec<Day> {
        (0..n)
            .map(|i| {
                let bid = if (i / 14) % 2 == 0 { 2.0 } else { 2.5 };
                let week = if i % 7 >= 5 { 0.5 } else { 1.0 };
                let clicks = (2000.0 * f64::powf(bid, gamma) * week).round() as i64;
                Day { weekday: crate::week::DAYS[i % 7], at: i as f64, clicks, bid: Some(bid) }
            })
            .collect()
    }

    #[test]
    fn recovers_the_slope() {
        for gamma in [0.4, 1.0, 1.8] {
            let e = elasticity(&days(gamma, 84), PRIOR).unwrap();
            assert!((e.mean - gamma).abs() < 0.05, "{gamma}: {e:?}");
            assert!(e.moved && e.has_seen(0.8) && e.has_seen(1.0) && !e.has_seen(1.3), "{e:?}");
        }
    }

    #[test]
    fn where_bids_never_moved_the_prior_answers() {
        let mut still = days(0.4, 84);
        still.iter_mut().for_each(|d| d.bid = Some(2.0));
        let e = elasticity(&still, PRIOR).unwrap();
        assert_eq!((e.mean, e.sd, e.moved), (1.0, 0.5, false));
        still.iter_mut().for_each(|d| d.bid = None);
        assert_eq!(elasticity(&still, PRIOR).unwrap().seen, None);
        let few = elasticity(&days(0.4, 10), PRIOR).unwrap();
        assert!(!few.moved);
    }

    #[test]
    fn a_trend_is_not_taken_for_the_bid() {
        // The bid rose once, and clicks had been rising all the while.
        let rising: Vec<Day> = (0..84)
            .map(|i| Day {
                weekday: crate::week::DAYS[i % 7],
                at: i as f64,
                clicks: (1000.0 * (0.006 * i as f64).exp()).round() as i64,
                bid: Some(if i < 42 { 2.0 } else { 2.4 }),
            })
            .collect();
        let e = elasticity(&rising, PRIOR).unwrap();
        // What is believed beforehand draws it up a little.
        assert!(e.mean.abs() < 0.2, "the bid did nothing: {e:?}");
    }

    /// By differences: spend over clicks between two bids that lie close together.
    #[test]
    fn the_next_click_costs_what_spend_and_clicks_say() {
        let e = Elasticity { mean: 0.8, sd: 0.02, seen: None, moved: true };
        let clicks = |times: f64| 100.0 * e.volume(times).0;
        let (cpc, step) = (1.5, 1.0001);
        let marginal =
            (clicks(step) * cpc * step - clicks(1.0) * cpc) / (clicks(step) - clicks(1.0));
        let (times, range) = e.next_click();
        assert!((marginal / cpc - times).abs() < 1e-3, "{marginal} {times}");
        assert!(range.contains(times) && range.low > 1.0);
        assert!(e.next_within(times * 1.1) > 0.99 && e.next_within(times * 0.9) < 0.01);
        let unsure = Elasticity { mean: 0.0, sd: 0.5, ..e };
        let (_, around) = unsure.next_click();
        assert!((unsure.next_within(around.low) - 0.1).abs() < 1e-6, "a tenth lies below");
        assert!(unsure.next_click().1.high > 10.0, "it may bring nothing");
    }

    /// By hand: γ 1 at 0.8 of the bid: 0.8 of the clicks and results, 0.64 of the money; a result costs 0.8 as much.
    #[test]
    fn another_bid_is_computed_by_hand() {
        let e = Elasticity { mean: 1.0, sd: 1e-9, seen: None, moved: true };
        let at = at_bid(&e, 1000.0, 2000.0, 50.0, 0.8);
        let near = |r: Range, x: f64| (r.mid / x - 1.0).abs() < 1e-6;
        assert!(near(at.clicks, 800.0) && near(at.conversions, 40.0) && near(at.spend, 1280.0));
        assert!((at.cpa.unwrap().units() - 32.0).abs() < 1e-9);
        assert!(near(at.next.unwrap(), 64.0), "twice the mean, at γ 1");
        assert_eq!(at_bid(&e, 1000.0, 2000.0, 0.0, 0.8).cpa, None);
    }
}
