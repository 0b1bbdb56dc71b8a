//! How much of a budget a day may spend. A daily budget holds on average over a month: what a day leaves
//! over, later days of the month may spend; no day spends more than twice the budget, no month more than
//! 30.4 times the highest one (common practice, no source).

use chrono::{Datelike, NaiveDate};
use tiller_core::setting::Budget;

/// Days of a month for which a daily budget is charged at most.
const MONTH: f64 = 30.4;

/// What has been spent of a budget.
#[derive(Clone, Debug, Default)]
pub struct Purse {
    month: (i32, u32),
    accrued: f64,
    spent: f64,
    highest: f64,
    flight_spent: f64,
}

/// What a day may spend.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Allowance {
    /// What pacing aims at.
    pub aim: f64,
    /// What is never exceeded.
    pub most: f64,
}

impl Purse {
    /// Opens a day: once for each day in order.
    pub fn open(&mut self, budget: Budget, date: NaiveDate) -> Allowance {
        let month = (date.year(), date.month());
        if self.month != month {
            *self = Self { month, flight_spent: self.flight_spent, ..Self::default() };
        }
        match budget {
            Budget::Daily { amount } => {
                let a_day = amount.to_units();
                self.accrued += a_day;
                self.highest = self.highest.max(a_day);
                let most = (2.0 * a_day).min(MONTH * self.highest - self.spent).max(0.0);
                Allowance { aim: (self.accrued - self.spent).clamp(0.0, most), most }
            }
            Budget::Lifetime { amount, starts, ends } => {
                if date < starts || date > ends {
                    return Allowance { aim: 0.0, most: 0.0 };
                }
                let left = (amount.to_units() - self.flight_spent).max(0.0);
                Allowance { aim: left / ((ends - date).num_days() + 1) as f64, most: left }
            }
        }
    }

    /// Closes a day.
    pub fn pay(&mut self, money: f64) {
        self.spent += money;
        self.flight_spent += money;
    }

    /// A new flight begins with nothing spent.
    pub fn new_flight(&mut self) {
        self.flight_spent = 0.0;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use tiller_channel::Micros;

    proptest! {
        #[test]
        fn a_day_stays_within_twice_and_a_month_within_30_point_4_budgets(
            budget in 1u32..500, asks in prop::collection::vec(0.0f64..3.0, 120)
        ) {
            let budget = f64::from(budget);
            let daily = Budget::Daily { amount: Micros::from_units(budget) };
            let mut purse = Purse::default();
            let first = NaiveDate::from_ymd_opt(2026, 1, 1).unwrap();
            let mut months = std::collections::HashMap::new();
            for (i, ask) in asks.iter().enumerate() {
                let date = first + chrono::Days::new(i as u64);
                let allowed = purse.open(daily, date);
                prop_assert!(allowed.aim <= allowed.most && allowed.most <= 2.0 * budget + 1e-9);
                let spent = (ask * budget).min(allowed.most);
                purse.pay(spent);
                *months.entry(date.month()).or_insert(0.0) += spent;
            }
            prop_assert!(months.values().all(|m| *m <= 30.4 * budget + 1e-6));
        }
    }

    #[test]
    fn a_flight_spends_what_is_left_over_the_days_left() {
        let day = |d| NaiveDate::from_ymd_opt(2026, 1, d).unwrap();
        let flight =
            Budget::Lifetime { amount: Micros::from_units(100.0), starts: day(1), ends: day(4) };
        let mut purse = Purse::default();
        assert_eq!(purse.open(flight, day(1)).aim, 25.0);
        purse.pay(10.0);
        assert_eq!(purse.open(flight, day(2)).aim, 30.0);
        assert_eq!(purse.open(flight, day(5)).most, 0.0);
    }
}
