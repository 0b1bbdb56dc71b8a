//! Alarms (S5): what can't wait for a weekly look. A campaign that stopped spending, and spend or the cost of a result
//! that jumped beyond the campaign's own noise. Days are looked at every day, so alarms are rare by design: under one a
//! week that is false among twenty-five campaigns, whatever their noise is like (see the tests).
//!
//! ```
//! use chrono::NaiveDate;
//! use tiller_core::alarm::{Day, stopped};
//! let day = |d| NaiveDate::from_ymd_opt(2026, 10, d).unwrap();
//! let spent = |d, spend| Day { day: day(d), spend, clicks: spend, results: 0.0 };
//! // 40 a day for four weeks, then nothing for two days.
//! let days: Vec<Day> = (1..=30).map(|d| spent(d, if d < 29 { 40.0 } else { 0.0 })).collect();
//! let found = stopped(&days, day(30)).unwrap();
//! assert_eq!((found.since, found.usual), (day(29), 40.0));
//! assert!(stopped(&days[..28], day(28)).is_none());
//! ```

use std::collections::BTreeMap;

use chrono::{Datelike, Days, NaiveDate};
use statrs::distribution::{ContinuousCDF, StudentsT};

use crate::evidence::{dispersion, two_shares};

/// A day with what it spent, in units of currency, and its results: conversions, or orders of the usual value.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Day {
    /// The day.
    pub day: NaiveDate,
    /// Money.
    pub spend: f64,
    /// Clicks.
    pub clicks: f64,
    /// Results, completed where they have not all been reported yet.
    pub results: f64,
}

/// A run of days without spend at the end of a campaign that usually spends on such days.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Stopped {
    /// First day without.
    pub since: NaiveDate,
    /// What it used to spend on such a day.
    pub usual: f64,
}

/// Something a day, or a result, that is not what it was.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Jump {
    /// The days that are unlike those before.
    pub days: u64,
    /// The last of them.
    pub to: NaiveDate,
    /// What was usual: spend a day, or the cost of a result.
    pub usual: f64,
    /// What it is now.
    pub now: f64,
    /// How likely the campaign's own noise does that.
    pub p: f64,
}

/// Chance makes an alarm with less than this probability, at each look: at spend, at the cost of a result.
const SURE: (f64, f64) = (0.0025, 0.002);
/// A stop is believed if days without spend were as rare as this.
const RARE: f64 = 0.01;
/// How much more than chance clicks differ from day to day (variance over mean).
const DIFFER: f64 = 2.0;
/// Days that tell what is usual.
const USUAL: u64 = 28;
/// Days that tell how days differ.
const HISTORY: u64 = 56;
/// Fewer days with spend tell nothing.
const LEAST_DAYS: usize = 14;
/// Spend is looked at over so many days, the cost of a result over a whole week.
const SPEND_DAYS: u64 = 3;
const COST_DAYS: u64 = 7;
/// Freedom of the noise of spend: its tails are heavy.
const FREEDOM: f64 = 8.0;
/// What autocorrelation is believed to be before days are seen, and how many days that belief weighs.
const CARRIED: (f64, f64) = (0.3, 10.0);
/// A weekday's own share of its level weighs as much as so many of its days.
const WEEKDAY: f64 = 2.0;
/// Less of a difference is no alarm, however sure.
const LEAST_RATIO: f64 = 1.25;

