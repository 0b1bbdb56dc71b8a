//! A database of an earlier release, brought up to date by the program as it starts: nothing of it is lost, and everything can be
//! read.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::collections::BTreeMap;

use sqlx::Executor;
use tiller_desk::book::{Book, PeriodChoice};
use tiller_desk::rules::keeping;
use tiller_desk::{PgPool, account, logbook, tray};

use crate::common::{channels, count, server, until};

/// What `pg_dump --inserts` wrote of the database of version 0.1.0, whose last migration is the 24th: an account of the small
/// world with sixteen days, connected; an import, a plan, a rule, a change that was made and one that waits, a saved view.
const RELEASED: &str = include_str!("released/0024.sql");

/// Rows of each table.
async fn rows(db: &PgPool) -> BTreeMap<String, i64> {
    let tables: Vec<String> = sqlx::query_scalar(
        "SELECT relname::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
         WHERE nspname = 'public' AND relkind IN ('r', 'p') AND NOT relispartition",
    )
    .fetch_all(db)
    .await
    .unwrap();
    let mut all = BTreeMap::new();
    for table in tables {
        let sql = sqlx::AssertSqlSafe(format!("SELECT count(*) FROM {table}"));
        all.insert(table, sqlx::query_scalar(sql).fetch_one(db).await.unwrap());
    }
    all
}

#[sqlx::test(migrations = false)]
async fn a_released_database_is_brought_up_to_date_with_all_that_is_in_it(db: PgPool) {
    let mut restores = db.acquire().await.unwrap().detach();
    restores.execute(sqlx::raw_sql(RELEASED)).await.unwrap();
    drop(restores);
    let before = rows(&db).await;
    assert!(before["item_day"] > 200 && before["change"] == 2, "{before:?}");
    let spent = "SELECT sum(spend)::bigint FROM item_day";
    let spent_before = count(&db, spent).await;

    let database = db.connect_options().get_database().unwrap().to_owned();
    let given = std::env::var("DATABASE_URL").unwrap();
    let url = format!("{}/{database}", given.rsplit_once('/').unwrap().0);
    let running = server(&url);
    let plain = "SELECT count(*) FROM information_schema.columns WHERE table_name = 'connection' AND column_name = 'sealed'";
    until("the schema is up to date", async || count(&db, plain).await == 1).await;
    let sealed = "SELECT count(*) FROM connection WHERE token IS NULL";
    until("tokens are sealed", async || count(&db, sealed).await == before["connection"]).await;
    drop(running);

    let after = rows(&db).await;
    for (table, had) in &before {
        // Sessions end by themselves, and migrations are more than they were.
        if !["session", "_sqlx_migrations"].contains(&table.as_str()) {
            assert_eq!(after.get(table), Some(had), "{table}");
        }
    }
    assert_eq!(count(&db, spent).await, spent_before);
    let connections: Vec<(i64, Vec<u8>)> =
        sqlx::query_as("SELECT account_id, sealed FROM connection").fetch_all(&db).await.unwrap();
    for (account, sealed) in connections {
        let token = channels().key.open(tiller_core::ids::AccountId(account), &sealed);
        assert_eq!(token.as_deref(), Some("test-token"));
    }

    // What stands there as JSON is still what the program understands.
    let account = account::by_slug(&db, "amberfold-t").await.unwrap();
    let book = Book::load(&db, &account, PeriodChoice::default()).await.unwrap().unwrap();
    assert!(book.entries.len() >= 4);
    assert_eq!(keeping::list(&db, &account).await.unwrap().len(), 1);
    assert_eq!(tray::rows(&db, &account).await.unwrap().len(), 1);
    let day = account::connections::today(&db, &account).await.unwrap();
    let log = logbook::all(&db, &account, logbook::Show::All, "", day).await.unwrap();
    assert_eq!(log.iter().filter(|e| e.made()).count(), 1);
}
