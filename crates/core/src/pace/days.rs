//! The days of one campaign: a level that may grow, weekday shares and noise that carries over, each with what is not
//! known of it. A linear regression with errors of first-order autocorrelation and conjugate priors (A. Zellner, *An
//! Introduction to Bayesian Inference in Econometrics* (1971), chapters III and IV), autocorrelation and growth on a grid.

use std::collections::BTreeMap;

use nalgebra::{SMatrix, SVector};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

use super::stray::Stray;

/// Draws of a small account. A large one needs fewer: its bounds are read from as many campaigns more.
const DRAWS: (usize, usize) = (200, 1000);
/// Campaigns times draws, at most.
const WORK: usize = 100_000;
const SEED: u64 = 15;
/// Sorts of noise that are weighed against each other, with what each is believed before anything is seen.
const NOISES: [(Noise, f64); 9] = [
    (Noise::Carried(0.0), 1.0),
    (Noise::Carried(0.2), 1.0),
    (Noise::Carried(0.4), 1.0),
    (Noise::Carried(0.6), 1.0),
    (Noise::Carried(0.75), 1.0),
    (Noise::Carried(0.9), 1.0),
    (Noise::Walks(0.1), 1.0),
    (Noise::Walks(0.2), 1.0),
    (Noise::Walks(0.4), 1.0),
];
/// Days from which a series tells how its days differ.
const TELLS: usize = 3;
/// What the level may grow by in a week, with what each is believed before anything is seen: mostly nothing.
const GROWTH: [(f64, f64); 9] = [
    (-0.12, 0.02),
    (-0.08, 0.05),
    (-0.05, 0.1),
    (-0.025, 0.15),
    (0.0, 0.36),
    (0.025, 0.15),
    (0.05, 0.1),
    (0.08, 0.05),
    (0.12, 0.02),
];
/// Seasons turn: what the level grows by in the weeks ahead differs from what it grew by lately, by one standard deviation of so much a
/// week. Two weeks hardly show it, a month does.
const TURNS: f64 = 0.025;
/// A weekday's share before anything is seen, one standard deviation.
const SHARE: f64 = 0.3;
/// Noise of a day before anything is seen, as a share of the level, and the days that this belief weighs.
const NOISE: (f64, f64) = (0.1, 1.0);
/// Level and weekdays.
const WIDTH: usize = 1 + 7;
/// So firmly weekdays that can't be told apart are believed to be like the others.
const PINNED: f64 = 1e12;
type Terms = SVector<f64, WIDTH>;
type Square = SMatrix<f64, WIDTH, WIDTH>;
/// Whole weeks from which weekdays are told apart.
const WEEKS: usize = 2;

/// How what is not usual of a day goes on.
#[derive(Clone, Copy)]
enum Noise {
    /// So much of it carries over to the next day.
    Carried(f64),
    /// None of it does, but the level walks: by so many of its standard deviations from day to day.
    Walks(f64),
}

/// A fitted campaign.
pub(super) struct Days {
    /// Each weekday's usual spend, Monday first; 0 where it spends nothing.
    usual: [f64; 7],
    /// None: too few days, anything up to double.
    model: Option<Model>,
}

struct Model {
    /// With their weights, which sum to 1.
    fits: Vec<(f64, Fit)>,
    /// Age and weekday of the last day that the weekdays let spend, and what it was over its usual.
    latest: (usize, usize, f64),
    /// Innovations by age, of the likeliest fit, standardised.
    shocks: Vec<(usize, f64)>,
}

struct Fit {
    noise: Noise,
    growth: f64,
    mean: Terms,
    /// The precision's lower factor.
    factor: Square,
    freedom: f64,
    scale: f64,
}

/// What all campaigns take alike in one draw.
pub(super) struct Common {
    /// Which of the fits, uniform.
    at: f64,
    /// Standard normal: of the scale, of the growth ahead, of the terms, of the days ahead.
    scale: f64,
    turns: f64,
    terms: [f64; WIDTH],
    shocks: Vec<f64>,
    /// Uniform: of how far the level strays; standard normal: of each step of that.
    strays: f64,
    steps: Vec<f64>,
}

/// So many draws do for so many campaigns.
pub(super) fn draws(campaigns: usize) -> usize {
    (WORK / campaigns.max(1)).clamp(DRAWS.0, DRAWS.1)
}