/// Whether a campaign has stopped spending, by the days up to the last reported one. Days without spend that are usual
/// (weekends, flights) are no stop.
pub fn stopped(days: &[Day], last: NaiveDate) -> Option<Stopped> {
    let spend: BTreeMap<NaiveDate, f64> = days.iter().map(|d| (d.day, d.spend)).collect();
    let on = |day: NaiveDate| spend.get(&day).copied().unwrap_or(0.0);
    let before = days.iter().filter(|d| d.spend > 0.0 && d.day <= last).map(|d| d.day).max()?;
    let first = days.iter().filter(|d| d.spend > 0.0).map(|d| d.day).min()?;
    let since = before.succ_opt().filter(|since| *since <= last)?;
    let reach = since.checked_sub_days(Days::new(HISTORY)).unwrap_or(first).max(first);
    let history: Vec<NaiveDate> = reach.iter_days().take_while(|d| *d < since).collect();
    if history.len() < LEAST_DAYS {
        return None;
    }
    let idle = |days: &[&NaiveDate]| days.iter().filter(|d| on(***d) <= 0.0).count() as f64;
    let all: Vec<&NaiveDate> = history.iter().collect();
    let overall = (idle(&all) + 0.5) / (all.len() as f64 + 1.0);
    let chance: f64 = since
        .iter_days()
        .take_while(|d| *d <= last)
        .map(|day| {
            let same: Vec<&NaiveDate> =
                history.iter().filter(|d| d.weekday() == day.weekday()).collect();
            let weight = 2.0 * WEEKDAY;
            (idle(&same) + weight * overall) / (same.len() as f64 + weight)
        })
        .product();
    // Where few clicks come in a day, chance leaves a day without any; days differ by more than chance.
    let gone = (last - since).num_days() as f64 + 1.0;
    let clicks =
        days.iter().filter(|d| d.day >= reach && d.day < since).map(|d| d.clicks).sum::<f64>();
    let by_chance = (-clicks / history.len() as f64 * gone / DIFFER).exp();
    let weeks: Vec<f64> = history.iter().rev().take(USUAL as usize).map(|d| on(*d)).collect();
    let spending = weeks.iter().filter(|s| **s > 0.0).count().max(1) as f64;
    (chance.max(by_chance) < RARE)
        .then(|| Stopped { since, usual: weeks.iter().sum::<f64>() / spending })
}

/// How far values on days in a row follow each other (lag one), drawn toward what is believed.
fn carried(residuals: &[(NaiveDate, f64)]) -> f64 {
    let variance: f64 = residuals.iter().map(|(_, r)| r * r).sum::<f64>();
    let pairs = residuals.windows(2).filter(|w| w[0].0.succ_opt() == Some(w[1].0));
    let (product, n) = pairs.fold((0.0, 0.0), |(s, n), w| (s + w[0].1 * w[1].1, n + 1.0));
    let mean = variance / residuals.len().max(1) as f64;
    if mean <= 0.0 {
        return CARRIED.0;
    }
    ((product / mean + CARRIED.0 * CARRIED.1) / (n + CARRIED.1)).clamp(0.0, 0.9)
}

/// The variance of a mean of `n` days in a row over that of one day, at an autocorrelation.
fn of_mean(n: f64, carried: f64) -> f64 {
    let around: f64 = (1..n as i32).map(|lag| (1.0 - f64::from(lag) / n) * carried.powi(lag)).sum();
    (1.0 + 2.0 * around) / n
}

