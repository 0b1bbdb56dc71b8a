//! Bid against volume (B8): what a campaign would buy at another bid, from what happened around the changes of the bids
//! (or targets) that were *set*. The CPC that came would not do: it moves with the competition, which moves the clicks.
//!
//! log clicks = α + γ·log bid + weekday + trend, γ ~ Normal(m, s²) truncated at 0, and likewise
//! log CPC = α + κ·log bid + weekday + trend, κ ~ Normal(0.7, 0.25²) between 0 and 1, since a winner pays all that it
//! bids at most: Bayesian linear regression with a known prior on one coefficient (ridge form). The residuals' variance
//! widens the error, and so does what is left of yesterday in today: residuals that follow one another tell less than as
//! many that don't.
//!
//! ```
//! use tiller_core::bid_volume::{PRIOR, elasticity};
//! assert!(elasticity(&[], PRIOR, None).is_none(), "no days, no answer");
//! ```

use chrono::Weekday;
use nalgebra::{DMatrix, DVector};
use statrs::distribution::{Continuous, ContinuousCDF, Normal};

use crate::Share;
use crate::evidence::Interval;

/// What is believed of an exponent before any bid has moved.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Prior {
    /// Its mean.
    pub mean: f64,
    /// Its standard deviation.
    pub sd: f64,
}

/// As many more clicks as the bid is higher, give or take half as many (common practice, no source).
pub const PRIOR: Prior = Prior { mean: 1.0, sd: 0.5 };
/// How much of a bid's change a click's price follows: all where a winner pays its bid, less where it pays what the next
/// one bids. Log-normal rivals give 0.4 to 0.85 where 15 to 85% of the auctions are won.
pub const PRICE: Prior = Prior { mean: 0.7, sd: 0.25 };
/// Standard deviation of the logarithm of the highest rival bid from auction to auction (no source; 0.3 to 0.8 are
/// plausible, and the prior's error spans them).
const RIVALS: f64 = 0.5;
/// How far a γ that is told by the auctions won may be off, over itself and beyond that.
const OFF: (f64, f64) = (0.4, 0.1);
/// How much campaigns of one kind differ from one another, over what is believed of each.
const AMONG_PEERS: f64 = 0.35;
/// Days that weigh as much as the prior at least: below this the answer is the prior's.
const LEAST_DAYS: usize = 14;
/// Bids that differ by less than this (standard deviation of their logarithm) have not moved.
const MOVED: f64 = 0.02;
/// Residuals vary by this at least.
const LEAST_VARIANCE: f64 = 1e-9;
/// Residuals are believed to follow one another no more than this.
const MOST_PERSISTENT: f64 = 0.8;
/// Columns of the design beside the weekdays: trend and bid.
const COLUMNS: usize = 9;
/// A bid for a price is set as if the price followed by at least so much: then a step halfway to what is affordable does
/// not go beyond it, even where a click's price follows in full.
const LEAST_FOLLOWED: f64 = 0.5;
/// Points of γ at which chances of both exponents are added up.
const POINTS: usize = 64;
/// Points of each exponent where both go into a further probability.
const FEW: usize = 16;
/// Halvings of an interval of bids: to less than a hundredth.
const HALVINGS: usize = 8;

/// What is believed of γ where a share of the auctions is lost for want of bid. Rivals whose highest bid is log-normal
/// answer with γ = φ(z) ÷ (σ·w) where w = Φ(z) are won: much where few are, nothing where all are.
///
/// ```
/// use tiller_core::Share;
/// use tiller_core::bid_volume::{PRIOR, believed};
/// let of = |lost| believed(Share::new(lost)).mean;
/// assert!(of(0.7) > of(0.3) && of(0.05) < 0.3, "who wins nearly all can win no more");
/// assert_eq!(believed(None), PRIOR);
/// ```
pub fn believed(lost: Option<Share>) -> Prior {
    let Some(lost) = lost else { return PRIOR };
    let won = (1.0 - lost.get()).clamp(0.05, 0.99);
    let normal = Normal::standard();
    let mean = normal.pdf(normal.inverse_cdf(won)) / (RIVALS * won);
    Prior { mean, sd: OFF.0 * mean + OFF.1 }
}

