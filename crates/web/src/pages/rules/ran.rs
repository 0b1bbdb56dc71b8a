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
use crate::pages::{csv_file, plain};
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

/// A part of what it did.
struct Part {
    says: String,
    before: Option<Params>,
    next: Option<Params>,
}

/// Which part is shown, where it does not do for all.
fn part(after: i32, shown: usize, acted: i32, params: &Params) -> Option<Part> {
    let until = after + i32::try_from(shown).unwrap_or(keeping::SHOWN);
    (after > 0 || until < acted).then(|| Part {
        says: format!(
            "{} to {} of {}",
            number((after + 1).into(), 0),
            number(until.into(), 0),
            number(acted.into(), 0)
        ),
        before: (after > 0).then(|| params.with("after", (after - keeping::SHOWN).max(0))),
        next: (until < acted).then(|| params.with("after", until)),
    })
}

fn now(a: &Action) -> &'static str {
    match a.state {
        _ if a.undone => "undone",
        Some(ChangeState::Waiting) => "waits in the tray",
        Some(ChangeState::Sending) => "is being sent",
        Some(ChangeState::Made) => "made",
        Some(ChangeState::Refused) => "refused by the channel",
        Some(ChangeState::Withdrawn) => "taken out of the tray",
        None => "told",
    }
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
    /// Which of how many are shown, and where those before and after them are; absent where all are.
    part: Option<Part>,
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
    let after = params.text("after").parse().unwrap_or(0).max(0);
    let (run, name, actions) = keeping::run(&app.db, account, id, after).await?;
    let line = |a: &Action| Line {
        place: a.place.clone(),
        told: a.told.clone(),
        reason: a.reason.clone(),
        clicks: number(a.known.clicks as f64, 0),
        spend: money(a.known.spend),
        conversions: count(a.known.conversions),
        now: now(a),
    };
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
        undo: keeping::undoable(&app.db, account, id).await?,
        part: part(after, actions.len(), run.acted, &params),
        lines: actions.iter().map(line).collect(),
        said: params.text("said").to_owned(),
        frame: Frame::new(&member, Station::Rules, &params),
    };
    Ok(page.into_response())
}

/// All that it did, as CSV.
pub async fn csv(
    member: Member,
    State(app): State<App>,
    Id(id): Id<RunId>,
) -> Result<Response, PageError> {
    let (run, _, _) = keeping::run(&app.db, &member.account, id, 0).await?;
    let actions = keeping::actions(&app.db, &member.account, run.id).await?;
    let header = ["place", "did", "what", "why", "clicks", "spend", "conversions", "now"];
    let row = |a: Action| {
        vec![
            a.place.clone(),
            a.did.clone(),
            a.told.clone(),
            a.reason.clone(),
            a.known.clicks.to_string(),
            plain(Some(a.known.spend.to_units())),
            plain(Some(a.known.conversions)),
            now(&a).to_owned(),
        ]
    };
    csv_file(
        &format!("run-{id}-{}.csv", member.account.slug),
        &header.map(str::to_owned),
        actions.into_iter().map(row),
    )
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_does_not_fit_is_shown_in_parts() {
        let part = |after, shown, acted| part(after, shown, acted, &Params::default());
        assert!(part(0, 500, 500).is_none() && part(0, 0, 0).is_none());
        let first = part(0, 500, 1_200).unwrap();
        assert_eq!(
            (first.says.as_str(), first.before.is_some()),
            ("1 to 500 of 1\u{202f}200", false)
        );
        assert_eq!(first.next.unwrap().text("after"), "500");
        let last = part(1_000, 200, 1_200).unwrap();
        assert_eq!(
            (last.says.as_str(), last.next.is_some()),
            ("1\u{202f}001 to 1\u{202f}200 of 1\u{202f}200", false)
        );
        assert_eq!(last.before.unwrap().text("after"), "500");
    }
}
