//! Poisson regression with a log link: quasi-likelihood, with Gaussian priors on coefficients.
//!
//! Iteratively reweighted least squares (Nelder and Wedderburn, "Generalized linear models", Journal of the
//! Royal Statistical Society A 135 (1972) 370–384); with priors, the same steps find the mode of the posterior.

use nalgebra::{DMatrix, DVector};
use serde::{Deserialize, Serialize};

/// What is believed of a coefficient beforehand.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Prior {
    /// Its mean.
    pub mean: f64,
    /// Its standard deviation.
    pub deviation: f64,
}

/// A fitted regression.
#[derive(Clone, Debug)]
pub struct Regression {
    /// The coefficients, by column.
    pub coefficients: DVector<f64>,
    /// Their covariance, dispersion included.
    pub covariance: DMatrix<f64>,
    /// Variance over mean of the counts given the rates: 1 for Poisson, never taken for less.
    pub dispersion: f64,
    /// Fitted rates, by row.
    pub fitted: Vec<f64>,
    /// Residual deviance, not scaled.
    pub deviance: f64,
}

const MOST_STEPS: usize = 60;
const CLOSE: f64 = 1e-10;
/// Rates stay between these powers of e, so that no step runs away.
const REACH: f64 = 40.0;

/// Rows: what was counted, the columns that it is fitted to, of which the first is constant, and a known part of
/// the log mean.
#[derive(Clone, Debug)]
pub struct Rows<'a> {
    /// One row an observation.
    pub x: DMatrix<f64>,
    /// Counts.
    pub y: &'a [f64],
    /// What is added to the log mean; as long as `y`.
    pub offset: Vec<f64>,
    /// How many times as much rows err together than if each erred for itself: 1 where they don't follow one another.
    pub alike: f64,
}

impl<'a> Rows<'a> {
    /// With nothing known beforehand.
    pub fn new(x: DMatrix<f64>, y: &'a [f64]) -> Self {
        Self { x, y, offset: vec![0.0; y.len()], alike: 1.0 }
    }

    fn eta(&self, beta: &DVector<f64>) -> DVector<f64> {
        let mut eta = &self.x * beta;
        eta.iter_mut().zip(&self.offset).for_each(|(e, o)| *e = (*e + o).clamp(-REACH, REACH));
        eta
    }

    fn rates(&self, beta: &DVector<f64>) -> DVector<f64> {
        self.eta(beta).map(f64::exp)
    }
}

/// Fits counts. Absent where nothing was counted, where there
/// are no more rows than columns, or where the columns do not tell the coefficients apart.
pub fn poisson(rows: &Rows, priors: &[Option<Prior>]) -> Option<Regression> {
    let (x, y) = (&rows.x, rows.y);
    let total: f64 = y.iter().sum();
    let lengths = x.nrows() == y.len() && rows.offset.len() == y.len();
    if total <= 0.0 || !lengths || x.nrows() <= x.ncols() {
        return None;
    }
    let mut dispersion = 1.0;
    let mut beta = start(rows, total / y.len() as f64, priors);
    // The prior weighs against evidence that the dispersion weakens, and the other way round.
    for _ in 0..3 {
        beta = mode(rows, priors, dispersion * rows.alike, beta)?;
        dispersion = pearson(rows, &beta).max(1.0);
    }
    beta = mode(rows, priors, dispersion * rows.alike, beta)?;
    let rates = rows.rates(&beta);
    let covariance = information(x, &rates, priors, dispersion * rows.alike).try_inverse()?;
    let deviance = 2.0
        * y.iter()
            .zip(rates.iter())
            .map(|(y, m)| if *y > 0.0 { y * (y / m).ln() - (y - m) } else { *m })
            .sum::<f64>();
    let fitted = rates.iter().copied().collect();
    Some(Regression { coefficients: beta, covariance, dispersion, fitted, deviance })
}

fn start(rows: &Rows, mean: f64, priors: &[Option<Prior>]) -> DVector<f64> {
    let x = &rows.x;
    let mut beta =
        DVector::from_iterator(x.ncols(), priors.iter().map(|p| p.map_or(0.0, |p| p.mean)));
    let shift: f64 = (1..x.ncols()).map(|j| beta[j] * x.column(j).mean()).sum();
    let known = rows.offset.iter().sum::<f64>() / rows.offset.len() as f64;
    beta[0] = mean.ln() - shift - known;
    beta
}

fn precision(p: Option<&Prior>) -> f64 {
    p.map_or(0.0, |p| 1.0 / (p.deviation * p.deviation))
}

fn information(
    x: &DMatrix<f64>,
    rates: &DVector<f64>,
    priors: &[Option<Prior>],
    dispersion: f64,
) -> DMatrix<f64> {
    let mut weighted = x.clone();
    for (i, mut row) in weighted.row_iter_mut().enumerate() {
        row *= rates[i] / dispersion;
    }
    let mut info = x.transpose() * weighted;
    for (a, prior) in priors.iter().enumerate() {
        info[(a, a)] += precision(prior.as_ref());
    }
    info
}

fn objective(rows: &Rows, priors: &[Option<Prior>], dispersion: f64, beta: &DVector<f64>) -> f64 {
    let eta = rows.eta(beta);
    let likelihood: f64 = rows.y.iter().zip(eta.iter()).map(|(y, e)| y * e - e.exp()).sum();
    let belief: f64 = priors
        .iter()
        .zip(beta.iter())
        .filter_map(|(p, b)| p.map(|p| ((b - p.mean) / p.deviation).powi(2)))
        .sum();
    likelihood / dispersion - 0.5 * belief
}

