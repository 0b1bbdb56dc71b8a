//! Spend split by people, time, search term or event.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use tiller_channel::wire::Dimension;
use tiller_core::Tally;
use tiller_desk::CampaignId;
use tiller_desk::book::Book;
use tiller_desk::figures::{self, count, money, number, percent, signed, sum};
use tiller_desk::split::{self as desk, By, Row};

use crate::App;
use crate::chart::{FieldRow, SpendField, WeekGrid};
use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::pages::{book_of_reports, csv_file, plain};
use crate::params::Params;

/// The table shows so many parts; the file has all.
const SHOWN: usize = 200;

/// A part as a row.
pub struct Line {
    name: String,
    spend: String,
    share: String,
    clicks: String,
    cpc: String,
    cvr: String,
    conversions: String,
    result_share: String,
    cost: String,
    excess: String,
    tone: &'static str,
}

#[derive(Template, WebTemplate)]
#[template(path = "split.html")]
struct SplitPage {
    frame: Frame,
    title: &'static str,
    ways: Vec<(&'static str, bool, Params)>,
    campaigns: Vec<(i64, String, bool)>,
    hidden: Vec<(String, String)>,
    field: Option<SpendField>,
    week: Option<WeekGrid>,
    lines: Vec<Line>,
    total: Line,
    cost_title: &'static str,
    more: usize,
    csv: Params,
    short: Option<&'static str>,
}

fn line(row: &Row, whole: &Tally, by_value: bool) -> Line {
    let t = &row.tally;
    let share = |part: f64, of: f64| figures::or_absent((of > 0.0).then(|| part / of), percent);
    let (result, results) = if by_value {
        (t.value.to_units(), whole.value.to_units())
    } else {
        (t.conversions, whole.conversions)
    };
    Line {
        name: row.name.clone(),
        spend: sum(t.spend.to_units()),
        share: share(t.spend.to_units(), whole.spend.to_units()),
        clicks: number(t.clicks as f64, 0),
        cpc: figures::or_absent(t.cpc(), money),
        cvr: figures::or_absent(t.cvr(), percent),
        conversions: count(t.conversions),
        result_share: share(result, results),
        cost: if by_value {
            figures::or_absent(t.roas(), |r| number(r, 2))
        } else {
            figures::or_absent(t.cpa(), money)
        },
        excess: figures::or_absent(row.excess, |e| signed(e, sum)),
        tone: if row.excess.is_some_and(|e| e > 0.0) { "harm" } else { "gain" },
    }
}

struct Asked {
    book: Book,
    by: By,
    word: &'static str,
    title: &'static str,
    campaign: Option<CampaignId>,
    rows: Vec<Row>,
}

async fn asked(app: &App, member: &Member, params: &Params) -> Result<Asked, PageError> {
    let book = book_of_reports(&app.pool, member, params).await?;
    let (by, word, title) = By::read(params.text("by"));
    let campaign = params.number("campaign")?.map(CampaignId);
    if let Some(id) = campaign {
        book.entry(id)?;
    }
    let mut rows = desk::rows(&app.pool, &book, by, campaign).await?;
    // Hours and weekdays keep their order; of everything else the dearest comes first.
    if !matches!(by, By::Weekday | By::People(Dimension::Hour)) {
        rows.sort_by_key(|r| std::cmp::Reverse(r.tally.spend));
    }
    Ok(Asked { book, by, word, title, campaign, rows })
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
    let target = match a.campaign {
        Some(id) => a.book.entry(id)?.target,
        None => a.book.account.target(),
    };
    let whole: Tally = a.rows.iter().map(|r| r.tally).sum();
    let total = Row {
        name: format!("All {}", a.rows.len()),
        tally: whole,
        excess: a.rows.iter().map(|r| r.excess).sum(),
    };
    let field_rows: Vec<FieldRow> = a
        .rows
        .iter()
        .filter_map(|r| {
            Some(FieldRow {
                key: r.name.clone(),
                href: String::new(),
                name: &r.name,
                sub: "",
                tally: r.tally,
                target: target?,
            })
        })
        .collect();
    let week = match a.by {
        By::People(Dimension::Hour) => {
            Some(WeekGrid::new(&desk::week(&app.pool, &a.book, a.campaign).await?))
        }
        _ => None,
    };
    let field = (week.is_none() && a.by != By::Term)
        .then(|| SpendField::new(&field_rows, target, by_value, &a.book.account.currency))
        .flatten();
    let page = SplitPage {
        title: a.title,
        ways: By::ALL.iter().map(|(_, w, t)| (*t, *w == a.word, params.with("by", w))).collect(),
        campaigns: a
            .book
            .entries
            .iter()
            .map(|e| (e.campaign.id.0, e.campaign.name.clone(), a.campaign == Some(e.campaign.id)))
            .collect(),
        hidden: params
            .others(&["campaign"])
            .into_iter()
            .map(|(k, v)| (k.to_owned(), v.to_owned()))
            .collect(),
        field,
        week,
        lines: a.rows.iter().take(SHOWN).map(|r| line(r, &whole, by_value)).collect(),
        total: line(&total, &whole, by_value),
        cost_title: if by_value { "ROAS" } else { "CPA" },
        more: a.rows.len().saturating_sub(SHOWN),
        csv: params.with("by", a.word),
        short: (whole.spend.to_units() < 0.98 * spent(&a)).then_some(match a.by {
            By::Term => "Only what keywords brought was searched for; of the last 90 days.",
            By::Event => "Events tell of results, not of money.",
            _ => "Channels told this split of part of the spend only: of the last 90 days, and of no uploaded report.",
        }),
        frame,
    };
    Ok(page.into_response())
}

/// What the period spent, split or not.
fn spent(a: &Asked) -> f64 {
    let all = a.book.entries.iter().filter(|e| a.campaign.is_none_or(|c| c == e.campaign.id));
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
