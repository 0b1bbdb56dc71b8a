//! A pooled budget among ad groups (P2, P7): whether each has had a fair test, which is best and how surely, and
//! what floors and ceilings do.
//!
//! ```
//! use tiller_core::pool::by_audience;
//! // 100 a day by the size of the audience, 10 at least for each.
//! assert_eq!(by_audience(100, &[9.0, 1.0], 10), Some(vec![90, 10]));
//! assert_eq!(by_audience(100, &[1.0, 1.0], 60), None, "more than there is");
//! ```

use crate::Price;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, Gamma};
use statrs::distribution::{ContinuousCDF, Normal};

use crate::evidence::Prior;
use crate::evidence::looking::score_for;
use crate::share_out::share_out;

/// One of a pool of alike ad groups may be called the best at some time in so many of ninety daily looks, on days that suit it.
const BY_CHANCE: f64 = 0.1;
/// A test is fair once so many targets have been spent (common practice, no source).
pub const FAIR_TARGETS: f64 = 3.0;
/// A member that got less than this share of an even split was starved.
const UNTRIED: f64 = 0.1;
/// A floor is set so that the test is over in about so many days.
const TEST_DAYS: f64 = 14.0;
/// Floors never take more of the pool than this: the rest goes on to whoever earns it.
const MOST_FLOORED: f64 = 0.5;
const DRAWS: usize = 10_000;
const SEED: u64 = 17;

/// An ad group in a pool.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Member {
    /// Money that it took of the pool in the window.
    pub spend: f64,
    /// Results that it brought: conversions, or value over the mean value of one.
    pub results: f64,
    /// The least a day that it gets.
    pub floor: Option<f64>,
    /// The most a day that it gets.
    pub ceiling: Option<f64>,
}

/// What to do about an ad group's floor.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Advice {
    /// Nothing.
    Leave,
    /// It has not had a fair test: give it at least so much a day.
    Floor(f64),
    /// The difference is decided: its floor keeps money from the best.
    Lift,
}

/// The days over which a pool is seen.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Seen {
    /// How many.
    pub days: u64,
    /// How much more they differ than chance alone lets them.
    pub dispersion: f64,
}

/// An ad group with its evidence.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Standing {
    /// Probability that no other brings more results for a unit of money.
    pub best: f64,
    /// Whether that is decided, however often one looks.
    pub won: bool,
    /// Whether it has spent enough to be judged.
    pub tested: bool,
    /// What to do about its floor.
    pub advice: Advice,
}

/// A pool's limits against its budget.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Conflict {
    /// Floors add up to so much more than the budget.
    FloorsOver(f64),
    /// Ceilings add up to so much less: it can't be spent.
    CeilingsUnder(f64),
}

/// The limits of a pool of so much a day; an ad group without a ceiling can take it all.
pub fn conflict(budget: f64, members: &[Member]) -> Option<Conflict> {
    let floors: f64 = members.iter().filter_map(|m| m.floor).sum();
    if floors > budget + 1e-6 {
        return Some(Conflict::FloorsOver(floors - budget));
    }
    let ceilings: Option<f64> = members.iter().map(|m| m.ceiling).sum();
    ceilings.filter(|c| *c < budget - 1e-6).map(|c| Conflict::CeilingsUnder(budget - c))
}

/// Probability that each brings the most results for a unit of money: Gamma posteriors from the pool's own
/// rate as a prior worth one result, 10,000 seeded draws.
pub fn probability_best(members: &[Member]) -> Vec<f64> {
    let (spend, results) =
        members.iter().fold((0.0, 0.0), |(s, r), m| (s + m.spend, r + m.results));
    if members.is_empty() || spend <= 0.0 || results <= 0.0 {
        return vec![1.0 / members.len().max(1) as f64; members.len()];
    }
    let prior = Prior { mean: results / spend, strength: 1.0 };
    let posterior = |m: &Member| {
        let rate = prior.strength / prior.mean + m.spend;
        // The arguments are above 0, so this always is one.
        Gamma::new(prior.strength + m.results, 1.0 / rate).ok()
    };
    let posteriors: Vec<Option<Gamma<f64>>> = members.iter().map(posterior).collect();
    let mut chance = ChaCha8Rng::seed_from_u64(SEED);
    let mut wins = vec![0_u32; members.len()];
    for _ in 0..DRAWS {
        let mut best = (0, f64::MIN);
        for (i, p) in posteriors.iter().enumerate() {
            let x = p.map_or(0.0, |p| p.sample(&mut chance));
            if x > best.1 {
                best = (i, x);
            }
        }
        wins[best.0] += 1;
    }
    wins.into_iter().map(|w| f64::from(w) / DRAWS as f64).collect()
}

/// From which probability on the best is decided, looked at every day over its last days. Of two, either may seem the better; of more,
/// each has to seem better than all others, and seldom does.
fn decided(days: u64) -> f64 {
    Normal::standard().cdf(score_for(BY_CHANCE / 2.0, days))
}

