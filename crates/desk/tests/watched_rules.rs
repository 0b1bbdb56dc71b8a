//! Rules are watched by what came of their changes, and tell what they are asked to tell.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::book;
use crate::common::market::{amberfold_days, practice};
use crate::common::post::Post;
use crate::common::scene::Scene;
use tiller_core::custom_rule::{
    Action, Clause, CustomRule, Evidence, Is, Metric, Over, Than, Things, When,
};
use tiller_core::ids::RuleId;
use tiller_core::rule::{Body, Rule, Send};
use tiller_core::{Price, Target};
use tiller_desk::PgPool;
use tiller_desk::jobs::mail;
use tiller_desk::jobs::rules::run_all;
use tiller_desk::look_backs::words;
use tiller_desk::mail::Mailer;
use tiller_desk::rules::keeping::{self, Mail, Ran, RunState, Standing};
use tiller_desk::rules::worth::SoFar;
use tiller_desk::rules::{tidings, worth};
use tiller_store::MIGRATIONS;

/// Campaigns that meet the target are paused, as if that were a good idea.
fn harm(then: Action) -> Rule {
    let (over, than) = (Over::Days(28), Than::Target(1.2));
    let when = When::all([Clause { metric: Metric::Cpa, over, is: Is::Below, than }]);
    let rule = CustomRule {
        evidence: Evidence { conversions: 20, ..Evidence::default() },
        cool_down: 60,
        ..CustomRule::new(Things::Campaigns, when, then)
    };
    Rule { send: Send::Straight, ..Rule::new("Stops what is good", Body::Custom(rule)) }
}

/// An account with days enough before.
async fn school(db: &PgPool) -> Scene {
    let market = amberfold_days(1).await;
    let account = practice(db, &market, "school", 1, Target::Cpa(Price(30.0))).await;
    tiller_store::rules::by_market_clock(db, account.id).await.unwrap();
    Scene::of(db, market, account).await
}

async fn on(db: &PgPool, s: &Scene, rule: &Rule) -> RuleId {
    let book = book(db, &s.account).await;
    let naming = keeping::naming(&book);
    let id = keeping::add(db, &s.account, s.person, rule, &naming).await.unwrap();
    keeping::switch(db, &s.account, id, Standing::On).await.unwrap();
    id
}

/// A day later, with all that was due done and sent.
async fn days(db: &PgPool, s: &Scene, n: u16) {
    s.days_pass(db, n).await;
    run_all(db).await.unwrap();
    s.settle(db).await;
}

async fn so_far(db: &PgPool, s: &Scene, id: RuleId) -> Option<SoFar> {
    let book = book(db, &s.account).await;
    worth::of_account(db, &book).await.unwrap().get(&id).cloned()
}

