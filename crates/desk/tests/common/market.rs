//! A stand-in market that answers on a port of its own, and an account connected to it.

use std::path::Path;
use std::sync::LazyLock;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use chrono::NaiveDate;
use tiller_core::Target;
use tiller_desk::account::channels::Channels;
use tiller_desk::account::{self, connections};
use tiller_desk::{Account, PgPool};
use tiller_market::World;
use tiller_market::http::{Faults, Service};
use tiller_market::world::AMBERFOLD;
use tiller_store::people::NewAccount;
use tokio::task::JoinHandle;

/// Small enough to be fetched in a blink: one campaign that is dear, one that is not, one by files only.
pub const WORLD: &str = include_str!("../../../market/tests/common/small.toml");

/// How channels are reached in tests: on this machine.
pub fn channels() -> &'static Channels {
    static PRACTICE: LazyLock<Channels> = LazyLock::new(Channels::practice);
    &PRACTICE
}

/// A market that answers; stops when it is dropped.
pub struct Answering {
    pub service: Service,
    pub address: String,
    task: JoinHandle<()>,
}

impl Drop for Answering {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Answering {
    pub async fn open(journal: Option<&Path>, port: u16) -> Self {
        Self::of(WORLD, journal, port).await
    }

    pub async fn of(world: &str, journal: Option<&Path>, port: u16) -> Self {
        let last: NaiveDate = "2026-11-09".parse().unwrap();
        let service = Service::open(World::parse(world).unwrap(), last, journal).unwrap();
        let listener = tokio::net::TcpListener::bind(("127.0.0.1", port)).await.unwrap();
        let address = format!("http://{}", listener.local_addr().unwrap());
        let answering = service.clone();
        let task = tokio::spawn(async move {
            answering.serve(listener, std::future::pending()).await.unwrap();
        });
        Self { service, address, task }
    }

    pub async fn new() -> Self {
        Self::open(None, 0).await
    }
}

/// An account that has fetched everything from a market.
pub async fn connected(db: &PgPool, market: &Answering) -> Account {
    static NUMBER: AtomicU64 = AtomicU64::new(0);
    let slug = format!("connected-{}", NUMBER.fetch_add(1, Ordering::Relaxed));
    let account = super::account(db, &slug).await;
    connections::connect(db, channels(), &account, &market.address, "test-token").await.unwrap();
    fetch_all(db).await;
    account
}

/// A market of the demo's world under another seed.
pub async fn amberfold(seed: u64) -> Answering {
    seeded(AMBERFOLD, seed).await
}

/// The same where days differ by chance alone, and orders little.
pub async fn calm_amberfold(seed: u64) -> Answering {
    let (before, unrest) = AMBERFOLD.split_once("[unrest]\n").unwrap();
    let (_, after) = unrest.split_once("\n\n").unwrap();
    let orders = |line: &&str| !line.starts_with("orders = ");
    let calm: Vec<&str> = before.lines().chain(after.lines()).filter(orders).collect();
    seeded(&calm.join("\n"), seed).await
}

/// The same where everybody buys alike, whoever and wherever they are and at whatever hour.
pub async fn alike_amberfold(seed: u64) -> Answering {
    let alike = |line: &str| {
        let mut parts = line.split(", cvr = ");
        let first = parts.next().unwrap_or_default().to_owned();
        let rest = parts.map(|p| p.trim_start_matches(|c: char| c.is_ascii_digit() || c == '.'));
        if line.contains("segment = ") {
            first + &rest.collect::<String>()
        } else {
            line.to_owned()
        }
    };
    seeded(&AMBERFOLD.lines().map(alike).collect::<Vec<_>>().join("\n"), seed).await
}

async fn seeded(world: &str, seed: u64) -> Answering {
    let world = world.replacen("\nseed = ", "\n# seed = ", 1);
    Answering::of(&format!("seed = {seed}\n{world}"), None, 0).await
}

/// The same without who came and what they searched for, which take most of a fetch.
pub async fn amberfold_days(seed: u64) -> Answering {
    days_of(AMBERFOLD, seed).await
}

/// The same of another world that ships.
pub async fn days_of(world: &str, seed: u64) -> Answering {
    let market = seeded(world, seed).await;
    market.service.set_faults(Faults { no_splits: true, ..Faults::default() });
    market
}

/// One of its accounts, with everything fetched.
pub async fn practice(
    db: &PgPool,
    market: &Answering,
    key: &str,
    seed: u64,
    target: Target,
) -> Account {
    let slug = format!("{key}-{seed}");
    let new = NewAccount {
        slug: &slug,
        name: "Amberfold",
        currency: "EUR",
        time_zone: "Europe/Copenhagen",
    };
    let id = account::add(db, &new).await.unwrap();
    account::set_default_target(db, id, Some(target)).await.unwrap();
    let account = account::by_slug(db, &slug).await.unwrap();
    let token = format!("amberfold-{key}-practice");
    connections::connect(db, channels(), &account, &market.address, &token).await.unwrap();
    fetch_all(db).await;
    account::by_slug(db, &slug).await.unwrap()
}

/// Runs every job that waits.
pub async fn fetch_all(db: &PgPool) {
    while tiller_desk::jobs::fetch::run_next(db, channels()).await.unwrap() {}
}

/// Makes what waits for later due now, and what a dead worker holds free.
pub async fn time_passes(db: &PgPool) {
    for table in ["sync_job", "change_batch", "rule_run"] {
        let sql = format!(
            "UPDATE {table} SET not_before = now() - interval '1 second', claimed_at = claimed_at - interval '2 minutes'"
        );
        sqlx::raw_sql(sqlx::AssertSqlSafe(sql)).execute(db).await.unwrap();
    }
}

/// Waits until something holds, for ten seconds at most.
pub async fn until<F: Future<Output = bool>>(mut holds: impl FnMut() -> F) {
    let mut tick = tokio::time::interval(Duration::from_millis(2));
    for _ in 0..5000 {
        tick.tick().await;
        if holds().await {
            return;
        }
    }
    panic!("it never came to hold");
}
