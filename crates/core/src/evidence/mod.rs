//! How sure the numbers are: intervals of rates and counts here, each comparison in a file of its own.
//!
//! ```
//! use tiller_core::evidence::wilson;
//! // Newcombe 1998, table I, method 3.
//! let i = wilson(81.0, 263.0, 0.95).unwrap();
//! assert!((i.low - 0.2553).abs() < 5e-5 && (i.high - 0.3662).abs() < 5e-5);
//! ```

use statrs::distribution::{Beta, Binomial, ChiSquared, ContinuousCDF, DiscreteCDF, Normal};
use statrs::function::beta::beta_reg;

pub mod discovery;
pub mod dispersion;
pub mod levels;
pub mod looking;
pub mod order_values;
pub mod peers;
pub mod target;
pub mod walk;

pub use discovery::{FALSE_SHARE, discoveries};
pub use dispersion::{dispersion, lasting_dispersion};
pub use peers::{Prior, Standing, prior_for_comparing, prior_from_peers};
pub use target::{over_target, rate_below};

/// A lower and an upper bound.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Interval {
    /// Lower bound.
    pub low: f64,
    /// Upper bound.
    pub high: f64,
}

impl Interval {
    /// Whether `x` lies within, the bounds included.
    pub fn contains(self, x: f64) -> bool {
        (self.low..=self.high).contains(&x)
    }
}

/// Fewer conversions than this are no evidence for more than one step (common practice, no source).
pub const FEW: f64 = 10.0;

/// Quantile of the standard normal distribution.
pub fn normal_quantile(p: f64) -> f64 {
    Normal::standard().inverse_cdf(p)
}

/// Wilson score interval of a proportion at `confidence` (0.95): E. B. Wilson, "Probable inference, the
/// law of succession, and statistical inference", JASA 22 (1927). Absent without trials.
pub fn wilson(successes: f64, trials: f64, confidence: f64) -> Option<Interval> {
    if trials <= 0.0 {
        return None;
    }
    let z = normal_quantile(f64::midpoint(1.0, confidence));
    let p = (successes / trials).clamp(0.0, 1.0);
    let z2 = z * z;
    let centre = p + z2 / (2.0 * trials);
    let half = z * (p * (1.0 - p) / trials + z2 / (4.0 * trials * trials)).sqrt();
    let under = 1.0 + z2 / trials;
    Some(Interval {
        // At the ends the bound is the end itself, which rounding would miss.
        low: if p == 0.0 { 0.0 } else { ((centre - half) / under).max(0.0) },
        high: if p == 1.0 { 1.0 } else { ((centre + half) / under).min(1.0) },
    })
}

/// Exact interval of a proportion (C. J. Clopper, E. S. Pearson, "The use of confidence or fiducial limits illustrated in the case of
/// the binomial", Biometrika 26 (1934)): of few trials Wilson's leaves out too much. Counts may be fractional. Absent without trials.
pub fn clopper_pearson(successes: f64, trials: f64, confidence: f64) -> Option<Interval> {
    if trials <= 0.0 {
        return None;
    }
    let (tail, failures) = ((1.0 - confidence) / 2.0, (trials - successes).max(0.0));
    let bound = |a, b, p, none| Beta::new(a, b).map_or(none, |of| of.inverse_cdf(p));
    Some(Interval {
        low: if successes > 0.0 { bound(successes, failures + 1.0, tail, 0.0) } else { 0.0 },
        high: if failures > 0.0 { bound(successes + 1.0, failures, 1.0 - tail, 1.0) } else { 1.0 },
    })
}

/// Exact interval of a Poisson mean given a count (F. Garwood, "Fiducial limits for the Poisson
/// distribution", Biometrika 28 (1936)). The count may be fractional: credit is shared.
pub fn poisson(count: f64, confidence: f64) -> Interval {
    let tail = (1.0 - confidence) / 2.0;
    let chi = |p, freedom| ChiSquared::new(freedom).map_or(0.0, |d| d.inverse_cdf(p) / 2.0);
    Interval {
        low: if count > 0.0 { chi(tail, 2.0 * count) } else { 0.0 },
        high: chi(1.0 - tail, 2.0 * count + 2.0),
    }
}

/// Interval of the cost per conversion; the upper bound is absent without conversions.
pub fn cost_per_conversion(spend: f64, conversions: f64, confidence: f64) -> (f64, Option<f64>) {
    let count = poisson(conversions, confidence);
    (spend / count.high, (count.low > 0.0).then(|| spend / count.low))
}

/// With no conversion yet, the cost per conversion is at least this with 95% confidence: the rule of
/// three (J. A. Hanley, A. Lippman-Hand, "If nothing goes wrong, is everything all right?", JAMA 249 (1983)).
pub fn least_cost_without_conversions(spend: f64) -> f64 {
    spend / 3.0
}

