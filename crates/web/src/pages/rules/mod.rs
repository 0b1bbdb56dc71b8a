//! Rules: what was decided twice by hand, written down, rehearsed, switched on, watched.
//!
//! - this file: the station
//! - `begin`: new rules: written, ready-made, by posture, from a file
//! - `rule`: one rule, its sentence, its thresholds, what it would do today, its runs
//! - `rehearsal`: one rule on the past
//! - `ran`: one run, and taking it back

pub mod begin;
pub mod ran;
pub mod rehearsal;
pub mod rule;
mod sentence;

use std::collections::HashMap;

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use chrono::{DateTime, Utc};
use tiller_core::ids::RuleId;
use tiller_core::window::earlier;
use tiller_desk::Account;
use tiller_desk::numerals::{counted, day};
use tiller_desk::rules::keeping::{self, Ran, RuleKept, RunState, Standing};
use tiller_desk::rules::sentence::{Naming, Sentence};
use tiller_desk::rules::worth::{self, SoFar};
use tiller_desk::wording::Words;

use crate::App;
use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::pages::book;
use crate::pages::spend::NoReports;
use crate::params::Params;
use crate::sent::Sent;
use sentence::ReadLine;

/// A rule in the list.
pub struct RuleLine {
    id: RuleId,
    name: String,
    lines: Vec<ReadLine>,
    standing: &'static str,
    harm: bool,
    note: String,
    last: String,
    next: String,
    waits: String,
    /// What it is worth so far.
    worth: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "rules.html")]
struct RulesPage {
    frame: Frame,
    lead: Words,
    rules: Vec<RuleLine>,
    /// Since when and by whom all rules are stopped.
    stopped: Option<String>,
}

/// How a rule stands, and whether that is no good.
fn standing(of: Standing) -> (&'static str, bool) {
    match of {
        Standing::On => ("on", false),
        Standing::Off => ("off", false),
        Standing::Suspended => ("suspended", true),
        Standing::Removed => ("removed", false),
    }
}

/// A moment by the account's clock: `Mon 16 Nov, 6:00`.
fn moment(at: DateTime<Utc>, account: &Account) -> String {
    let local = at.with_timezone(&keeping::zone(account));
    format!("{} {}, {}", local.format("%a"), day(local.date_naive()), local.format("%-H:%M"))
}

/// What a run came to: `3 of 118`.
fn came_to(run: &Ran) -> String {
    match run.state {
        RunState::Queued | RunState::Running => "under way".into(),
        RunState::Failed => format!("failed: {}", run.note),
        RunState::Skipped => format!("left out: {}", run.note),
        RunState::Done if run.looked_at == 0 => "found nothing to look at".into(),
        RunState::Done if run.told => format!("told of {} of {}", run.acted, run.looked_at),
        RunState::Done => format!("touched {} of {}", run.acted, run.looked_at),
    }
}

/// The station.
pub async fn show(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    let Some(book) = book(&app.db, &member, &params).await? else {
        let frame = Frame::new(&member, Station::Rules, &params);
        let what = "rules that pause and re-bid by thresholds, rehearsed on what was reported";
        return Ok(NoReports { frame, title: "Rules", what }.into_response());
    };
    let account = &member.account;
    let kept = keeping::list(&app.db, account).await?;
    let runs = keeping::runs(&app.db, account, None, 500).await?;
    let mut last: HashMap<RuleId, &Ran> = HashMap::new();
    for run in &runs {
        last.entry(run.rule).or_insert(run);
    }
    let week = earlier(book.span.to(), 7);
    let lately = keeping::lately(&app.db, account, week).await?;
    let waiting =
        |id: RuleId| lately.iter().find(|l| l.rule == id).map_or(0, |l| l.waiting.unsigned_abs());
    let naming = keeping::naming(&book);
    let so_far = worth::of_account(&app.db, &book).await?;
    let stopped = keeping::stopped(&app.db, account).await?;
    let line = |r: &RuleKept| {
        rule_line(
            r,
            &naming,
            last.get(&r.row.id).copied(),
            waiting(r.row.id),
            so_far.get(&r.row.id),
            account,
            stopped.is_some(),
        )
    };
    let rules = kept.iter().map(line).collect();
    let on = kept.iter().filter(|r| r.row.state == Standing::On).count();
    let of_week: Vec<&Ran> = runs.iter().filter(|r| r.as_of.is_some_and(|d| d >= week)).collect();
    let did = lately.iter().fold((0, 0), |(made, told), l| (made + l.made, told + l.told));
    let lead = lead((on, stopped.is_some()), kept.len(), &of_week, did);
    let lead = match worth::together(so_far.values()) {
        Some(all) if kept.len() > 1 => {
            lead.and(" By their look-backs they have ").strong(all).and(" so far.")
        }
        _ => lead,
    };
    let stopped = stopped.map(|(at, who)| {
        let who = who.map(|w| format!(" by {w}")).unwrap_or_default();
        format!("since {}{who}", moment(at, account))
    });
    let frame = Frame::new(&member, Station::Rules, &params);
    Ok(RulesPage { lead, rules, stopped, frame }.into_response())
}

