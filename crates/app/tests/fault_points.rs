//! A process ended at every step of an import, a fetch and a batch: what is in the database in the end is what a run without a
//! fault leaves, row by row, and the market has made each change once.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::fmt::Write as _;
use std::os::unix::process::ExitStatusExt;
use std::path::Path;
use std::process::Stdio;

use tiller_channel::Micros;
use tiller_core::setting::Budget;
use tiller_core::{Price, Target};
use tiller_desk::account::{self, connections};
use tiller_desk::{Account, PgPool, jobs};
use tiller_store::MIGRATIONS;
use tiller_store::fault::{Point, VARIABLE};
use tiller_store::people::NewAccount;

use crate::common::{
    Program, Scene, a_minute_passes, channels, count, open, server_that, start, until,
};

/// What passes a point.
#[derive(Clone, Copy, PartialEq)]
enum Way {
    Import,
    Fetch,
    Batch,
}

/// A new point has to be put on its way here.
fn ways(point: Point) -> &'static [Way] {
    match point {
        Point::FileArriving | Point::FileArrived | Point::RowsWritten => &[Way::Import, Way::Fetch],
        Point::ImportClaimed | Point::ImportMerged | Point::ImportFollowed => &[Way::Import],
        Point::FetchClaimed
        | Point::StructureKept
        | Point::SomeStaged
        | Point::AllStaged
        | Point::FetchMerged
        | Point::ReplacedForgotten
        | Point::FetchFollowed
        | Point::FetchEnded => &[Way::Fetch],
        Point::BatchClaimed | Point::BatchSealed | Point::BatchAnswered | Point::AnswerKept => {
            &[Way::Batch]
        }
    }
}

fn points(way: Way) -> impl Iterator<Item = Point> {
    Point::ALL.into_iter().filter(move |point| ways(*point).contains(&way))
}

/// All that an account knows, by names and not by numbers, each row as text.
const KNOWN: &str = "
    WITH place AS (SELECT i.id, concat_ws('/', h.name, c.name, g.name, i.kind, i.name, i.match_type) AS name
        FROM item i JOIN ad_group g ON g.id = i.ad_group_id AND g.account_id = i.account_id
        JOIN campaign c ON c.id = g.campaign_id AND c.account_id = g.account_id
        JOIN channel h ON h.id = c.channel_id AND h.account_id = c.account_id WHERE i.account_id = $1)
    SELECT 'item ' || p.name || (to_jsonb(i) - '{account_id,id,ad_group_id}'::text[])::text FROM place p JOIN item i ON i.account_id = $1 AND i.id = p.id
    UNION ALL SELECT 'item day ' || p.name || (to_jsonb(f) - '{account_id,item_id,import_id}'::text[])::text
        FROM item_day f JOIN place p ON p.id = f.item_id WHERE f.account_id = $1
    UNION ALL SELECT 'conversion ' || p.name || (to_jsonb(f) - '{account_id,item_id,import_id}'::text[])::text
        FROM conversion_day f JOIN place p ON p.id = f.item_id WHERE f.account_id = $1
    UNION ALL SELECT 'term ' || p.name || t.text || (to_jsonb(f) - '{account_id,item_id,term_id}'::text[])::text
        FROM term_day f JOIN place p ON p.id = f.item_id JOIN term t ON t.account_id = $1 AND t.id = f.term_id WHERE f.account_id = $1
    UNION ALL SELECT 'campaign ' || (to_jsonb(c) - '{account_id,id,channel_id}'::text[])::text FROM campaign c WHERE c.account_id = $1
    UNION ALL SELECT 'day ' || c.name || (to_jsonb(f) - '{account_id,campaign_id}'::text[])::text
        FROM campaign_day f JOIN campaign c ON c.account_id = $1 AND c.id = f.campaign_id WHERE f.account_id = $1
    UNION ALL SELECT 'event day ' || c.name || (to_jsonb(f) - '{account_id,campaign_id}'::text[])::text
        FROM campaign_event_day f JOIN campaign c ON c.account_id = $1 AND c.id = f.campaign_id WHERE f.account_id = $1
    UNION ALL SELECT 'segment day ' || g.name || (to_jsonb(f) - '{account_id,ad_group_id}'::text[])::text
        FROM segment_day f JOIN ad_group g ON g.account_id = $1 AND g.id = f.ad_group_id WHERE f.account_id = $1
    UNION ALL SELECT 'channel segment ' || h.name || (to_jsonb(f) - '{account_id,channel_id}'::text[])::text
        FROM channel_segment_day f JOIN channel h ON h.account_id = $1 AND h.id = f.channel_id WHERE f.account_id = $1
    UNION ALL SELECT 'curve ' || c.name || coalesce(g.name, '') || (to_jsonb(f) - '{account_id,campaign_id,ad_group_id,fitted_at}'::text[])::text
        FROM response_curve f JOIN campaign c ON c.account_id = $1 AND c.id = f.campaign_id
        LEFT JOIN ad_group g ON g.account_id = $1 AND g.id = f.ad_group_id WHERE f.account_id = $1
    UNION ALL SELECT 'statement ' || coalesce(c.name, '') || (to_jsonb(s) - '{account_id,id,campaign_id,kept_on}'::text[])::text
        FROM statement s LEFT JOIN campaign c ON c.account_id = $1 AND c.id = s.campaign_id WHERE s.account_id = $1
    UNION ALL SELECT 'learned ' || concat_ws(' ', settle_days, stated_until) FROM account WHERE id = $1
    UNION ALL SELECT 'import ' || concat_ws(' ', rows_kept, error_count, first_day, last_day, followed, mapping)
        FROM report_import WHERE account_id = $1 AND state = 'done'
    UNION ALL SELECT 'columns ' || source || mapping::text FROM report_mapping WHERE account_id = $1
    UNION ALL SELECT 'in the way ' || state FROM report_import WHERE account_id = $1 AND state NOT IN ('done', 'uploading', 'mapping')
    UNION ALL SELECT 'replaced ' || count(*) FROM replaced_item_day WHERE account_id = $1
    ORDER BY 1";

