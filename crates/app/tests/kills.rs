//! Real processes, killed hard in the middle of their work: what was answered stays, nothing is done twice.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::io::{BufRead, BufReader};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::Duration;
use tiller_core::Price;

use tiller_channel::Micros;
use tiller_channel::connection::{Connection as _, HttpConnection, Patience};
use tiller_core::Target;
use tiller_core::custom_rule::{Action, Clause, CustomRule, Is, Metric, Over, Than, Things, When};
use tiller_core::rule::{Body, Rule, Send};
use tiller_core::setting::Budget;
use tiller_core::spot::Subject;
use tiller_desk::account::{self, connections};
use tiller_desk::book::{Book, PeriodChoice};
use tiller_desk::rules::keeping::{self, Standing};
use tiller_desk::tray::{self, Edit, sending};
use tiller_desk::{Account, PgPool, Role, logbook};
use tiller_store::MIGRATIONS;
use tiller_store::people::NewAccount;

/// A running program; killed hard when it is dropped, with no chance to tidy up.
struct Program(Child);

impl Drop for Program {
    fn drop(&mut self) {
        self.0.kill().ok();
        self.0.wait().ok();
    }
}

fn start(args: &[&str], environment: &[(&str, &str)]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_gold-tiller"));
    command.args(args).envs(environment.iter().copied()).stdin(Stdio::null());
    command
}

/// The market on a journal, at a port or any; answers its address too.
fn market(folder: &std::path::Path, port: u16) -> (Program, String) {
    let world = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../market/tests/common/small.toml");
    let (journal, port) = (folder.join("journal.jsonl"), port.to_string());
    let args = ["market", "serve", "--until", "2026-11-09", "--port", &port];
    let mut child = start(&args, &[])
        .arg("--world")
        .arg(world)
        .arg("--journal")
        .arg(journal)
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut line = String::new();
    BufReader::new(child.stderr.take().unwrap()).read_line(&mut line).unwrap();
    let address = line.trim().rsplit(' ').next().unwrap().to_owned();
    assert!(address.starts_with("http://127.0.0.1:"), "{line}");
    (Program(child), address)
}

/// The server, which works the queues off; its pages are not asked.
fn server(database: &str) -> Program {
    // The last is of those that whatever runs containers sets by itself.
    let settings = [
        ("DATABASE_URL", database),
        ("GOLD_TILLER_LOG", "off"),
        ("GOLD_TILLER_SERVICE_HOST", "10.0.0.7"),
    ];
    Program(start(&["serve", "--port", "0"], &settings).spawn().unwrap())
}

async fn until(what: &str, mut holds: impl AsyncFnMut() -> bool) {
    let mut tick = tokio::time::interval(Duration::from_millis(5));
    for _ in 0..6000 {
        tick.tick().await;
        if holds().await {
            return;
        }
    }
    panic!("it never came about: {what}");
}

async fn count(db: &PgPool, sql: &'static str) -> i64 {
    sqlx::query_scalar(sql).fetch_one(db).await.unwrap()
}

/// What a dead worker holds is let go at once, and waits end.
async fn a_minute_passes(db: &PgPool) {
    for table in ["sync_job", "change_batch", "report_import", "rule_run"] {
        let wait = if table == "report_import" { "" } else { "not_before = now()," };
        let sql = format!(
            "UPDATE {table} SET {wait} claimed_at = now() - interval '2 minutes' WHERE claimed_at IS NOT NULL"
        );
        sqlx::raw_sql(sqlx::AssertSqlSafe(sql)).execute(db).await.unwrap();
    }
}

async fn faults(address: &str, faults: &str) {
    let answer = reqwest::Client::new()
        .put(format!("{address}/v1/faults"))
        .bearer_auth("test-token")
        .header("content-type", "application/json")
        .body(faults.to_owned())
        .send()
        .await
        .unwrap();
    assert!(answer.status().is_success(), "{}", answer.status());
}

struct Scene {
    db: PgPool,
    account: Account,
    person: tiller_desk::PersonId,
    address: String,
    folder: PathBuf,
}

impl Scene {
    async fn budget_at_market(&self, campaign: &str) -> Option<Budget> {
        let http = HttpConnection::new(&self.address, "Findle", "test-token", Patience::default())
            .unwrap();
        let there = http.structure().await.unwrap();
        there.campaigns.into_iter().find(|c| c.name == campaign).unwrap().settings.budget
    }

    /// Puts a budget in the tray and sends it.
    async fn send(&self, campaign: &str, budget: &str) {
        let book = Book::load(&self.db, &self.account, PeriodChoice::default());
        let book = book.await.unwrap().unwrap();
        let id = book.entries.iter().find(|e| e.campaign.name == campaign).unwrap().campaign.id;
        let on = [Subject::Campaign(id)];
        tray::edit(&self.db, &self.account, self.person, &on, Edit::Budget, budget, "")
            .await
            .unwrap();
        let rows = tray::rows(&self.db, &self.account).await.unwrap();
        let ids: Vec<_> = rows.iter().map(|r| r.change.id).collect();
        sending::send(&self.db, &self.account, &ids).await.unwrap();
    }

    async fn made(&self) -> usize {
        let today = "2026-11-10".parse().unwrap();
        let all = logbook::all(&self.db, &self.account, logbook::Show::All, "", today);
        all.await.unwrap().iter().filter(|e| e.made()).count()
    }

    /// How often the market has carried a batch out.
    fn batches_lived(&self) -> usize {
        let journal = std::fs::read_to_string(self.folder.join("journal.jsonl")).unwrap();
        journal.lines().filter(|l| l.contains("\"batch\"")).count()
    }
}

/// An account with nothing fetched yet, a market, and the address of the database.
async fn open(db: PgPool) -> (Scene, Program, String) {
    let database = db.connect_options().get_database().unwrap().to_owned();
    let folder = std::env::temp_dir().join(format!("kills-{}-{database}", std::process::id()));
    std::fs::create_dir_all(&folder).unwrap();
    let given = std::env::var("DATABASE_URL").unwrap();
    let url = format!("{}/{database}", given.rsplit_once('/').unwrap().0);
    let new = NewAccount {
        slug: "t",
        name: "Amberfold Test",
        currency: "EUR",
        time_zone: "Europe/Copenhagen",
    };
    let id = account::add(&db, &new).await.unwrap();
    account::set_default_target(&db, id, Some(Target::Cpa(Price(30.0)))).await.unwrap();
    let account = account::by_slug(&db, "t").await.unwrap();
    let person =
        account::add_person(&db, "a@amberfold.example", "Ada", "a long password").await.unwrap();
    account::join(&db, account.id, person, Role::Analyst).await.unwrap();
    let (at_market, address) = market(&folder, 0);
    (Scene { db, account, person, address, folder }, at_market, url)
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn killed_in_the_middle_of_fetching_and_sending(db: PgPool) {
    let (s, at_market, url) = open(db).await;
    let port: u16 = s.address.rsplit(':').next().unwrap().parse().unwrap();
    let db = &s.db;

    // The server, then the market, are killed while the report comes in.
    connections::connect(db, &s.account, &s.address, "test-token").await.unwrap();
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
    connections::connect(db, &s.account, &s.address, "test-token").await.unwrap();
    while tiller_desk::jobs::fetch::run_next(db).await.unwrap() {}
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
