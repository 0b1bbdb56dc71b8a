//! What an account, or some of its campaigns, count altogether, day by day: conversions, or value in orders of the mean.

use tiller_core::evidence::dispersion;
use tiller_core::evidence::walk::{Ahead, ahead};
use tiller_core::{Price, Tally};

use crate::book::{Book, Entry};

/// Settled days.
pub struct Counted {
    /// Results and the money that was spent for them; what makes one campaign's days better than usual often makes the others' too.
    days: Vec<(f64, f64)>,
    /// What a result counts for: 1, or an order's value.
    pub each: f64,
}

impl Counted {
    /// Of a book.
    pub fn of(book: &Book, by_value: bool) -> Self {
        Self::of_campaigns(book, by_value, |_| true)
    }

    /// Of some of a book's campaigns.
    pub fn of_campaigns(book: &Book, by_value: bool, who: impl Fn(&Entry) -> bool) -> Self {
        let days: Vec<Tally> = book.settled_days_of(who).into_values().collect();
        let order = || days.iter().copied().sum::<Tally>().aov()?.positive();
        let each = if by_value { order().map_or(1.0, Price::units) } else { 1.0 };
        let results = |t: &Tally| if by_value { t.value.to_units() / each } else { t.conversions };
        Self { days: days.iter().map(|t| (results(t), t.spend.to_units())).collect(), each }
    }

    /// Variance over mean of a day's results; what lasts longer is in how far they may drift.
    pub fn dispersion(&self) -> f64 {
        dispersion(self.days.iter().copied())
    }

    /// Results for a unit of money on so many days to come.
    pub fn ahead(&self, days: f64) -> Ahead {
        ahead(&self.days, self.dispersion(), days as usize)
    }

    /// As many times what the last so many settled days brought for a unit of money.
    pub fn times(&self, of_last: usize, to_come: f64) -> f64 {
        let last = &self.days[self.days.len().saturating_sub(of_last)..];
        let (results, money) = last.iter().fold((0.0, 0.0), |s, d| (s.0 + d.0, s.1 + d.1));
        if results > 0.0 && money > 0.0 { self.ahead(to_come).rate * money / results } else { 1.0 }
    }
}
