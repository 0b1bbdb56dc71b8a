//! The site in a test: its router on a database of its own, with members and reports.
#![allow(dead_code, clippy::unwrap_used, clippy::expect_used)]

pub mod desk;
#[path = "../../../desk/tests/common/market.rs"]
pub mod market;
pub mod places;

use axum::Router;
use axum::body::Body;
use axum::http::{Request, Response, StatusCode, header};
use http_body_util::BodyExt;
use tiller_core::{Price, Target};
use tiller_desk::measure::reports;
use tiller_desk::{Account, PgPool, Role, account};
use tiller_store::people::NewAccount;
use tiller_web::{App, Wake, router};
use tower::ServiceExt;

const PASSWORD: &str = "smoke over the hive";

pub struct Site {
    router: Router,
    pub db: PgPool,
}

impl Site {
    pub fn new(db: PgPool) -> Self {
        Self::as_set(db, |_| {})
    }

    /// A site with other settings.
    pub fn as_set(db: PgPool, set: impl FnOnce(&mut App)) -> Self {
        let mut app = App {
            db: db.clone(),
            channels: market::channels().clone(),
            demo: None,
            https: false,
            wake: Wake::default(),
            queues: tiller_web::Queues::default(),
            hosts: None,
            door: tiller_web::Door::default(),
        };
        set(&mut app);
        Self { router: router(app), db }
    }

    pub async fn account(&self, slug: &str) -> Account {
        account(&self.db, slug).await
    }

    /// A member with a role; answers their cookie.
    pub async fn member(&self, email: &str, account: &Account, role: Role) -> String {
        let person = account::add_person(&self.db, email, "Somebody", PASSWORD).await.unwrap();
        account::join(&self.db, account.id, person, role).await.unwrap();
        let answer = self
            .post(
                "/sign-in",
                None,
                &format!("email={email}&password={}", PASSWORD.replace(' ', "+")),
            )
            .await;
        assert_eq!(answer.status(), StatusCode::SEE_OTHER);
        cookie(&answer)
    }

    pub async fn get(&self, path: &str, cookie: Option<&str>) -> Response<Body> {
        self.send(Request::get(path), cookie, Body::empty()).await
    }

    pub async fn post(&self, path: &str, cookie: Option<&str>, body: &str) -> Response<Body> {
        let request = Request::post(path)
            .header(header::CONTENT_TYPE, "application/x-www-form-urlencoded")
            .header("sec-fetch-site", "same-origin");
        self.send(request, cookie, Body::from(body.to_owned())).await
    }

    pub async fn send(
        &self,
        request: axum::http::request::Builder,
        cookie: Option<&str>,
        body: Body,
    ) -> Response<Body> {
        let request = request
            .header(header::HOST, "desk.example")
            .header(header::COOKIE, cookie.unwrap_or_default());
        self.send_as(request, body).await
    }

    /// A request as it is.
    pub async fn send_as(
        &self,
        request: axum::http::request::Builder,
        body: Body,
    ) -> Response<Body> {
        self.router.clone().oneshot(request.body(body).unwrap()).await.unwrap()
    }
}

/// An account in euros without a target.
pub async fn account(db: &PgPool, slug: &str) -> Account {
    let new = NewAccount { slug, name: slug, currency: "EUR", time_zone: "Europe/Copenhagen" };
    account::add(db, &new).await.unwrap();
    account::by_slug(db, slug).await.unwrap()
}

pub fn cookie(answer: &Response<Body>) -> String {
    let set = answer.headers()[header::SET_COOKIE].to_str().unwrap();
    assert!(set.contains("HttpOnly") && set.contains("SameSite=Lax"), "{set}");
    set.split(';').next().unwrap().to_owned()
}

