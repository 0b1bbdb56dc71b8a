//! Many comparisons at once: which of them may be believed when at most so large a share of what is believed shall
//! be chance.

/// Share of what is proposed that may be chance.
pub const FALSE_SHARE: f64 = 0.1;

/// Which p-values are discoveries at a false discovery rate: Y. Benjamini, Y. Hochberg, "Controlling the false
/// discovery rate", J. R. Statist. Soc. B 57 (1995) 289–300.
pub fn discoveries(p: &[f64], rate: f64) -> Vec<bool> {
    let mut order: Vec<usize> = (0..p.len()).collect();
    order.sort_by(|a, b| p[*a].total_cmp(&p[*b]));
    let n = p.len() as f64;
    let last = order.iter().enumerate().rev().find(|(k, i)| p[**i] <= rate * (*k as f64 + 1.0) / n);
    let limit = last.map(|(_, i)| p[*i]);
    p.iter().map(|p| limit.is_some_and(|limit| *p <= limit)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The example of Benjamini & Hochberg (1995), section 4.1: fifteen p-values of a study of thrombolysis, of
    /// which their procedure rejects the four smallest at 0.05.
    #[test]
    fn the_published_example() {
        let p = [
            0.0001, 0.0004, 0.0019, 0.0095, 0.0201, 0.0278, 0.0298, 0.0344, 0.0459, 0.3240, 0.4262,
            0.5719, 0.6528, 0.7590, 1.0000,
        ];
        let found = discoveries(&p, 0.05);
        assert_eq!(found.iter().filter(|f| **f).count(), 4);
        assert!(found[..4].iter().all(|f| *f));
        assert!(discoveries(&[], 0.1).is_empty());
        assert_eq!(discoveries(&[0.2], 0.1), [false]);
    }
}
