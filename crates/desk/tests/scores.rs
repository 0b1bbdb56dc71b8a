//! What was stated is kept and checked: of evenings gone by from what had been reported by then, and as days pass.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::collections::BTreeSet;

use crate::common::book;
use crate::common::market::{amberfold_days, calm_amberfold, channels, days_of, practice};
use crate::common::scene::Scene;
use tiller_core::score::{Kind, Step};
use tiller_core::setting::{Budget, Setting, Status};
use tiller_core::spot::Subject;
use tiller_core::window::later;
use tiller_core::{Micros, Price, Target, Window};
use tiller_desk::account::connections;
use tiller_desk::account::settings::Settings;
use tiller_desk::budgets::curves::Curves;
use tiller_desk::scores::{self, Row, Score, words};
use tiller_desk::tray::Edit;
use tiller_desk::tray::proposal::{Origin, Proposal};
use tiller_desk::{PgPool, courses, measure, tray};
use tiller_market::http::Faults;
use tiller_market::world::{AMBERFOLD, LARGE_SHOP, THIN_LEADS};
use tiller_store::MIGRATIONS;

async fn rows(db: &PgPool, s: &Scene) -> Vec<Row> {
    let now = book(db, &s.account).await;
    scores::rows(db, &now).await.unwrap()
}

