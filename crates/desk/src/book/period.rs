//! The days that a page looks at, and those that it compares them with.

use chrono::NaiveDate;
use tiller_core::Window;
use tiller_core::window::last_settled;

use crate::DeskError;

/// The period that a page opens with.
pub const DEFAULT_DAYS: u64 = 28;

/// A period and what it is compared with.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Period {
    /// The days looked at.
    pub window: Window,
    /// The days compared with.
    pub against: Option<Window>,
}

/// What a page asks for; what it leaves out follows from the data.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct PeriodChoice {
    /// First day.
    pub from: Option<NaiveDate>,
    /// Last day.
    pub to: Option<NaiveDate>,
    /// First day compared with.
    pub against_from: Option<NaiveDate>,
    /// Last day compared with.
    pub against_to: Option<NaiveDate>,
    /// Compare with nothing.
    pub alone: bool,
}

impl PeriodChoice {
    /// The period when reports cover `span`: by default the last 28 settled days against those before.
    pub fn resolve(
        &self,
        span: Option<Window>,
        settle_days: u64,
    ) -> Result<Option<Period>, DeskError> {
        let Some(span) = span else { return Ok(None) };
        let order = |from, to| {
            Window::new(from, to).filter(|w| w.days() <= 1100).ok_or_else(|| {
                DeskError::Invalid("the period ends before it begins, or is longer than three years; choose other dates".into())
            })
        };
        let window = match (self.from, self.to) {
            (Some(from), Some(to)) => order(from, to)?,
            (from, to) => {
                let to = to.unwrap_or_else(|| last_settled(span.to(), settle_days));
                match from {
                    Some(from) => order(from, to)?,
                    None => Window::ending(to, DEFAULT_DAYS),
                }
            }
        };
        let against = match (self.against_from, self.against_to) {
            _ if self.alone => None,
            (Some(from), Some(to)) => Some(order(from, to)?),
            _ => Some(window.before()),
        };
        Ok(Some(Period { window, against }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(m: u32, d: u32) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, m, d).unwrap()
    }

    #[test]
    fn a_page_opens_with_the_last_28_settled_days() {
        let span = Window::new(day(6, 13), day(11, 9));
        let period = PeriodChoice::default().resolve(span, 2).unwrap().unwrap();
        assert_eq!(period.window, Window::new(day(10, 11), day(11, 7)).unwrap());
        assert_eq!(period.against, Window::new(day(9, 13), day(10, 10)));
        assert!(PeriodChoice::default().resolve(None, 2).unwrap().is_none());
    }

    #[test]
    fn a_period_that_ends_before_it_begins_is_refused() {
        let span = Window::new(day(6, 13), day(11, 9));
        let choice = PeriodChoice {
            from: Some(day(11, 2)),
            to: Some(day(11, 1)),
            ..PeriodChoice::default()
        };
        assert!(matches!(choice.resolve(span, 2), Err(DeskError::Invalid(_))));
        let alone = PeriodChoice { alone: true, ..PeriodChoice::default() };
        assert_eq!(alone.resolve(span, 2).unwrap().unwrap().against, None);
    }
}
