//! Alarms on an account whose channels do as they are told, by us and by others; and how rarely healthy campaigns raise
//! one.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::book;
use crate::common::market::{Answering, WORLD, amberfold, calm_amberfold, channels, practice};
use crate::common::scene::{Scene, says};
use tiller_channel::Micros;
use tiller_channel::connection::{Connection as _, HttpConnection, Patience};
use tiller_channel::wire::{Batch, Change, Place};
use tiller_core::setting::{Budget, Setting, Status};
use tiller_core::spot::Subject;
use tiller_core::{Price, Target, Window};
use tiller_desk::account::connections;
use tiller_desk::account::settings::Settings;
use tiller_desk::alarms::{self, Alarm, Page};
use tiller_desk::book::{Past, PeriodChoice};
use tiller_desk::budgets::flight;
use tiller_desk::tray::proposal::{Origin, Proposal};
use tiller_desk::tray::{self, Edit, sending};
use tiller_desk::{Account, DeskError, PgPool};
use tiller_store::MIGRATIONS;

async fn alarms_of(db: &PgPool, account: &Account) -> Vec<Alarm> {
    let book = book(db, account).await;
    let settings = Settings::of_account(db, account.id).await.unwrap();
    let channels = connections::list(db, account).await.unwrap();
    let today = connections::today(db, account).await.unwrap();
    alarms::of_account(db, &book, &settings, &channels, today).await.unwrap().to_vec()
}

fn said(all: &[Alarm]) -> Vec<String> {
    all.iter().map(|a| a.sentence().to_string()).collect()
}

/// Somebody else sets something at the channel.
async fn they_set(s: &Scene, key: &str, campaign: &str, set: Setting) {
    let http = HttpConnection::new(
        &s.market.address,
        "Findle",
        "test-token",
        Patience::default(),
        &channels().reach,
    )
    .unwrap();
    let place = Place { campaign: campaign.into(), ad_group: None, item: None };
    let change = Change { id: "x".into(), place, was: None, set };
    let told = http.send(key, &Batch { changes: vec![change] }).await.answers().unwrap();
    assert_eq!(told[0].refused, None, "{}", told[0].message);
}

