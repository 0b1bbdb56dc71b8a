//! Affordable CPC: what a click may cost at the present conversion rate, and the way there.

use crate::money::Price;

/// What one conversion takes in clicks, and what a click may cost.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Affordable {
    /// 1 ÷ CVR.
    pub clicks_per_conversion: f64,
    /// Target CPA × CVR.
    pub cpc: Price,
    /// The same with clicks per conversion rounded up to a whole click: the form for advice.
    pub cautious: Price,
}

/// What a click may cost where `cvr` of the clicks convert and a conversion may cost `target_cpa`.
/// Absent where nothing converts, or a conversion may cost nothing: what is worth nothing affords no click.
///
/// ```
/// # use tiller_core::{Price, affordable::affordable};
/// // Common practice, no source: CVR 28%, target 30 → 3.57 clicks, rounded up 4 → 7.50.
/// assert_eq!(affordable(Price(30.0), 0.28).unwrap().cautious, Price(7.5));
/// ```
pub fn affordable(target_cpa: Price, cvr: f64) -> Option<Affordable> {
    if cvr <= 0.0 || !cvr.is_finite() || target_cpa <= Price(0.0) {
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
pub fn halfway_bid(affordable: Price, present: Price) -> Price {
    affordable.midpoint(present)
}

/// The CPC after step `i` (from 1) toward the affordable one: each step halves what is left.
pub fn step_bid(affordable: Price, present: Price, i: i32) -> Price {
    present + (affordable - present) * (1.0 - 0.5f64.powi(i))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Common practice, no source: CVR 28%, target 30; present CPC 11.30 → halfway 9.40.
    #[test]
    fn worked_example() {
        let a = affordable(Price(30.0), 0.28).unwrap();
        assert!((a.clicks_per_conversion - 3.571).abs() < 1e-3);
        assert!((a.cpc.units() - 8.4).abs() < 1e-12);
        assert!((halfway_bid(a.cautious, Price(11.30)).units() - 9.40).abs() < 1e-12);
    }

    #[test]
    fn what_is_worth_nothing_affords_nothing() {
        assert_eq!(affordable(Price(0.0), 0.28), None);
        assert_eq!(affordable(Price(30.0), 0.0), None);
    }

    #[test]
    fn cautious_never_above_exact_and_whole_ratios_agree() {
        for clicks in 1..200 {
            let a = affordable(Price(30.0), 1.0 / f64::from(clicks)).unwrap();
            assert!((a.cautious - a.cpc).units().abs() < 1e-9, "{clicks}");
        }
        let a = affordable(Price(30.0), 0.3).unwrap();
        assert!(a.cautious < a.cpc);
        assert!(affordable(Price(30.0), 0.0).is_none());
        assert_eq!(affordable(Price(30.0), 1.4).unwrap().cautious, Price(30.0));
    }

    #[test]
    fn steps_close_in() {
        assert!(
            (step_bid(Price(7.5), Price(11.3), 1) - halfway_bid(Price(7.5), Price(11.3)))
                .units()
                .abs()
                < 1e-12
        );
        assert!((step_bid(Price(7.5), Price(11.3), 2).units() - 8.45).abs() < 1e-12);
        assert!(step_bid(Price(7.5), Price(11.3), 30).units() - 7.5 < 1e-6);
    }
}
