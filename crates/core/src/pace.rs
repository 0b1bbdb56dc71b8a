//! Pace (S3): where a month's spend will end, how sure that is, and the daily budget that would end it on plan.
//!
//! The days ahead follow the weekdays of the last eight weeks at the level of the last two. What such a forecast
//! missed in each of those weeks is drawn anew for the weeks ahead (a bootstrap over weeks: B. Efron,
//! "Bootstrap methods", Annals of Statistics 7 (1979)), seeded.

use chrono::{Datelike, NaiveDate};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::window::Window;

/// Weeks that weekdays are read from.
const WEEKS: usize = 8;
/// Days that tell the level of spend.
pub const LEVEL_DAYS: i64 = 14;
/// Days from which what is young tells how its days differ.
const LEAST_DAYS: usize = 3;
/// What the weeks ahead may be of what is expected, where nothing tells: anything between none and double.
const ANYTHING: [f64; 3] = [0.0, 1.0, 2.0];
const DRAWS: usize = 2000;
const SEED: u64 = 15;

/// What is forecast of a sum, from the first of the month to a day.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Band {
    /// The day.
    pub day: NaiveDate,
    /// Bounds of the 80% interval.
    pub outer: (f64, f64),
    /// Bounds of the 50% interval.
    pub inner: (f64, f64),
    /// The median.
    pub mid: f64,
}

/// How a month will end.
#[derive(Clone, Debug, PartialEq)]
pub struct Forecast {
    /// Spent so far.
    pub spent: f64,
    /// Each day ahead; none on the last day of the month.
    pub ahead: Vec<Band>,
    /// Each weekday's share of a mean day, Monday first.
    pub profile: [f64; 7],
    /// What a mean day spends now.
    pub level: f64,
}

impl Forecast {
    /// Of both together, of the same days: they err independently.
    #[must_use]
    pub fn plus(&self, other: &Self) -> Self {
        let level = self.level + other.level;
        let weighed = |i: usize| self.level * self.profile[i] + other.level * other.profile[i];
        let share = |i: usize| if level > 0.0 { weighed(i) / level } else { 1.0 };
        let both = |a: &Band, b: &Band| {
            let mid = a.mid + b.mid;
            let bounds = |a_bounds: (f64, f64), b_bounds: (f64, f64)| {
                let low = (a.mid - a_bounds.0).hypot(b.mid - b_bounds.0);
                let high = (a_bounds.1 - a.mid).hypot(b_bounds.1 - b.mid);
                (mid - low, mid + high)
            };
            Band {
                day: a.day,
                outer: bounds(a.outer, b.outer),
                inner: bounds(a.inner, b.inner),
                mid,
            }
        };
        Self {
            spent: self.spent + other.spent,
            ahead: self.ahead.iter().zip(&other.ahead).map(|(a, b)| both(a, b)).collect(),
            profile: std::array::from_fn(share),
            level,
        }
    }

    /// Median and 80% interval of the month's sum.
    pub fn end(&self) -> (f64, (f64, f64)) {
        self.ahead.last().map_or((self.spent, (self.spent, self.spent)), |b| (b.mid, b.outer))
    }

    /// Whether the plan lies within the 80% interval.
    pub fn holds(&self, plan: f64) -> bool {
        let (low, high) = self.end().1;
        (low..=high).contains(&plan)
    }

    /// The daily budget that would end the month on plan: what is left of it over the days left, each counted by
    /// its weekday. 0 where the plan is spent; absent on the last day.
    pub fn needed(&self, plan: f64) -> Option<f64> {
        let weight = self.weight_ahead();
        (weight > 0.0).then(|| ((plan - self.spent) / weight).max(0.0))
    }

    /// The days left, each counted by its weekday's share of a mean day.
    pub fn weight_ahead(&self) -> f64 {
        self.ahead.iter().map(|b| self.profile[weekday(b.day)]).sum()
    }
}

fn weekday(day: NaiveDate) -> usize {
    day.weekday().num_days_from_monday() as usize
}

/// Days up to `to`, from the first that is there.
pub fn known_days(spend: &[(NaiveDate, f64)], to: NaiveDate) -> i64 {
    spend.iter().map(|(d, _)| *d).min().map_or(0, |first| (to - first).num_days() + 1)
}