/// What is common to so many draws of so many days ahead.
pub(super) fn common(ahead: usize, draws: usize) -> Vec<Common> {
    let mut chance = ChaCha8Rng::seed_from_u64(SEED);
    (0..draws)
        .map(|_| Common {
            at: chance.random(),
            scale: StandardNormal.sample(&mut chance),
            turns: StandardNormal.sample(&mut chance),
            terms: std::array::from_fn(|_| StandardNormal.sample(&mut chance)),
            shocks: (0..ahead).map(|_| StandardNormal.sample(&mut chance)).collect(),
            strays: chance.random(),
            steps: (0..ahead).map(|_| StandardNormal.sample(&mut chance)).collect(),
        })
        .collect()
}

/// A chi-square of so many degrees of freedom from a standard normal (E. B. Wilson, M. M. Hilferty, "The distribution of
/// chi-square", PNAS 17 (1931)).
fn chi_square(freedom: f64, normal: f64) -> f64 {
    let part = 2.0 / (9.0 * freedom);
    freedom * (1.0 - part + normal * part.sqrt()).max(1e-3).powi(3)
}

/// What the level of a day is over that of the last day.
fn grown(growth: f64, days_ahead: f64) -> f64 {
    (growth * days_ahead / 7.0).exp()
}

impl Days {
    /// Of spend by day, the oldest first; `last` is the weekday of the last.
    pub(super) fn fit(days: &[f64], last: usize) -> Self {
        let weekday = |age: usize| (last + 7 - age % 7) % 7;
        let by_age = || days.iter().rev().copied().enumerate();
        let mean = days.iter().sum::<f64>() / days.len() as f64;
        let (mut sums, mut counts) = ([0.0; 7], [0.0; 7]);
        for (age, x) in by_age() {
            sums[weekday(age)] += x;
            counts[weekday(age)] += 1.0;
        }
        let idle = |i: usize| counts[i] > 0.0 && sums[i] == 0.0;
        let all_seen = days.len() >= 7;
        let busy = days.len() as f64
            - (0..7).filter(|i| all_seen && idle(*i)).map(|i| counts[i]).sum::<f64>();
        let level = if busy > 0.0 { mean * days.len() as f64 / busy } else { 0.0 };
        // Few weeks tell little of a weekday: it is drawn towards the others.
        let tells = days.len() / 7;
        let usual = std::array::from_fn(|i| match (all_seen && idle(i), tells >= WEEKS) {
            (true, _) => 0.0,
            (_, false) => level,
            (_, true) => (sums[i] + level) / (counts[i] + 1.0),
        });
        let seen: Vec<(usize, usize, f64)> = by_age()
            .map(|(age, x)| (age, weekday(age), x))
            .filter(|(_, wd, _)| usual[*wd] > 0.0)
            .map(|(age, wd, x)| (age, wd, x / usual[wd]))
            .rev()
            .collect();
        let model = (seen.len() >= TELLS).then(|| Model::fit(&seen, tells >= WEEKS)).flatten();
        Self { usual, model }
    }

    /// What each weekday is expected to spend now, Monday first.
    pub(super) fn by_weekday(&self) -> [f64; 7] {
        let Some(model) = &self.model else { return self.usual };
        std::array::from_fn(|i| {
            let over: f64 = model.fits.iter().map(|(w, f)| w * (f.mean[0] + f.mean[1 + i])).sum();
            self.usual[i] * over.max(0.0)
        })
    }

    /// What each day ahead may spend, a draw at a time, seeded by `which` campaign it is; of the noise and of what the level
    /// strays by, a share of the variance is every campaign's: that is `common`.
    pub(super) fn draw(
        &self,
        which: u64,
        share: f64,
        (stray, together): (Option<&Stray>, f64),
        common: &[Common],
        ahead: &[usize],
    ) -> Vec<Vec<f64>> {
        let mut own = ChaCha8Rng::seed_from_u64(SEED);
        own.set_stream(which + 1);
        let (of_all, of_own) = (share.sqrt(), (1.0 - share).sqrt());
        let mut draws = vec![Vec::with_capacity(common.len()); ahead.len()];
        let mut over = vec![0.0; ahead.len()];
        for all in common {
            let mut normal = |theirs: f64| -> f64 {
                let mine: f64 = StandardNormal.sample(&mut own);
                of_all * theirs + of_own * mine
            };
            match &self.model {
                Some(model) => model.draw(all, &mut normal, ahead, &mut over),
                None => over.fill(own.random_range(0.0..2.0)),
            }
            // The mean stays where it is.
            let step = stray.map_or(0.0, |s| s.step(all.strays));
            let (mut strayed, falls) = (0.0, step * step / 2.0);
            let each = draws.iter_mut().zip(ahead).zip(&over).zip(&all.steps);
            for (((day, weekday), over), theirs) in each {
                if step > 0.0 {
                    let mine: f64 = StandardNormal.sample(&mut own);
                    let normal = together.sqrt() * theirs + (1.0 - together).sqrt() * mine;
                    strayed += step * normal - falls;
                }
                day.push(self.usual[*weekday] * over.max(0.0) * f64::exp(strayed));
            }
        }
        draws
    }
}

