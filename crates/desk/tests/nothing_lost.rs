//! What was answered is not lost and not doubled, with faults at the very point: staged rows that vanish, a worker
//! that comes back too late, a database that refuses in mid-import, names that move at the channel.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::market::{Answering, channels, connected, fetch_all, time_passes};
use crate::common::{HEADER, account, book, row};
use tiller_channel::report::Mapping;
use tiller_desk::account::connections;
use tiller_desk::measure::reports::{self, ImportState, Sender};
use tiller_desk::{Account, ImportId, PgPool};
use tiller_store::structure::{self, Told, ToldCampaign, ToldChannel, ToldGroup, ToldItem};
use tiller_store::{MIGRATIONS, StoreError, connections as store};

async fn sql(db: &PgPool, text: &'static str) {
    sqlx::raw_sql(text).execute(db).await.unwrap();
}

async fn conversions(db: &PgPool, account: &Account) -> f64 {
    let book = book(db, account).await;
    book.total(book.span).conversions
}

/// The staged conversions vanish between staging and merge, as they did when the database crashed and its recovery
/// emptied what was not logged.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn staged_rows_that_vanish_are_noticed_and_fetched_again(db: PgPool) {
    let market = Answering::new().await;
    let account = connected(&db, &market).await;
    let before = conversions(&db, &account).await;
    assert!(before > 0.0);
    sql(
        &db,
        "CREATE FUNCTION vanish() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN DELETE FROM fetched_conversion; RETURN NULL; END';
         CREATE TRIGGER vanish AFTER INSERT ON fetched_segment FOR EACH STATEMENT EXECUTE FUNCTION vanish()",
    )
    .await;
    connections::let_pass(&db, channels(), &account, 1).await.unwrap();
    assert!(tiller_desk::jobs::fetch::run_next(&db, channels()).await.unwrap());
    let told = connections::list(&db, &account).await.unwrap();
    let error = told.iter().find_map(|v| v.job.as_ref()?.error.clone()).unwrap();
    assert!(error.contains("conversions are left") && error.contains("fetched again"), "{error}");
    assert_eq!(conversions(&db, &account).await, before, "what stood stays");
    sql(&db, "DROP TRIGGER vanish ON fetched_segment").await;
    time_passes(&db).await;
    fetch_all(&db).await;
    assert!(conversions(&db, &account).await > before);
}

/// A worker that was silent too long has lost its job: it can neither report progress, nor end it, nor merge.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn who_comes_back_too_late_writes_nothing(db: PgPool) {
    let market = Answering::new().await;
    let account = connected(&db, &market).await;
    let before = conversions(&db, &account).await;
    connections::let_pass(&db, channels(), &account, 1).await.unwrap();
    let (slow, _) = store::claim(&db).await.unwrap().unwrap();
    assert!(store::claim(&db).await.unwrap().is_none_or(|(other, _)| other.id != slow.id));
    time_passes(&db).await;
    let (next, _) = store::claim(&db).await.unwrap().unwrap();
    assert_eq!((next.id, next.attempts), (slow.id, slow.attempts + 1));
    let lost = |e: Result<(), StoreError>| matches!(e, Err(StoreError::Lost));
    assert!(lost(store::progress(&db, &slow, "merge", 1, 1).await));
    assert!(lost(store::alive(&db, &slow).await));
    let day = "2026-11-10".parse().unwrap();
    assert!(lost(store::end(&db, &slow, store::End::Done(day)).await));
    store::alive(&db, &next).await.unwrap();
    // The job is still open, and whoever takes it next brings the day in once.
    time_passes(&db).await;
    fetch_all(&db).await;
    let once = conversions(&db, &account).await;
    for connection in store::list(&db, account.id).await.unwrap() {
        store::queue(&db, account.id, connection.id).await.unwrap();
    }
    fetch_all(&db).await;
    assert_eq!(conversions(&db, &account).await, once, "fetched twice, counted once");
    assert!(once > before);
}

async fn uploaded(db: &PgPool, account: &Account) -> ImportId {
    let text = format!("{HEADER}{}", row("2026-11-05", "Hives", "a", 10, "20", "2"));
    let body = futures::stream::iter([Ok::<_, std::io::Error>(bytes::Bytes::from(text))]);
    let id = reports::upload(db, account, Sender::Nobody, "r.csv", body).await.unwrap();
    let mapping: Mapping = reports::preview(db, account, id).await.unwrap().mapping;
    reports::start(db, account, id, &mapping).await.unwrap();
    id
}

