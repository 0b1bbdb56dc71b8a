//! CPA bridge: how much of the gap to a reference is the price of a click, how much the conversion rate and,
//! where returns are what counts, how much the value of an order.
//!
//! CPA = CPC ÷ CVR, ACoS = CPC ÷ (CVR × AOV); the gap is split by the logarithmic-mean Divisia decomposition
//! (B. W. Ang, "The LMDI approach to decomposition analysis: a practical guide", Energy Policy 33 (2005) 867–871).
//!
//! ```
//! use tiller_core::bridge::{Factor, bridge};
//! use tiller_core::{Micros, Tally};
//! let tally = |clicks, spend, conversions| {
//!     Tally { clicks, spend: Micros::from_units(spend), conversions, ..Tally::default() }
//! };
//! // Clicks that are dearer, and convert as its peers' do.
//! let b = bridge(&tally(100, 200.0, 5.0), &tally(100, 120.0, 5.0)).unwrap();
//! assert!((b.to - b.from - 16.0).abs() < 1e-9 && b.largest() == Factor::Cpc);
//! assert!((b.cpc - 16.0).abs() < 1e-9 && b.cvr == 0.0);
//! ```

use crate::Price;
use crate::metrics::Tally;

/// One of the factors that make a cost.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Factor {
    /// The price of a click.
    Cpc,
    /// The conversion rate.
    Cvr,
    /// The value of an order.
    OrderValue,
}

/// Effects that add up to the gap exactly: of the CPA in units of currency per conversion, of the ACoS in
/// spend per unit of value.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Bridge {
    /// Cost of the reference.
    pub from: f64,
    /// What the difference in CPC adds.
    pub cpc: f64,
    /// What the difference in CVR adds.
    pub cvr: f64,
    /// What the difference in order value adds; absent in a bridge of the CPA.
    pub order_value: Option<f64>,
    /// Cost of the campaign.
    pub to: f64,
}

impl Bridge {
    /// Its factors with their effects, in the order of their steps.
    pub fn effects(&self) -> impl Iterator<Item = (Factor, f64)> {
        let order_value = self.order_value.map(|e| (Factor::OrderValue, e));
        [(Factor::Cpc, self.cpc), (Factor::Cvr, self.cvr)].into_iter().chain(order_value)
    }

    /// The factor that adds most.
    pub fn largest(&self) -> Factor {
        self.effects().max_by(|a, b| a.1.total_cmp(&b.1)).map_or(Factor::Cpc, |(f, _)| f)
    }
}

/// The bridge of the CPA from `reference` to `tally`; absent where either has no clicks or no conversions
/// (excess always exists).
pub fn bridge(tally: &Tally, reference: &Tally) -> Option<Bridge> {
    let ((cpc, cvr), (cpc_r, cvr_r)) = (rates(tally)?, rates(reference)?);
    let (to, from) = (cpc / cvr, cpc_r / cvr_r);
    let effect = logarithmic_mean(to, from) * (cpc / cpc_r).ln();
    // The second effect by difference keeps the sum exact; it equals mean × ln(CVRᵣ ÷ CVR).
    let cvr_effect = if cvr == cvr_r { 0.0 } else { to - from - effect };
    Some(Bridge { from, cpc: effect, cvr: cvr_effect, order_value: None, to })
}

/// The bridge of the ACoS; absent where either has no clicks, no conversions or no value.
pub fn bridge_of_returns(tally: &Tally, reference: &Tally) -> Option<Bridge> {
    let worth = |t: &Tally| t.aov().and_then(Price::positive).map(Price::units);
    let ((cpc, cvr), (cpc_r, cvr_r)) = (rates(tally)?, rates(reference)?);
    let (aov, aov_r) = (worth(tally)?, worth(reference)?);
    let (to, from) = (cpc / (cvr * aov), cpc_r / (cvr_r * aov_r));
    let mean = logarithmic_mean(to, from);
    let (of_cpc, of_aov) = (mean * (cpc / cpc_r).ln(), mean * (aov_r / aov).ln());
    let of_cvr = if cvr == cvr_r { 0.0 } else { to - from - of_cpc - of_aov };
    Some(Bridge { from, cpc: of_cpc, cvr: of_cvr, order_value: Some(of_aov), to })
}

fn rates(t: &Tally) -> Option<(f64, f64)> {
    Some((t.cpc()?.positive()?.units(), t.cvr().filter(|cvr| *cvr > 0.0)?))
}

/// What one segment adds to the gap, in units of currency per conversion.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Effect {
    /// By the price of its clicks.
    pub cpc: f64,
    /// By its conversion rate.
    pub cvr: f64,
    /// By the share of all clicks that are its.
    pub mix: f64,
}

impl Effect {
    /// All three together.
    pub fn sum(&self) -> f64 {
        self.cpc + self.cvr + self.mix
    }
}

