//! How well a response is known.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::response::Response;
use crate::evidence::{Interval, normal_quantile};

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
}

impl Precision {
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
    pub(super) fn variance(&self, response: Response, spend: f64) -> f64 {
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

    /// Interval of the elasticity at a spend a day: how many per cent more conversions 1% more money brings.
    ///
    /// ```
    /// use tiller_core::allocation::{Precision, Response};
    /// let power = Response::Power { scale: 1.0, elasticity: 0.7 };
    /// let known = Precision { reference: 100.0, covariance: [[0.01, 0.0], [0.0, 0.01]], observed: [90.0, 110.0] };
    /// let around = known.elasticity(power, 100.0, 0.8);
    /// assert!((around.low - (0.7 - 0.128155)).abs() < 1e-5 && around.high < 1.0);
    /// ```
    pub fn elasticity(&self, response: Response, spend: f64, confidence: f64) -> Interval {
        let (mid, slope) = match response {
            Response::Saturating { half_at, .. } => {
                let mid = half_at / (half_at + spend);
                (mid, mid * (1.0 - mid))
            }
            Response::Power { elasticity, .. } => (elasticity, 1.0),
            Response::Constant { .. } => (1.0, 0.0),
        };
        let sd = slope * self.covariance[1][1].max(0.0).sqrt();
        let reach = normal_quantile(0.5 + confidence / 2.0) * sd;
        Interval { low: (mid - reach).max(0.0), high: (mid + reach).min(1.0) }
    }

    /// Lower triangle of the covariance's root.
    pub(super) fn root(&self) -> [f64; 3] {
        let [[level, both], [_, form]] = self.covariance;
        let a = level.max(0.0).sqrt();
        let b = if a > 0.0 { both / a } else { 0.0 };
        [a, b, (form - b * b).max(0.0).sqrt()]
    }
}