fn rule_line(
    r: &RuleKept,
    naming: &Naming,
    last: Option<&Ran>,
    waiting: u64,
    so_far: Option<&SoFar>,
    account: &Account,
    stopped: bool,
) -> RuleLine {
    let (word, harm) = standing(r.row.state);
    let next = r.row.next_due.filter(|_| !stopped);
    RuleLine {
        id: r.row.id,
        name: r.rule.name.clone(),
        lines: sentence::read_lines(&Sentence::of(&r.rule, naming)),
        standing: word,
        harm,
        note: r.row.note.clone(),
        last: last.map_or("never ran".into(), |run| {
            format!("last {}: {}", moment(run.due_at, account), came_to(run))
        }),
        next: next.map(|at| format!("next {}", moment(at, account))).unwrap_or_default(),
        waits: match waiting {
            0 => String::new(),
            1 => "1 change waits in the tray".into(),
            n => format!("{n} changes wait in the tray"),
        },
        worth: so_far.and_then(SoFar::sentence).unwrap_or_default(),
    }
}

fn lead(
    (on, stopped): (usize, bool),
    all: usize,
    week: &[&Ran],
    (made, told): (i64, i64),
) -> Words {
    let rules = match (all, on) {
        (0, _) => {
            return Words::say(
                "A rule does what you have decided more than once: on enough evidence, when it is due, and so that it can be undone. There are none yet.",
            );
        }
        (_, 0) => Words::say("No rule is on."),
        (_, 1) if stopped => Words::say("One rule is on and stopped."),
        (_, n) if stopped => Words::say(format!("{n} rules are on and stopped.")),
        (_, 1) => Words::say("One rule is on."),
        (_, n) => Words::say(format!("{n} rules are on.")),
    };
    let left: i64 = week.iter().map(|r| i64::from(r.looked_at - r.acted)).sum();
    let waited: i64 = week.iter().map(|r| i64::from(r.waited)).sum();
    if week.is_empty() {
        return rules.and(" None has run in the last seven days.");
    }
    let made = match made {
        0 => "no change".into(),
        n => counted(n.unsigned_abs(), "change", "changes"),
    };
    let things = |n: u64| counted(n, "thing", "things");
    let told = (told > 0).then(|| format!("told you of {}", things(told.unsigned_abs())));
    let left = (left > 0).then(|| match waited {
        0 => format!("left {} alone", things(left.unsigned_abs())),
        n => {
            format!("left {} alone, {n} of them for want of evidence", things(left.unsigned_abs()))
        }
    });
    let rest = match (told, left) {
        (None, None) => ".".into(),
        (Some(one), None) | (None, Some(one)) => format!(" and {one}."),
        (Some(told), Some(left)) => format!(", {told} and {left}."),
    };
    rules.and(" In the last seven days they made ").strong(made).and(rest)
}

/// Stops all rules, or lets them run again.
pub async fn stop(sent: Sent) -> Result<Redirect, PageError> {
    let Sent { app, member, fields, .. } = &sent;
    if fields.text("run") == "again" {
        keeping::let_run(&app.db, &member.account).await?;
    } else {
        keeping::stop_all(&app.db, &member.account, sent.person()).await?;
    }
    Ok(sent.on_to("rules"))
}
