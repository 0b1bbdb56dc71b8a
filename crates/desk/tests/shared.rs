//! Shared strategies from the tray to the market and back: what is set besides, what is told of it before and after.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::market::{Answering, channels};
use crate::common::scene::{Scene, says};
use tiller_core::setting::Strategy;
use tiller_core::spot::Subject;
use tiller_core::{Micros, Target};
use tiller_desk::tray::{self, Edit, Row};
use tiller_desk::{DeskError, PgPool, account, advice, bids, learning, logbook};
use tiller_store::MIGRATIONS;

const COURSES: &str = "Courses, search";
const NAMES: &str = "Names, search";

/// Two campaigns of one channel that bid by themselves, with targets 55 and 40.
async fn scene(db: &PgPool) -> Scene {
    let from = "strategy = { manual_cpc = { bid = 4.0 } }";
    let world = crate::common::market::WORLD.replacen(
        from,
        "strategy = { target_cpa = { target = 40.0 } }",
        1,
    );
    assert_ne!(world, crate::common::market::WORLD);
    let s = Scene::on(db, Answering::of(&world, None, 0).await).await;
    let target = Some(Target::Cpa(tiller_core::Price(30.0)));
    account::set_default_target(db, s.account.id, target).await.unwrap();
    s
}

async fn edit(
    db: &PgPool,
    s: &Scene,
    names: &[&str],
    edit: Edit,
    typed: &str,
) -> Result<usize, DeskError> {
    let mut subjects = Vec::new();
    for name in names {
        subjects.push(Subject::Campaign(s.id(db, name).await));
    }
    tray::edit(db, &s.account, s.person, &subjects, edit, typed, "").await
}

fn target(s: &Scene, name: &str) -> (f64, Option<String>) {
    let set = s.at_market(name);
    let Strategy::TargetCpa { target } = set.strategy else { panic!("{set:?}") };
    (target.to_units(), set.shared)
}

async fn rows(db: &PgPool, s: &Scene) -> Vec<Row> {
    tray::rows(db, &s.account).await.unwrap()
}

