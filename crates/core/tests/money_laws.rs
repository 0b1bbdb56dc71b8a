//! Laws of a campaign's money: curves, responses, pools, flights, hours, the month's pace, steps.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use chrono::{Datelike, Days, NaiveDate};
use proptest::prelude::*;
use tiller_core::evidence::Interval;
use tiller_core::evidence::levels::{Seen, together};
use tiller_core::flight::{Lift, preview, ramp};
use tiller_core::hours::{ALWAYS, Week, of_day, only, running, seen_from};
use tiller_core::pace::forecast;
use tiller_core::pool::{self, Conflict, Member};
use tiller_core::response::budget_response::{BudgetDay, capacity};
use tiller_core::response::{BELIEF, Day, fit};
use tiller_core::steps::{Step, advise};
use tiller_core::week::DAYS;
use tiller_core::{Micros, PerDay, Price, Share, Tally, Target, Window};

fn date(text: &str) -> NaiveDate {
    text.parse().unwrap()
}

fn dates(from: NaiveDate, days: u64) -> Window {
    Window::ending(from.checked_add_days(Days::new(days - 1)).unwrap(), days)
}

/// Days whose spend differs, some without a conversion.
fn days() -> impl Strategy<Value = Vec<Day>> {
    prop::collection::vec((5.0f64..200.0, 0u32..12), 21..80).prop_map(|all| {
        let day = |(i, (spend, conversions)): (usize, (f64, u32))| Day {
            weekday: DAYS[i % 7],
            at: i as f64,
            spend,
            conversions: f64::from(conversions),
            budget: i.is_multiple_of(2).then_some(spend),
            step: None,
        };
        all.into_iter().enumerate().map(day).collect()
    })
}

fn budget_days() -> impl Strategy<Value = Vec<BudgetDay>> {
    let day = (0.0f64..200.0, 1.0f64..200.0, prop::option::of(0.0f64..1.0)).prop_map(
        |(spend, budget, lost_to_budget)| BudgetDay {
            spend: spend.min(budget),
            budget: Some(budget),
            lost_to_budget: lost_to_budget.and_then(Share::new),
        },
    );
    prop::collection::vec(day, 0..60)
}

fn members() -> impl Strategy<Value = Vec<Member>> {
    let member =
        (0.0f64..900.0, 0u32..60, prop::option::of(0.0f64..40.0)).prop_map(|(spend, n, floor)| {
            Member { spend, results: f64::from(n), floor, ceiling: None }
        });
    prop::collection::vec(member, 1..7)
}

fn week() -> impl Strategy<Value = Week> {
    prop::collection::vec(prop::option::of(-90i16..300), 168).prop_map(|w| w.try_into().unwrap())
}

const SEEN: pool::Seen = pool::Seen { days: 28, dispersion: 1.5 };

