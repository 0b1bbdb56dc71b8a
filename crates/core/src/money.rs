//! Money: an exact integer of millionths of one ISO 4217 currency.

use std::fmt;
use std::iter::Sum;
use std::ops::{Add, AddAssign, Div, Mul, Neg, Sub};
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// An ISO 4217 currency code.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Currency([u8; 3]);

impl Currency {
    /// The three letters, in capitals.
    pub fn code(&self) -> &str {
        std::str::from_utf8(&self.0).unwrap_or_default()
    }

    /// Decimal places of the smallest coin (ISO 4217, table A.1; only those that differ from 2).
    pub fn minor_digits(self) -> u32 {
        match &self.0 {
            b"BIF" | b"CLP" | b"DJF" | b"GNF" | b"ISK" | b"JPY" | b"KMF" | b"KRW" | b"PYG"
            | b"RWF" | b"UGX" | b"VND" | b"VUV" | b"XAF" | b"XOF" | b"XPF" => 0,
            b"BHD" | b"IQD" | b"JOD" | b"KWD" | b"LYD" | b"OMR" | b"TND" => 3,
            _ => 2,
        }
    }

    /// The smallest coin, in units: 0.01 for most currencies.
    pub fn minor_unit(self) -> f64 {
        10f64.powi(-self.minor_digits().cast_signed())
    }

    /// The nearest amount in whole smallest coins; at least one where there is any money at all.
    ///
    /// ```
    /// use tiller_core::{Currency, Micros};
    /// let (yen, dinar): (Currency, Currency) = ("JPY".parse().unwrap(), "TND".parse().unwrap());
    /// assert_eq!(yen.coins(Micros::from_units(120.4)), Micros::from_units(120.0));
    /// assert_eq!(yen.coins(Micros::from_units(0.2)), Micros::from_units(1.0));
    /// assert_eq!(dinar.coins(Micros::from_units(0.1251)), Micros::from_units(0.125));
    /// ```
    pub fn coins(self, amount: Micros) -> Micros {
        let coin = 10i64.pow(6 - self.minor_digits());
        let sign = amount.get().signum();
        let whole = (amount.get().abs() + coin / 2) / coin;
        Micros(sign * whole.max(sign.abs()) * coin)
    }
}

impl FromStr for Currency {
    type Err = MoneyError;
    fn from_str(text: &str) -> Result<Self, MoneyError> {
        let bytes = text.trim().as_bytes();
        match bytes {
            [a, b, c] if bytes.iter().all(u8::is_ascii_alphabetic) => {
                Ok(Self([a.to_ascii_uppercase(), b.to_ascii_uppercase(), c.to_ascii_uppercase()]))
            }
            _ => Err(MoneyError::NoCurrency(text.to_owned())),
        }
    }
}

impl fmt::Display for Currency {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.code())
    }
}

impl fmt::Debug for Currency {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.code())
    }
}

impl TryFrom<String> for Currency {
    type Error = MoneyError;
    fn try_from(text: String) -> Result<Self, MoneyError> {
        text.parse()
    }
}

/// An exact amount in millionths of a currency that its owner (an account, a plan) has settled.
///
/// ```
/// use tiller_core::Micros;
/// assert_eq!(Micros::parse("0.1").unwrap() + Micros::parse("0.2").unwrap(), Micros::parse("0.3").unwrap());
/// ```
#[derive(
    Clone,
    Copy,
    Debug,
    Default,
    PartialEq,
    Eq,
    Hash,
    PartialOrd,
    Ord,
    Serialize,
    Deserialize,
    utoipa::ToSchema,
)]
#[cfg_attr(feature = "database", derive(sqlx::Type), sqlx(transparent))]
#[serde(transparent)]
pub struct Micros(i64);

impl Micros {
    /// Nothing.
    pub const ZERO: Self = Self(0);

    /// From millionths.
    pub const fn new(micros: i64) -> Self {
        Self(micros)
    }

    /// In millionths.
    pub const fn get(self) -> i64 {
        self.0
    }

