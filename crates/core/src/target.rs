//! What a result may cost, and the money spent above it.
//!
//! ```
//! use tiller_core::{Micros, Tally, Target};
//! let tally = Tally { spend: Micros::from_units(360.0), conversions: 10.0, ..Tally::default() };
//! // 36 a conversion where 30 is allowed: 60 too much.
//! assert_eq!(Target::Cpa(30.0).excess(&tally), 60.0);
//! ```

use serde::{Deserialize, Serialize};

use crate::metrics::Tally;

/// The target of a campaign: a cost per acquisition, or a return on ad spend.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Target {
    /// At most so much a conversion, in units of currency.
    Cpa(f64),
    /// At least so much value per unit of spend.
    Roas(f64),
}

impl Target {
    /// The number itself.
    pub fn number(self) -> f64 {
        match self {
            Self::Cpa(x) | Self::Roas(x) => x,
        }
    }

    /// Whether results are told by their value.
    pub fn is_roas(self) -> bool {
        matches!(self, Self::Roas(_))
    }

    /// Spend that the results of `tally` allow, in units of currency.
    pub fn allowed(self, tally: &Tally) -> f64 {
        match self {
            Self::Cpa(cpa) => cpa * tally.conversions,
            Self::Roas(roas) => tally.value.to_units() / roas,
        }
    }

    /// Money above target, in units of currency: spend − target CPA × conversions, or
    /// spend − value ÷ target ROAS. Negative is room below target. It adds up over any partition.
    pub fn excess(self, tally: &Tally) -> f64 {
        tally.spend.to_units() - self.allowed(tally)
    }

    /// The target as a cost per acquisition, where one conversion is worth `aov`.
    pub fn as_cpa(self, aov: Option<f64>) -> Option<f64> {
        match self {
            Self::Cpa(cpa) => Some(cpa),
            Self::Roas(roas) => aov.map(|value| value / roas),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::money::Micros;

    #[test]
    fn excess_of_both_kinds() {
        let tally = Tally {
            spend: Micros::from_units(11_604.0),
            conversions: 296.0,
            value: Micros::from_units(34_812.0),
            ..Tally::default()
        };
        assert!((Target::Cpa(30.0).excess(&tally) - 2_724.0).abs() < 1e-9);
        assert!((Target::Roas(4.0).excess(&tally) - (11_604.0 - 8_703.0)).abs() < 1e-9);
        assert_eq!(Target::Roas(4.0).as_cpa(Some(80.0)), Some(20.0));
    }
}
