//! What was counted of a thing day by day, with the day on which each conversion was reported: what was known on any
//! evening can be told from it.
//!
//! ```
//! use chrono::NaiveDate;
//! use tiller_core::history::{Came, Counted, History};
//! use tiller_core::{Micros, Window};
//! let day = |d| NaiveDate::from_ymd_opt(2026, 11, d).unwrap();
//! let counted = Counted { day: day(1), impressions: 90, clicks: 3, spend: Micros::from_units(2.0), bid: None };
//! let came = Came { day: day(1), age: 4, conversions: 1.0, value: Micros::ZERO };
//! let history = History::new(vec![counted], vec![came]);
//! let window = Window::ending(day(3), 7);
//! assert_eq!(history.tally(window, day(4)).conversions, 0.0, "it came four days later");
//! assert_eq!(history.tally(window, day(5)).conversions, 1.0);
//! ```

use std::ops::Range;

use chrono::NaiveDate;

use crate::metrics::Tally;
use crate::money::{Micros, Price};
use crate::window::Window;

/// A day's clicks.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Counted {
    /// The day.
    pub day: NaiveDate,
    /// Times shown.
    pub impressions: i64,
    /// Times clicked.
    pub clicks: i64,
    /// Money paid.
    pub spend: Micros,
    /// The bid that stood, if reports tell.
    pub bid: Option<Micros>,
}

/// Conversions of a day's clicks that were reported so many days later.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Came {
    /// The day of the click.
    pub day: NaiveDate,
    /// Days until they were reported.
    pub age: u16,
    /// How many.
    pub conversions: f64,
    /// Their value.
    pub value: Micros,
}

impl Came {
    /// The day on which they were reported.
    pub fn reported(&self) -> NaiveDate {
        self.day + chrono::Days::new(self.age.into())
    }
}

/// A thing's days.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct History {
    days: Vec<Counted>,
    came: Vec<Came>,
    /// What all days before each, and before the end, come to: windows overlap, and are asked for over and over.
    before: Vec<Before>,
}

/// What days come to.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
struct Before {
    impressions: i64,
    clicks: i64,
    spend: Micros,
    /// The last bid that stood.
    bid: Option<Micros>,
    /// Clicks for which the bid is known, and what was bid for all of them.
    bought: f64,
    bids: f64,
}

impl Before {
    fn and(self, day: &Counted) -> Self {
        let clicks = if day.bid.is_some() { day.clicks as f64 } else { 0.0 };
        Self {
            impressions: self.impressions + day.impressions,
            clicks: self.clicks + day.clicks,
            spend: self.spend + day.spend,
            bid: day.bid.or(self.bid),
            bought: self.bought + clicks,
            bids: self.bids + clicks * day.bid.map_or(0.0, Micros::to_units),
        }
    }
}

impl History {
    /// Of days and conversions in any order.
    pub fn new(mut days: Vec<Counted>, mut came: Vec<Came>) -> Self {
        days.sort_by_key(|d| d.day);
        came.sort_by_key(|c| (c.day, c.age));
        Self::sorted(days, came)
    }

    fn sorted(days: Vec<Counted>, came: Vec<Came>) -> Self {
        let mut before = Vec::with_capacity(days.len() + 1);
        let mut all = Before::default();
        before.push(all);
        before.extend(days.iter().map(|d| {
            all = all.and(d);
            all
        }));
        Self { days, came, before }
    }

    /// Several things as one; the bid is the highest that stood.
    pub fn together<'a>(all: impl Iterator<Item = &'a Self>) -> Self {
        let (mut days, mut came): (Vec<Counted>, Vec<Came>) = (Vec::new(), Vec::new());
        for one in all {
            days.extend(&one.days);
            came.extend(&one.came);
        }
        days.sort_by_key(|d| d.day);
        came.sort_by_key(|c| (c.day, c.age));
        days.dedup_by(|next, sum| {
            let same = next.day == sum.day;
            if same {
                sum.impressions += next.impressions;
                sum.clicks += next.clicks;
                sum.spend += next.spend;
                sum.bid = sum.bid.max(next.bid);
            }
            same
        });
        came.dedup_by(|next, sum| {
            let same = (next.day, next.age) == (sum.day, sum.age);
            if same {
                sum.conversions += next.conversions;
                sum.value += next.value;
            }
            same
        });
        Self::sorted(days, came)
    }

    /// The first day with anything counted.
    pub fn first(&self) -> Option<NaiveDate> {
        self.days.first().map(|d| d.day)
    }

    /// The days of a window.
    pub fn days(&self, window: Window) -> &[Counted] {
        within(&self.days, window, |d| d.day)
    }

    /// The conversions of a window's days, in order of days and ages.
    pub fn came(&self, window: Window) -> &[Came] {
        within(&self.came, window, |c| c.day)
    }

    /// What was counted in a window, as it had been reported by an evening.
    pub fn tally(&self, window: Window, by: NaiveDate) -> Tally {
        let mut sum = Tally::default();
        let days = Window::new(window.from(), window.to().min(by))
            .map_or(0..0, |w| range(&self.days, w, |d| d.day));
        if !days.is_empty() {
            let (to, from) = (&self.before[days.end], &self.before[days.start]);
            sum.impressions = to.impressions - from.impressions;
            sum.clicks = to.clicks - from.clicks;
            sum.spend = to.spend - from.spend;
        }
        for c in self.came(window) {
            if c.reported() <= by {
                sum.conversions += c.conversions;
                sum.value += c.value;
            }
        }
        sum
    }

    /// The last bid that stood up to a day.
    pub fn bid_on(&self, day: NaiveDate) -> Option<Micros> {
        let until = range(&self.days, Window::new(self.first()?, day)?, |d| d.day).end;
        self.before[until].bid
    }

    /// What was bid for a click in a window, on average over its clicks: what an average click of it was bought at.
    pub fn mean_bid(&self, window: Window) -> Option<Price> {
        let days = range(&self.days, window, |d| d.day);
        let (to, from) = (self.before.get(days.end)?, self.before.get(days.start)?);
        let clicks = to.bought - from.bought;
        (clicks > 0.0).then(|| Price((to.bids - from.bids) / clicks))
    }

    /// Whether nothing was ever counted.
    pub fn is_empty(&self) -> bool {
        self.days.is_empty()
    }
}

