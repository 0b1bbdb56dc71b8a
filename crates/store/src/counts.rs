//! The five counts of a row, as they are stored.

use tiller_core::{Micros, Tally};

pub(crate) fn tally(
    impressions: i64,
    clicks: i64,
    spend: i64,
    conversions: i64,
    value: i64,
) -> Tally {
    Tally {
        impressions,
        clicks,
        spend: Micros::new(spend),
        conversions: Micros::new(conversions).to_units(),
        value: Micros::new(value),
    }
}
