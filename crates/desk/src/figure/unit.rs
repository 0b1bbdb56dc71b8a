//! What figures count in, and how that is written.

use crate::numerals::{count, money, number, percent, signed, sum};

/// What a figure counts in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unit {
    /// Money of a row, which may be much.
    Money,
    /// Money per thing.
    Price,
    /// Money above or below something.
    Difference,
    /// Whole things.
    Count,
    /// Conversions, which a channel may split.
    Results,
    /// A share.
    Percent,
    /// A share more or less.
    Change,
    /// So many times.
    Factor,
    /// A price or a factor, as its row's target is.
    Target,
}

impl Unit {
    /// In a table, whose header says the unit.
    pub fn text(self, x: f64) -> String {
        match self {
            Self::Money | Self::Count => sum(x),
            Self::Price => money(x),
            Self::Difference => signed(x, sum),
            Self::Results => count(x),
            Self::Percent => percent(x),
            Self::Change => signed(x, |x| number(x * 100.0, 0)),
            Self::Factor | Self::Target => number(x, 2),
        }
    }

    /// By itself, in a currency.
    pub fn in_full(self, x: f64, currency: &str) -> String {
        let paid = |x: f64| format!("{} {currency}", money(x));
        match self {
            Self::Money | Self::Price => paid(x),
            Self::Difference => signed(x, paid),
            Self::Percent | Self::Change => format!("{}%", self.text(x)),
            Self::Count | Self::Results | Self::Factor | Self::Target => self.text(x),
        }
    }

    /// Whether it is the same in any currency.
    pub fn is_bare(self) -> bool {
        !matches!(self, Self::Money | Self::Price | Self::Difference | Self::Target)
    }
}
