//! Product lines: price, margin and the share to keep say what a result may cost, and targets follow.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use tiller_core::break_even::{Measure, ProductLine};
use tiller_core::{Price, Target};
use tiller_desk::DeskError;
use tiller_desk::account::decisions::{self, Lines, Own, target_words};
use tiller_desk::numerals::{money, number, percent, typed_number};
use tiller_desk::wording::as_sentence;

use crate::App;
use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::params::Params;
use crate::sent::{Fields, Sent};

/// As many lines as an account may have.
const MOST: usize = 100;

/// A line as it is typed, with what it affords.
#[derive(Default)]
pub struct LineRow {
    name: String,
    price: String,
    margin: String,
    keep: String,
    measure: &'static str,
    /// Break-even CPA, ROAS and ACoS.
    even: [String; 3],
    target: String,
    /// Who follows it.
    follows: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "lines.html")]
struct LinesPage {
    frame: Frame,
    rows: Vec<LineRow>,
    errors: Vec<String>,
}

fn target(line: &ProductLine, target: Target) -> String {
    let words = target_words(Some(target), false);
    match (line.measure, line.kept()) {
        (Measure::Acos, Ok(kept)) => format!("ACoS {}%, {words}", percent(kept.acos())),
        _ => words,
    }
}

fn row(line: &ProductLine, lines: &Lines) -> LineRow {
    let even = line.break_even().map(|m| {
        let cpa = m.cpa(Price(line.price));
        let acos = percent(m.acos()) + "%";
        [money(cpa.number()), number(m.roas().number(), 2), acos]
    });
    let campaigns = lines.campaigns.values().filter(|l| **l == line.name).count();
    let account = lines.account.as_ref() == Some(&line.name);
    let follows = match (account, campaigns) {
        (true, 0) => "the account".into(),
        (true, n) => format!("the account, {n} campaigns"),
        (false, 0) => String::new(),
        (false, 1) => "one campaign".into(),
        (false, n) => format!("{n} campaigns"),
    };
    LineRow {
        name: line.name.clone(),
        price: number(line.price, 2),
        margin: percent(line.margin) + "%",
        keep: percent(line.keep) + "%",
        measure: line.measure.word(),
        even: even.unwrap_or_default(),
        target: line.target().map_or_else(|e| e.to_string(), |t| target(line, t)),
        follows,
    }
}

/// The lines.
pub async fn show(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    let frame = Frame::new(&member, Station::Bids, &params);
    let lines = decisions::lines(&app.db, member.account.id).await.map_err(DeskError::from)?;
    let mut rows: Vec<LineRow> = lines.all.iter().map(|l| row(l, &lines)).collect();
    if frame.editor && rows.len() < MOST {
        // An empty one, to be filled in.
        rows.push(LineRow::default());
    }
    Ok(LinesPage { frame, rows, errors: Vec::new() })
}

/// The lines that a form tells, those without a name left out, or all that can't be read.
fn read(fields: &Fields) -> Result<Vec<ProductLine>, Vec<String>> {
    let (mut lines, mut errors) = (Vec::new(), Vec::new());
    for i in 0..=MOST {
        let of = |name: &str| fields.get(&format!("{name}-{i}")).map(str::trim);
        let Some(name) = of("name") else { break };
        if name.is_empty() {
            continue;
        }
        let mut read = |field: &str, title: &str, share: bool| {
            let text = of(field).unwrap_or_default();
            let number =
                if share { typed_number::share(text) } else { typed_number::amount(text, None) };
            let number = number.ok().flatten();
            // `35` beside a percent sign of the header means 35%.
            let number = number.map(|x| if share && x > 1.0 { x / 100.0 } else { x });
            number.unwrap_or_else(|| {
                let like = if share { "a share such as 35%" } else { "an amount such as 80" };
                errors.push(format!("{name}, {title}: ‘{text}’ can’t be read; type {like}"));
                f64::NAN
            })
        };
        let (price, margin) = (read("price", "price", false), read("margin", "margin", true));
        let keep = if of("keep").unwrap_or_default().is_empty() {
            0.0
        } else {
            read("keep", "share to keep", true)
        };
        let measure = of("measure").and_then(Measure::read).unwrap_or(Measure::Cpa);
        lines.push(ProductLine { name: name.to_owned(), price, margin, keep, measure });
    }
    if errors.is_empty() { Ok(lines) } else { Err(errors) }
}

/// Sets the lines; targets that follow them move with them.
pub async fn set(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let (account, person) = (member.account.id, Some(sent.person()));
    let errors = match read(fields) {
        Ok(lines) => {
            let own = Own::ProductLines(lines);
            match decisions::decide(&app.db, account, person, None, &own).await {
                Ok(_) => return Ok(sent.on_to("targets/lines").into_response()),
                Err(DeskError::Invalid(why)) => vec![as_sentence(&why)],
                Err(error) => return Err(error.into()),
            }
        }
        Err(errors) => errors,
    };
    let of = |name: &str, i: usize| fields.text(&format!("{name}-{i}")).to_owned();
    let typed = (0..=MOST).take_while(|i| fields.get(&format!("name-{i}")).is_some());
    let rows = typed
        .map(|i| LineRow {
            name: of("name", i),
            price: of("price", i),
            margin: of("margin", i),
            keep: of("keep", i),
            measure: Measure::read(&of("measure", i)).map_or("cpa", Measure::word),
            ..LineRow::default()
        })
        .collect();
    let page = LinesPage { frame: Frame::new(member, Station::Bids, params), rows, errors };
    Ok((StatusCode::UNPROCESSABLE_ENTITY, page).into_response())
}
