//! What is at fault where something is over its target: the bid, the traffic, the value of its orders.

use super::Verdict;
use crate::Price;
use crate::bridge::{Bridge, Factor};
use crate::evidence::Standing;
use crate::metrics::Tally;

/// What is at fault; several may be.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Faults {
    /// Visitors convert worse than its peers'.
    pub traffic: bool,
    /// A click costs more than the target affords even if its visitors were as good as anyone's.
    pub bid: bool,
    /// Its orders are worth less than its peers'.
    pub order_value: bool,
}

impl Faults {
    /// The verdict that names them; none if nothing is at fault.
    pub fn verdict(self) -> Option<Verdict> {
        match (self.traffic, self.bid, self.order_value) {
            (false, false, false) => None,
            (true, false, false) => Some(Verdict::Traffic),
            (false, true, false) => Some(Verdict::Bid),
            (false, false, true) => Some(Verdict::OrderValue),
            _ => Some(Verdict::Both),
        }
    }
}

impl From<Factor> for Faults {
    fn from(factor: Factor) -> Self {
        Self {
            traffic: factor == Factor::Cvr,
            bid: factor == Factor::Cpc,
            order_value: factor == Factor::OrderValue,
        }
    }
}

/// Why an answer only leans: comparing with peers doesn't show what is at fault.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Lean {
    /// The larger part of the gap to their cost decides.
    LargerPart,
    /// They cost even more, so the price of a click is what is left.
    PeersCostMore,
    /// Nobody clicked.
    NoClicks,
    /// Nobody converted, and too few clicked to tell.
    NoConversions,
    /// There is nobody to compare with.
    NoPeers,
}

/// The faults of something over its target, and why the answer only leans, if it does.
pub(super) fn at_fault(
    tally: &Tally,
    cvr: Option<Standing>,
    aov: Option<Standing>,
    affordable_at_best: Option<Price>,
    bridge: Option<&Bridge>,
) -> (Faults, Option<Lean>) {
    let traffic = cvr == Some(Standing::Lower);
    let found = Faults {
        traffic,
        order_value: aov == Some(Standing::Lower) && !traffic,
        bid: tally.cpc().zip(affordable_at_best).is_some_and(|(cpc, best)| cpc > best),
    };
    let clear = match cvr {
        Some(Standing::Lower) => true,
        Some(Standing::AsGood) => found.verdict().is_some(),
        Some(Standing::CantTell) => found.order_value,
        None => false,
    };
    let (traffic, bid) = (Faults::from(Factor::Cvr), Faults::from(Factor::Cpc));
    match (bridge, cvr) {
        _ if clear => (found, None),
        // What nobody clicks on or buys reaches the wrong people, for all that is known.
        _ if tally.clicks == 0 => (traffic, Some(Lean::NoClicks)),
        (_, Some(_)) if tally.conversions <= 0.0 => (traffic, Some(Lean::NoConversions)),
        (_, None) if tally.conversions <= 0.0 => (traffic, Some(Lean::NoPeers)),
        (Some(b), _) if b.to > b.from => (b.largest().into(), Some(Lean::LargerPart)),
        (Some(_), _) => (bid, Some(Lean::PeersCostMore)),
        (None, _) => (bid, Some(Lean::NoPeers)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sold(conversions: f64) -> Tally {
        Tally {
            clicks: 100,
            spend: crate::Micros::from_units(200.0),
            conversions,
            ..Tally::default()
        }
    }

    #[test]
    fn several_faults_are_named_together() {
        let (faults, leans) = at_fault(
            &sold(5.0),
            Some(Standing::AsGood),
            Some(Standing::Lower),
            Some(Price(1.0)),
            None,
        );
        assert_eq!((faults.order_value, faults.bid, faults.traffic), (true, true, false));
        assert_eq!((faults.verdict(), leans), (Some(Verdict::Both), None));
        // Visitors who convert worse explain small baskets no further.
        let worse = at_fault(&sold(5.0), Some(Standing::Lower), Some(Standing::Lower), None, None);
        assert_eq!(worse.0.verdict(), Some(Verdict::Traffic));
    }

    #[test]
    fn without_a_clear_comparison_it_leans() {
        let bridge = Bridge { from: 20.0, cpc: 3.0, cvr: 7.0, order_value: None, to: 30.0 };
        let (traffic, bid) = (Faults::from(Factor::Cvr), Faults::from(Factor::Cpc));
        let cant = |t: &Tally, bridge: Option<&Bridge>| {
            at_fault(t, Some(Standing::CantTell), None, Some(Price(1.0)), bridge)
        };
        assert_eq!(cant(&sold(5.0), Some(&bridge)), (traffic, Some(Lean::LargerPart)));
        let beyond = Bridge { from: 50.0, cpc: -15.0, cvr: -5.0, ..bridge };
        assert_eq!(cant(&sold(5.0), Some(&beyond)), (bid, Some(Lean::PeersCostMore)));
        assert_eq!(cant(&sold(0.0), None), (traffic, Some(Lean::NoConversions)));
        let alone = |t: &Tally| at_fault(t, None, None, Some(Price(1.0)), None);
        assert_eq!(alone(&sold(5.0)), (bid, Some(Lean::NoPeers)));
        assert_eq!(alone(&sold(0.0)), (traffic, Some(Lean::NoPeers)));
        let unseen = Tally { clicks: 0, ..sold(5.0) };
        assert_eq!(alone(&unseen), (traffic, Some(Lean::NoClicks)));
    }
}
