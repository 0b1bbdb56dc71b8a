//! The working of the figures of the month's pace.

use axum::extract::State;
use axum::response::Response;
use tiller_desk::numerals::full_day;
use tiller_desk::pace::{Pace, working};

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
