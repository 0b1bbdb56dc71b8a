//! What is set at the channels, as it is read: fresh after every write, the items that were asked for, of one account.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::market::{Answering, channels, connected, fetch_all};
use crate::common::{book, day};
use tiller_core::ids::{CampaignId, ItemId};
use tiller_core::setting::{Budget, Setting};
use tiller_core::spot::Subject;
use tiller_core::{Micros, Window};
use tiller_desk::account::settings::Settings;
use tiller_desk::book::{Book, items};
use tiller_desk::tray::proposal::{Origin, Proposal};
use tiller_desk::tray::{self, sending};
use tiller_desk::{Account, PgPool, Role, account};
use tiller_store::MIGRATIONS;

fn named(book: &Book, name: &str) -> CampaignId {
    book.entries.iter().find(|e| e.campaign.name == name).unwrap().campaign.id
}

async fn some_items(db: &PgPool, account: &Account, campaign: &str) -> Vec<ItemId> {
    let book = book(db, account).await;
    let window = Window::new(day("2026-10-01"), day("2026-11-09")).unwrap();
    let of = items(db, &book, Some(named(&book, campaign)), window).await.unwrap();
    of.iter().map(|i| i.item).collect()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_was_sent_is_read_at_once(db: PgPool) {
    let market = Answering::new().await;
    let account = connected(&db, &market).await;
    let id = named(&*book(&db, &account).await, "Courses, search");
    let budget = async || {
        let settings = Settings::of_account(&db, account.id).await.unwrap();
        settings.campaign(id).unwrap().budget.unwrap()
    };
    let before = budget().await;
    assert_eq!(budget().await, before, "what stands is read once and kept");
    let new = Budget::Daily { amount: before.per_day() + Micros::from_units(7.0) };
    let person = account::add_person(&db, "a@amberfold.example", "Ada", "a long password").await;
    let person = person.unwrap();
    account::join(&db, account.id, person, Role::Analyst).await.unwrap();
    let proposal =
        Proposal::new(Subject::Campaign(id), Setting::Budget(new), Origin::Hand, "More of it.");
    tray::propose(&db, &account, person, vec![proposal]).await.unwrap();
    assert_eq!(budget().await, before, "what waits in the tray is not set");
    let waiting: Vec<_> =
        tray::rows(&db, &account).await.unwrap().iter().map(|r| r.change.id).collect();
    sending::send(&db, &account, &waiting).await.unwrap();
    while tiller_desk::jobs::send::run_next(&db, channels()).await.unwrap() {}
    fetch_all(&db).await;
    assert_eq!(budget().await, new);
    // A book of the state after it tells the same.
    let after = book(&db, &account).await;
    let of_book = Settings::of_book(&db, &after).await.unwrap();
    assert_eq!(of_book.campaign(id).unwrap().budget, Some(new));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn items_are_those_that_were_asked_for(db: PgPool) {
    let market = Answering::new().await;
    let account = connected(&db, &market).await;
    let all = some_items(&db, &account, "Courses, search").await;
    assert!(all.len() > 1, "{all:?}");
    let none = Settings::of_account(&db, account.id).await.unwrap();
    assert!(none.spot(Subject::Item(all[0])).is_none(), "no items unless they are asked for");
    let one = none.clone().with_items(&db, &all[..1]).await.unwrap();
    let spot = one.spot(Subject::Item(all[0])).expect("the one that was asked for");
    assert!(one.spot(Subject::Item(all[1])).is_none());
    assert_eq!(one.names(spot).unwrap().matches(" › ").count(), 2, "{:?}", one.names(spot));
    // Its bid is its own, or the one of its ad group or its campaign.
    let set_at = |spot| match one.present(spot, &Setting::Bid(None)) {
        Some(Setting::Bid(bid)) => bid,
        other => panic!("{other:?}"),
    };
    let above = [spot.up().unwrap(), spot.up().unwrap().up().unwrap()].map(set_at);
    assert_eq!(one.bid(spot), set_at(spot).or(above[0]).or(above[1]));
    let keys = one.keys(spot).unwrap();
    assert!(keys.ad_group.is_some() && keys.item.is_some());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn nothing_of_another_account_is_read(db: PgPool) {
    let market = Answering::new().await;
    let (mine, other) = (connected(&db, &market).await, Answering::new().await);
    let theirs = connected(&db, &other).await;
    let foreign = some_items(&db, &theirs, "Courses, search").await;
    let settings = Settings::of_account(&db, mine.id).await.unwrap();
    let settings = settings.with_items(&db, &foreign).await.unwrap();
    for item in foreign {
        assert!(settings.spot(Subject::Item(item)).is_none(), "{item:?}");
    }
    let their_campaign = named(&*book(&db, &theirs).await, "Courses, search");
    assert!(settings.campaign(their_campaign).is_none());
    assert!(settings.connection(their_campaign).is_none());
    assert!(settings.spot(Subject::Campaign(their_campaign)).is_none());
}