/// One day of the campaign.
#[derive(Clone, Copy, Debug)]
pub struct Day {
    /// Its day of the week.
    pub weekday: Weekday,
    /// Its place in time, in days.
    pub at: f64,
    /// Times clicked.
    pub clicks: i64,
    /// Paid for them, in units of currency; only ratios matter.
    pub spend: f64,
    /// What was set: the bid of a click, or what stands for it. In units of currency; only ratios matter.
    pub bid: Option<f64>,
    /// Whether its budget ended it: then its clicks tell of the budget, not of the bid.
    pub held: bool,
}

/// An exponent with its error: truncated to 0 and more, and as much above the most as is believed lies there.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Slope {
    /// Posterior mean before truncation.
    pub mean: f64,
    /// Its standard deviation.
    pub sd: f64,
    /// The greatest that it can be.
    pub most: f64,
}

impl Slope {
    fn of(prior: Prior, most: f64) -> Self {
        Self { mean: prior.mean, sd: prior.sd, most }
    }

    fn below_none(&self) -> f64 {
        Normal::standard().cdf(-self.mean / self.sd)
    }

    fn quantile(&self, p: f64) -> f64 {
        let below = self.below_none();
        let upto = (below + p * (1.0 - below)).clamp(1e-12, 1.0 - 1e-12);
        (self.mean + self.sd * Normal::standard().inverse_cdf(upto)).clamp(0.0, self.most)
    }

    /// The probability that it is no more than `x`.
    fn up_to(&self, x: f64) -> f64 {
        if x >= self.most {
            return 1.0;
        }
        let (below, upto) = (self.below_none(), Normal::standard().cdf((x - self.mean) / self.sd));
        // All of it below 0, as nearly as can be told: then it is 0.
        let all = 1.0 - below;
        if all > 0.0 { ((upto - below) / all).clamp(0.0, 1.0) } else { 1.0 }
    }

    /// What it makes of so many times the bid: median and 80% interval.
    fn at(&self, times: f64) -> Range {
        let at = |p| times.powf(self.quantile(p));
        let (a, b) = (at(0.1), at(0.9));
        Range { mid: at(0.5), around: Interval { low: a.min(b), high: a.max(b) } }
    }
}

/// How clicks, and what one costs, answer to the bid.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Elasticity {
    /// γ, of the clicks.
    pub clicks: Slope,
    /// κ, of what a click costs.
    pub price: Slope,
    /// What was believed of γ beforehand.
    pub from: Prior,
    /// As many times its present clicks as there are to be won at any bid, where its channel tells what it loses.
    pub room: Option<f64>,
    /// Least and greatest bid set, over the last one; none where none is known.
    pub seen: Option<Interval>,
    /// Whether bids have moved: else the answer is the prior's.
    pub moved: bool,
}

/// Fits both exponents around the changes of bids; without any the priors answer. None without days. `lost` is the share
/// of its auctions that it lost for want of bid lately.
pub fn elasticity(days: &[Day], prior: Prior, lost: Option<Share>) -> Option<Elasticity> {
    if days.is_empty() {
        return None;
    }
    let rows: Vec<(&Day, f64)> = days
        .iter()
        .filter(|d| d.clicks > 0)
        .filter_map(|d| Some((d, d.bid.filter(|b| *b > 0.0)?.ln())))
        .collect();
    let seen = rows.last().map(|(_, last)| Interval {
        low: rows.iter().map(|r| r.1 - last).fold(f64::INFINITY, f64::min).exp(),
        high: rows.iter().map(|r| r.1 - last).fold(f64::NEG_INFINITY, f64::max).exp(),
    });
    let free = rows.iter().filter(|(d, _)| !d.held);
    let bought: Vec<_> = free.map(|(d, bid)| (*d, *bid, (d.clicks as f64).ln())).collect();
    let paid = rows.iter().filter(|(d, _)| d.spend > 0.0);
    let paid: Vec<_> = paid.map(|(d, bid)| (*d, *bid, (d.spend / d.clicks as f64).ln())).collect();
    let (clicks, price) = (fit(&bought, prior), fit(&paid, PRICE));
    Some(Elasticity {
        clicks: Slope::of(clicks.unwrap_or(prior), f64::INFINITY),
        price: Slope::of(price.unwrap_or(PRICE), 1.0),
        from: prior,
        room: lost.map(|l| 1.0 / (1.0 - l.get()).max(0.01)),
        seen,
        moved: clicks.is_some(),
    })
}

