//! Spend split by people, time, search term or event.

use std::sync::Arc;
use tiller_core::spot::Subject;

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use tiller_core::Tally;
use tiller_core::setting::Dimension;
use tiller_desk::book::Book;
use tiller_desk::figure::{Figure, Seen};
use tiller_desk::rows;
use tiller_desk::spend::split as desk;
use tiller_desk::spend::split::{Of, Row, SplitBy};
use tiller_desk::{CampaignId, numerals};

use crate::App;
use crate::chart::{FieldRow, Forms, SpendField, WeekGrid};
use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::pages::{book_of_reports, csv_file, plain};
use crate::params::Params;

/// The table shows so many parts; the file has all.
const SHOWN: usize = 200;

/// A figure of a part.
struct Cell {
    text: String,
    tone: &'static str,
    working: Option<Params>,
}

/// A part as a row.
struct SplitLine {
    name: String,
    href: String,
    cells: Vec<Cell>,
}

#[derive(Template, WebTemplate)]
#[template(path = "split.html")]
struct SplitPage {
    frame: Frame,
    title: &'static str,
    ways: Vec<(&'static str, bool, Params)>,
    campaigns: Vec<(i64, String, bool)>,
    hidden: Vec<(String, String)>,
    field: Option<Forms<SpendField>>,
    week: Option<Forms<WeekGrid>>,
    lines: Vec<SplitLine>,
    total: Vec<Cell>,
    total_name: String,
    part: Option<(String, Params)>,
    cost_title: &'static str,
    more: usize,
    csv: Params,
    /// Whether its parts can be bid for.
    bids: bool,
    short: Option<&'static str>,
}

/// What an address splits.
pub fn of(params: &Params) -> Result<Of, PageError> {
    let part = params.text("part");
    Ok(Of {
        campaign: params.number("campaign")?.map(CampaignId),
        part: (!part.is_empty()).then(|| part.to_owned()),
    })
}

/// The figures of a row; `working` leads to how each came about.
fn cells(
    row: &Row,
    whole: &Tally,
    a: &Asked,
    working: Option<&Params>,
) -> Result<Vec<Cell>, PageError> {
    // Campaigns with targets of their own have no formula in common.
    let summed = row.excess.filter(|_| !a.one_target()).map(|e| (e.max(0.0), e.min(0.0)));
    let as_row = rows::Row { summed, ..row.clone().as_row(&a.book, &a.of)? };
    let seen = Seen { row: &as_row, whole, whole_is: "All rows" };
    let cost = if a.book.by_value() { "roas" } else { "cpa" };
    let keys =
        ["spend", "share", "clicks", "cpc", "cvr", "conversions", "result_share", cost, "excess"];
    let cell = |figure: &Figure| {
        let value = (figure.value)(&seen);
        let told = value.is_some() && !(figure.key == "excess" && summed.is_some());
        Cell {
            text: numerals::or_absent(value, |x| figure.unit.text(x)),
            tone: match value {
                Some(x) if f64::from(figure.sign) * x > 0.0 => "harm",
                Some(_) if figure.sign != 0 => "gain",
                _ => "",
            },
            working: working.filter(|_| told).map(|p| p.with("figure", figure.key)),
        }
    };
    Ok(keys.into_iter().filter_map(Figure::of).map(cell).collect())
}

struct Asked {
    book: Arc<Book>,
    by: SplitBy,
    word: &'static str,
    title: &'static str,
    of: Of,
    rows: Vec<Row>,
}

impl Asked {
    fn one_target(&self) -> bool {
        self.of.campaign.is_some()
            || self.book.entries.iter().all(|e| e.campaign.own_target.is_none())
    }
}

async fn asked(app: &App, member: &Member, params: &Params) -> Result<Asked, PageError> {
    let book = book_of_reports(&app.db, member, params).await?;
    let (by, word, title) = SplitBy::read(params.text("by"));
    let of = of(params)?;
    if let Some(id) = of.campaign {
        book.entry(id)?;
    }
    let mut rows = desk::rows(&app.db, &book, by, &of).await?;
    // Hours and weekdays keep their order; of everything else the dearest comes first.
    if !matches!(by, SplitBy::Weekday | SplitBy::People(Dimension::Hour)) {
        rows.sort_by_key(|r| std::cmp::Reverse(r.tally.spend));
    }
    Ok(Asked { book, by, word, title, of, rows })
}

/// The page.
pub async fn show(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    let a = asked(&app, &member, &params).await?;
    let frame = Frame::of_book(&member, Station::Spend, &params, &a.book);
    let by_value = a.book.by_value();
    let target = match a.of.campaign {
        Some(id) => a.book.entry(id)?.target,
        None => a.book.account.target(),
    };
    let whole: Tally = a.rows.iter().map(|r| r.tally).sum();
    let total = Row {
        name: format!("All {}", a.rows.len()),
        campaign: None,
        tally: whole,
        excess: a.rows.iter().map(|r| r.excess).sum(),
    };
    let field_rows: Vec<FieldRow> = a
        .rows
        .iter()
        .filter_map(|r| {
            Some(FieldRow {
                key: r.name.clone(),
                href: href(&frame, &a, r),
                name: &r.name,
                sub: "",
                tally: r.tally,
                target: target?,
            })
        })
        .collect();
    let week = match a.by {
        SplitBy::People(Dimension::Hour) if a.of.part.is_none() => {
            let week = desk::week(&app.db, &a.book, a.of.campaign).await?;
            Forms::of(|form| Some(WeekGrid::new(&week, form)))
        }
        _ => None,
    };
    let currency = &a.book.account.currency;
    let field = Forms::of(|form| {
        let drawn = week.is_none() && a.by != SplitBy::Term;
        SpendField::new(&field_rows, target, by_value, currency, form).filter(|_| drawn)
    });
    let working = params.with("by", a.word).with("of", "part");
    let page = SplitPage {
        title: a.title,
        bids: matches!(a.by, SplitBy::People(_) | SplitBy::Weekday),
        ways: SplitBy::ALL.iter().map(|(_, w, t)| (*t, *w == a.word, params.with("by", w).with("part", ""))).collect(),
        campaigns: a
            .book
            .entries
            .iter()
            .map(|e| (e.campaign.id.0, e.campaign.name.clone(), a.of.campaign == Some(e.campaign.id)))
            .collect(),
        hidden: params
            .others(&["campaign", "part"])
            .into_iter()
            .map(|(k, v)| (k.to_owned(), v.to_owned()))
            .collect(),
        field,
        week,
        lines: a
            .rows
            .iter()
            .take(SHOWN)
            .map(|r| {
                let cells = cells(r, &whole, &a, Some(&working.with("row", &r.name)))?;
                Ok(SplitLine { name: r.name.clone(), href: href(&frame, &a, r), cells })
            })
            .collect::<Result<_, PageError>>()?,
        total: cells(&total, &whole, &a, None)?,
        total_name: total.name,
        part: a.of.part.clone().map(|p| (p, params.with("part", ""))),
        cost_title: if by_value { "ROAS" } else { "CPA" },
        more: a.rows.len().saturating_sub(SHOWN),
        csv: params.with("by", a.word),
        short: (a.of.part.is_none() && whole.spend.to_units() < 0.98 * spent(&a)).then_some(match a.by {
            SplitBy::Term => "Only what keywords brought was searched for; of the last 90 days.",
            SplitBy::Event => "Events tell of results, not of money.",
            _ => "Channels told this split of part of the spend only: of the last 90 days, and of no uploaded report.",
        }),
        frame,
    };
    Ok(page.into_response())
}

/// Where a part leads: to the campaigns behind it, to the same split of one of them, or to what can be done
/// about it there.
fn href(frame: &Frame, a: &Asked, row: &Row) -> String {
    let here = frame.days.with("by", a.word);
    match (row.campaign, a.of.campaign) {
        (Some(id), _) => format!("{}/spend/split{}", frame.base(), here.with("campaign", id)),
        (None, Some(id)) => frame.base().causes(Subject::Campaign(id), &frame.days),
        (None, None) => {
            format!("{}/spend/split{}", frame.base(), here.with("part", &row.name))
        }
    }
}

/// What the period spent, split or not.
fn spent(a: &Asked) -> f64 {
    let all = a.book.entries.iter().filter(|e| a.of.campaign.is_none_or(|c| c == e.campaign.id));
    all.map(|e| e.tally(a.book.period.window).spend.to_units()).sum()
}

/// All parts, as CSV.
pub async fn csv(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    let a = asked(&app, &member, &params).await?;
    let header =
        [a.word, "impressions", "clicks", "spend", "conversions", "value", "cpa", "roas", "excess"];
    let rows = a.rows.iter().map(|r| {
        let t = &r.tally;
        vec![
            r.name.clone(),
            t.impressions.to_string(),
            t.clicks.to_string(),
            t.spend.to_plain(),
            plain(Some(t.conversions)),
            t.value.to_plain(),
            plain(t.cpa()),
            plain(t.roas()),
            plain(r.excess),
        ]
    });
    csv_file(
        &format!("{}-by-{}.csv", member.account.slug, a.word),
        &header.map(str::to_owned),
        rows,
    )
}
