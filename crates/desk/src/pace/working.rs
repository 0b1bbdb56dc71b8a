//! The working of the figures of the month's pace.

use super::{Pace, Row};
use crate::figure::Working;
use crate::numerals::{counted, money, number, sum};
use tiller_core::evidence::Interval;

/// The working of a row's `plan`, `end` or `needed`.
pub fn working(figure: &str, pace: &Pace, row: &Row, currency: &str) -> Option<Working> {
    let f = &row.forecast;
    let paid = |x: f64| format!("{} {currency}", money(x));
    let (mid, Interval { low, high }) = f.end();
    let left = counted(f.ahead.len() as u64, "day", "days");
    Some(match figure {
        "plan" => Working {
            title: "Plan",
            formula: "what was typed for the month; else what the plan gives a day × days of the month, and the forecast of what it leaves out",
            numbers: vec![
                ("Measured against", pace.measured_against(row)),
                ("Days of the month", number(pace.month.days() as f64, 0)),
            ],
            result: paid(row.plan?),
            uncertain: "Nothing: it is what somebody set.".into(),
        },
        "end" => Working {
            title: "Forecast",
            formula: "spent so far + for each day left, the level × its weekday’s share, no more than daily budgets and what they left unspent this month allow",
            numbers: vec![
                ("Spent so far", paid(f.spent)),
                ("Level, a mean day", paid(f.level)),
                ("Days left", left),
            ],
            result: paid(mid),
            uncertain: format!(
                "With a probability of 80% between {} and {}: how the level may grow or turn, what is not known of it and of weekdays, and noise that carries over from day to day, drawn a thousand times.",
                sum(low),
                sum(high)
            ),
        },
        "needed" => Working {
            title: "Needed a day",
            formula: "(plan − spent so far) ÷ days left, each counted by its weekday’s share",
            numbers: vec![
                ("Plan", paid(row.plan?)),
                ("Spent so far", paid(f.spent)),
                ("Days left", left),
                ("By their weekdays", number(f.weight_ahead(), 2)),
            ],
            result: paid(row.needed()?),
            uncertain:
                "Whether as much is then spent: a budget is a limit, and demand may end before it."
                    .into(),
        },
        _ => return None,
    })
}
