//! Is the right thing counted at all? Findings that make every figure below them meaningless.
//!
//! ```
//! use tiller_core::tracking::{EventCount, Finding, findings};
//! let event = |event: &str, conversions, counts| EventCount {
//!     event: event.into(),
//!     conversions,
//!     value: 0.0,
//!     counts,
//! };
//! let found = findings(&[], &[event("page_view", 900.0, true), event("order", 30.0, true)], None);
//! assert!(matches!(&found[..], [Finding::NoResult { event, .. }] if event == "page_view"));
//! ```

use chrono::{Datelike, NaiveDate};

use crate::evidence::lasting_dispersion;
use crate::metrics::Tally;
use crate::target::Target;

/// Believable with less than this probability: the event has gone silent,
const SILENT_BELOW: f64 = 0.01;
/// and so seldom that, though one looks every day, chance makes one campaign silent once in so many days.
const FALSE_AFTER: f64 = 730.0;
/// Conversions by which the usual rate counts in a weekday's own.
const OF_WEEKDAY: f64 = 5.0;

/// What is wrong with a campaign's conversion counting.
#[derive(Clone, Debug, PartialEq)]
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
    /// An event that is no business result is counted as one.
    NoResult {
        /// Its name.
        event: String,
        /// How many of it were counted.
        conversions: f64,
        /// How many of all other events were.
        others: f64,
    },
    /// Events come in, and none of them counts.
    NothingCounts {
        /// The most frequent.
        event: String,
        /// How many of it came in.
        conversions: f64,
    },
}

/// An event of a campaign over its settled days.
#[derive(Clone, Debug, PartialEq)]
pub struct EventCount {
    /// Its name.
    pub event: String,
    /// How many came in.
    pub conversions: f64,
    /// Their value, in units of currency.
    pub value: f64,
    /// Whether the campaign counts it.
    pub counts: bool,
}

/// Words of events that happen on the way to a result (common practice, no source).
const ON_THE_WAY: [&str; 8] =
    ["view", "views", "pageview", "visit", "scroll", "session", "click", "impression"];

/// Looks through settled days in order (gaps in days are days without traffic), and through the events of
/// the period where reports tell them.
pub fn findings(
    days: &[(NaiveDate, Tally)],
    events: &[EventCount],
    target: Option<Target>,
) -> Vec<Finding> {
    let mut found: Vec<Finding> = silence(days).into_iter().collect();
    found.extend(values_missing(days, target));
    found.extend(no_results(events));
    found.extend(nothing_counts(events));
    found
}

/// Counted events that are none by their name, or that come without value, and more often, beside others
/// that have one.
fn no_results(events: &[EventCount]) -> Vec<Finding> {
    let counted = || events.iter().filter(|e| e.counts && e.conversions > 0.0);
    let all: f64 = counted().map(|e| e.conversions).sum();
    let valued: f64 = counted().filter(|e| e.value > 0.0).map(|e| e.conversions).sum();
    let by_name = |e: &EventCount| {
        let name = e.event.to_lowercase();
        name.split(|c: char| !c.is_alphanumeric()).any(|word| ON_THE_WAY.contains(&word))
    };
    let beside = |e: &EventCount| e.value <= 0.0 && valued > 0.0 && e.conversions > valued;
    counted()
        .filter(|e| by_name(e) || beside(e))
        .map(|e| Finding::NoResult {
            event: e.event.clone(),
            conversions: e.conversions,
            others: all - e.conversions,
        })
        .collect()
}

fn nothing_counts(events: &[EventCount]) -> Option<Finding> {
    if events.iter().any(|e| e.counts) {
        return None;
    }
    let most = events.iter().max_by(|a, b| a.conversions.total_cmp(&b.conversions))?;
    (most.conversions > 0.0).then(|| Finding::NothingCounts {
        event: most.event.clone(),
        conversions: most.conversions,
    })
}

