//! Adjustments for people, places and devices, of all campaigns at once.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use tiller_core::spot::Subject;
use tiller_desk::bids::adjustments::{self as desk, MOST, Row};
use tiller_desk::numerals::{signed, sum};

use crate::App;
use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::pages::book_of_reports;
use crate::pages::tray::{put, said};
use crate::params::Params;
use crate::sent::Sent;

/// A proposed adjustment.
pub struct Line {
    /// What its box carries.
    button: String,
    name: String,
    href: String,
    who: String,
    now: String,
    to: String,
    why: String,
    excess: String,
    tone: &'static str,
}

#[derive(Template, WebTemplate)]
#[template(path = "adjustments.html")]
struct AdjustmentsPage {
    frame: Frame,
    lines: Vec<Line>,
    /// Campaigns that were not looked through.
    left: usize,
    most: usize,
}

fn line(r: &Row, frame: &Frame) -> Line {
    Line {
        button: r.offer().button(),
        name: r.name.clone(),
        href: frame.base().causes(Subject::Campaign(r.campaign), &frame.days),
        who: r.who.clone(),
        now: r.now.clone(),
        to: r.to.clone(),
        why: r.why.clone(),
        excess: signed(r.excess, sum),
        tone: if r.excess > 0.0 { "harm" } else { "gain" },
    }
}

/// All that are proposed.
pub async fn show(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let (rows, left) = desk::of_account(&app.db, &book).await?;
    let frame = Frame::of_book(&member, Station::Bids, &params, &book);
    let lines = rows.iter().map(|r| line(r, &frame)).collect();
    Ok(AdjustmentsPage { lines, left, most: MOST, frame })
}

/// Puts the chosen ones in the tray.
pub async fn take(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let outcome = desk::take(&app.db, &book, sent.person(), &fields.buttons()).await;
    said(&sent, outcome.map(put)).await
}