/// Newton's steps, halved where they overshoot.
fn mode(
    rows: &Rows,
    priors: &[Option<Prior>],
    dispersion: f64,
    mut beta: DVector<f64>,
) -> Option<DVector<f64>> {
    let counts = DVector::from_column_slice(rows.y);
    let mut reached = objective(rows, priors, dispersion, &beta);
    for _ in 0..MOST_STEPS {
        let rates = rows.rates(&beta);
        let mut gradient = rows.x.tr_mul(&(&counts - &rates)) / dispersion;
        for (j, p) in priors.iter().enumerate() {
            gradient[j] -= p.map_or(0.0, |prior| (beta[j] - prior.mean) * precision(p.as_ref()));
        }
        let step = information(&rows.x, &rates, priors, dispersion).cholesky()?.solve(&gradient);
        let mut scale = 1.0;
        let better = loop {
            let next = &beta + scale * &step;
            let value = objective(rows, priors, dispersion, &next);
            if value >= reached - 1e-12 * reached.abs() {
                break Some((next, value));
            }
            scale /= 2.0;
            if scale < 1e-6 {
                break None;
            }
        };
        let Some((next, value)) = better else { break };
        beta = next;
        reached = value;
        if step.amax() * scale < CLOSE {
            break;
        }
    }
    beta.iter().all(|b| b.is_finite()).then_some(beta)
}

/// Pearson's estimate of the dispersion.
fn pearson(rows: &Rows, beta: &DVector<f64>) -> f64 {
    let rates = rows.rates(beta);
    let chi: f64 =
        rows.y.iter().zip(rates.iter()).map(|(y, m)| (y - m).powi(2) / m.max(1e-9)).sum();
    chi / (rows.x.nrows() - rows.x.ncols()) as f64
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A. J. Dobson, *An Introduction to Generalized Linear Models*, 1990, p. 93: three outcomes by three
    /// treatments; coefficients and deviance as in the handbook's maths, section 10.
    #[test]
    fn dobsons_trial() {
        let counts = [18.0, 17.0, 15.0, 20.0, 10.0, 20.0, 25.0, 13.0, 12.0];
        let x = DMatrix::from_fn(9, 5, |i, j| {
            let (outcome, treatment) = (i % 3, i / 3);
            f64::from(j == 0 || (j < 3 && outcome == j) || (j >= 3 && treatment == j - 2))
        });
        let fit = poisson(&Rows::new(x, &counts), &[None; 5]).unwrap();
        for (ours, theirs) in fit.coefficients.iter().zip([3.0445, -0.4543, -0.2930, 0.0, 0.0]) {
            assert!((ours - theirs).abs() < 5e-5, "{ours} is not {theirs}");
        }
        assert!((fit.deviance - 5.1291).abs() < 5e-5, "{}", fit.deviance);
        // Standard error of the constant with dispersion 5.17 / 4: from R's summary with family poisson, 0.1709,
        // times the square root; from memory.
        let error = fit.covariance[(0, 0)].sqrt() / fit.dispersion.sqrt();
        assert!((error - 0.1709).abs() < 5e-5, "{error}");
    }

    #[test]
    fn a_strong_prior_has_its_way_and_a_weak_one_does_not() {
        let x = DMatrix::from_fn(40, 2, |i, j| if j == 0 { 1.0 } else { (i % 8) as f64 / 8.0 });
        let y: Vec<f64> = (0..40).map(|i| (2.0 + f64::from(i % 8) / 8.0).exp()).collect();
        let slope = |deviation: f64| {
            let prior = Some(Prior { mean: 0.0, deviation });
            poisson(&Rows::new(x.clone(), &y), &[None, prior]).unwrap().coefficients[1]
        };
        let free = poisson(&Rows::new(x.clone(), &y), &[None; 2]).unwrap().coefficients[1];
        assert!((free - 1.0).abs() < 1e-6 && (slope(100.0) - free).abs() < 1e-4);
        assert!(slope(0.001).abs() < 0.01 && slope(0.3) < free && slope(0.3) > 0.1);
    }

    #[test]
    fn an_offset_is_a_known_part_of_the_rate() {
        let x = DMatrix::from_element(6, 1, 1.0);
        let y = [4.0, 6.0, 5.0, 20.0, 21.0, 19.0];
        let exposure = [1.0, 1.0, 1.0, 4.0, 4.0, 4.0].map(f64::ln);
        let rows = Rows { offset: exposure.to_vec(), ..Rows::new(x, &y) };
        let fit = poisson(&rows, &[None]).unwrap();
        // Counts over exposure: 75 ÷ 15.
        assert!((fit.coefficients[0] - 5f64.ln()).abs() < 1e-9);
    }

    #[test]
    fn what_cannot_be_fitted_is_absent() {
        let fit = |n: usize, p: usize, y: &[f64]| {
            poisson(&Rows::new(DMatrix::from_element(n, p, 1.0), y), &vec![None; p])
        };
        assert!(fit(3, 1, &[0.0; 3]).is_none(), "nothing counted");
        assert!(fit(3, 1, &[1.0; 2]).is_none(), "lengths differ");
        assert!(fit(5, 2, &[1.0; 5]).is_none(), "the same column twice");
        assert!(fit(2, 2, &[1.0; 2]).is_none(), "as many columns as rows");
    }
}
