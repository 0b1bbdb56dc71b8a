//! Too early to tell: why, and when it won't be.

use crate::Price;
use chrono::{Days, NaiveDate};
use statrs::function::beta::beta_reg;

use super::{Case, LEAST_DAYS, LEAST_TARGETS, SURE};
use crate::evidence::looking::{at_some_time, score_for};
use crate::evidence::target::HALF;
use crate::look_back::due_days;

/// The standard normal quantile of `SURE`.
const SURE_Z: f64 = 1.281_551_565_544_6;
/// One at its target may be called over it at some time in so many of ninety daily looks, on days that suit it; on unkind ones it is
/// up to twice as often.
const BY_CHANCE: f64 = 0.08;
/// "So many more conversions would tell" holds at least so often.
const TELLS: f64 = 0.9;
/// More evidence than this many times what there is can't be waited for.
const OUT_OF_REACH: f64 = 400.0;

/// Why it is too early, and when it won't be.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Early {
    /// Launched too recently; judged from `due` on.
    Launched {
        /// First day.
        on: NaiveDate,
        /// First day on which a verdict is due.
        due: NaiveDate,
    },
    /// A shock too recently; judged from `due` on.
    Changed {
        /// First day on which the change is in force.
        on: NaiveDate,
        /// First day on which it can be judged.
        due: NaiveDate,
    },
    /// Less than three targets spent.
    LittleSpend {
        /// Spend from which a verdict is due.
        needed: f64,
        /// Days until then at the present rate.
        days: Option<u64>,
    },
    /// Fewer than three settled days.
    Unsettled {
        /// How many there are.
        days: u64,
    },
    /// The cost may be on either side of the target.
    Undecided {
        /// Where a single look would call it over: how often one at its target looks so at some time in ninety daily looks.
        by_chance: Option<f64>,
        /// Conversions that would very likely decide it; absent where no amount in reach would.
        more_conversions: Option<f64>,
        /// Days until then at the present rate.
        days: Option<u64>,
    },
    /// Surely above target, by less than anybody would act on.
    AboutOnTarget {
        /// Excess over what the target allows, as a share.
        above: f64,
    },
}

/// The first reason for which nothing can be concluded.
pub(super) fn too_early(
    case: &Case,
    evidence: f64,
    target_cpa: Option<Price>,
    p_over: Option<f64>,
    excess: f64,
) -> Option<Early> {
    let spend = case.tally.spend.to_units();
    let per_day = spend / case.settled_days.max(1) as f64;
    let days_for = |money: f64| (per_day > 0.0).then(|| (money / per_day).ceil() as u64);
    if let Some(on) = case.launched {
        let due = on.checked_add_days(Days::new(due_days(case.settle_days))).unwrap_or(on);
        if due > case.last_day {
            return Some(Early::Launched { on, due });
        }
    }
    if let Some((on, due)) = case.shocked.filter(|(_, due)| *due > case.last_day) {
        return Some(Early::Changed { on, due });
    }
    if case.settled_days < LEAST_DAYS {
        return Some(Early::Unsettled { days: case.settled_days });
    }
    let (target_cpa, p) = target_cpa.zip(p_over)?;
    let needed = LEAST_TARGETS * target_cpa.units();
    if spend < needed {
        return Some(Early::LittleSpend { needed, days: days_for(needed - spend) });
    }
    let above = excess / case.target.allowed(&case.tally);
    let looks_over = p >= SURE && excess > 0.0;
    let by_chance = looks_over.then(|| at_some_time(p, case.settled_days));
    match by_chance {
        None if p <= 1.0 - SURE && excess <= 0.0 => None,
        Some(_) if above < case.least_difference => Some(Early::AboutOnTarget { above }),
        Some(chance) if chance <= BY_CHANCE => None,
        _ => {
            let phi = case.variance_times(evidence);
            let sure = score_for(BY_CHANCE, case.settled_days);
            let more_spend = spend_that_tells(spend / phi, evidence / phi, target_cpa, sure)
                .map(|more| more * phi);
            Some(Early::Undecided {
                by_chance,
                more_conversions: more_spend
                    .map(|m| (m * (evidence + HALF) / spend).max(1.0).ceil()),
                days: more_spend.and_then(days_for),
            })
        }
    }
}

