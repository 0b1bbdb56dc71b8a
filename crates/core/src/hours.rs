//! The week of hours (P6): in one time zone and in another, days on which clocks change, office hours, and what
//! the hours themselves advise.
//!
//! ```
//! use chrono::NaiveDate;
//! use chrono_tz::Europe::Copenhagen;
//! use tiller_core::hours::of_day;
//! // The day on which the clocks go back has 25 hours.
//! let day = NaiveDate::from_ymd_opt(2026, 10, 25).unwrap();
//! assert_eq!(of_day(day, Copenhagen).len(), 25);
//! ```

use chrono::{DateTime, Datelike, Days, LocalResult, NaiveDate, TimeZone, Utc};
use chrono_tz::Tz;

use crate::evidence::FALSE_SHARE;
use crate::metrics::Tally;
use crate::segments::{self, Finding, LEAST_CONVERSIONS, Proposal, Rules, Segment};
use crate::week::WeekHour;

/// Hours of a week, Monday 0:00 first: none is off, else percent added to the bid.
pub type Week = [Option<i16>; 168];

/// A week that always runs.
pub const ALWAYS: Week = [Some(0); 168];

/// On in some hours of some days, as before there; off otherwise.
pub fn only(week: &Week, days: &[bool; 7], from: usize, to: usize) -> Week {
    let mut out = *week;
    for (i, hour) in out.iter_mut().enumerate() {
        let on = days[i / 24] && (from..to).contains(&(i % 24));
        *hour = if on { hour.or(Some(0)) } else { None };
    }
    out
}

/// The instants at which the hours of a local day begin: 24, or 23 and 25 on days on which clocks change.
pub fn of_day(day: NaiveDate, zone: Tz) -> Vec<DateTime<Utc>> {
    let midnight = |day: NaiveDate| {
        // Where clocks go forward at midnight, the day begins at one.
        (0..3).find_map(|h| match zone.from_local_datetime(&day.and_hms_opt(h, 0, 0)?) {
            LocalResult::Single(t) | LocalResult::Ambiguous(t, _) => Some(t.with_timezone(&Utc)),
            LocalResult::None => None,
        })
    };
    let Some((start, end)) = midnight(day).zip(day.succ_opt().and_then(midnight)) else {
        return Vec::new();
    };
    let hours = (end - start).num_hours();
    (0..hours).map(|h| start + chrono::Duration::hours(h)).collect()
}

/// How many hours a week's pattern runs on one date.
pub fn running(week: &Week, day: NaiveDate, zone: Tz) -> usize {
    let on = |t: &DateTime<Utc>| week[WeekHour::of(&t.with_timezone(&zone)).index()].is_some();
    of_day(day, zone).iter().filter(|t| on(t)).count()
}

/// A pattern as another zone's clocks show it in the week of a date: each of that zone's hours shows what runs
/// when it begins. On the days on which one of them changes its clocks the two drift apart, so weeks differ.
pub fn seen_from(week: &Week, zone: Tz, viewer: Tz, date: NaiveDate) -> Week {
    let back = u64::from(date.weekday().num_days_from_monday());
    let monday = date.checked_sub_days(Days::new(back)).unwrap_or(date);
    let mut out = [None; 168];
    for (i, hour) in out.iter_mut().enumerate() {
        let day = monday.checked_add_days(Days::new(i as u64 / 24)).unwrap_or(monday);
        let local = (0..2).find_map(|later| {
            let at = day.and_hms_opt((i % 24) as u32, 0, 0)?;
            // An hour that clocks leave out shows what the one after it does.
            viewer.from_local_datetime(&(at + chrono::Duration::hours(later))).earliest()
        });
        *hour = local.and_then(|t| week[WeekHour::of(&t.with_timezone(&zone)).index()]);
    }
    out
}

/// Hours between the clocks of two zones on a date at noon, and whether they are whole.
pub fn between(zone: Tz, viewer: Tz, date: NaiveDate) -> Option<(f64, bool)> {
    let noon = Utc.from_utc_datetime(&date.and_hms_opt(12, 0, 0)?);
    let there = noon.with_timezone(&viewer).naive_local();
    let minutes = (there - noon.with_timezone(&zone).naive_local()).num_minutes();
    Some((minutes as f64 / 60.0, minutes % 60 == 0))
}

/// Blocks of the day that are looked for, in hours.
const BLOCK: std::ops::RangeInclusive<usize> = 3..=12;

