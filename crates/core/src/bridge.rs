//! CPA bridge: how much of the gap to a reference is the price of a click, how much the conversion rate.
//!
//! CPA = CPC ÷ CVR; the gap is split by the logarithmic-mean Divisia decomposition (B. W. Ang, "The LMDI
//! approach to decomposition analysis: a practical guide", Energy Policy 33 (2005) 867–871).

use crate::metrics::Tally;

/// Effects in units of currency per conversion; they add up to the gap exactly.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Bridge {
    /// CPA of the reference.
    pub from: f64,
    /// What the difference in CPC adds.
    pub cpc: f64,
    /// What the difference in CVR adds.
    pub cvr: f64,
    /// CPA of the campaign.
    pub to: f64,
}

/// The bridge from `reference` to `tally`; absent where either has no clicks or no conversions
/// (excess always exists).
pub fn bridge(tally: &Tally, reference: &Tally) -> Option<Bridge> {
    let rates =
        |t: &Tally| Some((t.cpc()?, t.cvr()?)).filter(|(cpc, cvr)| *cpc > 0.0 && *cvr > 0.0);
    let (cpc, cvr) = rates(tally)?;
    let (cpc_r, cvr_r) = rates(reference)?;
    let (to, from) = (cpc / cvr, cpc_r / cvr_r);
    let mean = logarithmic_mean(to, from);
    let effect = mean * (cpc / cpc_r).ln();
    // The second effect by difference keeps the sum exact; it equals mean × ln(CVRᵣ ÷ CVR).
    let cvr_effect = if cvr == cvr_r { 0.0 } else { to - from - effect };
    Some(Bridge { from, cpc: effect, cvr: cvr_effect, to })
}

fn logarithmic_mean(a: f64, b: f64) -> f64 {
    let log = (a / b).ln();
    // Near equality the quotient loses its digits; the series does not: √(ab)·(1 + log²/24).
    if log.abs() < 1e-4 { (a * b).sqrt() * (1.0 + log * log / 24.0) } else { (a - b) / log }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::money::Micros;

    fn tally(clicks: i64, cpc: f64, cvr: f64) -> Tally {
        Tally {
            clicks,
            spend: Micros::from_units(clicks as f64 * cpc),
            conversions: clicks as f64 * cvr,
            ..Tally::default()
        }
    }

    /// By hand: L = (39.5105 − 27.5556) ÷ ln(39.5105 ÷ 27.5556) = 33.1748; × ln(11.3 ÷ 6.2) = 19.913.
    #[test]
    fn worked_by_hand() {
        let b = bridge(&tally(1000, 11.30, 0.286), &tally(1000, 6.20, 0.225)).unwrap();
        assert!((b.from - 27.5556).abs() < 1e-4);
        assert!((b.to - 39.5105).abs() < 1e-4);
        assert!((b.cpc - 19.913).abs() < 2e-3, "{}", b.cpc);
        assert!((b.cvr + 7.958).abs() < 2e-3, "{}", b.cvr);
    }

    #[test]
    fn nothing_to_split_without_conversions() {
        assert!(bridge(&tally(10, 1.0, 0.0), &tally(10, 1.0, 0.1)).is_none());
        assert!(bridge(&tally(10, 1.0, 0.1), &Tally::default()).is_none());
    }

    #[test]
    fn a_factor_that_did_not_change_contributes_nothing() {
        let b = bridge(&tally(100, 2.0, 0.1), &tally(1000, 2.0, 0.2)).unwrap();
        assert_eq!(b.cpc, 0.0);
        let b = bridge(&tally(100, 3.0, 0.25), &tally(1000, 2.0, 0.25)).unwrap();
        assert_eq!(b.cvr, 0.0);
    }
}
