//! Keeping score: what was said with a range or a probability, against what came true.
//!
//! What campaigns have in common makes many statements of one evening come out alike, so that they tell less than as many of
//! different evenings: how much less, the evenings themselves tell.
//!
//! ```
//! use tiller_core::score::{Chance, Held, brier, reliability};
//! // Eight of ten ranges at 80% held on each of three evenings: as said.
//! let held = Held::of(0.8, &[(10, 8); 3]).unwrap();
//! assert_eq!((held.share(), held.off()), (0.8, None));
//! // Said with 20% and with 90%, each right as often as it was said.
//! let said = |evening, p, times| (0..10).map(move |n| Chance { evening, said: p, came: n < times });
//! let said: Vec<Chance> = said(0, 0.2, 2).chain(said(1, 0.9, 9)).collect();
//! assert_eq!(reliability(&said).len(), 2);
//! assert!(brier(&said).unwrap().skill().unwrap() > 0.45);
//! ```

use std::collections::BTreeMap;

use crate::evidence::{Interval, clopper_pearson};

/// What is said of the share that came true: the confidence of its range.
const CONFIDENCE: f64 = 0.95;
/// Steps in which probabilities are held against what came true.
const STEPS: usize = 10;
/// Evenings that the belief weighs that they have nothing in common.
const WEIGHT: f64 = 4.0;

/// What is said, and can be checked later.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    /// What a campaign will have spent by the end of the month: a range at 80%.
    MonthSpend,
    /// What the days that have not settled will have brought: a range at 80%.
    Completed,
    /// What a campaign will bring in the next days at what it spends, as a plan states it: a range at 80%.
    Results,
    /// The same at another budget, in the days that the change is judged by: a range at 80%.
    NewBudget,
    /// What an experiment will measure of an elasticity: a range at 80%.
    Measured,
    /// That a campaign's next days cost more than its target: a probability.
    OverTarget,
}

crate::words!(Kind: MonthSpend "month_spend", Completed "completed", Results "results", NewBudget "new_budget", Measured "measured", OverTarget "over_target");

#[cfg(feature = "database")]
crate::stored!(Kind);

/// How what was said misses what came.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Off {
    /// Less came true than was said: ranges too narrow, probabilities too high.
    TooSure,
    /// More came true.
    TooCareful,
}

fn off(said: f64, around: Interval) -> Option<Off> {
    match () {
        () if around.high < said => Some(Off::TooSure),
        () if around.low > said => Some(Off::TooCareful),
        () => None,
    }
}

/// How many times more evenings differ than if each statement came true by itself: each with what it is off by, and the variance that
/// is to be expected of that. Drawn toward 1 by four evenings, at least 1.
fn alike(evenings: impl Iterator<Item = (f64, f64)>) -> f64 {
    let (sum, n) = evenings
        .filter(|(_, variance)| *variance > 0.0)
        .fold((0.0, 0.0), |(sum, n), (by, variance)| (sum + by * by / variance, n + 1.0));
    ((sum + WEIGHT) / (n + WEIGHT)).max(1.0)
}

/// Ranges, and how many of them held what came.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Held {
    /// The share that should.
    pub level: f64,
    /// How many ranges.
    pub said: usize,
    /// How many held it.
    pub held: usize,
    /// The range of the share that held, at 95%, exact: for as many as they count for.
    pub around: Interval,
}

impl Held {
    /// Ranges at a level: of each evening how many were said, and how many of them held. Absent of none.
    pub fn of(level: f64, evenings: &[(usize, usize)]) -> Option<Self> {
        let (said, held) =
            evenings.iter().fold((0, 0), |(n, k), (said, held)| (n + said, k + held));
        let share = held as f64 / said as f64;
        let by = |(said, held): &(usize, usize)| {
            let said = *said as f64;
            (*held as f64 - said * share, said * share * (1.0 - share))
        };
        let alike = alike(evenings.iter().map(by));
        let around = clopper_pearson(held as f64 / alike, said as f64 / alike, CONFIDENCE)?;
        Some(Self { level, said, held, around })
    }

    /// The share that held.
    pub fn share(&self) -> f64 {
        self.held as f64 / self.said as f64
    }

    /// Whether they miss their level by more than so few of them do by chance.
    pub fn off(&self) -> Option<Off> {
        off(self.level, self.around)
    }
}

/// A probability that was said, and whether it came true.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Chance {
    /// The evening on which it was said, by any number.
    pub evening: i64,
    /// The probability.
    pub said: f64,
    /// Whether it came true.
    pub came: bool,
}