/// Whether the last reported days spend otherwise than the campaign does, up or down. Days without spend are the matter
/// of [`stopped`].
pub fn spend_jump(days: &[Day], last: NaiveDate) -> Option<Jump> {
    let from = last.checked_sub_days(Days::new(SPEND_DAYS - 1))?;
    let reach = from.checked_sub_days(Days::new(HISTORY))?;
    let log = |d: &&Day| (d.day, d.spend.ln());
    let spending = || days.iter().filter(|d| d.spend > 0.0);
    let now: Vec<_> =
        spending().filter(|d| d.day >= from && d.day <= last).map(|d| log(&d)).collect();
    let history: Vec<_> =
        spending().filter(|d| d.day >= reach && d.day < from).map(|d| log(&d)).collect();
    if now.len() < SPEND_DAYS as usize || history.len() < LEAST_DAYS {
        return None;
    }
    let mean = |of: &[(NaiveDate, f64)]| of.iter().map(|(_, x)| x).sum::<f64>() / of.len() as f64;
    let middle = mean(&history);
    let share = |day: NaiveDate| {
        let same: Vec<f64> = history
            .iter()
            .filter(|(d, _)| d.weekday() == day.weekday())
            .map(|(_, x)| x - middle)
            .collect();
        same.iter().sum::<f64>() / (same.len() as f64 + WEEKDAY)
    };
    let plain = |of: &[(NaiveDate, f64)]| -> Vec<(NaiveDate, f64)> {
        of.iter().map(|(d, x)| (*d, x - share(*d))).collect()
    };
    let (now, history) = (plain(&now), plain(&history));
    let recent = from.checked_sub_days(Days::new(USUAL))?;
    let lately: Vec<_> = history.iter().filter(|(d, _)| *d >= recent).copied().collect();
    if lately.len() < LEAST_DAYS / 2 {
        return None;
    }
    let level = mean(&lately);
    let around = mean(&history);
    let residuals: Vec<_> = history.iter().map(|(d, x)| (*d, x - around)).collect();
    let freedom = residuals.len() as f64 - 7.0;
    let noise = residuals.iter().map(|(_, r)| r * r).sum::<f64>() / freedom.max(1.0);
    let carried = carried(&residuals);
    let variance =
        noise * (of_mean(now.len() as f64, carried) + of_mean(lately.len() as f64, carried));
    let by = mean(&now) - level;
    let t = StudentsT::new(0.0, 1.0, FREEDOM).ok()?;
    let p = 2.0 * t.cdf(-by.abs() / variance.max(1e-12).sqrt());
    let total = |from: NaiveDate, to: NaiveDate, n: f64| {
        spending().filter(|d| d.day >= from && d.day <= to).map(|d| d.spend).sum::<f64>() / n
    };
    (p < SURE.0 && by.abs() >= LEAST_RATIO.ln()).then(|| Jump {
        days: SPEND_DAYS,
        to: last,
        usual: total(recent, from.pred_opt().unwrap_or(from), lately.len() as f64),
        now: total(from, last, now.len() as f64),
        p,
    })
}

/// Whether a result has become dearer in the last settled week than it was, by quasi-Poisson counts (variance φ × mean,
/// more for days that follow each other) and the conditional test of two rates.
pub fn cost_jump(days: &[Day], settled: NaiveDate) -> Option<Jump> {
    let from = settled.checked_sub_days(Days::new(COST_DAYS - 1))?;
    let recent = from.checked_sub_days(Days::new(USUAL))?;
    let reach = from.checked_sub_days(Days::new(HISTORY))?;
    let spending = || days.iter().filter(|d| d.spend > 0.0 && d.day <= settled);
    let sum = |from: NaiveDate, to: NaiveDate| {
        spending()
            .filter(|d| d.day >= from && d.day < to)
            .fold((0.0, 0.0, 0usize), |(s, c, n), d| (s + d.spend, c + d.results, n + 1))
    };
    let (spend, results, _) = sum(from, settled.succ_opt()?);
    let (spent, had, n) = sum(recent, from);
    if spend <= 0.0 || had <= 0.0 || n < LEAST_DAYS {
        return None;
    }
    let history: Vec<&Day> = spending().filter(|d| d.day >= reach && d.day < from).collect();
    let phi = dispersion(history.iter().map(|d| (d.results, d.spend)));
    let rate = history.iter().map(|d| d.results).sum::<f64>()
        / history.iter().map(|d| d.spend).sum::<f64>();
    let residuals: Vec<_> = history
        .iter()
        .map(|d| (d.day, (d.results - rate * d.spend) / (rate * d.spend).sqrt()))
        .collect();
    let carried = carried(&residuals);
    // What days in a row have in common counts once.
    let weaker = |n: f64| phi * n * of_mean(n, carried);
    let (now, before) = (weaker(COST_DAYS as f64), weaker(n as f64));
    let p = two_shares(results / now, spend / now, had / before, spent / before);
    let usual = spent / had;
    let dearer = spend > LEAST_RATIO * usual * results;
    (p < SURE.1 && dearer).then(|| Jump {
        days: COST_DAYS,
        to: settled,
        usual,
        now: if results > 0.0 { spend / results } else { f64::INFINITY },
        p,
    })
}

/// A day's money: what was spent before noon, in all, and what its budget was.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Noon {
    /// Before noon.
    pub before: f64,
    /// In all.
    pub spend: f64,
    /// The budget.
    pub budget: f64,
}

