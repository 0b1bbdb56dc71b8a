//! Report import against a real database: what goes in comes out, once, whatever happens on the way.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::{HEADER, account, book, day, import, import_as, row};
use tiller_core::{Micros, Tally, Window};
use tiller_desk::account::decisions::{self, Own};
use tiller_desk::book::PeriodChoice;
use tiller_desk::measure::reports::{self, ImportState, Sender};
use tiller_desk::{DeskError, PgPool};
use tiller_store::MIGRATIONS;
use tiller_store::facts::items;

fn three_days() -> Vec<String> {
    ["2026-11-01", "2026-11-02", "2026-11-03"]
        .iter()
        .flat_map(|d| {
            [
                row(d, "Spring", "course", 10, "25.5", "2"),
                row(d, "Spring", "class", 4, "8", "0.5"),
                row(d, "Own", "name", 5, "3.25", "1"),
            ]
        })
        .collect()
}

async fn everything(db: &PgPool, account: &tiller_desk::Account) -> (Tally, Vec<(String, Tally)>) {
    let window = Window::new(day("2026-01-01"), day("2026-12-31")).unwrap();
    let Ok(Some(book)) = tiller_desk::book::Book::load(db, account, PeriodChoice::default()).await
    else {
        return Default::default();
    };
    let mut parts: Vec<_> = items(db, account.id, window, None)
        .await
        .unwrap()
        .into_iter()
        .map(|i| (i.name, i.tally))
        .collect();
    parts.sort_by(|a, b| a.0.cmp(&b.0));
    (book.total(window), parts)
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_goes_in_comes_out(db: PgPool) {
    let account = account(&db, "a").await;
    let done = import(&db, &account, &format!("{HEADER}{}", three_days().concat())).await;
    assert_eq!((done.state, done.rows_kept, done.error_count), (ImportState::Done, 9, 0));
    assert_eq!(reports::covered(&done), Some((day("2026-11-01"), day("2026-11-03"))));
    let (total, parts) = everything(&db, &account).await;
    assert_eq!(
        total,
        Tally {
            impressions: 1140,
            clicks: 57,
            spend: Micros::parse("110.25").unwrap(),
            conversions: 10.5,
            value: Micros::ZERO
        }
    );
    assert_eq!(
        parts.iter().map(|p| p.1).sum::<Tally>(),
        total,
        "the rollup and the facts tell the same"
    );
    assert_eq!(parts.len(), 3);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn importing_again_or_in_another_order_changes_nothing(db: PgPool) {
    let (a, b) = (account(&db, "a").await, account(&db, "b").await);
    let mut rows = three_days();
    import(&db, &a, &format!("{HEADER}{}", rows.concat())).await;
    let first = everything(&db, &a).await;
    import(&db, &a, &format!("{HEADER}{}", rows.concat())).await;
    assert_eq!(everything(&db, &a).await, first);
    rows.reverse();
    rows.swap(1, 4);
    import(&db, &b, &format!("{HEADER}{}", rows.concat())).await;
    assert_eq!(everything(&db, &b).await, first);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_day_is_replaced_and_can_be_had_back(db: PgPool) {
    let account = account(&db, "a").await;
    import(&db, &account, &format!("{HEADER}{}", three_days().concat())).await;
    let before = everything(&db, &account).await;
    // The class is gone from the new report of the day, and the campaign Own is not in it at all.
    let restated = import(
        &db,
        &account,
        &format!("{HEADER}{}", row("2026-11-02", "Spring", "course", 12, "30", "4")),
    )
    .await;
    let (total, _) = everything(&db, &account).await;
    assert_eq!(total.clicks, 57 - 14 + 12);
    assert_eq!(total.conversions, 10.5 - 2.5 + 4.0);
    reports::undo(&db, &account, restated.id).await.unwrap();
    assert_eq!(everything(&db, &account).await, before);
    assert!(matches!(reports::undo(&db, &account, restated.id).await, Err(DeskError::Invalid(_))));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn undoing_goes_backwards_and_leaves_nothing(db: PgPool) {
    let account = account(&db, "a").await;
    let first = import(&db, &account, &format!("{HEADER}{}", three_days().concat())).await;
    let second = import(&db, &account, &format!("{HEADER}{}", three_days().concat())).await;
    let refused = reports::undo(&db, &account, first.id).await.unwrap_err().to_string();
    assert!(refused.contains("test.csv"), "{refused}");
    reports::undo(&db, &account, second.id).await.unwrap();
    reports::undo(&db, &account, first.id).await.unwrap();
    assert_eq!(everything(&db, &account).await, Default::default());
    let names: i64 =
        sqlx::query_scalar("SELECT (SELECT count(*) FROM campaign) + (SELECT count(*) FROM item)")
            .fetch_one(&db)
            .await
            .unwrap();
    assert_eq!(names, 0, "names that nothing is counted for go too");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn rows_with_errors_are_listed_and_decided_about(db: PgPool) {
    let account = account(&db, "a").await;
    let text = format!(
        "{HEADER}{}{}{}",
        row("2026-11-01", "Spring", "course", 10, "25.5", "2"),
        "2026-13-01,Findle,Spring,Group,keyword,class,exact,1,many,1,0,0,EUR\n",
        row("2026-11-01", "Spring", "other", 1, "1", "0")
    );
    let id = {
        let stream =
            futures::stream::iter([Ok::<_, std::io::Error>(bytes::Bytes::from(text.clone()))]);
        let id = reports::upload(&db, &account, Sender::Nobody, "two.csv", stream).await.unwrap();
        let mapping = reports::preview(&db, &account, id).await.unwrap().mapping;
        reports::start(&db, &account, id, &mapping).await.unwrap();
        id
    };
    assert!(tiller_desk::jobs::import::run_next(&db).await.unwrap());
    let import = reports::get(&db, &account, id).await.unwrap();
    assert_eq!((import.state, import.error_count), (ImportState::Decide, 2));
    let errors = reports::errors(&db, &account, id, 10).await.unwrap();
    assert_eq!(
        (errors[0].line, errors[0].column.as_str(), errors[0].found.as_str()),
        (3, "date", "2026-13-01")
    );
    assert_eq!(
        (errors[1].column.as_str(), errors[1].expected.as_str()),
        ("clicks", "a whole number of 0 or more, below 10 000 000 000")
    );
    assert_eq!(
        everything(&db, &account).await,
        Default::default(),
        "nothing is written before the person decides"
    );
    reports::accept_good(&db, &account, id).await.unwrap();
    assert!(tiller_desk::jobs::import::run_next(&db).await.unwrap());
    assert_eq!(everything(&db, &account).await.0.clicks, 11);
    assert!(!tiller_desk::jobs::import::run_next(&db).await.unwrap(), "the queue is empty");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn doubles_are_refused_together(db: PgPool) {
    let account = account(&db, "a").await;
    let text = format!(
        "{HEADER}{}{}{}",
        row("2026-11-01", "Spring", "course", 10, "25.5", "2"),
        row("2026-11-01", "Spring", "class", 1, "1", "0"),
        row("2026-11-01", "Spring", "course", 10, "25.5", "2")
    );
    let done = import_as(&db, &account, &text, |_| {}, true).await.unwrap();
    assert_eq!((done.state, done.rows_kept, done.error_count), (ImportState::Done, 1, 2));
    let lines: Vec<i64> =
        reports::errors(&db, &account, done.id, 10).await.unwrap().iter().map(|e| e.line).collect();
    assert_eq!(lines, [2, 4]);
    assert_eq!(everything(&db, &account).await.0.clicks, 1);
}

/// All rows of a file that doubles itself are counted; only so many are kept as anybody can read.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_file_that_doubles_itself_is_counted_not_kept(db: PgPool) {
    let account = account(&db, "a").await;
    let rows: String = (0..5200)
        .map(|i| row("2026-11-01", "Spring", &format!("course {i}"), 1, "1", "0"))
        .collect();
    let once = row("2026-11-02", "Spring", "course 1", 3, "1", "0");
    let text = format!("{HEADER}{rows}{once}{rows}");
    let done = import_as(&db, &account, &text, |_| {}, true).await.unwrap();
    assert_eq!((done.state, done.rows_kept, done.error_count), (ImportState::Done, 1, 10_400));
    let kept = reports::errors(&db, &account, done.id, 20_000).await.unwrap();
    assert_eq!(kept.len(), 10_000);
    assert_eq!(everything(&db, &account).await.0.clicks, 3);
}

/// Of a column that no row can be read with, nothing needs to be written to know it.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_column_that_can_t_be_read_is_said_at_once(db: PgPool) {
    let account = account(&db, "a").await;
    let rows: String = ["2026-11-01", "2026-11-02", "2026-11-03"]
        .map(|d| row(d, "Spring", "course", 10, "free", "2"))
        .concat();
    let text = format!("{HEADER}{rows}");
    let refused = import_as(&db, &account, &text, |_| {}, true).await.unwrap_err().to_string();
    assert!(refused.contains("spend: ‘free’ found in line 2"), "{refused}");
    assert!(refused.contains("nothing has been imported"), "{refused}");
    let kept = reports::list(&db, &account).await.unwrap();
    assert!(kept.iter().all(|i| i.state != ImportState::Done && i.rows_kept == 0));
    // One good row among them, and the others are a matter of rows.
    let good = row("2026-11-04", "Spring", "course", 10, "5", "2");
    let done = import_as(&db, &account, &format!("{text}{good}"), |_| {}, true).await.unwrap();
    assert_eq!((done.state, done.rows_kept, done.error_count), (ImportState::Done, 1, 3));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn another_currency_is_refused_with_the_way_out(db: PgPool) {
    let account = account(&db, "a").await;
    let crowns = format!("{HEADER}{}", three_days().concat()).replace("EUR", "NOK");
    let refused = import_as(&db, &account, &crowns, |_| {}, true).await.unwrap_err();
    let way_out = "or import it into an account in NOK";
    assert!(refused.to_string().contains(way_out), "{refused}");
    let plain = "date,campaign,impressions,clicks,spend,conversions\n2026-11-01,Spring,10,1,1,0\n";
    let chosen = import_as(
        &db,
        &account,
        plain,
        |m| {
            m.channel = Some("Findle".into());
            m.currency = Some("NOK".into())
        },
        false,
    )
    .await;
    assert!(chosen.unwrap_err().to_string().contains("convert the money"));
    let none = import_as(&db, &account, plain, |_| {}, false).await;
    assert!(none.unwrap_err().to_string().contains("name the channel"));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_mapping_is_remembered_for_its_source(db: PgPool) {
    let account = account(&db, "a").await;
    let text = "day;Kampagne;impr;clicks;cost;orders\n1.11.2026;Spring;1.000;10;25,50;2\n";
    let adjust = |m: &mut tiller_channel::report::Mapping| {
        m.columns[1] = Some(tiller_channel::report::Column::Campaign);
        m.channel = Some("Findle".into());
    };
    let done = import_as(&db, &account, text, adjust, false).await.unwrap();
    assert_eq!(done.state, ImportState::Done, "{:?}", done.message);
    let again = import(&db, &account, &text.replace("1.11.", "2.11.")).await;
    assert_eq!(again.state, ImportState::Done, "the second time needs no help");
    let total =
        book(&db, &account).await.total(Window::new(day("2026-11-01"), day("2026-11-02")).unwrap());
    assert_eq!((total.impressions, total.spend), (2000, Micros::parse("51").unwrap()));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_worker_that_died_is_replaced(db: PgPool) {
    let account = account(&db, "a").await;
    let text = format!("{HEADER}{}", three_days().concat());
    let stream = futures::stream::iter([Ok::<_, std::io::Error>(bytes::Bytes::from(text))]);
    let id = reports::upload(&db, &account, Sender::Nobody, "x.csv", stream).await.unwrap();
    let mapping = reports::preview(&db, &account, id).await.unwrap().mapping;
    reports::start(&db, &account, id, &mapping).await.unwrap();
    assert!(tiller_store::imports::claim(&db).await.unwrap().is_some());
    assert!(
        !tiller_desk::jobs::import::run_next(&db).await.unwrap(),
        "a living worker keeps its claim"
    );
    sqlx::query("UPDATE report_import SET claimed_at = now() - interval '2 minutes'")
        .execute(&db)
        .await
        .unwrap();
    assert!(tiller_desk::jobs::import::run_next(&db).await.unwrap());
    assert_eq!(reports::get(&db, &account, id).await.unwrap().state, ImportState::Done);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn accounts_do_not_see_each_other(db: PgPool) {
    let (a, b) = (account(&db, "a").await, account(&db, "b").await);
    let done = import(&db, &a, &format!("{HEADER}{}", three_days().concat())).await;
    assert!(matches!(reports::get(&db, &b, done.id).await, Err(DeskError::NotFound(_))));
    assert!(matches!(reports::undo(&db, &b, done.id).await, Err(DeskError::Invalid(_))));
    assert_eq!(everything(&db, &b).await, Default::default());
    let campaign = book(&db, &a).await.entries[0].campaign.id;
    assert!(matches!(
        decisions::decide(&db, b.id, None, Some(campaign), &Own::Target(None)).await,
        Err(DeskError::NotFound(_))
    ));
}

/// Rows of a random small report: no two for one item and day.
fn any_report() -> impl proptest::strategy::Strategy<Value = Vec<String>> {
    use proptest::prelude::*;
    let key = (1u32..5, 0u32..3, 0u32..4);
    let counts = (0u32..60, 0u32..9000, 0u32..12);
    prop::collection::btree_map(key, counts, 1..30).prop_map(|cells| {
        let mut rows = Vec::new();
        for ((day, campaign, item), (clicks, cents, quarters)) in cells {
            let (date, spend) =
                (format!("2026-11-0{day}"), format!("{}.{:02}", cents / 100, cents % 100));
            let conversions = (f64::from(quarters) / 4.0).to_string();
            rows.push(row(
                &date,
                &format!("Campaign {campaign}"),
                &format!("item {item}"),
                clicks,
                &spend,
                &conversions,
            ));
        }
        rows
    })
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn any_report_in_any_order_any_number_of_times(db: PgPool) {
    use proptest::prelude::*;
    use proptest::strategy::ValueTree;
    let mut runner = proptest::test_runner::TestRunner::deterministic();
    for case in 0..8 {
        let rows = any_report().new_tree(&mut runner).unwrap().current();
        let shuffled = Just(rows.clone()).prop_shuffle().new_tree(&mut runner).unwrap().current();
        let (a, b) =
            (account(&db, &format!("a{case}")).await, account(&db, &format!("b{case}")).await);
        import(&db, &a, &format!("{HEADER}{}", rows.concat())).await;
        import(&db, &b, &format!("{HEADER}{}", shuffled.concat())).await;
        let first = everything(&db, &a).await;
        assert_eq!(everything(&db, &b).await, first, "case {case}: the order of rows is no matter");
        let again = import(&db, &a, &format!("{HEADER}{}", shuffled.concat())).await;
        assert_eq!(everything(&db, &a).await, first, "case {case}: a second time changes nothing");
        reports::undo(&db, &a, again.id).await.unwrap();
        assert_eq!(everything(&db, &a).await, first, "case {case}: undone, the first stands");
    }
}

/// Eighty years of days would make a part of each table for each quarter: more than a database has locks for, and everybody's.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_report_is_of_ten_years_at_most_and_makes_parts_by_quarter(db: PgPool) {
    let account = account(&db, "a").await;
    let months = |years: std::ops::Range<i32>| -> String {
        let month = |y, m| row(&format!("{y}-{m:02}-15"), "Spring", "course", 10, "25.5", "2");
        years.flat_map(|y| (1..=12).map(move |m| month(y, m))).collect()
    };
    let parts = async || {
        let sql = "SELECT count(*) FROM pg_inherits WHERE inhparent = 'item_day'::regclass";
        sqlx::query_scalar::<_, i64>(sql).fetch_one(&db).await.unwrap()
    };
    let refused = import(&db, &account, &format!("{HEADER}{}", months(2010..2090))).await;
    assert_eq!(refused.state, ImportState::Failed);
    let message = refused.message.unwrap();
    assert!(
        message.contains("15 Jan 2010 to 15 Dec 2089") && message.contains("ten years"),
        "{message}"
    );
    assert_eq!(parts().await, 0);
    let done = import(&db, &account, &format!("{HEADER}{}", months(2016..2026))).await;
    assert_eq!((done.state, done.rows_kept), (ImportState::Done, 120));
    assert_eq!(parts().await, 40);
}

/// While one account's facts are being written, another may need a part that is not there yet: nobody waits for anybody.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn new_parts_wait_for_nobody(db: PgPool) {
    let (mine, theirs) = (account(&db, "a").await, account(&db, "b").await);
    import(&db, &mine, &format!("{HEADER}{}", three_days().concat())).await;
    let mut long = db.acquire().await.unwrap();
    sqlx::raw_sql(
        "BEGIN; UPDATE item_day SET clicks = clicks; UPDATE conversion_day SET count = count",
    )
    .execute(&mut *long)
    .await
    .unwrap();
    let other = format!("{HEADER}{}", row("2024-05-02", "Spring", "course", 12, "30", "4"));
    let done =
        tokio::time::timeout(std::time::Duration::from_secs(20), import(&db, &theirs, &other));
    assert_eq!(done.await.expect("it does not wait").state, ImportState::Done);
    sqlx::raw_sql("ROLLBACK").execute(&mut *long).await.unwrap();
}

/// Names and headers of any length, and what is no text: told, or taken in, and never left hanging.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn text_that_can_not_be_kept_is_told(db: PgPool) {
    let account = account(&db, "a").await;
    let extra = format!("{},{}\n", HEADER.trim(), "x".repeat(5_000));
    let wide = row("2026-11-01", "Spring", "course", 10, "25.5", "2");
    let done = import(&db, &account, &format!("{extra}{}", wide.replace('\n', ",1\n"))).await;
    assert_eq!((done.state, done.message), (ImportState::Done, None));
    let again = format!("{extra}{}", wide.replace('\n', ",2\n"));
    let body = futures::stream::iter([Ok::<_, std::io::Error>(bytes::Bytes::from(again))]);
    let id = reports::upload(&db, &account, Sender::Nobody, "again.csv", body).await.unwrap();
    let preview = reports::preview(&db, &account, id).await.unwrap();
    assert!(preview.remembered, "however long its headers are");
    let mut mapping = preview.mapping;
    for (channel, says) in
        [("x".repeat(5_000), "longer than 500 bytes"), ("Fin\0dle".into(), "U+0000")]
    {
        mapping.channel = Some(channel);
        let error = reports::start(&db, &account, id, &mapping).await.unwrap_err();
        assert!(error.to_string().contains(says), "{error}");
    }
    // A NUL far behind what the preview looks at, in a cell that can't be read besides.
    let good: String =
        (0..4_000).map(|n| row("2026-11-01", "Spring", &format!("c{n}"), 1, "1", "0")).collect();
    let bad = row("2026-11-02", "Spr\0ing", "course", 1, "1\0", "0");
    let done = import(&db, &account, &format!("{HEADER}{good}{bad}")).await;
    assert_eq!((done.state, done.error_count), (ImportState::Decide, 2), "{:?}", done.message);
    let errors = reports::errors(&db, &account, done.id, 10).await.unwrap();
    assert!(errors.iter().all(|e| !e.found.contains('\0')), "{errors:?}");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_file_that_kills_its_reader_is_left_alone_after_the_second_time(db: PgPool) {
    let account = account(&db, "a").await;
    let text = format!("{HEADER}{}", three_days().concat());
    let body = futures::stream::iter([Ok::<_, std::io::Error>(bytes::Bytes::from(text))]);
    let id = reports::upload(&db, &account, Sender::Nobody, "deadly.csv", body).await.unwrap();
    let mapping = reports::preview(&db, &account, id).await.unwrap().mapping;
    reports::start(&db, &account, id, &mapping).await.unwrap();
    for _ in 0..2 {
        // Whoever takes it up dies.
        tiller_store::imports::claim(&db).await.unwrap().unwrap();
        sqlx::raw_sql("UPDATE report_import SET claimed_at = now() - interval '2 minutes'")
            .execute(&db)
            .await
            .unwrap();
    }
    assert!(!tiller_desk::jobs::import::run_next(&db).await.unwrap(), "nobody tries a third time");
    let left = reports::get(&db, &account, id).await.unwrap();
    assert_eq!(left.state, ImportState::Failed);
    assert!(left.message.unwrap().contains("stopped twice"));
    // The file is kept: its columns can be chosen again.
    reports::back(&db, &account, id).await.unwrap();
    assert_eq!(reports::get(&db, &account, id).await.unwrap().state, ImportState::Mapping);
}
