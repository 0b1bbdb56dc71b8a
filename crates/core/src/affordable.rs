//! Affordable CPC: what a click may cost at the present conversion rate, and the way there.

/// What one conversion takes in clicks, and what a click may cost.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Affordable {
    /// 1 ÷ CVR.
    pub clicks_per_conversion: f64,
    /// Target CPA × CVR, in units of currency.
    pub cpc: f64,
    /// The same with clicks per conversion rounded up to a whole click: the form for advice.
    pub cautious: f64,
}

/// What a click may cost where `cvr` of the clicks convert and a conversion may cost `target_cpa`.
/// Absent where nothing converts.
///
/// ```
/// # use tiller_core::affordable::affordable;
/// // Common practice, no source: CVR 28%, target 30 → 3.57 clicks, rounded up 4 → 7.50.
/// assert_eq!(affordable(30.0, 0.28).unwrap().cautious, 7.5);
/// ```
pub fn affordable(target_cpa: f64, cvr: f64) -> Option<Affordable> {
    if cvr <= 0.0 || !cvr.is_finite() {
        return None;
    }
    let clicks = 1.0 / cvr;
    // A rate such as 0.04 stands for 25 clicks; its reciprocal may come out a hair above.
    let whole = (clicks - 1e-9).ceil().max(1.0);
    Some(Affordable {
        clicks_per_conversion: clicks,
        cpc: target_cpa * cvr,
        cautious: target_cpa / whole,
    })
}

/// The midpoint between the affordable CPC and the CPC paid now.
pub fn halfway_bid(affordable: f64, present: f64) -> f64 {
    f64::midpoint(affordable, present)
}

/// The CPC after step `i` (from 1) toward the affordable one: each step halves what is left.
pub fn step_bid(affordable: f64, present: f64, i: i32) -> f64 {
    present + (affordable - present) * (1.0 - 0.5f64.powi(i))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Common practice, no source: CVR 28%, target 30; present CPC 11.30 → halfway 9.40.
    #[test]
    fn worked_example() {
        let a = affordable(30.0, 0.28).unwrap();
        assert!((a.clicks_per_conversion - 3.571).abs() < 1e-3);
        assert!((a.cpc - 8.4).abs() < 1e-12);
        assert!((halfway_bid(a.cautious, 11.30) - 9.40).abs() < 1e-12);
    }

    #[test]
    fn cautious_never_above_exact_and_whole_ratios_agree() {
        for clicks in 1..200 {
            let a = affordable(30.0, 1.0 / f64::from(clicks)).unwrap();
            assert!((a.cautious - a.cpc).abs() < 1e-9, "{clicks}");
        }
        let a = affordable(30.0, 0.3).unwrap();
        assert!(a.cautious < a.cpc);
        assert!(affordable(30.0, 0.0).is_none());
        assert_eq!(affordable(30.0, 1.4).unwrap().cautious, 30.0);
    }

    #[test]
    fn steps_close_in() {
        assert!((step_bid(7.5, 11.3, 1) - halfway_bid(7.5, 11.3)).abs() < 1e-12);
        assert!((step_bid(7.5, 11.3, 2) - 8.45).abs() < 1e-12);
        assert!(step_bid(7.5, 11.3, 30) - 7.5 < 1e-6);
    }
}
