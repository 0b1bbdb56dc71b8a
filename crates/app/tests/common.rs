//! Real processes in a test: a market on its journal, servers, and an account whose figures come through them.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::io::{BufRead, BufReader};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use tiller_channel::connection::{Connection as _, HttpConnection, Patience};
use tiller_core::setting::Budget;
use tiller_core::spot::Subject;
use tiller_core::{Price, Target};
use tiller_desk::account;
use tiller_desk::account::channels::Channels;
use tiller_desk::book::{Book, PeriodChoice};
use tiller_desk::tray::{self, Edit, sending};
use tiller_desk::{Account, PgPool, Role, logbook};
use tiller_store::people::NewAccount;

/// What the servers of a test seal tokens with.
pub const KEY: &str = "BwcHBwcHBwcHBwcHBwcHBwcHBwcHBwcHBwcHBwcHBwc=";

/// The same here.
pub fn channels() -> Channels {
    Channels { key: KEY.parse().unwrap(), ..Channels::practice() }
}

/// A running program; killed hard when it is dropped, with no chance to tidy up.
pub struct Program(pub Child);

impl Drop for Program {
    fn drop(&mut self) {
        self.0.kill().ok();
        self.0.wait().ok();
    }
}

pub fn start(args: &[&str], environment: &[(&str, &str)]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_gold-tiller"));
    // Whatever settings the tests themselves run with.
    let ours = std::env::vars_os().map(|(name, _)| name);
    for name in ours.filter(|n| n.to_string_lossy().starts_with("GOLD_TILLER_")) {
        command.env_remove(name);
    }
    command.args(args).envs(environment.iter().copied()).stdin(Stdio::null());
    command
}

/// The market on a journal, at a port or any; answers its address too.
pub fn market(folder: &std::path::Path, port: u16) -> (Program, String) {
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
pub fn server(database: &str) -> Program {
    server_that(database, &[])
}

/// The same with more in its environment.
pub fn server_that(database: &str, more: &[(&str, &str)]) -> Program {
    // The last is of those that whatever runs containers sets by itself.
    let settings = [
        ("DATABASE_URL", database),
        ("GOLD_TILLER_LOG", "off"),
        ("GOLD_TILLER_SERVICE_HOST", "10.0.0.7"),
        ("GOLD_TILLER_KEY", KEY),
        ("GOLD_TILLER_REACH", "127.0.0.0/8"),
    ];
    let mut server = start(&["serve", "--port", "0"], &settings);
    Program(server.envs(more.iter().copied()).spawn().unwrap())
}

pub async fn until(what: &str, mut holds: impl AsyncFnMut() -> bool) {
    let mut tick = tokio::time::interval(Duration::from_millis(5));
    for _ in 0..6000 {
        tick.tick().await;
        if holds().await {
            return;
        }
    }
    panic!("it never came about: {what}");
}

pub async fn count(db: &PgPool, sql: &'static str) -> i64 {
    sqlx::query_scalar(sql).fetch_one(db).await.unwrap()
}

/// What a dead worker holds is let go at once, and waits end.
pub async fn a_minute_passes(db: &PgPool) {
    for table in ["sync_job", "change_batch", "report_import", "rule_run"] {
        let wait = if table == "report_import" { "" } else { "not_before = now()," };
        let sql = format!(
            "UPDATE {table} SET {wait} claimed_at = now() - interval '2 minutes' WHERE claimed_at IS NOT NULL"
        );
        sqlx::raw_sql(sqlx::AssertSqlSafe(sql)).execute(db).await.unwrap();
    }
}

pub async fn faults(address: &str, faults: &str) {
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

pub struct Scene {
    pub db: PgPool,
    pub account: Account,
    pub person: tiller_desk::PersonId,
    pub address: String,
    pub folder: PathBuf,
}

impl Scene {
    pub async fn budget_at_market(&self, campaign: &str) -> Option<Budget> {
        let patience = Patience::default();
        let http =
            HttpConnection::new(&self.address, "Findle", "test-token", patience, &channels().reach)
                .unwrap();
        let there = http.structure().await.unwrap();
        there.campaigns.into_iter().find(|c| c.name == campaign).unwrap().settings.budget
    }

    /// Puts a budget in the tray and sends it.
    pub async fn send(&self, campaign: &str, budget: &str) {
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

    pub async fn made(&self) -> usize {
        let today = "2026-11-10".parse().unwrap();
        let all = logbook::all(&self.db, &self.account, logbook::Show::All, "", today);
        all.await.unwrap().iter().filter(|e| e.made()).count()
    }

    /// How often the market has carried a batch out.
    pub fn batches_lived(&self) -> usize {
        let journal = std::fs::read_to_string(self.folder.join("journal.jsonl")).unwrap();
        journal.lines().filter(|l| l.contains("\"batch\"")).count()
    }
}

/// An account with nothing fetched yet, a market, and the address of the database.
pub async fn open(db: PgPool) -> (Scene, Program, String) {
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
