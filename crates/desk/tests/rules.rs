//! Rules run when they are due: once each, whoever runs them and whatever dies; stopped, limited, taken back.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::book;
use crate::common::market::channels;
use crate::common::scene::{Scene, says};
use tiller_core::custom_rule::{Action, Clause, CustomRule, Is, Metric, Over, Than, Things, When};
use tiller_core::ids::{RuleId, RunId};
use tiller_core::rule::{Body, Daily, Rule, Send};
use tiller_core::schedule::{Missed, Schedule};
use tiller_desk::jobs::rules::{run_all, run_next};
use tiller_desk::rules::keeping::{self, Undone};
use tiller_desk::{PgPool, tray};
use tiller_store::rules::{self as store, RunState, Standing};
use tiller_store::{MIGRATIONS, StoreError};

/// Pauses every item that has had clicks: enough to see what happens to what a rule does.
fn pauses() -> Rule {
    let over = Over::Days(14);
    let clicks = Clause { metric: Metric::Clicks, over, is: Is::AtLeast, than: Than::Value(1.0) };
    let rule = CustomRule::new(Things::Items, When::all([clicks]), Action::Pause);
    Rule::new("Clicked", Body::Custom(rule))
}

/// An account whose days somebody lets pass, with a rule that is on.
async fn scene(db: &PgPool, rule: &Rule) -> (Scene, RuleId) {
    let s = Scene::new(db).await;
    s.days_pass(db, 1).await;
    let id = add(db, &s, rule).await;
    keeping::switch(db, &s.account, id, Standing::On).await.unwrap();
    (s, id)
}

async fn add(db: &PgPool, s: &Scene, rule: &Rule) -> RuleId {
    let book = book(db, &s.account).await;
    let naming = keeping::naming(&book);
    keeping::add(db, &s.account, s.person, rule, &naming).await.unwrap()
}

async fn ran(db: &PgPool, s: &Scene) -> Vec<store::Ran> {
    store::ran(db, s.account.id, None, None, 50).await.unwrap()
}

