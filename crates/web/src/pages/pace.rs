//! The month's pace: the fan, plan against forecast, and the daily budgets that would end it on plan.

use std::sync::Arc;
use tiller_core::evidence::Interval;
use tiller_core::score::Kind;

use std::collections::{BTreeSet, HashMap};

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use chrono::NaiveDate;
use tiller_desk::account::settings::Settings;
use tiller_desk::book::Book;
use tiller_desk::numerals::{self, money, or_absent, signed, sum};
use tiller_desk::pace::{Miss, Of, Pace, Row};
use tiller_desk::scores::words::caveat;
use tiller_desk::tray::offer;
use tiller_desk::wording::Words;
use tiller_desk::{CampaignId, PgPool, PlanId, pace as desk, plans, scores};

use crate::App;
use crate::chart::{self, Fan, Forms};
use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::pages::tray::{put, said};
use crate::pages::{book_of_reports, csv_file, plain};
use crate::params::Params;
use crate::sent::Sent;

/// A row of the table.
pub struct PaceLine {
    name: String,
    href: String,
    /// Where the working of one of its figures is; the figure's name follows.
    working: String,
    level: &'static str,
    /// What its box carries, where a needed budget is offered.
    button: Option<String>,
    spent: String,
    plan: String,
    end: String,
    interval: String,
    off: String,
    tone: &'static str,
    verdict: String,
    needed: String,
    budget: String,
}

/// A budget of the month, as a field.
struct Month {
    id: String,
    name: String,
    label: String,
    value: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "pace.html")]
struct PacePage {
    frame: Frame,
    title: String,
    lead: Words,
    fan: Option<Forms<Fan>>,
    of: String,
    lines: Vec<PaceLine>,
    plans: Vec<(PlanId, String, bool)>,
    /// Whether anything is measured against a plan or budgets.
    planned: bool,
    /// How far such ranges have been off, where by more than chance.
    caveat: Option<String>,
    months: Vec<Month>,
    error: Option<String>,
    csv: String,
}

/// Spend by day of what a row is about.
fn spend(book: &Book, of: &Of) -> Vec<(NaiveDate, f64)> {
    book.entries
        .iter()
        .filter(|e| match of {
            Of::Account => true,
            Of::Channel(name) => e.campaign.channel == *name,
            Of::Campaign(id) => e.campaign.id == *id,
        })
        .flat_map(|e| e.days.iter().map(|d| (d.day, d.tally.spend.to_units())))
        .collect()
}

/// The fan of a row.
pub fn fan(book: &Book, pace: &Pace, row: &Row, size: (f64, f64)) -> Fan {
    let spend = spend(book, &row.of);
    let currency = &book.account.currency;
    Fan::new(size, pace.month, pace.to, &spend, &row.forecast, row.plan, currency)
}

fn line(row: &Row, frame: &Frame, buttons: &HashMap<String, String>) -> PaceLine {
    let (mid, Interval { low, high }) = row.forecast.end();
    let (level, word) = match &row.of {
        Of::Account => ("account", "account".to_owned()),
        Of::Channel(name) => ("channel", format!("channel:{name}")),
        Of::Campaign(id) => ("campaign", id.to_string()),
    };
    let (tone, verdict) = match row.misses() {
        Some(Miss::Over) => ("harm", "too much"),
        Some(Miss::Under) => ("quiet", "too little"),
        None if row.plan.is_some() => ("gain", "on plan"),
        None => ("quiet", ""),
    };
    PaceLine {
        name: row.name.clone(),
        href: format!("{}/spend/pace{}", frame.base(), frame.days.with("of", &word)),
        working: format!(
            "{}/spend/pace/working{}&figure=",
            frame.base(),
            frame.days.with("of", &word)
        ),
        level,
        button: buttons.get(&word).cloned(),
        spent: sum(row.forecast.spent),
        plan: or_absent(row.plan, sum),
        end: sum(mid),
        interval: format!("{} – {}", sum(low), sum(high)),
        off: or_absent(row.plan.filter(|p| *p > 0.0), |p| {
            signed(100.0 * (mid / p - 1.0), |x| numerals::number(x, 0))
        }),
        tone,
        verdict: match &row.quiet {
            Some(quiet) if row.misses().is_some() => {
                format!("{verdict}; {}", quiet.sentence())
            }
            _ => verdict.to_owned(),
        },
        needed: or_absent(row.needed(), money),
        budget: or_absent(row.budget, money),
    }
}

pub(super) fn chosen_row<'a>(pace: &'a Pace, params: &Params) -> Result<&'a Row, PageError> {
    let of = match params.text("of") {
        "" | "account" => Of::Account,
        word => match word.strip_prefix("channel:") {
            Some(name) => Of::Channel(name.to_owned()),
            None => Of::Campaign(CampaignId(word.parse().unwrap_or(0))),
        },
    };
    pace.row(&of).ok_or_else(|| {
        PageError::NotFound("Nothing of that name has been spent on this month.".into())
    })
}

pub(super) async fn pace(db: &PgPool, book: &Book) -> Result<Arc<Pace>, PageError> {
    desk::of_account(db, book).await?.ok_or_else(|| {
        PageError::NotFound(
            "A forecast needs seven reported days. Look again when they are there.".into(),
        )
    })
}

/// The month's pace.
pub async fn show(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    shown(&app, &member, &params, None).await
}