    /// The nearest amount to so many units.
    pub fn from_units(units: f64) -> Self {
        Self((units * 1e6).round() as i64)
    }

    /// In units, for rates and charts; exact below 2⁵³ micros.
    pub fn to_units(self) -> f64 {
        self.0 as f64 / 1e6
    }

    /// Reads a plain decimal (`-12.34`, at most six places, no grouping), exactly.
    pub fn parse(text: &str) -> Result<Self, MoneyError> {
        let wrong = || MoneyError::NoAmount(text.to_owned());
        let (negative, digits) = match text.strip_prefix('-') {
            Some(rest) => (true, rest),
            None => (false, text),
        };
        let (whole, part) = digits.split_once('.').unwrap_or((digits, ""));
        let all_digits = |s: &str| s.bytes().all(|b| b.is_ascii_digit());
        if (whole.is_empty() && part.is_empty()) || !all_digits(whole) || !all_digits(part) {
            return Err(wrong());
        }
        let part = part.trim_end_matches('0');
        if part.len() > 6 {
            return Err(MoneyError::TooFine(text.to_owned()));
        }
        let mut micros: i64 = 0;
        for digit in
            whole.bytes().chain(part.bytes()).chain(std::iter::repeat_n(b'0', 6 - part.len()))
        {
            micros = micros
                .checked_mul(10)
                .and_then(|m| m.checked_add(i64::from(digit - b'0')))
                .ok_or_else(wrong)?;
        }
        Ok(Self(if negative { -micros } else { micros }))
    }

    /// As a plain decimal without loss: the form of the report files.
    pub fn to_plain(self) -> String {
        let sign = if self.0 < 0 { "-" } else { "" };
        let (whole, part) = (self.0.unsigned_abs() / 1_000_000, self.0.unsigned_abs() % 1_000_000);
        let text = format!("{sign}{whole}.{part:06}");
        text.trim_end_matches('0').trim_end_matches('.').to_owned()
    }
}

impl Add for Micros {
    type Output = Self;
    fn add(self, other: Self) -> Self {
        Self(self.0 + other.0)
    }
}
impl AddAssign for Micros {
    fn add_assign(&mut self, other: Self) {
        self.0 += other.0;
    }
}
impl Sub for Micros {
    type Output = Self;
    fn sub(self, other: Self) -> Self {
        Self(self.0 - other.0)
    }
}
impl Neg for Micros {
    type Output = Self;
    fn neg(self) -> Self {
        Self(-self.0)
    }
}
impl Sum for Micros {
    fn sum<I: Iterator<Item = Self>>(amounts: I) -> Self {
        amounts.fold(Self::ZERO, Add::add)
    }
}

/// Money for each of something, in units of currency: a click, a conversion, a sale, a thousand impressions. Not exact:
/// it is a ratio, or is about to be multiplied by one.
///
/// ```
/// use tiller_core::{Micros, Price};
/// let click = Price::of(Micros::from_units(25.0), 10.0).unwrap();
/// assert_eq!(click, Price(2.5));
/// // Four clicks a conversion: ten a conversion; twice what five are.
/// assert_eq!(click * 4.0, Price(10.0));
/// assert_eq!(click * 4.0 / Price(5.0), 2.0);
/// ```
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    PartialOrd,
    Serialize,
    Deserialize,
    utoipa::ToSchema,
    schemars::JsonSchema,
)]
#[serde(transparent)]
pub struct Price(pub f64);

impl Price {
    /// What each of `things` costs or brings; absent where there are none.
    pub fn of(amount: Micros, things: f64) -> Option<Self> {
        (things > 0.0).then(|| Self(amount.to_units() / things))
    }

    /// In units of currency.
    pub const fn units(self) -> f64 {
        self.0
    }

    /// The nearest exact amount, as a channel takes it.
    pub fn micros(self) -> Micros {
        Micros::from_units(self.0)
    }

    /// Itself where it is more than nothing.
    pub fn positive(self) -> Option<Self> {
        (self.0 > 0.0).then_some(self)
    }

    /// Halfway to another.
    pub fn midpoint(self, other: Self) -> Self {
        Self(f64::midpoint(self.0, other.0))
    }