/// The part of what is in order of days that lies in a window.
fn within<T>(all: &[T], window: Window, day: impl Fn(&T) -> NaiveDate) -> &[T] {
    &all[range(all, window, day)]
}

fn range<T>(all: &[T], window: Window, day: impl Fn(&T) -> NaiveDate) -> Range<usize> {
    let from = before(all, window.from(), &day);
    let to = window.to().succ_opt().map_or(all.len(), |next| before(all, next, &day));
    from..to.max(from)
}

/// How many lie before a day. Mostly there is one a day: then the calendar tells.
fn before<T>(all: &[T], of: NaiveDate, day: impl Fn(&T) -> NaiveDate) -> usize {
    let days = all.first().and_then(|first| usize::try_from((of - day(first)).num_days()).ok());
    let told = days.map(|n| n.min(all.len())).filter(|n| {
        all[..*n].last().is_none_or(|x| day(x) < of) && all.get(*n).is_none_or(|x| day(x) >= of)
    });
    told.unwrap_or_else(|| all.partition_point(|x| day(x) < of))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn day(n: i64) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, 9, 1).unwrap() + chrono::Duration::days(n)
    }

    fn histories() -> impl Strategy<Value = History> {
        let days = proptest::collection::vec((0i64..40, 0i64..20, 0i64..5_000_000), 0..20);
        let came = proptest::collection::vec((0i64..40, 0u16..10, 0u8..4), 0..20);
        (days, came).prop_map(|(days, came)| {
            let mut days: Vec<Counted> = days
                .into_iter()
                .map(|(d, clicks, spend)| Counted {
                    day: day(d),
                    impressions: clicks * 9,
                    clicks,
                    spend: Micros::new(spend),
                    bid: Some(Micros::new(spend / 2)),
                })
                .collect();
            days.sort_by_key(|d| d.day);
            days.dedup_by_key(|d| d.day);
            let came = came.into_iter().map(|(d, age, n)| Came {
                day: day(d),
                age,
                conversions: f64::from(n),
                value: Micros::from_units(f64::from(n) * 30.0),
            });
            History::new(days, came.collect())
        })
    }

    proptest! {
        /// Whether there is a day each, some are missing, or several are of one.
        #[test]
        fn a_place_is_told_by_the_calendar_or_found(mut days in proptest::collection::vec(0i64..12, 0..16), of in -2i64..15) {
            days.sort_unstable();
            let found = before(&days, day(of), |d| day(*d));
            prop_assert_eq!(found, days.iter().filter(|d| **d < of).count());
        }

        /// What is known only grows, and in the end all of it is.
        #[test]
        fn more_is_known_later(h in histories(), from in 0i64..30, length in 1u64..20, by in 0i64..60) {
            let window = Window::ending(day(from), length);
            let known = h.tally(window, day(by));
            let later = h.tally(window, day(by + 1));
            prop_assert!(known.conversions <= later.conversions && known.clicks <= later.clicks);
            let whole = Window::new(day(-1), day(100)).unwrap();
            let parts = Window::new(day(-1), day(from)).zip(Window::new(day(from + 1), day(100)));
            let (a, b) = parts.unwrap();
            prop_assert_eq!(h.tally(a, day(200)) + h.tally(b, day(200)), h.tally(whole, day(200)));
        }

        /// Together they count what each counts.
        #[test]
        fn together_is_the_sum(a in histories(), b in histories(), to in 0i64..50, by in 0i64..60) {
            let window = Window::ending(day(to), 25);
            let both = History::together([&a, &b].into_iter());
            let sum = a.tally(window, day(by)) + b.tally(window, day(by));
            prop_assert_eq!(both.tally(window, day(by)), sum);
            prop_assert_eq!(both.first(), a.first().into_iter().chain(b.first()).min());
            prop_assert_eq!(both.bid_on(day(100)).is_some(), !(a.is_empty() && b.is_empty()));
        }

        /// What stood and what was bid for a click, counted day by day.
        #[test]
        fn bids_are_those_of_the_days(h in histories(), to in 0i64..50, length in 1u64..30) {
            let window = Window::ending(day(to), length);
            let stood = h.days.iter().rev().find(|d| d.day <= day(to)).and_then(|d| d.bid);
            prop_assert_eq!(h.bid_on(day(to)), stood);
            let with = || h.days(window).iter().filter_map(|d| Some((d.clicks as f64, d.bid?.to_units())));
            let clicks: f64 = with().map(|(n, _)| n).sum();
            let bids: f64 = with().map(|(n, bid)| n * bid).sum();
            match h.mean_bid(window) {
                Some(mean) => prop_assert!((mean.units() * clicks - bids).abs() < 1e-9 * (1.0 + bids)),
                None => prop_assert_eq!(clicks, 0.0),
            }
        }
    }
}