async fn known(db: &PgPool, account: &Account) -> Vec<String> {
    sqlx::query_scalar(KNOWN).bind(account.id.0).fetch_all(db).await.unwrap()
}

/// The first rows in which two accounts differ.
fn same(point: Point, expected: &[String], found: &[String]) {
    let lacks: Vec<_> = expected.iter().filter(|row| !found.contains(row)).take(3).collect();
    let more: Vec<_> = found.iter().filter(|row| !expected.contains(row)).take(3).collect();
    assert!(lacks.is_empty() && more.is_empty(), "{point:?}: lacks {lacks:#?}, has {more:#?}");
    assert_eq!(expected.len(), found.len(), "{point:?}: rows twice");
}

async fn another(db: &PgPool, slug: &str) -> Account {
    let name = format!("Amberfold {slug}");
    let (currency, time_zone) = ("EUR", "Europe/Copenhagen");
    let new = NewAccount { slug, name: &name, currency, time_zone };
    let id = account::add(db, &new).await.unwrap();
    account::set_default_target(db, id, Some(Target::Cpa(Price(30.0)))).await.unwrap();
    account::by_slug(db, slug).await.unwrap()
}

/// Waits for a process to end at the point that it was told of.
async fn ends(point: Point, mut process: Program) {
    let mut how = None;
    until(point.word(), async || {
        how = process.0.try_wait().unwrap();
        how.is_some()
    })
    .await;
    assert_eq!(how.unwrap().signal(), Some(6), "{point:?} is where it ended");
}

