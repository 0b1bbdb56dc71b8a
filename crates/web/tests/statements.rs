//! No page reads more than it shows: how many statements a page takes, when it is opened and when it is opened again.
//! A program of its own: what other tests keep would push out what it counts on.
#![allow(clippy::unwrap_used, clippy::expect_used)]

mod common;

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use common::Site;
use tiller_desk::PgPool;
use tiller_store::MIGRATIONS;
use tracing::{Event, Subscriber};
use tracing_subscriber::layer::{Context, Layer, SubscriberExt};

/// Counts what is sent to the database.
#[derive(Clone, Default)]
struct Statements(Arc<AtomicUsize>);

impl<S: Subscriber> Layer<S> for Statements {
    fn on_event(&self, event: &Event<'_>, _: Context<'_, S>) {
        if event.metadata().target() == "sqlx::query" {
            self.0.fetch_add(1, Ordering::Relaxed);
        }
    }
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_page_takes_few_statements(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let statements = Statements::default();
    let _guard =
        tracing::subscriber::set_default(tracing_subscriber::registry().with(statements.clone()));
    let id: i64 = sqlx::query_scalar("SELECT id FROM campaign WHERE name = 'Dear'")
        .fetch_one(&site.db)
        .await
        .unwrap();
    let campaign = format!("causes/campaigns/{id}");
    let mut counted = Vec::new();
    for (page, first, again) in [
        ("today", 32, 4),
        ("spend", 8, 5),
        ("causes", 4, 4),
        (campaign.as_str(), 20, 4),
        ("budgets", 8, 6),
        ("measure", 8, 5),
        ("logbook", 4, 4),
        ("channels", 5, 5),
    ] {
        for most in [first, again] {
            statements.0.store(0, Ordering::Relaxed);
            site.page(&format!("/accounts/a/{page}"), &cookie).await;
            let n = statements.0.load(Ordering::Relaxed);
            assert!(n > 0, "nothing was counted");
            counted.push((page.to_owned(), n, most));
            // As Today does by itself.
            site.post("/accounts/a/today/seen", Some(&cookie), "").await;
        }
    }
    println!("{counted:?}");
    let over: Vec<_> = counted.iter().filter(|(_, n, most)| n > most).collect();
    assert!(over.is_empty(), "{over:?}");
}