/// Two-sided p-value that two Poisson rates are one: the conditional exact test (J. Przyborowski,
/// H. Wilenski, "Homogeneity of results in testing samples from Poisson series", Biometrika 31 (1940)),
/// tail doubled. Counts are rounded to whole ones.
pub fn two_rates(count_a: f64, exposure_a: f64, count_b: f64, exposure_b: f64) -> f64 {
    let (a, all) = (count_a.round() as u64, (count_a.round() + count_b.round()) as u64);
    let share = exposure_a / (exposure_a + exposure_b);
    let Ok(under_null) = Binomial::new(share, all) else {
        return 1.0;
    };
    let at_most = under_null.cdf(a);
    let at_least = if a == 0 { 1.0 } else { 1.0 - under_null.cdf(a - 1) };
    (2.0 * at_most.min(at_least)).min(1.0)
}

/// The same for counts that need not be whole, such as counts that a dispersion took down: the binomial tails by
/// the regularised incomplete beta function.
pub fn two_shares(count_a: f64, exposure_a: f64, count_b: f64, exposure_b: f64) -> f64 {
    let (all, share) = (count_a + count_b, exposure_a / (exposure_a + exposure_b));
    if all <= 0.0 || !(share > 0.0 && share < 1.0) {
        return 1.0;
    }
    let at_most = if count_b <= 0.0 { 1.0 } else { beta_reg(count_b, count_a + 1.0, 1.0 - share) };
    let at_least = if count_a <= 0.0 { 1.0 } else { beta_reg(count_a, count_b + 1.0, share) };
    (2.0 * at_most.min(at_least)).min(1.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn close(found: f64, expected: f64, within: f64) {
        assert!((found - expected).abs() <= within, "{found} is not {expected}");
    }

    /// The same table, method 5; the last by hand: none of one is no less likely than 2.5% up to 1 − 0.025.
    #[test]
    fn newcombe_table_1_exact() {
        for (s, n, low, high) in [
            (81., 263., 0.2527, 0.3676),
            (15., 148., 0.0578, 0.1617),
            (0., 20., 0.0, 0.1684),
            (1., 29., 0.0009, 0.1776),
            (0., 1., 0.0, 0.975),
            (1., 1., 0.025, 1.0),
        ] {
            let i = clopper_pearson(s, n, 0.95).unwrap();
            close(i.low, low, 5e-5);
            close(i.high, high, 5e-5);
        }
        assert!(clopper_pearson(0.0, 0.0, 0.95).is_none());
    }

    /// R. G. Newcombe, "Two-sided confidence intervals for the single proportion", Statistics in
    /// Medicine 17 (1998), table I, method 3.
    #[test]
    fn newcombe_table_1() {
        for (s, n, low, high) in [
            (81., 263., 0.2553, 0.3662),
            (15., 148., 0.0624, 0.1605),
            (0., 20., 0.0, 0.1611),
            (1., 29., 0.0061, 0.1718),
        ] {
            let i = wilson(s, n, 0.95).unwrap();
            close(i.low, low, 5e-5);
            close(i.high, high, 5e-5);
        }
        assert!(wilson(0.0, 0.0, 0.95).is_none());
    }

    /// F. Garwood (1936), 95% limits of a Poisson mean.
    #[test]
    fn garwood_limits() {
        for (count, low, high) in [(0.0, 0.0, 3.689), (1.0, 0.0253, 5.572), (10.0, 4.795, 18.390)] {
            let i = poisson(count, 0.95);
            close(i.low, low, 1e-3);
            close(i.high, high, 1e-3);
        }
        assert_eq!(cost_per_conversion(100.0, 0.0, 0.95).1, None);
        close(cost_per_conversion(100.0, 10.0, 0.95).0, 100.0 / 18.390, 1e-2);
    }

    /// Rule of three against the exact bound: 1 − 0.05 = e^−x at x = 2.9957.
    #[test]
    fn rule_of_three() {
        close(least_cost_without_conversions(90.0), 90.0 / -(0.05f64.ln()), 0.05);
    }

    /// By hand: 5 against 15 with equal exposure is the binomial tail P(X ≤ 5 | 20, ½) = 0.020695, doubled.
    #[test]
    fn two_rates_by_the_binomial_tail() {
        close(two_rates(5.0, 1.0, 15.0, 1.0), 2.0 * 0.020_695, 1e-5);
        assert_eq!(two_rates(0.0, 1.0, 0.0, 1.0), 1.0);
        close(two_rates(15.0, 1.0, 5.0, 1.0), two_rates(5.0, 1.0, 15.0, 1.0), 1e-9);
        // Whole counts give the same either way.
        for (a, b) in [(5.0, 15.0), (0.0, 4.0), (7.0, 7.0), (3.0, 0.0)] {
            close(two_shares(a, 2.0, b, 3.0), two_rates(a, 2.0, b, 3.0), 1e-9);
        }
    }
}
