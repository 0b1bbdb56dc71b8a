//! Curves, plans, courses, pools, hours and pace on an account that is connected to a market.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::market::{Answering, WORLD};
use crate::common::scene::{Scene, carried, fields, says};
use crate::common::{book, day};
use chrono::NaiveDate;
use chrono::Weekday;
use tiller_core::PerDay;
use tiller_core::allocation::{Answer, HeldBy};
use tiller_core::course::Kind;
use tiller_core::flight::Lift;
use tiller_core::hours::{ALWAYS, only};
use tiller_core::pool::Advice;
use tiller_core::setting::{Budget, Setting};
use tiller_core::week::WeekHour;

use tiller_core::{Micros, Window};
use tiller_desk::account::decisions;
use tiller_desk::account::settings::Settings;
use tiller_desk::budgets::curves::{self, Curves};
use tiller_desk::budgets::{flight, hours, pool};
use tiller_desk::logbook::{self, Show};
use tiller_desk::numerals::money;
use tiller_desk::pace::{self, Of};
use tiller_desk::plans::{self, moves};
use tiller_desk::tray::{self, Edit, offer, sending};
use tiller_desk::{PgPool, Role, courses};
use tiller_store::MIGRATIONS;
use tiller_store::facts::CampaignDay;

async fn pace_now(s: &Scene, db: &PgPool) -> std::sync::Arc<pace::Pace> {
    let now = book(db, &s.account).await;
    pace::of_account(db, &now).await.unwrap().unwrap()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn curves_are_fitted_after_each_fetch(db: PgPool) {
    let s = Scene::new(&db).await;
    let names = s.id(&db, "Names, search").await;
    let feed = s.id(&db, "Neighbours, feed").await;
    let kept = Curves::load(&db, &s.account).await.unwrap();
    let (window, fitted) = kept.of(names).unwrap().clone();
    assert_eq!(window.to(), book(&db, &s.account).await.last_settled());
    assert!(fitted.curve.conversions > 50.0 && fitted.curve.measured.is_none());
    assert!((0.05..1.0).contains(&fitted.curve.elasticity));
    // Ad groups of a pooled budget have curves of their own; a lone one has none.
    assert!(kept.of_groups(names).is_empty() && !kept.of_groups(feed).is_empty());
    let now = book(&db, &s.account).await;
    let examined = curves::examine(&db, &now, names, &[]).await.unwrap().unwrap();
    assert_eq!(examined.fit.curve, fitted.curve, "what is shown is what is kept");
    let all: f64 = examined.fit.days.iter().map(|d| d.conversions).sum();
    let expected: f64 = examined.fit.expected.iter().sum();
    assert!((all / expected - 1.0).abs() < 0.02, "the fit brings what was counted");
    s.days_pass(&db, 1).await;
    let kept = Curves::load(&db, &s.account).await.unwrap();
    assert_eq!(kept.of(names).unwrap().0.to(), window.to().succ_opt().unwrap());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn an_experiment_runs_by_itself_and_feeds_the_fit(db: PgPool) {
    let s = Scene::new(&db).await;
    let feed = s.id(&db, "Neighbours, feed").await;
    courses::experiment(&db, &s.account, s.person, feed, courses::Lever::Budget).await.unwrap();
    let again = courses::experiment(&db, &s.account, s.person, feed, courses::Lever::Budget)
        .await
        .unwrap_err();
    says(again, "on a course already");
    assert_eq!(s.budget("Neighbours, feed"), 40.0, "nothing happens before it is sent");
    s.send(&db).await;
    let mut seen = vec![s.budget("Neighbours, feed")];
    for _ in 0..4 {
        s.days_pass(&db, 7).await;
        seen.push(s.budget("Neighbours, feed"));
    }
    assert_eq!(seen, [48.0, 32.0, 32.0, 48.0, 40.0]);
    let course = courses::list(&db, &s.account).await.unwrap().remove(0);
    assert_eq!((course.plan.open(), course.standing().as_str()), (false, "done"));
    // Two days settle.
    s.days_pass(&db, 3).await;
    let kept = Curves::load(&db, &s.account).await.unwrap();
    let fitted = &kept.of(feed).unwrap().1;
    let measured = fitted.curve.measured.expect("it measured something");
    let own = fitted.curve.elasticity_error;
    assert!(measured.deviation > 0.0 && own < fitted.channel.prior.deviation, "{measured:?} {own}");
    let now = book(&db, &s.account).await;
    let list = courses::list(&db, &s.account).await.unwrap();
    let examined = curves::examine(&db, &now, feed, &list).await.unwrap().unwrap();
    let up = examined.steps.values().filter(|step| **step > 0.0).count();
    assert_eq!((up, examined.steps.len()), (14, 28));
    let taken = examined.taken.unwrap();
    // By hand, from the book's days.
    let entry = now.entry(feed).unwrap();
    let on_up = |d: &&CampaignDay| examined.steps.get(&d.day).is_some_and(|s| *s > 0.0);
    let own: f64 = entry.days.iter().filter(on_up).map(|d| d.tally.conversions).sum();
    assert!((taken.own[0] - own / 14.0).abs() < 1e-9, "{taken:?}");
    assert!(taken.account[0] > taken.own[0] && taken.error > 0.0, "{taken:?}");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_course_gives_way_to_whoever_changes_the_budget(db: PgPool) {
    let s = Scene::new(&db).await;
    let feed = s.id(&db, "Neighbours, feed").await;
    courses::experiment(&db, &s.account, s.person, feed, courses::Lever::Budget).await.unwrap();
    s.send(&db).await;
    let subject = tiller_core::spot::Subject::Campaign(feed);
    tray::edit(&db, &s.account, s.person, &[subject], Edit::Budget, "70", "").await.unwrap();
    s.send(&db).await;
    s.days_pass(&db, 7).await;
    assert_eq!(s.budget("Neighbours, feed"), 70.0);
    let course = courses::list(&db, &s.account).await.unwrap().remove(0);
    assert!(course.standing().contains("changed to 70.00 meanwhile"), "{}", course.standing());
    // Taken out of the tray, it never begins; stopped by hand, it goes no further.
    courses::experiment(&db, &s.account, s.person, feed, courses::Lever::Budget).await.unwrap();
    let rows = tray::rows(&db, &s.account).await.unwrap();
    tray::withdraw(&db, &s.account, &[rows[0].change.id]).await.unwrap();
    let newest = async || courses::list(&db, &s.account).await.unwrap().remove(0);
    assert!(newest().await.standing().contains("taken out of the tray"));
    // At once, so that it can be decided anew; stopped before it begins, it leaves nothing behind.
    courses::experiment(&db, &s.account, s.person, feed, courses::Lever::Budget).await.unwrap();
    courses::stop(&db, &s.account, newest().await.id()).await.unwrap();
    assert!(tray::rows(&db, &s.account).await.unwrap().is_empty());
    courses::experiment(&db, &s.account, s.person, feed, courses::Lever::Budget).await.unwrap();
    s.send(&db).await;
    let id = courses::list(&db, &s.account).await.unwrap()[0].id();
    courses::stop(&db, &s.account, id).await.unwrap();
    s.days_pass(&db, 8).await;
    assert_eq!(s.budget("Neighbours, feed"), 84.0);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_lift_comes_and_goes_on_its_days(db: PgPool) {
    let s = Scene::new(&db).await;
    let feed = s.id(&db, "Neighbours, feed").await;
    let dates = |from: &str, to: &str| Window::new(day(from), day(to)).unwrap();
    let lift = |by, dates| courses::lift(&db, &s.account, s.person, feed, by, dates);
    let past = lift(Lift::Part(0.5), dates("2026-11-01", "2026-11-20")).await.unwrap_err();
    says(past, "10 Nov");
    let lower =
        lift(Lift::Amount(PerDay(-5.0)), dates("2026-11-12", "2026-11-14")).await.unwrap_err();
    says(lower, "raises the budget");
    lift(Lift::Part(0.5), dates("2026-11-12", "2026-11-14")).await.unwrap();
    let mut by_day = Vec::new();
    for _ in 0..8 {
        s.days_pass(&db, 1).await;
        by_day.push(s.budget("Neighbours, feed"));
    }
    let now = book(&db, &s.account).await;
    let lifted: Vec<NaiveDate> = now
        .entry(feed)
        .unwrap()
        .days
        .iter()
        .filter(|d| d.budget == Some(Micros::from_units(60.0)))
        .map(|d| d.day)
        .collect();
    assert_eq!(lifted, ["2026-11-12", "2026-11-13", "2026-11-14"].map(day), "{by_day:?}");
}

/// As a server leaves it that dies between putting a step in the tray and sending it.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_step_that_was_left_in_the_tray_is_sent_once(db: PgPool) {
    let s = Scene::new(&db).await;
    let feed = s.id(&db, "Neighbours, feed").await;
    let dates = Window::new(day("2026-11-12"), day("2026-11-14")).unwrap();
    courses::lift(&db, &s.account, s.person, feed, Lift::Part(0.5), dates).await.unwrap();
    s.days_pass(&db, 1).await;
    // Its day has come. Whoever takes the step dies before sending it, the next one too; the person who decided on
    // it has left.
    sqlx::query("UPDATE course SET starts = '2026-11-11', created_by = NULL")
        .execute(&db)
        .await
        .unwrap();
    courses::take_steps(&db, &s.account).await.unwrap();
    courses::take_steps(&db, &s.account).await.unwrap();
    let rows = tray::rows(&db, &s.account).await.unwrap();
    assert_eq!(rows.len(), 1);
    assert_eq!(tray::author(&rows[0].change), "the budget lift");
    assert_eq!(s.budget("Neighbours, feed"), 40.0);
    s.days_pass(&db, 1).await;
    assert_eq!(s.budget("Neighbours, feed"), 60.0);
    assert!(tray::rows(&db, &s.account).await.unwrap().is_empty());
    s.days_pass(&db, 3).await;
    assert_eq!(s.budget("Neighbours, feed"), 40.0);
    let log = logbook::all(&db, &s.account, Show::All, "budget lift", day("2026-11-15")).await;
    assert_eq!(log.unwrap().len(), 2, "up and down again, each once");
}

/// A step that can't be sent ends its course, and leaves nothing in the tray that goes out some day.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_step_that_cannot_be_sent_ends_its_course(db: PgPool) {
    let s = Scene::new(&db).await;
    let feed = s.id(&db, "Neighbours, feed").await;
    let dates = Window::new(day("2026-11-12"), day("2026-11-14")).unwrap();
    courses::lift(&db, &s.account, s.person, feed, Lift::Part(0.5), dates).await.unwrap();
    s.days_pass(&db, 1).await;
    sqlx::query("UPDATE course SET starts = '2026-11-11'").execute(&db).await.unwrap();
    courses::take_steps(&db, &s.account).await.unwrap();
    // Somebody sets another budget while the step waits.
    let subject = tiller_core::spot::Subject::Campaign(feed);
    tray::edit(&db, &s.account, s.person, &[subject], Edit::Budget, "45", "").await.unwrap();
    let by_hand = tray::rows(&db, &s.account).await.unwrap()[1].change.id;
    sending::send(&db, &s.account, &[by_hand]).await.unwrap();
    s.settle(&db).await;
    assert_eq!(s.budget("Neighbours, feed"), 45.0);
    assert!(tray::rows(&db, &s.account).await.unwrap().is_empty());
    let course = courses::list(&db, &s.account).await.unwrap().remove(0);
    assert!(
        course.standing().contains("changed at the channel meanwhile"),
        "{}",
        course.standing()
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_plan_goes_to_the_channel_and_the_month_follows_it(db: PgPool) {
    let s = Scene::new(&db).await;
    let mut opened = s.plan(&db).await;
    let file = &mut opened.file;
    assert!((file.days - 30.4).abs() < 1e-9 && file.lines.iter().all(|l| l.precision.is_some()));
    let place = |name: &str| file.lines.iter().position(|l| l.id == name).unwrap();
    let (courses_line, names) = (place("Courses, search"), place("Names, search"));
    // By hand: the one whose strategy learns gets half more, which is a shock and goes in steps.
    let typed = format!("{}", (file.lines[courses_line].current * 0.5).round());
    let errors = plans::edit(
        file,
        &fields(&[
            (&format!("fixed-{courses_line}"), &typed),
            ("use", "up_to"),
            ("max_change", ""),
            ("test_share", "10%"),
        ]),
    );
    assert!(errors.is_empty(), "{errors:?}");
    let worked = plans::work(file);
    let Answer::Optimal(solved) = &worked.answer else { panic!("{:?}", worked.answer) };
    assert_eq!(solved.lines[courses_line].held_by, HeldBy::Fixed);
    assert!(solved.totals.budget <= 0.9 * file.total.amount + 0.01, "a tenth is kept for tests");
    assert!(solved.outlook.is_some());
    assert!(plans::why(&worked, solved, courses_line).contains("by hand"));
    let to_names = solved.lines[names].budget / 30.4;
    let was_shown = carried(&plans::open(&db, &s.account, opened.plan.id).await.unwrap());
    plans::save(&db, &s.account, opened.plan.id, "Plan", file).await.unwrap();
    let opened = plans::open(&db, &s.account, opened.plan.id).await.unwrap();
    let now = book(&db, &s.account).await;
    let before = s.budget("Courses, search");
    let stale = moves::to_tray(&db, &now, s.person, &opened, &was_shown).await.unwrap_err();
    assert!(stale.to_string().contains("has changed since this page was loaded"), "{stale}");
    let none = moves::to_tray(&db, &now, s.person, &opened, &[]).await.unwrap_err();
    assert!(none.to_string().contains("choose at least one line"), "{none}");
    assert_eq!(tray::rows(&db, &s.account).await.unwrap().len(), 0, "nothing was put there");
    moves::to_tray(&db, &now, s.person, &opened, &carried(&opened)).await.unwrap();
    s.send(&db).await;
    let first = s.budget("Courses, search");
    assert!((first / before - 0.8).abs() < 1e-6, "a first step of a fifth: {before} to {first}");
    let ramp = courses::list(&db, &s.account).await.unwrap().remove(0);
    assert_eq!((ramp.plan.kind, ramp.plan.open()), (Kind::Ramp, true));
    if (to_names / 100.0 - 1.0).abs() > 0.01 && solved.lines[names].held_by != HeldBy::Capacity {
        assert!((s.budget("Names, search") - to_names).abs() < 0.02);
    }
    s.days_pass(&db, 7).await;
    let second = s.budget("Courses, search");
    assert!(second < first, "the next step goes by itself");
    // The month follows it, line by line and in all.
    let now = book(&db, &s.account).await;
    let pace = pace_now(&s, &db).await;
    assert_eq!(pace.plan.as_ref().unwrap().0, opened.plan.id);
    let id = s.id(&db, "Names, search").await;
    let row = pace.row(&Of::Campaign(id)).unwrap();
    assert!((row.plan.unwrap() - to_names * 30.0).abs() < 0.1, "{row:?}");
    let sum: f64 =
        pace.rows.iter().filter(|r| matches!(r.of, Of::Campaign(_))).map(|r| r.plan.unwrap()).sum();
    assert!((pace.row(&Of::Account).unwrap().plan.unwrap() - sum).abs() < 1e-6);
    // Spent so far is what reports say.
    let month = pace::month_of(now.span.to()).unwrap();
    assert!((pace.rows[0].forecast.spent - now.total(month).spend.to_units()).abs() < 1e-6);
    plans::follow(&db, &s.account, None).await.unwrap();
    assert!(pace_now(&s, &db).await.plan.is_none());
    // Weeks in which nothing was fetched are no reason to take several at once.
    let step = |i: usize| ramp.plan.steps[i].amount.to_units();
    for (days, budget) in [(28, step(2)), (1, step(2)), (6, step(3))] {
        s.days_pass(&db, days).await;
        assert_eq!(s.budget("Courses, search"), budget, "{:?}", ramp.plan.steps);
    }
}

/// What was launched days ago is part of the month: of the account's, of its channel's, and on its own row.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_new_campaign_counts_in_the_months_pace(db: PgPool) {
    let world = WORLD.replacen(
        "name = \"Visits, search\"\n",
        "name = \"Visits, search\"\nlaunched = 4\n",
        1,
    );
    let s = Scene::on(&db, Answering::of(&world, None, 0).await).await;
    let now = book(&db, &s.account).await;
    let pace = pace_now(&s, &db).await;
    let id = s.id(&db, "Visits, search").await;
    let new = pace.row(&Of::Campaign(id)).unwrap();
    assert!(new.forecast.spent > 0.0);
    let month = pace::month_of(now.span.to()).unwrap();
    let spent = now.total(month).spend.to_units();
    assert!((pace.rows[0].forecast.spent - spent).abs() < 1e-6, "{spent} {:?}", pace.rows[0]);
    // It adds what it spends now, not four of fourteen days of it.
    let others: f64 = pace
        .rows
        .iter()
        .filter(|r| matches!(r.of, Of::Campaign(c) if c != id))
        .map(|r| r.forecast.end().0)
        .sum();
    let (all, its) = (pace.rows[0].forecast.end().0, new.forecast.end().0);
    assert!((all - others - its).abs() < 1e-6, "{all} {others} {its}");
}

/// Without a plan nothing is needed and nothing is offered; what is typed for the month is the plan.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_months_budget_is_typed(db: PgPool) {
    let s = Scene::new(&db).await;
    let now = book(&db, &s.account).await;
    let pace = pace_now(&s, &db).await;
    assert!(pace.rows.iter().all(|r| r.plan.is_none() && r.needed().is_none()));
    let settings = Settings::of_account(&db, s.account.id).await.unwrap();
    assert!(pace::offers(&pace, &settings).is_empty(), "nothing is measured against anything");
    let typed = |account: &str, findle: &str| {
        [(None, account.to_owned()), (Some("Findle".to_owned()), findle.to_owned())]
    };
    pace::plan_month(&db, &now, s.person, &typed("12 000", "9000")).await.unwrap();
    let pace = pace_now(&s, &db).await;
    let plan = |of: Of| pace.row(&of).unwrap().plan;
    assert_eq!(plan(Of::Account), Some(12_000.0));
    assert_eq!(plan(Of::Channel("Findle".into())), Some(9_000.0));
    assert!(pace.rows.iter().all(|r| !matches!(r.of, Of::Campaign(_)) || r.plan.is_none()));
    let refused = |account: &'static str, findle: &'static str| {
        let (db, now, s) = (db.clone(), &now, &s);
        async move { pace::plan_month(&db, now, s.person, &typed(account, findle)).await.unwrap_err() }
    };
    says(refused("100", "200").await, "more than the account’s");
    says(refused("much", "").await, "is not a number");
    says(refused("-5", "").await, "more than 0");
    let elsewhere = [(Some("Nowhere".to_owned()), "5".to_owned())];
    assert!(pace::plan_month(&db, &now, s.person, &elsewhere).await.is_err());
    // What was refused left what stood.
    let still = pace_now(&s, &db).await;
    assert_eq!(still.typed, pace.typed);
    pace::plan_month(&db, &now, s.person, &typed("", "")).await.unwrap();
    assert!(pace_now(&s, &db).await.typed.is_empty());
    // Each stands in the logbook, and can be taken back.
    let log = decisions::list(&db, &s.account).await.unwrap();
    let told: Vec<(String, String)> = log
        .iter()
        .map(|d| (decisions::value(&d.was, false), decisions::value(&d.set_to, false)))
        .collect();
    let none = "Nov 2026: none".to_owned();
    let both = format!("Nov 2026: {}, of which {} for Findle", money(12_000.0), money(9_000.0));
    assert_eq!(told[..2], [(both.clone(), none.clone()), (none, both)]);
    decisions::undo(&db, &s.account, s.person, Role::Analyst, log[0].id).await.unwrap();
    assert_eq!(pace_now(&s, &db).await.typed, pace.typed);
    // The same again is no decision.
    pace::plan_month(&db, &now, s.person, &typed("12000", "9000")).await.unwrap();
    assert_eq!(decisions::list(&db, &s.account).await.unwrap().len(), log.len() + 1);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn needed_budgets_end_the_month_on_plan(db: PgPool) {
    let s = Scene::new(&db).await;
    let opened = s.plan(&db).await;
    plans::follow(&db, &s.account, Some(opened.plan.id)).await.unwrap();
    let now = book(&db, &s.account).await;
    let pace = pace_now(&s, &db).await;
    let row = pace
        .rows
        .iter()
        .find(|r| {
            matches!(r.of, Of::Campaign(_))
                && r.misses().is_some()
                && r.needed().is_some_and(|n| (n / r.budget.unwrap() - 1.0).abs() > 0.05)
        })
        .unwrap();
    let Of::Campaign(id) = row.of else { panic!() };
    let settings = Settings::of_account(&db, s.account.id).await.unwrap();
    let button = offer::buttons(&pace::offers(&pace, &settings))[&id.to_string()].clone();
    assert_eq!(pace::take(&db, &now, s.person, std::slice::from_ref(&button)).await.unwrap(), 1);
    let waits = tray::rows(&db, &s.account).await.unwrap();
    let Setting::Budget(Budget::Daily { amount }) = waits[0].set_to else { panic!() };
    assert!((amount.to_units() - row.needed().unwrap()).abs() < 0.006);
    says(pace::take(&db, &now, s.person, &[]).await.unwrap_err(), "choose at least one");
    // What waits in the tray, or for its look-back, is offered nothing more.
    let now = book(&db, &s.account).await;
    let waits = pace_now(&s, &db).await;
    let quiet = waits.row(&Of::Campaign(id)).unwrap().quiet.as_ref().unwrap().sentence();
    assert!(quiet.ends_with("waits in the tray"), "{quiet}");
    says(
        pace::take(&db, &now, s.person, &[button]).await.unwrap_err(),
        "nothing is advised there now",
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn groups_have_limits_in_money_and_in_shares(db: PgPool) {
    let s = Scene::new(&db).await;
    let opened = s.plan(&db).await;
    let mut file = opened.file;
    assert_eq!(
        file.groups.iter().map(|g| g.id.as_str()).collect::<Vec<_>>(),
        ["Findle", "Emberlane"]
    );
    let edit = |file: &mut _, pairs: &[(&str, &str)]| plans::edit(file, &fields(pairs));
    let errors = edit(
        &mut file,
        &[
            ("group-ceiling:Emberlane", "5%"),
            ("group-floor:Findle", "1 000"),
            ("use", "up_to"),
            ("max_change", ""),
        ],
    );
    assert!(errors.is_empty(), "{errors:?}");
    let feed = file.groups.iter().find(|g| g.id == "Emberlane").unwrap();
    assert_eq!((feed.share_ceiling, feed.ceiling), (Some(0.05), None));
    let worked = plans::work(&file);
    let Answer::Optimal(solved) = &worked.answer else { panic!("{:?}", worked.answer) };
    let place = file.lines.iter().position(|l| l.id == "Neighbours, feed").unwrap();
    assert!(solved.lines[place].budget <= 0.05 * file.total.amount + 0.01);
    assert!(worked.costs.iter().any(|c| c.0 == "Emberlane" && c.2 > 0.0), "{:?}", worked.costs);
    assert_eq!(
        edit(&mut file, &[("group-ceiling:Emberlane", "lots")])[0].field,
        "group-ceiling:Emberlane"
    );
    // By country; nothing is lost of what lines themselves may get.
    let now = book(&db, &s.account).await;
    let (settings, _) = plans::known(&db, &now).await.unwrap();
    plans::group(&mut file, &now, Some(&settings), Some(plans::GroupBy::Country));
    assert_eq!(plans::grouped_by(&file, &now), Some(plans::GroupBy::Country));
    plans::group(&mut file, &now, None, None);
    assert!(file.groups.is_empty() && plans::grouped_by(&file, &now).is_none());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn ad_groups_get_their_test_and_audiences_their_part(db: PgPool) {
    let s = Scene::new(&db).await;
    let feed = s.id(&db, "Neighbours, feed").await;
    let now = book(&db, &s.account).await;
    let view = pool::view(&db, &now, feed).await.unwrap().unwrap();
    assert_eq!((view.groups.len(), view.budget), (2, Some(40.0)));
    let best: f64 = view.groups.iter().map(|g| g.standing.unwrap().best).sum();
    assert!((best - 1.0).abs() < 1e-9);
    assert_eq!(view.total(), now.entry(feed).unwrap().tally(view.window), "parts add up");
    let sizes = |text: &'static str| move |_| Some(text.to_owned());
    let parts = pool::by_audience(&s.account, &view, &sizes("12 000"), "5").unwrap();
    assert_eq!(parts.iter().map(|p| p.a_day).collect::<Vec<_>>(), [20.0, 20.0]);
    says(
        pool::by_audience(&s.account, &view, &sizes("12 000"), "25").unwrap_err(),
        "lower the least",
    );
    says(pool::by_audience(&s.account, &view, &sizes(""), "").unwrap_err(), "how many people");
    says(pool::by_audience(&s.account, &view, &sizes("many"), "").unwrap_err(), "is not a number");
    assert_eq!(pool::take_split(&db, &now, s.person, &view, &parts).await.unwrap(), 2);
    s.send(&db).await;
    let now = book(&db, &s.account).await;
    let view = pool::view(&db, &now, feed).await.unwrap().unwrap();
    assert!(view.groups.iter().all(|g| g.floor == Some(20.0)) && view.conflict.is_none());
    let nobody = pool::take(&db, &now, s.person, feed, &[]).await.unwrap_err();
    says(nobody, "choose at least one");
    if let Some(g) = view.groups.iter().find(|g| g.standing.unwrap().advice != Advice::Leave) {
        let button = offer::buttons(&pool::offers(&view))[&g.id.to_string()].clone();
        assert_eq!(pool::take(&db, &now, s.person, feed, &[button]).await.unwrap(), 1);
    }
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn hours_are_set_by_any_clock_where_the_channel_takes_them(db: PgPool) {
    let s = Scene::new(&db).await;
    let (names, feed) = (s.id(&db, "Names, search").await, s.id(&db, "Neighbours, feed").await);
    let now = book(&db, &s.account).await;
    let zone = |name: &str| hours::read_zone(&now, Some(name));
    says(zone("Copenhagen").unwrap_err(), "write it like Europe/Copenhagen");
    let (here, ny) = (hours::read_zone(&now, None).unwrap(), zone("America/New_York").unwrap());
    let view = hours::view(&db, &now, names, here).await.unwrap();
    assert!(view.week == ALWAYS && view.apart == (0.0, true) && !view.needs_lifetime);
    assert_eq!(view.clocks_change, Some((day("2027-03-28"), 23, 23)));
    // Nine to five in New York is three to eleven at night in Copenhagen.
    let office = only(&ALWAYS, &[true; 7], 9, 17);
    let set = |id, week, zone| {
        let (db, now, person) = (db.clone(), &now, s.person);
        async move { hours::set(&db, now, person, id, week, zone, "Somebody answers.").await }
    };
    assert_eq!(set(names, &office, ny).await.unwrap(), 1);
    s.send(&db).await;
    let there = s.at_market("Names, search").hours.unwrap();
    assert_eq!(
        [14, 15, 22, 23].map(|h| there.at(WeekHour::new(Weekday::Wed, h))),
        [None, Some(0), Some(0), None]
    );
    let later = book(&db, &s.account).await;
    let seen = hours::view(&db, &later, names, ny).await.unwrap();
    assert_eq!((seen.week, seen.apart), (office, (-6.0, true)));
    // The feed's channel wants a lifetime budget first.
    says(set(feed, &office, here).await.unwrap_err(), "lifetime budget only");
    let flight_days = Window::new(day("2026-11-11"), day("2026-12-10"));
    flight::convert(&db, &s.account, s.person, feed, flight_days).await.unwrap();
    s.send(&db).await;
    let Some(Budget::Lifetime { amount, .. }) = s.at_market("Neighbours, feed").budget else {
        panic!()
    };
    assert_eq!(amount, Micros::from_units(1200.0));
    assert_eq!(set(feed, &office, here).await.unwrap(), 1);
    says(
        set(names, &office, zone("Asia/Kolkata").unwrap()).await.unwrap_err(),
        "whole hours apart",
    );
}