/// Does all that waits here, after what died has been silent for long enough.
async fn take_up(db: &PgPool) {
    a_minute_passes(db).await;
    while jobs::import::run_next(db).await.unwrap()
        || jobs::send::run_next(db, &channels()).await.unwrap()
        || jobs::fetch::run_next(db, &channels()).await.unwrap()
    {}
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_fetch_that_ends_anywhere_leaves_what_one_without_a_fault_does(db: PgPool) {
    let (s, _market, url) = open(db).await;
    let db = &s.db;
    let connect = async |account: &Account| {
        connections::connect(db, &channels(), account, &s.address, "test-token").await.unwrap();
    };
    connect(&s.account).await;
    take_up(db).await;
    let expected = known(db, &s.account).await;
    assert!(expected.iter().filter(|row| row.starts_with("item day")).count() > 100);
    assert!(expected.iter().any(|row| row.starts_with("conversion")));
    for point in points(Way::Fetch) {
        let account = another(db, point.word()).await;
        connect(&account).await;
        ends(point, server_that(&url, &[(VARIABLE, point.word())])).await;
        take_up(db).await;
        same(point, &expected, &known(db, &account).await);
    }
    std::fs::remove_dir_all(&s.folder).unwrap();
}

/// Forty days of three campaigns, with conversions that come and go.
fn report() -> String {
    let mut text = String::from(
        "Date,Channel,Campaign,Ad group,Keyword,Match type,Impressions,Clicks,Cost,Conversions\n",
    );
    for n in 0..40u32 {
        let day =
            chrono::NaiveDate::from_ymd_opt(2026, 10, 1).unwrap() + chrono::Days::new(n.into());
        for (campaign, clicks) in [("Hives, search", 40), ("Smokers", 25), ("Beginner film", 60)] {
            let clicks = clicks + (n * 7 + clicks) % 11;
            let (cost, won) = (f64::from(clicks) * 0.85, (n + clicks) % 5);
            writeln!(
                text,
                "{day},Findle,\"{campaign}\",All,hives,exact,{},{clicks},{cost:.2},{won}",
                clicks * 30
            )
            .unwrap();
        }
    }
    text
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn an_import_that_ends_anywhere_leaves_what_one_without_a_fault_does(db: PgPool) {
    let (s, _market, url) = open(db).await;
    let db = &s.db;
    let file = s.folder.join("report.csv");
    std::fs::write(&file, report()).unwrap();
    let expected = another(db, "without").await;
    import(&url, &file, &expected, &[]).wait().unwrap();
    let expected = known(db, &expected).await;
    assert_eq!(expected.iter().filter(|row| row.starts_with("item day")).count(), 120);
    for point in points(Way::Import) {
        let account = another(db, point.word()).await;
        ends(point, Program(import(&url, &file, &account, &[(VARIABLE, point.word())]))).await;
        take_up(db).await;
        if known(db, &account).await.iter().all(|row| !row.starts_with("import")) {
            // It never came as far as the queue: whoever sent it sends it again.
            import(&url, &file, &account, &[]).wait().unwrap();
        }
        same(point, &expected, &known(db, &account).await);
    }
    std::fs::remove_dir_all(&s.folder).unwrap();
}

fn import(
    database: &str,
    file: &Path,
    account: &Account,
    more: &[(&str, &str)],
) -> std::process::Child {
    start(&["import", "--account", &account.slug], &[("DATABASE_URL", database)])
        .arg(file)
        .envs(more.iter().copied())
        .stdout(Stdio::null())
        .spawn()
        .unwrap()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_batch_that_ends_anywhere_is_made_once_and_told_of(db: PgPool) {
    let (s, _market, url) = open(db).await;
    let db = &s.db;
    connections::connect(db, &channels(), &s.account, &s.address, "test-token").await.unwrap();
    take_up(db).await;
    for (n, point) in (1..).zip(points(Way::Batch)) {
        let budget = 120 + n;
        s.send("Names, search", &budget.to_string()).await;
        ends(point, server_that(&url, &[(VARIABLE, point.word())])).await;
        take_up(db).await;
        let set = Budget::Daily { amount: Micros::from_units(f64::from(budget)) };
        assert_eq!(s.budget_at_market("Names, search").await, Some(set), "{point:?}");
        assert_eq!(s.batches_lived(), n as usize, "{point:?}: made once");
        assert_eq!(s.made().await, n as usize, "{point:?}: told of once");
        assert_eq!(budget_here(&s).await, Some(set), "{point:?}: fetched since");
        let open = "SELECT count(*) FROM change_batch WHERE state <> 'answered'";
        assert_eq!(count(db, open).await, 0, "{point:?}");
    }
    std::fs::remove_dir_all(&s.folder).unwrap();
}

/// The budget as it is known here.
async fn budget_here(s: &Scene) -> Option<Budget> {
    let sql = "SELECT settings -> 'budget' FROM campaign WHERE name = 'Names, search'";
    let json: serde_json::Value = sqlx::query_scalar(sql).fetch_one(&s.db).await.unwrap();
    serde_json::from_value(json).unwrap()
}