/// What was said with about the same probability.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Step {
    /// The step, from 0.
    pub nth: usize,
    /// The mean of what was said.
    pub said: f64,
    /// How often.
    pub times: usize,
    /// How often it came true.
    pub came: usize,
    /// The range of that share at 95%, exact: for as many as they count for.
    pub around: Interval,
}

impl Step {
    /// The share that came true.
    pub fn share(&self) -> f64 {
        self.came as f64 / self.times as f64
    }

    /// Whether it missed what was said by more than chance.
    pub fn off(&self) -> Option<Off> {
        off(self.said, self.around)
    }
}

/// Probabilities and whether each came true, in ten steps; steps of which nothing was said are left out.
pub fn reliability(said: &[Chance]) -> Vec<Step> {
    let mut evenings: BTreeMap<i64, (f64, f64)> = BTreeMap::new();
    let mut steps: [(f64, usize, usize); STEPS] = [(0.0, 0, 0); STEPS];
    for s in said {
        let came = usize::from(s.came);
        let evening = evenings.entry(s.evening).or_default();
        *evening = (evening.0 + came as f64 - s.said, evening.1 + s.said * (1.0 - s.said));
        let step = &mut steps[((s.said * STEPS as f64) as usize).min(STEPS - 1)];
        *step = (step.0 + s.said, step.1 + 1, step.2 + came);
    }
    let alike = alike(evenings.into_values());
    let step = |(nth, (sum, times, came)): (usize, (f64, usize, usize))| {
        let around = clopper_pearson(came as f64 / alike, times as f64 / alike, CONFIDENCE)?;
        Some(Step { nth, said: sum / times as f64, times, came, around })
    };
    steps.into_iter().enumerate().filter_map(step).collect()
}

/// Mean squared error of probabilities, taken apart: score = reliability − resolution + uncertainty (A. H. Murphy, "A new vector
/// partition of the probability score", Journal of Applied Meteorology 12 (1973)).
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Brier {
    /// The mean squared error; 0 is perfect.
    pub score: f64,
    /// How far what came true is from what was said; 0 is best.
    pub reliability: f64,
    /// How far it is from what comes true on average; more is better.
    pub resolution: f64,
    /// What is left to whoever always says that average.
    pub uncertainty: f64,
}

impl Brier {
    /// How much better than always saying the average: 1 is perfect, 0 no better; absent where all came out alike.
    pub fn skill(&self) -> Option<f64> {
        (self.uncertainty > 0.0).then(|| 1.0 - self.score / self.uncertainty)
    }
}

