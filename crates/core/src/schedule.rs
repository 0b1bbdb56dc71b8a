//! When a rule runs: days of the week and an hour, by the account's own clock.
//!
//! ```
//! use chrono::{DateTime, Weekday};
//! use tiller_core::schedule::{Missed, Schedule, Time};
//! let mondays = Schedule { days: vec![Weekday::Mon], at: Time { hour: 6, minute: 0 }, missed: Missed::Skip };
//! let after: DateTime<chrono::Utc> = "2026-11-10T09:00:00Z".parse().unwrap();
//! let due = mondays.next(after, chrono_tz::Europe::Copenhagen).unwrap();
//! assert_eq!(due.to_string(), "2026-11-16 05:00:00 UTC");
//! ```

use std::fmt;
use std::str::FromStr;

use chrono::{DateTime, Datelike, Days, LocalResult, NaiveDate, NaiveTime, TimeZone, Utc, Weekday};
use chrono_tz::Tz;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::week::DAYS;

/// What becomes of a time at which no server ran.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Missed {
    /// It is made up for once, however many were missed.
    Once,
    /// It is left out.
    Skip,
}
crate::words!(Missed: Once "once", Skip "skip");

/// A time of day.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema,
)]
#[serde(try_from = "String", into = "String")]
#[schemars(with = "String")]
pub struct Time {
    /// 0 to 23.
    pub hour: u8,
    /// 0 to 59.
    pub minute: u8,
}

impl fmt::Display for Time {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:02}:{:02}", self.hour, self.minute)
    }
}

impl From<Time> for String {
    fn from(time: Time) -> Self {
        time.to_string()
    }
}

/// Not a time of day.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("‘{0}’ is no time of day; write it as 6:00 or 18:30")]
pub struct NoTime(String);

impl FromStr for Time {
    type Err = NoTime;
    fn from_str(text: &str) -> Result<Self, NoTime> {
        let wrong = || NoTime(text.to_owned());
        let (hour, minute) = text.trim().split_once(':').unwrap_or((text.trim(), "00"));
        let number = |t: &str, most: u8| t.parse().ok().filter(|n| *n <= most).ok_or_else(wrong);
        Ok(Self { hour: number(hour, 23)?, minute: number(minute, 59)? })
    }
}

impl TryFrom<String> for Time {
    type Error = NoTime;
    fn try_from(text: String) -> Result<Self, NoTime> {
        text.parse()
    }
}

/// Days of the week with a time of day.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Schedule {
    /// The days: `mon` to `sun`; none of them is never.
    #[serde(with = "weekdays")]
    #[schemars(with = "Vec<String>")]
    pub days: Vec<Weekday>,
    /// The time, by the account's clock.
    pub at: Time,
    /// What becomes of a time at which no server ran.
    pub missed: Missed,
}

mod weekdays {
    use chrono::Weekday;
    use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error};

    pub fn serialize<S: Serializer>(days: &[Weekday], to: S) -> Result<S::Ok, S::Error> {
        days.iter().map(|d| d.to_string().to_lowercase()).collect::<Vec<_>>().serialize(to)
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<Weekday>, D::Error> {
        let read = |word: String| {
            word.parse()
                .map_err(|_| D::Error::custom(format!("‘{word}’ is no day; write mon to sun")))
        };
        let mut days = Vec::<String>::deserialize(from)?
            .into_iter()
            .map(read)
            .collect::<Result<Vec<Weekday>, _>>()?;
        days.sort_by_key(Weekday::num_days_from_monday);
        days.dedup();
        Ok(days)
    }
}

impl Schedule {
    /// Every day at six in the morning.
    pub fn every_morning() -> Self {
        Self::daily(Time { hour: 6, minute: 0 })
    }

    /// Every day at a time.
    pub fn daily(at: Time) -> Self {
        Self { days: DAYS.to_vec(), at, missed: Missed::Once }
    }

    /// The first time after a moment; none without days. A time that the clocks skip comes when they have; one that
    /// they strike twice, the first time only.
    pub fn next(&self, after: DateTime<Utc>, zone: Tz) -> Option<DateTime<Utc>> {
        let today = after.with_timezone(&zone).date_naive();
        (0..=8)
            .filter_map(|n| today.checked_add_days(Days::new(n)))
            .filter(|day| self.runs_on(*day))
            .filter_map(|day| self.moment(day, zone))
            .find(|at| *at > after)
    }