/// Hours of every day, one after the other.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Block {
    /// The first.
    pub from: usize,
    /// How many.
    pub length: usize,
    /// What was counted in them.
    pub tally: Tally,
    /// How they compare with the whole day.
    pub finding: Finding,
}

fn within(from: usize, length: usize, hour: usize) -> bool {
    (hour + 24 - from) % 24 < length
}

impl Block {
    /// Whether an hour of the day lies in it.
    pub fn has(&self, hour: usize) -> bool {
        within(self.from, self.length, hour)
    }

    /// The hour at which it ends.
    pub fn to(&self) -> usize {
        (self.from + self.length) % 24
    }
}

/// The block of hours that surely brings less than half and costs most above target, if there is one; surely even
/// though a day has as many beginnings of blocks as hours.
pub fn hopeless(by_hour: &[Tally; 24], rules: Rules) -> Option<Block> {
    let parent: Tally = by_hour.iter().copied().sum();
    if parent.conversions < LEAST_CONVERSIONS {
        return None;
    }
    let judge = |from: usize, length: usize| {
        let of = |inside: bool| -> Tally {
            (0..24).filter(|h| within(from, length, *h) == inside).map(|h| by_hour[h]).sum()
        };
        let both = [of(true), of(false)].map(|tally| Segment { name: "", tally, present: 0.0 });
        let finding = segments::look(&parent, &both, rules)[0];
        Block { from, length, tally: both[0].tally, finding }
    };
    (0..24)
        .flat_map(|from| BLOCK.map(move |length| judge(from, length)))
        .filter(|b| b.finding.proposal == Proposal::Exclude && b.finding.excess > 0.0)
        .filter(|b| 24.0 * b.finding.p <= FALSE_SHARE)
        .max_by(|a, b| a.finding.excess.total_cmp(&b.finding.excess))
}

/// Hours are drawn together by so many: single ones carry too little.
const TOGETHER: usize = 3;