async fn score(db: &PgPool, s: &Scene) -> std::sync::Arc<Score> {
    let now = book(db, &s.account).await;
    scores::of_account(db, &now).await.unwrap()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_was_stated_is_checked_once_its_days_are_known(db: PgPool) {
    let market = amberfold_days(1).await;
    let account = practice(&db, &market, "school", 1, Target::Cpa(Price(30.0))).await;
    let s = Scene::of(&db, market, account).await;
    let first = rows(&db, &s).await;
    let evenings: BTreeSet<_> = first.iter().map(|r| r.said_on).collect();
    assert!(evenings.len() >= 4, "evenings before the account was kept: {evenings:?}");
    let at: Vec<_> = evenings.iter().collect();
    assert!(at.windows(2).all(|d| (*d[1] - *d[0]).num_days() == 14));
    let last = book(&db, &s.account).await.span.to();
    for r in &first {
        assert_eq!(r.truth.is_some() || r.void, r.due <= last, "{r:?}");
        assert!(r.kept_on >= r.said_on && r.from <= r.to && r.due >= r.to.min(last), "{r:?}");
    }
    // Nothing has begun that could be told of.
    for kind in [Kind::MonthSpend, Kind::Completed, Kind::Results, Kind::OverTarget] {
        assert!(first.iter().any(|r| r.kind == kind && r.truth.is_some()), "{kind:?}");
    }
    // The truth of a month is what the campaign spent in it.
    let month = first.iter().find(|r| r.kind == Kind::MonthSpend && r.truth.is_some()).unwrap();
    let now = book(&db, &s.account).await;
    let entry = now.entries.iter().find(|e| e.campaign.name == month.campaign).unwrap();
    let spent: f64 = entry
        .days
        .iter()
        .filter(|d| (month.from..=month.to).contains(&d.day))
        .map(|d| d.tally.spend.to_units())
        .sum();
    assert!((month.truth.unwrap() - spent).abs() < 1e-6);
    let before = score(&db, &s).await;
    assert_eq!(before.checked(), first.iter().filter(|r| r.truth.is_some()).count());
    assert!(before.afterwards > 0 && before.waiting.is_some());
    assert!(words::sentences(&before).len() > 3);
    // Nothing is said twice, and what is due is checked as days pass.
    s.days_pass(&db, 3).await;
    assert_eq!(
        rows(&db, &s).await.iter().filter(|r| evenings.contains(&r.said_on)).count(),
        first.len()
    );
    s.days_pass(&db, 18).await;
    let after = score(&db, &s).await;
    assert!(after.checked() > before.checked());
}

/// Channels are fetched one after the other: what is said of an evening is said of them all, once all have told of it.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn nothing_is_said_before_all_channels_have_told(db: PgPool) {
    let s = Scene::new(&db).await;
    let channels_of = |rows: &[Row]| {
        let first = rows.iter().map(|r| r.said_on).min().unwrap();
        let of = rows.iter().filter(|r| r.said_on == first).map(|r| r.campaign.clone());
        of.collect::<BTreeSet<_>>()
    };
    let before = rows(&db, &s).await;
    let said_of = channels_of(&before);
    assert!(
        said_of.contains("Neighbours, feed") && said_of.contains("Courses, search"),
        "{said_of:?}"
    );
    let checked = |rows: &[Row]| rows.iter().filter(|r| r.truth.is_some()).count();
    connections::let_pass(&db, channels(), &s.account, 21).await.unwrap();
    assert!(tiller_desk::jobs::fetch::run_next(&db, channels()).await.unwrap());
    let half = rows(&db, &s).await;
    assert_eq!((half.len(), checked(&half)), (before.len(), checked(&before)));
    s.settle(&db).await;
    let after = rows(&db, &s).await;
    assert!(after.len() > before.len() && checked(&after) > checked(&before));
    // One that has been silent for long keeps the others waiting no longer.
    let sql = "DELETE FROM sync_job WHERE state = 'queued' AND connection_id = (SELECT min(id) FROM connection)";
    connections::let_pass(&db, channels(), &s.account, 21).await.unwrap();
    sqlx::query(sql).execute(&db).await.unwrap();
    s.settle(&db).await;
    assert!(checked(&rows(&db, &s).await) > checked(&after));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_was_changed_meanwhile_does_not_count(db: PgPool) {
    let market = amberfold_days(1).await;
    let account = practice(&db, &market, "school", 1, Target::Cpa(Price(30.0))).await;
    let s = Scene::of(&db, market, account).await;
    let waits = |rows: &[Row], name: &str| {
        rows.iter().filter(|r| r.campaign == name && r.truth.is_none() && !r.void).count()
    };
    let name = "Own name, search";
    assert!(waits(&rows(&db, &s).await, name) > 0);
    let subject = Subject::Campaign(s.id(&db, name).await);
    let pause = Proposal::new(subject, Setting::Status(Status::Paused), Origin::Hand, "Because.");
    tray::propose(&db, &s.account, s.person, vec![pause]).await.unwrap();
    s.send(&db).await;
    s.days_pass(&db, 24).await;
    let all = rows(&db, &s).await;
    let of = |kind| all.iter().filter(move |r| r.campaign == name && r.kind == kind);
    assert!(of(Kind::MonthSpend).chain(of(Kind::OverTarget)).any(|r| r.void), "{all:?}");
    // What open days bring in the end is not changed by a pause.
    assert!(of(Kind::Completed).all(|r| !r.void));
    assert!(
        all.iter().any(|r| r.campaign != name
            && r.kind == Kind::OverTarget
            && !r.void
            && r.truth.is_some())
    );
    // What counts otherwise now is another matter altogether.
    let other = all
        .iter()
        .find(|r| r.campaign != name && r.truth.is_none() && !r.void)
        .unwrap()
        .campaign
        .clone();
    let now = book(&db, &s.account).await;
    let id = s.id(&db, &other).await;
    measure::choose(&db, &now, Some(s.person), id, Some(vec!["nothing".into()])).await.unwrap();
    assert_eq!(waits(&rows(&db, &s).await, &other), 0);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_begins_is_stated_by_the_evening_before_and_checked(db: PgPool) {
    let s = Scene::new(&db).await;
    let feed = s.id(&db, "Neighbours, feed").await;
    let search = s.id(&db, "Names, search").await;
    courses::experiment(&db, &s.account, s.person, feed, courses::Lever::Budget).await.unwrap();
    let subject = [Subject::Campaign(search)];
    tray::edit(&db, &s.account, s.person, &subject, Edit::Budget, "+10%", "").await.unwrap();
    s.send(&db).await;
    let evening = book(&db, &s.account).await.span.to();
    s.days_pass(&db, 1).await;
    let all = rows(&db, &s).await;
    let begun = || all.iter().filter(|r| matches!(r.kind, Kind::NewBudget | Kind::Measured));
    let names: Vec<_> = begun().map(|r| (r.kind, r.campaign.as_str(), r.said_on)).collect();
    assert_eq!(
        names,
        [
            (Kind::Measured, "Neighbours, feed", evening),
            (Kind::NewBudget, "Names, search", evening)
        ]
    );
    assert!(begun().all(|r| r.truth.is_none() && r.from == later(evening, 1)), "{all:?}");
    // Each is said once, however often figures come.
    for days in [6, 7, 7, 7, 4] {
        s.days_pass(&db, days).await;
    }
    let all = rows(&db, &s).await;
    let now = book(&db, &s.account).await;
    let [measured, new_budget] = [Kind::Measured, Kind::NewBudget].map(|kind| {
        let mut of = all.iter().filter(|r| r.kind == kind);
        let one = of.next().unwrap();
        assert!(of.next().is_none() && one.kept_on == later(evening, 1), "{all:?}");
        one
    });
    let curves = Curves::load(&db, &s.account).await.unwrap();
    let found = curves.of(feed).unwrap().1.curve.measured.unwrap().mean;
    assert!((measured.truth.unwrap() - found).abs() < 1e-9, "{measured:?} {found}");
    assert_eq!((measured.to - measured.from).num_days() + 1, 28);
    let (low, high) = (new_budget.low.unwrap(), new_budget.high.unwrap());
    let days = Window::new(new_budget.from, new_budget.to).unwrap();
    let tally = now.entry(search).unwrap().tally(days);
    // Stated of the money that was expected to be spent, so near that it hardly matters.
    assert!((new_budget.truth.unwrap() / tally.conversions - 1.0).abs() < 0.25, "{new_budget:?}");
    assert!(low < high && low < 1.5 * tally.conversions && high > 0.5 * tally.conversions);
    let score = score(&db, &s).await;
    assert!(score.of(Kind::Measured).is_some() && score.of(Kind::NewBudget).is_some());
}

/// Budgets are moved up and down every fifteen days, for no reason: what that brings lies in 80% of the ranges. One seed here;
/// `SEEDS=20` for the figures of docs/performance.md.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_new_budgets_bring_lies_where_it_was_said_to(db: PgPool) {
    let seeds = std::env::var("SEEDS").ok().and_then(|n| n.parse().ok()).unwrap_or(1);
    let mut all = Vec::new();
    for seed in 1..=seeds {
        let market = amberfold_days(seed).await;
        let account = practice(&db, &market, "school", seed, Target::Cpa(Price(30.0))).await;
        let s = Scene::of(&db, market, account).await;
        for round in 0..3 {
            let settings = Settings::of_account(&db, s.account.id).await.unwrap();
            let now = book(&db, &s.account).await;
            let moves = now.entries.iter().enumerate().filter_map(|(n, e)| {
                let set = settings.campaign(e.campaign.id)?;
                let Budget::Daily { amount } = set.budget? else { return None };
                let times = [1.25, 0.8, 1.1, 0.7][(n + round + seed as usize) % 4];
                let amount = Micros::from_units((amount.to_units() * times).round());
                let set = Setting::Budget(Budget::Daily { amount });
                let subject = Subject::Campaign(e.campaign.id);
                Some(Proposal::new(subject, set, Origin::Hand, "To see."))
            });
            tray::propose(&db, &s.account, s.person, moves.collect()).await.unwrap();
            s.send(&db).await;
            s.days_pass(&db, 1).await;
            s.days_pass(&db, 14).await;
        }
        s.days_pass(&db, 16).await;
        all.extend(rows(&db, &s).await);
    }
    let score = scores::of_rows(&all);
    let held = score.of(Kind::NewBudget).unwrap();
    eprintln!("{} of {} held, {:.0}%", held.held, held.said, 100.0 * held.share());
    assert!(held.said >= 15 && held.around.high >= 0.7 && held.around.low <= 0.9, "{held:?}");
}

/// Keys of accounts with their targets.
type Accounts = &'static [(&'static str, Target)];