impl Model {
    fn fit(seen: &[(usize, usize, f64)], by_weekday: bool) -> Option<Self> {
        let n = seen.len() as f64;
        let spread = {
            let mean = seen.iter().map(|s| s.2).sum::<f64>() / n;
            let square: f64 = seen.iter().map(|s| (s.2 - mean).powi(2)).sum();
            ((NOISE.0.powi(2) * NOISE.1 + square) / (NOISE.1 + n)).sqrt()
        };
        // Beliefs in units of the noise: hardly any of the level, some of weekdays.
        let of_weekday = if by_weekday { (spread / SHARE).powi(2) } else { PINNED };
        let belief = Terms::from_fn(|i, _| if i == 0 { 1e-4 } else { of_weekday });
        let centre = Terms::from_fn(|i, _| if i == 0 { 1.0 } else { 0.0 });
        let mut told = Vec::new();
        for ((noise, usual), (growth, believed)) in
            NOISES.iter().flat_map(|n| GROWTH.map(|g| (*n, g)))
        {
            let freed = match noise {
                Noise::Carried(carried) => freed(seen, carried, growth),
                Noise::Walks(step) => unwalked(seen, step, growth),
            };
            let mut precision = Square::from_diagonal(&belief);
            let mut side = belief.component_mul(&centre);
            for (x, z, _) in &freed {
                precision.syger(1.0, x, x, 1.0);
                side += x * *z;
            }
            let precision = precision.cholesky()?;
            let factor = precision.l();
            let mean = precision.solve(&side);
            let off = mean - centre;
            let left: Vec<f64> = freed.iter().map(|(x, z, _)| z - x.dot(&mean)).collect();
            let square = NOISE.1 * NOISE.0.powi(2)
                + left.iter().map(|e| e * e).sum::<f64>()
                + off.component_mul(&off).dot(&belief);
            let freedom = NOISE.1 + n;
            let evidence = f64::ln(believed * usual)
                - factor.diagonal().map(f64::ln).sum()
                - freed.iter().map(|(_, _, sd)| sd.ln()).sum::<f64>()
                // A short series makes noise look less carried over than it is (M. Kendall, "Note on bias in the
                // estimation of autocorrelation", Biometrika 41 (1954)): this leans against it.
                - match noise {
                    Noise::Carried(carried) => (1.0 - carried * carried).ln() / 2.0,
                    Noise::Walks(_) => 0.0,
                }
                - freedom / 2.0 * square.ln();
            let sd = (square / freedom).sqrt();
            let shocks: Vec<(usize, f64)> =
                seen.iter().zip(&left).map(|(s, e)| (s.0, e / sd)).collect();
            told.push((
                evidence,
                Fit { noise, growth, mean, factor, freedom, scale: square },
                shocks,
            ));
        }
        let most = told.iter().map(|t| t.0).fold(f64::NEG_INFINITY, f64::max);
        let sum: f64 = told.iter().map(|t| (t.0 - most).exp()).sum();
        let shocks = told.iter().find(|t| t.0 >= most).map(|t| t.2.clone())?;
        let fits = told.into_iter().map(|t| ((t.0 - most).exp() / sum, t.1)).collect();
        Some(Self { fits, latest: *seen.last()?, shocks })
    }