    /// The lower of two.
    pub fn min(self, other: Self) -> Self {
        Self(self.0.min(other.0))
    }

    /// The higher of two.
    pub fn max(self, other: Self) -> Self {
        Self(self.0.max(other.0))
    }
}

/// In units.
impl From<Micros> for f64 {
    fn from(amount: Micros) -> Self {
        amount.to_units()
    }
}

impl From<Price> for f64 {
    fn from(price: Price) -> Self {
        price.0
    }
}
impl From<Micros> for Price {
    fn from(amount: Micros) -> Self {
        Self(amount.to_units())
    }
}
impl Add for Price {
    type Output = Self;
    fn add(self, other: Self) -> Self {
        Self(self.0 + other.0)
    }
}
impl Sub for Price {
    type Output = Self;
    fn sub(self, other: Self) -> Self {
        Self(self.0 - other.0)
    }
}
impl Mul<f64> for Price {
    type Output = Self;
    fn mul(self, by: f64) -> Self {
        Self(self.0 * by)
    }
}
impl Mul<Price> for f64 {
    type Output = Price;
    fn mul(self, price: Price) -> Price {
        price * self
    }
}
impl Div<f64> for Price {
    type Output = Self;
    fn div(self, by: f64) -> Self {
        Self(self.0 / by)
    }
}
impl Div for Price {
    type Output = f64;
    fn div(self, other: Self) -> f64 {
        self.0 / other.0
    }
}

/// An amount with its currency: the form in which money crosses a border (a file, an account).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Money {
    /// How much.
    pub amount: Micros,
    /// Of what.
    pub currency: Currency,
}

impl Money {
    /// The sum, if both are of one currency.
    pub fn checked_add(self, other: Self) -> Result<Self, MoneyError> {
        Ok(Self { amount: self.amount + other.into(self.currency)?, ..self })
    }

    /// The bare amount for an owner whose currency is `currency`.
    pub fn into(self, currency: Currency) -> Result<Micros, MoneyError> {
        if self.currency == currency {
            Ok(self.amount)
        } else {
            Err(MoneyError::Mixed { found: self.currency, expected: currency })
        }
    }
}

/// Why something is not the money that was expected.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum MoneyError {
    /// Two currencies met.
    #[error("{found} can't be added to {expected}")]
    Mixed {
        /// The currency that came.
        found: Currency,
        /// The currency of the owner.
        expected: Currency,
    },
    /// Not three letters.
    #[error("‘{0}’ is not a currency code of three letters, such as EUR")]
    NoCurrency(String),
    /// Not a decimal number that fits.
    #[error("‘{0}’ is not an amount, such as 12.50")]
    NoAmount(String),
    /// Below a millionth.
    #[error("‘{0}’ has more than six decimal places")]
    TooFine(String),
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_and_writes_exactly() {
        for text in ["0", "12.34", "-0.000001", "9000000000000", "0.1"] {
            assert_eq!(Micros::parse(text).unwrap().to_plain(), text);
        }
        assert_eq!(Micros::parse("007.50").unwrap(), Micros::new(7_500_000));
        assert_eq!(Micros::parse(".5").unwrap(), Micros::new(500_000));
    }

    #[test]
    fn refuses_what_is_no_amount() {
        for text in ["", "-", ".", "1,5", "1e3", "12.3456789", "99999999999999999999", "−3"] {
            assert!(Micros::parse(text).is_err(), "{text}");
        }
    }

    #[test]
    fn two_currencies_do_not_add() {
        let euros = Money { amount: Micros::new(1), currency: "eur".parse().unwrap() };
        let crowns = Money { amount: Micros::new(1), currency: "NOK".parse().unwrap() };
        assert_eq!(euros.checked_add(euros).unwrap().amount, Micros::new(2));
        assert!(matches!(euros.checked_add(crowns), Err(MoneyError::Mixed { .. })));
        assert!("EU".parse::<Currency>().is_err());
        assert_eq!("jpy".parse::<Currency>().unwrap().minor_digits(), 0);
    }
}
