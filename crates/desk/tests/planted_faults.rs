//! The demo's planted faults are found with the verdicts that docs/demo.md names, and nothing else is accused.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::collections::HashMap;
use tiller_core::Price;

use crate::common::{book, day, demo_account};
use tiller_core::spot::Subject;
use tiller_core::tracking::Finding;
use tiller_core::verdict::{LimitedBy, Verdict};
use tiller_desk::book::Judged;
use tiller_desk::{PgPool, causes, plans};
use tiller_store::MIGRATIONS;

fn verdicts(book: &tiller_desk::book::Book) -> HashMap<String, Judged> {
    book.entries
        .iter()
        .zip(book.judge_all())
        .filter_map(|(e, j)| Some((e.campaign.name.clone(), j.clone()?)))
        .collect()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_school(db: PgPool) {
    let account = demo_account(&db, "school", day("2026-11-09")).await;
    let book = book(&db, &account).await;
    let all = verdicts(&book);
    let verdict = |name: &str| (all[name].diagnosis.verdict, all[name].diagnosis.leans);
    // Fault 1: half as much again a click as the target affords.
    assert_eq!(verdict("Spring courses, search"), (Verdict::Bid, None));
    let spring = &all["Spring courses, search"];
    let over = spring.tally.cpc().unwrap() / spring.diagnosis.affordable.unwrap().cautious;
    assert!((1.35..1.65).contains(&over), "{over}");
    // Fault 2.
    assert_eq!(verdict("Apiary visits, display"), (Verdict::Traffic, None));
    // Fault 5: as a whole it reaches the wrong people; which, its segments tell.
    assert_eq!(verdict("Queen rearing, feed"), (Verdict::Traffic, None));
    // Fault 4: dreadful to look at.
    let film = &all["Beginner film"];
    assert_eq!(film.diagnosis.verdict, Verdict::TooEarly);
    assert!(film.tally.cpa().is_none_or(|cpa| cpa > Price(45.0)), "{:?}", film.tally.cpa());
    // Fault 15: the account meets its target all the same.
    assert!(book.meets_target(book.settled().unwrap()).unwrap().with_brand());
    let accused: Vec<_> = all
        .iter()
        .filter(|(_, j)| !matches!(j.diagnosis.verdict, Verdict::OnTarget | Verdict::TooEarly))
        .map(|(n, _)| n)
        .collect();
    assert_eq!(accused.len(), 3, "{accused:?}");
    // The worst stands first, with a trade-off that keeps part of the volume.
    let ranked = causes::ranked(&book);
    assert_eq!(ranked[0].0.campaign.name, "Spring courses, search");
    let examined =
        causes::examine(&db, &book, Subject::Campaign(ranked[0].0.campaign.id)).await.unwrap();
    let trade = examined.trade_off.unwrap();
    assert!(trade.then.low < trade.then.high && trade.then.high <= trade.now);
    assert!(trade.cpa < spring.tally.cpa().unwrap());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_shop(db: PgPool) {
    let account = demo_account(&db, "supply", day("2026-11-09")).await;
    let book = book(&db, &account).await;
    let all = verdicts(&book);
    // Fault 3: silent for nine days, of which seven have settled.
    let silent = &all["Extractors, search"];
    assert_eq!(silent.diagnosis.verdict, Verdict::Measurement);
    assert!(
        matches!(silent.findings[..], [Finding::Silent { since, days: 7, .. }] if since == day("2026-11-01")),
        "{:?}",
        silent.findings
    );
    // Fault 9: the strong one is held by its budget, the weak one has money to spare, since it loses auctions
    // for want of bid; a plan moves money.
    assert_eq!(all["Hive kits, search"].diagnosis.limited_by, LimitedBy::Budget);
    assert_eq!(all["Jars, search"].diagnosis.limited_by, LimitedBy::Bid);
    let ids: Vec<_> = book.entries.iter().map(|e| e.campaign.id).collect();
    let (_, known) = plans::known(&db, &book).await.unwrap();
    let file = plans::draft(&book, &known, &ids).unwrap();
    assert!(
        file.lines.iter().all(|l| l.id != "Extractors, search"),
        "what can't be trusted is not planned"
    );
    let tiller_core::allocation::Answer::Optimal(solved) = plans::work(&file).answer else {
        panic!()
    };
    let change = |name: &str| {
        let i = file.lines.iter().position(|l| l.id == name).unwrap();
        solved.lines[i].budget - file.lines[i].current
    };
    assert!(change("Hive kits, search") > 0.0 && change("Jars, search") < 0.0);
    let accused: Vec<_> = all
        .iter()
        .filter(|(_, j)| !matches!(j.diagnosis.verdict, Verdict::OnTarget | Verdict::TooEarly))
        .map(|(n, _)| n.as_str())
        .collect();
    assert!(
        accused.iter().all(|n| ["Extractors, search", "Jars, search"].contains(n)),
        "{accused:?}"
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn parts_add_up_to_their_campaign(db: PgPool) {
    let account = demo_account(&db, "norge", day("2026-11-09")).await;
    let book = book(&db, &account).await;
    let window = book.settled().unwrap();
    for entry in &book.entries {
        let items =
            tiller_desk::book::items(&db, &book, Some(entry.campaign.id), window).await.unwrap();
        let sum: tiller_core::Tally = items.iter().map(|i| i.tally).sum();
        assert_eq!(sum, entry.tally(window), "{}", entry.campaign.name);
        let group = Subject::AdGroup(items[0].ad_group);
        let examined = causes::examine(&db, &book, group).await.unwrap();
        assert_eq!(examined.campaign, entry.campaign.name);
        assert!(examined.judged.is_some() && !examined.days.is_empty());
        let item = causes::examine(&db, &book, Subject::Item(items[0].item)).await.unwrap();
        assert_eq!(item.judged.unwrap().tally, items[0].tally);
    }
}