    /// Each day ahead over its usual, once, into `over`; `normal` adds what is the campaign's own to a standard normal.
    fn draw(
        &self,
        all: &Common,
        normal: &mut impl FnMut(f64) -> f64,
        ahead: &[usize],
        over: &mut [f64],
    ) {
        let mut at = all.at;
        let chosen = self.fits.iter().find(|(w, _)| {
            at -= w;
            at < 0.0
        });
        let fit = chosen.map_or(&self.fits[0].1, |(_, f)| f);
        let sd = (fit.scale / chi_square(fit.freedom, all.scale)).sqrt();
        let free = Terms::from_fn(|i, _| normal(all.terms[i]));
        let error = fit.factor.tr_solve_lower_triangular(&free).unwrap_or_default();
        let drawn = fit.mean + error * sd;
        let of = |weekday: usize| drawn[0] + drawn[1 + weekday];
        let (age, weekday, latest) = self.latest;
        let missed = latest - grown(fit.growth, -(age as f64)) * of(weekday);
        let growth = fit.growth + TURNS * normal(all.turns);
        let mut goes_on = match fit.noise {
            Noise::Carried(carried) => carried.powi(age as i32) * missed,
            Noise::Walks(_) => 0.0,
        };
        let days = over.iter_mut().zip(ahead).zip(&all.shocks).zip(&all.steps);
        for (day, (((over, weekday), shock), step)) in (1..).zip(days) {
            let shock = sd * normal(*shock);
            // Whichever way it turns, the mean stays where it is.
            let turned = TURNS * f64::from(day) / 7.0;
            let level = grown(growth, f64::from(day)) * f64::exp(-turned * turned / 2.0);
            *over = level * of(*weekday)
                + match fit.noise {
                    Noise::Carried(carried) => {
                        goes_on = carried * goes_on + shock;
                        goes_on
                    }
                    Noise::Walks(far) => {
                        goes_on += far * sd * normal(*step);
                        goes_on + shock
                    }
                };
        }
    }
}

/// A day's terms, what was seen of it, and its standard deviation, each freed of what other days tell of its noise.
type Freed = (Terms, f64, f64);

/// The level and its weekday, as a day of an age sees them.
fn terms(age: usize, weekday: usize, growth: f64) -> Terms {
    let mut x = Terms::zeros();
    let level = grown(growth, -(age as f64));
    (x[0], x[1 + weekday]) = (level, level);
    x
}

/// Each day freed of what the one before it carries over.
fn freed(seen: &[(usize, usize, f64)], carried: f64, growth: f64) -> Vec<Freed> {
    let of = |i: usize| {
        let (age, wd, z) = seen[i];
        let x = terms(age, wd, growth);
        let Some(before) = i.checked_sub(1).map(|p| seen[p]) else {
            let sd = (1.0 / (1.0 - carried * carried)).sqrt();
            return (x / sd, z / sd, sd);
        };
        let k = carried.powi((before.0 - age) as i32);
        let sd = ((1.0 - k * k) / (1.0 - carried * carried)).sqrt();
        ((x - terms(before.0, before.1, growth) * k) / sd, (z - k * before.2) / sd, sd)
    };
    (0..seen.len()).map(of).collect()
}

/// Each day freed of what the later ones tell of how far the level had walked from where it is on the last (R. E. Kalman, Journal of
/// Basic Engineering 82 (1960), from the last day backwards).
fn unwalked(seen: &[(usize, usize, f64)], step: f64, growth: f64) -> Vec<Freed> {
    let (mut walked, mut of_terms, mut of_seen) = (0.0, Terms::zeros(), 0.0);
    let mut later = 0;
    let mut all: Vec<Freed> = seen
        .iter()
        .rev()
        .map(|(age, wd, z)| {
            walked += step * step * (age - later) as f64;
            later = *age;
            let (x, z) = (terms(*age, *wd, growth) - of_terms, z - of_seen);
            let variance = walked + 1.0;
            let gain = walked / variance;
            of_terms += x * gain;
            of_seen += z * gain;
            walked -= gain * walked;
            let sd = f64::sqrt(variance);
            (x / sd, z / sd, sd)
        })
        .collect();
    all.reverse();
    all
}

/// The share of a day's noise that the campaigns have in common: from how much more their mean moves than it would if
/// each moved by itself.
pub(super) fn together(fits: &[Option<Days>]) -> f64 {
    let mut by_age: BTreeMap<usize, (f64, f64, f64)> = BTreeMap::new();
    for (age, shock) in
        fits.iter().flatten().filter_map(|f| f.model.as_ref()).flat_map(|m| &m.shocks)
    {
        let day = by_age.entry(*age).or_default();
        *day = (day.0 + 1.0, day.1 + shock, day.2 + shock * shock);
    }
    let (products, pairs) = products(by_age.values());
    if pairs > 0.0 { (products / pairs).clamp(0.0, 0.95) } else { 0.0 }
}

/// Over pairs of campaigns at the same time: the sum of the products of what was not expected of both, and how many pairs there are. Of
/// each time there is how many campaigns, their sum and that of their squares.
pub(super) fn products<'a>(times: impl Iterator<Item = &'a (f64, f64, f64)>) -> (f64, f64) {
    times.fold((0.0, 0.0), |(p, n), (count, sum, squares)| {
        (p + sum * sum - squares, n + count * (count - 1.0))
    })
}
