//! Spend: the table and the spend field.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use tiller_core::Tally;
use tiller_core::spot::Subject;
use tiller_desk::book::Book;
use tiller_desk::figure::{Figure, Seen, beside_peers, usual};
use tiller_desk::numerals::{self, count, money, number, sum};
use tiller_desk::rows::{Level, Row, rows};
use tiller_desk::tray::Edit;
use tiller_desk::wording::{self, Words};
use tower_sessions::Session;

use crate::App;
use crate::chart::{FieldRow, Forms, SpendField};
use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::pages::columns::chosen;
use crate::pages::figures_table::{Cell, MOST_ROWS, Table, View, cells, key, parts_of, totals};
use crate::pages::{book, book_of_reports, csv_file, plain};
use crate::params::Params;

/// The order in which the table stands first.
const ORDER: &str = "-excess";

/// A row of the table.
pub struct RowLine {
    key: String,
    href: String,
    name: String,
    home: String,
    status: String,
    drill: Option<(String, &'static str)>,
    cells: Vec<Cell>,
    verdict: Option<(String, &'static str)>,
    target_link: Option<String>,
    spend: f64,
    conversions: f64,
    value: f64,
    excess: f64,
}

#[derive(Template, WebTemplate)]
#[template(path = "spend.html")]
struct SpendPage {
    frame: Frame,
    summary: Words,
    field: Option<Forms<SpendField>>,
    table: Table,
    lines: Vec<RowLine>,
    totals: Vec<Cell>,
    beside: (&'static str, Params),
    csv: String,
    no_targets: bool,
    edits: Vec<(&'static str, &'static str)>,
    views: Vec<(String, String)>,
}

#[derive(Template, WebTemplate)]
#[template(path = "no_reports.html")]
pub struct NoReports {
    pub frame: Frame,
    pub title: &'static str,
    pub what: &'static str,
}

async fn columns(
    session: &Session,
    params: &Params,
    book: &Book,
    level: Level,
) -> Result<Vec<&'static Figure>, PageError> {
    chosen(session, params, "spend", book, level, usual(book.by_value(), level)).await
}

/// What shares are shares of: the whole account, however the table is filtered.
fn whole(book: &Book) -> Tally {
    book.total(book.period.window)
}

/// The page.
pub async fn show(
    member: Member,
    State(app): State<App>,
    session: Session,
    params: Params,
) -> Result<Response, PageError> {
    let Some(book) = book(&app.db, &member, &params).await? else {
        let frame = Frame::new(&member, Station::Spend, &params);
        return Ok(NoReports {
            frame,
            title: "Spend",
            what: "every campaign of all channels against its target",
        }
        .into_response());
    };
    let view = View::of(&params)?;
    let columns = columns(&session, &params, &book, view.level).await?;
    let all = rows(&app.db, &book, view.level, view.within).await?;
    let judged: Vec<_> = all.iter().filter_map(|r| r.judged.as_ref()).collect();
    let frame =
        Frame::of_book(&member, Station::Spend, &params, &book).with_causes(judged.into_iter());
    let summary = summary(&book);
    let no_targets = book.entries.iter().all(|e| e.target.is_none());
    let all = view.arrange(all, |r| r, ORDER);
    let base = frame.base();
    let field_rows: Vec<FieldRow> = all
        .iter()
        .filter_map(|r| {
            Some(FieldRow {
                key: key(r.subject),
                href: base.causes(r.subject, &frame.days),
                name: &r.name,
                sub: &r.channel,
                tally: r.tally,
                target: r.target?,
            })
        })
        .collect();
    let (target, currency) = (book.account.target(), &book.account.currency);
    let field =
        Forms::of(|form| SpendField::new(&field_rows, target, book.by_value(), currency, form));
    let account = whole(&book);
    let workings = view.whole().then(|| format!("{base}/working{}", frame.days.with("of", "all")));
    let lines = all.iter().take(MOST_ROWS).map(|r| line(r, &columns, &account, &frame)).collect();
    let page = SpendPage {
        views: tiller_desk::account::views::list(&app.db, &member.account, member.person.id)
            .await?,
        summary,
        field,
        totals: totals(&columns, &all, &book, workings.as_deref()),
        beside: beside(&columns, &params, &book, view.level),
        csv: format!("{base}/spend.csv{params}"),
        table: Table::new("spend", &view, &params, &columns, ORDER).of_rows(
            &book,
            &view,
            all.iter(),
            &params,
        ),
        no_targets,
        lines,
        edits: if frame.editor && frame.connected {
            Edit::ALL.map(|e| (e.word(), e.title())).to_vec()
        } else {
            Vec::new()
        },
        frame,
    };
    Ok(page.into_response())
}

/// The table as it is seen, as CSV: all rows, plain numbers.
pub async fn csv(
    member: Member,
    State(app): State<App>,
    session: Session,
    params: Params,
) -> Result<Response, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let view = View::of(&params)?;
    let columns = columns(&session, &params, &book, view.level).await?;
    let all = view.arrange(rows(&app.db, &book, view.level, view.within).await?, |r| r, ORDER);
    let account = whole(&book);
    let header: Vec<String> = ["name", "belongs_to", "channel"]
        .into_iter()
        .chain(columns.iter().map(|c| c.key))
        .map(str::to_owned)
        .collect();
    let lines = all.iter().map(|row| {
        let seen = Seen::of(row, &account);
        let texts = [row.name.clone(), row.home.clone(), row.channel.clone()];
        texts.into_iter().chain(columns.iter().map(|c| plain((c.value)(&seen)))).collect()
    });
    csv_file(
        &format!("spend-{}-{}.csv", member.account.slug, book.period.window.to()),
        &header,
        lines,
    )
}

/// The way to the columns that set rows beside their peers, and back to the usual ones.
fn beside(shown: &[&Figure], params: &Params, book: &Book, level: Level) -> (&'static str, Params) {
    if shown.iter().any(|c| c.key == "cvr_peers") {
        let keys: Vec<&str> = usual(book.by_value(), level).map(|c| c.key).collect();
        ("usual columns", params.with("columns", keys.join(",")))
    } else {
        ("beside peers", params.with("columns", beside_peers(book.by_value())))
    }
}

fn line(r: &Row, columns: &[&'static Figure], whole: &Tally, frame: &Frame) -> RowLine {
    let (base, params) = (frame.base(), &frame.days);
    RowLine {
        href: base.causes(r.subject, params),
        name: r.name.clone(),
        home: r.home.clone(),
        status: r.status.clone().filter(|s| s != "active").unwrap_or_default(),
        drill: parts_of(r, "spend", frame),
        cells: cells(r, columns, whole, false, frame),
        verdict: r.judged.as_ref().map(|j| (wording::short(&j.diagnosis), tone(j))),
        target_link: match r.subject {
            Subject::Campaign(id) if frame.editor => Some(format!("{base}/targets/{id}{params}")),
            _ => None,
        },
        spend: r.tally.spend.to_units(),
        conversions: r.tally.conversions,
        value: r.tally.value.to_units(),
        excess: r.excess().unwrap_or(0.0),
        key: key(r.subject),
    }
}

fn tone(j: &tiller_desk::book::Judged) -> &'static str {
    use tiller_core::verdict::Verdict;
    match j.diagnosis.verdict {
        Verdict::OnTarget | Verdict::TooEarly => "quiet",
        _ => "",
    }
}

/// What the period comes to, in a sentence.
fn summary(book: &Book) -> Words {
    let window = book.period.window;
    let total = book.total(window);
    let spent =
        Words::say(format!("{} spent ", book.account.name)).strong(sum(total.spend.to_units()));
    let results = match (book.by_value(), total.roas(), total.cpa()) {
        (true, Some(roas), _) => spent
            .and(" and brought in ")
            .strong(sum(total.value.to_units()))
            .and(" of revenue, a ROAS of ")
            .strong(number(roas, 2)),
        (false, _, Some(cpa)) => spent
            .and(" and got ")
            .strong(count(total.conversions))
            .and(" conversions at a CPA of ")
            .strong(money(cpa)),
        _ => return spent.and(" and counted no conversions."),
    };
    let Some(target) = book.account.target() else {
        return results.and(". Set a target to see what is too much.");
    };
    let over: Vec<f64> = book
        .entries
        .iter()
        .filter_map(|e| Some(e.target?.excess(&e.tally(window))))
        .filter(|x| *x > 0.0)
        .collect();
    let above: f64 = over.iter().sum();
    let results = results.and(format!(
        " against a target of {}. ",
        numerals::target(target).trim_end_matches(".00")
    ));
    let met = if target.excess(&total) <= 0.0 { "That meets it" } else { "That misses it" };
    if over.is_empty() {
        return results.and(format!("{met}, and no campaign is above it."));
    }
    let largest = over.iter().copied().fold(0.0, f64::max);
    let place = if over.len() == 1 {
        "in one campaign.".to_owned()
    } else {
        format!(
            "in {} campaigns, {}% of it in one.",
            over.len(),
            number(100.0 * largest / above, 0)
        )
    };
    results.and(format!("{met}; ")).harm(sum(above)).and(format!(" was overspent, {place}"))
}
