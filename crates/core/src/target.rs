//! What a result may cost, and the money spent above it.
//!
//! ```
//! use tiller_core::{Micros, Price, Tally, Target};
//! let tally = Tally { spend: Micros::from_units(360.0), conversions: 10.0, ..Tally::default() };
//! // 36 a conversion where 30 is allowed: 60 too much.
//! assert_eq!(Target::Cpa(Price(30.0)).excess(&tally), 60.0);
//! ```

use serde::{Deserialize, Serialize};

use crate::metrics::Tally;
use crate::money::Price;

/// The target of a campaign: a cost per acquisition, or a return on ad spend.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Target {
    /// At most so much a conversion.
    Cpa(Price),
    /// At least so much value per unit of spend.
    Roas(f64),
}

/// Why numbers are no target.
#[derive(Clone, Copy, Debug, PartialEq, thiserror::Error)]
pub enum TargetError {
    /// Nothing, less than nothing, or no number.
    #[error("a target is a number above 0, and {0} is not")]
    NotPositive(f64),
    /// A CPA and a ROAS.
    #[error("a target is a CPA or a ROAS, not both")]
    Both,
}

impl Target {
    /// The target of a CPA or a ROAS, where one of them is given.
    ///
    /// ```
    /// # use tiller_core::{Price, Target};
    /// assert_eq!(Target::given(Some(30.0), None), Ok(Some(Target::Cpa(Price(30.0)))));
    /// assert_eq!(Target::given(None, None), Ok(None));
    /// assert!(Target::given(Some(30.0), Some(4.0)).is_err() && Target::given(None, Some(0.0)).is_err());
    /// ```
    pub fn given(cpa: Option<f64>, roas: Option<f64>) -> Result<Option<Self>, TargetError> {
        match (cpa, roas) {
            (None, None) => Ok(None),
            (Some(x), None) => Self::Cpa(Price(x)).checked().map(Some),
            (None, Some(x)) => Self::Roas(x).checked().map(Some),
            (Some(_), Some(_)) => Err(TargetError::Both),
        }
    }

    /// Itself, if it is a number above 0.
    pub fn checked(self) -> Result<Self, TargetError> {
        let x = self.number();
        if x > 0.0 && x.is_finite() { Ok(self) } else { Err(TargetError::NotPositive(x)) }
    }

    /// As a pair of numbers: CPA and ROAS.
    pub fn pair(self) -> (Option<f64>, Option<f64>) {
        match self {
            Self::Cpa(cpa) => (Some(cpa.units()), None),
            Self::Roas(roas) => (None, Some(roas)),
        }
    }

    /// The number itself.
    pub fn number(self) -> f64 {
        match self {
            Self::Cpa(Price(x)) | Self::Roas(x) => x,
        }
    }

    /// Whether results are told by their value.
    pub fn is_roas(self) -> bool {
        matches!(self, Self::Roas(_))
    }

    /// Spend that the results of `tally` allow, in units of currency.
    pub fn allowed(self, tally: &Tally) -> f64 {
        match self {
            Self::Cpa(cpa) => cpa.units() * tally.conversions,
            Self::Roas(roas) => tally.value.to_units() / roas,
        }
    }

    /// Money above target, in units of currency: spend − target CPA × conversions, or
    /// spend − value ÷ target ROAS. Negative is room below target. It adds up over any partition.
    pub fn excess(self, tally: &Tally) -> f64 {
        tally.spend.to_units() - self.allowed(tally)
    }

    /// The target as a cost per acquisition, where one conversion is worth `aov`.
    pub fn as_cpa(self, aov: Option<Price>) -> Option<Price> {
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
        assert!((Target::Cpa(Price(30.0)).excess(&tally) - 2_724.0).abs() < 1e-9);
        assert!((Target::Roas(4.0).excess(&tally) - (11_604.0 - 8_703.0)).abs() < 1e-9);
        assert_eq!(Target::Roas(4.0).as_cpa(Some(Price(80.0))), Some(Price(20.0)));
    }
}
