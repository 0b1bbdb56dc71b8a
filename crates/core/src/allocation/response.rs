//! Responses: conversions per day as a function of money per day, concave and increasing.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How a line answers to money.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Response {
    /// Every click costs and converts alike: s × cvr ÷ cpc.
    Constant {
        /// Cost per click, in units of currency.
        cpc: f64,
        /// Conversions per click.
        cvr: f64,
    },
    /// scale × s^elasticity.
    Power {
        /// Conversions at one unit of money a day.
        scale: f64,
        /// % more conversions for 1% more money; above 0, below 1.
        elasticity: f64,
    },
    /// limit × s ÷ (`half_at` + s).
    Saturating {
        /// Conversions a day that no money exceeds.
        limit: f64,
        /// Money a day that brings half of them.
        half_at: f64,
    },
}

impl Response {
    /// Conversions a day at `spend` a day.
    pub fn at(self, spend: f64) -> f64 {
        match self {
            Self::Constant { cpc, cvr } => spend * cvr / cpc,
            Self::Power { scale, elasticity } => scale * spend.powf(elasticity),
            Self::Saturating { limit, half_at } => limit * spend / (half_at + spend),
        }
    }

    /// So many times the conversions for the same money.
    ///
    /// ```
    /// # use tiller_core::allocation::Response;
    /// let half = Response::Power { scale: 4.0, elasticity: 0.5 }.times(0.5);
    /// assert_eq!(half.at(25.0), 10.0);
    /// ```
    pub fn times(self, factor: f64) -> Self {
        match self {
            Self::Constant { cpc, cvr } => Self::Constant { cpc, cvr: cvr * factor },
            Self::Power { scale, elasticity } => Self::Power { scale: scale * factor, elasticity },
            Self::Saturating { limit, half_at } => {
                Self::Saturating { limit: limit * factor, half_at }
            }
        }
    }

    /// What one more unit of money a day brings at a spend a day; infinite at 0 for a power.
    ///
    /// ```
    /// # use tiller_core::allocation::Response;
    /// // 4·√s has the slope 2 ÷ √s.
    /// let half = Response::Power { scale: 4.0, elasticity: 0.5 };
    /// assert!((half.marginal(25.0) - 0.4).abs() < 1e-12);
    /// ```
    pub fn marginal(self, spend: f64) -> f64 {
        self.over(1.0).marginal(spend)
    }

    /// The same response over a period of so many days: `f_D(S) = D·f(S ÷ D)`.
    pub(super) fn over(self, days: f64) -> Curve {
        match self {
            Self::Constant { cpc, cvr } => Curve::Linear { slope: cvr / cpc },
            Self::Power { scale, .. } | Self::Saturating { limit: scale, .. } if scale <= 0.0 => {
                Curve::Linear { slope: 0.0 }
            }
            Self::Power { scale, elasticity } => {
                Curve::Power { scale: scale * days.powf(1.0 - elasticity), elasticity }
            }
            Self::Saturating { limit, half_at } => {
                Curve::Saturating { limit: limit * days, half_at: half_at * days }
            }
        }
    }
}

/// Results of a period as a function of its money.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Curve {
    Linear { slope: f64 },
    Power { scale: f64, elasticity: f64 },
    Saturating { limit: f64, half_at: f64 },
}

impl Curve {
    /// f(s).
    pub fn at(self, s: f64) -> f64 {
        match self {
            Self::Linear { slope } => slope * s,
            Self::Power { scale, elasticity } => scale * s.max(0.0).powf(elasticity),
            Self::Saturating { limit, half_at } => limit * s / (half_at + s),
        }
    }

    /// f′(s); infinite at 0 for a power.
    pub fn marginal(self, s: f64) -> f64 {
        match self {
            Self::Linear { slope } => slope,
            Self::Power { scale, elasticity } => {
                scale * elasticity * s.max(0.0).powf(elasticity - 1.0)
            }
            Self::Saturating { limit, half_at } => limit * half_at / (half_at + s).powi(2),
        }
    }

    /// The demand for money of a line whose results weigh `weight` each.
    pub fn demand(self, weight: f64) -> Demand {
        match self {
            Self::Linear { slope } => Demand::Step { price: weight * slope },
            _ if weight <= 0.0 => Demand::Step { price: 0.0 },
            Self::Power { scale, elasticity } => {
                let inverse = 1.0 / (1.0 - elasticity);
                Demand::Power { log: inverse * (weight * scale * elasticity).ln(), inverse }
            }
            Self::Saturating { limit, half_at } => {
                Demand::Root { factor: (weight * limit * half_at).sqrt(), half_at }
            }
        }
    }
}

/// The inverse marginal: money s at which weight × f′(s) equals a price.
#[derive(Clone, Copy, Debug)]
pub(super) enum Demand {
    /// All below this price, nothing above.
    Step { price: f64 },
    /// exp(log − inverse × ln price).
    Power { log: f64, inverse: f64 },
    /// factor ÷ √price − `half_at`.
    Root { factor: f64, half_at: f64 },
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn demand_inverts_the_marginal() {
        let power = Response::Power { scale: 2.0, elasticity: 0.6 }.over(30.0);
        let saturating = Response::Saturating { limit: 9.0, half_at: 40.0 }.over(30.0);
        for s in [0.5, 20.0, 4000.0] {
            let x = (3.0 * power.marginal(s)).ln();
            let Demand::Power { log, inverse } = power.demand(3.0) else { unreachable!() };
            assert!(((log - inverse * x).exp() / s - 1.0).abs() < 1e-12);
            let price = 3.0 * saturating.marginal(s);
            let Demand::Root { factor, half_at } = saturating.demand(3.0) else { unreachable!() };
            assert!((factor / price.sqrt() - half_at - s).abs() < 1e-9 * (1.0 + s));
        }
    }

    #[test]
    fn a_period_is_days_times_a_day() {
        for r in [
            Response::Constant { cpc: 2.0, cvr: 0.04 },
            Response::Power { scale: 1.5, elasticity: 0.7 },
            Response::Saturating { limit: 12.0, half_at: 80.0 },
        ] {
            let (day, month) = (r.over(1.0), r.over(30.0));
            assert!((month.at(900.0) - 30.0 * day.at(30.0)).abs() < 1e-9);
            assert!((month.marginal(900.0) - day.marginal(30.0)).abs() < 1e-12);
        }
    }
}
