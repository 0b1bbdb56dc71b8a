//! Who gets in where: signing in, roles, accounts of others, requests from other sites.
// Helpers outside of test functions may fail loudly too.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::{Site, text};
use axum::body::Body;
use axum::http::{Request, StatusCode, header};
use tiller_desk::{PgPool, Role, account};
use tiller_store::MIGRATIONS;

#[sqlx::test(migrator = "MIGRATIONS")]
async fn strangers_are_asked_to_sign_in(db: PgPool) {
    let site = Site::new(db);
    site.account("a").await;
    let answer = site.get("/accounts/a/spend?level=items", None).await;
    assert_eq!(answer.status(), StatusCode::SEE_OTHER);
    assert_eq!(
        answer.headers()[header::LOCATION],
        "/sign-in?next=%2Faccounts%2Fa%2Fspend%3Flevel%3Ditems"
    );
    let wrong = site.post("/sign-in", None, "email=nobody@a.example&password=whatever+it+is").await;
    assert_eq!(wrong.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let page = text(wrong).await;
    assert!(
        page.contains("nobody@a.example") && page.contains("don’t belong together"),
        "the form comes back filled"
    );
    assert_eq!(
        site.post("/sign-in/demo", None, "").await.status(),
        StatusCode::NOT_FOUND,
        "no demo unless asked for"
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn viewers_see_and_change_nothing(db: PgPool) {
    let site = Site::new(db);
    let a = site.account("a").await;
    let viewer = site.member("v@a.example", &a, Role::Viewer).await;
    let analyst = site.member("e@a.example", &a, Role::Analyst).await;
    assert_eq!(site.get("/accounts/a/targets", Some(&viewer)).await.status(), StatusCode::OK);
    assert_eq!(
        site.get("/accounts/a/budgets/new", Some(&viewer)).await.status(),
        StatusCode::FORBIDDEN
    );
    let done = site.post("/accounts/a/targets", Some(&analyst), "kind=cpa&cpa=12,50").await;
    assert_eq!(done.status(), StatusCode::SEE_OTHER);
    assert_eq!(account::by_slug(&site.db, "a").await.unwrap().target_cpa, Some(12.5));
    let wrong = site.post("/accounts/a/targets", Some(&analyst), "kind=roas&roas=lots").await;
    assert_eq!(wrong.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let page = text(wrong).await;
    assert!(
        page.contains("value=\"lots\"") && page.contains("is not a number"),
        "the form comes back filled, with the message"
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn signing_out_ends_the_session(db: PgPool) {
    let site = Site::new(db);
    let a = site.account("a").await;
    let cookie = site.member("me@a.example", &a, Role::Admin).await;
    assert_eq!(site.get("/accounts/a/reports", Some(&cookie)).await.status(), StatusCode::OK);
    site.post("/sign-out", Some(&cookie), "").await;
    assert_eq!(
        site.get("/accounts/a/reports", Some(&cookie)).await.status(),
        StatusCode::SEE_OTHER
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn every_answer_carries_its_headers(db: PgPool) {
    let site = Site::new(db);
    for path in ["/sign-in", "/nowhere", "/healthz", "/assets/style.css"] {
        let answer = site.get(path, None).await;
        let policy = answer.headers()["content-security-policy"].to_str().unwrap().to_owned();
        assert!(policy.contains("script-src 'self'") && !policy.contains("unsafe"), "{path}");
        assert!(answer.headers().contains_key("x-request-id"), "{path}");
    }
    assert_eq!(text(site.get("/readyz", None).await).await, "ready\n");
    let css = site.get("/assets/style.css", None).await;
    let tag = css.headers()[header::ETAG].clone();
    let again = site
        .send(
            Request::get("/assets/style.css").header(header::IF_NONE_MATCH, tag),
            None,
            Body::empty(),
        )
        .await;
    assert_eq!(again.status(), StatusCode::NOT_MODIFIED);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn programs_get_problem_details(db: PgPool) {
    let site = Site::new(db);
    let answer = site
        .send(
            Request::get("/nowhere").header(header::ACCEPT, "application/json"),
            None,
            Body::empty(),
        )
        .await;
    assert_eq!(answer.headers()[header::CONTENT_TYPE], "application/problem+json");
    let problem: serde_json::Value = serde_json::from_str(&text(answer).await).unwrap();
    assert_eq!(problem["status"], 404);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn an_empty_account_says_what_will_be_here(db: PgPool) {
    let site = Site::new(db);
    let a = site.account("a").await;
    let cookie = site.member("me@a.example", &a, Role::Analyst).await;
    for place in ["measure", "spend", "causes", "budgets"] {
        let page = text(site.get(&format!("/accounts/a/{place}"), Some(&cookie)).await).await;
        assert!(page.contains("no figures yet") && page.contains("Connect a channel"), "{place}");
    }
    for (place, says) in [
        ("today", "Import a report"),
        ("tray", "Nothing waits to be sent"),
        ("logbook", "Nothing has been sent yet"),
        ("logbook/how-right-we-were", "Nothing that we stated can be checked yet"),
        ("channels", "No channel is connected"),
    ] {
        let page = text(site.get(&format!("/accounts/a/{place}"), Some(&cookie)).await).await;
        assert!(page.contains(says), "{place}");
    }
    for place in ["budgets/x", "reports/x", "causes/campaigns/x"] {
        let answer = site.get(&format!("/accounts/a/{place}"), Some(&cookie)).await;
        assert_eq!(answer.status(), StatusCode::NOT_FOUND, "{place}");
        assert!(text(answer).await.contains("<h1>"), "{place}: a page, not a bare line");
    }
    let bad = site.get("/accounts/a/spend?from=soon", Some(&cookie)).await;
    assert_eq!(bad.status(), StatusCode::UNPROCESSABLE_ENTITY);
    assert!(text(bad).await.contains("‘soon’ is not a day"));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_is_not_there_can_not_be_sent_undone_or_fetched(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    for (place, body, status) in [
        ("logbook/7/undo", "", StatusCode::NOT_FOUND),
        ("logbook/7/again", "", StatusCode::UNPROCESSABLE_ENTITY),
        ("logbook/7/looked", "", StatusCode::UNPROCESSABLE_ENTITY),
        ("channels/7/fetch", "", StatusCode::NOT_FOUND),
        ("channels/7/remove", "", StatusCode::NOT_FOUND),
        ("views", "name=&query=", StatusCode::UNPROCESSABLE_ENTITY),
        ("views/remove", "name=nothing", StatusCode::NOT_FOUND),
        ("clock", "days=7", StatusCode::UNPROCESSABLE_ENTITY),
        ("measure", "by=own", StatusCode::UNPROCESSABLE_ENTITY),
        ("measure", "by=channels&click_window=soon", StatusCode::UNPROCESSABLE_ENTITY),
        ("measure/campaigns/7", "by=own&event=order", StatusCode::NOT_FOUND),
        ("causes/campaigns/7/tray", "take=x", StatusCode::NOT_FOUND),
        ("tray/send", "", StatusCode::UNPROCESSABLE_ENTITY),
        ("tray/edit", "what=budget&how=5", StatusCode::UNPROCESSABLE_ENTITY),
        ("tray/edit", "what=everything&how=5", StatusCode::UNPROCESSABLE_ENTITY),
        ("tray/remedy", "of=nothing", StatusCode::UNPROCESSABLE_ENTITY),
        ("channels", "address=nowhere&token=t", StatusCode::UNPROCESSABLE_ENTITY),
    ] {
        let answer = site.post(&format!("/accounts/a/{place}"), Some(&cookie), body).await;
        assert_eq!(answer.status(), status, "{place} {body}");
    }
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_view_is_its_members_own(db: PgPool) {
    let site = Site::new(db);
    let (account, mine) = site.with_report("a").await;
    let theirs = site.member("other@a.example", &account, Role::Viewer).await;
    let saved = site
        .post("/accounts/a/views", Some(&mine), "name=Dear+items&query=%3Flevel%3Ditems%26q%3Ddear")
        .await;
    assert_eq!(saved.headers()[header::LOCATION], "/accounts/a/spend?level=items&q=dear");
    assert!(site.page("/accounts/a/spend", &mine).await.contains("Dear items"));
    assert!(!site.page("/accounts/a/spend", &theirs).await.contains("Dear items"));
    let others = site.post("/accounts/a/views/remove", Some(&theirs), "name=Dear+items").await;
    assert_eq!(others.status(), StatusCode::NOT_FOUND);
    site.post("/accounts/a/views/remove", Some(&mine), "name=Dear+items").await;
    assert!(!site.page("/accounts/a/spend", &mine).await.contains("Dear items"));
}

/// A database that is away is nobody's fault: every page says so, with a status that tells a program to come again.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_database_that_is_away_is_told_on_every_page(db: PgPool) {
    let site = Site::new(db);
    let (_, cookie) = site.with_report("a").await;
    site.db.close().await;
    for page in ["today", "spend", "logbook", "tray"] {
        let answer = site.get(&format!("/accounts/a/{page}"), Some(&cookie)).await;
        assert_eq!(answer.status(), StatusCode::SERVICE_UNAVAILABLE, "{page}");
        let told = text(answer).await;
        assert!(told.contains("database") && !told.contains("our side"), "{told}");
    }
}
