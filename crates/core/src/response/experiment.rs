//! The step experiment (A4): the budget goes up and down by a fifth in alternate weeks, so that spend moves for a
//! reason of its own and not with demand. What it measures becomes the belief with which the curve is fitted.

use crate::response::regression::Prior;

/// By so much up, then down.
pub const BY: f64 = 0.2;
/// Days of a step.
pub const STEP_DAYS: u64 = 7;
/// Steps of an experiment: up, down, up, down.
pub const STEPS: usize = 4;
/// Money of the two sides must lie this far apart, as a logarithm, to tell anything.
const LEAST_APART: f64 = 0.1;

/// Budgets of the steps and, last, the budget that it returns to.
pub fn budgets(now: f64) -> Vec<f64> {
    let step = |i: usize| if i.is_multiple_of(2) { 1.0 + BY } else { 1.0 - BY };
    let coins = |x: f64| (x * 100.0).round() / 100.0;
    (0..STEPS).map(|i| coins(now * step(i))).chain([now]).collect()
}

/// What one side of an experiment spent and brought.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Side {
    /// Days.
    pub days: f64,
    /// Money.
    pub spend: f64,
    /// Conversions.
    pub conversions: f64,
}

/// The elasticity that the weeks up and the weeks down measure, with its error: the log ratio of conversions a day
/// over that of money a day. Conversions vary `dispersion` times as much as Poisson's. Absent where the money hardly
/// differed or a side brought nothing.
pub fn measured(up: Side, down: Side, dispersion: f64) -> Option<Prior> {
    let a_day = |x: f64, s: Side| (s.days > 0.0 && x > 0.0).then(|| x / s.days);
    let apart = (a_day(up.spend, up)? / a_day(down.spend, down)?).ln();
    let brought = (a_day(up.conversions, up)? / a_day(down.conversions, down)?).ln();
    if apart < LEAST_APART {
        return None;
    }
    let variance = dispersion.max(1.0) * (1.0 / up.conversions + 1.0 / down.conversions);
    Some(Prior { mean: brought / apart, deviation: variance.sqrt() / apart })
}

/// The error of the elasticity that an experiment on a campaign with so many conversions a day would leave.
pub fn would_leave(conversions_a_day: f64, dispersion: f64) -> f64 {
    let days = (STEPS as u64 * STEP_DAYS / 2) as f64;
    let side = |money: f64| days * conversions_a_day * money.sqrt();
    let variance = dispersion.max(1.0) * (1.0 / side(1.0 + BY) + 1.0 / side(1.0 - BY));
    variance.sqrt() / ((1.0 + BY) / (1.0 - BY)).ln()
}

/// Two beliefs as one, each with the weight of its precision.
pub fn together(a: Prior, b: Prior) -> Prior {
    let (p, q) = (a.deviation.powi(-2), b.deviation.powi(-2));
    Prior { mean: (a.mean * p + b.mean * q) / (p + q), deviation: (p + q).powf(-0.5) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_ends_where_it_began() {
        assert_eq!(budgets(50.0), [60.0, 40.0, 60.0, 40.0, 50.0]);
    }

    /// By hand: 14 days at 60 and at 40 a day, conversions 14·60^0.6 and 14·40^0.6: the elasticity is 0.6 exactly.
    #[test]
    fn the_elasticity_is_the_ratio_of_logarithms() {
        let side = |a_day: f64| Side {
            days: 14.0,
            spend: 14.0 * a_day,
            conversions: 14.0 * a_day.powf(0.6),
        };
        let m = measured(side(60.0), side(40.0), 1.0).unwrap();
        let error = (1.0 / side(60.0).conversions + 1.0 / side(40.0).conversions).sqrt();
        assert!((m.mean - 0.6).abs() < 1e-12);
        assert!((m.deviation - error / 1.5f64.ln()).abs() < 1e-12);
        assert!(measured(side(60.0), side(40.0), 4.0).unwrap().deviation > 1.9 * m.deviation);
        assert_eq!(measured(side(60.0), side(58.0), 1.0), None, "hardly apart");
        assert_eq!(measured(side(60.0), Side { conversions: 0.0, ..side(40.0) }, 1.0), None);
    }

    /// 100 conversions a side with dispersion 1 leave about √(2 ÷ 100) ÷ ln 1.5 = 0.349.
    #[test]
    fn what_an_experiment_would_tell_is_known_before() {
        assert!((would_leave(100.0 / 14.0, 1.0) - 0.349).abs() < 0.005);
        assert!(would_leave(100.0, 1.0) < 0.1);
    }

    #[test]
    fn the_surer_belief_weighs_more() {
        let t = together(Prior { mean: 0.7, deviation: 0.2 }, Prior { mean: 0.4, deviation: 0.1 });
        assert!((t.mean - 0.46).abs() < 1e-12 && (t.deviation - 0.2 / 5f64.sqrt()).abs() < 1e-12);
    }
}
