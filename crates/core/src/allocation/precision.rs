//! How well a response is known.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::response::Response;
use crate::evidence::{Interval, normal_quantile};

/// Points at which what is not known is looked at.
const POINTS: usize = 15;
/// No elasticity is below this.
const LEAST: f64 = 0.05;

/// How well a response is known: the log of its results at a spend is normal, with a variance that grows with the
/// distance from where it has been seen.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Precision {
    /// Money a day at which it is known best.
    pub reference: f64,
    /// Covariance of the log level there and of the form's parameter: the elasticity of a power, the log of
    /// the half-way spend of a saturating form.
    pub covariance: [[f64; 2]; 2],
    /// Least and most money of a day that has been seen.
    pub observed: [f64; 2],
    /// What of the level's deviation it has together with others.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub level_shared: Option<Shared>,
    /// The same because how far the levels lie apart is not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spread_shared: Option<Shared>,
    /// The same of the form's parameter.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub form_shared: Option<Shared>,
}

/// What one more result would cost now, as times the mean one.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Next {
    /// Times the mean.
    pub costs: f64,
    /// The 80% interval.
    pub around: Interval,
    /// Its own days hardly tell: it is what is usual on its channel.
    pub leans: bool,
}

/// The part of a standard deviation by which several lines err together: the mean that they were drawn toward is not known
/// either.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Shared {
    /// Lines with the same number err together.
    pub with: u32,
    /// Standard deviation, part of what the covariance tells; below 0 for a line that errs the other way.
    pub by: f64,
}

impl Precision {
    /// Of which nothing is shared: reference, covariance and observed money.
    pub fn alone(reference: f64, covariance: [[f64; 2]; 2], observed: [f64; 2]) -> Self {
        Self {
            reference,
            covariance,
            observed,
            level_shared: None,
            spread_shared: None,
            form_shared: None,
        }
    }

    /// Slope of the log mean in the form's parameter at a spend a day.
    pub(super) fn direction(&self, response: Response, spend: f64) -> f64 {
        match response {
            Response::Saturating { half_at, .. } => {
                half_at / (half_at + self.reference) - half_at / (half_at + spend)
            }
            Response::Power { .. } => (spend.max(1e-9) / self.reference).ln(),
            Response::Constant { .. } => 0.0,
        }
    }

    /// Variance of the log mean at a spend a day.
    pub fn variance(&self, response: Response, spend: f64) -> f64 {
        let d = self.direction(response, spend);
        let [[level, both], [_, form]] = self.covariance;
        (level + 2.0 * d * both + d * d * form).max(0.0)
    }

    /// Interval of the mean of conversions a day at a spend a day.
    pub fn interval(&self, response: Response, spend: f64, confidence: f64) -> Interval {
        let reach = normal_quantile(0.5 + confidence / 2.0) * self.variance(response, spend).sqrt();
        let mid = response.at(spend);
        Interval { low: mid * (-reach).exp(), high: mid * reach.exp() }
    }

    /// The probability that one more conversion meets a target at a spend a day, where `meets` is the probability that the
    /// mean one would if it cost so many times as much as it does at `now`.
    ///
    /// ```
    /// use tiller_core::allocation::{Precision, Response};
    /// let power = Response::Power { scale: 1.0, elasticity: 0.5 };
    /// let known = Precision::alone(100.0, [[0.01, 0.0], [0.0, 0.01]], [90.0, 110.0]);
    /// // At an elasticity of ½ the next costs twice the mean, and √1.21 times as much again for 21% more money.
    /// let up_to = |most: f64| move |costs: f64| f64::from(costs <= most);
    /// let chance = known.next_meets(power, 100.0, 100.0, up_to(2.0));
    /// assert!((chance - 0.5).abs() < 0.1 && chance > known.next_meets(power, 100.0, 121.0, up_to(2.0)));
    /// ```
    pub fn next_meets(
        &self,
        response: Response,
        now: f64,
        spend: f64,
        meets: impl Fn(f64) -> f64,
    ) -> f64 {
        let (mid, deviation) = self.elasticity(response, now);
        let at = |i: usize| {
            let chance = (i as f64 + 0.5) / POINTS as f64;
            let elasticity = (mid + normal_quantile(chance) * deviation).clamp(LEAST, 1.0);
            meets((spend / now).powf(1.0 - elasticity) / elasticity)
        };
        (0..POINTS).map(at).sum::<f64>() / POINTS as f64
    }

    /// What one more conversion costs at a spend a day, as times the mean one there, with its interval: 1 ÷ the elasticity.
    ///
    /// ```
    /// use tiller_core::allocation::{Precision, Response};
    /// let known = Precision::alone(100.0, [[0.01, 0.0], [0.0, 0.01]], [90.0, 110.0]);
    /// // At an elasticity of 0.6, a mean of 27 means that the next costs 45.
    /// let power = Response::Power { scale: 1.0, elasticity: 0.6 };
    /// let (next, around) = known.next_costs(power, 100.0, 0.8);
    /// assert!((27.0 * next - 45.0).abs() < 1e-9 && around.low < next && next < around.high);
    /// // A straight line: the next costs what the mean one does.
    /// assert_eq!(known.next_costs(Response::Constant { cpc: 2.0, cvr: 0.04 }, 100.0, 0.8).0, 1.0);
    /// ```
    pub fn next_costs(&self, response: Response, spend: f64, confidence: f64) -> (f64, Interval) {
        let (mid, deviation) = self.elasticity(response, spend);
        let reach = normal_quantile(0.5 + confidence / 2.0) * deviation;
        let at = |elasticity: f64| 1.0 / elasticity.clamp(LEAST, 1.0);
        (at(mid), Interval { low: at(mid + reach), high: at(mid - reach) })
    }

    /// How many times as many conversions another spend a day brings as `now` does.
    pub fn times(&self, response: Response, now: f64, spend: f64, confidence: f64) -> Interval {
        let (mid, deviation) = self.elasticity(response, now);
        let reach = normal_quantile(0.5 + confidence / 2.0) * deviation;
        let at = |elasticity: f64| (spend / now).powf(elasticity.clamp(LEAST, 1.0));
        let (a, b) = (at(mid - reach), at(mid + reach));
        Interval { low: a.min(b), high: a.max(b) }
    }

    /// How many per cent more conversions 1% more money brings at a spend a day, and its standard deviation.
    fn elasticity(&self, response: Response, spend: f64) -> (f64, f64) {
        let deviation = self.covariance[1][1].max(0.0).sqrt();
        match response {
            Response::Saturating { half_at, .. } => {
                let mid = half_at / (half_at + spend);
                (mid, mid * (1.0 - mid) * deviation)
            }
            Response::Power { elasticity, .. } => (elasticity, deviation),
            Response::Constant { .. } => (1.0, 0.0),
        }
    }

    /// Lower triangle of the root of the covariance without what is shared.
    pub(super) fn root(&self) -> [f64; 3] {
        let [[level, both], [_, form]] = self.covariance;
        let of = |shared: Option<Shared>| shared.map_or(0.0, |s| s.by * s.by);
        let level = level - of(self.level_shared) - of(self.spread_shared);
        let form = form - of(self.form_shared);
        let a = level.max(0.0).sqrt();
        let b = if a > 0.0 { both / a } else { 0.0 };
        [a, b, (form - b * b).max(0.0).sqrt()]
    }
}