/// How much more has to be spent until it is decided with a probability of nine in ten, whichever way it goes: over from the
/// score `sure` on. The conversions to come are negative binomial, given the posterior of today. Absent where 400 times what has
/// been spent would not be enough.
fn spend_that_tells(spend: f64, conversions: f64, target_cpa: Price, sure: f64) -> Option<f64> {
    let shape = conversions + HALF;
    let tells = |more: f64| {
        let p = spend / (spend + more);
        let expected = (spend + more) / target_cpa.units();
        // Surely over with at most so many conversions in all, surely not over with at least so many.
        let few = ((shape_at(expected, -sure) - HALF) - conversions).floor();
        let many = ((shape_at(expected, SURE_Z) - HALF) - conversions).ceil().max(0.0);
        let at_most = |k: f64| if k < 0.0 { 0.0 } else { beta_reg(shape, k + 1.0, p) };
        at_most(few) + 1.0 - at_most(many - 1.0)
    };
    let mut more = 0.02 * spend;
    while more < OUT_OF_REACH * spend {
        if tells(more) >= TELLS {
            return Some(more);
        }
        more *= 1.12;
    }
    None
}

/// The shape of the Gamma distribution whose quantile at the normal score −`z` is `x`: by E. B. Wilson,
/// M. M. Hilferty, "The distribution of chi-square", PNAS 17 (1931), solved for the shape.
fn shape_at(x: f64, z: f64) -> f64 {
    let quantile = |a: f64| a * (1.0 - 1.0 / (9.0 * a) - z / (3.0 * a.sqrt())).max(0.0).powi(3);
    let (mut low, mut high) = (1e-3, x + 4.0 * x.sqrt() + 8.0);
    for _ in 0..40 {
        let middle = f64::midpoint(low, high);
        if quantile(middle) < x { low = middle } else { high = middle }
    }
    low
}

/// Days over a year are told as out of reach, not counted.
pub fn in_reach(days: u64) -> bool {
    days <= 365
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::evidence::over_target;
    use rand::SeedableRng;
    use rand_chacha::ChaCha8Rng;
    use rand_distr::{Distribution, Gamma, Poisson};

    /// Sure enough that something is over its target: 2.5 standard deviations.
    const OVER: (f64, f64) = (2.5, 0.993_79);

    fn decided(p: f64) -> bool {
        p <= 1.0 - SURE || p >= OVER.1
    }

    /// Drawn campaigns whose true cost lies anywhere near the target: once as much more has come in as was said
    /// would tell, it tells in at least 85%.
    #[test]
    fn what_would_tell_tells() {
        let mut rng = ChaCha8Rng::seed_from_u64(11);
        let truths = Gamma::new(4.0, 0.25).unwrap();
        let (mut said, mut told) = (0, 0);
        while said < 1500 {
            let rate: f64 = truths.sample(&mut rng);
            let draw = |rng: &mut ChaCha8Rng, targets: f64| {
                Poisson::new((rate * targets).max(1e-9)).unwrap().sample(rng)
            };
            let targets = (said % 5 + 1) as f64 * 8.0;
            let seen = draw(&mut rng, targets);
            if decided(over_target(targets, seen, Price(1.0))) {
                continue;
            }
            let Some(more) = spend_that_tells(targets, seen, Price(1.0), OVER.0) else { continue };
            said += 1;
            let later = seen + draw(&mut rng, more);
            told += usize::from(decided(over_target(targets + more, later, Price(1.0))));
        }
        assert!(told * 100 >= said * 85, "{told} of {said}");
    }

    #[test]
    fn the_shape_is_found_by_its_quantile() {
        // The 90% quantile of chi-squared with 20 degrees of freedom is 28.412 (tables): half of it belongs to
        // the shape of 10.
        assert!((shape_at(28.412 / 2.0, -SURE_Z) - 10.0).abs() < 0.01);
    }

    #[test]
    fn nothing_in_reach_is_said_so() {
        let more = spend_that_tells(4000.0, 4000.0, Price(1.0), SURE_Z);
        assert_eq!(more.map(|m| m > 4000.0), Some(true));
        assert!(in_reach(365) && !in_reach(366));
    }
}
