//! Rules that are due: each due time is run once, and all that a run does is written at once.

use std::collections::HashMap;

use chrono::TimeDelta;
use tiller_core::rule::{Rule, Send};
use tiller_core::schedule::Missed;
use tiller_store::people;
use tiller_store::rules::{self as store, Due, Outcome, Run};
use tiller_store::{Kind, PgPool, StoreError};
use tracing::Instrument;

use super::caught::caught;
use crate::rules::ground::Ground;
use crate::rules::keeping::{self, Standing};
use crate::rules::{run, worth};
use crate::{DeskError, tray};

/// A run with a passing trouble is tried so often.
const ATTEMPTS: i32 = 5;
/// A due time is missed if it passed longer ago than this; where somebody lets days pass, a day.
const LATE: TimeDelta = TimeDelta::hours(1);

/// Queues what is due and runs the next rule; false if there is none.
pub async fn run_next(db: &PgPool) -> Result<bool, DeskError> {
    while let Some(due) = store::due(db).await? {
        schedule(db, &due).await?;
    }
    let Some(run) = store::claim(db).await? else { return Ok(false) };
    let job = tracing::info_span!("rule", run = run.id.0, account = run.account.0);
    let done = match caught(carry(db, &run)).instrument(job).await {
        Ok(acted) => {
            tracing::info!(acted, "a rule ran");
            Ok(())
        }
        // Another runner has it, or all rules were stopped.
        Err(DeskError::Store(StoreError::Lost)) => Ok(()),
        Err(error) => {
            tracing::warn!(%error, "a rule did not run");
            let passing = match &error {
                DeskError::Store(e) => e.kind() == Kind::Passing,
                DeskError::Broke(_) => true,
                _ => false,
            };
            let again = passing && run.attempts < ATTEMPTS;
            let pause = again.then(|| 2f64.powi(run.attempts).min(60.0));
            store::put_off(db, &run, &error.to_string(), pause).await
        }
    };
    done.map(|()| true).map_err(DeskError::from)
}

/// Moves a rule on from a due time that has come: of several that were missed the latest is run, or left out.
async fn schedule(db: &PgPool, due: &Due) -> Result<(), DeskError> {
    let rule: Rule = serde_json::from_value(due.body.clone()).map_err(StoreError::from)?;
    let zone = due.time_zone.parse().unwrap_or(chrono_tz::Tz::UTC);
    let latest = rule.schedule.latest(due.due, due.now, zone).unwrap_or(due.due);
    let next = rule.schedule.next(due.now, zone);
    let late = if due.market_clock { TimeDelta::hours(25) } else { LATE };
    let missed = due.now - latest > late && rule.schedule.missed == Missed::Skip;
    let skipped = missed.then_some("no server ran at that time");
    store::schedule(db, due, next, Some(latest), skipped).await?;
    Ok(())
}

async fn carry(db: &PgPool, run: &Run) -> Result<u64, DeskError> {
    let account = people::account(db, run.account).await?.ok_or(DeskError::NotFound("account"))?;
    let rule: Rule = serde_json::from_value(run.body.clone()).map_err(StoreError::from)?;
    let Some(mut ground) = Ground::load(db, &account).await? else {
        let outcome =
            Outcome { note: "the account has no figures yet".into(), ..Outcome::default() };
        return Ok(store::conclude(db, run, &outcome, &[], &[], false).await?);
    };
    // One that is on is stopped before it does more harm; what somebody asks for is done.
    let kept = keeping::one(db, &account, run.rule).await?;
    if kept.row.state == Standing::On && !run.asked {
        let all = worth::of_account(db, &ground.book).await?;
        let since = kept.row.watched_from.unwrap_or_default();
        let watched = all.get(&run.rule).map(|so_far| so_far.since(since));
        if let Some(watched) = watched.filter(|w| w.worth.made_it_worse()) {
            store::suspend(db, run, &worth::suspended(&watched)).await?;
            return Ok(0);
        }
    }
    let look = run::look_now(db, &mut ground, &rule, Some(run.rule)).await?;
    let (proposals, mut actions, outcome) = run::conclude(&rule, &look);
    let subjects: Vec<_> = proposals.iter().map(|p| (p.subject, p.set.clone())).collect();
    let new = tray::ready(db, &account, proposals).await?;
    // What has been set like that meanwhile is left out.
    let mut at: HashMap<_, Vec<usize>> = HashMap::new();
    for (n, c) in new.iter().enumerate() {
        at.entry((c.campaign, c.ad_group, c.item)).or_default().push(n);
    }
    let place = |n: usize| {
        let (subject, set) = &subjects[n];
        let spot = ground.settings.spot(*subject)?;
        let json = tray::json(set).ok()?;
        let there = at.get(&(spot.campaign, spot.ad_group, spot.item))?;
        there.iter().copied().find(|n| new[*n].set_to == json)
    };
    actions.retain_mut(|a| match a.change {
        None => true,
        Some(n) => {
            a.change = place(n);
            a.change.is_some()
        }
    });
    let straight = rule.send == Send::Straight;
    Ok(store::conclude(db, run, &outcome, &new, &actions, straight).await?)
}

/// Runs until nothing is due.
pub async fn run_all(db: &PgPool) -> Result<(), DeskError> {
    while run_next(db).await? {}
    Ok(())
}
