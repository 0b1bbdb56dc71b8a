//! Fetching from channels: what comes in, what goes wrong, and that nothing is lost or doubled by it.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::market::{Answering, channels, connected, fetch_all, time_passes, until};
use crate::common::{account, book, day};
use tiller_core::Tally;
use tiller_desk::account::channels::{Channels, Reach};
use tiller_desk::account::connections;
use tiller_desk::{Account, DeskError, PgPool};
use tiller_market::http::Faults;
use tiller_store::{MIGRATIONS, structure};

/// What the market knows of a window, all channels together.
fn truth(market: &Answering, from: &str, to: &str) -> Tally {
    let market = market.service.market();
    let rows = market.items(&market.accounts[0], None, day(from), day(to));
    rows.map(|r| Tally {
        impressions: r.impressions,
        clicks: r.clicks,
        spend: r.spend,
        conversions: r.conversions.to_units(),
        value: r.value,
    })
    .sum()
}

async fn counted(db: &PgPool, account: &Account, from: &str, to: &str) -> Tally {
    let book = book(db, account).await;
    book.total(tiller_core::Window::new(day(from), day(to)).unwrap())
}

async fn state(db: &PgPool, account: &Account) -> Vec<(&'static str, Option<String>)> {
    let all = connections::list(db, account).await.unwrap();
    all.into_iter().filter_map(|v| v.job).map(|j| (j.state.word(), j.error)).collect()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn everything_comes_in_and_late_conversions_are_restated(db: PgPool) {
    let market = Answering::new().await;
    let account = connected(&db, &market).await;
    let all = connections::list(&db, &account).await.unwrap();
    let names: Vec<&str> = all.iter().map(|v| v.connection.channel_name.as_str()).collect();
    assert_eq!(names, ["Emberlane", "Findle"]);
    assert!(all.iter().all(|v| v.connection.fetched_to == Some(day("2026-11-09"))));
    assert_eq!(
        counted(&db, &account, "2026-10-01", "2026-11-09").await,
        truth(&market, "2026-10-01", "2026-11-09")
    );
    let set = structure::campaigns(&db, account.id).await.unwrap();
    assert_eq!(set.len(), 4);
    let before = counted(&db, &account, "2026-11-05", "2026-11-09").await;
    assert_eq!(
        connections::let_pass(&db, channels(), &account, 7).await.unwrap(),
        day("2026-11-16")
    );
    fetch_all(&db).await;
    let after = counted(&db, &account, "2026-11-05", "2026-11-09").await;
    assert!(after.conversions > before.conversions && after.clicks == before.clicks);
    assert_eq!(
        counted(&db, &account, "2026-10-01", "2026-11-16").await,
        truth(&market, "2026-10-01", "2026-11-16")
    );
    // What a fetch replaced is not kept, and a person's list of imports is not filled by fetches.
    let kept: i64 =
        sqlx::query_scalar("SELECT count(*) FROM replaced_item_day").fetch_one(&db).await.unwrap();
    assert_eq!(kept, 0);
    assert!(tiller_desk::measure::reports::list(&db, &account).await.unwrap().is_empty());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_connection_that_can_not_be_is_refused_with_what_to_do(db: PgPool) {
    let market = Answering::new().await;
    let account = account(&db, "a").await;
    for (address, token, says) in [
        (market.address.as_str(), "", "enter the token"),
        (market.address.as_str(), "wrong", "enter it again"),
        ("http://127.0.0.1:9", "test-token", "can’t be reached"),
        ("findle", "test-token", "begins with http"),
    ] {
        let error =
            connections::connect(&db, channels(), &account, address, token).await.unwrap_err();
        assert!(matches!(&error, DeskError::Invalid(m) if m.contains(says)), "{error}");
    }
    let new = tiller_store::people::NewAccount {
        slug: "nok",
        name: "N",
        currency: "NOK",
        time_zone: "Europe/Oslo",
    };
    tiller_desk::account::add(&db, &new).await.unwrap();
    let other = tiller_desk::account::by_slug(&db, "nok").await.unwrap();
    let error = connections::connect(&db, channels(), &other, &market.address, "test-token")
        .await
        .unwrap_err();
    assert!(error.to_string().contains("EUR"), "{error}");
    assert!(connections::list(&db, &other).await.unwrap().is_empty());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_server_that_may_not_reach_its_neighbours_asks_none(db: PgPool) {
    let market = Answering::new().await;
    let account = account(&db, "a").await;
    let public = Channels { reach: Reach::default(), ..channels().clone() };
    let port = market.address.rsplit(':').next().unwrap();
    for host in ["127.0.0.1", "localhost", "[::1]", "0x7f000001"] {
        let address = format!("http://{host}:{port}");
        let error = connections::connect(&db, &public, &account, &address, "test-token").await;
        let error = error.unwrap_err().to_string();
        assert!(error.contains("GOLD_TILLER_REACH"), "{host}: {error}");
    }
    assert!(connections::list(&db, &account).await.unwrap().is_empty());
    // One that was connected when it was listed is not asked any more.
    connections::connect(&db, channels(), &account, &market.address, "test-token").await.unwrap();
    while tiller_desk::jobs::fetch::run_next(&db, &public).await.unwrap() {}
    for (stands, error) in state(&db, &account).await {
        assert_eq!(stands, "failed");
        assert!(error.unwrap().contains("not on the public internet"));
    }
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn tokens_are_sealed_and_another_key_is_told_of(db: PgPool) {
    let market = Answering::new().await;
    let account = connected(&db, &market).await;
    let kept: Vec<(Option<String>, Vec<u8>)> =
        sqlx::query_as("SELECT token, sealed FROM connection").fetch_all(&db).await.unwrap();
    for (plain, sealed) in &kept {
        assert!(plain.is_none() && sealed.len() > 40, "{plain:?}");
        assert!(!sealed.windows(5).any(|w| w == b"token"));
    }
    // One from before, which stood there plain, is sealed when a server starts.
    sqlx::query("UPDATE connection SET token = 'test-token', sealed = ''")
        .execute(&db)
        .await
        .unwrap();
    connections::seal_plain(&db, channels()).await.unwrap();
    let id = connections::list(&db, &account).await.unwrap()[0].connection.id;
    connections::fetch(&db, &account, id).await.unwrap();
    fetch_all(&db).await;
    assert!(state(&db, &account).await.iter().all(|(stands, _)| *stands == "done"));
    // A server with another key opens none, says so once, and goes on when the token is entered again.
    let other = Channels::practice();
    connections::fetch(&db, &account, id).await.unwrap();
    assert!(tiller_desk::jobs::fetch::run_next(&db, &other).await.unwrap());
    let told = state(&db, &account).await;
    assert!(
        told.iter().any(|(_, e)| e.as_ref().is_some_and(|e| e.contains("enter the token again"))),
        "{told:?}"
    );
    connections::connect(&db, &other, &account, &market.address, "test-token").await.unwrap();
    while tiller_desk::jobs::fetch::run_next(&db, &other).await.unwrap() {}
    assert!(state(&db, &account).await.iter().all(|(stands, _)| *stands == "done"));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn one_account_never_reaches_anothers_connection(db: PgPool) {
    let market = Answering::new().await;
    let mine = connected(&db, &market).await;
    let theirs = account(&db, "theirs").await;
    let id = connections::list(&db, &mine).await.unwrap()[0].connection.id;
    assert!(matches!(connections::fetch(&db, &theirs, id).await, Err(DeskError::NotFound(_))));
    assert!(matches!(connections::remove(&db, &theirs, id).await, Err(DeskError::NotFound(_))));
    assert!(connections::let_pass(&db, channels(), &theirs, 1).await.is_err());
    assert_eq!(connections::list(&db, &mine).await.unwrap().len(), 2);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_report_that_breaks_off_is_fetched_again(db: PgPool) {
    let market = Answering::new().await;
    let account = account(&db, "cut").await;
    connections::connect(&db, channels(), &account, &market.address, "test-token").await.unwrap();
    market.service.set_faults(Faults { cut_report: 1, ..Faults::default() });
    // Each channel once: what broke off is due again in seconds.
    for _ in ["Findle", "Emberlane"] {
        assert!(tiller_desk::jobs::fetch::run_next(&db, channels()).await.unwrap());
    }
    let cut: Vec<_> =
        state(&db, &account).await.into_iter().filter(|(s, _)| *s == "queued").collect();
    assert_eq!(cut.len(), 1);
    assert!(cut[0].1.as_ref().unwrap().contains("broke"), "{cut:?}");
    time_passes(&db).await;
    fetch_all(&db).await;
    assert!(state(&db, &account).await.iter().all(|(s, _)| *s == "done"));
    assert_eq!(
        counted(&db, &account, "2026-10-01", "2026-11-09").await,
        truth(&market, "2026-10-01", "2026-11-09")
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_lasting_trouble_ends_the_job_with_its_reason(db: PgPool) {
    let market = Answering::new().await;
    let account = connected(&db, &market).await;
    let revoked = channels().key.seal(account.id, "revoked");
    sqlx::query("UPDATE connection SET sealed = $1").bind(revoked).execute(&db).await.unwrap();
    let id = connections::list(&db, &account).await.unwrap()[0].connection.id;
    connections::fetch(&db, &account, id).await.unwrap();
    fetch_all(&db).await;
    let failed: Vec<_> =
        state(&db, &account).await.into_iter().filter(|(s, _)| *s == "failed").collect();
    assert!(matches!(&failed[..], [(_, Some(e))] if e.contains("token")), "{failed:?}");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_worker_killed_in_the_middle_leaves_its_job_to_the_next(db: PgPool) {
    let market = Answering::new().await;
    let account = account(&db, "killed").await;
    connections::connect(&db, channels(), &account, &market.address, "test-token").await.unwrap();
    market.service.set_faults(Faults { latency_ms: 150, ..Faults::default() });
    for _ in 0..3 {
        let worker = tokio::spawn({
            let db = db.clone();
            async move { tiller_desk::jobs::fetch::run_next(&db, channels()).await }
        });
        until(|| async {
            let running = state(&db, &account).await;
            running.iter().any(|(s, _)| *s == "running")
        })
        .await;
        worker.abort();
        assert!(worker.await.is_err());
        time_passes(&db).await;
    }
    market.service.set_faults(Faults::default());
    fetch_all(&db).await;
    assert!(state(&db, &account).await.iter().all(|(s, _)| *s == "done"));
    assert_eq!(
        counted(&db, &account, "2026-10-01", "2026-11-09").await,
        truth(&market, "2026-10-01", "2026-11-09")
    );
    let half: i64 = sqlx::query_scalar("SELECT count(*) FROM report_import WHERE state <> 'done'")
        .fetch_one(&db)
        .await
        .unwrap();
    assert_eq!(half, 0);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_database_that_drops_its_connections_loses_nothing(db: PgPool) {
    let market = Answering::new().await;
    let account = account(&db, "dropped").await;
    connections::connect(&db, channels(), &account, &market.address, "test-token").await.unwrap();
    market.service.set_faults(Faults { latency_ms: 100, ..Faults::default() });
    let worker = tokio::spawn({
        let db = db.clone();
        async move { tiller_desk::jobs::fetch::run_next(&db, channels()).await }
    });
    until(|| async { state(&db, &account).await.iter().any(|(s, _)| *s == "running") }).await;
    sqlx::raw_sql(
        "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()",
    )
    .execute(&db)
    .await
    .unwrap();
    worker.await.unwrap().ok();
    market.service.set_faults(Faults::default());
    time_passes(&db).await;
    fetch_all(&db).await;
    assert_eq!(
        counted(&db, &account, "2026-10-01", "2026-11-09").await,
        truth(&market, "2026-10-01", "2026-11-09")
    );
}

/// While one account's channel takes its time, its other one waits, and other accounts don't.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_slow_channel_keeps_no_other_account_waiting(db: PgPool) {
    let market = Answering::new().await;
    let slow = connected(&db, &market).await;
    let other = account(&db, "other").await;
    connections::connect(&db, channels(), &other, &market.address, "test-token").await.unwrap();
    fetch_all(&db).await;
    for of in [&slow, &other] {
        for channel in connections::list(&db, of).await.unwrap() {
            connections::fetch(&db, of, channel.connection.id).await.unwrap();
        }
    }
    let claim =
        async || tiller_store::connections::claim(&db).await.unwrap().map(|(s, _)| s.account);
    let taken = [claim().await, claim().await, claim().await];
    assert_eq!(taken, [Some(slow.id), Some(other.id), None], "one of each account");
    // Those who claim at once do the same.
    time_passes(&db).await;
    sqlx::raw_sql("UPDATE sync_job SET state = 'queued' WHERE state = 'running'")
        .execute(&db)
        .await
        .unwrap();
    let at_once = futures::future::join_all((0..6).map(|_| claim())).await;
    let of = |id| at_once.iter().filter(|c| **c == Some(id)).count();
    assert_eq!((of(slow.id), of(other.id)), (1, 1), "{at_once:?}");
}