/// The gap by segments: each pair is a segment's tally here and in the reference. The effects of all
/// segments add up to the difference of the two CPAs exactly. Absent where either side has no conversions.
///
/// A segment that one side lacks is all mix; one that does not convert on one side is all CVR.
pub fn by_segments(pairs: &[(Tally, Tally)]) -> Option<Vec<Effect>> {
    let here: Tally = pairs.iter().map(|p| p.0).sum();
    let there: Tally = pairs.iter().map(|p| p.1).sum();
    let whole = bridge(&here, &there)?;
    let scale = logarithmic_mean(whole.to, whole.from);
    let ((cpc, cvr), (cpc_r, cvr_r)) = (rates(&here)?, rates(&there)?);
    let (of_cpc, of_cvr) =
        (scale / logarithmic_mean(cpc, cpc_r), scale / logarithmic_mean(cvr, cvr_r));
    let effect = |(a, b): &(Tally, Tally)| {
        let (n, n_r) = (here.clicks as f64, there.clicks as f64);
        let shares = (a.clicks as f64 / n, b.clicks as f64 / n_r);
        let (price, mix) = split((a.spend.to_units() / n, b.spend.to_units() / n_r), shares);
        let (rate, mix_of_rate) = split((a.conversions / n, b.conversions / n_r), shares);
        Effect {
            cpc: of_cpc * price,
            cvr: -of_cvr * rate,
            mix: of_cpc * mix - of_cvr * mix_of_rate,
        }
    };
    Some(pairs.iter().map(effect).collect())
}

/// Splits the difference of a segment's parts of a rate: by the segment's own rate, and by its share.
fn split((part, part_r): (f64, f64), (share, share_r): (f64, f64)) -> (f64, f64) {
    let gap = part - part_r;
    if share <= 0.0 || share_r <= 0.0 {
        (0.0, gap)
    } else if part <= 0.0 || part_r <= 0.0 {
        (gap, 0.0)
    } else {
        let mix = logarithmic_mean(part, part_r) * (share / share_r).ln();
        (gap - mix, mix)
    }
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

    /// By hand: a basket of 51 against 108 at the same CPC and a CVR of 5% against 5.5%. ACoS 0.3137 against
    /// 0.1347; L = 0.1790 ÷ ln(2.3294) = 0.21172; × ln(108 ÷ 51) = 0.1588, 89% of the gap.
    #[test]
    fn order_value_is_a_step_of_its_own() {
        let with =
            |t: Tally, aov: f64| Tally { value: Micros::from_units(t.conversions * aov), ..t };
        let (own, peers) =
            (with(tally(2000, 0.8, 0.05), 51.0), with(tally(2000, 0.8, 0.055), 108.0));
        let b = bridge_of_returns(&own, &peers).unwrap();
        assert!((b.from - 0.134_68).abs() < 1e-5 && (b.to - 0.313_73).abs() < 1e-5, "{b:?}");
        assert_eq!((b.cpc, b.largest()), (0.0, Factor::OrderValue));
        assert!((b.order_value.unwrap() - 0.158_86).abs() < 2e-5, "{b:?}");
        let sum: f64 = b.from + b.effects().map(|(_, e)| e).sum::<f64>();
        assert!((sum - b.to).abs() < 1e-12);
        assert!(
            bridge_of_returns(&own, &tally(10, 1.0, 0.1)).is_none(),
            "no value to compare with"
        );
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

    /// By hand: two segments with CPC 1 everywhere and CVR 10% and 5% on both sides; only their shares
    /// differ, so that all of the gap is mix. CPA 1 ÷ 0.06 against 1 ÷ 0.09.
    #[test]
    fn shares_alone_are_mix() {
        let pairs = [
            (tally(200, 1.0, 0.1), tally(800, 1.0, 0.1)),
            (tally(800, 1.0, 0.05), tally(200, 1.0, 0.05)),
        ];
        let effects = by_segments(&pairs).unwrap();
        let mix: f64 = effects.iter().map(|e| e.mix).sum();
        assert!((mix - (1.0 / 0.06 - 1.0 / 0.09)).abs() < 1e-9, "{mix}");
        assert!(effects.iter().all(|e| e.cpc.abs() < 1e-9 && e.cvr.abs() < 1e-9), "{effects:?}");
    }

    #[test]
    fn one_segment_is_the_whole_bridge() {
        let (a, b) = (tally(1000, 11.30, 0.286), tally(1000, 6.20, 0.225));
        let (one, whole) = (by_segments(&[(a, b)]).unwrap()[0], bridge(&a, &b).unwrap());
        assert!((one.cpc - whole.cpc).abs() < 1e-9 && (one.cvr - whole.cvr).abs() < 1e-9);
        assert_eq!(one.mix, 0.0);
    }
}
