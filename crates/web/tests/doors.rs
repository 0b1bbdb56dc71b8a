//! Who gets in where: signing in, roles, accounts of others, requests from other sites.
// Helpers outside of test functions may fail loudly too.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::{Site, cookie, text};
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

/// A database that takes no more connections: whoever watches over the server knows within a second or so.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn that_the_database_does_not_answer_is_known_soon(db: PgPool) {
    let site = Site::new(db);
    assert_eq!(site.get("/readyz", None).await.status(), StatusCode::OK);
    let mut held = Vec::new();
    for _ in 0..site.db.options().get_max_connections() {
        held.push(site.db.acquire().await.unwrap());
    }
    let asked = std::time::Instant::now();
    assert_eq!(site.get("/readyz", None).await.status(), StatusCode::SERVICE_UNAVAILABLE);
    assert!(asked.elapsed() < std::time::Duration::from_secs(10));
    drop(held);
    assert_eq!(site.get("/readyz", None).await.status(), StatusCode::OK, "back by itself");
}

const HERS: &str = "email=me@a.example&password=smoke+over+the+hive";

#[sqlx::test(migrator = "MIGRATIONS")]
async fn only_the_hash_of_a_session_is_kept_and_a_new_password_ends_it(db: PgPool) {
    let site = Site::new(db);
    let a = site.account("a").await;
    let (cookie, other) = (
        site.member("me@a.example", &a, Role::Admin).await,
        site.member("you@a.example", &a, Role::Admin).await,
    );
    let status = async |cookie: &str| site.get("/accounts/a/reports", Some(cookie)).await.status();
    assert_eq!((status(&cookie).await, status(&other).await), (StatusCode::OK, StatusCode::OK));
    let ids: Vec<String> =
        sqlx::query_scalar("SELECT id FROM session").fetch_all(&site.db).await.unwrap();
    let sent = cookie.split_once('=').unwrap().1;
    assert!(ids.len() == 2 && ids.iter().all(|id| id.len() == 64 && id != sent), "{ids:?}");
    // What stands in the table opens nothing.
    assert_eq!(status(&format!("gold_tiller={}", ids[0])).await, StatusCode::SEE_OTHER);
    account::set_password(&site.db, "me@a.example", "another over the hive").await.unwrap();
    assert_eq!(
        (status(&cookie).await, status(&other).await),
        (StatusCode::SEE_OTHER, StatusCode::OK)
    );
    let before = site.post("/sign-in", None, HERS).await;
    assert_eq!(before.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let twice = account::add_person(&site.db, "ME@a.example", "Me", "yet another password").await;
    assert!(twice.unwrap_err().to_string().contains("already"), "nobody is written over");
}

/// A visit moves the end of a session; without one it comes after a week.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_visit_keeps_a_session(db: PgPool) {
    let site = Site::new(db);
    let a = site.account("a").await;
    let cookie = site.member("me@a.example", &a, Role::Admin).await;
    site.page("/accounts/a/reports", &cookie).await;
    // Two days go by.
    sqlx::raw_sql(
        "UPDATE session SET expires_at = expires_at - interval '2 days',
            data = jsonb_set(jsonb_set(data, '{0,seen}', to_jsonb(current_date - 2)), '{1}', to_jsonb((data ->> 1)::bigint - 172800))",
    )
    .execute(&site.db)
    .await
    .unwrap();
    let left = async || {
        let sql = "SELECT extract(epoch FROM expires_at - now())::float8 / 86400 FROM session";
        sqlx::query_scalar::<_, f64>(sql).fetch_one(&site.db).await.unwrap()
    };
    assert!((left().await - 5.0).abs() < 0.01);
    site.page("/accounts/a/reports", &cookie).await;
    assert!((left().await - 7.0).abs() < 0.01, "{}", left().await);
}

