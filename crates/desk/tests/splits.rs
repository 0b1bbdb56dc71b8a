//! Splits add up to the whole, before and after what may still change has been fetched again.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::book;
use crate::common::market::{Answering, channels, connected, fetch_all};
use tiller_core::setting::Dimension;
use tiller_core::{Price, Tally, Target};
use tiller_desk::account::connections;
use tiller_desk::account::decisions::{self, Own};
use tiller_desk::book::Book;
use tiller_desk::spend::split::{self, Of, SplitBy};
use tiller_desk::{CampaignId, PgPool, measure};
use tiller_store::MIGRATIONS;

/// The whole of a period, of one campaign or of all.
fn whole(book: &Book, campaign: Option<CampaignId>) -> Tally {
    let of = book.entries.iter().filter(|e| campaign.is_none_or(|c| c == e.campaign.id));
    of.map(|e| e.tally(book.period.window)).sum()
}

async fn adds_up(db: &PgPool, book: &Book, by: SplitBy, campaign: Option<CampaignId>) {
    let rows = split::rows(db, book, by, &Of { campaign, part: None }).await.unwrap();
    assert!(!rows.is_empty(), "{by:?}");
    let sum: Tally = rows.iter().map(|r| r.tally).sum();
    let all = whole(book, campaign);
    if by == SplitBy::Event {
        assert!((sum.conversions - all.conversions).abs() < 1e-6, "{by:?}: {sum:?} {all:?}");
        assert_eq!(sum.value, all.value);
    } else {
        assert_eq!(
            (sum.impressions, sum.clicks, sum.spend),
            (all.impressions, all.clicks, all.spend),
            "{by:?}"
        );
        assert!((sum.conversions - all.conversions).abs() < 1e-6, "{by:?}");
        let excess: f64 = rows.iter().filter_map(|r| r.excess).sum();
        assert!((excess - (all.spend.to_units() - 30.0 * all.conversions)).abs() < 1e-6, "{by:?}");
    }
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn every_split_adds_up_however_often_it_is_fetched(db: PgPool) {
    let market = Answering::new().await;
    let account = connected(&db, &market).await;
    let told = [Dimension::Country, Dimension::Device, Dimension::Hour];
    for days in [0, 3, 7] {
        if days > 0 {
            connections::let_pass(&db, channels(), &account, days).await.unwrap();
            fetch_all(&db).await;
        }
        let book = book(&db, &account).await;
        let search = book.entries.iter().find(|e| e.campaign.name == "Courses, search").unwrap();
        for by in told.map(SplitBy::People).into_iter().chain([SplitBy::Weekday, SplitBy::Event]) {
            adds_up(&db, &book, by, None).await;
            adds_up(&db, &book, by, Some(search.campaign.id)).await;
        }
        adds_up(&db, &book, SplitBy::Term, Some(search.campaign.id)).await;
        // One part campaign by campaign comes to the part.
        let by = SplitBy::People(Dimension::Country);
        let all = split::rows(&db, &book, by, &Of::default()).await.unwrap();
        for row in &all {
            let of = Of { campaign: None, part: Some(row.name.clone()) };
            let inside = split::rows(&db, &book, by, &of).await.unwrap();
            assert!(inside.iter().all(|r| r.campaign.is_some()) && inside.len() > 1);
            let sum: Tally = inside.iter().map(|r| r.tally).sum();
            assert_eq!((sum.clicks, sum.spend), (row.tally.clicks, row.tally.spend));
        }
        // The week grid tells the hours once more, by weekday.
        let grid: Tally =
            split::week(&db, &book, None).await.unwrap().into_iter().map(|(_, t, _)| t).sum();
        assert_eq!(grid.spend, whole(&book, None).spend);
    }
    // A campaign's own target counts for its part of every segment; what is kept of the book notices.
    let before = book(&db, &account).await;
    let one = before.entries[0].campaign.id;
    let own = Own::Target(Some(Target::Cpa(Price(55.0))));
    decisions::decide(&db, account.id, None, Some(one), &own).await.unwrap();
    let after = book(&db, &account).await;
    let window = after.period.window;
    assert!((after.excess(window) - before.excess(window)).abs() > 1.0);
    for by in [SplitBy::People(Dimension::Device), SplitBy::Weekday] {
        let rows = split::rows(&db, &after, by, &Of::default()).await.unwrap();
        let excess: f64 = rows.iter().filter_map(|r| r.excess).sum();
        assert!((excess - after.excess(window)).abs() < 1e-6, "{by:?}");
    }
    // Open days have an end by estimate, at or above what is reported; settled ones have none.
    let open = after.entries.iter().flat_map(|e| e.days.iter()).filter(|d| d.expected.is_some());
    assert!(open.clone().count() > 3);
    for d in open {
        let end = d.expected.unwrap();
        assert!(d.day > after.span.to() - chrono::Days::new(30) && end.error >= 0.0);
        assert!(end.mean >= d.tally.conversions - 1e-9, "{end:?} {:?}", d.tally);
    }
    // Nothing of a fetch is left lying about.
    for table in ["fetched_conversion", "fetched_segment", "fetched_term"] {
        let sql = format!("SELECT count(*) FROM {table}");
        let left: i64 = sqlx::query_scalar(sqlx::AssertSqlSafe(sql)).fetch_one(&db).await.unwrap();
        assert_eq!(left, 0, "{table}");
    }
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn one_accounts_splits_are_out_of_anothers_reach(db: PgPool) {
    let market = Answering::new().await;
    let mine = connected(&db, &market).await;
    let theirs = crate::common::account(&db, "theirs").await;
    crate::common::import(
        &db,
        &theirs,
        &[crate::common::HEADER, &crate::common::row("2026-11-01", "Theirs", "a", 10, "20", "1")]
            .concat(),
    )
    .await;
    let (my_book, their_book) = (book(&db, &mine).await, book(&db, &theirs).await);
    let own = my_book.entries[0].campaign.id;
    for (by, _, _) in SplitBy::ALL {
        let rows = split::rows(&db, &their_book, by, &Of::default()).await.unwrap();
        let spend: f64 = rows.iter().map(|r| r.tally.spend.to_units()).sum();
        assert!(spend <= 20.0, "{by:?}");
        let foreign = split::rows(&db, &their_book, by, &Of { campaign: Some(own), part: None })
            .await
            .unwrap();
        assert!(foreign.iter().all(|r| r.tally.is_empty()), "{by:?}");
    }
    assert!(
        measure::choose(&db, &their_book, None, own, Some(vec!["booking".into()])).await.is_err()
    );
    assert!(tiller_desk::causes::findings::of_campaign(&db, &their_book, own).await.is_err());
    assert!(measure::events(&db, &their_book).await.unwrap().is_empty());
}
