//! Flights, lifts and the month (P3, P5): budgets by the day and over a flight, and days on which they are raised.

use chrono::NaiveDate;

use crate::money::Micros;
use crate::window::Window;

/// Days a month in budgets (common practice; 365 ÷ 12 = 30.42).
pub const MONTH: f64 = 30.4;

/// Money a day, in units of currency: not to be mixed up with what a flight or a month spends.
///
/// ```
/// # use tiller_core::{flight::PerDay, Window};
/// # use chrono::NaiveDate;
/// let week = Window::ending(NaiveDate::from_ymd_opt(2026, 11, 7).unwrap(), 7);
/// assert_eq!(PerDay(20.0).over(week), 140.0);
/// assert_eq!(PerDay::of(140.0, week), PerDay(20.0));
/// ```
#[derive(Clone, Copy, Debug, PartialEq, PartialOrd)]
pub struct PerDay(pub f64);

impl PerDay {
    /// Of what a whole flight may spend.
    pub fn of(lifetime: f64, flight: Window) -> Self {
        Self(lifetime / flight.days() as f64)
    }

    /// In units of currency.
    pub const fn units(self) -> f64 {
        self.0
    }

    /// What a flight spends at so much.
    pub fn over(self, flight: Window) -> f64 {
        self.0 * flight.days() as f64
    }

    /// The most that a month is charged.
    pub fn a_month(self) -> f64 {
        MONTH * self.0
    }
}

impl From<PerDay> for f64 {
    fn from(money: PerDay) -> Self {
        money.0
    }
}

impl From<Micros> for PerDay {
    fn from(amount: Micros) -> Self {
        Self(amount.to_units())
    }
}

/// By how much a budget is raised.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Lift {
    /// Money a day.
    Amount(PerDay),
    /// By a part of the budget: 0.2 is a fifth more, 1.5 more than twice as much.
    Part(f64),
}

impl Lift {
    /// The budget with the lift.
    pub fn applied(self, PerDay(budget): PerDay) -> PerDay {
        PerDay(match self {
            Self::Amount(PerDay(more)) => budget + more,
            Self::Part(x) => budget + budget * x,
        })
    }
}

/// A day of a budget with a lift.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Day {
    /// The day.
    pub day: NaiveDate,
    /// Its budget.
    pub budget: PerDay,
    /// Whether it is lifted.
    pub lifted: bool,
}

/// The days around a lift, one before and one after it, with their budgets.
pub fn preview(budget: PerDay, by: Lift, dates: Window) -> Vec<Day> {
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
/// # use tiller_core::flight::{PerDay, ramp};
/// let of = |from, to| ramp(PerDay(from), PerDay(to), 0.2).into_iter().map(PerDay::units).collect::<Vec<_>>();
/// assert_eq!(of(100.0, 150.0), [120.0, 144.0, 150.0]);
/// assert_eq!(of(100.0, 80.0), [80.0]);
/// assert_eq!(of(33.33, 50.0), [39.99, 47.98, 50.0]);
/// ```
pub fn ramp(PerDay(from): PerDay, PerDay(to): PerDay, most: f64) -> Vec<PerDay> {
    let mut steps = Vec::new();
    let mut at = from;
    if from <= 0.0 || to <= 0.0 || most <= 0.0 || most >= 1.0 {
        return if from == to { steps } else { vec![PerDay(to)] };
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
        steps.push(PerDay(at));
    }
    if at != to {
        steps.push(PerDay(to));
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
        let days = preview(PerDay(40.0), Lift::Part(0.5), lift);
        let budgets: Vec<f64> = days.iter().map(|d| d.budget.units()).collect();
        assert_eq!(budgets, [40.0, 60.0, 60.0, 60.0, 40.0]);
        assert_eq!((days[0].day, days[4].day), (day(25), day(29)));
        assert_eq!(preview(PerDay(40.0), Lift::Amount(PerDay(15.0)), lift)[1].budget, PerDay(55.0));
    }

    /// 20 a day for 7 days = 140 (the handbook's example); 20 a day are 608 a month.
    #[test]
    fn a_flight_goes_both_ways() {
        let week = Window::new(day(2), day(8)).unwrap();
        assert_eq!(PerDay::of(PerDay(20.0).over(week), week), PerDay(20.0));
        assert!((PerDay(20.0).a_month() - 608.0).abs() < 1e-9);
    }

    #[test]
    fn no_step_of_a_ramp_is_a_shock() {
        for (from, to) in [(30.0, 400.0), (400.0, 30.0), (10.0, 11.0)] {
            let steps = ramp(PerDay(from), PerDay(to), 0.2);
            assert_eq!(*steps.last().unwrap(), PerDay(to));
            let mut at = from;
            for PerDay(s) in steps {
                assert_eq!(crate::learning::shock(at, s), None, "{at} {s}");
                at = s;
            }
        }
        assert!(ramp(PerDay(50.0), PerDay(50.0), 0.2).is_empty());
        assert_eq!(ramp(PerDay(0.0), PerDay(50.0), 0.2), [PerDay(50.0)]);
    }
}
