//! What was counted, and the ratios of the trade over it.

use std::iter::Sum;
use std::ops::{Add, AddAssign, Sub};

use crate::money::{Micros, Price};

/// Counts of a campaign, an item, a day or any sum of them. All money is of one currency: that of
/// the account (other currencies are refused where money enters).
///
/// Ratios of a sum are ratios of the sums, never means of ratios; a ratio over nothing is absent.
///
/// ```
/// use tiller_core::{Micros, Price, Tally};
/// let day = Tally { clicks: 10, spend: Micros::new(25_000_000), ..Tally::default() };
/// assert_eq!(day.cpc(), Some(Price(2.5)));
/// assert_eq!(day.cpa(), None);
/// ```
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Tally {
    /// Times shown.
    pub impressions: i64,
    /// Times clicked.
    pub clicks: i64,
    /// Money paid.
    pub spend: Micros,
    /// Results; fractional where credit is shared.
    pub conversions: f64,
    /// Revenue of the conversions.
    pub value: Micros,
}

/// Five whole numbers of a query, as one column: impressions, clicks, spend, conversions in millionths, value.
#[cfg(feature = "database")]
mod stored {
    use sqlx::postgres::{PgTypeInfo, PgValueRef, Postgres};
    use sqlx::{Decode, Type};

    use super::{Micros, Tally};

    impl Type<Postgres> for Tally {
        fn type_info() -> PgTypeInfo {
            <[i64; 5]>::type_info()
        }
    }

    impl<'r> Decode<'r, Postgres> for Tally {
        fn decode(value: PgValueRef<'r>) -> Result<Self, sqlx::error::BoxDynError> {
            let [impressions, clicks, spend, conversions, value] =
                Decode::<Postgres>::decode(value)?;
            Ok(Self {
                impressions,
                clicks,
                spend: Micros::new(spend),
                conversions: Micros::new(conversions).to_units(),
                value: Micros::new(value),
            })
        }
    }
}

fn ratio(over: f64, under: f64) -> Option<f64> {
    (under > 0.0).then(|| over / under)
}

impl Tally {
    /// Click-through rate: clicks ÷ impressions.
    pub fn ctr(&self) -> Option<f64> {
        ratio(self.clicks as f64, self.impressions as f64)
    }
    /// Cost per click.
    pub fn cpc(&self) -> Option<Price> {
        Price::of(self.spend, self.clicks as f64)
    }
    /// Cost per thousand impressions.
    pub fn cpm(&self) -> Option<Price> {
        Price::of(self.spend, self.impressions as f64 / 1000.0)
    }
    /// Conversion rate: conversions ÷ clicks.
    pub fn cvr(&self) -> Option<f64> {
        ratio(self.conversions, self.clicks as f64)
    }
    /// Cost per acquisition: spend ÷ conversions.
    pub fn cpa(&self) -> Option<Price> {
        Price::of(self.spend, self.conversions)
    }
    /// Return on ad spend: value ÷ spend.
    pub fn roas(&self) -> Option<f64> {
        ratio(self.value.to_units(), self.spend.to_units())
    }
    /// Advertising cost of sales: spend ÷ value.
    pub fn acos(&self) -> Option<f64> {
        ratio(self.spend.to_units(), self.value.to_units())
    }
    /// Average order value: value ÷ conversions.
    pub fn aov(&self) -> Option<Price> {
        Price::of(self.value, self.conversions)
    }
    /// True if nothing at all was counted.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

impl Add for Tally {
    type Output = Self;
    fn add(mut self, other: Self) -> Self {
        self += other;
        self
    }
}

impl AddAssign for Tally {
    fn add_assign(&mut self, other: Self) {
        self.impressions += other.impressions;
        self.clicks += other.clicks;
        self.spend += other.spend;
        self.conversions += other.conversions;
        self.value += other.value;
    }
}

impl Sub for Tally {
    type Output = Self;
    fn sub(self, part: Self) -> Self {
        Self {
            impressions: self.impressions - part.impressions,
            clicks: self.clicks - part.clicks,
            spend: self.spend - part.spend,
            conversions: self.conversions - part.conversions,
            value: self.value - part.value,
        }
    }
}

impl Sum for Tally {
    fn sum<I: Iterator<Item = Self>>(tallies: I) -> Self {
        tallies.fold(Self::default(), Add::add)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tally() -> Tally {
        Tally {
            impressions: 2000,
            clicks: 50,
            spend: Micros::from_units(100.0),
            conversions: 4.0,
            value: Micros::from_units(340.0),
        }
    }

    #[test]
    fn ratios_follow_their_definitions() {
        let t = tally();
        assert_eq!(t.ctr(), Some(0.025));
        assert_eq!(t.cpc(), Some(Price(2.0)));
        assert_eq!(t.cpm(), Some(Price(50.0)));
        assert_eq!(t.cvr(), Some(0.08));
        assert_eq!(t.cpa(), Some(Price(25.0)));
        assert_eq!(t.roas(), Some(3.4));
        assert_eq!(t.aov(), Some(Price(85.0)));
        assert!((t.acos().unwrap() - 100.0 / 340.0).abs() < 1e-15);
    }

    #[test]
    fn a_ratio_over_nothing_is_absent() {
        let t = Tally::default();
        let prices = [t.cpc(), t.cpm(), t.cpa(), t.aov()].map(|p| p.map(Price::units));
        let rates = [t.ctr(), t.cvr(), t.roas(), t.acos()];
        assert!(rates.iter().chain(&prices).all(Option::is_none));
    }

    #[test]
    fn a_ratio_of_a_sum_is_the_ratio_of_the_sums() {
        let dear = Tally { clicks: 1, spend: Micros::from_units(9.0), ..Tally::default() };
        assert_eq!((tally() + dear).cpc(), Some(Price(109.0 / 51.0)));
        assert_eq!(tally() + dear - dear, tally());
    }
}
