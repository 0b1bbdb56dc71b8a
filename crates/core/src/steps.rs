//! Step changes (A8): after three good days a fifth more, after three bad ones a fifth less, at most once in that
//! time (common practice, no source), and how much three days can tell.
//!
//! ```
//! use chrono::NaiveDate;
//! use tiller_core::steps::{Step, advise};
//! use tiller_core::{Micros, Price, Tally, Target};
//! let day = |d| NaiveDate::from_ymd_opt(2026, 11, d).unwrap();
//! let counted = |conversions| Tally {
//!     spend: Micros::from_units(100.0),
//!     conversions,
//!     clicks: 80,
//!     ..Tally::default()
//! };
//! let days = [(day(4), counted(5.0)), (day(5), counted(6.0)), (day(6), counted(5.0))];
//! let advice = advise(&days, None, Target::Cpa(Price(30.0)), None).unwrap();
//! assert_eq!(advice.step, Step::Up);
//! assert_eq!(advise(&days, Some(day(5)), Target::Cpa(Price(30.0)), None).unwrap().step, Step::Wait);
//! ```

use chrono::NaiveDate;

use crate::evidence::{Prior, poisson, rate_below};
use crate::metrics::Tally;
use crate::target::Target;

/// So many days in a row.
pub const DAYS: usize = 3;
/// By so much a step.
pub const BY: f64 = 0.2;

/// What the last days say.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Step {
    /// Three good days: a fifth more.
    Up,
    /// Three bad ones: a fifth less.
    Down,
    /// Neither.
    Stay,
    /// Its budget was changed within these days: a step is taken once in that time.
    Wait,
}

/// A step with the evidence that three days carry.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Advice {
    /// What the rule says.
    pub step: Step,
    /// What the days counted.
    pub tally: Tally,
    /// The CPA that they are consistent with (80%); the upper bound absent without a conversion.
    pub cpa: (f64, Option<f64>),
    /// Probability that its CPA is truly above target.
    pub over: f64,
}

/// Reads the last three settled days of a campaign, in order of time. `usual` is what its earlier days brought
/// for a unit of money. Absent where three days have not been reported or nothing was spent on one of them.
pub fn advise(
    days: &[(NaiveDate, Tally)],
    changed: Option<NaiveDate>,
    target: Target,
    usual: Option<Prior>,
) -> Option<Advice> {
    let last = days.len().checked_sub(DAYS).map(|from| &days[from..])?;
    if last.iter().any(|(_, t)| t.spend.get() <= 0) {
        return None;
    }
    let tally: Tally = last.iter().map(|(_, t)| *t).sum();
    let good = |t: &Tally| target.excess(t) <= 0.0;
    let step = match () {
        () if changed.is_some_and(|d| d >= last[0].0) => Step::Wait,
        () if last.iter().all(|(_, t)| good(t)) => Step::Up,
        () if last.iter().all(|(_, t)| !good(t)) => Step::Down,
        () => Step::Stay,
    };
    let spend = tally.spend.to_units();
    let count = poisson(tally.conversions, 0.8);
    let cpa = (spend / count.high, (count.low > 0.0).then(|| spend / count.low));
    let allowed = target.as_cpa(tally.aov())?.units();
    let prior = usual.unwrap_or(Prior { mean: 1.0 / allowed, strength: 1.0 });
    // What is usual weighs like a day or so: three days are asked what they say themselves.
    let prior = Prior { strength: prior.strength.min(3.0), ..prior };
    let over = rate_below(tally.conversions, spend, prior, 1.0 / allowed);
    Some(Advice { step, tally, cpa, over })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Micros, Price};

    fn days(conversions: &[f64]) -> Vec<(NaiveDate, Tally)> {
        let first = NaiveDate::from_ymd_opt(2026, 11, 2).unwrap();
        let tally = |c: f64| Tally {
            spend: Micros::from_units(60.0),
            clicks: 30,
            conversions: c,
            ..Tally::default()
        };
        first.iter_days().zip(conversions).map(|(d, c)| (d, tally(*c))).collect()
    }

    #[test]
    fn three_good_days_and_three_bad_ones() {
        let step = |c: &[f64], changed| {
            advise(&days(c), changed, Target::Cpa(Price(30.0)), None).map(|a| a.step)
        };
        assert_eq!(step(&[0.0, 2.0, 3.0, 2.0], None), Some(Step::Up));
        assert_eq!(step(&[5.0, 1.0, 0.0, 1.0], None), Some(Step::Down));
        assert_eq!(step(&[3.0, 1.0, 3.0], None), Some(Step::Stay));
        let within = days(&[1.0; 3])[0].0;
        assert_eq!(step(&[3.0, 3.0, 3.0], Some(within)), Some(Step::Wait));
        assert_eq!(step(&[3.0, 3.0, 3.0], within.pred_opt()), Some(Step::Up));
        assert_eq!(step(&[3.0, 3.0], None), None);
    }

    #[test]
    fn three_days_are_thin_evidence() {
        // Seven conversions for 180 at a target of 30: six would meet it.
        let a = advise(&days(&[2.0, 3.0, 2.0]), None, Target::Cpa(Price(30.0)), None).unwrap();
        assert!(a.step == Step::Up && (0.2..0.5).contains(&a.over), "{a:?}");
        assert!(a.cpa.0 < 180.0 / 7.0 && a.cpa.1.unwrap() > 30.0);
        let sure = advise(&days(&[9.0, 9.0, 9.0]), None, Target::Cpa(Price(30.0)), None).unwrap();
        assert!(sure.over < 0.001);
        assert!(
            advise(&days(&[0.0; 3]), None, Target::Cpa(Price(30.0)), None).unwrap().cpa.1.is_none()
        );
        assert_eq!(
            advise(&days(&[0.0; 3]), None, Target::Roas(4.0), None),
            None,
            "no value is known"
        );
    }
}