/// The exponent of the bid in days with the logarithms of what was set and of what came; none where bids did not move.
fn fit(rows: &[(&Day, f64, f64)], prior: Prior) -> Option<Prior> {
    let n = rows.len() as f64;
    let centre = rows.iter().map(|r| r.1).sum::<f64>() / n;
    let spread = (rows.iter().map(|r| (r.1 - centre).powi(2)).sum::<f64>() / n).sqrt();
    if rows.len() < LEAST_DAYS || spread < MOVED {
        return None;
    }
    let middle = rows.iter().map(|r| r.0.at).sum::<f64>() / n;
    let design = DMatrix::from_fn(rows.len(), COLUMNS, |i, j| match j {
        8 => rows[i].1 - centre,
        7 => (rows[i].0.at - middle) / 100.0,
        _ => f64::from(u8::from(rows[i].0.weekday.num_days_from_monday() as usize == j)),
    });
    // Subtracting the prior mean's part turns the prior into one centred on 0; subtracting the level makes currencies alike.
    let level = rows.iter().map(|r| r.2).sum::<f64>() / n;
    let y =
        DVector::from_fn(rows.len(), |i, _| rows[i].2 - level - prior.mean * (rows[i].1 - centre));
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
        let variance = (off.norm_squared() / free).max(LEAST_VARIANCE);
        Some((beta[8], inverse[(8, 8)], variance, off))
    };
    // Twice is enough: the noise moves the prior's weight only slightly.
    let (_, _, noise, off) = solve(0.05, 1.0)?;
    let widened = persistence(off.as_slice());
    let (shift, inverse, noise, _) = solve(noise, widened)?;
    let sd = (noise * widened * inverse).sqrt().min(prior.sd);
    Some(Prior { mean: prior.mean + shift, sd })
}

/// How many times as much the variance of a mean of residuals that follow one another is: (1 + ρ) ÷ (1 − ρ) by their
/// autocorrelation of one day, its own bias (about −(1 + 3ρ)/n: M. Kendall, "Note on bias in the estimation of
/// autocorrelation", Biometrika 41 (1954)) and its standard error added on the wide side.
fn persistence(off: &[f64]) -> f64 {
    let n = off.len() as f64;
    let all: f64 = off.iter().map(|x| x * x).sum();
    let next: f64 = off.windows(2).map(|w| w[0] * w[1]).sum();
    // What is left of a perfect fit is rounding.
    let rho = if all / n > LEAST_VARIANCE { next / all } else { 0.0 };
    let rho = (rho + (1.0 + 3.0 * rho.max(0.0)) / n + 1.0 / n.sqrt()).clamp(0.0, MOST_PERSISTENT);
    (1.0 + rho) / (1.0 - rho)
}

/// What is believed of a campaign's γ, drawn toward what its kind's whose bids have moved turned out to be, each over
/// what had been believed of it.
///
/// ```
/// use tiller_core::bid_volume::{Elasticity, PRIOR, of_kind, unmoved};
/// let mut flat = Elasticity { moved: true, ..unmoved(PRIOR) };
/// (flat.clicks.mean, flat.clicks.sd) = (0.3, 0.05);
/// let prior = of_kind(&[flat; 6], PRIOR);
/// assert!(prior.mean < 0.5 && prior.sd < PRIOR.sd);
/// assert_eq!(of_kind(&[], PRIOR), PRIOR);
/// ```
pub fn of_kind(others: &[Elasticity], own: Prior) -> Prior {
    let relative = own.sd / own.mean;
    let (mut weight, mut sum) = (1.0 / relative.powi(2), 1.0 / relative.powi(2));
    let mut any = false;
    for e in others.iter().filter(|e| e.moved) {
        let w = 1.0 / ((e.clicks.sd / e.from.mean).powi(2) + AMONG_PEERS.powi(2));
        weight += w;
        sum += w * e.clicks.mean / e.from.mean;
        any = true;
    }
    if !any {
        return own;
    }
    let sd = (AMONG_PEERS.powi(2) + 1.0 / weight).sqrt().min(relative);
    Prior { mean: own.mean * sum / weight, sd: own.mean * sd }
}