/// Of probabilities as they are said, in whole percents: then the parts add up exactly. Absent of none.
pub fn brier(said: &[Chance]) -> Option<Brier> {
    let mut alike: BTreeMap<i64, (f64, f64)> = BTreeMap::new();
    for s in said {
        let (times, came) = alike.entry((s.said * 100.0).round() as i64).or_default();
        *times += 1.0;
        *came += f64::from(u8::from(s.came));
    }
    let all = said.len() as f64;
    let average = alike.values().map(|(_, came)| came).sum::<f64>() / all;
    let uncertainty = average * (1.0 - average);
    let mut parts = Brier { score: 0.0, reliability: 0.0, resolution: 0.0, uncertainty };
    for (percent, (times, came)) in alike {
        let (p, share) = (percent as f64 / 100.0, came / times);
        parts.score += (came * (1.0 - p).powi(2) + (times - came) * p * p) / all;
        parts.reliability += times * (p - share).powi(2) / all;
        parts.resolution += times * (share - average).powi(2) / all;
    }
    (all > 0.0).then_some(parts)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    fn said(all: &[(f64, usize, usize)]) -> Vec<Chance> {
        let each = |(evening, (said, times, came)): (usize, &(f64, usize, usize))| {
            let (evening, said, came) = (evening as i64, *said, *came);
            (0..*times).map(move |n| Chance { evening, said, came: n < came })
        };
        all.iter().enumerate().flat_map(each).collect()
    }

    /// By hand: said with 0.1 four times (one came true) and with 0.9 six times (five did). The average is 0.6.
    #[test]
    fn murphys_parts_by_hand() {
        let said = said(&[(0.1, 4, 1), (0.9, 6, 5)]);
        let b = brier(&said).unwrap();
        assert!((b.score - (0.81 + 3.0 * 0.01 + 5.0 * 0.01 + 0.81) / 10.0).abs() < 1e-12);
        let share = 5.0 / 6.0;
        let reliability = 0.4 * 0.15_f64.powi(2) + 0.6 * (0.9_f64 - share).powi(2);
        let resolution = 0.4 * 0.35_f64.powi(2) + 0.6 * (share - 0.6).powi(2);
        assert!((b.reliability - reliability).abs() < 1e-12);
        assert!((b.resolution - resolution).abs() < 1e-12);
        assert!((b.uncertainty - 0.24).abs() < 1e-12);
        let steps: Vec<_> =
            super::reliability(&said).iter().map(|s| (s.nth, s.times, s.came)).collect();
        assert_eq!(steps, [(1, 4, 1), (9, 6, 5)]);
        assert_eq!(brier(&[]), None);
        assert_eq!(brier(&said[..1]).unwrap().skill(), None, "all came out alike");
    }

    /// 81 of 263 is between 0.2527 and 0.3676 (R. G. Newcombe, Statistics in Medicine 17 (1998), table I, method 5); one range that
    /// missed tells nothing.
    #[test]
    fn a_level_is_missed_beyond_chance_only() {
        let of = |level| Held::of(level, &[(263, 81)]).unwrap().off();
        assert_eq!((of(0.3676), of(0.368)), (None, Some(Off::TooSure)));
        assert_eq!((of(0.2528), of(0.2525)), (None, Some(Off::TooCareful)));
        assert_eq!(Held::of(0.8, &[(1, 0)]).unwrap().off(), None);
        assert_eq!(Held::of(0.8, &[(3, 0)]).unwrap().off(), Some(Off::TooSure));
        assert_eq!(Held::of(0.8, &[]), None);
    }

    /// Whole evenings that come out alike tell less: as many ranges, 40% of them held, by evenings or mixed.
    #[test]
    fn evenings_that_come_out_alike_count_for_less() {
        let mixed = Held::of(0.8, &[(10, 4); 10]).unwrap();
        let by_evenings = [(10, 0), (10, 10), (10, 0), (10, 0), (10, 10)];
        let alike = Held::of(0.8, &[by_evenings, by_evenings].concat()).unwrap();
        assert_eq!((mixed.share(), alike.share()), (0.4, 0.4));
        let wide = |h: Held| h.around.high - h.around.low;
        assert!(wide(alike) > 2.0 * wide(mixed), "{alike:?} {mixed:?}");
        assert_eq!(mixed.off(), Some(Off::TooSure));
    }

    /// Campaigns with weeks in common, each said with what it is: nominal, one step in twenty is off by chance.
    #[test]
    fn what_is_as_said_is_seldom_called_off() {
        let mut rng = ChaCha8Rng::seed_from_u64(19);
        let (mut steps, mut off) = (0, 0);
        for _ in 0..200 {
            let mut said = Vec::new();
            for evening in 0..12 {
                // Half of the campaigns go as the evening goes.
                let shared: f64 = rng.random();
                for n in 0..20 {
                    let p = 0.05 + 0.1 * f64::from(n / 2);
                    let own: f64 = rng.random();
                    let luck = if n % 2 == 0 { shared } else { own };
                    said.push(Chance { evening, said: p, came: luck < p });
                }
            }
            let all = reliability(&said);
            steps += all.len();
            off += all.iter().filter(|s| s.off().is_some()).count();
        }
        assert!(off * 100 <= steps * 6, "{off} of {steps}");
    }

    proptest! {
        /// The parts add up, and steps leave nothing out.
        #[test]
        fn the_parts_add_up(all in proptest::collection::vec((0i64..4, 0.0f64..=1.0, any::<bool>()), 1..80)) {
            let said: Vec<Chance> =
                all.into_iter().map(|(evening, said, came)| Chance { evening, said, came }).collect();
            let b = brier(&said).unwrap();
            prop_assert!((b.score - (b.reliability - b.resolution + b.uncertainty)).abs() < 1e-12);
            let steps = reliability(&said);
            prop_assert_eq!(steps.iter().map(|s| s.times).sum::<usize>(), said.len());
            prop_assert_eq!(steps.iter().map(|s| s.came).sum::<usize>(), said.iter().filter(|s| s.came).count());
            for s in steps {
                prop_assert!(s.around.contains(s.share()) && s.said >= s.nth as f64 / 10.0 - 1e-12);
            }
        }
    }
}
