//! How often a campaign of the demo that has no planted fault is blamed for one, over seeds of its world.
//! Two seeds as a check; as many as SEEDS says for docs/performance.md (SEEDS=20, with --nocapture).
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::book;
use crate::common::market::{alike_amberfold, amberfold, practice};
use tiller_core::verdict::Verdict;
use tiller_core::{Price, Target};
use tiller_desk::PgPool;
use tiller_desk::causes::findings;
use tiller_store::MIGRATIONS;

/// Campaigns with a planted fault (docs/demo.md), or too small to be judged at all.
const FAULTY: [&str; 15] = [
    "Spring courses, search",
    "Apiary visits, display",
    "Extractors, search",
    "Beginner film",
    "Queen rearing, feed",
    "Evening calls, feed",
    "Shop listings",
    "Stall, jars",
    "Hive kits, search",
    "Jars, search",
    "Beginner sets, feed",
    "Visit enquiries, search",
    "Jar listings",
    "New pictures, feed",
    "Smokers, search",
];

#[sqlx::test(migrator = "MIGRATIONS")]
async fn healthy_campaigns_are_left_in_peace(db: PgPool) {
    let seeds: u32 = std::env::var("SEEDS").map_or(2, |text| text.parse().unwrap());
    let (mut healthy, mut blamed, mut audited, mut adjusted) = (0, 0, 0, 0);
    for seed in 1..=seeds {
        let market = amberfold(seed.into()).await;
        for (key, target) in [("school", Target::Cpa(Price(30.0))), ("supply", Target::Roas(4.0))] {
            let account = practice(&db, &market, key, seed.into(), target).await;
            let book = book(&db, &account).await;
            let judged = book.judge_all();
            for (entry, judged) in book.entries.iter().zip(judged) {
                if FAULTY.contains(&entry.campaign.name.as_str()) {
                    continue;
                }
                healthy += 1;
                let verdict = judged.as_ref().map(|j| j.diagnosis.verdict);
                let fault = !matches!(verdict, None | Some(Verdict::OnTarget | Verdict::TooEarly));
                let found = findings::of_campaign(&db, &book, entry.campaign.id).await.unwrap();
                let hours = found.people.iter().filter(|d| d.by.word() == "hour");
                let hours = hours.flat_map(|d| &d.rows).count();
                let faults = found.audit.len() + found.searches.waste.len() + hours;
                let people = found.people.iter().flat_map(|d| &d.rows);
                blamed += u32::from(fault);
                audited += u32::from(faults > 0);
                adjusted += u32::from(people.filter(|r| r.found.is_some()).count() > 0);
                if fault || faults > 0 {
                    println!("seed {seed}: {} {verdict:?} {faults}", entry.campaign.name);
                }
            }
        }
        println!(
            "seed {seed}: of {healthy} so far, verdict against {blamed}, findings {audited}, bids for people {adjusted}"
        );
    }
    let share = |n: u32| 100.0 * f64::from(n) / f64::from(healthy);
    println!(
        "{healthy} healthy campaigns: verdict against {blamed} ({:.1}%), settings, hours or searches {audited} ({:.1}%), bids for people {adjusted} ({:.1}%)",
        share(blamed),
        share(audited),
        share(adjusted)
    );
    assert!(healthy >= 8 * seeds, "the world has healthy campaigns");
    assert!(20 * blamed <= healthy && 20 * audited <= healthy, "more than one in twenty is blamed");
}

/// Nominal: of campaigns whose people are all alike, at most 10% are offered another bid for some of them.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn people_who_are_all_alike_are_seldom_told_apart(db: PgPool) {
    let seeds: u32 = std::env::var("SEEDS").map_or(1, |text| text.parse().unwrap());
    let (mut campaigns, mut adjusted) = (0, 0);
    for seed in 1..=seeds {
        let market = alike_amberfold(seed.into()).await;
        for (key, target) in [("school", Target::Cpa(Price(30.0))), ("supply", Target::Roas(4.0))] {
            let account = practice(&db, &market, key, seed.into(), target).await;
            let book = book(&db, &account).await;
            for entry in book.entries.iter().filter(|e| !FAULTY.contains(&e.campaign.name.as_str()))
            {
                let found = findings::of_campaign(&db, &book, entry.campaign.id).await.unwrap();
                let told: Vec<_> = found
                    .people
                    .iter()
                    .flat_map(|d| &d.rows)
                    .filter(|r| r.found.is_some())
                    .collect();
                campaigns += 1;
                adjusted += u32::from(!told.is_empty());
                for r in told {
                    println!("seed {seed}: {}, {}", entry.campaign.name, r.segment);
                }
            }
        }
    }
    println!(
        "{campaigns} campaigns with people who are all alike: other bids for some of {adjusted}"
    );
    assert!(10 * adjusted <= campaigns, "{adjusted} of {campaigns}");
}
