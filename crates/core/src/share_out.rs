//! Proportional shares in whole steps with an exact total, by largest remainder.

/// Splits `total` steps over parts in proportion to `wanted` (≥ 0), each within its bounds.
/// The sum is exactly `total` if the bounds allow it, else as near as they do.
///
/// ```
/// # use tiller_core::share_out::share_out;
/// assert_eq!(share_out(10, &[1.0, 1.0, 1.0], &[(0, 10); 3]), [4, 3, 3]);
/// ```
pub fn share_out(total: i64, wanted: &[f64], bounds: &[(i64, i64)]) -> Vec<i64> {
    let sum: f64 = wanted.iter().sum();
    let exact: Vec<f64> =
        wanted
            .iter()
            .map(|w| {
                if sum > 0.0 { total as f64 * w / sum } else { total as f64 / wanted.len() as f64 }
            })
            .collect();
    round_to(total, &exact, bounds)
}

/// Rounds `exact` amounts (in steps) to whole steps within bounds so that they sum to `total`.
pub fn round_to(total: i64, exact: &[f64], bounds: &[(i64, i64)]) -> Vec<i64> {
    let mut whole: Vec<i64> = exact
        .iter()
        .zip(bounds)
        // A hair below a whole step is that step: solvers return 19.9999999.
        .map(|(x, &(low, high))| ((x + 1e-6).floor() as i64).clamp(low, high.max(low)))
        .collect();
    let mut missing = total - whole.iter().sum::<i64>();
    let mut order: Vec<usize> = (0..exact.len()).collect();
    let remainder = |i: &usize, whole: &[i64]| exact[*i] - whole[*i] as f64;
    while missing != 0 {
        let up = missing.signum();
        let room = |i: usize, whole: &[i64]| {
            if up > 0 { bounds[i].1 - whole[i] } else { whole[i] - bounds[i].0 }
        };
        order.sort_by(|a, b| {
            let key = |i| remainder(i, &whole) * up as f64;
            key(b).total_cmp(&key(a)).then(a.cmp(b))
        });
        let open: Vec<usize> = order.iter().copied().filter(|&i| room(i, &whole) > 0).collect();
        if open.is_empty() {
            break;
        }
        // One step each per round; where much is missing (bounds cut deep), more at once.
        let each = (missing.abs() / open.len() as i64).max(1);
        for i in open {
            if missing == 0 {
                break;
            }
            let take = each.min(room(i, &whole)).min(missing.abs());
            whole[i] += up * take;
            missing -= up * take;
        }
    }
    whole
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The largest-remainder (Hamilton) method; votes and seats as in the usual textbook example,
    /// figures from memory.
    #[test]
    fn textbook_apportionment() {
        let votes = [47_000.0, 16_000.0, 15_900.0, 12_000.0, 6_000.0, 3_100.0];
        assert_eq!(share_out(10, &votes, &[(0, 10); 6]), [5, 2, 1, 1, 1, 0]);
    }

    #[test]
    fn bounds_hold_and_the_total_is_exact() {
        let shares = share_out(100, &[1.0, 1.0, 98.0], &[(10, 100), (0, 100), (0, 50)]);
        assert_eq!(shares.iter().sum::<i64>(), 100);
        assert!(shares[0] >= 10 && shares[2] <= 50);
    }

    #[test]
    fn impossible_bounds_end_nearest() {
        assert_eq!(share_out(10, &[1.0], &[(0, 4)]), [4]);
        assert_eq!(share_out(1, &[1.0, 1.0], &[(2, 4), (2, 4)]), [2, 2]);
    }
}