/// What was typed for the account (none) and its channels.
type Typed = Vec<(Option<String>, String)>;

/// The page, with what could not be taken of what was typed, and why.
async fn shown(
    app: &App,
    member: &Member,
    params: &Params,
    refused: Option<(String, Typed)>,
) -> Result<Response, PageError> {
    let book = book_of_reports(&app.db, member, params).await?;
    let frame = Frame::of_book(member, Station::Spend, params, &book);
    let pace = pace(&app.db, &book).await?;
    let row = chosen_row(&pace, params)?;
    let settings = Settings::of_book(&app.db, &book).await?;
    let buttons = offer::buttons(&desk::offers(&pace, &settings));
    let plans = plans::list(&app.db, &member.account).await?;
    let (error, typed) = refused.map_or((None, None), |(e, t)| (Some(e), Some(t)));
    let months = places(&pace)
        .into_iter()
        .enumerate()
        .map(|(i, channel)| {
            let label = channel.map_or("The account".to_owned(), str::to_owned);
            let typed = match &typed {
                Some(all) => all.iter().find(|(c, _)| c.as_deref() == channel).map(|t| t.1.clone()),
                None => pace
                    .typed
                    .iter()
                    .find(|b| b.channel.as_deref() == channel)
                    .map(|b| money(b.amount.to_units())),
            };
            let (id, name) = (format!("month-{i}"), field(channel));
            Month { id, name, label, value: typed.unwrap_or_default() }
        })
        .collect();
    let page = PacePage {
        title: format!("The pace of {}", pace.month.from().format("%B")),
        lead: pace.sentence(row),
        fan: Forms::of(|form| {
            let size = if form == chart::Form::Wide { (860.0, 300.0) } else { (400.0, 240.0) };
            Some(fan(&book, &pace, row, size))
        }),
        of: row.name.clone(),
        lines: pace.rows.iter().map(|r| line(r, &frame, &buttons)).collect(),
        plans: plans.iter().map(|o| (o.plan.id, o.plan.name.clone(), o.plan.followed)).collect(),
        planned: pace.rows.iter().any(|r| r.plan.is_some()),
        caveat: caveat(scores::of_account(&app.db, &book).await?.as_ref(), Kind::MonthSpend),
        months,
        csv: format!("{}/spend/pace.csv{}", frame.base(), frame.days),
        frame,
        error,
    };
    let status = if page.error.is_some() {
        axum::http::StatusCode::UNPROCESSABLE_ENTITY
    } else {
        axum::http::StatusCode::OK
    };
    Ok((status, page).into_response())
}

/// What a month's budget can be typed for: the account, then its channels, those that have one but spend nothing too.
fn places(pace: &Pace) -> BTreeSet<Option<&str>> {
    let spending = pace.rows.iter().filter_map(|r| match &r.of {
        Of::Channel(name) => Some(Some(name.as_str())),
        _ => None,
    });
    spending.chain(pace.typed.iter().map(|b| b.channel.as_deref())).chain([None]).collect()
}

/// The name of a budget's field.
fn field(channel: Option<&str>) -> String {
    channel.map_or("month".into(), |name| format!("month:{name}"))
}

/// Sets what the month is to spend.
pub async fn plan(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let typed: Typed = {
        let pace = pace(&app.db, &book).await?;
        let value = |c| fields.get(&field(c)).map(str::to_owned);
        places(&pace).into_iter().filter_map(|c| Some((c.map(str::to_owned), value(c)?))).collect()
    };
    match desk::plan_month(&app.db, &book, sent.person(), &typed).await {
        Err(tiller_desk::DeskError::Invalid(why)) => {
            shown(app, member, params, Some((why, typed))).await
        }
        done => {
            done?;
            let back = params.only_period();
            Ok(Redirect::to(&member.path(&format!("spend/pace{back}"))).into_response())
        }
    }
}

/// The table as a file.
pub async fn csv(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let pace = pace(&app.db, &book).await?;
    let header = [
        "level",
        "name",
        "currency",
        "month",
        "to",
        "spent",
        "plan",
        "forecast",
        "low_80",
        "high_80",
        "needed_a_day",
        "budget_a_day",
    ]
    .map(str::to_owned);
    let rows = pace.rows.iter().map(|r| {
        let (mid, Interval { low, high }) = r.forecast.end();
        let level = match r.of {
            Of::Account => "account",
            Of::Channel(_) => "channel",
            Of::Campaign(_) => "campaign",
        };
        vec![
            level.to_owned(),
            r.name.clone(),
            member.account.currency.clone(),
            pace.month.from().format("%Y-%m").to_string(),
            pace.to.to_string(),
            plain(Some(r.forecast.spent)),
            plain(r.plan),
            plain(Some(mid)),
            plain(Some(low)),
            plain(Some(high)),
            plain(r.needed()),
            plain(r.budget),
        ]
    });
    csv_file("pace.csv", &header, rows)
}

/// The month follows a plan, or none.
pub async fn follow(sent: Sent) -> Result<Redirect, PageError> {
    let Sent { app, member, fields, .. } = &sent;
    let id = fields.read("plan").map(PlanId);
    plans::follow(&app.db, &member.account, id).await?;
    Ok(sent.on_to("spend/pace"))
}

/// Puts needed daily budgets in the tray.
pub async fn take(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let outcome = desk::take(&app.db, &book, sent.person(), &fields.buttons()).await;
    said(&sent, outcome.map(put)).await
}