fn daily(units: f64) -> Setting {
    Setting::Budget(Budget::Daily { amount: Micros::from_units(units) })
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_others_stop_or_raise_stands_on_today(db: PgPool) {
    let s = Scene::new(&db).await;
    let name = "Visits, search";
    assert_eq!(said(&alarms_of(&db, &s.account).await), Vec::<String>::new());

    they_set(&s, "pause", "t-c2", Setting::Status(Status::Paused)).await;
    s.days_pass(&db, 2).await;
    let all = alarms_of(&db, &s.account).await;
    let text = said(&all).join("\n");
    assert!(text.contains(&format!("{name} has spent nothing since 10 Nov")), "{text}");
    assert!(text.contains("paused at its channel, not from here"), "{text}");
    assert_eq!(all[0].step().1, Page::Spend);
    assert!(all[0].worth > 50.0, "what it used to spend: {}", all[0].worth);

    // What we pause ourselves is no alarm, on no day after.
    they_set(&s, "run", "t-c2", Setting::Status(Status::Active)).await;
    s.days_pass(&db, 1).await;
    let subject = Subject::Campaign(s.id(&db, name).await);
    tray::edit(&db, &s.account, s.person, &[subject], Edit::Pause, "", "").await.unwrap();
    s.send(&db).await;
    for days in [2, 4, 2, 1, 1, 1, 1, 1, 1] {
        s.days_pass(&db, days).await;
        let text = said(&alarms_of(&db, &s.account).await).join("\n");
        assert!(!text.contains(name), "{text}");
    }
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn spend_beyond_its_noise_names_the_budget_behind_it(db: PgPool) {
    // Demand for three times what its budget allows.
    let world =
        WORLD.replace("budget = 40.0\nauctions = 5000.0", "budget = 40.0\nauctions = 30000.0");
    let s =
        Scene::on(&db, Answering::of(&world.replace("\"Emberlane\"", "\"Findle\""), None, 0).await)
            .await;
    let text = said(&alarms_of(&db, &s.account).await).join("\n");
    assert_eq!(text, "");
    they_set(&s, "raise", "t-c3", daily(120.0)).await;
    s.days_pass(&db, 3).await;
    let all = alarms_of(&db, &s.account).await;
    let text = said(&all).join("\n");
    assert!(text.contains("Neighbours, feed spends 1"), "{text}");
    assert!(
        text.contains(
            "its daily budget is 120.00 instead of 40.00, and it was not changed from here"
        ),
        "{text}"
    );
    assert_eq!(all[0].step().1, Page::Flight);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn money_that_is_gone_by_noon_is_told_with_its_pacing(db: PgPool) {
    let world = WORLD.replace(
        "budget = 40.0\nauctions = 5000.0",
        "budget = 40.0\npacing = \"fast\"\nauctions = 60000.0",
    );
    let s = Scene::on(&db, Answering::of(&world, None, 0).await).await;
    let all = alarms_of(&db, &s.account).await;
    let text = said(&all).join("\n");
    assert!(text.contains("of the last 3 days"), "{text}");
    assert!(text.contains("as fast as possible"), "{text}");
    assert_eq!(all[0].step().1, Page::Hours);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_flight_that_has_not_begun_is_no_standstill_and_one_without_money_says_so(db: PgPool) {
    let s = Scene::new(&db).await;
    let day = |d| chrono::NaiveDate::from_ymd_opt(2026, 11, d).unwrap();
    let flight = |units: f64, from: u32| {
        let amount = Micros::from_units(units);
        Setting::Budget(Budget::Lifetime { amount, starts: day(from), ends: day(30) })
    };
    they_set(&s, "sum", "t-c1", flight(1200.0, 10)).await;
    s.days_pass(&db, 4).await;
    they_set(&s, "later", "t-c2", flight(900.0, 16)).await;
    they_set(&s, "less", "t-c1", flight(60.0, 10)).await;
    s.days_pass(&db, 2).await;
    let all = alarms_of(&db, &s.account).await;
    let text = said(&all).join("\n");
    assert!(!text.contains("Visits, search"), "{text}");
    assert!(
        text.contains("Its lifetime budget is spent, and its flight goes on to 30 Nov."),
        "{text}"
    );
    let thin = all.iter().find(|a| a.name == "Names, search").unwrap();
    assert_eq!(thin.step(), ("give it more money, or let it end", Page::Flight));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_flight_is_told_before_it_ends_and_refused_when_it_is_over(db: PgPool) {
    let s = Scene::new(&db).await;
    let id = s.id(&db, "Visits, search").await;
    let flight = |from: u32, to: u32| {
        let day = |d| chrono::NaiveDate::from_ymd_opt(2026, 11, d).unwrap();
        Window::new(day(from), day(to))
    };
    let set = |f| flight::convert(&db, &s.account, s.person, id, f);
    says(set(flight(1, 9)).await.unwrap_err(), "which is over, and the campaign would stop");
    says(set(flight(5, 20)).await.unwrap_err(), "choose a first day from 10 Nov 2026 on");
    assert!(tray::rows(&db, &s.account).await.unwrap().is_empty(), "nothing waits");
    assert_eq!(set(flight(10, 14)).await.unwrap(), 1);
    s.send(&db).await;
    s.days_pass(&db, 1).await;
    let all = alarms_of(&db, &s.account).await;
    assert!(said(&all)[0].contains("Visits, search ends on 14 Nov"), "{:?}", said(&all));
    assert!(all[0].quiet.is_some(), "its change has not been looked at yet");
    s.days_pass(&db, 6).await;
    let text = said(&alarms_of(&db, &s.account).await).join("\n");
    assert!(text.contains("ended on 14 Nov by its dates, and is still set to run"), "{text}");

    // One that waits in the tray past its end is stopped there.
    let later = flight(20, 22);
    flight::convert(&db, &s.account, s.person, id, None).await.unwrap();
    s.send(&db).await;
    s.days_pass(&db, 1).await;
    assert_eq!(set(later).await.unwrap(), 1);
    s.days_pass(&db, 7).await;
    let rows = tray::rows(&db, &s.account).await.unwrap();
    let stops = rows[0].checks.iter().filter(|c| c.stops);
    let text: Vec<&str> = stops.map(|c| c.text.as_str()).collect();
    assert!(
        text.iter().any(|t| t.contains("its flight ends on 22 Nov 2026, which is over")),
        "{text:?}"
    );
    let sent = sending::send(&db, &s.account, &[rows[0].change.id]).await;
    says(sent.unwrap_err(), "nothing was sent");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn changing_again_before_the_look_back_is_warned_of(db: PgPool) {
    let s = Scene::new(&db).await;
    let subject = Subject::Campaign(s.id(&db, "Names, search").await);
    let edit = |typed: &'static str| async {
        tray::edit(&db, &s.account, s.person, &[subject], Edit::Budget, typed, "").await
    };
    let warnings = || async {
        let rows = tray::rows(&db, &s.account).await.unwrap();
        let checks = rows.into_iter().flat_map(|r| r.checks);
        checks.map(|c| (c.stops, c.text)).collect::<Vec<_>>()
    };
    edit("110").await.unwrap();
    assert_eq!(warnings().await, [], "the first is free");
    s.send(&db).await;
    s.days_pass(&db, 2).await;
    edit("120").await.unwrap();
    let found = warnings().await;
    let text = "Daily budget from 100.00 to 110.00; look-back on 19 Nov";
    assert!(matches!(&found[..], [(false, t)] if t.contains(text)), "{found:?}");
    // To take it back is no second change.
    let rows = tray::rows(&db, &s.account).await.unwrap();
    tray::withdraw(&db, &s.account, &[rows[0].change.id]).await.unwrap();
    let back = Proposal::new(subject, daily(100.0), Origin::Undo, "Taken back.")
        .undoing(rows[0].change.id);
    tray::propose(&db, &s.account, s.person, vec![back]).await.unwrap();
    assert_eq!(warnings().await, []);
}

/// How many alarms a week the demo's campaigns raise among twenty-five, over as many seeds as SEEDS says
/// (`SEEDS=20 cargo test -p tiller-desk --test all -- rarely_raise_one --nocapture` for docs/performance.md).
#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_demo_s_campaigns_rarely_raise_one(db: PgPool) -> Result<(), DeskError> {
    rarely_raise_one(&db, amberfold).await
}

/// The same where days differ by chance alone.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn calm_days_rarely_raise_one(db: PgPool) -> Result<(), DeskError> {
    rarely_raise_one(&db, calm_amberfold).await
}

async fn rarely_raise_one(
    db: &PgPool,
    world: impl AsyncFn(u64) -> Answering,
) -> Result<(), DeskError> {
    const DAYS: u32 = 28;
    let seeds: u64 = std::env::var("SEEDS").map_or(1, |text| text.parse().unwrap());
    let (mut raised, mut weeks) = (0u32, 0.0);
    for seed in 1..=seeds {
        let market = world(seed).await;
        for (key, target) in [("school", Target::Cpa(Price(30.0))), ("supply", Target::Roas(4.0))] {
            let account = practice(db, &market, key, seed, target).await;
            let settings = Settings::of_account(db, account.id).await?;
            let whole = book(db, &account).await;
            let mut before: Vec<String> = Vec::new();
            let days = Window::ending(whole.span.to(), DAYS.into());
            let choice = PeriodChoice::default();
            let past = Past::of_account(db, &account, choice, days.from()).await?.unwrap();
            for evening in days.iter() {
                let Some(past) = past.evening(evening)? else { continue };
                let to = past.span.to();
                let today = to.succ_opt().unwrap();
                let now = alarms::of_account(db, &past, &settings, &[], today).await?;
                let names: Vec<String> = now.iter().map(|a| a.name.clone()).collect();
                for a in now.iter().filter(|a| !before.contains(&a.name)) {
                    println!("seed {seed}, {to}: {}", a.sentence());
                    raised += 1;
                }
                before = names;
            }
            weeks += whole.entries.len() as f64 / 25.0 * f64::from(DAYS) / 7.0;
        }
    }
    println!("{raised} alarms, {:.2} a week among 25 campaigns", f64::from(raised) / weeks);
    assert!(f64::from(raised) / weeks < 1.0, "{raised} in {weeks} weeks of 25 campaigns");
    Ok(())
}
