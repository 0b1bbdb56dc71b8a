//! The learning period of automatic strategies (B6): what restarts it, how long it takes, and how far it has come.
//!
//! ```
//! use chrono::NaiveDate;
//! use tiller_core::learning::Learning;
//! let day = |d| NaiveDate::from_ymd_opt(2026, 11, d).unwrap();
//! // Begun on the 1st, at two conversions a day: the 6th is day 6 of 14.
//! let learning = Learning::since(day(1), day(6), 2.0).unwrap();
//! assert_eq!((learning.day, learning.of), (6, 14));
//! assert_eq!(Learning::since(day(1), day(15), 2.0), None, "it is over");
//! ```

use chrono::NaiveDate;

/// A change beyond this share of what was set is a shock: an automatic strategy begins to learn anew
/// (common practice, no source).
pub const SHOCK: f64 = 0.2;

/// A step that is no shock, however its money is rounded to coins.
pub const STEP: f64 = 0.19;

/// Days that a strategy needs after it began to learn (common practice, no source: 7 to 14, up to four
/// weeks where conversions are few).
pub const DAYS: u64 = 14;

/// Days of learning by the conversions that they bring: so many conversions within so many days are enough (common
/// practice for the days, no source; the counts are ours: an interval of the cost of ±35% and of ±60%).
const ENOUGH: [(u64, f64); 2] = [(7, 30.0), (DAYS, 10.0)];
/// Where conversions are few.
pub const LONGEST: u64 = 28;

/// Days that a strategy needs to learn, where so many conversions come in a day.
///
/// ```
/// use tiller_core::learning::days_needed;
/// assert_eq!((days_needed(8.0), days_needed(2.0), days_needed(0.2)), (7, 14, 28));
/// ```
pub fn days_needed(conversions_a_day: f64) -> u64 {
    let enough = |(days, least): &(u64, f64)| conversions_a_day * *days as f64 >= *least;
    ENOUGH.iter().find(|e| enough(e)).map_or(LONGEST, |(days, _)| *days)
}

/// How far a strategy has come with learning.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Learning {
    /// Its first day.
    pub began: NaiveDate,
    /// The day of it that the last one is, from 1.
    pub day: u64,
    /// Days that it takes.
    pub of: u64,
}

impl Learning {
    /// What began on a day, as of the last reported one; none before it and once it is over.
    pub fn since(began: NaiveDate, last_day: NaiveDate, conversions_a_day: f64) -> Option<Self> {
        let day = u64::try_from((last_day - began).num_days()).ok()? + 1;
        let of = days_needed(conversions_a_day);
        (day <= of).then_some(Self { began, day, of })
    }
}

/// What a change moves.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Moved {
    /// Another strategy.
    Strategy,
    /// The strategy's target.
    Target {
        /// What was set.
        from: f64,
        /// What shall be.
        to: f64,
    },
    /// The daily budget.
    Budget {
        /// What was set.
        from: f64,
        /// What shall be.
        to: f64,
    },
    /// Whom it reaches.
    Targeting,
    /// Something that strategies do not learn from.
    Other,
}

/// Relative change from one amount to another; absent where there was none.
///
/// ```
/// use tiller_core::learning::relative;
/// assert_eq!(relative(50.0, 75.0), Some(0.5));
/// assert_eq!(relative(0.0, 60.0), None);
/// ```
pub fn relative(from: f64, to: f64) -> Option<f64> {
    (from > 0.0).then(|| to / from - 1.0)
}

/// The relative change if it is a shock. From nothing to something always is.
pub fn shock(from: f64, to: f64) -> Option<f64> {
    match relative(from, to) {
        Some(r) if r.abs() > SHOCK + 1e-9 => Some(r),
        Some(_) => None,
        None if to > 0.0 => Some(f64::INFINITY),
        None => None,
    }
}

/// What a daily budget is in fact moved from, where bids are set by hand: what it leaves unspent is no step down.
///
/// ```
/// # use tiller_core::learning::used;
/// assert_eq!(used(320.0, 70.0, 88.0), 88.0);
/// assert_eq!((used(320.0, 100.0, 88.0), used(90.0, 70.0, 95.0), used(90.0, 120.0, 50.0)), (100.0, 90.0, 90.0));
/// ```
pub fn used(from: f64, to: f64, spend: f64) -> f64 {
    from.min(spend.max(to))
}

/// Whether a strategy that sets its own bids begins to learn anew.
pub fn restarts(automatic: bool, moved: Moved) -> bool {
    match moved {
        // Towards an automatic strategy, or from one to another.
        Moved::Strategy => automatic,
        Moved::Target { from, to } | Moved::Budget { from, to } => {
            automatic && shock(from, to).is_some()
        }
        Moved::Targeting => automatic,
        Moved::Other => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_more_than_a_fifth_restarts_and_only_where_bids_are_automatic() {
        // B6: a change of target or budget beyond 20% (common practice, no source).
        for (from, to, is) in
            [(50.0, 60.0, false), (50.0, 60.1, true), (50.0, 40.0, false), (50.0, 39.9, true)]
        {
            assert_eq!(restarts(true, Moved::Budget { from, to }), is, "{from} {to}");
            assert_eq!(restarts(true, Moved::Target { from, to }), is);
            assert!(!restarts(false, Moved::Budget { from, to }));
        }
        assert!(restarts(true, Moved::Strategy) && restarts(true, Moved::Targeting));
        assert!(!restarts(false, Moved::Strategy) && !restarts(true, Moved::Other));
    }

    #[test]
    fn fewer_conversions_never_learn_faster() {
        let mut last = LONGEST;
        for tenths in 0..100 {
            let days = days_needed(f64::from(tenths) / 10.0);
            assert!(days <= last, "{tenths}");
            last = days;
        }
        assert_eq!((last, days_needed(f64::NAN)), (7, LONGEST));
    }

    #[test]
    fn learning_begins_and_ends() {
        let day = |d| NaiveDate::from_ymd_opt(2026, 11, d).unwrap();
        let of = |last| Learning::since(day(3), day(last), 1.0).map(|l| l.day);
        assert_eq!((of(2), of(3), of(16), of(17)), (None, Some(1), Some(14), None));
    }

    #[test]
    fn something_out_of_nothing_is_a_shock() {
        assert_eq!(shock(0.0, 10.0), Some(f64::INFINITY));
        assert_eq!(shock(0.0, 0.0), None);
        assert_eq!(shock(100.0, 0.0), Some(-1.0));
    }
}