/// The silent stretch at the end, if chance makes it too unlikely: by the rates of its weekdays, and as days differ.
fn silence(days: &[(NaiveDate, Tally)]) -> Option<Finding> {
    let last = days.iter().rposition(|(_, t)| t.conversions > 0.0)?;
    let (before, quiet) = days.split_at(last + 1);
    let since = quiet.first()?.0;
    let usual: Tally = before.iter().map(|(_, t)| *t).sum();
    let rate = usual.cvr()?;
    let of_weekday = |day: NaiveDate| {
        let alike = before.iter().filter(|(d, _)| d.weekday() == day.weekday());
        let own: Tally = alike.map(|(_, t)| *t).sum();
        (own.conversions + OF_WEEKDAY) / (own.clicks as f64 + OF_WEEKDAY / rate)
    };
    let due = |(day, t): &(NaiveDate, Tally)| of_weekday(*day) * t.clicks as f64;
    let expected: f64 = quiet.iter().map(due).sum();
    let each: Vec<(f64, f64)> = before.iter().map(|d| (d.1.conversions, due(d))).collect();
    let phi = lasting_dispersion(&each);
    // None of a negative binomial of that mean and dispersion; a Poisson's where days differ by chance alone.
    let none = if phi > 1.0 { -expected * phi.ln() / (phi - 1.0) } else { -expected };
    // A stretch may begin after each conversion.
    let begins = usual.conversions / before.len() as f64;
    let believable = SILENT_BELOW.min(1.0 / (FALSE_AFTER * begins)).ln();
    (none < believable).then_some(Finding::Silent { since, days: quiet.len() as u32, expected })
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
    use crate::Price;
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
        // Two a day, three days without: e^−6 = 0.25%, which chance makes of two a day every half year.
        assert!(findings(&days(&[2.0, 2.0, 2.0, 0.0, 0.0, 0.0]), &[], None).is_empty());
    }

    #[test]
    fn a_stretch_beyond_chance_is_silence() {
        // Two a day, four days without: e^−8 = 0.034%, less than one in 730 × 2.
        let found = findings(&days(&[2.0, 2.0, 2.0, 0.0, 0.0, 0.0, 0.0]), &[], None);
        assert!(
            matches!(found[..], [Finding::Silent { days: 4, expected, .. }] if (expected - 8.0).abs() < 0.2),
            "{found:?}"
        );
    }

    #[test]
    fn never_counted_is_not_silent() {
        assert!(findings(&days(&[0.0; 40]), &[], None).is_empty());
    }

    #[test]
    fn roas_needs_values() {
        let mut d = days(&[2.0, 2.0]);
        assert!(findings(&d, &[], Some(Target::Roas(4.0))).is_empty());
        for (_, t) in &mut d {
            t.value = Micros::ZERO;
        }
        assert_eq!(
            findings(&d, &[], Some(Target::Roas(4.0))),
            [Finding::NoValues { conversions: 4.0 }]
        );
        assert!(findings(&d, &[], Some(Target::Cpa(Price(4.0)))).is_empty());
    }

    fn event(name: &str, conversions: f64, value: f64, counts: bool) -> EventCount {
        EventCount { event: name.into(), conversions, value, counts }
    }

    #[test]
    fn an_event_on_the_way_is_no_result() {
        let found = |events: &[EventCount]| findings(&[], events, None);
        let views = [event("order", 40.0, 3000.0, true), event("catalogue view", 300.0, 0.0, true)];
        assert_eq!(
            found(&views),
            [Finding::NoResult {
                event: "catalogue view".into(),
                conversions: 300.0,
                others: 40.0
            }]
        );
        // By its want of value beside others, whatever it is called; two kinds of leads are none of that.
        let opened = [event("order", 40.0, 3000.0, true), event("katalog", 300.0, 0.0, true)];
        assert_eq!(found(&opened).len(), 1);
        let leads =
            [event("booking form", 40.0, 0.0, true), event("telephone call", 90.0, 0.0, true)];
        assert!(found(&leads).is_empty());
        // What does not count spoils nothing; but something has to count.
        let aside =
            [event("order", 40.0, 3000.0, true), event("catalogue view", 300.0, 0.0, false)];
        assert!(found(&aside).is_empty());
        let none = [event("order", 40.0, 3000.0, false)];
        assert!(
            matches!(&found(&none)[..], [Finding::NothingCounts { event, .. }] if event == "order")
        );
    }
}
