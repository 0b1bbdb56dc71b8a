//! The change tray: what is about to be sent, what comes of it, and what puts changes in it.

use crate::paths::Paths;
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{Html, IntoResponse, Redirect, Response};
use tiller_core::spot::Subject;
use tiller_desk::advice::{self, Cure};
use tiller_desk::numerals::{self, counted, full_day};
use tiller_desk::plans::{self, moves};
use tiller_desk::tray::offer::{self, Offer};
use tiller_desk::tray::{Check, Edit, Row, sending};
use tiller_desk::{
    ChangeId, DeskError, PlanId, causes, change_words, logbook, tray as desk, wording,
};

use crate::App;
use crate::error::PageError;
use crate::extract::{Id, Member};
use crate::frame::{Frame, Station, TrayBar};
use crate::pages::figures_table::{key, subject};
use crate::pages::{book_of_reports, download};
use crate::params::Params;
use crate::sent::Sent;

/// Refusals are shown beside the tray for so many days.
const REFUSALS_SHOWN: u64 = 7;

/// What was answered within this time was sent together.
const SENDING: chrono::TimeDelta = chrono::TimeDelta::minutes(1);

/// A change in the tray.
pub struct ChangeLine {
    id: ChangeId,
    place: String,
    href: String,
    channel: String,
    title: &'static str,
    was: String,
    set_to: String,
    distance: String,
    a_day: String,
    tone: &'static str,
    reason: String,
    effect: String,
    author: String,
    sending: bool,
    checks: Vec<Check>,
}

impl ChangeLine {
    fn stops(&self) -> bool {
        self.checks.iter().any(|c| c.stops)
    }
}

/// A change that a channel refused.
pub struct Refused {
    id: ChangeId,
    place: String,
    sentence: String,
    answer: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "tray.html")]
struct TrayPage {
    frame: Frame,
    lines: Vec<ChangeLine>,
    refused: Vec<Refused>,
    held_up: Vec<String>,
    sending: usize,
    waiting: usize,
    stopped: usize,
    made: Option<String>,
    wrong: Option<String>,
}

fn line(row: Row, base: &Paths) -> ChangeLine {
    let c = &row.change;
    let at = desk::spot(c).subject();
    let a_day = tiller_core::Micros::new(c.a_day).to_units();
    ChangeLine {
        id: c.id,
        href: base.causes(at, &Params::default()),
        place: c.place.clone(),
        channel: c.channel_name.clone(),
        title: change_words::title(&row.set_to),
        was: row.was.as_ref().map(change_words::value).unwrap_or_default(),
        set_to: change_words::value(&row.set_to),
        distance: change_words::distance(row.was.as_ref(), &row.set_to),
        a_day: if a_day == 0.0 { String::new() } else { numerals::signed(a_day, numerals::money) },
        tone: if a_day < 0.0 { "gain" } else { "" },
        reason: c.reason.clone(),
        effect: c.effect.clone(),
        author: desk::author(c),
        sending: c.state == desk::State::Sending,
        checks: row.checks,
    }
}

async fn page(
    app: &App,
    member: &Member,
    params: &Params,
    wrong: Option<String>,
) -> Result<TrayPage, PageError> {
    let frame = Frame::new(member, Station::Tray, params);
    let base = frame.base();
    let lines: Vec<ChangeLine> =
        desk::rows(&app.db, &member.account).await?.into_iter().map(|r| line(r, &base)).collect();
    let log = logbook::lately(&app.db, &member.account, REFUSALS_SHOWN).await?;
    Ok(TrayPage {
        sending: lines.iter().filter(|l| l.sending).count(),
        waiting: lines.iter().filter(|l| !l.sending).count(),
        stopped: lines.iter().filter(|l| l.stops()).count(),
        refused: log
            .iter()
            .filter(|e| e.refused())
            .map(|e| Refused {
                id: e.change.id,
                place: e.change.place.clone(),
                sentence: e.sentence(),
                answer: e.change.answer.clone(),
            })
            .collect(),
        held_up: sending::held_up(&app.db, &member.account).await?,
        made: just_made(&log),
        lines,
        wrong,
        frame,
    })
}

/// What the last sending came to.
fn just_made(log: &[logbook::Entry]) -> Option<String> {
    let newest = log.iter().filter(|e| e.made()).filter_map(|e| e.change.answered_at).max()?;
    let last: Vec<_> = log
        .iter()
        .filter(|e| e.made() && e.change.answered_at.is_some_and(|t| newest - t < SENDING))
        .collect();
    let mut channels: Vec<&str> = last.iter().map(|e| e.change.channel_name.as_str()).collect();
    channels.sort_unstable();
    channels.dedup();
    let days = last.iter().filter_map(|e| e.change.look_back);
    Some(format!(
        "Last sent: {} made at {}, in force from {}; the first is to be judged on {}.",
        counted(last.len() as u64, "change was", "changes were"),
        wording::list(&channels),
        full_day(last.first()?.change.from_day?),
        full_day(days.min()?)
    ))
}

