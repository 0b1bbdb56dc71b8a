//! The step experiment (A4): the budget goes up, down, down and up by a fifth, a week each, so that spend moves for a
//! reason of its own and neither with demand nor with a trend. Its days are fitted once, with all others.

use crate::evidence::{Interval, normal_quantile};
use crate::response::regression::Prior;
use crate::response::{Day, times_alike};

/// By so much up, then down.
pub const BY: f64 = 0.2;
/// Days of a step.
pub const STEP_DAYS: u64 = 7;
/// Money has to follow what is set by this much, to tell anything.
const LEAST_FOLLOWED: f64 = 0.25;
/// Up, down, down, up: what grows all the while is not taken for an answer. Each as the days from its first on, and its side.
const UP: [(u64, bool); 3] = [(0, true), (STEP_DAYS, false), (3 * STEP_DAYS, true)];
/// Days of an experiment.
pub const DAYS: u64 = 4 * STEP_DAYS;

/// After so many days what is set, and last what it returns to.
pub fn steps(now: f64) -> Vec<(u64, f64)> {
    let coins = |x: f64| (x * 100.0).round() / 100.0;
    let step =
        |(after, up): (u64, bool)| (after, coins(now * if up { 1.0 + BY } else { 1.0 - BY }));
    UP.into_iter().map(step).chain([(DAYS, now)]).collect()
}

/// The days with the steps that a plan made: `set` is the logarithm of what was set on a day of it over what stood before. As far
/// as money followed, that is their step. Nothing is marked before a week of each side, since weekdays would be taken for an
/// answer, nor where money hardly followed.
pub fn marked(mut days: Vec<Day>, set: impl Fn(&Day) -> Option<f64>) -> Vec<Day> {
    let spent = |d: &&Day| d.spend > 0.0;
    let sides = [true, false].map(|up| {
        let of = || {
            let days = days.iter().filter(spent);
            days.filter_map(|d| Some((set(d)?, d.spend))).filter(move |(set, _)| (*set > 0.0) == up)
        };
        let (n, set, spend) = of().fold((0, 0.0, 0.0), |s, d| (s.0 + 1, s.1 + d.0, s.2 + d.1));
        (n >= STEP_DAYS).then(|| (set / n as f64, spend / n as f64))
    });
    let [Some(up), Some(down)] = sides else { return days };
    let followed = (up.1 / down.1).ln() / (up.0 - down.0);
    if followed >= LEAST_FOLLOWED {
        for day in &mut days {
            // What is more than was set has come with demand.
            day.step = set(day).map(|set| set * followed.min(1.0));
        }
    }
    days
}

/// How far each day of an experiment follows the one before: as far as 23 of its 28 neighbours on one side tell.
const FOLLOW: f64 = 23.0 / 28.0;

/// The error of the elasticity that an experiment would leave on a campaign with so many conversions a day, whose days differ and
/// follow one another by so much.
pub fn would_leave(conversions_a_day: f64, dispersion: f64, follows: f64) -> f64 {
    let days = (DAYS / 2) as f64;
    let side = |money: f64| days * conversions_a_day * money.sqrt();
    let variance = dispersion.max(1.0) * (1.0 / side(1.0 + BY) + 1.0 / side(1.0 - BY));
    (variance * times_alike(FOLLOW, follows)).sqrt() / ((1.0 + BY) / (1.0 - BY)).ln()
}

/// What an experiment that leaves such an error will measure of an elasticity that is known so well: it errs itself.
pub fn will_measure(known: Prior, leaves: f64, confidence: f64) -> Interval {
    let half = normal_quantile(0.5 + confidence / 2.0) * known.deviation.hypot(leaves);
    Interval { low: known.mean - half, high: known.mean + half }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_ends_where_it_began() {
        assert_eq!(steps(50.0), [(0, 60.0), (7, 40.0), (21, 60.0), (28, 50.0)]);
    }

    #[test]
    fn days_are_marked_as_far_as_money_followed() {
        let of = |n: usize, up: f64| {
            let day = |i: usize| Day {
                weekday: crate::week::DAYS[i % 7],
                at: i as f64,
                spend: if i < 7 { up } else { 40.0 },
                conversions: 1.0,
                budget: None,
                step: None,
            };
            (0..n).map(day).collect::<Vec<Day>>()
        };
        let set = |d: &Day| (d.at < 14.0).then_some(if d.at < 7.0 { 0.2 } else { -0.2 });
        let steps = |days| marked(days, set).iter().map(|d| d.step).collect::<Vec<_>>();
        // In full, though money went further by itself.
        let all = steps(of(16, 70.0));
        assert_eq!(
            (all[0], all[6], all[7], all[13]),
            (Some(0.2), Some(0.2), Some(-0.2), Some(-0.2))
        );
        assert_eq!(all[14..], [None, None]);
        // By half: e^0.2 times as much where e^0.4 times was set.
        let half = steps(of(16, 40.0 * f64::exp(0.2)));
        assert!(half[0].is_some_and(|s| (s - 0.1).abs() < 1e-12));
        assert!(steps(of(13, 70.0)).iter().all(Option::is_none), "six days down");
        assert!(steps(of(14, 42.0)).iter().all(Option::is_none), "money hardly followed");
    }

    /// 100 conversions a side with dispersion 1 leave about √(2 ÷ 100) ÷ ln 1.5 = 0.349.
    #[test]
    fn what_an_experiment_would_tell_is_known_before() {
        assert!((would_leave(100.0 / 14.0, 1.0, 0.0) - 0.349).abs() < 0.005);
        assert!(would_leave(100.0, 1.0, 0.0) < 0.1);
        // Days that follow one another by a half, in weeks: (1 + 0.41) ÷ (1 − 0.41) times the variance.
        let times = would_leave(100.0, 1.0, 0.5) / would_leave(100.0, 1.0, 0.0);
        assert!((times * times - 1.4107 / 0.5893).abs() < 0.01, "{times}");
    }
}
