//! Conversion lag (M4): what share of a day's conversions has been reported by now, and how many will be.
//!
//! Chain ladder on the run-off triangle of conversions by click day and age, volume-weighted, with the
//! standard error of T. Mack, "Distribution-free calculation of the standard error of chain ladder reserve
//! estimates", ASTIN Bulletin 23 (1993) 213–225.
//!
//! ```
//! use tiller_core::lag::{Open, RunOff};
//! // Of each click day two of three conversions come on the day, the third on the next.
//! let days = vec![vec![20.0, 10.0], vec![40.0, 20.0], vec![30.0, 15.0], vec![10.0]];
//! let run_off = RunOff::fit(&days, 1).unwrap();
//! assert!((run_off.maturity(0) - 2.0 / 3.0).abs() < 1e-12);
//! let open = run_off.complete(&[Open { age: 0, reported: 10.0 }]);
//! assert!((open.conversions - 15.0).abs() < 1e-9);
//! ```

use crate::evidence::{Interval, normal_quantile};

/// A day is settled from this maturity on.
pub const SETTLED: f64 = 0.95;

/// A triangle with fewer conversions is too thin: it borrows the account's factors.
pub const LEAST_CONVERSIONS: f64 = 50.0;

/// How conversions run off, from one triangle.
#[derive(Clone, Debug, PartialEq)]
pub struct RunOff {
    /// What the count up to age `k` is multiplied with to reach that of age `k + 1`.
    factors: Vec<f64>,
    /// Mack's variance parameter of each factor.
    variances: Vec<f64>,
    /// Counts up to age `k` of the click days that have been seen at age `k + 1`: what a factor rests on.
    volumes: Vec<f64>,
    /// All conversions in the triangle.
    pub conversions: f64,
}

/// Conversions to come for some click days, all together.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Completed {
    /// Reported so far.
    pub reported: f64,
    /// Estimate of what they will be.
    pub conversions: f64,
    /// Standard error of the estimate.
    pub error: f64,
}

impl Completed {
    /// Interval at a confidence, never below what has been reported.
    pub fn interval(&self, confidence: f64) -> Interval {
        let reach = normal_quantile(0.5 + confidence / 2.0) * self.error;
        Interval {
            low: (self.conversions - reach).max(self.reported),
            high: self.conversions + reach,
        }
    }
}

/// A click day as it stands: its age in days, and the conversions reported up to that age.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Open {
    /// Days since the click.
    pub age: usize,
    /// Conversions reported so far.
    pub reported: f64,
}

impl RunOff {
    /// From click days, each with its conversions by age (not cumulated) from 0 up to the age it has
    /// reached. `length` is the age after which nothing comes any more. Absent without conversions.
    pub fn fit(days: &[Vec<f64>], length: usize) -> Option<Self> {
        let cumulative: Vec<Vec<f64>> = days
            .iter()
            .map(|by_age| {
                let mut sum = 0.0;
                let so_far = by_age.iter().take(length + 1).map(|c| {
                    sum += c;
                    sum
                });
                so_far.collect()
            })
            .collect();
        let conversions: f64 = cumulative.iter().filter_map(|c| c.last()).sum();
        if conversions <= 0.0 {
            return None;
        }
        let (mut factors, mut variances, mut volumes) = (vec![], vec![], vec![]);
        for k in 0..length {
            let seen = || cumulative.iter().filter(|c| c.len() > k + 1);
            let volume: f64 = seen().map(|c| c[k]).sum();
            let next: f64 = seen().map(|c| c[k + 1]).sum();
            let factor = if volume > 0.0 { next / volume } else { 1.0 };
            let used = seen().filter(|c| c[k] > 0.0).count();
            let spread: f64 = seen()
                .filter(|c| c[k] > 0.0)
                .map(|c| c[k] * (c[k + 1] / c[k] - factor).powi(2))
                .sum();
            variances.push(if used > 1 {
                spread / (used - 1) as f64
            } else {
                // Mack's choice where one click day alone has been seen: no more than the two before.
                match variances[..] {
                    [.., b, a] if b > 0.0 => f64::min(a * a / b, f64::min(a, b)),
                    [.., a] => a,
                    [] => 0.0,
                }
            });
            factors.push(factor);
            volumes.push(volume);
        }
        Some(Self { factors, variances, volumes, conversions })
    }

    /// The age after which nothing comes any more.
    pub fn length(&self) -> usize {
        self.factors.len()
    }

    /// The development factors, from age to age.
    pub fn factors(&self) -> &[f64] {
        &self.factors
    }

    /// Share of a click day's conversions that has been reported at an age.
    pub fn maturity(&self, age: usize) -> f64 {
        1.0 / self.factors.iter().skip(age).product::<f64>()
    }

    /// The first age at which a day is settled.
    pub fn settled_age(&self) -> usize {
        (0..self.length()).find(|age| self.maturity(*age) >= SETTLED).unwrap_or(self.length())
    }