/// What the counted hours advise: the hopeless block off, and bids by what three hours together of weekdays, or of
/// weekends, bring over the hours that are left. Hours that are off now stay off. Absent where nothing would change.
pub fn advised(present: &Week, counted: &[(WeekHour, Tally)], rules: Rules) -> Option<Week> {
    let mut by_hour = [Tally::default(); 24];
    for (at, tally) in counted {
        by_hour[at.hour()] += *tally;
    }
    let off = hopeless(&by_hour, rules);
    let stays = |hour: usize| !off.is_some_and(|b| b.has(hour));
    let part = |at: WeekHour| usize::from(at.at_weekend()) * 24 / TOGETHER + at.hour() / TOGETHER;
    let mut parts = [Tally::default(); 2 * 24 / TOGETHER];
    for (at, tally) in counted {
        if stays(at.hour()) {
            parts[part(*at)] += *tally;
        }
    }
    let parent: Tally = parts.iter().copied().sum();
    let segments: Vec<Segment> =
        parts.iter().map(|tally| Segment { name: "", tally: *tally, present: 0.0 }).collect();
    let found = segments::judge(&parent, &segments, rules);
    let mut out = *present;
    for (at, hour) in WeekHour::all().zip(&mut out) {
        let Some(now) = *hour else { continue };
        *hour = match found[part(at)].proposal {
            _ if !stays(at.hour()) => None,
            Proposal::Leave => Some(now),
            Proposal::Adjust(by) => Some((by * 100.0).round() as i16),
            Proposal::Exclude => None,
        };
    }
    (out != *present && out.iter().any(Option::is_some)).then_some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Micros, Price};

    fn day(m: u32, d: u32) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, m, d).unwrap()
    }

    const RULES: Rules =
        Rules { target: crate::Target::Cpa(Price(30.0)), dispersion: 1.0, raise: true };
    const COPENHAGEN: Tz = chrono_tz::Europe::Copenhagen;

    /// Directive 2000/84/EC: summer time ends on the last Sunday of October and begins on the last of March, at
    /// 1:00 UTC. 2026: 29 March and 25 October.
    #[test]
    fn days_on_which_clocks_change() {
        assert_eq!(of_day(day(3, 29), COPENHAGEN).len(), 23);
        assert_eq!(of_day(day(10, 25), COPENHAGEN).len(), 25);
        assert_eq!(of_day(day(11, 25), COPENHAGEN).len(), 24);
        assert_eq!(running(&ALWAYS, day(3, 29), COPENHAGEN), 23);
        // From 2 to 3 on Sundays: an hour that is left out in March and comes twice in October.
        let night = only(&ALWAYS, &[false, false, false, false, false, false, true], 2, 3);
        assert_eq!(running(&night, day(3, 29), COPENHAGEN), 0);
        assert_eq!(running(&night, day(10, 25), COPENHAGEN), 2);
        assert_eq!(running(&night, day(11, 1), COPENHAGEN), 1);
        // Clocks of Beirut go forward at midnight: the day begins at one.
        assert_eq!(of_day(day(3, 29), chrono_tz::Asia::Beirut).len(), 23);
    }

    /// Office hours of Copenhagen as New York sees them: six hours earlier, five in the week between the two
    /// ends of summer time (25 October and 1 November 2026).
    #[test]
    fn another_zone_sees_the_same_instants() {
        let office = only(&ALWAYS, &[true, true, true, true, true, false, false], 9, 17);
        let ny = chrono_tz::America::New_York;
        let seen = |date| seen_from(&office, COPENHAGEN, ny, date);
        let on = |week: &Week, wd: usize| {
            (0..24).filter(|h| week[24 * wd + h].is_some()).collect::<Vec<_>>()
        };
        assert_eq!(on(&seen(day(10, 14)), 0), (3..11).collect::<Vec<_>>());
        assert_eq!(on(&seen(day(10, 28)), 2), (4..12).collect::<Vec<_>>());
        assert_eq!(on(&seen(day(11, 4)), 2), (3..11).collect::<Vec<_>>());
        assert_eq!(between(COPENHAGEN, ny, day(10, 28)), Some((-5.0, true)));
        assert_eq!(between(COPENHAGEN, chrono_tz::Asia::Kolkata, day(11, 4)), Some((4.5, false)));
        // Seen from where it is set, and back again in a week without a change, it is itself.
        assert_eq!(seen_from(&office, COPENHAGEN, COPENHAGEN, day(11, 4)), office);
        assert_eq!(seen_from(&seen(day(11, 4)), ny, COPENHAGEN, day(11, 4)), office);
    }

    #[test]
    fn the_night_is_left_out_where_it_surely_brings_nothing() {
        let counted: Vec<(WeekHour, Tally)> = WeekHour::all()
            .map(|at| {
                let asleep = at.hour() < 6;
                let tally = Tally {
                    clicks: 240,
                    spend: Micros::from_units(360.0),
                    conversions: if asleep { 0.0 } else { 16.0 },
                    impressions: 3600,
                    ..Tally::default()
                };
                (at, tally)
            })
            .collect();
        let week = advised(&ALWAYS, &counted, RULES).unwrap();
        assert!((0..6).all(|h| week[48 + h].is_none()), "{:?}", &week[48..72]);
        assert!((8..24).all(|h| week[48 + h].is_some()));
        assert_eq!(advised(&ALWAYS, &counted[..3], RULES), None);
        let mut by_hour = [Tally::default(); 24];
        counted.iter().for_each(|(at, t)| by_hour[at.hour()] += *t);
        let block = hopeless(&by_hour, RULES).unwrap();
        assert_eq!((block.from, block.to()), (0, 6));
        assert!(block.has(5) && !block.has(6) && block.tally.conversions == 0.0);
        // Alike hours: nothing is advised.
        let alike: Vec<(WeekHour, Tally)> =
            counted.iter().map(|(at, t)| (*at, Tally { conversions: 16.0, ..*t })).collect();
        assert_eq!(advised(&ALWAYS, &alike, RULES), None);
    }

    /// Thin hours that are nothing by themselves tell together: 20 clicks in each over eight weeks, of a night
    /// none converts, as in a campaign that nobody answers.
    #[test]
    fn thin_hours_are_judged_together() {
        let counted: Vec<(WeekHour, Tally)> = WeekHour::all()
            .map(|at| {
                let h = at.hour();
                let tally = Tally {
                    clicks: 20,
                    spend: Micros::from_units(40.0),
                    conversions: if (22..24).contains(&h) || h < 6 { 0.0 } else { 1.5 },
                    impressions: 2000,
                    ..Tally::default()
                };
                (at, tally)
            })
            .collect();
        let week = advised(&ALWAYS, &counted, RULES).unwrap();
        let off: Vec<usize> = (0..24).filter(|h| week[72 + h].is_none()).collect();
        assert_eq!(off, [0, 1, 2, 3, 4, 5, 22, 23]);
        assert!((6..22).all(|h| week[72 + h] == Some(0)), "the rest are alike");
    }
}