proptest! {
    /// Another currency changes neither how a campaign bends nor what it brings.
    #[test]
    fn a_curve_does_not_depend_on_the_currency(all in days(), c in 0.05f64..20.0) {
        let Some(curve) = fit(&all, BELIEF) else { return Ok(()) };
        let dear: Vec<Day> = all.iter().map(|d| Day { spend: d.spend * c, ..*d }).collect();
        let scaled = fit(&dear, BELIEF).unwrap();
        prop_assert!((curve.elasticity - scaled.elasticity).abs() < 1e-4);
        for spend in [10.0, 60.0, 180.0] {
            let (here, there) = (curve.at(spend), scaled.at(c * spend));
            prop_assert!((here / there - 1.0).abs() < 1e-3, "{here} {there}");
        }
    }

    /// More money never brings less, each brings less than the one before, and the interval holds the curve.
    #[test]
    fn a_curve_rises_and_bends(all in days()) {
        let Some(curve) = fit(&all, BELIEF) else { return Ok(()) };
        let at = |i: i32| curve.at(f64::from(i) * 10.0);
        for i in 1..30 {
            let (before, after) = (at(i) - at(i - 1), at(i + 1) - at(i));
            prop_assert!(after > 0.0 && after <= before + 1e-12, "{before} {after}");
            let interval = curve.interval(f64::from(i) * 10.0, 0.8);
            prop_assert!(interval.low <= at(i) && at(i) <= interval.high);
        }
        prop_assert!((0.05..1.0).contains(&curve.elasticity));
    }

    /// What it can spend is money: it scales with the currency, and is never less than what it does spend.
    #[test]
    fn a_capacity_is_money(all in budget_days(), c in 0.05f64..20.0) {
        let here = capacity(&all);
        let dear: Vec<BudgetDay> = all
            .iter()
            .map(|d| BudgetDay { spend: c * d.spend, budget: d.budget.map(|b| c * b), ..*d })
            .collect();
        let there = capacity(&dear);
        prop_assert_eq!(here.evidence, there.evidence);
        match here.most.zip(there.most) {
            Some((a, b)) => prop_assert!((c * a - b).abs() <= 1e-9 * b.max(1.0)),
            None => prop_assert!(here.most.is_none() && there.most.is_none()),
        }
        prop_assert!(here.most.is_none_or(|m| m.is_finite() && m >= 0.0));
    }

    /// A figure beside others lies between what it was seen as and the furthest of them, nearer to its own the better it is known,
    /// and is never known less well than alone; what all are shifted by, all are shifted by.
    #[test]
    fn a_level_lies_between_its_own_and_the_others(
        means in prop::collection::vec(-2.0f64..2.0, 1..12), variance in 0.001f64..0.5, shift in -3.0f64..3.0,
    ) {
        let seen = |variance: f64, shift: f64| {
            let seen = |mean: &f64| Seen { mean: mean + shift, variance };
            together(&means.iter().map(seen).collect::<Vec<_>>(), 0.4)
        };
        let (found, surer, shifted) = (seen(variance, 0.0), seen(variance / 10.0, 0.0), seen(variance, shift));
        let (least, most) = means.iter().fold((f64::MAX, f64::MIN), |r, m| (r.0.min(*m), r.1.max(*m)));
        for (i, mean) in means.iter().enumerate() {
            prop_assert!((least - 1e-9..=most + 1e-9).contains(&found[i].mean));
            prop_assert!((surer[i].mean - mean).abs() <= (found[i].mean - mean).abs() + 1e-9);
            prop_assert!((shifted[i].mean - found[i].mean - shift).abs() < 1e-9);
            // How far they lie apart is not known either; where one is far off, that is most of it.
            prop_assert!(found[i].variance() < 3.0 * variance.max(0.1), "{:?}", found[i]);
        }
    }

    /// The probabilities of being best are those of one event; an ad group without peers is best for sure.
    #[test]
    fn one_of_a_pool_is_best(all in members()) {
        let best = pool::probability_best(&all);
        prop_assert!((best.iter().sum::<f64>() - 1.0).abs() < 1e-9);
        prop_assert!(best.iter().all(|p| (0.0..=1.0).contains(p)));
        if all.len() == 1 {
            prop_assert_eq!(best[0], 1.0);
        }
        for standing in pool::judge(120.0, Price(10.0), SEEN, &all) {
            if let pool::Advice::Floor(floor) = standing.advice {
                prop_assert!(!standing.tested && floor > 0.0);
            }
        }
    }

    /// More results for the same money never make an ad group less likely to be the best.
    #[test]
    fn results_speak_for_an_ad_group(all in members(), more in 1.0f64..40.0) {
        let before = pool::probability_best(&all)[0];
        let mut better = all.clone();
        better[0].results += more;
        // Draws are chance, though seeded: a hundredth is theirs.
        prop_assert!(pool::probability_best(&better)[0] >= before - 0.02);
    }

    /// The floors that are advised can be kept, where they could before.
    #[test]
    fn advised_floors_fit_into_the_pool(all in members(), budget in 10.0f64..400.0, target in 2.0f64..40.0) {
        let standings = pool::judge(budget, Price(target), SEEN, &all);
        let advised: f64 = standings
            .iter()
            .map(|s| if let pool::Advice::Floor(f) = s.advice { f } else { 0.0 })
            .sum();
        prop_assert!(advised <= budget / 2.0 + 1e-6, "{advised} of {budget}");
        let none: Vec<Member> = all.iter().map(|m| Member { floor: None, ..*m }).collect();
        prop_assert!(!matches!(pool::conflict(budget, &none), Some(Conflict::FloorsOver(_))));
    }

    /// A split by audience is exact and gives each its least; a larger audience never gets less.
    #[test]
    fn audiences_get_their_part(budget in 1i64..1_000_000, sizes in prop::collection::vec(1.0f64..1e6, 1..12), least in 0i64..1000) {
        let n = sizes.len() as i64;
        let Some(parts) = pool::by_audience(budget, &sizes, least) else {
            prop_assert!(least * n > budget);
            return Ok(());
        };
        prop_assert_eq!(parts.iter().sum::<i64>(), budget);
        prop_assert!(parts.iter().all(|p| *p >= least));
        for (i, a) in sizes.iter().enumerate() {
            for (j, b) in sizes.iter().enumerate() {
                prop_assert!(a <= b || parts[i] >= parts[j] - 1, "{sizes:?} {parts:?}");
            }
        }
    }

    /// By the day and over the flight are two words for one budget.
    #[test]
    fn a_flight_turns_around(budget in 1.0f64..10_000.0, days in 1u64..400) {
        let flight = dates(date("2026-11-10"), days);
        prop_assert!((PerDay::of(PerDay(budget).over(flight), flight).units() / budget - 1.0).abs() < 1e-12);
    }

    /// A lift costs its days times what it adds, and the days around it are as before.
    #[test]
    fn a_lift_adds_what_it_says(budget in 1.0f64..1000.0, by in 0.0f64..500.0, days in 1u64..60) {
        let lift = dates(date("2026-12-01"), days);
        let shown = preview(PerDay(budget), Lift::Amount(PerDay(by)), lift);
        let added: f64 = shown.iter().map(|d| d.budget.units() - budget).sum();
        prop_assert!((added - by * days as f64).abs() < 1e-6);
        prop_assert_eq!(shown.iter().filter(|d| d.lifted).count() as u64, days);
        prop_assert!(!shown[0].lifted && !shown[shown.len() - 1].lifted);
        let shared = preview(PerDay(budget), Lift::Part(by / budget), lift);
        prop_assert!(shared.iter().zip(&shown).all(|(s, a)| (s.budget.units() - a.budget.units()).abs() < 1e-6));
    }

    /// No step of a ramp is a shock, all go one way, and the last is the goal.
    #[test]
    fn a_ramp_is_no_shock(from in 5.0f64..2000.0, to in 5.0f64..2000.0) {
        let steps: Vec<f64> =
            ramp(PerDay(from), PerDay(to), 0.2).into_iter().map(PerDay::units).collect();
        let mut at = from;
        for step in &steps {
            prop_assert!((step / at - 1.0).abs() <= 0.2 + 1e-9, "{from} {to} {steps:?}");
            prop_assert!((step - at) * (to - from) >= 0.0);
            at = *step;
        }
        prop_assert!(at == to || from == to);
    }

    /// A zone's own clock shows a week as it is, and office hours say no hour on that they leave out.
    #[test]
    fn hours_are_themselves_by_their_own_clock(pattern in week(), on in prop::array::uniform7(any::<bool>()), from in 0usize..24, hours in 0usize..24) {
        let zone = chrono_tz::Europe::Copenhagen;
        prop_assert_eq!(seen_from(&pattern, zone, zone, date("2026-11-11")), pattern);
        let office = only(&pattern, &on, from, from + hours);
        let running_hours = office.iter().flatten().count();
        prop_assert_eq!(running_hours, on.iter().filter(|d| **d).count() * hours.min(24 - from));
        prop_assert_eq!(only(&office, &on, from, from + hours), office);
    }

    /// There and back again, in a week in which no clock changes and whole hours lie between.
    #[test]
    fn another_clock_and_back(pattern in week(), week_no in 0u64..3) {
        let (here, there) = (chrono_tz::Europe::Copenhagen, chrono_tz::America::New_York);
        let day = date("2026-11-11").checked_add_days(Days::new(7 * week_no)).unwrap();
        prop_assert_eq!(seen_from(&seen_from(&pattern, here, there, day), there, here, day), pattern);
    }

    /// The hours of all days are those between two new years, whatever clocks do; a week that always runs runs in all.
    #[test]
    fn days_leave_no_hour_out(zone in prop::sample::select(vec![
        chrono_tz::Europe::Copenhagen, chrono_tz::America::New_York, chrono_tz::Asia::Beirut,
        chrono_tz::Australia::Adelaide, chrono_tz::America::Sao_Paulo, chrono_tz::Africa::Cairo, chrono_tz::UTC,
    ]), year in 2015i32..2030) {
        let first = NaiveDate::from_ymd_opt(year, 1, 1).unwrap();
        let all: Vec<_> = first.iter_days().take_while(|d| d.year() == year).collect();
        let hours: usize = all.iter().map(|d| of_day(*d, zone).len()).sum();
        let begins = |year: i32| of_day(NaiveDate::from_ymd_opt(year, 1, 1).unwrap(), zone)[0];
        prop_assert_eq!(hours as i64, (begins(year + 1) - begins(year)).num_hours());
        prop_assert!(all.iter().all(|d| running(&ALWAYS, *d, zone) == of_day(*d, zone).len()));
    }

    /// A month's forecast begins at what is spent, grows, scales with money, and its needed budget lands on plan.
    #[test]
    fn a_forecast_is_of_one_month(spend in prop::collection::vec(1.0f64..300.0, 40..75), day in 5u32..25, c in 0.1f64..10.0) {
        let to = NaiveDate::from_ymd_opt(2026, 11, day).unwrap();
        let month = Window::ending(date("2026-11-30"), 30);
        let by_day: Vec<(NaiveDate, f64)> =
            spend.iter().enumerate().map(|(age, x)| (to.checked_sub_days(Days::new(age as u64)).unwrap(), *x)).collect();
        let f = forecast(&by_day, to, month).unwrap();
        let spent: f64 = by_day.iter().filter(|(d, _)| month.contains(*d)).map(|(_, x)| x).sum();
        prop_assert!((f.spent - spent).abs() < 1e-6);
        prop_assert_eq!(f.ahead.len(), 30 - day as usize);
        prop_assert!((f.profile.iter().sum::<f64>() - 7.0).abs() < 1e-6);
        let mut last = f.spent;
        for band in &f.ahead {
            prop_assert!(band.outer.low <= band.inner.low && band.inner.low <= band.mid);
            prop_assert!(band.mid <= band.inner.high && band.inner.high <= band.outer.high);
            prop_assert!(band.mid >= last);
            last = band.mid;
        }
        let (mid, Interval { low, high }) = f.end();
        prop_assert!(f.contains(mid) && !f.contains(low - 1.0) && !f.contains(high + 1.0));
        let plan = 1.2 * mid;
        let needed = f.needed(plan).unwrap();
        let lands: f64 = f.spent + f.ahead.iter().map(|b| needed * f.profile[b.day.weekday().num_days_from_monday() as usize]).sum::<f64>();
        prop_assert!((lands / plan - 1.0).abs() < 1e-9);
        prop_assert_eq!(f.needed(f.spent / 2.0), Some(0.0));
        let dear: Vec<(NaiveDate, f64)> = by_day.iter().map(|(d, x)| (*d, c * x)).collect();
        prop_assert!((forecast(&dear, to, month).unwrap().end().0 / (c * mid) - 1.0).abs() < 1e-9);
    }

    /// Three days are judged by the target that they are measured by: never up and down at once, and a softer target
    /// never turns a step up into one down.
    #[test]
    fn steps_follow_the_target(counts in prop::collection::vec((1i64..200_000_000, 0u32..9), 3..6), target in 1.0f64..100.0) {
        let first = date("2026-11-02");
        let days: Vec<(NaiveDate, Tally)> = first
            .iter_days()
            .zip(counts)
            .map(|(d, (spend, n))| (d, Tally { spend: Micros::new(spend), conversions: f64::from(n), ..Tally::default() }))
            .collect();
        let step = |t: f64| advise(&days, None, Target::Cpa(Price(t)), None).unwrap();
        let rank = |s: Step| match s { Step::Up => 2, Step::Down => 0, Step::Stay | Step::Wait => 1 };
        let (hard, soft) = (step(target), step(2.0 * target));
        prop_assert!(rank(soft.step) >= rank(hard.step));
        prop_assert!(soft.over <= hard.over + 1e-9 && (0.0..=1.0).contains(&hard.over));
        prop_assert!(hard.cpa.1.is_none_or(|high| hard.cpa.0 <= high));
    }
}