/// Accounts of the worlds that ship, and one whose days differ by chance alone. Nominal: 80% of ranges hold, and what is stated with a probability comes true as
/// often. One seed here; `SEEDS=20`, and `WORLD` for one of the worlds, for the figures of docs/performance.md.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn ranges_hold_and_probabilities_come_true(db: PgPool) {
    const BOTH: Accounts = &[("school", Target::Cpa(Price(30.0))), ("supply", Target::Roas(4.0))];
    const RENTAL: Accounts = &[("rental", Target::Cpa(Price(120.0)))];
    const BAZAAR: Accounts = &[("bazaar", Target::Roas(3.5))];
    let seeds = std::env::var("SEEDS").ok().and_then(|n| n.parse().ok()).unwrap_or(1);
    let worlds: [(&str, &str, Accounts); 4] = [
        ("amberfold", AMBERFOLD, BOTH),
        ("calm amberfold", AMBERFOLD, BOTH),
        ("thin_leads", THIN_LEADS, RENTAL),
        ("large_shop", LARGE_SHOP, BAZAAR),
    ];
    let only = std::env::var("WORLD").ok();
    for (n, (name, world, accounts)) in worlds.into_iter().enumerate() {
        if only.as_ref().is_some_and(|only| only != name) {
            continue;
        }
        let mut all = Vec::new();
        for seed in 1..=seeds {
            let market =
                if n == 1 { calm_amberfold(seed).await } else { days_of(world, seed).await };
            market.service.set_faults(Faults { no_splits: true, ..Faults::default() });
            for (key, target) in accounts {
                let account = practice(&db, &market, key, 1000 * n as u64 + seed, *target).await;
                let now = book(&db, &account).await;
                all.extend(scores::rows(&db, &now).await.unwrap());
            }
        }
        let score = scores::of_rows(&all);
        for (kind, held) in &score.ranges {
            eprintln!(
                "{name}, {kind:?}: {} of {} held, {:.0}%",
                held.held,
                held.said,
                100.0 * held.share()
            );
            // As far as so few tell, between 70 and 90%.
            assert!(
                held.around.high >= 0.7 && held.around.low <= 0.9,
                "{name}, {kind:?}: {held:?}"
            );
        }
        for step in &score.steps {
            eprintln!("  stated {:.2}: {} of {} came true", step.said, step.came, step.times);
        }
        let brier = score.brier.unwrap();
        eprintln!("  skill {:?}, {brier:?}", brier.skill());
        let stated = score.steps.iter().map(|s| s.times).sum::<usize>();
        // Beyond chance, and by more than ten points: of hundreds of statements, few are independent.
        let far = |s: &&Step| (s.share() - s.said).abs() > 0.1;
        let off = score.steps.iter().filter(far).filter(|s| s.off().is_some()).count();
        assert!(off <= 2, "{name}: {:?}", score.steps);
        // Of a handful of campaigns with few results, nobody could tell much.
        let hard = stated < 60 || name == "thin_leads" || brier.uncertainty < 0.02;
        // Where all but one meet their targets there is no skill to have.
        assert!(hard || brier.skill().is_none_or(|skill| skill > 0.4), "{name}: {brier:?}");
        assert_eq!(score.ranges.len(), 3);
    }
}
