//! Over its target? Asked of a thing's own evidence alone: what others cost has no say in what it costs.

use statrs::distribution::{ContinuousCDF, Gamma};
use statrs::function::beta::beta_reg;

use super::peers::Prior;
use crate::money::Price;

/// Jeffreys' prior of a Poisson rate, Gamma(½, 0): it weighs half a conversion (H. Jeffreys, "An invariant form
/// for the prior probability in estimation problems", Proc. Roy. Soc. A 186 (1946)).
pub const HALF: f64 = 0.5;

/// P(true CPA > `target_cpa`) after `spend` brought so many conversions: the Gamma posterior of conversions per
/// unit of money under Jeffreys' prior. Money in units of currency.
///
/// ```
/// use tiller_core::{Price, evidence::over_target};
/// // 84 a conversion against 30, and 25 against 30: the same answer whatever others cost.
/// assert!(over_target(840.0, 10.0, Price(30.0)) > 0.99);
/// assert!(over_target(750.0, 30.0, Price(30.0)) < 0.2);
/// ```
pub fn over_target(spend: f64, conversions: f64, target_cpa: Price) -> f64 {
    let target_cpa = target_cpa.units();
    if spend <= 0.0 || target_cpa <= 0.0 {
        return 0.5;
    }
    Gamma::new(conversions + HALF, spend).map_or(0.5, |d| d.cdf(1.0 / target_cpa))
}

/// P(the next `next_spend` costs more than `target_cpa` a conversion) after `spend` brought so many: the conversions to come are
/// negative binomial, given the posterior of [`over_target`]; as many as the target allows count half.
///
/// ```
/// use tiller_core::{Price, evidence::target::will_cost_more};
/// // A lot is known of it, and little will be spent: mostly chance.
/// let soon = will_cost_more(8400.0, 250.0, Price(30.0), 90.0);
/// assert!((0.55..0.75).contains(&soon));
/// assert!(will_cost_more(8400.0, 250.0, Price(30.0), 9000.0) > soon);
/// ```
pub fn will_cost_more(spend: f64, conversions: f64, target_cpa: Price, next_spend: f64) -> f64 {
    let target_cpa = target_cpa.units();
    if spend <= 0.0 || target_cpa <= 0.0 || next_spend <= 0.0 {
        return 0.5;
    }
    let stays = spend / (spend + next_spend);
    beta_reg(conversions + HALF, next_spend / target_cpa + HALF, stays)
}

/// P(successes per unit of exposure < `threshold`) under a Gamma prior.
pub fn rate_below(successes: f64, exposure: f64, prior: Prior, threshold: f64) -> f64 {
    let shape = prior.strength + successes;
    let rate = prior.strength / prior.mean + exposure;
    Gamma::new(shape, rate).map_or(0.5, |d| d.cdf(threshold))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The Gamma tail by a sum: P(Gamma(k, 1) < x) = P(Poisson(x) ≥ k) for whole k.
    #[test]
    fn gamma_posterior_against_the_poisson_sum() {
        let prior = Prior { mean: 1.0 / 30.0, strength: 2.0 };
        let (conversions, spend, threshold) = (3.0, 150.0, 1.0 / 25.0);
        let x: f64 = (60.0 + 150.0) * threshold;
        let mut term = (-x).exp();
        let mut below = 0.0;
        for k in 0..5 {
            below += term;
            term *= x / f64::from(k + 1);
        }
        assert!((rate_below(conversions, spend, prior, threshold) - (1.0 - below)).abs() < 1e-9);
    }

    /// Negative binomial by its sum: after 3 conversions for 90, of the next 60 at a target of 30 two are allowed. The posterior's
    /// shape is 3½ and its mean share of what stays 90 ÷ 150.
    #[test]
    fn what_comes_next_against_the_negative_binomial_sum() {
        let (shape, stays): (f64, f64) = (3.5, 0.6);
        let mut term = stays.powf(shape);
        let mut below = Vec::new();
        for k in 0..4 {
            below.push(below.last().copied().unwrap_or(0.0) + term);
            term *= (shape + f64::from(k)) / f64::from(k + 1) * (1.0 - stays);
        }
        let at = |allowed: f64| will_cost_more(90.0, 3.0, Price(30.0), allowed * 30.0);
        // P(at most k) is the beta function at k + 1: between P(at most 1) and P(at most 2).
        let found = at(2.0);
        assert!(below[1] < found && found < below[2], "{found} {below:?}");
        // Half a conversion more allowed is P(at most 2) exactly, were as much spent.
        let exact = beta_reg(shape, 3.0, stays);
        assert!((exact - below[2]).abs() < 1e-9, "{exact} {below:?}");
        assert_eq!(will_cost_more(0.0, 0.0, Price(30.0), 10.0), 0.5);
    }

    /// Without conversions the posterior is half a chi-squared with one degree of freedom: three targets spent
    /// are P(χ²₁ < 6) = erf(√3) = 0.985 694 (M. Abramowitz, I. A. Stegun, Handbook of Mathematical Functions,
    /// table 7.1).
    #[test]
    fn three_targets_without_a_conversion() {
        assert!((over_target(90.0, 0.0, Price(30.0)) - 0.985_694).abs() < 1e-5);
        assert_eq!(over_target(0.0, 0.0, Price(30.0)), 0.5);
    }
}
