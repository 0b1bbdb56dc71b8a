//! The working of the figures of the month's pace.

use axum::extract::State;
use axum::response::Response;
use tiller_desk::figure::Working;
use tiller_desk::numerals::{counted, full_day, money, number, sum};
use tiller_desk::pace::{Pace, Row};

use crate::App;
use crate::error::PageError;
use crate::extract::{Fragment, Member};
use crate::frame::{Frame, Station, span};
use crate::pages::book_of_reports;
use crate::pages::pace::{chosen_row, pace};
use crate::pages::working::WorkingFragment;
use crate::params::Params;

/// The working of a row's `plan`, `end` or `needed`.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Fragment(fragment): Fragment,
    params: Params,
) -> Result<Response, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let pace = pace(&app.db, &book).await?;
    let row = chosen_row(&pace, &params)?;
    let currency = &book.account.currency;
    let working = working(params.text("figure"), &pace, row, currency)
        .ok_or_else(|| PageError::NotFound("The month’s pace has no such figure.".into()))?;
    let body = WorkingFragment {
        working,
        name: row.name.clone(),
        window: format!("{}, of which {} are reported", span(pace.month), days_so_far(&pace)),
        source: format!("reports up to {}", full_day(pace.to)),
    };
    Ok(body.shown(fragment, || Frame::of_book(&member, Station::Spend, &params, &book)))
}

fn days_so_far(pace: &Pace) -> i64 {
    (pace.to - pace.month.from()).num_days() + 1
}

fn working(figure: &str, pace: &Pace, row: &Row, currency: &str) -> Option<Working> {
    let f = &row.forecast;
    let paid = |x: f64| format!("{} {currency}", money(x));
    let (mid, (low, high)) = f.end();
    let left = counted(f.ahead.len() as u64, "day", "days");
    Some(match figure {
        "plan" => Working {
            title: "Plan",
            formula: "what was typed for the month; else what the plan gives a day × days of the month, and the forecast of what it leaves out",
            numbers: vec![
                ("Held against", pace.held_against(row)),
                ("Days of the month", number(pace.month.days() as f64, 0)),
            ],
            result: paid(row.plan?),
            uncertain: "Nothing: it is what somebody set.".into(),
        },
        "end" => Working {
            title: "Forecast",
            formula: "spent so far + for each day left, the level × its weekday’s share, no more than daily budgets allow",
            numbers: vec![
                ("Spent so far", paid(f.spent)),
                ("Level, a mean day", paid(f.level)),
                ("Days left", left),
            ],
            result: paid(mid),
            uncertain: format!(
                "80% of the time between {} and {}: how the level may grow, what is not known of it and of weekdays, and noise that carries over from day to day, drawn a thousand times.",
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
