//! An account on a market, worked on as its people do.

use tiller_core::setting::CampaignSettings;
use tiller_desk::account::{self, connections};
use tiller_desk::plans::{self, Opened, Typed, moves};
use tiller_desk::tray::offer::Offer;
use tiller_desk::tray::{self, sending};
use tiller_desk::{Account, CampaignId, ChangeId, DeskError, PersonId, PgPool};

use super::book;
use super::market::{Answering, channels, connected, fetch_all};

/// An account that is connected to a market of its own, and somebody who works on it.
pub struct Scene {
    pub market: Answering,
    pub account: Account,
    pub person: PersonId,
}

impl Scene {
    pub async fn new(db: &PgPool) -> Self {
        Self::on(db, Answering::new().await).await
    }

    pub async fn on(db: &PgPool, market: Answering) -> Self {
        let account = connected(db, &market).await;
        Self::of(db, market, account).await
    }

    pub async fn of(db: &PgPool, market: Answering, account: Account) -> Self {
        let email = format!("ada@{}.example", account.slug);
        let person = account::add_person(db, &email, "Ada", "a long password").await.unwrap();
        account::join(db, account.id, person, tiller_desk::Role::Analyst).await.unwrap();
        Self { market, account, person }
    }

    pub async fn id(&self, db: &PgPool, name: &str) -> CampaignId {
        let book = book(db, &self.account).await;
        book.entries.iter().find(|e| e.campaign.name == name).unwrap().campaign.id
    }

    /// Sends everything that waits, and fetches what came of it.
    pub async fn send(&self, db: &PgPool) {
        let rows = tray::rows(db, &self.account).await.unwrap();
        let ids: Vec<ChangeId> = rows
            .iter()
            .filter(|r| r.change.state == tray::State::Waiting)
            .map(|r| r.change.id)
            .collect();
        sending::send(db, &self.account, &ids).await.unwrap();
        self.settle(db).await;
    }

    pub async fn settle(&self, db: &PgPool) {
        loop {
            fetch_all(db).await;
            if !tiller_desk::jobs::send::run_next(db, channels()).await.unwrap() {
                break;
            }
        }
    }

    pub async fn days_pass(&self, db: &PgPool, days: u16) {
        connections::let_pass(db, channels(), &self.account, days).await.unwrap();
        self.settle(db).await;
    }

    /// Whether the market has a campaign of a name: others are told of by files only.
    pub fn has(&self, name: &str) -> bool {
        let market = self.market.service.market();
        let all =
            ["Findle", "Emberlane"].map(|c| market.structure(&market.accounts[0], c).campaigns);
        all.into_iter().flatten().any(|c| c.name == name)
    }

    pub fn at_market(&self, name: &str) -> CampaignSettings {
        let market = self.market.service.market();
        let all =
            ["Findle", "Emberlane"].map(|c| market.structure(&market.accounts[0], c).campaigns);
        all.into_iter().flatten().find(|c| c.name == name).unwrap().settings
    }

    pub fn budget(&self, name: &str) -> f64 {
        self.at_market(name).budget.unwrap().per_day().to_units()
    }

    pub async fn plan(&self, db: &PgPool) -> Opened {
        let book = book(db, &self.account).await;
        let (_, known) = plans::known(db, &book).await.unwrap();
        let ids: Vec<CampaignId> = book.entries.iter().map(|e| e.campaign.id).collect();
        let file = plans::draft(&book, &known, &ids).unwrap();
        let id = plans::add(db, &self.account, self.person, "Plan", &book, &file).await.unwrap();
        plans::open(db, &self.account, id).await.unwrap()
    }
}

pub fn fields(pairs: &[(&str, &str)]) -> Typed {
    pairs.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect()
}

pub fn says(error: DeskError, words: &str) {
    assert!(error.to_string().contains(words), "{error}");
}

/// What the button of a plan's page carries.
pub fn carried(opened: &Opened) -> Vec<String> {
    let worked = plans::work(&opened.file);
    let offers = moves::offers(&worked.problem, worked.solved().unwrap());
    offers.iter().map(Offer::button).collect()
}