async fn last(db: &PgPool, s: &Scene, id: RuleId) -> Ran {
    keeping::runs(db, &s.account, Some(id), 1).await.unwrap().pop().unwrap()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_rule_that_makes_things_worse_is_suspended_and_its_author_told(db: PgPool) {
    let s = school(&db).await;
    // Another takes money from the same campaigns, just before.
    let cut = Rule { name: "Takes from the good".into(), ..harm(Action::BudgetBy(-0.3)) };
    let cut = on(&db, &s, &cut).await;
    let id = on(&db, &s, &harm(Action::Pause)).await;
    assert!(so_far(&db, &s, id).await.is_none(), "it has done nothing yet");
    days(&db, &s, 1).await;
    assert!(last(&db, &s, id).await.acted > 0);
    days(&db, &s, 1).await;
    let first = so_far(&db, &s, id).await.unwrap();
    let runs = keeping::runs(&db, &s.account, Some(id), 10).await.unwrap();
    let acted: i64 = runs.iter().map(|r| i64::from(r.acted)).sum();
    assert_eq!((first.judged, first.to_come), (0, acted));
    assert!(first.sentence().unwrap().starts_with("its first look-back is on"), "{first:?}");
    // A week and what it takes to settle, then the next run is its last.
    days(&db, &s, 14).await;
    let judged = so_far(&db, &s, id).await.unwrap();
    assert!(judged.judged > 0 && judged.worth.mid < 0.0, "{judged:?}");
    // Nobody has to look at each of its changes: the rule is watched as a whole.
    let today = tiller_desk::account::connections::today(&db, &s.account).await.unwrap();
    assert_eq!(tiller_desk::tray::waiting(&db, &s.account, today).await.unwrap().due, 0);
    assert!(judged.worth.made_it_worse(), "{judged:?}");
    // What both did is judged as one, told of both and counted once.
    let other = so_far(&db, &s, cut).await.unwrap();
    assert!(0 < judged.shared && other.judged == other.shared, "{judged:?} {other:?}");
    assert!(judged.sentence().unwrap().contains("shared with other rules"), "{judged:?}");
    assert_eq!(worth::together([&judged, &other]), Some(words::in_words(&judged.worth)));
    let kept = keeping::one(&db, &s.account, id).await.unwrap();
    assert_eq!(kept.row.state, Standing::Suspended);
    assert!(kept.row.note.contains(": it lost "), "{}", kept.row.note);
    assert!(kept.row.note.contains("may be their doing"), "{}", kept.row.note);
    assert_eq!(kept.row.next_due, None);
    let run = last(&db, &s, id).await;
    assert_eq!((run.state, run.acted, run.mail), (RunState::Skipped, 0, Mail::Due));
    let letter =
        tidings::of_account(&db, &s.account, book(&db, &s.account).await.span.to()).await.unwrap();
    let mut names: Vec<&str> = letter.suspended.iter().map(|r| r.name.as_str()).collect();
    names.sort_unstable();
    assert_eq!(names, ["Stops what is good", "Takes from the good"]);
    // Its author hears of it by e-mail, once.
    let post = Post::open().await;
    let mailer = Mailer::new(&post.address, "Gold Tiller <rules@amberfold.example>").unwrap();
    while mail::run_next(&db, &mailer).await.unwrap() {}
    let taken = post.taken.lock().unwrap().clone();
    let [_, mail] = &taken[..] else { panic!("{taken:?}") };
    let to = format!("To: Ada <ada@{}.example>", s.account.slug);
    assert!(mail.contains(&to), "{mail}");
    assert!(mail.contains(" suspended"), "{mail}");
    assert_eq!(last(&db, &s, id).await.mail, Mail::Sent);
    // Somebody who switches it on again has it watched anew, not stopped for what is known.
    keeping::switch(&db, &s.account, id, Standing::On).await.unwrap();
    days(&db, &s, 1).await;
    assert_eq!(last(&db, &s, id).await.state, RunState::Done);
    let kept = keeping::one(&db, &s.account, id).await.unwrap();
    assert_eq!((kept.row.state, kept.row.note.as_str()), (Standing::On, ""));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_a_rule_tells_stands_on_today_and_goes_out_once(db: PgPool) {
    let s = school(&db).await;
    let id = on(&db, &s, &harm(Action::Tell)).await;
    days(&db, &s, 1).await;
    let run = last(&db, &s, id).await;
    assert!(run.acted > 0 && run.mail == Mail::Due);
    let told = tidings::of_account(&db, &s.account, run.as_of.unwrap()).await.unwrap().told;
    assert_eq!((told.len(), told[0].run, told[0].things.len()), (1, run.id, run.acted as usize));
    // Later it is no news.
    let later = tiller_core::window::later(run.as_of.unwrap(), 7);
    assert!(tidings::of_account(&db, &s.account, later).await.unwrap().told.is_empty());
    let post = Post::open().await;
    let mailer = Mailer::new(&post.address, "rules@amberfold.example").unwrap();
    // No time now: it waits its turn. Then it is taken, by one of two servers.
    post.refuse("451 later");
    assert!(mail::run_next(&db, &mailer).await.unwrap());
    assert_eq!(last(&db, &s, id).await.mail, Mail::Due);
    assert!(!mail::run_next(&db, &mailer).await.unwrap(), "not before its time");
    sqlx::query("UPDATE rule_run SET mail_not_before = now()").execute(&db).await.unwrap();
    let (a, b) = tokio::join!(mail::run_next(&db, &mailer), mail::run_next(&db, &mailer));
    assert!(a.unwrap() != b.unwrap());
    let letters = post.taken.lock().unwrap().clone();
    let [letter] = &letters[..] else { panic!("{letters:?}") };
    assert!(letter.contains("Subject: =?utf-8?") || letter.contains("tells of"), "{letter}");
    assert!(letter.contains(&format!("rule-run-{}-{}@amberfold.example", s.account.id, run.id)));
    assert_eq!(last(&db, &s, id).await.mail, Mail::Sent);
    // An address that nobody has is not tried for ever.
    sqlx::query("UPDATE rule_run SET mail = 'due', mail_not_before = now()")
        .execute(&db)
        .await
        .unwrap();
    post.refuse("550 nobody");
    assert!(mail::run_next(&db, &mailer).await.unwrap());
    assert_eq!(last(&db, &s, id).await.mail, Mail::Failed);
    assert!(Mailer::new("post:25", "rules@amberfold.example").is_err());
    assert!(Mailer::new(&post.address, "nobody").is_err());
}

/// Who wrote it has left: nobody is written to.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn nobody_outside_the_account_is_told(db: PgPool) {
    let s = school(&db).await;
    let id = on(&db, &s, &harm(Action::Tell)).await;
    days(&db, &s, 1).await;
    sqlx::query("DELETE FROM membership").execute(&db).await.unwrap();
    let post = Post::open().await;
    let mailer = Mailer::new(&post.address, "rules@amberfold.example").unwrap();
    assert!(mail::run_next(&db, &mailer).await.unwrap());
    assert!(post.taken.lock().unwrap().is_empty());
    assert_eq!(last(&db, &s, id).await.mail, Mail::Failed);
}
