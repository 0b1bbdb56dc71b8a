//! How right we were: what was stated with a range or a probability, against what came.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use tiller_core::score::Step;
use tiller_desk::numerals::number;
use tiller_desk::scores::words::{self, share};
use tiller_desk::scores::{self, Row, Score};
use tiller_desk::wording::Words;

use crate::App;
use crate::chart::Reliability;
use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::pages::logbook::{Tab, tabs};
use crate::pages::{book, book_of_reports, csv_file, plain};
use crate::params::Params;

/// Ranges of a kind.
struct RangeLine {
    title: &'static str,
    said: usize,
    held: usize,
    should: String,
    did: String,
    around: String,
    off: &'static str,
}

/// What was stated with about the same probability.
struct StepLine {
    stated: String,
    times: usize,
    came: String,
    around: String,
    off: &'static str,
}

fn step_line(s: &Step) -> StepLine {
    StepLine {
        stated: share(s.said),
        times: s.times,
        came: share(s.share()),
        around: format!("{} to {}", share(s.around.low), share(s.around.high)),
        off: words::off_step(s),
    }
}

fn range_lines(score: &Score) -> Vec<RangeLine> {
    let line = |(kind, of): &(tiller_core::score::Kind, tiller_core::score::Held)| RangeLine {
        title: words::title(*kind),
        said: of.said,
        held: of.held,
        should: share(of.level),
        did: share(of.share()),
        around: format!("{} to {}", share(of.around.low), share(of.around.high)),
        off: words::off(of.off()),
    };
    score.ranges.iter().map(line).collect()
}

#[derive(Template, WebTemplate)]
#[template(path = "score.html")]
struct ScorePage {
    frame: Frame,
    tabs: Vec<Tab>,
    sentences: Vec<Words>,
    ranges: Vec<RangeLine>,
    chart: Option<String>,
    steps: Vec<StepLine>,
    /// The squared error and its parts.
    brier: Option<[String; 4]>,
}

/// The page.
pub async fn show(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    let frame = Frame::new(&member, Station::Logbook, &params);
    let score = match book(&app.db, &member, &params).await? {
        Some(book) => scores::of_account(&app.db, &book).await?,
        None => std::sync::Arc::default(),
    };
    let chart = Reliability::new(&score.steps).map(|c| c.render()).transpose();
    Ok(ScorePage {
        tabs: tabs(&frame, None, &params),
        sentences: words::sentences(&score),
        ranges: range_lines(&score),
        chart: chart.map_err(|e| PageError::Internal(e.to_string()))?,
        steps: score.steps.iter().map(step_line).collect(),
        brier: score
            .brier
            .map(|b| [b.score, b.reliability, b.resolution, b.uncertainty].map(|x| number(x, 3))),
        frame,
    })
}

/// All that was stated in a year, as CSV.
pub async fn csv(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let rows = scores::rows(&app.db, &book).await?;
    let header = [
        "kind",
        "campaign",
        "stated_on",
        "kept_on",
        "from_day",
        "to_day",
        "due",
        "probability",
        "low",
        "high",
        "came",
        "counts",
    ];
    let line = |r: Row| {
        vec![
            r.kind.word().to_owned(),
            r.campaign.clone(),
            r.said_on.to_string(),
            r.kept_on.to_string(),
            r.from.to_string(),
            r.to.to_string(),
            r.due.to_string(),
            plain(r.probability),
            plain(r.low),
            plain(r.high),
            plain(r.truth),
            (!r.void).to_string(),
        ]
    };
    csv_file(
        &format!("how-right-we-were-{}.csv", member.account.slug),
        &header.map(str::to_owned),
        rows.into_iter().map(line),
    )
}
