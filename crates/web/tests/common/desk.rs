//! An account that is connected to a market, with somebody who works on it.

use axum::http::StatusCode;
use tiller_core::{Price, Target};
use tiller_desk::{Account, PgPool, Role, account};

use super::market::{Answering, connected};
use super::{Site, text};

/// A site with a connected account, an analyst, and the market that answers.
pub struct Desk {
    pub site: Site,
    pub account: Account,
    pub cookie: String,
    _market: Answering,
}

impl Desk {
    pub async fn new(db: PgPool) -> Self {
        let market = Answering::new().await;
        let account = connected(&db, &market).await;
        account::set_default_target(&db, account.id, Some(Target::Cpa(Price(30.0)))).await.unwrap();
        Self::of(db, market, account).await
    }

    pub async fn of(db: PgPool, market: Answering, account: Account) -> Self {
        let site = Site::new(db);
        let cookie = site.member("a@amberfold.example", &account, Role::Analyst).await;
        Self { site, account, cookie, _market: market }
    }

    pub fn path(&self, place: &str) -> String {
        format!("/accounts/{}/{place}", self.account.slug)
    }

    pub async fn page(&self, place: &str) -> String {
        self.site.page(&self.path(place), &self.cookie).await
    }

    /// What a form answers beside itself.
    pub async fn says(&self, place: &str, body: &str) -> String {
        let answer = self.site.post_fragment(self.path(place), &self.cookie, body.to_owned()).await;
        assert_eq!(answer.status(), StatusCode::OK, "{place} {body}");
        text(answer).await
    }

    /// The place of a campaign's pages.
    pub async fn campaign(&self, name: &str) -> String {
        let budgets = self.page("budgets").await;
        let row = budgets.split("<tr").find(|r| r.contains(name) && r.contains("/curve")).unwrap();
        let id = row.split("/budgets/campaigns/").nth(1).unwrap().split('/').next().unwrap();
        format!("budgets/campaigns/{id}")
    }

    /// A page whatever its status.
    pub async fn get(&self, place: &str) -> (StatusCode, String) {
        let answer = self.site.get(&self.path(place), Some(&self.cookie)).await;
        (answer.status(), text(answer).await)
    }

    /// Sends everything that waits, and fetches what came of it.
    pub async fn send_all(&self) {
        let tray = self.page("tray").await;
        let ids = tray.split("name=\"change\" value=\"").skip(1);
        let body: Vec<String> =
            ids.map(|r| format!("change={}", r.split('"').next().unwrap())).collect();
        let sent =
            self.site.post(&self.path("tray/send"), Some(&self.cookie), &body.join("&")).await;
        assert_eq!(sent.status(), StatusCode::SEE_OTHER);
        while tiller_desk::jobs::send::run_next(&self.site.db, super::market::channels())
            .await
            .unwrap()
            || tiller_desk::jobs::fetch::run_next(&self.site.db, super::market::channels())
                .await
                .unwrap()
        {}
    }

    pub async fn waiting(&self) -> usize {
        self.page("tray").await.matches("name=\"change\"").count()
    }
}

/// What the buttons of a page carry, as fields.
pub fn taken(page: &str) -> impl Iterator<Item = String> {
    let values = page.split("name=\"take\" value=\"").skip(1);
    let field = |v: &str| v.replace(' ', "+").replace('\u{202f}', "%E2%80%AF");
    values.map(move |v| format!("take={}", field(v.split('"').next().unwrap())))
}
