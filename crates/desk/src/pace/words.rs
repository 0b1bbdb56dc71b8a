//! How a month ends, in words.

use super::{Miss, Pace, Row};
use crate::numerals::{money, sum};
use crate::wording::Words;
use tiller_core::evidence::Interval;

impl Pace {
    /// What a row is measured against.
    pub fn measured_against(&self, row: &Row) -> String {
        match &self.plan {
            Some((_, name)) if !row.typed => format!("the plan ‘{name}’"),
            _ => "the month’s budget".into(),
        }
    }

    /// How the month ends for a row.
    pub fn sentence(&self, row: &Row) -> Words {
        let month = self.month.from().format("%B").to_string();
        let (mid, Interval { low, high }) = row.forecast.end();
        let words = Words::say(format!("At this pace, {month} ends at about "))
            .strong(sum(mid))
            .and(format!(" (80% between {} and {})", sum(low), sum(high)));
        let Some(plan) = row.plan else { return words.and(".") };
        let what = self.measured_against(row);
        let words = match row.misses() {
            None => return words.and(format!("; {what}, {}, is within that.", sum(plan))),
            Some(Miss::Over) => words
                .and(format!("; {what} is "))
                .strong(sum(plan))
                .and(", so ")
                .harm(format!("{} too much", sum(mid - plan))),
            Some(Miss::Under) => words
                .and(format!("; {what} is "))
                .strong(sum(plan))
                .and(format!(", leaving {} unspent", sum(plan - mid))),
        };
        words.and(match row.needed() {
            None => ".".into(),
            Some(needed) if needed <= 0.0 => {
                format!(". All of it is spent: {what} can no longer be met.")
            }
            Some(needed) => format!(". {} a day from now would end it on plan.", money(needed)),
        })
    }
}
