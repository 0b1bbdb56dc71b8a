//! Real processes, killed hard in the middle of their work: what was answered stays, nothing is done twice.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use tiller_channel::Micros;
use tiller_core::custom_rule::{Action, Clause, CustomRule, Is, Metric, Over, Than, Things, When};
use tiller_core::rule::{Body, Rule, Send};
use tiller_core::setting::Budget;
use tiller_desk::PgPool;
use tiller_desk::account::connections;
use tiller_desk::book::{Book, PeriodChoice};
use tiller_desk::rules::keeping::{self, Standing};
use tiller_store::MIGRATIONS;

use crate::common::{Scene, a_minute_passes, channels, count, faults, market, open, server, until};

#[sqlx::test(migrator = "MIGRATIONS")]
async fn killed_in_the_middle_of_fetching_and_sending(db: PgPool) {
    let (s, at_market, url) = open(db).await;
    let port: u16 = s.address.rsplit(':').next().unwrap().parse().unwrap();
    let db = &s.db;

    // The server, then the market, are killed while the report comes in.
    connections::connect(db, &channels(), &s.account, &s.address, "test-token").await.unwrap();
    faults(&s.address, r#"{"latency_ms": 250}"#).await;
    let running = "SELECT count(*) FROM sync_job WHERE state = 'running'";
    let worker = server(&url);
    until("a fetch begins", async || count(db, running).await > 0).await;
    drop(worker);
    a_minute_passes(db).await;
    let worker = server(&url);
    until("a fetch begins again", async || count(db, running).await > 0).await;
    drop(at_market);
    let (at_market, _) = market(&s.folder, port);
    let all_done = "SELECT count(*) FROM sync_job WHERE state <> 'done'";
    until("everything has come in", async || {
        a_minute_passes(db).await;
        count(db, all_done).await == 0
    })
    .await;
    let days = count(db, "SELECT count(DISTINCT day) FROM campaign_day").await;
    assert_eq!(days, 40);
    let double = "SELECT count(*) FROM report_import WHERE state <> 'done'";
    assert_eq!(count(db, double).await, 0);

    // The server is killed after the channel has made a change and before it has said so.
    faults(&s.address, r#"{"latency_ms": 250}"#).await;
    s.send("Names, search", "120").await;
    let set = |units: f64| Some(Budget::Daily { amount: Micros::from_units(units) });
    until("the channel has made it", async || {
        s.budget_at_market("Names, search").await == set(120.0)
    })
    .await;
    drop(worker);
    faults(&s.address, "{}").await;
    a_minute_passes(db).await;
    let worker = server(&url);
    until("the logbook has it", async || s.made().await == 1).await;
    assert_eq!(s.batches_lived(), 1, "posted twice, made once");

    // The market is killed while a batch is under way; its journal gives it back what it had answered.
    until("the structure is fresh", async || count(db, all_done).await == 0).await;
    faults(&s.address, r#"{"latency_ms": 250}"#).await;
    s.send("Visits, search", "130").await;
    let sending = "SELECT count(*) FROM change_batch WHERE claimed_at IS NOT NULL";
    until("it is under way", async || count(db, sending).await > 0).await;
    drop(at_market);
    let (at_market, _) = market(&s.folder, port);
    until("the logbook has both", async || {
        a_minute_passes(db).await;
        s.made().await == 2
    })
    .await;
    assert_eq!(s.budget_at_market("Names, search").await, set(120.0));
    assert_eq!(s.budget_at_market("Visits, search").await, set(130.0));
    assert_eq!(s.batches_lived(), 2);

    // The database drops every session while a batch is under way.
    until("the structure is fresh", async || count(db, all_done).await == 0).await;
    faults(&s.address, r#"{"latency_ms": 250}"#).await;
    s.send("Courses, search", "310").await;
    until("it is under way", async || count(db, sending).await > 0).await;
    sqlx::raw_sql(
        "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()",
    )
    .execute(db)
    .await
    .unwrap();
    until("the logbook has all three", async || {
        a_minute_passes(db).await;
        s.made().await == 3
    })
    .await;
    assert_eq!(s.budget_at_market("Courses, search").await, set(310.0));
    assert_eq!(s.batches_lived(), 3);
    let Scene { folder, .. } = s;
    drop((worker, at_market));
    std::fs::remove_dir_all(folder).unwrap();
}

/// A rule that pauses what has had clicks, straight out.
fn pauses() -> Rule {
    let over = Over::Days(14);
    let clicks = Clause { metric: Metric::Clicks, over, is: Is::AtLeast, than: Than::Value(1.0) };
    let rule = CustomRule::new(Things::Items, When::all([clicks]), Action::Pause);
    Rule { send: Send::Straight, ..Rule::new("Clicked", Body::Custom(rule)) }
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn killed_in_the_middle_of_a_run_and_two_servers_at_one_due_time(db: PgPool) {
    let (s, at_market, url) = open(db).await;
    let db = &s.db;
    connections::connect(db, &channels(), &s.account, &s.address, "test-token").await.unwrap();
    while tiller_desk::jobs::fetch::run_next(db, &channels()).await.unwrap() {}
    let book = Book::load(db, &s.account, PeriodChoice::default()).await.unwrap().unwrap();
    let naming = keeping::naming(&book);
    let id = keeping::add(db, &s.account, s.person, &pauses(), &naming).await.unwrap();
    keeping::switch(db, &s.account, id, Standing::On).await.unwrap();
    let due = async || {
        sqlx::query("UPDATE rule SET next_due = now() - interval '1 second'")
            .execute(db)
            .await
            .unwrap();
    };
    // The run has put its changes down and goes on to what it says of them, where it is held up: there its server dies.
    let mut held = db.acquire().await.unwrap();
    let hold = "BEGIN; LOCK TABLE rule_action IN SHARE MODE";
    sqlx::raw_sql(hold).execute(&mut *held).await.unwrap();
    due().await;
    let dies = server(&url);
    let waiting = "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock' AND query LIKE 'INSERT INTO rule_action%'";
    until("the run is in the middle", async || count(db, waiting).await > 0).await;
    drop(dies);
    sqlx::raw_sql("ROLLBACK").execute(&mut *held).await.unwrap();
    until("its session is over", async || count(db, waiting).await == 0).await;
    let running = "SELECT count(*) FROM rule_run WHERE state = 'running'";
    let changes = "SELECT count(*) FROM change";
    assert_eq!((count(db, running).await, count(db, changes).await), (1, 0));
    // Two others take over what is left, and each further due time is met by one of them.
    let others = [server(&url), server(&url)];
    a_minute_passes(db).await;
    let done = "SELECT count(*) FROM rule_run WHERE state = 'done'";
    until("another has done it", async || count(db, done).await == 1).await;
    let acted = "SELECT sum(acted)::bigint FROM rule_run";
    let each = count(db, acted).await;
    assert!(each > 0 && count(db, changes).await == each);
    for runs in 2..=3 {
        due().await;
        until("it has run again", async || count(db, done).await == runs).await;
    }
    let made = "SELECT count(*) FROM change WHERE state = 'made'";
    until("all is made", async || count(db, made).await == each).await;
    assert_eq!((count(db, acted).await, count(db, changes).await), (each, each));
    assert_eq!(count(db, "SELECT count(*) FROM rule_run").await, 3);
    let things = "SELECT count(DISTINCT item_id) FROM rule_action";
    assert_eq!(count(db, things).await, each, "each once");
    let Scene { folder, .. } = s;
    drop((others, at_market));
    std::fs::remove_dir_all(folder).unwrap();
}