fn notes(row: &Row) -> String {
    row.checks.iter().map(|c| c.text.clone()).collect::<Vec<_>>().join("; ")
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_is_set_at_one_is_set_at_all(db: PgPool) {
    let s = scene(&db).await;
    edit(&db, &s, &[COURSES, NAMES], Edit::Shared, "Leads").await.unwrap();
    let waiting = rows(&db, &s).await;
    // The tray tells before anything is sent that the second gives its own target up, and begins to learn.
    assert!(waiting[0].besides.is_empty() && !waiting[0].learns_anew, "{:?}", waiting[0]);
    let taken = notes(&waiting[1]);
    assert!(taken.contains("takes it from target CPA 40.00 to target CPA 55.00"), "{taken}");
    assert!(waiting[1].learns_anew && taken.contains("will be learning"), "{taken}");
    s.send(&db).await;
    let leads = Some("Leads".to_owned());
    assert_eq!(target(&s, COURSES), (55.0, leads.clone()));
    assert_eq!(target(&s, NAMES), (55.0, leads.clone()));
    let now = crate::common::book(&db, &s.account).await;
    let all = bids::campaigns(&db, &now).await.unwrap();
    let shared = bids::shared::of(&all);
    assert_eq!((shared.len(), shared[0].name, shared[0].members.len()), (1, "Leads", 2));

    edit(&db, &s, &[COURSES], Edit::Target, "44").await.unwrap();
    let now = crate::common::book(&db, &s.account).await;
    let advised = advice::of_account(&db, &now).await.unwrap();
    let quiet = advised.quiet(s.id(&db, NAMES).await).expect("it waits for all who share");
    assert!(quiet.sentence().contains("in the tray"), "{quiet:?}");
    let waiting = rows(&db, &s).await;
    let note = notes(&waiting[0]);
    assert!(
        note.contains("Names, search goes from target CPA 55.00 to target CPA 44.00 too"),
        "{note}"
    );
    s.send(&db).await;
    assert_eq!(target(&s, NAMES).0, 44.0);
    // Both campaigns' histories know of it, each with a look-back of its own.
    let day = "2026-11-10".parse().unwrap();
    let log = logbook::all(&db, &s.account, logbook::Show::All, "from 55.00 to 44.00", day).await;
    let log = log.unwrap();
    let mut places: Vec<&str> = log.iter().map(|e| e.change.place.as_str()).collect();
    places.sort_unstable();
    assert_eq!(places, [COURSES, NAMES]);
    assert!(log.iter().all(|e| e.made() && e.change.look_back.is_some()), "{log:?}");
    let besides = log.iter().find(|e| e.change.place == NAMES).unwrap();
    assert!(besides.change.reason.contains("it was changed at Courses, search"));
    s.days_pass(&db, 1).await;
    let now = crate::common::book(&db, &s.account).await;
    let learners = learning::of_account(&db, &now).await.unwrap();
    let names = s.id(&db, NAMES).await;
    assert!(learners.contains_key(&names), "since it took the strategy over: {learners:?}");

    // Who leaves keeps what is set, and goes its own way.
    edit(&db, &s, &[NAMES], Edit::Shared, "").await.unwrap();
    s.send(&db).await;
    assert_eq!(target(&s, NAMES), (44.0, None));
    edit(&db, &s, &[COURSES], Edit::HighestBid, "3").await.unwrap();
    assert!(rows(&db, &s).await[0].besides.is_empty());
    s.send(&db).await;
    assert_eq!(s.at_market(COURSES).bid_ceiling, Some(Micros::from_units(3.0)));
    assert_eq!(s.at_market(NAMES).bid_ceiling, None);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn two_members_changed_at_once_are_told_apart(db: PgPool) {
    let s = scene(&db).await;
    edit(&db, &s, &[COURSES, NAMES], Edit::Shared, "Leads").await.unwrap();
    s.send(&db).await;
    edit(&db, &s, &[COURSES], Edit::Target, "50").await.unwrap();
    edit(&db, &s, &[NAMES], Edit::Target, "45").await.unwrap();
    let waiting = rows(&db, &s).await;
    assert!(waiting.iter().all(|r| r.checks.iter().any(|c| c.stops)), "{waiting:?}");
    let ids: Vec<_> = waiting.iter().map(|r| r.change.id).collect();
    says(tray::sending::send(&db, &s.account, &ids).await.unwrap_err(), "sets the same thing");
    // One of them alone can go.
    tray::sending::send(&db, &s.account, &ids[1..]).await.unwrap();
    s.settle(&db).await;
    assert_eq!((target(&s, COURSES).0, target(&s, NAMES).0), (45.0, 45.0));
}

/// What is set besides stands at once: before the structure is fetched again, the next change goes out from it.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_was_set_besides_can_be_changed_before_the_next_fetch(db: PgPool) {
    let s = scene(&db).await;
    edit(&db, &s, &[COURSES, NAMES], Edit::Shared, "Leads").await.unwrap();
    s.send(&db).await;
    for (name, typed) in [(COURSES, "50"), (NAMES, "46")] {
        edit(&db, &s, &[name], Edit::Target, typed).await.unwrap();
        let ids: Vec<_> = rows(&db, &s).await.iter().map(|r| r.change.id).collect();
        tray::sending::send(&db, &s.account, &ids).await.unwrap();
        while tiller_desk::jobs::send::run_next(&db, channels()).await.unwrap() {}
    }
    assert_eq!((target(&s, COURSES).0, target(&s, NAMES).0), (46.0, 46.0));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_can_not_be_shared_is_refused_with_what_to_do(db: PgPool) {
    let s = Scene::new(&db).await;
    let by_hand = edit(&db, &s, &[NAMES], Edit::Shared, "Leads").await;
    says(by_hand.unwrap_err(), "give the campaign a strategy that does so first");
    let long = edit(&db, &s, &[COURSES], Edit::Shared, &"x".repeat(81)).await;
    says(long.unwrap_err(), "at most 80 characters");
    edit(&db, &s, &[COURSES], Edit::Shared, "Leads").await.unwrap();
    s.send(&db).await;
    // A campaign that bids by hand may join one that is there: it takes the strategy over.
    edit(&db, &s, &[NAMES], Edit::Shared, "Leads").await.unwrap();
    let note = notes(&rows(&db, &s).await[0]);
    assert!(note.contains("takes it from manual CPC to target CPA 55.00"), "{note}");
    s.send(&db).await;
    assert_eq!(target(&s, NAMES).0, 55.0);
}