/// The tray.
pub async fn show(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    page(&app, &member, &params, None).await
}

/// The tray as a file, for channels whose changes are made by hand.
pub async fn csv(member: Member, State(app): State<App>) -> Result<Response, PageError> {
    let rows = desk::rows(&app.db, &member.account).await?;
    let bytes = sending::file(&rows).map_err(|e| PageError::Internal(e.to_string()))?;
    Ok(download("text/csv; charset=utf-8", &format!("changes-{}.csv", member.account.slug), bytes))
}

/// Sends the chosen changes.
pub async fn send(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    match sending::send(&app.db, &member.account, &fields.ids("change", ChangeId)).await {
        Ok(_) => {
            app.wake.changes.notify_one();
            Ok(Redirect::to(&member.path("tray")).into_response())
        }
        Err(DeskError::Invalid(message)) => {
            let page = page(app, member, params, Some(message)).await?;
            Ok((StatusCode::UNPROCESSABLE_ENTITY, page).into_response())
        }
        Err(error) => Err(error.into()),
    }
}

/// Takes the chosen changes out.
pub async fn withdraw(sent: Sent) -> Result<Redirect, PageError> {
    let Sent { app, member, fields, .. } = &sent;
    desk::withdraw(&app.db, &member.account, &fields.ids("change", ChangeId)).await?;
    Ok(Redirect::to(&member.path("tray")))
}

#[derive(Template)]
#[template(path = "tray_said.html")]
struct Said {
    good: bool,
    text: String,
    tray: TrayBar,
}

/// What became of putting something in the tray: a line beside the form with the bar at the foot, or back
/// to where the form was.
pub async fn said(sent: &Sent, outcome: Result<String, DeskError>) -> Result<Response, PageError> {
    let Sent { app, member, .. } = sent;
    if !sent.fragment {
        outcome?;
        return Ok(sent.back("tray").into_response());
    }
    let (good, text) = match outcome {
        Ok(text) => (true, text),
        Err(DeskError::Invalid(message)) => (false, wording::as_sentence(&message)),
        Err(error) => return Err(error.into()),
    };
    let waiting = desk::waiting(&app.db, &member.account, member.standing.today).await?;
    let tray = TrayBar { beside: true, ..TrayBar::new(member, waiting) };
    let html =
        Said { good, text, tray }.render().map_err(|e| PageError::Internal(e.to_string()))?;
    Ok(Html(html).into_response())
}

/// How many changes were put in the tray.
pub fn put(n: usize) -> String {
    match n {
        0 => "It is set like that already, or waits in the tray.".into(),
        1 => "One change was put in the tray.".into(),
        n => format!("{n} changes were put in the tray."),
    }
}

/// Sets something by hand on the chosen rows of a table.
pub async fn edit(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, fields, .. } = &sent;

    let chosen: Vec<Subject> = fields.values("on").filter_map(subject).collect();
    let what = Edit::read(fields.text("what"))
        .ok_or_else(|| PageError::Invalid("Choose what to set.".into()))?;
    let (db, account, person) = (&app.db, &member.account, sent.person());
    let outcome =
        desk::edit(db, account, person, &chosen, what, fields.text("how"), fields.text("reason"))
            .await;
    said(&sent, outcome.map(put)).await
}

/// Puts what an advice says in the tray.
pub async fn remedy(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let of = fields.text("of");
    let of = subject(of).ok_or_else(|| PageError::Invalid("Choose what to change.".into()))?;
    let book = book_of_reports(&app.db, member, params).await?;
    let examined = causes::examine(&app.db, &book, of).await?;
    let (db, account, person) = (&app.db, &member.account, sent.person());
    let outcome = match advice::cure(&app.db, &book, of, &examined).await? {
        Some(Cure::Change(p)) => {
            let button = fields.get("take").map_or_else(|| key(of), str::to_owned);
            match offer::taken(&[button], vec![Offer::change(key(of), &examined.name, p)]) {
                Ok(proposals) => desk::propose(db, account, person, proposals).await.map(put),
                Err(error) => Err(error),
            }
        }
        Some(Cure::Budget(..)) => Err(DeskError::Invalid(
            "its budget is one of the week’s moves by now; put those in the tray on Budgets".into(),
        )),
        Some(Cure::Quiet(quiet)) => Err(DeskError::Invalid(quiet.sentence())),
        None => Err(DeskError::Invalid(
            "nothing is advised there now, or nothing can be set that would do it; its own page says why".into(),
        )),
    };
    said(&sent, outcome).await
}

/// Puts the daily budgets of a plan in the tray.
pub async fn plan(Id(id): Id<PlanId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let opened = plans::open(&app.db, &member.account, id).await?;
    let done = moves::to_tray(&app.db, &book, sent.person(), &opened, &fields.buttons()).await;
    let outcome = done.map(|(n, left)| {
        let rest = if left.is_empty() {
            String::new()
        } else {
            format!(" Left as they are: {}.", left.join("; "))
        };
        put(n) + " The month is now measured against this plan." + &rest
    });
    said(&sent, outcome).await
}