/// What is believed of a campaign whose bids have never moved.
pub fn unmoved(prior: Prior) -> Elasticity {
    Elasticity {
        clicks: Slope::of(prior, f64::INFINITY),
        price: Slope::of(PRICE, 1.0),
        from: prior,
        room: None,
        seen: None,
        moved: false,
    }
}

impl Elasticity {
    /// Clicks at so many times the bid, over clicks now: median and 80% interval. No more than there are to be won.
    pub fn volume(&self, times: f64) -> Range {
        let free = self.clicks.at(times);
        let most = |x: f64| self.room.map_or(x, |room| x.min(room.max(1.0)));
        let around = Interval { low: most(free.around.low), high: most(free.around.high) };
        Range { mid: most(free.mid), around }
    }

    /// What a click costs at so many times the bid, over what it costs now: median and 80% interval.
    pub fn cpc(&self, times: f64) -> Range {
        self.price.at(times)
    }

    /// Times the bid at which a click costs so many times as much as now.
    ///
    /// ```
    /// use tiller_core::bid_volume::{PRIOR, unmoved};
    /// let e = unmoved(PRIOR);
    /// assert!((e.cpc(e.bid_for(0.8)).mid - 0.8).abs() < 1e-9 && e.bid_for(0.8) < 0.8);
    /// ```
    pub fn bid_for(&self, cpc: f64) -> f64 {
        cpc.powf(1.0 / self.price.quantile(0.5).max(LEAST_FOLLOWED))
    }

    /// Times the bid that spends so many times what the present one could: less, where a budget ends its days and the same
    /// money shall last to their end; more, where it has room. The mildest of what is likely: neither is money left
    /// unspent nor a budget overrun.
    pub fn bid_that_spends(&self, part: f64) -> f64 {
        part.powf(1.0 / (self.clicks.quantile(0.9) + self.price.quantile(0.9)))
    }

    /// What the next click costs over the mean one, at any bid: a higher bid pays more for every click that it had
    /// before, so 1 + κ/γ. Median and 80% interval; infinite where a higher bid may bring nothing.
    pub fn next_click(&self) -> Range {
        let at = |p: f64| {
            let (mut low, mut high) = (0.0, 1e4);
            if self.next_within(1.0 + high) < p {
                return f64::INFINITY;
            }
            for _ in 0..60 {
                let middle = f64::midpoint(low, high);
                if self.next_within(1.0 + middle) < p { low = middle } else { high = middle }
            }
            1.0 + high
        };
        Range { mid: at(0.5), around: Interval { low: at(0.1), high: at(0.9) } }
    }

    /// The probability that one more conversion costs no more than so many times the mean one: 1 + κ/γ ≤ times.
    ///
    /// ```
    /// use tiller_core::bid_volume::{PRIOR, unmoved};
    /// let e = unmoved(PRIOR);
    /// // Between 1.6 and 1.7 times the mean is what the next costs, at γ 1 and a price that follows by 0.7.
    /// assert!(e.next_within(1.6) < 0.5 && e.next_within(1.7) > 0.5 && e.next_within(1.0) == 0.0);
    /// ```
    pub fn next_within(&self, times: f64) -> f64 {
        if times <= 1.0 {
            return 0.0;
        }
        let gamma = |i: usize| self.clicks.quantile((i as f64 + 0.5) / POINTS as f64);
        let chances = (0..POINTS).map(|i| self.price.up_to((times - 1.0) * gamma(i)));
        chances.sum::<f64>() / POINTS as f64
    }

