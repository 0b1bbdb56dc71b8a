//! Look-backs (L3): the day on which a change is to be judged.

use chrono::{Days, NaiveDate};

use crate::learning;

/// Days in force that are judged (common practice, no source: a seven-day window, no earlier than its
/// ninth day).
pub const WINDOW_DAYS: u64 = 7;

/// Days from the first in force to the first on which it can be judged, where a day settles in so many.
pub fn due_days(settle_days: u64) -> u64 {
    WINDOW_DAYS + settle_days
}

/// The first day on which a change can be judged that is in force from a day on: its window has ended and
/// settled. A strategy that learns anew is left its learning period first.
///
/// ```
/// use chrono::NaiveDate;
/// use tiller_core::look_back::due;
/// let day = |d| NaiveDate::from_ymd_opt(2026, 11, d).unwrap();
/// // In force on the 10th: its seven days end on the 16th and have settled when the 18th is over.
/// assert_eq!(due(day(10), false, 2), day(19));
/// ```
pub fn due(from: NaiveDate, learns_anew: bool, settle_days: u64) -> NaiveDate {
    let learning = if learns_anew { learning::DAYS } else { 0 };
    from.checked_add_days(Days::new(learning + due_days(settle_days))).unwrap_or(NaiveDate::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_strategy_that_learns_anew_is_judged_two_weeks_later() {
        let day = NaiveDate::from_ymd_opt(2026, 11, 10).unwrap();
        assert_eq!((due(day, true, 2) - due(day, false, 2)).num_days(), 14);
        assert_eq!(due(NaiveDate::MAX, false, 2), NaiveDate::MAX);
    }
}
