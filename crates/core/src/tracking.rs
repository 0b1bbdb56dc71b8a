//! Is the right thing counted at all? Findings that make every figure below them meaningless.

use chrono::NaiveDate;

use crate::metrics::Tally;
use crate::target::Target;

/// Believable with less than this probability: the event has gone silent.
const SILENT_BELOW: f64 = 0.01;

/// What is wrong with a campaign's conversion counting.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Finding {
    /// No conversion since `since`, though `expected` would have been usual.
    Silent {
        /// First day without.
        since: NaiveDate,
        /// Whole days without.
        days: u32,
        /// Conversions that its clicks would have brought at the rate before.
        expected: f64,
    },
    /// Conversions without value where the target is a ROAS.
    NoValues {
        /// How many were counted.
        conversions: f64,
    },
}

/// Looks through settled days in order (gaps in days are days without traffic).
pub fn findings(days: &[(NaiveDate, Tally)], target: Option<Target>) -> Vec<Finding> {
    silence(days).into_iter().chain(values_missing(days, target)).collect()
}

/// The silent stretch at the end, if chance makes it less likely than 1 in 100 (Poisson tail).
fn silence(days: &[(NaiveDate, Tally)]) -> Option<Finding> {
    let last = days.iter().rposition(|(_, t)| t.conversions > 0.0)?;
    let (before, quiet) = days.split_at(last + 1);
    let usual: Tally = before.iter().map(|(_, t)| *t).sum();
    let clicks: i64 = quiet.iter().map(|(_, t)| t.clicks).sum();
    let expected = usual.cvr()? * clicks as f64;
    let since = quiet.first()?.0;
    ((-expected).exp() < SILENT_BELOW).then_some(Finding::Silent {
        since,
        days: quiet.len() as u32,
        expected,
    })
}

fn values_missing(days: &[(NaiveDate, Tally)], target: Option<Target>) -> Option<Finding> {
    let all: Tally = days.iter().map(|(_, t)| *t).sum();
    let roas = matches!(target, Some(Target::Roas(_)));
    (roas && all.conversions > 0.0 && all.value.get() == 0)
        .then_some(Finding::NoValues { conversions: all.conversions })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::money::Micros;

    fn days(conversions: &[f64]) -> Vec<(NaiveDate, Tally)> {
        let first = NaiveDate::from_ymd_opt(2026, 10, 1).unwrap();
        let tally = |c| Tally {
            clicks: 50,
            conversions: c,
            value: Micros::from_units(c),
            ..Tally::default()
        };
        first.iter_days().zip(conversions).map(|(d, &c)| (d, tally(c))).collect()
    }

    #[test]
    fn a_stretch_that_chance_explains_is_no_finding() {
        // Two a day, two days without: e^−4 = 1.8%.
        assert!(findings(&days(&[2.0, 2.0, 2.0, 0.0, 0.0]), None).is_empty());
    }

    #[test]
    fn a_stretch_beyond_chance_is_silence() {
        // Two a day, three days without: e^−6 = 0.25%.
        let found = findings(&days(&[2.0, 2.0, 2.0, 0.0, 0.0, 0.0]), None);
        assert!(
            matches!(found[..], [Finding::Silent { days: 3, expected, .. }] if (expected - 6.0).abs() < 1e-9)
        );
    }

    #[test]
    fn never_counted_is_not_silent() {
        assert!(findings(&days(&[0.0; 40]), None).is_empty());
    }

    #[test]
    fn roas_needs_values() {
        let mut d = days(&[2.0, 2.0]);
        assert!(findings(&d, Some(Target::Roas(4.0))).is_empty());
        for (_, t) in &mut d {
            t.value = Micros::ZERO;
        }
        assert_eq!(findings(&d, Some(Target::Roas(4.0))), [Finding::NoValues { conversions: 4.0 }]);
        assert!(findings(&d, Some(Target::Cpa(4.0))).is_empty());
    }
}