/// Where a letter begins is written down when the page says that it was shown, and not by asking for it.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_letter_begins_where_the_last_session_s_was_shown(db: PgPool) {
    let site = Site::new(db);
    let (_, mine) = site.with_report("a").await;
    let today = "/accounts/a/today";
    let again = async || {
        let body = "email=analyst@a.example&password=smoke+over+the+hive";
        cookie(&site.post("/sign-in", None, body).await)
    };
    let first = site.page(today, &mine).await;
    assert!(first.contains("first visit") && first.contains("hx-post=\"/accounts/a/today/seen"));
    // Asked for by another session that never showed it.
    assert!(site.page(today, &again().await).await.contains("first visit"));
    for _ in 0..2 {
        let seen = site.post("/accounts/a/today/seen", Some(&mine), "").await;
        assert_eq!(seen.status(), StatusCode::NO_CONTENT);
    }
    let same = site.page(today, &mine).await;
    assert!(same.contains("first visit") && !same.contains("today/seen"), "the same session");
    let next = site.page(today, &again().await).await;
    assert!(next.contains("Since your visit") && !next.contains("first visit"), "{next}");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn who_tries_too_many_passwords_has_to_wait(db: PgPool) {
    let site = Site::new(db);
    let a = site.account("a").await;
    site.member("me@a.example", &a, Role::Admin).await;
    for n in 0..6 {
        let wrong = site.post("/sign-in", None, "email=ME@a.example&password=whatever+it+is").await;
        assert_eq!(wrong.status(), StatusCode::UNPROCESSABLE_ENTITY, "{n}");
    }
    let waits = site.post("/sign-in", None, HERS).await;
    assert_eq!(waits.status(), StatusCode::TOO_MANY_REQUESTS);
    assert_eq!(waits.headers()[header::RETRY_AFTER].to_str().unwrap(), "1");
    let others = site.post("/sign-in", None, "email=you@a.example&password=whatever+it+is").await;
    assert_eq!(others.status(), StatusCode::UNPROCESSABLE_ENTITY);
}

/// Six hundred at once are hashed a core at a time; most are told to come again, at once.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_crowd_at_the_door_is_turned_away(db: PgPool) {
    let site = Site::new(db);
    let sign_in = |n| {
        let site = &site;
        async move {
            let body = format!("email=p{n}@a.example&password=whatever+it+is");
            site.post("/sign-in", None, &body).await.status()
        }
    };
    let all = futures::future::join_all((0..600).map(sign_in)).await;
    let count = |status| all.iter().filter(|s| **s == status).count();
    let (taken, away) =
        (count(StatusCode::UNPROCESSABLE_ENTITY), count(StatusCode::TOO_MANY_REQUESTS));
    assert_eq!(taken + away, 600, "{all:?}");
    assert!(taken >= 17 && away >= 300, "{taken} taken, {away} turned away");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_demos_word_opens_nothing_without_the_demo(db: PgPool) {
    let demo = tiller_web::DemoSignIn { email: "d@a.example".into(), password: "demo-word".into() };
    for demo in [Some(demo), None] {
        let there = demo.is_some();
        let site = Site::as_set(db.clone(), |app| app.demo = demo);
        account::person_without_password(&site.db, "d@a.example", "Demo").await.unwrap();
        for (path, body) in
            [("/sign-in", "email=d@a.example&password=demo-word"), ("/sign-in/demo", "next=")]
        {
            let status = site.post(path, None, body).await.status();
            assert_eq!(status == StatusCode::SEE_OTHER, there, "{path}: {status}");
        }
        let none = site.post("/sign-in", None, "email=d@a.example&password=none").await;
        assert_eq!(none.status(), StatusCode::UNPROCESSABLE_ENTITY);
    }
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn other_names_are_not_answered_to_and_https_is_asked_for(db: PgPool) {
    let site = Site::as_set(db, |app| {
        app.hosts = Some(vec!["desk.example".into()]);
        app.https = true;
    });
    let page = site.get("/sign-in", None).await;
    assert_eq!(page.status(), StatusCode::OK);
    assert!(page.headers().contains_key(header::STRICT_TRANSPORT_SECURITY));
    for host in ["evil.example", "desk.example.evil.example", "127.0.0.1:8400"] {
        let request = Request::get("/sign-in").header(header::HOST, host);
        let answer = site.send_as(request, Body::empty()).await;
        assert_eq!(answer.status(), StatusCode::MISDIRECTED_REQUEST, "{host}");
    }
    assert_eq!(site.get("/metrics", None).await.status(), StatusCode::NOT_FOUND);
}