    /// What some click days will have brought in the end.
    pub fn complete(&self, days: &[Open]) -> Completed {
        let end = self.length();
        let age = |d: &Open| d.age.min(end);
        let ultimates: Vec<f64> = days.iter().map(|d| d.reported / self.maturity(d.age)).collect();
        // σ²ₖ ÷ fₖ², which every term shares.
        let relative = |k: usize| self.variances[k] / (self.factors[k] * self.factors[k]);
        // What is to come varies by itself …
        let process: f64 = days
            .iter()
            .zip(&ultimates)
            .filter(|(d, _)| d.reported > 0.0)
            .map(|(d, ultimate)| {
                let mut count = d.reported;
                let mut sum = 0.0;
                for k in age(d)..end {
                    sum += relative(k) / count;
                    count *= self.factors[k];
                }
                ultimate * ultimate * sum
            })
            .sum();
        // … and the factors are known only so well, which moves all days together.
        let parameters: f64 = (0..end)
            .filter(|k| self.volumes[*k] > 0.0)
            .map(|k| {
                let moved: f64 =
                    days.iter().zip(&ultimates).filter(|(d, _)| age(d) <= k).map(|(_, u)| u).sum();
                moved * moved * relative(k) / self.volumes[k]
            })
            .sum();
        Completed {
            reported: days.iter().map(|d| d.reported).sum(),
            conversions: ultimates.iter().sum(),
            error: (process + parameters).sqrt(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// G. C. Taylor, F. R. Ashe, "Second moments of estimates of outstanding claims", Journal of
    /// Econometrics 23 (1983), as increments; typed from memory, and told right by the factors.
    fn taylor_ashe() -> Vec<Vec<f64>> {
        [
            &[
                357_848, 766_940, 610_542, 482_940, 527_326, 574_398, 146_342, 139_950, 227_229,
                67_948,
            ][..],
            &[352_118, 884_021, 933_894, 1_183_289, 445_745, 320_996, 527_804, 266_172, 425_046],
            &[290_507, 1_001_799, 926_219, 1_016_654, 750_816, 146_923, 495_992, 280_405],
            &[310_608, 1_108_250, 776_189, 1_562_400, 272_482, 352_053, 206_286],
            &[443_160, 693_190, 991_983, 769_488, 504_851, 470_639],
            &[396_132, 937_085, 847_498, 805_037, 705_960],
            &[440_832, 847_631, 1_131_398, 1_063_269],
            &[359_480, 1_061_648, 1_443_370],
            &[376_686, 986_608],
            &[344_014],
        ]
        .iter()
        .map(|row| row.iter().map(|c| f64::from(*c)).collect())
        .collect()
    }

    fn open(triangle: &[Vec<f64>]) -> Vec<Open> {
        triangle.iter().map(|row| Open { age: row.len() - 1, reported: row.iter().sum() }).collect()
    }

    /// Factors and total reserve as in the handbook's maths, section 11; standard errors as in Mack (1993),
    /// table 5, from memory.
    #[test]
    fn the_taylor_ashe_triangle() {
        let triangle = taylor_ashe();
        let run_off = RunOff::fit(&triangle, 9).unwrap();
        let factors = [3.4906, 1.7473, 1.4574, 1.1739, 1.1038, 1.0863, 1.0539, 1.0766, 1.0177];
        for (ours, theirs) in run_off.factors().iter().zip(factors) {
            assert!((ours - theirs).abs() < 5e-5, "{ours} is not {theirs}");
        }
        let days = open(&triangle);
        let all = run_off.complete(&days);
        assert!((all.conversions - all.reported - 18_680_856.0).abs() < 1.0, "{all:?}");
        assert!((all.error - 2_447_095.0).abs() < 1.0, "{}", all.error);
        let one = run_off.complete(&days[1..2]);
        assert!((one.error - 75_535.0).abs() < 1.0, "{}", one.error);
        let last = run_off.complete(&days[9..]);
        assert!((last.error - 1_363_155.0).abs() < 1.0, "{}", last.error);
    }

    #[test]
    fn maturity_grows_to_the_whole() {
        let run_off = RunOff::fit(&vec![vec![6.0, 3.0, 1.0]; 8], 2).unwrap();
        let ages: Vec<f64> = (0..4).map(|a| run_off.maturity(a)).collect();
        assert!((ages[0] - 0.6).abs() < 1e-12 && (ages[1] - 0.9).abs() < 1e-12);
        assert_eq!(&ages[2..], [1.0, 1.0]);
        assert_eq!(run_off.settled_age(), 2);
        let one = run_off.complete(&[Open { age: 0, reported: 12.0 }]);
        assert!((one.conversions - 20.0).abs() < 1e-9 && one.error < 1e-9, "{one:?}");
        assert_eq!(RunOff::fit(&[vec![0.0, 0.0]], 2), None);
    }

    #[test]
    fn an_interval_never_falls_below_what_is_known() {
        let c = Completed { reported: 10.0, conversions: 11.0, error: 4.0 };
        let interval = c.interval(0.8);
        assert!((interval.low - 10.0).abs() < 1e-12 && (interval.high - 16.126).abs() < 1e-3);
    }
}
