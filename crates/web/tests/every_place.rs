//! Every address of the site, whatever is sent to it: nobody reaches another's account, viewers and other sites change
//! nothing, and nothing that comes in brings a failure of ours.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::desk::Desk;
use crate::common::places::{Place, all};
use crate::common::{Site, text};
use axum::body::Body;
use axum::http::{Request, StatusCode, header};
use sqlx::postgres::PgPoolOptions;
use tiller_desk::{PgPool, Role};
use tiller_store::MIGRATIONS;

/// What viewers may send: it changes nothing of the account, or only what is their own.
const OWN: [&str; 5] =
    ["/today/seen", "/views", "/views/remove", "/budgets/{id}/solve", "/budgets/{id}/working"];

fn of_account() -> impl Iterator<Item = Place> {
    all().into_iter().filter(|p| p.of_account)
}

#[test]
fn the_table_of_contents_is_read_whole() {
    let all = all();
    assert!(all.len() > 100, "{}", all.len());
    assert!(all.iter().all(|p| p.path.starts_with('/') && (p.get || p.post)), "{all:?}");
    let of = |path: &str| all.iter().find(|p| p.path == path).unwrap();
    assert!(of("/reports").get && of("/reports").post && of("/rules/{id}/run").of_account);
    assert!(!of("/sign-in").of_account && !of("/tray/send").get);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_is_of_another_account_is_not_there(db: PgPool) {
    let site = Site::new(db);
    let (a, b) = (site.account("a").await, site.account("b").await);
    let mine = site.member("me@a.example", &a, Role::Admin).await;
    site.member("you@b.example", &b, Role::Admin).await;
    for place in of_account() {
        let at = place.at("b", "1");
        if place.get {
            let theirs = site.get(&at, Some(&mine)).await;
            let nobodys = site.get(&place.at("nowhere", "1"), Some(&mine)).await;
            let both = (theirs.status(), nobodys.status());
            assert_eq!(both, (StatusCode::NOT_FOUND, StatusCode::NOT_FOUND), "GET {at}");
            // Not even by its words can one be told from the other.
            let without = |page: String| page.replace("nowhere", "").replace('b', "");
            assert_eq!(without(text(theirs).await), without(text(nobodys).await), "GET {at}");
        }
        if place.post {
            let answer = site.post(&at, Some(&mine), "name=x&take=1&change=1").await;
            assert_eq!(answer.status(), StatusCode::NOT_FOUND, "POST {at}");
        }
    }
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn viewers_and_other_sites_change_nothing(db: PgPool) {
    let site = Site::new(db);
    let a = site.account("a").await;
    let viewer = site.member("v@a.example", &a, Role::Viewer).await;
    let admin = site.member("me@a.example", &a, Role::Admin).await;
    for place in all().into_iter().filter(|p| p.post) {
        let at = place.at("a", "1");
        if place.of_account && !OWN.contains(&&*place.path) {
            let answer = site.post(&at, Some(&viewer), "kind=cpa&cpa=12").await;
            assert_eq!(answer.status(), StatusCode::FORBIDDEN, "a viewer at {at}");
        }
        for forged in [("sec-fetch-site", "cross-site"), ("origin", "https://evil.example")] {
            let request = Request::post(&at)
                .header(forged.0, forged.1)
                .header(header::CONTENT_TYPE, "application/x-www-form-urlencoded");
            let answer = site.send(request, Some(&admin), Body::from("kind=cpa&cpa=1")).await;
            assert_eq!(answer.status(), StatusCode::FORBIDDEN, "{forged:?} at {at}");
        }
    }
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn reading_writes_nothing(db: PgPool) {
    let desk = Desk::new(db.clone()).await;
    // One of each kind: a plan that the month follows, a rule, a change that was made and one that waits.
    let slug = desk.account.slug.as_str();
    let plan = desk.site.plan(slug, &desk.cookie).await;
    desk.site.post(&format!("{plan}/month"), Some(&desk.cookie), "").await;
    desk.site.post(&desk.path("rules"), Some(&desk.cookie), "begin=own").await;
    for (name, sent) in [("Courses, search", true), ("Names, search", false)] {
        let campaign = desk.campaign(name).await;
        desk.says(&format!("{campaign}/experiment"), "").await;
        assert!(desk.waiting().await > 0, "{name}");
        if sent {
            desk.send_all().await;
        }
    }
    let read_only =
        (*db.connect_options()).clone().options([("default_transaction_read_only", "on")]);
    let read_only = PgPoolOptions::new().max_connections(4).connect_with(read_only).await.unwrap();
    let reads = Site::as_set(db, |app| app.db = read_only);
    let (mut shown, cookie) = (0, Some(desk.cookie.as_str()));
    for place in all().into_iter().filter(|p| p.get) {
        for id in 1..=8 {
            let at = place.at(slug, &id.to_string());
            // First on the one that takes no writes, so that nothing is remembered of the other.
            let (read, free) = (reads.get(&at, cookie).await, desk.site.get(&at, cookie).await);
            assert_eq!(read.status(), free.status(), "GET {at}: {}", text(read).await);
            shown += usize::from(free.status() == StatusCode::OK);
        }
    }
    assert!(shown > 300, "{shown} pages were shown");
}

/// Fields that pages read, so that what is sent reaches those who read it.
const FIELDS: [&str; 14] = [
    "q", "from", "to", "campaign", "level", "cols", "sort", "name", "email", "next", "cpa",
    "reason", "edit", "typed",
];

#[sqlx::test(migrator = "MIGRATIONS")]
async fn whatever_comes_in_is_no_failure_of_ours(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    let long = "x".repeat(1 << 20);
    let values = [
        "%00",
        "a%00b",
        "%FF%FE",
        "-1",
        "99999999999999999999",
        "0001-01-01",
        "9999-12-31",
        "2026-02-30",
    ];
    for place in all().into_iter().filter(|p| p.path != "/reports") {
        for id in ["1", "0", "-1", "9223372036854775808", "%00", "%FF"] {
            let at = place.at("a", id);
            for (n, value) in values.iter().enumerate() {
                let all: Vec<String> = FIELDS.iter().map(|f| format!("{f}={value}")).collect();
                let one = format!("{}={value}", FIELDS[n % FIELDS.len()]);
                for query in [all.join("&"), one] {
                    if place.get && (id == "1" || n == 0) {
                        let answer = site.get(&format!("{at}?{query}"), Some(&cookie)).await;
                        assert!(
                            !answer.status().is_server_error(),
                            "GET {at}?{query}: {}",
                            answer.status()
                        );
                    }
                    if place.post && (id == "1" || n == 0) {
                        let answer = site.post(&at, Some(&cookie), &query).await;
                        assert!(
                            !answer.status().is_server_error(),
                            "POST {at} {query}: {}",
                            answer.status()
                        );
                    }
                }
            }
        }
        if place.post {
            for body in [format!("name={long}"), "name=x&".repeat(30_000), format!("{long}=1")] {
                let answer = site.post(&place.at("a", "1"), Some(&cookie), &body).await;
                assert!(
                    !answer.status().is_server_error(),
                    "POST {}: {}",
                    place.path,
                    answer.status()
                );
            }
        }
    }
}
