//! Shared strategies, the results estimate, the adjustments with their hours: as pages, on an account that is connected to
//! a market.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::desk::Desk;
use crate::common::market::{amberfold, practice};
use axum::http::StatusCode;
use tiller_core::Target;
use tiller_desk::{PgPool, Role};
use tiller_store::MIGRATIONS;

/// The shop of the demo's world: two campaigns of one channel that bid by themselves.
async fn supply(db: PgPool) -> Desk {
    let market = amberfold(20).await;
    let account = practice(&db, &market, "supply", 20, Target::Roas(4.0)).await;
    Desk::of(db, market, account).await
}

fn key(page: &str, name: &str) -> String {
    let at = page.find(&format!("Choose {name}")).unwrap();
    let from = page[..at].rfind("value=\"").unwrap() + 7;
    page[from..].split('"').next().unwrap().to_owned()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_strategy_is_shared_changed_for_all_and_left(db: PgPool) {
    let desk = supply(db).await;
    let page = desk.page("bids/shared").await;
    assert!(page.contains("No campaigns share a strategy"), "{page}");
    let (smokers, suits) = (key(&page, "Smokers, search"), key(&page, "Suits, search"));
    let stall = key(&page, "Stall, hives");
    let share = |with: &str| format!("on={smokers}&on={with}&what=shared&how=Safety");
    let elsewhere = desk.says("bids/edit", &share(&stall)).await;
    assert!(elsewhere.contains("shared within one channel"), "{elsewhere}");
    let said = desk.says("bids/edit", &share(&suits)).await;
    assert!(said.contains("2 changes were put in the tray"), "{said}");
    // What it changes for each is told before anything is sent.
    let tray = desk.page("tray").await;
    assert!(tray.contains("from most value to target ROAS 8.50"), "{tray}");
    desk.send_all().await;
    let page = desk.page("bids/shared").await;
    assert!(page.contains("One strategy is shared") && page.contains("Safety · Findle"), "{page}");
    assert!(page.contains("Let Suits, search leave Safety"), "{page}");
    let table = desk.page("bids").await;
    assert!(table.contains("target ROAS 8.50, shared as Safety"), "{table}");
    // By hand it can't bid while it shares.
    let by_hand = desk.says("bids/edit", &format!("on={suits}&what=bid&how=1")).await;
    assert!(by_hand.contains("its strategy makes the bids"), "{by_hand}");
    desk.says("bids/edit", &format!("on={suits}&what=target&how=7.65")).await;
    let tray = desk.page("tray").await;
    assert!(
        tray.contains("Smokers, search goes from target ROAS 8.50 to target ROAS 7.65 too"),
        "{tray}"
    );
    desk.send_all().await;
    let log = desk.page("logbook").await;
    assert!(log.contains("Its strategy is shared; it was changed at Suits, search."), "{log}");
    desk.says("bids/edit", &format!("on={suits}&what=shared&how=")).await;
    desk.send_all().await;
    let table = desk.page("bids").await;
    assert!(table.contains("target ROAS 7.65, shared as Safety"), "Smokers still does");
    assert_eq!(table.matches("shared as Safety").count(), 1, "{table}");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_campaign_to_be_is_estimated_from_both_sides(db: PgPool) {
    let desk = supply(db).await;
    let empty = desk.page("bids/estimate").await;
    assert!(empty.contains("Only some, by device") && !empty.contains("The channel</th>"));
    let ask = |more: &str| {
        format!("bids/estimate?channel=Findle&kind=keyword&strategy=manual_cpc&bid=1.2{more}")
    };
    let page = desk.page(&ask("&budget=40")).await;
    let seen = page;
    assert!(seen.contains("Campaigns like it") && seen.contains("Together"), "{seen}");
    assert!(seen.contains("The channel advises bids of") && seen.contains("a day would"), "{seen}");
    assert!(seen.contains("campaigns of this kind: "), "{seen}");
    // Fewer people, less of everything.
    let few = desk.page(&ask("&budget=40&people=device%3A%20tablet")).await;
    assert_ne!(few, seen);
    // What can't be read says what to do, and loses nothing.
    let wrong = desk.get(&ask("&budget=many&items=hive+kit")).await;
    assert_eq!(wrong.0, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(wrong.1.contains("hive kit") && wrong.1.contains("value=\"many\""), "{}", wrong.1);
    let no_bid =
        desk.get("bids/estimate?channel=Findle&kind=keyword&strategy=manual_cpc&budget=9").await;
    assert!(no_bid.1.contains("this strategy bids by hand"), "{}", no_bid.1);
    let people = desk.get(&ask("&budget=40&people=nobody")).await;
    assert!(people.1.contains("names no people"), "{}", people.1);
    // A kind that the channel does not have: the account's own campaigns still tell.
    let silent = desk
        .page("bids/estimate?channel=Stallway&kind=keyword&strategy=most_clicks&budget=40")
        .await;
    assert!(silent.contains("no demand of this kind; choose another kind"), "{silent}");
    // A channel that is not the account's is not asked.
    let other = desk
        .page("bids/estimate?channel=Nowhere&kind=keyword&strategy=most_clicks&budget=40")
        .await;
    assert!(other.contains("Findle"), "the first is asked instead: {other}");
    // Who may only look may ask too.
    let viewer = desk.site.member("v@amberfold.example", &desk.account, Role::Viewer).await;
    let asked = desk.site.page(&desk.path(&ask("&budget=40")), &viewer).await;
    assert!(asked.contains("Campaigns like it"));
    let shared = desk.site.page(&desk.path("bids/shared"), &viewer).await;
    assert!(!shared.contains("Put in tray"), "{shared}");
}
