//! Accounts and reports for tests against a real database.
#![allow(dead_code, clippy::unwrap_used, clippy::expect_used)]

pub mod market;
pub mod post;
pub mod scene;

use std::sync::Arc;
use tiller_core::Price;

use bytes::Bytes;
use chrono::NaiveDate;
use tiller_channel::report::Mapping;
use tiller_core::Target;
use tiller_desk::book::{Book, PeriodChoice};
use tiller_desk::measure::reports::{self, ReportImport};
use tiller_desk::{Account, PgPool, account};
use tiller_market::world::AMBERFOLD;
use tiller_market::{Market, World};
use tiller_store::people::NewAccount;

pub fn day(text: &str) -> NaiveDate {
    text.parse().unwrap()
}

/// An account in euros with a target CPA of 30.
pub async fn account(db: &PgPool, slug: &str) -> Account {
    let new = NewAccount {
        slug,
        name: "Amberfold Test",
        currency: "EUR",
        time_zone: "Europe/Copenhagen",
    };
    let id = account::add(db, &new).await.unwrap();
    account::set_default_target(db, id, Some(Target::Cpa(Price(30.0)))).await.unwrap();
    account::by_slug(db, slug).await.unwrap()
}

pub async fn import(db: &PgPool, account: &Account, text: &str) -> ReportImport {
    import_as(db, account, text, |_| {}, false).await.unwrap()
}

pub async fn import_as(
    db: &PgPool,
    account: &Account,
    text: &str,
    adjust: impl FnOnce(&mut Mapping),
    only_good: bool,
) -> Result<ReportImport, tiller_desk::DeskError> {
    let pieces: Vec<_> = text
        .as_bytes()
        .chunks(1000)
        .map(|c| Ok::<_, std::io::Error>(Bytes::copy_from_slice(c)))
        .collect();
    tiller_desk::jobs::import::import_now(
        db,
        account,
        "test.csv",
        futures::stream::iter(pieces),
        adjust,
        only_good,
    )
    .await
}

pub const HEADER: &str = "date,channel,campaign,ad_group,kind,item,match_type,impressions,clicks,spend,conversions,value,currency\n";

/// A row of a small report.
pub fn row(
    date: &str,
    campaign: &str,
    item: &str,
    clicks: u32,
    spend: &str,
    conversions: &str,
) -> String {
    format!(
        "{date},Findle,{campaign},Group,keyword,{item},exact,{},{clicks},{spend},{conversions},0,EUR\n",
        clicks * 20
    )
}

pub async fn book(db: &PgPool, account: &Account) -> Arc<Book> {
    Book::load(db, account, PeriodChoice::default()).await.unwrap().unwrap()
}

/// An account of the demo world with its whole history imported.
pub async fn demo_account(db: &PgPool, key: &str, last: NaiveDate) -> Account {
    let world = World::parse(AMBERFOLD).unwrap();
    let from = world.accounts.iter().find(|a| a.key == key).unwrap();
    let new = NewAccount {
        slug: key,
        name: &from.name,
        currency: &from.currency,
        time_zone: &from.time_zone,
    };
    let id = account::add(db, &new).await.unwrap();
    let target = Target::given(from.target_cpa, from.target_roas).unwrap();
    account::set_default_target(db, id, target).await.unwrap();
    let account = account::by_slug(db, key).await.unwrap();
    let market = Market::begin(Arc::new(world.clone()), last);
    let text = String::from_utf8(market.history(market.account(key).unwrap()).unwrap()).unwrap();
    let done = import(db, &account, &text).await;
    assert_eq!(done.state, reports::ImportState::Done, "{:?}", done.message);
    account
}
