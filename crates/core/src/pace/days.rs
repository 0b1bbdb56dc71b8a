//! The days of one campaign: a level that may grow, weekday shares and noise that carries over, each with what is not
//! known of it. A linear regression with errors of first-order autocorrelation and conjugate priors (A. Zellner, *An
//! Introduction to Bayesian Inference in Econometrics* (1971), chapters III and IV), autocorrelation and growth on a grid.

use std::collections::BTreeMap;

use nalgebra::{Cholesky, DMatrix, DVector, Dyn};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{ChiSquared, Distribution, StandardNormal};

pub(super) const DRAWS: usize = 1000;
const SEED: u64 = 15;
/// Autocorrelations that are weighed against each other.
const CARRIED: [f64; 6] = [0.0, 0.2, 0.4, 0.6, 0.75, 0.9];
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
/// A weekday's share before anything is seen, one standard deviation.
const SHARE: f64 = 0.3;
/// Noise of a day before anything is seen, as a share of the level, and the days that this belief weighs.
const NOISE: (f64, f64) = (0.1, 1.0);
/// Level and weekdays.
const WIDTH: usize = 1 + 7;
/// Whole weeks from which weekdays are told apart.
const WEEKS: usize = 2;

/// A fitted campaign.
pub(super) struct Days {
    /// Each weekday's usual spend, Monday first; 0 where it spends nothing.
    usual: [f64; 7],
    /// None: too few days, anything up to double.
    model: Option<Model>,
}

struct Model {
    by_weekday: bool,
    /// With their weights, which sum to 1.
    fits: Vec<(f64, Fit)>,
    /// Age and weekday of the last day that the weekdays let spend, and what it was over its usual.
    latest: (usize, usize, f64),
    /// Innovations by age, of the likeliest fit, standardised.
    shocks: Vec<(usize, f64)>,
}

struct Fit {
    carried: f64,
    growth: f64,
    mean: DVector<f64>,
    precision: Cholesky<f64, Dyn>,
    freedom: f64,
    scale: f64,
}