    /// The probability that one more conversion meets a target at so many times the bid, where `meets` is the probability
    /// that the mean one would if it cost so many times as much as now.
    ///
    /// ```
    /// use tiller_core::bid_volume::{PRIOR, unmoved};
    /// let e = unmoved(PRIOR);
    /// let meets = |costs: f64| if costs <= 2.0 { 1.0 } else { 0.0 };
    /// assert!((e.next_meets(1.0, meets) - e.next_within(2.0)).abs() < 0.05);
    /// assert!(e.next_meets(1.5, meets) < e.next_meets(1.0, meets), "a dearer click leaves less room");
    /// ```
    pub fn next_meets(&self, times: f64, meets: impl Fn(f64) -> f64) -> f64 {
        let chances = |i: usize| (i as f64 + 0.5) / FEW as f64;
        let points =
            |slope: &Slope| -> Vec<f64> { (0..FEW).map(|i| slope.quantile(chances(i))).collect() };
        let (gammas, kappas) = (points(&self.clicks), points(&self.price));
        let costs = |g: f64, k: f64| times.powf(k) * (1.0 + k / g);
        let all = gammas.iter().flat_map(|g| kappas.iter().map(|k| meets(costs(*g, *k))));
        all.sum::<f64>() / (FEW * FEW) as f64
    }

    /// The highest bid, as times the present one and up to `most`, at which one more conversion still meets the target
    /// with a probability of `sure`; none where it does not even now.
    pub fn highest_bid(&self, most: f64, sure: f64, meets: impl Fn(f64) -> f64) -> Option<f64> {
        let holds = |times: f64| self.next_meets(times, &meets) >= sure;
        if !holds(1.0) {
            return None;
        }
        if holds(most) {
            return Some(most);
        }
        let (mut low, mut high) = (1.0, most);
        for _ in 0..HALVINGS {
            let middle = f64::midpoint(low, high);
            if holds(middle) { low = middle } else { high = middle }
        }
        Some(low)
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
    /// What one costs, over what it costs now.
    pub cpc: Range,
    /// Money, in units of currency.
    pub spend: Range,
    /// Results, the conversion rate held (common practice, no source: as good at lower bids).
    pub conversions: Range,
    /// What one costs, in units of currency.
    pub cpa: Option<Range>,
    /// What one more costs; without an end where a higher bid may bring nothing.
    pub next: Option<Range>,
}

impl AtBid {
    /// The same at the same bid where days last so many times as long.
    #[must_use]
    pub fn lasting(self, by: f64) -> Self {
        let (clicks, spend) = (self.clicks.times(by), self.spend.times(by));
        Self { clicks, spend, conversions: self.conversions.times(by), ..self }
    }
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
    /// Nothing, surely.
    pub const NONE: Self = Self::exactly(0.0);

    /// A number without a doubt.
    pub const fn exactly(mid: f64) -> Self {
        Self { mid, around: Interval { low: mid, high: mid } }
    }

    /// Each with its own of another: both at their low, both in the middle, both at their high.
    fn with(self, other: Self, f: impl Fn(f64, f64) -> f64) -> Self {
        let (a, b) = (self.around, other.around);
        let around = Interval { low: f(a.low, b.low), high: f(a.high, b.high) };
        Self { mid: f(self.mid, other.mid), around }
    }

    /// Both together, where they are high and low together.
    #[must_use]
    pub fn plus(self, other: Self) -> Self {
        self.with(other, |a, b| a + b)
    }

    /// Less another, where they are high and low together.
    #[must_use]
    pub fn each_less(self, other: Self) -> Self {
        self.with(other, |a, b| a - b)
    }

    /// So many times another, where they are high and low together.
    #[must_use]
    pub fn each_times(self, other: Self) -> Self {
        self.with(other, |a, b| a * b)
    }

    /// Less another, wherever both may be.
    #[must_use]
    pub fn minus(self, other: Self) -> Self {
        let (a, b) = (self.around, other.around);
        let around = Interval { low: a.low - b.high, high: a.high - b.low };
        Self { mid: self.mid - other.mid, around }
    }