/// The database refuses in the middle of an import: what passes is tried again, what lasts is told, and the upload
/// stays either way until somebody discards it.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn an_answered_import_survives_the_databases_troubles(db: PgPool) {
    let account = account(&db, "a").await;
    let id = uploaded(&db, &account).await;
    sql(
        &db,
        "CREATE FUNCTION trouble() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RAISE EXCEPTION ''going down'' USING ERRCODE = ''57P01''; END';
         CREATE TRIGGER trouble BEFORE INSERT ON campaign_day FOR EACH STATEMENT EXECUTE FUNCTION trouble()",
    )
    .await;
    assert!(tiller_desk::jobs::import::run_next(&db).await.unwrap());
    let import = reports::get(&db, &account, id).await.unwrap();
    assert_eq!(import.state, ImportState::Queued, "{:?}", import.message);
    assert!(
        !tiller_desk::jobs::import::run_next(&db).await.unwrap(),
        "not before its pause is over"
    );
    sql(
        &db,
        "CREATE OR REPLACE FUNCTION trouble() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RAISE EXCEPTION ''no'' USING ERRCODE = ''23514''; END';
         UPDATE report_import SET not_before = now() - interval '1 second'",
    )
    .await;
    assert!(tiller_desk::jobs::import::run_next(&db).await.unwrap());
    let import = reports::get(&db, &account, id).await.unwrap();
    assert_eq!(import.state, ImportState::Failed);
    assert!(import.message.unwrap().contains("the file is kept"));
    // Nothing wrong is remembered, and the columns are there to go back to.
    reports::back(&db, &account, id).await.unwrap();
    let preview = reports::preview(&db, &account, id).await.unwrap();
    assert!(!preview.remembered);
    sql(&db, "DROP TRIGGER trouble ON campaign_day").await;
    reports::start(&db, &account, id, &preview.mapping).await.unwrap();
    assert!(tiller_desk::jobs::import::run_next(&db).await.unwrap());
    assert_eq!(reports::get(&db, &account, id).await.unwrap().state, ImportState::Done);
    assert_eq!(conversions(&db, &account).await, 2.0);
    assert!(
        reports::preview(&db, &account, uploaded(&db, &account).await).await.unwrap().remembered
    );
}

/// Undo brings back all that stood on a campaign's day, and its status.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn undo_brings_back_what_else_stood_there(db: PgPool) {
    let market = Answering::new().await;
    let account = connected(&db, &market).await;
    sql(
        &db,
        "UPDATE campaign_day SET lost_to_budget = 0.25, lost_to_bid = 0.5, expected = 7, expected_error = 2;
         UPDATE campaign SET status = 'paused'",
    )
    .await;
    let state = async || {
        type Told = (Option<f32>, Option<f32>, Option<f64>, Option<f64>);
        let days: Vec<Told> = sqlx::query_as(
            "SELECT lost_to_budget, lost_to_bid, expected, expected_error FROM campaign_day d JOIN campaign c USING (account_id)
             WHERE c.id = d.campaign_id AND c.name = 'Names, search' AND day = '2026-11-05'",
        )
        .fetch_all(&db)
        .await
        .unwrap();
        let status: Option<String> =
            sqlx::query_scalar("SELECT status FROM campaign WHERE name = 'Names, search'")
                .fetch_one(&db)
                .await
                .unwrap();
        (days, status)
    };
    let before = state().await;
    assert_eq!(before.1.as_deref(), Some("paused"));
    let text = format!(
        "{}{}",
        HEADER.replace("currency", "currency,status"),
        row("2026-11-05", "\"Names, search\"", "a", 10, "20", "2").replace(",EUR", ",EUR,active")
    );
    let done = crate::common::import(&db, &account, &text).await;
    assert_eq!(done.state, ImportState::Done, "{:?}", done.message);
    assert_ne!(state().await, before);
    reports::undo(&db, &account, done.id).await.unwrap();
    assert_eq!(state().await, before);
}

/// Two campaigns swap names, and another is made anew under an old name: each keeps its figures by its key.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn names_move_and_keys_stay(db: PgPool) {
    let market = Answering::new().await;
    let account = connected(&db, &market).await;
    let connection = store::list(&db, account.id).await.unwrap().remove(0);
    let told = |key: &str, name: &str| Told {
        key: key.into(),
        name: name.into(),
        settings: serde_json::json!({}),
    };
    let campaign = |key: &str, name: &str, groups: [(&str, &str); 2]| ToldCampaign {
        told: told(key, name),
        kind: "keyword",
        status: "active",
        ad_groups: groups
            .iter()
            .map(|(key, name)| ToldGroup {
                told: told(key, name),
                items: vec![ToldItem {
                    told: told("i", "hive"),
                    kind: "keyword",
                    match_type: "exact",
                }],
            })
            .collect(),
    };
    let save = async |campaigns| {
        let days = tiller_core::Window::ending("2026-11-09".parse().unwrap(), 30);
        let told = ToldChannel { limits: serde_json::json!({}), days, window_days: 30, campaigns };
        structure::save(&db, &connection, &told).await.unwrap();
    };
    let names = async || {
        let rows: Vec<(String, String)> = sqlx::query_as(
            "SELECT channel_key, name FROM campaign WHERE channel_key IN ('x', 'y', 'z') ORDER BY 1",
        )
        .fetch_all(&db)
        .await
        .unwrap();
        rows
    };
    let groups = [("g", "One"), ("h", "Two")];
    save(vec![campaign("x", "Spring", groups), campaign("y", "Autumn", groups)]).await;
    let swapped = [("g", "Two"), ("h", "One")];
    save(vec![campaign("x", "Autumn", swapped), campaign("y", "Spring", swapped)]).await;
    let pair = |k: &str, n: &str| (k.to_owned(), n.to_owned());
    assert_eq!(names().await, [pair("x", "Autumn"), pair("y", "Spring")]);
    // Spring is removed at the channel and made anew under its name.
    save(vec![campaign("x", "Autumn", groups), campaign("z", "Spring", groups)]).await;
    let now = names().await;
    assert_eq!((now[0].1.as_str(), now[2].1.as_str()), ("Autumn", "Spring"));
    assert!(now[1].1.starts_with("Spring (before "), "{now:?}");
}
