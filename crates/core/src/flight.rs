//! Flights, lifts and the month (P3, P5): budgets by the day and over a flight, and days on which they are raised.

use chrono::NaiveDate;

use crate::window::Window;

/// Days a month in budgets (common practice; 365 ÷ 12 = 30.42).
pub const MONTH: f64 = 30.4;

/// What a flight spends at so much a day.
///
/// ```
/// # use tiller_core::{flight::lifetime, Window};
/// # use chrono::NaiveDate;
/// let week = Window::ending(NaiveDate::from_ymd_opt(2026, 11, 7).unwrap(), 7);
/// assert_eq!(lifetime(20.0, week), 140.0);
/// ```
pub fn lifetime(a_day: f64, flight: Window) -> f64 {
    a_day * flight.days() as f64
}

/// What a flight's budget is a day.
pub fn a_day(lifetime: f64, flight: Window) -> f64 {
    lifetime / flight.days() as f64
}

/// The most that a month is charged at so much a day.
pub fn monthly_limit(a_day: f64) -> f64 {
    MONTH * a_day
}

/// By how much a budget is raised.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Lift {
    /// Money a day.
    Amount(f64),
    /// A share of the budget: 0.2 is a fifth more.
    Share(f64),
}

impl Lift {
    /// The budget with the lift.
    pub fn applied(self, budget: f64) -> f64 {
        budget
            + match self {
                Self::Amount(x) => x,
                Self::Share(x) => budget * x,
            }
    }
}

/// A day of a budget with a lift.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Day {
    /// The day.
    pub day: NaiveDate,
    /// Its budget.
    pub budget: f64,
    /// Whether it is lifted.
    pub lifted: bool,
}

/// The days around a lift, one before and one after it, with their budgets.
pub fn preview(budget: f64, by: Lift, dates: Window) -> Vec<Day> {
    let before = dates.from().pred_opt();
    let after = dates.to().succ_opt();
    let day = |day: NaiveDate| {
        let lifted = dates.contains(day);
        Day { day, budget: if lifted { by.applied(budget) } else { budget }, lifted }
    };
    before.into_iter().chain(dates.iter()).chain(after).map(day).collect()
}

/// From one budget to another in steps of whole hundredths, each at most so large a share of the last, to the
/// hundredth: a step that is more by its rounding sets a strategy learning again. The last step is exactly the goal;
/// none where nothing changes.
///
/// ```
/// # use tiller_core::flight::ramp;
/// assert_eq!(ramp(100.0, 150.0, 0.2), [120.0, 144.0, 150.0]);
/// assert_eq!(ramp(100.0, 80.0, 0.2), [80.0]);
/// assert_eq!(ramp(33.33, 50.0, 0.2), [39.99, 47.98, 50.0]);
/// ```
pub fn ramp(from: f64, to: f64, most: f64) -> Vec<f64> {
    let mut steps = Vec::new();
    let mut at = from;
    if from <= 0.0 || to <= 0.0 || most <= 0.0 || most >= 1.0 {
        return if from == to { steps } else { vec![to] };
    }
    while (to / at - 1.0).abs() > most + 1e-9 {
        let hundredths = if to > at {
            (100.0 * at * (1.0 + most) + 1e-6).floor()
        } else {
            (100.0 * at * (1.0 - most) - 1e-6).ceil()
        };
        // Of a few hundredths none can be added or taken.
        if hundredths / 100.0 == at {
            break;
        }
        at = hundredths / 100.0;
        steps.push(at);
    }
    if at != to {
        steps.push(to);
    }
    steps
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(d: u32) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, 11, d).unwrap()
    }

    #[test]
    fn a_lift_is_its_days_and_no_others() {
        let lift = Window::new(day(26), day(28)).unwrap();
        let days = preview(40.0, Lift::Share(0.5), lift);
        let budgets: Vec<f64> = days.iter().map(|d| d.budget).collect();
        assert_eq!(budgets, [40.0, 60.0, 60.0, 60.0, 40.0]);
        assert_eq!((days[0].day, days[4].day), (day(25), day(29)));
        assert_eq!(preview(40.0, Lift::Amount(15.0), lift)[1].budget, 55.0);
    }

    /// 20 a day for 7 days = 140 (the handbook's example); 20 a day are 608 a month.
    #[test]
    fn a_flight_goes_both_ways() {
        let week = Window::new(day(2), day(8)).unwrap();
        assert_eq!(a_day(lifetime(20.0, week), week), 20.0);
        assert!((monthly_limit(20.0) - 608.0).abs() < 1e-9);
    }

    #[test]
    fn no_step_of_a_ramp_is_a_shock() {
        for (from, to) in [(30.0, 400.0), (400.0, 30.0), (10.0, 11.0)] {
            let steps = ramp(from, to, 0.2);
            assert_eq!(*steps.last().unwrap(), to);
            let mut at = from;
            for s in &steps {
                assert_eq!(crate::learning::shock(at, *s), None, "{at} {s}");
                at = *s;
            }
        }
        assert!(ramp(50.0, 50.0, 0.2).is_empty());
        assert_eq!(ramp(0.0, 50.0, 0.2), [50.0]);
    }
}
