//! The week's advice on daily budgets, on the page of Budgets.

use axum::Form;
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::Response;
use tiller_desk::book::Book;
use tiller_desk::figures::{money, number, signed, sum};
use tiller_desk::rebalance::{self, Move};
use tiller_desk::{DeskError, PgPool};

use crate::App;
use crate::error::PageError;
use crate::extract::{Editor, Fragment};
use crate::frame::Frame;
use crate::pages::book_of_reports;
use crate::pages::tray::{put, said};
use crate::params::Params;

/// A budget to be moved, as a row.
pub struct Line {
    /// The campaign's id.
    pub id: String,
    /// Its name.
    pub name: String,
    /// Its page.
    pub href: String,
    /// Its daily budget.
    pub now: String,
    /// What that should be.
    pub to: String,
    /// The change, in %.
    pub change: String,
    /// What it brings more a day.
    pub more: String,
    /// The tone of that.
    pub tone: &'static str,
    /// How that is known.
    pub why: String,
}

/// The week's advice as it is shown.
pub struct Advice {
    /// Its rows; none if the budgets are about right.
    pub lines: Vec<Line>,
    /// What they come to together.
    pub gain: String,
}

/// What each row brings more a day: conversions, or their value.
fn more(m: &Move, by_value: bool) -> f64 {
    let (now, then) = m.conversions();
    (then - now) * if by_value { m.line.worth } else { 1.0 }
}

/// The advice for an account whose channels are connected.
pub async fn of(pool: &PgPool, book: &Book, frame: &Frame) -> Result<Option<Advice>, PageError> {
    if !frame.connected {
        return Ok(None);
    }
    let moves = rebalance::advise(pool, book).await?;
    let by_value = book.by_value();
    let digits = |x: f64| number(x, 2);
    let text = |x: f64| signed(x, |x| if by_value { sum(x) } else { digits(x) });
    let line = |m: &Move| {
        let gain = more(m, by_value);
        Line {
            id: m.line.campaign.to_string(),
            name: m.line.name.clone(),
            href: format!("{}/causes/campaigns/{}{}", frame.base(), m.line.campaign, frame.days),
            now: money(m.from),
            to: money(m.to),
            change: signed(100.0 * (m.to / m.from - 1.0), |x| number(x, 0)),
            more: text(gain),
            tone: match gain {
                g if g.abs() < 0.005 => "quiet",
                g if g > 0.0 => "gain",
                _ => "harm",
            },
            why: m.capacity(),
        }
    };
    let unit = if by_value { &frame.account.currency } else { "conversions" };
    let gain: f64 = moves.iter().map(|m| more(m, by_value)).sum();
    Ok(Some(Advice {
        lines: moves.iter().map(line).collect(),
        gain: format!("{} {unit} a day", text(gain)),
    }))
}

/// Puts chosen rows in the tray.
pub async fn take(
    Editor(member): Editor,
    State(app): State<App>,
    Fragment(fragment): Fragment,
    headers: HeaderMap,
    params: Params,
    Form(form): Form<Vec<(String, String)>>,
) -> Result<Response, PageError> {
    let book = book_of_reports(&app.pool, &member, &params).await?;
    let chosen = |m: &Move| {
        let id = m.line.campaign.to_string();
        form.iter().any(|(k, v)| k == "take" && *v == id)
    };
    let moves: Vec<Move> =
        rebalance::advise(&app.pool, &book).await?.into_iter().filter(chosen).collect();
    let outcome = if moves.is_empty() {
        Err(DeskError::Invalid("choose at least one budget; then put it in the tray".into()))
    } else {
        rebalance::propose(&app.pool, &member.account, member.person.id, &moves).await
    };
    said(&app, &member, &headers, fragment, outcome.map(put)).await
}