/// How many of the last days had no money left at noon; one such day may be chance, so from two on it is told.
pub fn gone_by_noon(days: &[Noon]) -> Option<usize> {
    let gone =
        |d: &&Noon| d.budget > 0.0 && d.spend >= 0.95 * d.budget && d.before >= 0.98 * d.spend;
    Some(days.iter().filter(gone).count()).filter(|n| *n >= 2)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::SeedableRng;
    use rand_chacha::ChaCha8Rng;
    use rand_distr::{Distribution, Gamma, Poisson, StandardNormal, StudentT};

    fn day(n: u64) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, 6, 1).unwrap() + Days::new(n)
    }

    /// A kind of world: autocorrelation and noise of spend, heavy tails, growth a week, dispersion of results.
    #[derive(Clone, Copy, Debug)]
    struct World {
        carried: f64,
        noise: f64,
        heavy: bool,
        growth: f64,
        phi: f64,
        results: f64,
    }

    fn draw(w: World, n: u64, rng: &mut ChaCha8Rng) -> Vec<Day> {
        let (mut spend_shock, mut rate_shock): (f64, f64) = (0.0, 0.0);
        let step = |rng: &mut ChaCha8Rng| -> f64 {
            if w.heavy {
                StudentT::new(3.0).unwrap().sample(rng) / 3f64.sqrt()
            } else {
                StandardNormal.sample(rng)
            }
        };
        (0..n)
            .map(|i| {
                let fresh = (1.0 - w.carried * w.carried).sqrt();
                spend_shock = w.carried * spend_shock + fresh * w.noise * step(rng);
                rate_shock = w.carried * rate_shock + fresh * 0.2 * step(rng);
                let weekday = if i % 7 >= 5 { 0.7 } else { 1.0 };
                let grown = (w.growth * i as f64 / 7.0).exp();
                let spend = 100.0 * weekday * grown * spend_shock.exp();
                let mean: f64 = w.results / 100.0 * spend / grown * rate_shock.exp();
                let mean = if w.phi > 1.0 {
                    Gamma::new(mean / (w.phi - 1.0), w.phi - 1.0).unwrap().sample(rng)
                } else {
                    mean
                };
                let results = Poisson::new(mean.max(1e-9)).unwrap().sample(rng);
                Day { day: day(i), spend, clicks: spend / 2.0, results }
            })
            .collect()
    }

    /// False alarms a week among twenty-five campaigns: of spend, of cost.
    fn false_alarms(w: World, campaigns: u32, rng: &mut ChaCha8Rng) -> (f64, f64) {
        const WEEKS: u64 = 8;
        let (mut spends, mut costs) = (0, 0);
        for _ in 0..campaigns {
            let days = draw(w, 63 + 7 * WEEKS, rng);
            let mut before = (false, false);
            for t in 63..63 + 7 * WEEKS {
                let seen = &days[..=t as usize];
                let now = (spend_jump(seen, day(t)).is_some(), cost_jump(seen, day(t)).is_some());
                spends += u32::from(now.0 && !before.0);
                costs += u32::from(now.1 && !before.1);
                before = now;
            }
        }
        let weekly = |n: u32| 25.0 * f64::from(n) / (f64::from(campaigns) * WEEKS as f64);
        (weekly(spends), weekly(costs))
    }

    /// `CAMPAIGNS=200 cargo test --release -p tiller-core alarm -- --nocapture` for docs/performance.md. A cost that
    /// rises by 5% a week is none of noise, so that growth leaves it alone here.
    #[test]
    fn under_one_a_week_is_false_among_twenty_five_campaigns() {
        let campaigns = std::env::var("CAMPAIGNS").map_or(15, |n| n.parse().unwrap());
        let mut rng = ChaCha8Rng::seed_from_u64(5);
        let mut all = Vec::new();
        for carried in [0.0, 0.4, 0.8, 0.95] {
            for (noise, heavy) in [(0.1, false), (0.3, false), (0.3, true)] {
                for growth in [0.0, 0.05] {
                    for (phi, results) in [(1.0, 2.0), (3.0, 10.0)] {
                        let w = World { carried, noise, heavy, growth, phi, results };
                        let (spend, cost) = false_alarms(w, campaigns, &mut rng);
                        println!("{w:?}: {spend:.2} of spend, {cost:.2} of cost");
                        all.push(spend + cost);
                    }
                }
            }
        }
        let mean = all.iter().sum::<f64>() / all.len() as f64;
        println!("on average {mean:.2}, most {:.2}", all.iter().copied().fold(0.0, f64::max));
        assert!(mean < 1.0, "{mean}");
        assert!(mean > 0.0, "nothing ever alarms: the thresholds say nothing");
    }

    #[test]
    fn what_jumps_is_found() {
        let mut rng = ChaCha8Rng::seed_from_u64(8);
        let calm =
            World { carried: 0.4, noise: 0.1, heavy: false, growth: 0.0, phi: 1.5, results: 10.0 };
        let (mut up, mut down, mut dear) = (0, 0, 0);
        for _ in 0..50 {
            let with = |from: usize, f: &dyn Fn(&mut Day), rng: &mut ChaCha8Rng| {
                let mut days = draw(calm, 70, rng);
                days[from..].iter_mut().for_each(f);
                days
            };
            let jump = spend_jump(&with(67, &|d| d.spend *= 2.0, &mut rng), day(69));
            up += u32::from(jump.is_some_and(|j| j.now > j.usual && j.days == 3));
            let jump = spend_jump(&with(67, &|d| d.spend /= 2.0, &mut rng), day(69));
            down += u32::from(jump.is_some_and(|j| j.now < j.usual));
            let jump =
                cost_jump(&with(63, &|d| d.results = (d.results / 4.0).round(), &mut rng), day(69));
            dear += u32::from(jump.is_some_and(|j| j.now > 2.0 * j.usual));
        }
        assert!(up >= 45 && down >= 45 && dear >= 35, "{up} {down} {dear}");
    }

    #[test]
    fn a_stop_is_told_from_a_free_day() {
        let spend = |n: u64, spends: &dyn Fn(u64) -> bool| -> Vec<Day> {
            (0..n)
                .map(|i| {
                    let spend = if spends(i) { 50.0 } else { 0.0 };
                    Day { day: day(i), spend, clicks: spend / 2.0, results: 1.0 }
                })
                .collect()
        };
        // 1 June 2026 is a Monday.
        let every_day = spend(60, &|i| i < 58);
        assert_eq!(stopped(&every_day, day(59)), Some(Stopped { since: day(58), usual: 50.0 }));
        assert_eq!(stopped(&every_day, day(57)), None, "it still spent then");
        let no_weekends = |until: u64| spend(70, &|i| i % 7 < 5 && i < until);
        assert_eq!(stopped(&no_weekends(61), day(62)), None, "its free weekend");
        let monday_too = stopped(&no_weekends(61), day(64)).unwrap();
        assert_eq!(monday_too.since, day(61));
        let new = spend(10, &|i| i < 8);
        assert_eq!(stopped(&new, day(9)), None, "too young to know");
        assert_eq!(stopped(&[], day(9)), None);
        let few: Vec<Day> =
            every_day.iter().map(|d| Day { clicks: d.spend / 20.0, ..*d }).collect();
        assert_eq!(stopped(&few, day(58)), None, "a day without one of its few clicks");
    }

    #[test]
    fn money_that_is_gone_at_noon_is_seen_from_two_days_on() {
        let gone = Noon { before: 40.0, spend: 40.0, budget: 40.0 };
        let lasts = Noon { before: 20.0, ..gone };
        let cheap = Noon { before: 10.0, spend: 10.0, budget: 40.0 };
        assert_eq!(gone_by_noon(&[gone, lasts, gone]), Some(2));
        assert_eq!(gone_by_noon(&[gone, lasts, cheap]), None);
        assert_eq!(
            gone_by_noon(&[cheap, cheap]),
            None,
            "little demand in the afternoon is no empty purse"
        );
    }
}
