//! One run: what it did, on what was known, and taking all of it back.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use tiller_core::ids::{RuleId, RunId};
use tiller_desk::numerals::{count, full_day, money, number};
use tiller_desk::rules::keeping::{self, Action, Mail, RunState};
use tiller_desk::tray::State as ChangeState;

use super::{came_to, moment};
use crate::App;
use crate::error::PageError;
use crate::extract::{Id, Member};
use crate::frame::{Frame, Station};
use crate::params::Params;
use crate::sent::Sent;

/// Something that it did.
pub struct Line {
    place: String,
    told: String,
    reason: String,
    clicks: String,
    spend: String,
    conversions: String,
    now: &'static str,
}

#[derive(Template, WebTemplate)]
#[template(path = "rule_run.html")]
struct RunPage {
    frame: Frame,
    id: RunId,
    rule: RuleId,
    name: String,
    when: String,
    by: String,
    came_to: String,
    told: bool,
    known: String,
    left: String,
    mail: &'static str,
    open: bool,
    lines: Vec<Line>,
    undo: bool,
    said: String,
}

/// The page.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Id(id): Id<RunId>,
    params: Params,
) -> Result<Response, PageError> {
    let account = &member.account;
    let (run, name, actions) = keeping::run(&app.db, account, id).await?;
    let now = |a: &Action| match a.state {
        _ if a.undone => "undone",
        Some(ChangeState::Waiting) => "waits in the tray",
        Some(ChangeState::Sending) => "is being sent",
        Some(ChangeState::Made) => "made",
        Some(ChangeState::Refused) => "refused by the channel",
        Some(ChangeState::Withdrawn) => "taken out of the tray",
        None => "told",
    };
    let line = |a: &Action| Line {
        place: a.place.clone(),
        told: a.told.clone(),
        reason: a.reason.clone(),
        clicks: number(a.known.clicks as f64, 0),
        spend: money(a.known.spend),
        conversions: count(a.known.conversions),
        now: now(a),
    };
    let open =
        |a: &Action| !a.undone && matches!(a.state, Some(ChangeState::Waiting | ChangeState::Made));
    let left = match (run.waited, run.held, run.resting) {
        (0, 0, 0) => String::new(),
        (waited, held, resting) => format!(
            "It left {waited} alone for want of evidence, {held} for the day’s limits and {resting} at rest."
        ),
    };
    let mail = match run.mail {
        Mail::Sent => "Its author was told by e-mail.",
        Mail::Failed => "The e-mail to its author was not delivered.",
        Mail::None | Mail::Due => "",
    };
    let page = RunPage {
        id,
        mail,
        rule: run.rule,
        name,
        when: moment(run.due_at, account),
        by: run.asked_by.as_ref().map(|p| format!(", asked for by {p}")).unwrap_or_default(),
        came_to: came_to(&run),
        told: run.told,
        known: run.as_of.map(full_day).unwrap_or_default(),
        left,
        open: matches!(run.state, RunState::Queued | RunState::Running),
        undo: actions.iter().any(open),
        lines: actions.iter().map(line).collect(),
        said: params.text("said").to_owned(),
        frame: Frame::new(&member, Station::Rules, &params),
    };
    Ok(page.into_response())
}

/// Takes a run back as a whole.
pub async fn undo(Id(id): Id<RunId>, sent: Sent) -> Result<Redirect, PageError> {
    let Sent { app, member, .. } = &sent;
    let undone = keeping::undo(&app.db, &member.account, sent.person(), id).await?;
    let said = format!(
        "{} taken out of the tray, {} to be reversed: send the tray to do so{}",
        undone.withdrawn,
        undone.reversed,
        if undone.left > 0 { format!(", {} left as they are", undone.left) } else { String::new() }
    );
    let to = sent.params.only_period().with("said", said);
    Ok(Redirect::to(&format!("{}{to}", member.path(&format!("rules/runs/{id}")))))
}