/// The row of a day: the level, and its weekday against the usual.
fn row(by_weekday: bool, weekday: usize) -> DVector<f64> {
    let mut row = vec![1.0];
    if by_weekday {
        row.extend((0..7).map(|i| if i == weekday { 1.0 } else { 0.0 }));
    }
    DVector::from_vec(row)
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
            let row = row(model.by_weekday, i);
            let over: f64 = model.fits.iter().map(|(w, f)| w * f.mean.dot(&row)).sum();
            self.usual[i] * over.max(0.0)
        })
    }

    /// What each day ahead may spend, `DRAWS` times, seeded by `which` campaign it is; of the noise, a share `common`
    /// of the variance is every campaign's.
    pub(super) fn draw(&self, which: u64, common: f64, ahead: &[usize]) -> Vec<Vec<f64>> {
        let mut own = ChaCha8Rng::seed_from_u64(SEED);
        own.set_stream(which + 1);
        let mut all = ChaCha8Rng::seed_from_u64(SEED);
        let mut draws = vec![Vec::with_capacity(DRAWS); ahead.len()];
        for draw in 0..DRAWS {
            // Everybody takes the same of what is common to a draw, however much it needs.
            all.set_stream(draw as u64);
            all.set_word_pos(0);
            let at = all.random::<f64>();
            let mut normal = || -> f64 {
                let (a, b): (f64, f64) =
                    (StandardNormal.sample(&mut all), StandardNormal.sample(&mut own));
                common.sqrt() * a + (1.0 - common).sqrt() * b
            };
            let errors: [f64; WIDTH] = std::array::from_fn(|_| normal());
            let shocks: Vec<f64> = ahead.iter().map(|_| normal()).collect();
            let over = match &self.model {
                Some(model) => model.draw(at, &mut all, &errors, &shocks, ahead),
                None => vec![own.random_range(0.0..2.0); ahead.len()],
            };
            for ((day, weekday), over) in draws.iter_mut().zip(ahead).zip(over) {
                day.push(self.usual[*weekday] * over.max(0.0));
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
        let width = if by_weekday { WIDTH } else { 1 };
        let belief = DVector::from_fn(width, |i, _| match i {
            0 => 1e-4,
            _ => (spread / SHARE).powi(2),
        });
        let centre = DVector::from_fn(width, |i, _| if i == 0 { 1.0 } else { 0.0 });
        let mut told = Vec::new();
        for (carried, (growth, believed)) in CARRIED.iter().flat_map(|c| GROWTH.map(|g| (*c, g))) {
            let rows: Vec<DVector<f64>> = seen
                .iter()
                .map(|(age, wd, _)| row(by_weekday, *wd) * grown(growth, -(*age as f64)))
                .collect();
            // Each day freed of what the one before it carries over.
            let freed = (0..rows.len()).map(|i| {
                let (k, variance) = match i.checked_sub(1).map(|p| seen[p].0 - seen[i].0) {
                    None => (0.0, 1.0 / (1.0 - carried * carried)),
                    Some(gap) => {
                        let k = carried.powi(gap as i32);
                        (k, (1.0 - k * k) / (1.0 - carried * carried))
                    }
                };
                let sd = variance.sqrt();
                let (x, z) = match i.checked_sub(1) {
                    Some(p) => (&rows[i] - &rows[p] * k, seen[i].2 - k * seen[p].2),
                    None => (rows[i].clone(), seen[i].2),
                };
                (x / sd, z / sd, sd)
            });
            let freed: Vec<(DVector<f64>, f64, f64)> = freed.collect();
            let mut precision = DMatrix::from_diagonal(&belief);
            let mut side = belief.component_mul(&centre);
            for (x, z, _) in &freed {
                precision += x * x.transpose();
                side += x * *z;
            }
            let precision = precision.cholesky()?;
            let mean = precision.solve(&side);
            let off = &mean - &centre;
            let left: Vec<f64> = freed.iter().map(|(x, z, _)| z - x.dot(&mean)).collect();
            let square = NOISE.1 * NOISE.0.powi(2)
                + left.iter().map(|e| e * e).sum::<f64>()
                + off.component_mul(&off).dot(&belief);
            let freedom = NOISE.1 + n;
            let evidence = f64::ln(believed)
                - precision.l().diagonal().map(f64::ln).sum()
                - freed.iter().map(|(_, _, sd)| sd.ln()).sum::<f64>()
                // A short series makes noise look less carried over than it is (M. Kendall, "Note on bias in the
                // estimation of autocorrelation", Biometrika 41 (1954)): this leans against it.
                - (1.0 - carried * carried).ln() / 2.0
                - freedom / 2.0 * square.ln();
            let sd = (square / freedom).sqrt();
            let shocks: Vec<(usize, f64)> =
                seen.iter().zip(&left).map(|(s, e)| (s.0, e / sd)).collect();
            told.push((
                evidence,
                Fit { carried, growth, mean, precision, freedom, scale: square },
                shocks,
            ));
        }
        let most = told.iter().map(|t| t.0).fold(f64::NEG_INFINITY, f64::max);
        let sum: f64 = told.iter().map(|t| (t.0 - most).exp()).sum();
        let shocks = told.iter().find(|t| t.0 >= most).map(|t| t.2.clone())?;
        let fits = told.into_iter().map(|t| ((t.0 - most).exp() / sum, t.1)).collect();
        Some(Self { by_weekday, fits, latest: *seen.last()?, shocks })
    }

    /// Each day ahead over its usual, once; `at` is uniform, `errors` and `shocks` are standard normal.
    fn draw(
        &self,
        mut at: f64,
        chance: &mut ChaCha8Rng,
        errors: &[f64; WIDTH],
        shocks: &[f64],
        ahead: &[usize],
    ) -> Vec<f64> {
        let fit = self
            .fits
            .iter()
            .find(|(w, _)| {
                at -= w;
                at < 0.0
            })
            .map_or(&self.fits[0].1, |(_, f)| f);
        let square = ChiSquared::new(fit.freedom).map_or(fit.freedom, |c| c.sample(chance));
        let sd = (fit.scale / square).sqrt();
        let free = DVector::from_column_slice(&errors[..fit.mean.len()]);
        let factor = fit.precision.l();
        let error = factor.tr_solve_lower_triangular(&free).unwrap_or_else(|| free.clone() * 0.0);
        let drawn = &fit.mean + error * sd;
        let (age, weekday, over) = self.latest;
        let missed =
            over - grown(fit.growth, -(age as f64)) * row(self.by_weekday, weekday).dot(&drawn);
        let mut noise = fit.carried.powi(age as i32) * missed;
        ahead
            .iter()
            .zip(shocks)
            .enumerate()
            .map(|(i, (weekday, shock))| {
                noise = fit.carried * noise + sd * shock;
                grown(fit.growth, (i + 1) as f64) * row(self.by_weekday, *weekday).dot(&drawn)
                    + noise
            })
            .collect()
    }
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
    // Over pairs of campaigns on the same day: the mean product of what was not expected of both.
    let (products, pairs) = by_age.values().fold((0.0, 0.0), |(p, n), (count, sum, squares)| {
        (p + sum * sum - squares, n + count * (count - 1.0))
    });
    if pairs > 0.0 { (products / pairs).clamp(0.0, 0.95) } else { 0.0 }
}
