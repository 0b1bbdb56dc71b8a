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

/// The most likely break of a series; absent for fewer than four values. Its `p` says whether to believe it.
pub fn change_point(values: &[f64]) -> Option<ChangePoint> {
    let n = values.len();
    if n < 4 {
        return None;
    }
    let sign = |a: f64, b: f64| f64::from(i8::from(a > b) - i8::from(a < b));
    let mut u = 0.0;
    let mut best = (0usize, 0.0f64);
    for t in 0..n - 1 {
        u += values.iter().map(|v| sign(values[t], *v)).sum::<f64>();
        if u.abs() > best.1.abs() {
            best = (t + 1, u);
        }
    }
    let (n, k) = (n as f64, best.1.abs());
    let p = (2.0 * (-6.0 * k * k / (n * n * n + n * n)).exp()).min(1.0);
    (k > 0.0).then_some(ChangePoint { at: best.0, p, up: best.1 < 0.0 })
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