    /// The latest time up to a moment, after another.
    pub fn latest(
        &self,
        after: DateTime<Utc>,
        until: DateTime<Utc>,
        zone: Tz,
    ) -> Option<DateTime<Utc>> {
        let today = until.with_timezone(&zone).date_naive();
        (0..=8)
            .filter_map(|n| today.checked_sub_days(Days::new(n)))
            .filter(|day| self.runs_on(*day))
            .filter_map(|day| self.moment(day, zone))
            .find(|at| *at <= until)
            .filter(|at| *at > after)
    }

    /// Whether it runs on a day.
    pub fn runs_on(&self, day: NaiveDate) -> bool {
        self.days.contains(&day.weekday())
    }

    /// Its moment on a day.
    fn moment(&self, day: NaiveDate, zone: Tz) -> Option<DateTime<Utc>> {
        let time = NaiveTime::from_hms_opt(self.at.hour.into(), self.at.minute.into(), 0)?;
        let local = day.and_time(time);
        match zone.from_local_datetime(&local) {
            LocalResult::Single(at) | LocalResult::Ambiguous(at, _) => Some(at.to_utc()),
            // Clocks are set forward by no more than some hours: the first minute that there is.
            LocalResult::None => (1..=180).find_map(|minutes| {
                let later = local + chrono::Duration::minutes(minutes);
                zone.from_local_datetime(&later).earliest().map(|at| at.to_utc())
            }),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono_tz::Europe::Copenhagen;
    use proptest::prelude::*;

    fn at(text: &str) -> DateTime<Utc> {
        text.parse().unwrap()
    }

    fn daily(time: &str) -> Schedule {
        Schedule::daily(time.parse().unwrap())
    }

    /// In 2026 Copenhagen's clocks go from 2:00 to 3:00 on 29 March, and from 3:00 to 2:00 on 25 October (IANA time
    /// zone database).
    #[test]
    fn clocks_that_change_skip_nothing_and_double_nothing() {
        let night = daily("2:30");
        let spring = night.next(at("2026-03-28T12:00:00Z"), Copenhagen).unwrap();
        assert_eq!(
            spring,
            at("2026-03-29T01:00:00Z"),
            "3:00 summer time, the first minute there is"
        );
        assert_eq!(night.next(spring, Copenhagen), Some(at("2026-03-30T00:30:00Z")));
        let autumn = night.next(at("2026-10-24T12:00:00Z"), Copenhagen).unwrap();
        assert_eq!(autumn, at("2026-10-25T00:30:00Z"), "the first of the two");
        assert_eq!(night.next(autumn, Copenhagen), Some(at("2026-10-26T01:30:00Z")));
    }

    #[test]
    fn the_latest_that_was_missed() {
        let mondays = Schedule { days: vec![Weekday::Mon], ..daily("6:00") };
        let latest = |after, until| mondays.latest(at(after), at(until), Copenhagen);
        let wednesday = "2026-11-18T12:00:00Z";
        assert_eq!(latest("2026-11-01T00:00:00Z", wednesday), Some(at("2026-11-16T05:00:00Z")));
        assert_eq!(latest("2026-11-16T05:00:00Z", wednesday), None, "that one was not missed");
        assert_eq!(Schedule { days: vec![], ..mondays }.next(at(wednesday), Copenhagen), None);
    }

    #[test]
    fn times_are_read_as_people_write_them() {
        assert_eq!("6:00".parse(), Ok(Time { hour: 6, minute: 0 }));
        assert_eq!(" 18 ".parse(), Ok(Time { hour: 18, minute: 0 }));
        for wrong in ["", "24:00", "6:60", "six", "6:", "-1:00"] {
            assert!(wrong.parse::<Time>().is_err(), "{wrong}");
        }
    }

    proptest! {
        /// From one due time to the next there is none between, through changes of the clocks too.
        #[test]
        fn due_times_are_one_a_day(start in 0i64..400, hour in 0u8..24, minute in 0u8..60) {
            let schedule = Schedule::daily(Time { hour, minute });
            let mut now = at("2026-01-01T00:00:00Z") + chrono::Duration::days(start);
            for _ in 0..10 {
                let due = schedule.next(now, Copenhagen).unwrap();
                prop_assert!(due > now && (due - now).num_hours() <= 25);
                prop_assert_eq!(schedule.latest(now, due, Copenhagen), Some(due));
                let days = |t: DateTime<Utc>| t.with_timezone(&Copenhagen).date_naive();
                prop_assert!((days(due) - days(now)).num_days() <= 1);
                now = due;
            }
        }
    }
}