/// The fan's 80% is 80%: of 400 months whose days vary by a quarter around a weekday pattern, as many end in it.
/// (Simulated; no published source.)
#[test]
fn the_fan_holds_what_it_says() {
    use rand::SeedableRng;
    use rand_distr::{Distribution, LogNormal};
    let mut chance = rand_chacha::ChaCha8Rng::seed_from_u64(4);
    let noise = LogNormal::new(0.0, 0.25).unwrap();
    let weekdays = [1.1, 1.2, 1.1, 1.0, 0.9, 0.8, 0.9];
    let month = Window::ending(date("2026-11-30"), 30);
    let first = date("2026-09-01");
    let mut held = 0;
    for _ in 0..400 {
        let all: Vec<(NaiveDate, f64)> = first
            .iter_days()
            .take_while(|d| *d <= month.to())
            .map(|d| {
                (
                    d,
                    100.0
                        * weekdays[d.weekday().num_days_from_monday() as usize]
                        * noise.sample(&mut chance),
                )
            })
            .collect();
        let to = date("2026-11-12");
        let known: Vec<_> = all.iter().copied().filter(|(d, _)| *d <= to).collect();
        let true_end: f64 = all.iter().filter(|(d, _)| month.contains(*d)).map(|(_, x)| x).sum();
        held += u32::from(forecast(&known, to, month).unwrap().contains(true_end));
    }
    assert!((300..=370).contains(&held), "{held} of 400");
}
