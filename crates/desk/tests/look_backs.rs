//! Changes are judged when their look-back is due, once, and added up.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::book;
use crate::common::market::{amberfold_days, practice};
use crate::common::scene::Scene;
use tiller_core::change_effect::CameOfIt;
use tiller_core::setting::{Budget, Setting, Status};
use tiller_core::spot::Subject;
use tiller_core::{Micros, Price, Target};
use tiller_desk::logbook::{self, Entry, Show};
use tiller_desk::look_backs::{sums, words};
use tiller_desk::tray::proposal::{Origin, Proposal};
use tiller_desk::{PgPool, account::connections, today, tray};
use tiller_store::MIGRATIONS;

async fn school(db: &PgPool) -> Scene {
    let market = amberfold_days(1).await;
    let account = practice(db, &market, "school", 1, Target::Cpa(Price(30.0))).await;
    Scene::of(db, market, account).await
}

async fn propose(db: &PgPool, s: &Scene, name: &str, set: Setting) {
    let subject = Subject::Campaign(s.id(db, name).await);
    let proposal = Proposal::new(subject, set, Origin::Hand, "Because.");
    assert_eq!(tray::propose(db, &s.account, s.person, vec![proposal]).await.unwrap(), 1);
}

fn daily(units: f64) -> Setting {
    Setting::Budget(Budget::Daily { amount: Micros::from_units(units) })
}

async fn log(db: &PgPool, s: &Scene) -> Vec<Entry> {
    let today = connections::today(db, &s.account).await.unwrap();
    logbook::all(db, &s.account, Show::All, "", today).await.unwrap()
}

async fn of(db: &PgPool, s: &Scene, name: &str) -> Entry {
    log(db, s).await.into_iter().find(|e| e.change.place == name).unwrap()
}

async fn due(db: &PgPool, s: &Scene) -> i64 {
    let today = connections::today(db, &s.account).await.unwrap();
    tray::waiting(db, &s.account, today).await.unwrap().due
}

/// The one that brings the most is paused, which loses money; of a budget that is not used up nothing comes.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_came_of_a_change_is_found_when_it_is_due_and_added_up(db: PgPool) {
    let s = school(&db).await;
    propose(&db, &s, "Own name, search", Setting::Status(Status::Paused)).await;
    propose(&db, &s, "Neighbours, feed", daily(61.0)).await;
    s.send(&db).await;
    s.days_pass(&db, 8).await;
    assert!(log(&db, &s).await.iter().all(|e| e.change.came_of_it.is_none()), "not yet due");
    s.days_pass(&db, 6).await;
    let worse = of(&db, &s, "Own name, search").await;
    assert_eq!(worse.change.came_of_it, Some(CameOfIt::Worse), "{:?}", worse.change);
    let said = words::came_to(&worse.change).unwrap();
    assert!(said.starts_with("lost ") && said.contains(" (90% between "), "{said}");
    assert!(!said.contains("together"), "{said}");
    let untold = of(&db, &s, "Neighbours, feed").await;
    assert_eq!(untold.change.came_of_it, Some(CameOfIt::Untold), "{:?}", untold.change);
    // Both wait for somebody: to take one back, and to know that of the other nothing is known.
    assert_eq!(due(&db, &s).await, 2);
    let book = book(&db, &s.account).await;
    let now = connections::today(&db, &s.account).await.unwrap();
    let letter = today::letter(&db, &book, None, now).await.unwrap();
    assert_eq!(letter.came, [0, 1, 1]);
    assert_eq!(logbook::looked_at_untold(&db, &s.account, now).await.unwrap(), 1);
    assert_eq!(logbook::looked_at_untold(&db, &s.account, now).await.unwrap(), 0);
    assert_eq!(due(&db, &s).await, 1);
    assert!(of(&db, &s, "Own name, search").await.due(now));
    logbook::undo(&db, &s.account, s.person, worse.change.id).await.unwrap();
    logbook::looked(&db, &s.account, worse.change.id).await.unwrap();
    assert_eq!(due(&db, &s).await, 0);
    let sums = sums::of_account(&db, &book).await.unwrap();
    assert_eq!((sums.all.changes, sums.all.came), (2, [0, 1, 1]));
    let titles = |of: &[sums::Group]| of.iter().map(|g| g.title.clone()).collect::<Vec<_>>();
    assert_eq!(titles(&sums.months), ["November 2026"]);
    assert_eq!(titles(&sums.hands), ["Ada"]);
    assert_eq!(titles(&sums.kinds), ["set by hand"]);
    let stored = [&worse, &untold].map(|e| Micros::new(e.change.came_to.unwrap()).to_units());
    let all = sums.all.worth.unwrap();
    // Days since tell a little more of what was usual.
    let apart = stored.iter().sum::<f64>() - all.mid;
    assert!(apart.abs() < all.deviation && all.mid < 0.0, "{stored:?} {all:?}");
    // Where nothing was changed hardly anything is said to have come of it.
    assert!(sums.chance.tried >= 40, "{:?}", sums.chance);
    assert!(
        10 * (sums.chance.worked + sums.chance.worse) <= sums.chance.tried,
        "{:?}",
        sums.chance
    );
    // It stands as it was found, whatever later days tell.
    s.days_pass(&db, 7).await;
    let later = of(&db, &s, "Own name, search").await;
    assert_eq!(later.change.came_to, worse.change.came_to);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn changes_close_after_each_other_are_judged_together_and_without_a_target_not_at_all(
    db: PgPool,
) {
    let s = school(&db).await;
    propose(&db, &s, "Own name, search", daily(70.0)).await;
    s.send(&db).await;
    s.days_pass(&db, 3).await;
    propose(&db, &s, "Own name, search", daily(75.0)).await;
    s.send(&db).await;
    s.days_pass(&db, 16).await;
    let all = log(&db, &s).await;
    assert_eq!(all.len(), 2);
    assert!(all.iter().all(|e| e.change.judged_with == 1), "{all:?}");
    let said = words::came_to(&all[0].change).unwrap();
    assert!(said.ends_with(", together with 1 other change"), "{said}");
    let book = book(&db, &s.account).await;
    let groups = sums::of_account(&db, &book).await.unwrap();
    assert_eq!((groups.all.changes, groups.all.shared), (2, 0));
    // Nothing says what a conversion may cost: what came of it can't be told.
    sqlx::query("UPDATE account SET target_cpa = NULL").execute(&db).await.unwrap();
    sqlx::query("UPDATE change SET came_of_it = NULL, looked_at = NULL")
        .execute(&db)
        .await
        .unwrap();
    s.days_pass(&db, 1).await;
    let all = log(&db, &s).await;
    assert!(all.iter().all(|e| e.change.came_of_it == Some(CameOfIt::Untold)), "{all:?}");
    let said = words::came_to(&all[0].change).unwrap();
    assert!(said.contains("has no target"), "{said}");
}
