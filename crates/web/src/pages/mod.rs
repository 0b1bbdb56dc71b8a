//! The pages, one module each; a handler is named by its verb.

pub mod adjustments;
pub mod advice;
pub mod bids;
pub mod budgets;
pub mod campaign_budget;
pub mod causes;
pub mod channels;
pub mod click_prices;
pub mod columns;
pub mod curve;
pub mod estimate;
pub mod figures_table;
pub mod findings;
pub mod flight;
pub mod health;
pub mod hours;
pub mod lines;
pub mod logbook;
pub mod measure;
pub mod pace;
pub mod pace_working;
pub mod peers;
pub mod plan;
pub mod pool;
pub mod remedy;
pub mod reports;
pub mod rules;
pub mod score;
pub mod shared;
pub mod sign_in;
pub mod spend;
pub mod split;
pub mod strategies;
pub mod strategy_table;
pub mod targets;
pub mod today;
pub mod tray;
pub mod views;
pub mod volume;
pub mod working;

use std::sync::Arc;

use axum::http::header;
use axum::response::{IntoResponse, Response};
use tiller_core::text;
use tiller_desk::PgPool;
use tiller_desk::book::Book;

use crate::error::PageError;
use crate::extract::Member;
use crate::params::Params;

/// The account's book for the period in the address; none without reports.
async fn book(
    db: &PgPool,
    member: &Member,
    params: &Params,
) -> Result<Option<Arc<Book>>, PageError> {
    Ok(Book::load(db, &member.account, params.period()?).await?)
}

/// The book, or an answer that names what is missing.
async fn book_of_reports(
    db: &PgPool,
    member: &Member,
    params: &Params,
) -> Result<Arc<Book>, PageError> {
    let none = || {
        PageError::NotFound(
            "This account has no figures yet: connect a channel or import a report first.".into(),
        )
    };
    book(db, member, params).await?.ok_or_else(none)
}

/// A file to be saved.
fn download(kind: &'static str, name: &str, body: impl IntoResponse) -> Response {
    let safe: String = name
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() || ".-_".contains(c) { c } else { '-' })
        .collect();
    let headers = [
        (header::CONTENT_TYPE, kind.to_owned()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{safe}\"")),
    ];
    (headers, body).into_response()
}

/// Rows as CSV (RFC 4180). A text that a spreadsheet would take for a formula is marked as text.
fn csv_file(
    name: &str,
    header: &[String],
    rows: impl Iterator<Item = Vec<String>>,
) -> Result<Response, PageError> {
    let failed = |e: csv::Error| PageError::Internal(e.to_string());
    let mut writer =
        csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    writer.write_record(header).map_err(failed)?;
    for row in rows {
        writer.write_record(row.iter().map(|t| text::cell(t).into_owned())).map_err(failed)?;
    }
    let bytes = writer.into_inner().map_err(|e| PageError::Internal(e.to_string()))?;
    Ok(download("text/csv; charset=utf-8", name, bytes))
}

/// A number in a file: a decimal point, no grouping, nothing where it is absent.
fn plain(x: Option<impl Into<f64>>) -> String {
    x.map_or(String::new(), |x| {
        let text = format!("{:.6}", x.into());
        text.trim_end_matches('0').trim_end_matches('.').to_owned()
    })
}