async fn waits(db: &PgPool, s: &Scene) -> usize {
    let rows = tray::rows(db, &s.account).await.unwrap();
    rows.iter().filter(|r| r.change.state == tray::State::Waiting).count()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_rule_runs_once_when_it_is_due_though_several_servers_run(db: PgPool) {
    let (s, _) = scene(&db, &pauses()).await;
    run_all(&db).await.unwrap();
    assert!(ran(&db, &s).await.is_empty(), "it was switched on after today's time");
    s.days_pass(&db, 1).await;
    let all = (0..4).map(|_| {
        let db = db.clone();
        tokio::spawn(async move { run_all(&db).await.unwrap() })
    });
    for one in all.collect::<Vec<_>>() {
        one.await.unwrap();
    }
    let runs = ran(&db, &s).await;
    let [run] = &runs[..] else { panic!("{runs:?}") };
    assert_eq!(run.state, RunState::Done);
    assert!(run.acted > 0 && waits(&db, &s).await == run.acted as usize, "{run:?}");
    let rows = tray::rows(&db, &s.account).await.unwrap();
    assert_eq!(tray::author(&rows[0].change), "the rule ‘Clicked’");
    assert!(rows[0].change.reason.starts_with("‘Clicked’: "), "{}", rows[0].change.reason);
    // Nothing more is due, and what it has touched rests.
    run_all(&db).await.unwrap();
    s.days_pass(&db, 1).await;
    run_all(&db).await.unwrap();
    let runs = ran(&db, &s).await;
    assert_eq!((runs.len(), runs[0].acted), (2, 0));
    assert!(runs[0].resting > 0);
    // Undone as a whole.
    let undone = keeping::undo(&db, &s.account, s.person, run.id).await.unwrap();
    assert_eq!(undone, Undone { withdrawn: run.acted.into(), ..Undone::default() });
    assert_eq!(waits(&db, &s).await, 0);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn straight_out_it_is_made_written_down_and_undone(db: PgPool) {
    let rule = Rule { send: Send::Straight, ..pauses() };
    let (s, _) = scene(&db, &rule).await;
    s.days_pass(&db, 1).await;
    run_all(&db).await.unwrap();
    s.settle(&db).await;
    let [run] = &ran(&db, &s).await[..] else { panic!("one run") };
    let did = store::actions(&db, s.account.id, run.id, 0, None).await.unwrap();
    assert_eq!(did.len(), run.acted as usize);
    let made = did.iter().filter(|a| a.state == Some(tray::State::Made)).count();
    assert!(made > 0 && did.iter().all(|a| a.told.contains("paused")), "{did:?}");
    let undone = keeping::undo(&db, &s.account, s.person, run.id).await.unwrap();
    assert_eq!(undone.reversed, made);
    assert_eq!(waits(&db, &s).await, made);
    let again = keeping::undo(&db, &s.account, s.person, run.id).await.unwrap();
    assert_eq!(again, Undone::default(), "undone is undone");
    let nothing = keeping::undo(&db, &s.account, s.person, RunId(0)).await;
    says(nothing.unwrap_err(), "nothing to undo");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_run_whose_server_dies_is_done_by_another_and_only_once(db: PgPool) {
    let (s, _) = scene(&db, &pauses()).await;
    s.days_pass(&db, 1).await;
    // A server takes it up, and dies.
    let due = store::due(&db).await.unwrap().unwrap();
    assert!(store::schedule(&db, &due, None, Some(due.due), None).await.unwrap());
    assert!(
        !store::schedule(&db, &due, None, Some(due.due), None).await.unwrap(),
        "moved on already"
    );
    let dead = store::claim(&db).await.unwrap().unwrap();
    assert!(!run_next(&db).await.unwrap(), "it is in another's hands");
    sqlx::query("UPDATE rule_run SET claimed_at = claimed_at - interval '2 minutes'")
        .execute(&db)
        .await
        .unwrap();
    assert!(run_next(&db).await.unwrap());
    let acted = waits(&db, &s).await;
    assert!(acted > 0);
    // It was not dead, only slow: what it brings is refused.
    let late = store::conclude(&db, &dead, &store::Outcome::default(), &[], &[], false).await;
    assert!(matches!(late, Err(StoreError::Lost)), "{late:?}");
    assert_eq!((ran(&db, &s).await.len(), waits(&db, &s).await), (1, acted));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn stopping_all_stops_what_waits_what_runs_and_what_is_not_sent(db: PgPool) {
    let (s, id) = scene(&db, &Rule { send: Send::Straight, ..pauses() }).await;
    s.days_pass(&db, 1).await;
    run_all(&db).await.unwrap();
    // Its batches wait for a worker; another run is under way.
    keeping::ask(&db, &s.account, s.person, id).await.unwrap();
    let under_way = store::claim(&db).await.unwrap().unwrap();
    keeping::stop_all(&db, &s.account, s.person).await.unwrap();
    let late = store::conclude(&db, &under_way, &store::Outcome::default(), &[], &[], false).await;
    assert!(matches!(late, Err(StoreError::Lost)), "{late:?}");
    assert_eq!(ran(&db, &s).await[0].state, RunState::Skipped);
    let acted = ran(&db, &s).await[1].acted as usize;
    assert!(acted > 0 && waits(&db, &s).await == acted, "back in the tray");
    assert!(
        !tiller_desk::jobs::send::run_next(&db, channels()).await.unwrap(),
        "nothing is on its way"
    );
    s.days_pass(&db, 2).await;
    run_all(&db).await.unwrap();
    assert_eq!(ran(&db, &s).await.len(), 2, "nothing runs");
    says(keeping::ask(&db, &s.account, s.person, id).await.unwrap_err(), "let them run again");
    // From now on again: what was due meanwhile is not made up for.
    keeping::let_run(&db, &s.account).await.unwrap();
    run_all(&db).await.unwrap();
    assert_eq!(ran(&db, &s).await.len(), 2);
    s.days_pass(&db, 1).await;
    run_all(&db).await.unwrap();
    assert_eq!(ran(&db, &s).await.len(), 3);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn missed_times_are_made_up_once_or_left_out(db: PgPool) {
    let s = Scene::new(&db).await;
    // By the clock: due every day three hours ago.
    let at = chrono::Utc::now() - chrono::TimeDelta::hours(3);
    let at = at.with_timezone(&keeping::zone(&s.account)).format("%H:%M").to_string();
    let schedule = Schedule::daily(at.parse().unwrap());
    let once = add(&db, &s, &Rule { schedule: schedule.clone(), ..pauses() }).await;
    let skip = Rule { schedule: Schedule { missed: Missed::Skip, ..schedule }, ..pauses() };
    let skip = add(&db, &s, &skip).await;
    for id in [once, skip] {
        keeping::switch(&db, &s.account, id, Standing::On).await.unwrap();
        sqlx::query("UPDATE rule SET next_due = next_due - interval '4 days' WHERE id = $1")
            .bind(id.0)
            .execute(&db)
            .await
            .unwrap();
    }
    run_all(&db).await.unwrap();
    let of = |id: RuleId| {
        let db = db.clone();
        let account = s.account.id;
        async move { store::ran(&db, account, Some(id), None, 9).await.unwrap() }
    };
    let made_up = of(once).await;
    assert_eq!((made_up.len(), made_up[0].state), (1, RunState::Done), "once for all of them");
    let left_out = of(skip).await;
    assert_eq!((left_out.len(), left_out[0].state), (1, RunState::Skipped));
    assert_eq!(left_out[0].note, "no server ran at that time");
    let kept = keeping::one(&db, &s.account, once).await.unwrap();
    assert!(kept.row.next_due.unwrap() > chrono::Utc::now());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_days_limits_hold_over_all_runs_of_the_day(db: PgPool) {
    let rule = Rule { daily: Daily { pauses: Some(2), ..Daily::default() }, ..pauses() };
    let (s, id) = scene(&db, &rule).await;
    for _ in 0..2 {
        keeping::ask(&db, &s.account, s.person, id).await.unwrap();
        run_all(&db).await.unwrap();
    }
    let runs = ran(&db, &s).await;
    assert_eq!((runs[1].acted, runs[0].acted), (2, 0));
    assert!(runs[1].held > 0 && runs[0].held > 0 && runs[0].resting == 2, "{runs:?}");
    // The most money first, and others on the next day.
    let account = s.account.id;
    let first = store::actions(&db, account, runs[1].id, 0, None).await.unwrap();
    s.days_pass(&db, 1).await;
    keeping::ask(&db, &s.account, s.person, id).await.unwrap();
    run_all(&db).await.unwrap();
    // The one that was due comes after it, and finds nothing left to do that day.
    let last = ran(&db, &s).await[1].id;
    let next = store::actions(&db, account, last, 0, None).await.unwrap();
    assert!(next.iter().all(|n| first.iter().all(|f| f.item != n.item)), "{next:?}");
    assert!((1..=2).contains(&next.len()), "{next:?}");
    let least = first.iter().map(|a| a.known.spend).min().unwrap();
    assert!(first.iter().all(|a| a.known.spend >= least) && first.len() == 2);
}

/// What it has done is counted by the day that was known; what waits for an answer, however old it is.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_a_rule_did_of_late_is_counted_and_what_waits_of_it(db: PgPool) {
    let (s, id) = scene(&db, &pauses()).await;
    s.days_pass(&db, 1).await;
    run_all(&db).await.unwrap();
    let run = &ran(&db, &s).await[0];
    let day = run.as_of.unwrap();
    let lately = async |since| {
        let all = keeping::lately(&db, &s.account, since).await.unwrap();
        let of = all.into_iter().find(|l| l.rule == id).unwrap();
        (of.made, of.told, of.waiting)
    };
    let waiting = waits(&db, &s).await as i64;
    assert!(waiting > 0 && waiting == i64::from(run.acted));
    assert_eq!(lately(day).await, (waiting, 0, waiting));
    assert_eq!(lately(tiller_core::window::later(day, 1)).await, (0, 0, waiting));
    keeping::undo(&db, &s.account, s.person, run.id).await.unwrap();
    assert_eq!(lately(day).await, (waiting, 0, 0));
}

/// Two searches of one ad group are two things: one that is shut out does not keep the other.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn searches_of_an_ad_group_rest_each_by_itself(db: PgPool) {
    let mut rule = Rule { daily: Daily { actions: Some(1), ..Daily::default() }, ..pauses() };
    if let Body::Custom(of) = &mut rule.body {
        (of.things, of.then) = (Things::Terms, Action::Exclude);
    }
    let (s, id) = scene(&db, &rule).await;
    let all = async || {
        let mut did = Vec::new();
        for run in ran(&db, &s).await {
            did.extend(store::actions(&db, s.account.id, run.id, 0, None).await.unwrap());
        }
        did
    };
    for day in 1..=3 {
        s.days_pass(&db, 1).await;
        run_all(&db).await.unwrap();
        assert_eq!(all().await.len(), day, "one a day");
    }
    let did = all().await;
    let places: std::collections::HashSet<_> = did.iter().map(|a| &a.place).collect();
    assert_eq!(places.len(), 3, "each once: {places:?}");
    let groups: std::collections::HashSet<_> = did.iter().map(|a| a.ad_group).collect();
    assert!(groups.len() < 3, "two of them share one: {did:?}");
    let run = ran(&db, &s).await[0].id;
    assert_eq!(keeping::undo(&db, &s.account, s.person, run).await.unwrap().withdrawn, 1);
    assert_eq!(keeping::one(&db, &s.account, id).await.unwrap().row.state, Standing::On);
}

/// What waits of a rule that is switched off is left out.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_waits_of_a_rule_goes_with_it(db: PgPool) {
    let (s, id) = scene(&db, &pauses()).await;
    keeping::ask(&db, &s.account, s.person, id).await.unwrap();
    keeping::switch(&db, &s.account, id, Standing::Removed).await.unwrap();
    run_all(&db).await.unwrap();
    let runs = ran(&db, &s).await;
    assert_eq!((runs[0].state, waits(&db, &s).await), (RunState::Skipped, 0));
    assert_eq!(runs[0].note, "the rule was switched off");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_rule_is_versioned_and_out_of_anothers_reach(db: PgPool) {
    let (s, id) = scene(&db, &pauses()).await;
    let book = book(&db, &s.account).await;
    let naming = keeping::naming(&book);
    let was = keeping::one(&db, &s.account, id).await.unwrap();
    let next = Rule { name: "Clicked twice".into(), ..pauses() };
    keeping::save(&db, &s.account, s.person, &was, &next, &naming).await.unwrap();
    // Who still looks at the first version is told so.
    let late = Rule { name: "Clicked thrice".into(), ..pauses() };
    let refused = keeping::save(&db, &s.account, s.person, &was, &late, &naming).await;
    says(refused.unwrap_err(), "somebody has changed this rule meanwhile");
    let versions = store::versions(&db, s.account.id, id).await.unwrap();
    assert_eq!(versions.iter().map(|v| v.version).collect::<Vec<_>>(), [2, 1]);
    assert!(versions[0].told.starts_with("Every day at 6:00, for each item of all campaigns"));
    let other = crate::common::account(&db, "other").await;
    assert!(keeping::one(&db, &other, id).await.is_err());
    assert!(keeping::switch(&db, &other, id, Standing::Off).await.is_err());
    assert!(keeping::ask(&db, &other, s.person, id).await.is_err());
    assert!(store::versions(&db, other.id, id).await.unwrap().is_empty());
    let mut theirs = pauses();
    if let Body::Custom(rule) = &mut theirs.body {
        rule.within = vec![s.id(&db, "Names, search").await];
    }
    let none = tiller_desk::rules::sentence::Naming::default();
    let foreign = keeping::add(&db, &other, s.person, &theirs, &none);
    says(foreign.await.unwrap_err(), "campaigns of this account");
    // Gone, it runs no more; what it did stays.
    keeping::switch(&db, &s.account, id, Standing::Removed).await.unwrap();
    s.days_pass(&db, 1).await;
    run_all(&db).await.unwrap();
    assert!(ran(&db, &s).await.is_empty());
    assert!(keeping::one(&db, &s.account, id).await.is_err());
}