/// Forecasts a month of which `to` is the last reported day, from spend by day, days without spend left out or not.
/// What has run for fewer than two weeks goes on like its days so far, with a wide interval. Absent where nothing has
/// been reported or the month does not contain `to`.
pub fn forecast(spend: &[(NaiveDate, f64)], to: NaiveDate, month: Window) -> Option<Forecast> {
    let known = known_days(spend, to);
    if known < 1 || !month.contains(to) {
        return None;
    }
    let days: Vec<NaiveDate> = to.iter_days().skip(1).take_while(|d| *d <= month.to()).collect();
    if known < LEVEL_DAYS {
        return Some(young(spend, to, known, month, &days));
    }
    // By age: 0 is the last reported day.
    let length = known.min((WEEKS as i64 + 2) * 7) as usize;
    let mut by_age = vec![0.0; length];
    let mut spent = 0.0;
    for (day, amount) in spend {
        let age = (to - *day).num_days();
        if (0..length as i64).contains(&age) {
            by_age[age as usize] += amount;
        }
        if *day >= month.from() && *day <= to {
            spent += amount;
        }
    }
    let weeks = (length / 7).min(WEEKS);
    let profile = profile(&by_age[..7 * weeks], to);
    // Spend of days that end at an age, as a mean day.
    let level = |age: usize, days: usize| {
        let end = (age + days).min(length);
        let weight: f64 = (age..end).map(|a| profile[weekday_at(to, a)]).sum();
        if weight > 0.0 { by_age[age..end].iter().sum::<f64>() / weight } else { 0.0 }
    };
    let now = level(0, LEVEL_DAYS as usize);
    // What each past week was, day by day, over what the two weeks before it let expect.
    let missed: Vec<[f64; 7]> = (0..weeks)
        .filter(|k| 7 * (k + 1) + LEVEL_DAYS as usize <= length)
        .filter_map(|k| {
            let expected = level(7 * (k + 1), LEVEL_DAYS as usize);
            let ratio = |wd: usize| {
                let age = (7 * k..7 * k + 7).find(|a| weekday_at(to, *a) == wd)?;
                let usual = expected * profile[wd];
                (usual > 0.0).then(|| by_age[age] / usual)
            };
            let ratios: Option<Vec<f64>> = (0..7).map(ratio).collect();
            ratios?.try_into().ok()
        })
        .collect();
    let ahead = bands(&days, spent, now, &profile, &missed);
    Some(Forecast { spent, ahead, profile, level: now })
}

/// Of what has run for `known` days only: each of them may be what the weeks ahead are like.
fn young(
    spend: &[(NaiveDate, f64)],
    to: NaiveDate,
    known: i64,
    month: Window,
    days: &[NaiveDate],
) -> Forecast {
    let mut by_age = vec![0.0; known as usize];
    let mut spent = 0.0;
    for (day, amount) in spend.iter().filter(|(d, _)| *d <= to) {
        by_age[(to - *day).num_days() as usize] += amount;
        spent += if month.contains(*day) { *amount } else { 0.0 };
    }
    let level = by_age.iter().sum::<f64>() / known as f64;
    let ratios: Vec<f64> = if by_age.len() < LEAST_DAYS || level <= 0.0 {
        ANYTHING.to_vec()
    } else {
        by_age.iter().map(|x| x / level).collect()
    };
    let missed: Vec<[f64; 7]> = ratios.into_iter().map(|r| [r; 7]).collect();
    let profile = [1.0; 7];
    Forecast { spent, ahead: bands(days, spent, level, &profile, &missed), profile, level }
}

fn weekday_at(to: NaiveDate, age: usize) -> usize {
    (weekday(to) + 7 - age % 7) % 7
}

/// Each weekday's spend over the mean of all; 1 where nothing was spent.
fn profile(by_age: &[f64], to: NaiveDate) -> [f64; 7] {
    let mut sums = [0.0; 7];
    for (age, spend) in by_age.iter().enumerate() {
        sums[weekday_at(to, age)] += spend;
    }
    let mean = sums.iter().sum::<f64>() / 7.0;
    if mean > 0.0 { sums.map(|s| s / mean) } else { [1.0; 7] }
}

