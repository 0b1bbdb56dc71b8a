//! Windows of whole days.

use chrono::{Days, NaiveDate};
use serde::{Deserialize, Serialize};

/// A day's conversions count as complete this many days after it (common practice, no source:
/// sales may be credited up to two days late).
pub const SETTLE_DAYS: u64 = 2;

/// From a first to a last day, both included.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Window {
    from: NaiveDate,
    to: NaiveDate,
}

impl Window {
    /// The window, unless it ends before it begins.
    pub fn new(from: NaiveDate, to: NaiveDate) -> Option<Self> {
        (from <= to).then_some(Self { from, to })
    }

    /// So many days (at least one) that end on `to`.
    pub fn ending(to: NaiveDate, days: u64) -> Self {
        let from = to.checked_sub_days(Days::new(days.max(1) - 1)).unwrap_or(to);
        Self { from, to }
    }

    /// First day.
    pub fn from(&self) -> NaiveDate {
        self.from
    }

    /// Last day.
    pub fn to(&self) -> NaiveDate {
        self.to
    }

    /// How many days.
    pub fn days(&self) -> u64 {
        (self.to - self.from).num_days().unsigned_abs() + 1
    }

    /// Whether a day lies in it.
    pub fn contains(&self, day: NaiveDate) -> bool {
        self.from <= day && day <= self.to
    }

    /// The window of equal length just before this one.
    pub fn before(&self) -> Self {
        self.shifted(-1)
    }

    /// This window moved by whole lengths of itself; stays put at the calendar's end.
    pub fn shifted(&self, lengths: i64) -> Self {
        let by = chrono::Duration::days(lengths * self.days().cast_signed());
        match (self.from.checked_add_signed(by), self.to.checked_add_signed(by)) {
            (Some(from), Some(to)) => Self { from, to },
            _ => *self,
        }
    }

    /// The part of it whose days are settled when reports reach to `last_day`.
    ///
    /// ```
    /// use tiller_core::Window;
    /// let day = |d| chrono::NaiveDate::from_ymd_opt(2026, 11, d).unwrap();
    /// let week = Window::ending(day(9), 7);
    /// assert_eq!(week.settled(day(9), 2).unwrap().to(), day(7));
    /// ```
    pub fn settled(&self, last_day: NaiveDate, settle_days: u64) -> Option<Self> {
        Self::new(self.from, self.to.min(last_settled(last_day, settle_days)))
    }

    /// Its days in order.
    pub fn iter(&self) -> impl Iterator<Item = NaiveDate> + use<> {
        self.from.iter_days().take(self.days() as usize)
    }
}

/// The last settled day when reports reach to `last_day`.
pub fn last_settled(last_day: NaiveDate, settle_days: u64) -> NaiveDate {
    last_day.checked_sub_days(Days::new(settle_days)).unwrap_or(last_day)
}

/// The day so many before.
#[must_use]
pub fn earlier(day: NaiveDate, days: u64) -> NaiveDate {
    day.checked_sub_days(Days::new(days)).unwrap_or(day)
}

/// The day after so many.
#[must_use]
pub fn later(day: NaiveDate, days: u64) -> NaiveDate {
    day.checked_add_days(Days::new(days)).unwrap_or(day)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(month: u32, day: u32) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, month, day).unwrap()
    }

    #[test]
    fn counts_both_ends() {
        let w = Window::new(day(10, 12), day(11, 8)).unwrap();
        assert_eq!(w.days(), 28);
        assert_eq!(w.before(), Window::new(day(9, 14), day(10, 11)).unwrap());
        assert_eq!(w.iter().count(), 28);
        assert_eq!(Window::ending(day(11, 8), 28), w);
        assert!(Window::new(day(2, 2), day(2, 1)).is_none());
    }

    #[test]
    fn a_window_of_unsettled_days_has_no_settled_part() {
        assert_eq!(Window::ending(day(11, 9), 2).settled(day(11, 9), 2), None);
    }
}
