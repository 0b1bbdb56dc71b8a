//! What is still to come of the days after an act: conversions are reported late (maths 11).

use chrono::NaiveDate;

use crate::history::History;
use crate::lag::RunOff;
use crate::metrics::Tally;
use crate::money::Micros;
use crate::window::Window;

/// Ages beyond which nothing is looked for.
const LONGEST: usize = 90;

/// The share of a day's conversions that has been reported, by its age.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Late(Vec<f64>);

impl Late {
    /// By the run-off of all that was reported of things until a day.
    pub fn of(things: &[History], known: NaiveDate) -> Self {
        let first = things.iter().filter_map(History::first).min();
        let Some(whole) = first.and_then(|first| Window::new(first, known)) else {
            return Self::default();
        };
        let age = |day: NaiveDate| usize::try_from((known - day).num_days()).unwrap_or(0);
        let mut days: Vec<Vec<f64>> =
            whole.iter().map(|day| vec![0.0; age(day).min(LONGEST) + 1]).collect();
        let mut oldest = 0;
        for came in things.iter().flat_map(|h| h.came(whole)) {
            let (place, at) = (age(whole.from()) - age(came.day), usize::from(came.age));
            if let Some(count) = days[place].get_mut(at) {
                *count += came.conversions;
                oldest = oldest.max(at);
            }
        }
        let run_off = RunOff::fit(&days, oldest);
        Self(run_off.map(|r| (0..oldest).map(|age| r.maturity(age)).collect()).unwrap_or_default())
    }

    /// The share that has been reported of a day's conversions by another day.
    pub fn reported(&self, day: NaiveDate, known: NaiveDate) -> f64 {
        let age = usize::try_from((known - day).num_days()).unwrap_or(0);
        self.0.get(age).copied().unwrap_or(1.0)
    }

    /// Conversions and their value by the day of their click, with those that are to come.
    pub(super) fn by_day<'a>(
        &'a self,
        history: &'a History,
        window: Option<Window>,
        known: NaiveDate,
    ) -> impl Iterator<Item = (NaiveDate, [f64; 2])> + 'a {
        let came = window.map_or(&[][..], |window| history.came(window));
        came.iter().filter(move |came| came.reported() <= known).map(move |came| {
            let share = self.reported(came.day, known);
            (came.day, [came.conversions / share, came.value.to_units() / share])
        })
    }

    /// What was counted in a window by a day, with the conversions that are to come.
    pub fn completed(&self, history: &History, window: Window, known: NaiveDate) -> Tally {
        let mut tally = history.tally(window, known);
        if tally.conversions > 0.0 {
            (tally.conversions, tally.value) = (0.0, Micros::ZERO);
            for (_, [conversions, value]) in self.by_day(history, Some(window), known) {
                tally.conversions += conversions;
                tally.value += Micros::from_units(value);
            }
        }
        tally
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::history::{Came, Counted};

    fn day(n: u64) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, 9, 1).unwrap() + chrono::Days::new(n)
    }

    /// Of each day's conversions two come at once and one the day after: worked out by hand.
    #[test]
    fn the_last_day_lacks_a_third() {
        let counted = |n| Counted {
            day: day(n),
            impressions: 9,
            clicks: 3,
            spend: Micros::from_units(2.0),
            bid: None,
        };
        let came = |n: u64, age: u16, conversions| Came {
            day: day(n),
            age,
            conversions,
            value: Micros::from_units(10.0 * conversions),
        };
        let all = (0..5).flat_map(|n| [came(n, 0, 2.0), came(n, 1, 1.0)]).collect();
        let history = History::new((0..5).map(counted).collect(), all);
        let late = Late::of(std::slice::from_ref(&history), day(4));
        assert!((late.reported(day(4), day(4)) - 2.0 / 3.0).abs() < 1e-12, "{late:?}");
        assert!((late.reported(day(3), day(4)) - 1.0).abs() < 1e-12);
        let whole = Window::new(day(3), day(4)).unwrap();
        let completed = late.completed(&history, whole, day(4));
        assert!((completed.conversions - 6.0).abs() < 1e-9, "{completed:?}");
        assert_eq!(completed.value, Micros::from_units(60.0));
        assert_eq!(completed.clicks, 6);
        // Of nothing nothing is to come.
        let none = History::new((0..5).map(counted).collect(), Vec::new());
        let late = Late::of(std::slice::from_ref(&none), day(4));
        assert_eq!(late.completed(&none, whole, day(4)), none.tally(whole, day(4)));
    }
}