/// A number of a figure's working.
pub fn number(shown: &str, title: &str) -> f64 {
    let after = shown.split(&format!("<dt>{title}</dt><dd>")).nth(1).expect(shown);
    let told = after.trim_start_matches("<b>").split('<').next().unwrap();
    told.chars().filter(|c| c.is_ascii_digit() || *c == '.').collect::<String>().parse().unwrap()
}

pub async fn text(answer: Response<Body>) -> String {
    String::from_utf8(answer.into_body().collect().await.unwrap().to_bytes().to_vec()).unwrap()
}

/// Forty days of three campaigns: one dear by its clicks, two that set the measure.
pub fn report() -> String {
    let first = chrono::NaiveDate::from_ymd_opt(2026, 10, 1).unwrap();
    let mut rows = vec![String::from(
        "date,channel,campaign,ad_group,kind,item,match_type,impressions,clicks,spend,conversions,value,currency,budget\n",
    )];
    for day in first.iter_days().take(40) {
        for (campaign, clicks, cpc, conversions) in
            [("Dear", 40, 6, 8), ("Fair", 40, 2, 8), ("Good, and \"quoted\"", 30, 2, 7)]
        {
            let name = campaign.replace('"', "\"\"");
            rows.push(format!(
                "{day},Findle,\"{name}\",Group,keyword,a,exact,{},{clicks},{},{conversions},0,EUR,500\n",
                clicks * 20,
                clicks * cpc
            ));
        }
    }
    rows.concat()
}

impl Site {
    /// An account with the report and a target CPA of 15, and an analyst's cookie.
    pub async fn with_report(&self, slug: &str) -> (Account, String) {
        self.with_report_in(slug, "EUR").await
    }

    /// The same in another currency.
    pub async fn with_report_in(&self, slug: &str, currency: &str) -> (Account, String) {
        let new = NewAccount { slug, name: slug, currency, time_zone: "Europe/Copenhagen" };
        let id = account::add(&self.db, &new).await.unwrap();
        account::set_default_target(&self.db, id, Some(Target::Cpa(Price(15.0)))).await.unwrap();
        let account = account::by_slug(&self.db, slug).await.unwrap();
        let rows = bytes::Bytes::from(report().replace("EUR", currency));
        let body = futures::stream::iter([Ok::<_, std::io::Error>(rows)]);
        let done =
            tiller_desk::jobs::import::import_now(&self.db, &account, "r.csv", body, |_| {}, false)
                .await
                .unwrap();
        assert_eq!(done.state, reports::ImportState::Done, "{:?}", done.message);
        let cookie = self.member(&format!("analyst@{slug}.example"), &account, Role::Analyst).await;
        (account, cookie)
    }

    /// What htmx would send.
    pub async fn post_fragment(
        &self,
        path: String,
        cookie: &str,
        body: impl Into<Body>,
    ) -> Response<Body> {
        let request = Request::post(path)
            .header(header::CONTENT_TYPE, "application/x-www-form-urlencoded")
            .header("sec-fetch-site", "same-origin")
            .header("hx-request", "true");
        self.send(request, Some(cookie), body.into()).await
    }

    /// Where a new plan of all campaigns of an account stands.
    pub async fn plan(&self, account: &str, cookie: &str) -> String {
        let choices = self.page(&format!("/accounts/{account}/budgets/new"), cookie).await;
        let ids = choices.split("name=\"campaign\" value=\"").skip(1);
        let ids: Vec<&str> = ids.map(|c| c.split('"').next().unwrap()).collect();
        let body = format!("name=Autumn&campaign={}", ids.join("&campaign="));
        let made = self.post(&format!("/accounts/{account}/budgets"), Some(cookie), &body).await;
        made.headers()[header::LOCATION].to_str().unwrap().to_owned()
    }

    /// The text of a page that is there.
    pub async fn page(&self, path: &str, cookie: &str) -> String {
        let answer = self.get(path, Some(cookie)).await;
        assert_eq!(answer.status(), StatusCode::OK, "{path}");
        text(answer).await
    }
}
