//! On which day something broke (C8): A. N. Pettitt, "A non-parametric approach to the change-point problem",
//! Applied Statistics 28 (1979) 126–135. Ranks only, so that a wild day is one day.
//!
//! ```
//! use tiller_core::change_point::change_point;
//! let series = [3.0, 4.0, 3.5, 3.2, 3.9, 9.0, 8.5, 9.2, 8.8, 9.1];
//! let found = change_point(&series).unwrap();
//! assert_eq!((found.at, found.up), (5, true));
//! assert!(found.p < 0.15);
//! ```

use chrono::{Datelike, NaiveDate};

/// Fewer values of each weekday tell nothing of it.
const OF_WEEKDAY: usize = 4;
/// The likeness of neighbours in so short a series is found too small, the more so around a break that was looked for; by
/// simulation (`core/tests/coverage/break_days.rs`) this makes up for it.
const FOUND_LESS: [f64; 2] = [3.0, 5.0];
/// More alike than that neighbours are not believed to be.
const MOST_ALIKE: f64 = 0.95;

/// Where a series breaks.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct ChangePoint {
    /// Index of the first value after the break.
    pub at: usize,
    /// How likely chance alone breaks a series of this length so clearly.
    pub p: f64,
    /// Whether values are higher after it.
    pub up: bool,
}

/// The most likely break of a series of unlike values; absent for fewer than four. Its `p` says whether to believe it.
pub fn change_point(values: &[f64]) -> Option<ChangePoint> {
    broken(values, |_, _| 0.0)
}

/// The most likely break of days that follow each other: what a weekday has of its own is taken out, and a break is believed
/// the less, the more days are like the ones before them. Pettitt's test takes them to be unlike.
pub fn break_of_days(days: &[(NaiveDate, f64)]) -> Option<ChangePoint> {
    broken(&without_weekdays(days), alike)
}

fn broken(values: &[f64], alike: impl Fn(&[f64], usize) -> f64) -> Option<ChangePoint> {
    let n = values.len();
    if n < 4 {
        return None;
    }
    let sign = |a: f64, b: f64| f64::from(i8::from(a > b) - i8::from(a < b));
    let ranks: Vec<f64> =
        values.iter().map(|a| values.iter().map(|b| sign(*a, *b)).sum::<f64>()).collect();
    let mut u = 0.0;
    let mut best = (0usize, 0.0f64);
    for (t, rank) in ranks[..n - 1].iter().enumerate() {
        u += rank;
        if u.abs() > best.1.abs() {
            best = (t + 1, u);
        }
    }
    // Of neighbours that are alike, so many tell as much as one.
    let alike = alike(&ranks, best.0);
    let (n, k) = (n as f64, best.1.abs());
    let worth = (n * n * n + n * n) * (1.0 + alike) / (1.0 - alike);
    let p = (2.0 * (-6.0 * k * k / worth).exp()).min(1.0);
    (k > 0.0).then_some(ChangePoint { at: best.0, p, up: best.1 < 0.0 })
}

/// How alike neighbours are on either side of a break: the autocorrelation of a first-order process.
fn alike(ranks: &[f64], at: usize) -> f64 {
    let mean = |of: &[f64]| of.iter().sum::<f64>() / of.len() as f64;
    let (before, after) = ranks.split_at(at);
    let rest: Vec<f64> = [before, after]
        .into_iter()
        .flat_map(|part| part.iter().map(move |r| r - mean(part)))
        .collect();
    let squares: f64 = rest.iter().map(|r| r * r).sum();
    if squares <= 0.0 {
        return 0.0;
    }
    let found = rest.windows(2).map(|pair| pair[0] * pair[1]).sum::<f64>() / squares;
    let [even, more] = FOUND_LESS;
    (found + (even + more * found) / ranks.len() as f64).clamp(0.0, MOST_ALIKE)
}

