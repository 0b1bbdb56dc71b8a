//! Product lines: price, margin and the share to keep say what a result may cost, and targets follow. A price can be
//! tried first, and nothing is saved by that.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use tiller_core::break_even::{Margin, Measure, ProductLine};
use tiller_core::{Price, Target};
use tiller_desk::DeskError;
use tiller_desk::account::decisions::{self, Lines, Own, target_words};
use tiller_desk::book::Book;
use tiller_desk::numerals::{money, number, percent, typed_number};
use tiller_desk::wording::as_sentence;

use crate::App;
use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::pages::book;
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

/// A price that is tried.
#[derive(Default)]
struct Tried {
    price: String,
    margin: String,
    keep: String,
    /// What a sale has been worth, where that is known.
    usual: String,
    errors: Vec<String>,
    /// `breaks even`, `keeps 10%`: CPA, ROAS, ACoS.
    affords: Vec<(String, [String; 3])>,
}

#[derive(Template, WebTemplate)]
#[template(path = "lines.html")]
struct LinesPage {
    frame: Frame,
    tried: Tried,
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

/// CPA, ROAS and ACoS that a margin affords at a price.
fn afforded(margin: Margin, price: f64) -> [String; 3] {
    let cpa = margin.cpa(Price(price)).number();
    [money(cpa), number(margin.roas().number(), 2), percent(margin.acos()) + "%"]
}

fn row(line: &ProductLine, lines: &Lines) -> LineRow {
    let even = line.break_even().map(|m| afforded(m, line.price));
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
    let book = book(&app.db, &member, &params).await?;
    let tried = tried(&params, book.as_deref());
    let mut rows: Vec<LineRow> = lines.all.iter().map(|l| row(l, &lines)).collect();
    if frame.editor && rows.len() < MOST {
        // One to be filled in: by what was tried, once that can be read.
        let mut last = LineRow::default();
        if !tried.affords.is_empty() {
            last.price.clone_from(&tried.price);
            last.margin.clone_from(&tried.margin);
            last.keep.clone_from(&tried.keep);
        }
        rows.push(last);
    }
    let status =
        if tried.errors.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    Ok((status, LinesPage { frame, tried, rows, errors: Vec::new() }))
}

/// What an address tries, and what that affords.
fn tried(params: &Params, book: Option<&Book>) -> Tried {
    let of = |name: &str| params.text(name).trim().to_owned();
    let aov = book.and_then(|b| b.total(b.settled()?).aov());
    let aov = aov.filter(|aov| aov.units() > 0.0).map(|aov| money(aov.units()));
    let usual = aov.unwrap_or_default();
    let mut tried = Tried {
        price: of("price"),
        margin: of("margin"),
        keep: of("keep"),
        usual,
        ..Tried::default()
    };
    if [&tried.price, &tried.margin, &tried.keep].iter().all(|t| t.is_empty()) {
        return tried;
    }
    let line = match line(&of, "") {
        Ok(line) => line,
        Err(errors) => return Tried { errors, ..tried },
    };
    let affords = line.break_even().and_then(|even| Ok((even, line.kept()?)));
    match affords {
        Err(why) => tried.errors.push(as_sentence(&why.to_string())),
        Ok((even, kept)) => {
            tried.affords.push(("breaks even at".into(), afforded(even, line.price)));
            if line.keep > 0.0 {
                let keeps = format!("keeps {}% at", percent(line.keep));
                tried.affords.push((keeps, afforded(kept, line.price)));
            }
        }
    }
    tried
}

/// A line as it is typed, or all of it that can't be read, each begun with `about`.
fn line(of: &impl Fn(&str) -> String, about: &str) -> Result<ProductLine, Vec<String>> {
    let mut errors = Vec::new();
    let mut read = |field: &str, title: &str, share: bool| {
        let text = of(field);
        let number =
            if share { typed_number::share(&text) } else { typed_number::amount(&text, None) };
        let number = number.ok().flatten();
        // `35` beside a percent sign of the header means 35%.
        let number = number.map(|x| if share && x > 1.0 { x / 100.0 } else { x });
        number.unwrap_or_else(|| {
            let like = if share { "a share such as 35%" } else { "an amount such as 80" };
            let what = if text.is_empty() {
                "nothing was typed".into()
            } else {
                format!("‘{text}’ can’t be read")
            };
            errors.push(format!("{about}{title}: {what}; type {like}"));
            f64::NAN
        })
    };
    let (price, margin) = (read("price", "price", false), read("margin", "margin", true));
    let keep = if of("keep").is_empty() { 0.0 } else { read("keep", "share to keep", true) };
    let measure = Measure::read(&of("measure")).unwrap_or(Measure::Cpa);
    let line = ProductLine { name: of("name"), price, margin, keep, measure };
    if errors.is_empty() { Ok(line) } else { Err(errors) }
}

/// The lines that a form tells, those without a name left out, or all that can't be read.
fn read(fields: &Fields) -> Result<Vec<ProductLine>, Vec<String>> {
    let (mut lines, mut errors) = (Vec::new(), Vec::new());
    for i in 0..=MOST {
        let of = |name: &str| fields.text(&format!("{name}-{i}")).trim().to_owned();
        let name = of("name");
        if name.is_empty() {
            continue;
        }
        match line(&of, &format!("{name}, ")) {
            Ok(line) => lines.push(line),
            Err(wrong) => errors.extend(wrong),
        }
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
    let frame = Frame::new(member, Station::Bids, params);
    let page = LinesPage { frame, tried: Tried::default(), rows, errors };
    Ok((StatusCode::UNPROCESSABLE_ENTITY, page).into_response())
}
