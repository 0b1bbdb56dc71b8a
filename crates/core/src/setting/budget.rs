//! Money to spend, and how it is spread over a day.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::Micros;

/// Money to spend, by the day or over a flight.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Budget {
    /// So much a day on average over a month of 30.4 days.
    Daily {
        /// Millionths of the currency.
        amount: Micros,
    },
    /// So much from the first to the last day of a flight.
    Lifetime {
        /// Millionths of the currency.
        amount: Micros,
        /// First day.
        starts: NaiveDate,
        /// Last day.
        ends: NaiveDate,
    },
}

impl Budget {
    /// Money a day: of a flight, its even share.
    pub fn per_day(self) -> Micros {
        match self {
            Self::Daily { amount } => amount,
            Self::Lifetime { amount, starts, ends } => {
                Micros::new(amount.get() / ((ends - starts).num_days() + 1).max(1))
            }
        }
    }
}

/// How a day's money is spread over its hours.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Pacing {
    /// So that it lasts the day.
    #[default]
    Even,
    /// As fast as demand allows, until it is gone.
    Fast,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flight_is_spread_over_its_days() {
        let day = |d| NaiveDate::from_ymd_opt(2026, 11, d).unwrap();
        let flight =
            Budget::Lifetime { amount: Micros::new(140_000_000), starts: day(1), ends: day(7) };
        assert_eq!(flight.per_day(), Micros::new(20_000_000));
    }
}