fn bands(
    days: &[NaiveDate],
    spent: f64,
    level: f64,
    profile: &[f64; 7],
    missed: &[[f64; 7]],
) -> Vec<Band> {
    let mut chance = ChaCha8Rng::seed_from_u64(SEED);
    let mut draws: Vec<Vec<f64>> = vec![Vec::with_capacity(DRAWS); days.len()];
    for _ in 0..DRAWS {
        let mut sum = spent;
        // A week that was dearer than expected raises those after it: the level itself has moved.
        let mut moved = 1.0;
        let mut week = None;
        for (i, day) in days.iter().enumerate() {
            if i % 7 == 0 && !missed.is_empty() {
                if let Some(last) = week {
                    let last: &[f64; 7] = last;
                    moved *= 1.0 + (last.iter().sum::<f64>() / 7.0 - 1.0) / 2.0;
                }
                week = Some(&missed[chance.random_range(0..missed.len())]);
            }
            let ratio = week.map_or(1.0, |w| w[weekday(*day)]);
            sum += level * profile[weekday(*day)] * ratio * moved;
            draws[i].push(sum);
        }
    }
    days.iter()
        .zip(draws)
        .map(|(day, mut sums)| {
            sums.sort_by(f64::total_cmp);
            let at = |q: f64| sums[((sums.len() - 1) as f64 * q).round() as usize];
            Band { day: *day, outer: (at(0.1), at(0.9)), inner: (at(0.25), at(0.75)), mid: at(0.5) }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::Days;

    fn day(m: u32, d: u32) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, m, d).unwrap()
    }

    fn november() -> Window {
        Window::new(day(11, 1), day(11, 30)).unwrap()
    }

    fn history(
        to: NaiveDate,
        days: u64,
        of: impl Fn(NaiveDate, u64) -> f64,
    ) -> Vec<(NaiveDate, f64)> {
        (0..days)
            .map(|age| to - Days::new(age))
            .map(|d| (d, of(d, (to - d).num_days() as u64)))
            .collect()
    }

    /// Ten days of 10 and 30 in turn: 20 a day goes on, and how much a day differs makes the interval.
    #[test]
    fn what_is_young_goes_on_like_its_days_so_far() {
        let to = day(11, 20);
        let f = forecast(&history(to, 10, |_, age| 10.0 + 20.0 * (age % 2) as f64), to, november());
        let f = f.unwrap();
        assert_eq!((f.spent, f.level, f.profile), (200.0, 20.0, [1.0; 7]));
        let (mid, (low, high)) = f.end();
        assert!(low < 350.0 && high > 450.0 && (low..=high).contains(&mid), "{low} {mid} {high}");
        assert_eq!(f.needed(500.0), Some(30.0));
        // Of two days nothing can be told but that something is spent.
        let f = forecast(&history(to, 2, |_, _| 10.0), to, november()).unwrap();
        assert!(f.end().1.0 < 60.0 && f.end().1.1 > 180.0, "{:?}", f.end());
    }

    /// Two that are alike: twice the money, and √2 times the interval.
    #[test]
    fn two_campaigns_together() {
        let to = day(11, 20);
        let one =
            forecast(&history(to, 60, |_, age| 10.0 + (age % 5) as f64), to, november()).unwrap();
        let two = one.plus(&one);
        assert_eq!((two.spent, two.level), (2.0 * one.spent, 2.0 * one.level));
        assert!((0..7).all(|i| (two.profile[i] - one.profile[i]).abs() < 1e-12));
        let ((mid, (low, high)), (m, (l, h))) = (one.end(), two.end());
        assert!((m - 2.0 * mid).abs() < 1e-9);
        assert!(((m - l) - 2f64.sqrt() * (mid - low)).abs() < 1e-9);
        assert!(((h - m) - 2f64.sqrt() * (high - mid)).abs() < 1e-9);
    }

    /// Weekends spend nothing: 15 of the 21 weekdays of November 2026 are over on the 20th, a Friday; six are left.
    #[test]
    fn weekdays_are_kept_apart() {
        let to = day(11, 20);
        let weekdays = |d: NaiveDate, _| if weekday(d) < 5 { 100.0 } else { 0.0 };
        let f = forecast(&history(to, 80, weekdays), to, november()).unwrap();
        assert!((f.spent - 1500.0).abs() < 1e-9, "{}", f.spent);
        let (mid, (low, high)) = f.end();
        assert!((mid - 2100.0).abs() < 1e-6 && high - low < 1e-6, "{mid} {low} {high}");
        assert!(f.holds(2100.0) && !f.holds(2200.0));
        // 300 more than such days bring: 900 over six days, told as a mean day of seven.
        assert!((f.needed(2400.0).unwrap() - 900.0 / 6.0 / 1.4).abs() < 1e-9);
        assert_eq!(f.needed(1000.0), Some(0.0));
        assert_eq!(f.ahead.len(), 10);
    }

    #[test]
    fn the_fan_opens_with_what_weeks_missed() {
        let to = day(11, 10);
        let restless = |_, age: u64| if (age / 7).is_multiple_of(2) { 120.0 } else { 80.0 };
        let f = forecast(&history(to, 80, restless), to, november()).unwrap();
        let reach = |b: &Band| b.outer.1 - b.outer.0;
        assert!(f.ahead.windows(2).all(|w| reach(&w[1]) >= reach(&w[0]) - 1e-9));
        assert!(reach(f.ahead.last().unwrap()) > 200.0);
        let last = f.ahead.last().unwrap();
        assert!(
            last.outer.0 <= last.inner.0 && last.inner.0 <= last.mid && last.mid <= last.inner.1
        );
        assert_eq!(forecast(&history(to, 80, restless), to, november()), Some(f), "seeded");
    }

    #[test]
    fn the_level_is_that_of_the_last_two_weeks() {
        let to = day(11, 16);
        let doubled = |_, age: u64| if age < 14 { 200.0 } else { 100.0 };
        let f = forecast(&history(to, 80, doubled), to, november()).unwrap();
        assert!((f.level - 200.0).abs() < 1e-9 && f.end().0 > 200.0 * 30.0 - 1500.0, "{f:?}");
    }

    #[test]
    fn a_month_that_is_over_and_a_short_history() {
        let to = day(11, 30);
        let f = forecast(&history(to, 60, |_, _| 10.0), to, november()).unwrap();
        assert_eq!((f.end().0, f.needed(400.0)), (300.0, None));
        assert_eq!(forecast(&[], to, november()), None);
        assert_eq!(forecast(&history(day(12, 1), 60, |_, _| 10.0), day(12, 1), november()), None);
    }
}
