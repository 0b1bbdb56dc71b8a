//! Readers and writers on a server that is killed under them: how long pages took, what failed, and whether anything that was
//! answered is lost or there twice.
//!
//! Usage: `fire ADDRESS DATABASE_URL ACCOUNT JOURNAL SECONDS`   (a server with --demo, an account connected to a market on a
//! journal)

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use reqwest::header::{CONTENT_TYPE, COOKIE, LOCATION, SET_COOKIE};
use reqwest::redirect::Policy;
use reqwest::{Client, Response, StatusCode};
use sqlx::PgPool;

const READERS: usize = 50;
/// Between two things that one writer does.
const PAUSE: Duration = Duration::from_secs(1);
/// Pages that readers go through, below the account.
const PAGES: [&str; 8] =
    ["today", "spend", "causes", "budgets", "bids", "logbook", "channels", "spend/pace"];
/// Reports are of days from this on, one a report; nobody else has any there.
const FIRST_DAY: &str = "2020-01-01";

/// What was counted.
#[derive(Default)]
struct Counts {
    shown: AtomicU64,
    /// Nobody answered, or the answer broke off.
    away: AtomicU64,
    /// Come again later.
    busy: AtomicU64,
    /// A failure of the server's.
    failed: AtomicU64,
    written: AtomicU64,
    unanswered: AtomicU64,
}

fn count(what: &AtomicU64) {
    what.fetch_add(1, Ordering::Relaxed);
}

/// A browser of somebody who is signed in.
#[derive(Clone)]
struct Browser {
    client: Client,
    address: String,
    base: String,
    cookie: String,
    counts: Arc<Counts>,
    until: Instant,
}

/// What came of a form that was sent.
enum Sent {
    /// It was answered: where it leads, if anywhere.
    Answered(Option<String>),
    /// It was refused, and did nothing.
    Refused,
    /// Nobody knows.
    Unknown,
}

impl Browser {
    fn goes_on(&self) -> bool {
        Instant::now() < self.until
    }

    async fn get(&self, path: &str) -> Option<(StatusCode, String)> {
        let request = self.client.get(format!("{}{path}", self.address));
        let answer = request.header(COOKIE, &self.cookie).send().await.ok()?;
        Some((answer.status(), answer.text().await.ok()?))
    }

    /// Sends a form, or a file.
    async fn post(&self, path: &str, kind: &str, body: String) -> Sent {
        let request = self.client.post(format!("{}{}/{path}", self.address, self.base));
        let request = request.header(COOKIE, &self.cookie).header(CONTENT_TYPE, kind);
        let request = request.header("sec-fetch-site", "same-origin").body(body);
        let answer = request.send().await;
        match answer.as_ref().map(Response::status) {
            Ok(StatusCode::SEE_OTHER | StatusCode::OK) => {
                count(&self.counts.written);
                let to = answer.ok().and_then(|a| a.headers().get(LOCATION).cloned());
                Sent::Answered(to.and_then(|to| to.to_str().map(str::to_owned).ok()))
            }
            Ok(status) if status.is_client_error() => Sent::Refused,
            other => {
                if other.is_ok_and(|s| s != StatusCode::SERVICE_UNAVAILABLE) {
                    count(&self.counts.failed);
                }
                count(&self.counts.unanswered);
                Sent::Unknown
            }
        }
    }

    async fn form(&self, path: &str, body: String) -> Sent {
        self.post(path, "application/x-www-form-urlencoded", body).await
    }

