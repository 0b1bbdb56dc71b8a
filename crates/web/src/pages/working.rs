//! The working of a figure: formula, numbers, window, source, and what is uncertain.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use tiller_core::spot::Subject;
use tiller_core::{Tally, Window};
use tiller_desk::figure::{Figure, Seen, Working};
use tiller_desk::numerals;
use tiller_desk::rows::{Level, Row, Within, rows, together};
use tiller_desk::spend::split;

use crate::App;
use crate::error::PageError;
use crate::extract::{Fragment, Member};
use crate::frame::{Frame, Station, span};
use crate::pages::book_of_reports;
use crate::pages::figures_table::{subject, within};
use crate::pages::split::of as split_of;
use crate::params::Params;

#[derive(Template, WebTemplate)]
#[template(path = "working_fragment.html")]
pub(super) struct WorkingFragment {
    pub working: Working,
    pub name: String,
    pub window: String,
    pub source: String,
}

impl WorkingFragment {
    /// As the pop-over's content, or as a page of its own.
    pub fn shown(self, fragment: bool, frame: impl FnOnce() -> Frame) -> Response {
        if fragment {
            return self.into_response();
        }
        WorkingPage { frame: frame(), fragment: self }.into_response()
    }
}

#[derive(Template, WebTemplate)]
#[template(path = "working.html")]
struct WorkingPage {
    frame: Frame,
    fragment: WorkingFragment,
}

fn named(key: &str) -> Result<(Subject, Level), PageError> {
    let level = |subject| match subject {
        Subject::Campaign(_) => Level::Campaigns,
        Subject::AdGroup(_) => Level::AdGroups,
        Subject::Item(_) => Level::Items,
    };
    subject(key)
        .map(|s| (s, level(s)))
        .ok_or_else(|| PageError::NotFound(format!("‘{key}’ names no campaign, ad group or item.")))
}

/// The working, as a page of its own or as the pop-over's content.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Fragment(fragment): Fragment,
    params: Params,
) -> Result<Response, PageError> {
    let mut book = book_of_reports(&app.db, &member, &params).await?;
    if !params.text("settled").is_empty() {
        book = book.of_settled_days().into();
    }
    let of = params.text("of");
    let nothing = || PageError::NotFound("Nothing was counted for it in these days.".into());
    let (row, all) = match of {
        "all" => {
            let all = rows(&app.db, &book, Level::Campaigns, Within::default()).await?;
            (together(&all, &book).ok_or_else(nothing)?, all)
        }
        "part" => {
            let of = split_of(&params)?;
            let by = split::SplitBy::read(params.text("by")).0;
            let all = split::rows(&app.db, &book, by, &of).await?;
            let all: Vec<Row> =
                all.into_iter().map(|p| p.as_row(&book, &of)).collect::<Result<_, _>>()?;
            let name = params.text("row");
            (all.iter().find(|r| r.name == name).cloned().ok_or_else(nothing)?, all)
        }
        _ => {
            let (subject, level) = named(of)?;
            let all = rows(&app.db, &book, level, within(&params)?).await?;
            (all.iter().find(|r| r.subject == subject).cloned().ok_or_else(nothing)?, all)
        }
    };
    let figure = params.text("figure");
    let part: Tally = all.iter().map(|r| r.tally).sum();
    let account = book.total(book.period.window);
    let seen = match of {
        "part" => Seen { row: &row, whole: &part, whole_is: "All rows" },
        _ => Seen::of(&row, &account),
    };
    let working = Figure::of(figure)
        .and_then(|f| f.working(&seen, &book))
        .ok_or_else(|| PageError::NotFound(format!("There is no figure ‘{figure}’ of this.")))?;
    let body = WorkingFragment {
        working,
        name: row.name.clone(),
        window: days(book.period.window),
        source: format!("reports of {}, up to {}", row.channel, numerals::full_day(book.span.to())),
    };
    Ok(body.shown(fragment, || Frame::of_book(&member, Station::Spend, &params, &book)))
}

fn days(w: Window) -> String {
    format!("{}, {}", span(w), numerals::counted(w.days(), "day", "days"))
}