/// Values less what their weekday has of its own, by medians; as they are where there are too few of a weekday.
fn without_weekdays(days: &[(NaiveDate, f64)]) -> Vec<f64> {
    let median = |mut of: Vec<f64>| {
        of.sort_by(f64::total_cmp);
        let (low, high) = (of[(of.len() - 1) / 2], of[of.len() / 2]);
        f64::midpoint(low, high)
    };
    let own: Option<Vec<f64>> = (0..7)
        .map(|weekday| {
            let mine = days.iter().filter(|(d, _)| d.weekday().num_days_from_monday() == weekday);
            let mine: Vec<f64> = mine.map(|(_, v)| *v).collect();
            (mine.len() >= OF_WEEKDAY).then(|| median(mine))
        })
        .collect();
    let own = own.unwrap_or(vec![0.0; 7]);
    days.iter().map(|(d, v)| v - own[d.weekday().num_days_from_monday() as usize]).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Annual flow of the Nile at Aswan, 1871 to 1970, in 10⁸ m³ (G. W. Cobb, "The problem of the Nile",
    /// Biometrika 65 (1978) 243–251; typed from memory): Cobb puts its break after 1898.
    #[test]
    fn the_nile_broke_in_1898() {
        let flow = [
            1120, 1160, 963, 1210, 1160, 1160, 813, 1230, 1370, 1140, 995, 935, 1110, 994, 1020,
            960, 1180, 799, 958, 1140, 1100, 1210, 1150, 1250, 1260, 1220, 1030, 1100, 774, 840,
            874, 694, 940, 833, 701, 916, 692, 1020, 1050, 969, 831, 726, 456, 824, 702, 1120,
            1100, 832, 764, 821, 768, 845, 864, 862, 698, 845, 744, 796, 1040, 759, 781, 865, 845,
            944, 984, 897, 822, 1010, 771, 676, 649, 846, 812, 742, 801, 1040, 860, 874, 848, 890,
            744, 749, 838, 1050, 918, 986, 797, 923, 975, 815, 1020, 906, 901, 1170, 912, 746, 919,
            718, 714, 740,
        ];
        let flow: Vec<f64> = flow.into_iter().map(f64::from).collect();
        assert_eq!(flow.len(), 100);
        let found = change_point(&flow).unwrap();
        assert_eq!((found.at + 1871 - 1, found.up), (1898, false));
        assert!(found.p < 1e-5, "{}", found.p);
    }

    /// A step between weeks that are unlike by weekday: what is left of each day is its side of the step.
    #[test]
    fn weekdays_hide_no_step_and_make_none() {
        let from = NaiveDate::from_ymd_opt(2026, 9, 7).unwrap();
        let week = [9.0, 8.0, 8.5, 9.5, 7.0, 1.0, 0.5];
        let days = |step: f64| -> Vec<(NaiveDate, f64)> {
            let value = |n: usize| week[n % 7] + if n < 30 { 0.0 } else { step };
            (0..56).map(|n| (from + chrono::Days::new(n as u64), value(n))).collect()
        };
        assert_eq!(break_of_days(&days(0.0)), None);
        let found = break_of_days(&days(-0.3)).unwrap();
        assert_eq!((found.at, found.up), (30, false));
        assert!(found.p < 0.001, "{found:?}");
        // Too few of a weekday: taken as they are.
        assert!(break_of_days(&days(-0.3)[..20]).is_some());
    }

    #[test]
    fn a_step_is_found_where_it_is_and_none_where_there_is_none() {
        let step: Vec<f64> = (0..40).map(|i| if i < 25 { 1.0 } else { 2.0 }).collect();
        let found = change_point(&step).unwrap();
        assert!(found.at == 25 && found.up && found.p < 0.001);
        let wave: Vec<f64> = (0..40).map(|i| f64::from(i % 2)).collect();
        assert!(change_point(&wave).unwrap().p > 0.5);
        assert_eq!(change_point(&[1.0; 9]), None);
        assert_eq!(change_point(&[1.0, 2.0, 3.0]), None);
    }
}