    /// Reads one page after the other; how long each took that was shown.
    async fn reads(self, from: usize) -> Vec<Duration> {
        let mut waited = Vec::new();
        for page in PAGES.iter().cycle().skip(from) {
            if !self.goes_on() {
                return waited;
            }
            let started = Instant::now();
            match self.get(&format!("{}/{page}", self.base)).await {
                Some((StatusCode::OK, _)) => {
                    waited.push(started.elapsed());
                    count(&self.counts.shown);
                    continue;
                }
                Some((StatusCode::SERVICE_UNAVAILABLE, _)) => count(&self.counts.busy),
                Some((status, _)) if status.is_server_error() => {
                    eprintln!("{page}: {status}");
                    count(&self.counts.failed);
                }
                Some((status, _)) => {
                    eprintln!("{page}: {status}");
                }
                None => count(&self.counts.away),
            }
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
        waited
    }

    /// Sets one thing to one number after the other. Which it may be in the end: the last that was answered, or a later one
    /// of which nobody knows.
    async fn sets(self, path: &str, body: impl Fn(u32) -> String) -> Vec<u32> {
        let mut may_be = Vec::new();
        for n in 1.. {
            if !self.goes_on() {
                break;
            }
            match self.form(path, body(n)).await {
                Sent::Answered(_) => may_be = vec![n],
                Sent::Unknown => may_be.push(n),
                Sent::Refused => {}
            }
            tokio::time::sleep(PAUSE).await;
        }
        may_be
    }

    /// Makes one plan after the other: the numbers of those that were answered, and of those of which nobody knows.
    async fn plans(self, campaigns: String) -> (Vec<u32>, Vec<u32>) {
        let (mut made, mut unknown) = (Vec::new(), Vec::new());
        for n in 1.. {
            if !self.goes_on() {
                break;
            }
            match self.form("budgets", format!("name=Fire+{n}&{campaigns}")).await {
                Sent::Answered(_) => made.push(n),
                Sent::Unknown => unknown.push(n),
                Sent::Refused => {}
            }
            tokio::time::sleep(5 * PAUSE).await;
        }
        (made, unknown)
    }

    /// Imports one report after the other, each of a day of its own with as many coins: the days of those whose start was
    /// answered.
    async fn reports(self) -> (Vec<u32>, u32) {
        let mut started = Vec::new();
        for n in 1.. {
            if !self.goes_on() {
                return (started, n);
            }
            tokio::time::sleep(PAUSE).await;
            let kind = "multipart/form-data; boundary=x";
            let Sent::Answered(Some(place)) = self.post("reports", kind, report(n)).await else {
                continue;
            };
            let place = place.trim_start_matches(&format!("{}/", self.base)).to_owned();
            if let Sent::Answered(_) = self.form(&place, COLUMNS.into()).await {
                started.push(n);
            }
        }
        (started, 0)
    }

    /// Changes a budget to and fro, and sends what waits: how often that was answered.
    async fn changes(self, campaign: i64) -> u32 {
        let mut sent = 0;
        for n in 1.. {
            if !self.goes_on() {
                break;
            }
            let edit =
                format!("on=campaign-{campaign}&what=budget&how={}&reason=Fire", 500 + n % 7);
            self.form("tray/edit", edit).await;
            if let Some((StatusCode::OK, tray)) = self.get(&format!("{}/tray", self.base)).await {
                let ids = tray.split("name=\"change\" value=\"").skip(1);
                let ids: Vec<_> = ids.filter_map(|r| r.split('"').next()).collect();
                if let Some((last, before)) = ids.split_last() {
                    // Two of one thing can't be sent: those that could not be sent so far are taken out.
                    if !before.is_empty() {
                        let body = format!("change={}", before.join("&change="));
                        self.form("tray/withdraw", body).await;
                    }
                    let body = format!("change={last}");
                    if let Sent::Answered(_) = self.form("tray/send", body).await {
                        sent += 1;
                    }
                }
            }
            tokio::time::sleep(2 * PAUSE).await;
        }
        sent
    }
}

const COLUMNS: &str = "column-0=date&column-1=channel&column-2=campaign&column-3=ad_group&column-4=kind&column-5=item&column-6=match_type&column-7=impressions&column-8=clicks&column-9=spend&column-10=conversions&column-11=value&column-12=currency";

fn report(n: u32) -> String {
    let first: chrono::NaiveDate = FIRST_DAY.parse().unwrap_or_default();
    let day = first + chrono::Days::new(n.into());
    format!(
        "--x\r\nContent-Disposition: form-data; name=\"file\"; filename=\"fire-{n}.csv\"\r\nContent-Type: text/csv\r\n\r\n\
         date,channel,campaign,ad_group,kind,item,match_type,impressions,clicks,spend,conversions,value,currency\n\
         {day},Fire,Fire,All,keyword,fire,exact,{n},{n},{n},0,0,EUR\n\r\n--x--\r\n"
    )
}

async fn sign_in(client: &Client, address: &str) -> anyhow::Result<String> {
    let request = client.post(format!("{address}/sign-in/demo"));
    let request = request.header(CONTENT_TYPE, "application/x-www-form-urlencoded");
    let answer = request.body("email=&password=&next=").send().await?;
    let cookie = answer.headers().get(SET_COOKIE).context("the server has no demo analyst")?;
    Ok(cookie.to_str()?.split(';').next().unwrap_or_default().to_owned())
}

#[tokio::main]
async fn main() -> anyhow::Result<()> {
    let mut given = std::env::args().skip(1);
    let mut next =
        || given.next().context("usage: fire ADDRESS DATABASE_URL ACCOUNT JOURNAL SECONDS");
    let (address, url, slug, journal) = (next()?, next()?, next()?, next()?);
    let until = Instant::now() + Duration::from_secs(next()?.parse()?);
    rustls::crypto::ring::default_provider().install_default().ok();
    let client =
        Client::builder().redirect(Policy::none()).timeout(Duration::from_mins(1)).build()?;
    let cookie = sign_in(&client, &address).await?;
    let base = format!("/accounts/{slug}");
    let counts = Arc::<Counts>::default();
    let browser = Browser { client, address, base, cookie, counts: Arc::clone(&counts), until };
    let db = PgPool::connect(&url).await?;
    let account: i64 = one(&db, "SELECT id FROM account WHERE slug = $1", &slug).await?;
    let campaign: i64 =
        one(&db, "SELECT id FROM campaign WHERE name = $1", "Spring courses, search").await?;
    let batches_before = batches(&journal)?;

    let readers: Vec<_> = (0..READERS).map(|n| tokio::spawn(browser.clone().reads(n))).collect();
    let target = |n| format!("kind=cpa&cpa={}", 20 + n);
    let view = |n| format!("name=Fire&query=%3Fq%3D{n}");
    let (targets, views, plans, reports, sends) = tokio::join!(
        browser.clone().sets("targets", target),
        browser.clone().sets("views", view),
        browser.clone().plans(format!("campaign={campaign}")),
        browser.clone().reports(),
        browser.clone().changes(campaign),
    );
    let mut waited = Vec::new();
    for reader in readers {
        waited.extend(reader.await?);
    }
    waited.sort();
    ensure!(!waited.is_empty(), "no page was shown");
    let at = |share: f64| 1e3 * waited[((waited.len() - 1) as f64 * share) as usize].as_secs_f64();
    println!("pages: median {:.0} ms, p95 {:.0} ms, longest {:.0} ms", at(0.5), at(0.95), at(1.0));
    let of = |what: &AtomicU64| what.load(Ordering::Relaxed);
    println!(
        "shown {}, nobody answered {}, busy {}, failed {}; written {}, unanswered {}",
        of(&counts.shown),
        of(&counts.away),
        of(&counts.busy),
        of(&counts.failed),
        of(&counts.written),
        of(&counts.unanswered)
    );
    settle(&db).await?;

    // What was answered is there, once; what was not may be.
    let target: f64 = sqlx::query_scalar("SELECT target_cpa::float8 FROM account WHERE id = $1")
        .bind(account)
        .fetch_one(&db)
        .await?;
    ensure!(targets.iter().any(|n| f64::from(20 + n) == target), "{target} of {targets:?}");
    let query: String =
        one(&db, "SELECT query FROM saved_view WHERE name = 'Fire' AND $1 = $1", &slug).await?;
    ensure!(views.iter().any(|n| query.contains(&format!("q={n}"))), "{query} of {views:?}");
    let (made, unknown) = plans;
    let names: Vec<String> =
        sqlx::query_scalar("SELECT name FROM plan WHERE account_id = $1 AND name LIKE 'Fire %'")
            .bind(account)
            .fetch_all(&db)
            .await?;
    let times = |n: &u32| names.iter().filter(|name| **name == format!("Fire {n}")).count();
    let (lost, twice) = (
        made.iter().filter(|n| times(n) == 0).count(),
        made.iter().chain(&unknown).filter(|n| times(n) > 1).count(),
    );
    println!("plans: {} answered, {lost} lost, {twice} twice", made.len());
    ensure!(lost + twice == 0, "plans");
    let (started, all) = reports;
    let days: Vec<(chrono::NaiveDate, i64)> = sqlx::query_as(
        "SELECT d.day, d.spend FROM campaign_day d JOIN campaign c ON c.account_id = d.account_id AND c.id = d.campaign_id
         WHERE d.account_id = $1 AND c.name = 'Fire'",
    )
    .bind(account)
    .fetch_all(&db)
    .await?;
    let first: chrono::NaiveDate = FIRST_DAY.parse()?;
    let right = |n: &u32| {
        days.iter().any(|(day, spend)| {
            (*day - first).num_days() == i64::from(*n) && *spend == i64::from(*n) * 1_000_000
        })
    };
    // What a server stopped twice in is left alone, with its file, and told of: whoever sent it may try again.
    let left: Vec<String> = sqlx::query_scalar(
        "SELECT file_name FROM report_import i WHERE account_id = $1 AND state = 'failed'
         AND EXISTS (SELECT FROM report_chunk c WHERE c.account_id = i.account_id AND c.import_id = i.id)",
    )
    .bind(account)
    .fetch_all(&db)
    .await?;
    let aside = |n: &u32| left.contains(&format!("fire-{n}.csv"));
    let lost = started.iter().filter(|n| !right(n) && !aside(n)).count();
    let foreign = days
        .iter()
        .filter(|(day, _)| !(1..=i64::from(all)).contains(&(*day - first).num_days()))
        .count();
    println!(
        "reports: {} started, {} in, {} left alone with their files, {lost} lost or wrong, {foreign} nobody sent",
        started.len(),
        days.len(),
        left.len()
    );
    ensure!(lost + foreign == 0, "reports");
    let open: i64 = sqlx::query_scalar(
        "SELECT count(*) FROM change WHERE account_id = $1 AND state = 'sending'",
    )
    .bind(account)
    .fetch_one(&db)
    .await?;
    let carried: i64 = sqlx::query_scalar(
        "SELECT count(*) FROM change_batch WHERE account_id = $1 AND body IS NOT NULL",
    )
    .bind(account)
    .fetch_one(&db)
    .await?;
    let lived = batches(&journal)? - batches_before;
    println!(
        "changes: {sends} sends answered, {carried} batches carried, {lived} made at the market, {open} left open"
    );
    ensure!(open == 0 && lived as i64 == carried && carried >= i64::from(sends), "changes");
    println!("nothing lost, nothing twice");
    Ok(())
}

/// Batches that a market has carried out: its journal has each once.
fn batches(journal: &str) -> anyhow::Result<usize> {
    let text =
        if Path::new(journal).exists() { std::fs::read_to_string(journal)? } else { String::new() };
    Ok(text.lines().filter(|line| line.contains("\"batch\"")).count())
}

async fn one<T>(db: &PgPool, sql: &'static str, of: &str) -> anyhow::Result<T>
where
    T: Send + Unpin + sqlx::Type<sqlx::Postgres> + for<'r> sqlx::Decode<'r, sqlx::Postgres>,
{
    Ok(sqlx::query_scalar(sql).bind(of).fetch_one(db).await?)
}

/// Waits until all queues are worked off.
async fn settle(db: &PgPool) -> anyhow::Result<()> {
    const OPEN: &str = "SELECT (SELECT count(*) FROM sync_job WHERE state IN ('queued', 'running'))
        + (SELECT count(*) FROM report_import WHERE state IN ('queued', 'running') OR NOT followed)
        + (SELECT count(*) FROM change_batch WHERE state <> 'answered')";
    let started = Instant::now();
    loop {
        let open: i64 = sqlx::query_scalar(OPEN).fetch_one(db).await?;
        if open == 0 {
            println!("all queues were worked off {:.0} s later", started.elapsed().as_secs_f64());
            return Ok(());
        }
        ensure!(started.elapsed() < Duration::from_mins(10), "{open} pieces of work are left");
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
}