    /// So many times another, wherever both may be.
    #[must_use]
    pub fn product(self, other: Self) -> Self {
        let (a, b) = (self.around, other.around);
        let corners = [a.low * b.low, a.low * b.high, a.high * b.low, a.high * b.high];
        let low = corners.into_iter().fold(f64::INFINITY, f64::min);
        let high = corners.into_iter().fold(f64::NEG_INFINITY, f64::max);
        Self { mid: self.mid * other.mid, around: Interval { low, high } }
    }

    /// With its lower bound first.
    #[must_use]
    pub fn in_order(self) -> Self {
        let Interval { low, high } = self.around;
        Self { around: Interval { low: low.min(high), high: low.max(high) }, ..self }
    }

    /// So many times as much.
    #[must_use]
    pub fn times(self, by: f64) -> Self {
        let Interval { low, high } = self.around;
        Self { mid: self.mid * by, around: Interval { low: low * by, high: high * by } }
    }
}

/// What so many clicks, money and results would be at so many times the bid.
pub fn at_bid(e: &Elasticity, clicks: f64, spend: f64, conversions: f64, times: f64) -> AtBid {
    let (volume, cpc) = (e.volume(times), e.cpc(times));
    let cpa = (conversions > 0.0).then(|| cpc.times(spend / conversions));
    // Money is clicks and their price, both at their low or both at their high: the wide side of what is likely.
    let around = Interval {
        low: volume.around.low * cpc.around.low,
        high: volume.around.high * cpc.around.high,
    };
    AtBid {
        times,
        clicks: volume.times(clicks),
        cpc,
        spend: Range { mid: volume.mid * cpc.mid, around }.times(spend),
        conversions: volume.times(conversions),
        cpa,
        next: cpa.map(|cpa| e.next_click().times(cpa.mid)),
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
                // A click's price follows by two thirds.
                let spend = clicks as f64 * 0.8 * f64::powf(bid, 2.0 / 3.0);
                let weekday = crate::week::DAYS[i % 7];
                Day { weekday, at: i as f64, clicks, spend, bid: Some(bid), held: false }
            })
            .collect()
    }

    #[test]
    fn recovers_the_slope() {
        for gamma in [0.4, 1.0, 1.8] {
            let e = elasticity(&days(gamma, 84), PRIOR, None).unwrap();
            assert!((e.clicks.mean - gamma).abs() < 0.05, "{gamma}: {e:?}");
            assert!((e.price.mean - 2.0 / 3.0).abs() < 0.01, "{e:?}");
            assert!(e.moved && e.has_seen(0.8) && e.has_seen(1.0) && !e.has_seen(1.3), "{e:?}");
        }
    }

    #[test]
    fn where_bids_never_moved_the_prior_answers() {
        let mut still = days(0.4, 84);
        still.iter_mut().for_each(|d| d.bid = Some(2.0));
        let e = elasticity(&still, PRIOR, None).unwrap();
        assert_eq!((e.clicks.mean, e.clicks.sd, e.moved), (1.0, 0.5, false));
        assert_eq!((e.price.mean, e.price.sd), (0.7, 0.25));
        still.iter_mut().for_each(|d| d.bid = None);
        assert_eq!(elasticity(&still, PRIOR, None).unwrap().seen, None);
        let few = elasticity(&days(0.4, 10), PRIOR, None).unwrap();
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
                spend: 1500.0,
                bid: Some(if i < 42 { 2.0 } else { 2.4 }),
                held: false,
            })
            .collect();
        let e = elasticity(&rising, PRIOR, None).unwrap();
        // What is believed beforehand draws it up a little.
        assert!(e.clicks.mean.abs() < 0.2, "the bid did nothing: {e:?}");
    }

    /// A budget that ends its days makes dearer clicks fewer; that tells nothing of the bid.
    #[test]
    fn days_that_the_budget_ended_tell_of_the_price_alone() {
        let mut held = days(1.2, 84);
        for d in &mut held {
            d.held = true;
            d.clicks = (900.0 / (d.spend / d.clicks as f64)).round() as i64;
            d.spend = 900.0;
        }
        let e = elasticity(&held, PRIOR, None).unwrap();
        assert!(!e.moved && e.clicks.mean == 1.0, "{e:?}");
        assert!((e.price.mean - 2.0 / 3.0).abs() < 0.02, "{e:?}");
        held.iter_mut().for_each(|d| d.held = false);
        let fooled = elasticity(&held, PRIOR, None).unwrap();
        assert!(fooled.clicks.mean < 0.0, "else dearer would seem fewer: {fooled:?}");
    }

    /// Against its definition: the share of log-normal rivals below a bid, by differences.
    #[test]
    fn auctions_won_tell_how_many_more_there_are() {
        let won = |bid: f64| Normal::standard().cdf(f64::ln(bid) / RIVALS);
        for bid in [0.5, 0.8, 1.0, 1.6, 2.4] {
            let by_hand = (won(bid * 1.001).ln() - won(bid).ln()) / f64::ln(1.001);
            let told = believed(Share::new(1.0 - won(bid)));
            assert!((told.mean / by_hand - 1.0).abs() < 0.01, "{bid}: {told:?} {by_hand}");
        }
        let e = elasticity(&days(1.2, 10), believed(Share::new(0.1)), Share::new(0.1)).unwrap();
        let more = e.volume(1.8);
        assert!(more.around.high <= 1.0 / 0.9 + 1e-12, "no more than there are: {more:?}");
    }

    /// By its definition: what lower bids could spend is what the budget has.
    #[test]
    fn a_budget_lasts_at_a_lower_bid() {
        let e = sure(1.4, 0.6);
        let times = e.bid_that_spends(0.7);
        assert!((e.volume(times).mid * e.cpc(times).mid - 0.7).abs() < 1e-6);
        let unsure = unmoved(PRIOR);
        let spends = |p: f64| unsure.clicks.quantile(p) + unsure.price.quantile(p);
        let mild = unsure.bid_that_spends(0.7);
        assert!(mild > 0.7f64.powf(1.0 / spends(0.5)), "the milder one: {mild}");
    }

    /// Both exponents as good as known.
    fn sure(gamma: f64, kappa: f64) -> Elasticity {
        let mut e = unmoved(Prior { mean: gamma, sd: 1e-9 });
        e.price = Slope { mean: kappa, sd: 1e-9, most: 1.0 };
        e
    }

    /// By differences: spend over clicks between two bids that lie close together.
    #[test]
    fn the_next_click_costs_what_spend_and_clicks_say() {
        let e = sure(0.8, 0.6);
        let at = |times: f64| at_bid(&e, 100.0, 150.0, 10.0, times);
        let step = at(1.0001);
        let marginal = (step.spend.mid - 150.0) / (step.clicks.mid - 100.0);
        let next = e.next_click();
        assert!((marginal / 1.5 - next.mid).abs() < 1e-3, "{marginal} {next:?}");
        assert!(next.around.contains(next.mid) && next.around.low > 1.0);
        assert!(e.next_within(next.mid * 1.1) > 0.99 && e.next_within(next.mid * 0.9) < 0.01);
        let unsure = unmoved(Prior { mean: 0.0, sd: 0.5 });
        let around = unsure.next_click().around;
        assert!((unsure.next_within(around.low) - 0.1).abs() < 1e-6, "a tenth lies below");
        assert!(around.high > 8.0, "it may bring next to nothing: {around:?}");
    }

    /// By hand: γ 1 and κ 1/2 at 0.64 of the bid: 0.64 of the clicks and results at 0.8 of the price, 0.512 of the money.
    #[test]
    fn another_bid_is_computed_by_hand() {
        let e = sure(1.0, 0.5);
        let at = at_bid(&e, 1000.0, 2000.0, 50.0, 0.64);
        let near = |r: Range, x: f64| (r.mid / x - 1.0).abs() < 1e-6;
        assert!(near(at.clicks, 640.0) && near(at.conversions, 32.0) && near(at.spend, 1024.0));
        assert!(near(at.cpc, 0.8) && near(at.cpa.unwrap(), 32.0));
        assert!(near(at.next.unwrap(), 48.0), "half as much again as the mean");
        assert!((e.bid_for(0.8) - 0.64).abs() < 1e-6);
        assert_eq!(at_bid(&e, 1000.0, 2000.0, 0.0, 0.8).cpa, None);
    }
}
