//! What a result may cost before the sale stops paying.
//!
//! ```
//! use tiller_core::{Price, Target};
//! use tiller_core::break_even::Margin;
//! let half = Margin::new(0.5)?;
//! assert_eq!(half.cpa(Price(20.0)), Target::Cpa(Price(10.0)));
//! assert_eq!(half.keeping(0.25)?.roas(), Target::Roas(4.0));
//! # Ok::<(), tiller_core::break_even::MarginError>(())
//! ```

use serde::{Deserialize, Serialize};

use crate::money::Price;
use crate::target::Target;

/// The share of the price that is left before advertising, and the share to keep of it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Margin {
    margin: f64,
    keep: f64,
}

/// Why a margin makes no sense.
#[derive(Clone, Copy, Debug, PartialEq, thiserror::Error)]
pub enum MarginError {
    /// Not a share above 0 and up to 1.
    #[error("a margin is a share above 0 and up to 1 of the price, and {0} is not")]
    OutOfRange(f64),
    /// Not an amount above 0.
    #[error("a price is an amount above 0, and {0} is not")]
    Price(f64),
    /// Nothing would be left for advertising.
    #[error("keeping {keep} of a margin of {margin} leaves nothing for advertising; keep less")]
    KeepsAll {
        /// Share of the price to keep.
        keep: f64,
        /// Share of the price left before advertising.
        margin: f64,
    },
}

impl Margin {
    /// A margin of which nothing has to be kept.
    pub fn new(margin: f64) -> Result<Self, MarginError> {
        if margin > 0.0 && margin <= 1.0 {
            Ok(Self { margin, keep: 0.0 })
        } else {
            Err(MarginError::OutOfRange(margin))
        }
    }

    /// The same margin, of which `keep` (a share of the price) has to be left.
    pub fn keeping(self, keep: f64) -> Result<Self, MarginError> {
        if !(0.0..self.margin).contains(&keep) {
            return Err(MarginError::KeepsAll { keep, margin: self.margin });
        }
        Ok(Self { keep, ..self })
    }

    /// Greatest ACoS: spend ÷ value.
    pub fn acos(self) -> f64 {
        self.margin - self.keep
    }

    /// Least ROAS, as a target.
    pub fn roas(self) -> Target {
        Target::Roas(1.0 / self.acos())
    }

    /// Greatest CPA where a sale is worth `aov`, as a target.
    pub fn cpa(self, aov: Price) -> Target {
        Target::Cpa(aov * self.acos())
    }
}

/// What a target is told in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Measure {
    /// What a sale may cost.
    Cpa,
    /// What spend has to return.
    Roas,
    /// The same, as spend over value.
    Acos,
}
crate::words!(Measure: Cpa "cpa", Roas "roas", Acos "acos");

/// What is sold, and what of its price may go into advertising.
///
/// ```
/// use tiller_core::break_even::{Measure, ProductLine};
/// use tiller_core::{Price, Target};
/// let kits = ProductLine { name: "Kits".into(), price: 80.0, margin: 0.5, keep: 0.25, measure: Measure::Cpa };
/// // A quarter of the price may be spent on a sale.
/// assert_eq!(kits.target(), Ok(Target::Cpa(Price(20.0))));
/// assert_eq!(kits.break_even().unwrap().roas(), Target::Roas(2.0));
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ProductLine {
    /// Its name.
    pub name: String,
    /// What one costs, in units of currency.
    pub price: f64,
    /// Share of the price that is left before advertising.
    pub margin: f64,
    /// Share of the price to keep.
    pub keep: f64,
    /// What its target is told in.
    pub measure: Measure,
}

impl ProductLine {
    /// What may be spent where nothing is kept.
    pub fn break_even(&self) -> Result<Margin, MarginError> {
        if !(self.price > 0.0 && self.price.is_finite()) {
            return Err(MarginError::Price(self.price));
        }
        Margin::new(self.margin)
    }

    /// What may be spent, with the share that is kept.
    pub fn kept(&self) -> Result<Margin, MarginError> {
        self.break_even()?.keeping(self.keep)
    }

    /// Its target.
    pub fn target(&self) -> Result<Target, MarginError> {
        let margin = self.kept()?;
        Ok(match self.measure {
            Measure::Cpa => margin.cpa(Price(self.price)),
            Measure::Roas | Measure::Acos => margin.roas(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Common practice, no source: margin 35%, keep 10% → ACoS 25%; price 20, margin 50% → CPA 10.
    #[test]
    fn worked_examples() {
        let kept = Margin::new(0.35).unwrap().keeping(0.10).unwrap();
        assert!((kept.acos() - 0.25).abs() < 1e-12);
        assert!((kept.roas().number() - 4.0).abs() < 1e-12);
        assert_eq!(Margin::new(0.5).unwrap().cpa(Price(20.0)), Target::Cpa(Price(10.0)));
    }

    #[test]
    fn keeping_all_of_it_is_an_error() {
        let margin = Margin::new(0.35).unwrap();
        assert!(margin.keeping(0.35).is_err());
        assert!(margin.keeping(-0.1).is_err());
        assert!(Margin::new(0.0).is_err());
        assert!(Margin::new(f64::NAN).is_err());
    }
}