/// Judges a pool of so much a day whose results may cost `target` each. Few days decide little, many do.
pub fn judge(budget: f64, target: Price, seen: Seen, members: &[Member]) -> Vec<Standing> {
    let told = |m: &Member| Member {
        spend: m.spend / seen.dispersion,
        results: m.results / seen.dispersion,
        ..*m
    };
    let best = probability_best(&members.iter().map(told).collect::<Vec<_>>());
    let decided = decided(seen.days);
    let enough = FAIR_TARGETS * target.units();
    let won = |m: &Member, best: f64| best >= decided && m.spend >= enough;
    let is_decided = members.iter().zip(&best).any(|(m, best)| won(m, *best));
    let untested = members.iter().filter(|m| m.spend < enough).count();
    // Where an even split would have tested nobody, nobody was starved of a test.
    let even = members.iter().map(|m| m.spend).sum::<f64>() / members.len().max(1) as f64;
    let starved = |m: &Member| even >= enough && m.spend < UNTRIED * even;
    // So much a day that the test is over in two weeks, within half of the pool for all of them together.
    let fair = (enough / TEST_DAYS).min(MOST_FLOORED * budget / untested.max(1) as f64);
    members
        .iter()
        .zip(best)
        .map(|(m, best)| {
            let tested = m.spend >= enough;
            let floored = m.floor.unwrap_or(0.0);
            let won = won(m, best);
            let advice = if tested && floored > 0.0 && is_decided && !won {
                Advice::Lift
            } else if !tested && starved(m) && floored < 0.9 * fair && members.len() > 1 {
                Advice::Floor(fair)
            } else {
                Advice::Leave
            };
            Standing { best, won, tested, advice }
        })
        .collect()
}

/// A budget split in proportion to audience sizes with a minimum each, in whole steps with an exact total; absent
/// where the minimums are more than the budget (all in steps).
pub fn by_audience(budget: i64, sizes: &[f64], least: i64) -> Option<Vec<i64>> {
    let n = i64::try_from(sizes.len()).ok()?;
    if n == 0 || least < 0 || least.checked_mul(n)? > budget {
        return None;
    }
    Some(share_out(budget, sizes, &vec![(least, budget); sizes.len()]))
}

#[cfg(test)]
mod tests {
    use super::*;

    const SEEN: Seen = Seen { days: 28, dispersion: 1.0 };

    fn member(spend: f64, results: f64, floor: Option<f64>) -> Member {
        Member { spend, results, floor, ceiling: None }
    }

    #[test]
    fn the_starved_get_a_floor_and_the_tested_do_not() {
        let pool = [
            member(900.0, 40.0, None),
            member(500.0, 15.0, None),
            member(12.0, 0.0, None),
            member(8.0, 1.0, None),
        ];
        let s = judge(100.0, Price(30.0), SEEN, &pool);
        assert_eq!(s.iter().map(|s| s.tested).collect::<Vec<_>>(), [true, true, false, false]);
        assert_eq!((s[0].advice, s[2].advice), (Advice::Leave, Advice::Floor(90.0 / 14.0)));
        // A small pool floors half of itself at most.
        assert_eq!(judge(10.0, Price(30.0), SEEN, &pool)[3].advice, Advice::Floor(2.5));
        // Where nobody has been tested, or one merely got less, nobody was starved.
        let even = [member(60.0, 2.0, None), member(20.0, 1.0, None)];
        assert!(judge(100.0, Price(30.0), SEEN, &even).iter().all(|s| s.advice == Advice::Leave));
    }

    #[test]
    fn a_floor_is_lifted_once_another_has_won() {
        let won = [member(900.0, 60.0, None), member(600.0, 12.0, Some(10.0))];
        let s = judge(100.0, Price(30.0), SEEN, &won);
        assert!(s[0].won && !s[1].won && s[1].advice == Advice::Lift, "{s:?}");
        let open = [member(900.0, 30.0, None), member(600.0, 18.0, Some(10.0))];
        assert_eq!(judge(100.0, Price(30.0), SEEN, &open)[1].advice, Advice::Leave);
    }

    /// Two alike are each best half of the time; with one result to two at the same money the posteriors are
    /// Gamma(1 + c, …): P(X > Y) for shapes 3 and 2 is I½(2, 3) = 11/16 (beta function, by hand).
    #[test]
    fn probabilities_are_those_of_the_posteriors() {
        let p = probability_best(&[member(100.0, 5.0, None), member(100.0, 5.0, None)]);
        assert!((p[0] - 0.5).abs() < 0.02 && (p[0] + p[1] - 1.0).abs() < 1e-12, "{p:?}");
        let p = probability_best(&[member(100.0, 2.0, None), member(100.0, 1.0, None)]);
        assert!((p[0] - 11.0 / 16.0).abs() < 0.015, "{p:?}");
        assert_eq!(probability_best(&[member(0.0, 0.0, None); 4]), [0.25; 4]);
    }

    #[test]
    fn limits_are_held_against_the_budget() {
        let with = |floor, ceiling| Member { floor, ceiling, ..member(1.0, 1.0, None) };
        let pool = [with(Some(30.0), Some(40.0)), with(Some(25.0), Some(40.0))];
        assert_eq!(conflict(50.0, &pool), Some(Conflict::FloorsOver(5.0)));
        assert_eq!(conflict(100.0, &pool), Some(Conflict::CeilingsUnder(20.0)));
        assert_eq!(conflict(60.0, &pool), None);
        assert_eq!(conflict(100.0, &[pool[0], with(None, None)]), None);
    }

    #[test]
    fn audiences_share_with_a_minimum_each() {
        assert_eq!(by_audience(10_000, &[600.0, 300.0, 100.0], 0).unwrap(), [6000, 3000, 1000]);
        let floored = by_audience(10_000, &[9_900.0, 99.0, 1.0], 500).unwrap();
        assert_eq!((floored.iter().sum::<i64>(), floored[2]), (10_000, 500));
        assert_eq!(by_audience(100, &[1.0, 1.0], 60), None);
    }
}
