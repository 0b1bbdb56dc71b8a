//! Advice on money, as it goes to the tray: steps, the week's budgets, plans over flights; and whose it is.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::market::Answering;
use crate::common::scene::{Scene, carried, fields, says};
use crate::common::{account, book};
use tiller_core::allocation::{Goal, brings};
use tiller_core::flight::Lift;
use tiller_core::response::budget_response::Bidding;
use tiller_core::setting::{Budget, Setting};
use tiller_core::spot::Subject;
use tiller_core::steps::Step;
use tiller_core::{Micros, PerDay, Price, Target, Window, learning};
use tiller_desk::budgets::curves::{self, Curves};
use tiller_desk::budgets::{flight, weekly};
use tiller_desk::plans::{self, moves};
use tiller_desk::{DeskError, PgPool, account, advice, courses, steps, tray};
use tiller_market::world::AMBERFOLD;
use tiller_store::MIGRATIONS;

/// The daily budgets that wait in the tray, by campaign.
async fn waiting(db: &PgPool, s: &Scene) -> Vec<(String, f64)> {
    let rows = tray::rows(db, &s.account).await.unwrap();
    let daily = |r: &tray::Row| match r.set_to {
        Setting::Budget(Budget::Daily { amount }) => {
            Some((r.change.place.clone(), amount.to_units()))
        }
        _ => None,
    };
    rows.iter().filter(|r| r.change.state == tray::State::Waiting).filter_map(daily).collect()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn three_days_speak_for_a_step(db: PgPool) {
    let mut s = Scene::new(&db).await;
    let due = async |s: &Scene| {
        let book = book(&db, &s.account).await;
        let advised = advice::of_account(&db, &book).await.unwrap();
        let lines = steps::of_account(&book, &advised);
        (book, lines)
    };
    // One campaign's budget is cut to half of what it spends; once that has been looked back at, it is the limit.
    let name = "Names, search";
    let now = book(&db, &s.account).await;
    let id = s.id(&db, name).await;
    let spends =
        now.entry(id).unwrap().tally(Window::ending(now.span.to(), 14)).spend.to_units() / 14.0;
    let half = format!("{:.2}", spends / 2.0);
    let subject = Subject::Campaign(id);
    tray::edit(&db, &s.account, s.person, &[subject], tray::Edit::Budget, &half, "").await.unwrap();
    // The others are paused: with nobody to take money from, the week's advice has nothing to say.
    let others = now.entries.iter().filter(|e| e.campaign.id != id && s.has(&e.campaign.name));
    let others: Vec<Subject> = others.map(|e| Subject::Campaign(e.campaign.id)).collect();
    tray::edit(&db, &s.account, s.person, &others, tray::Edit::Pause, "", "").await.unwrap();
    s.send(&db).await;
    s.days_pass(&db, 18).await;
    // By a target that nobody could miss, every due step goes up, and only where the budget is the limit.
    account::set_default_target(&db, s.account.id, Some(Target::Cpa(Price(5000.0)))).await.unwrap();
    s.account = account::by_slug(&db, &s.account.slug).await.unwrap();
    let (book, up) = due(&s).await;
    assert!(up.iter().all(|l| l.advice.step == Step::Up && l.to(false) > l.budget), "{up:?}");
    assert!(up.iter().all(|l| (l.to(true) / l.budget - 2.0).abs() < 1e-3), "doubled if asked for");
    says(steps::take(&db, &book, s.person, &[], false).await.unwrap_err(), "choose at least one");
    let chosen: Vec<_> = up.iter().map(|l| l.offer().button()).take(2).collect();
    assert!(!chosen.is_empty());
    let n = steps::take(&db, &book, s.person, &chosen, false).await.unwrap();
    assert_eq!(n, chosen.len());
    let mut expected: Vec<f64> = up.iter().take(2).map(|l| l.to(false)).collect();
    let mut found: Vec<f64> = waiting(&db, &s).await.into_iter().map(|(_, b)| b).collect();
    expected.sort_by(f64::total_cmp);
    found.sort_by(f64::total_cmp);
    assert_eq!(found, expected);
    // A step is taken once in three days: what has just been changed waits.
    s.send(&db).await;
    s.days_pass(&db, 1).await;
    let (_, again) = due(&s).await;
    let taken: Vec<_> = up.iter().map(|l| l.campaign).take(2).collect();
    assert!(again.iter().all(|l| !taken.contains(&l.campaign)), "{again:?}");
    // Where a verdict names the fault, the advice is there and no step stands beside it.
    account::set_default_target(&db, s.account.id, Some(Target::Cpa(Price(0.5)))).await.unwrap();
    s.account = account::by_slug(&db, &s.account.slug).await.unwrap();
    let (_, none) = due(&s).await;
    assert!(none.is_empty(), "{none:?}");
}

/// The week's advice spends no more than what is spent and what budgets leave unspent, within what channels allow; what is
/// far goes as a course; and what was sent is left alone until its look-back.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_weeks_advice_spends_what_is_left_at_most_and_then_keeps_quiet(db: PgPool) {
    let world = AMBERFOLD.replace("amberfold-supply-practice", "test-token");
    let mut s = Scene::on(&db, Answering::of(&world, None, 0).await).await;
    account::set_default_target(&db, s.account.id, Some(Target::Roas(4.0))).await.unwrap();
    s.account = account::by_slug(&db, &s.account.slug).await.unwrap();
    let now = book(&db, &s.account).await;
    let advised = advice::of_account(&db, &now).await.unwrap();
    let (moves, whole) = (&advised.week.moves, advised.week.whole.unwrap());
    assert!(!moves.is_empty());
    let more = whole.then.budget - whole.now.budget;
    assert!(
        more > 0.0 && more <= advised.week.unspent + 1e-6,
        "{} {whole:?}",
        advised.week.unspent
    );
    assert!(whole.then.value > whole.now.value);
    for m in moves {
        let (from, to) = (m.from.units(), m.to.units());
        assert!(to >= m.line.least - 1e-9, "{m:?}");
        assert!((to / from - 1.0).abs() >= 0.02, "not worth a change: {m:?}");
        assert!(
            m.line
                .budget_response
                .capacity
                .most
                .is_none_or(|most| m.spend <= most.max(m.line.spend) + 1e-6)
        );
        // Where nobody learns, or little is left to learn for, it is one step.
        let mut last = if m.line.learns { from } else { learning::used(from, to, m.line.spend) };
        for PerDay(step) in m.steps.iter().filter(|_| m.steps.len() > 1) {
            assert!((step / last - 1.0).abs() <= 0.2 + 2e-3, "a shock: {m:?}");
            last = *step;
        }
        assert!(
            !m.line.learns
                || m.steps.len() > 1
                || to < 0.5 * from
                || (to / last - 1.0).abs() <= 0.2 + 2e-3,
            "{m:?}"
        );
        assert!(!m.because().is_empty());
        // What is over its target is never given more.
        let judged = now.judge(m.line.campaign).unwrap();
        let fault = judged.diagnosis.faults != tiller_core::verdict::Faults::default();
        assert!(!fault || to < from, "{m:?}");
    }
    let (n, left) = weekly::propose(&db, &s.account, s.person, &moves.iter().collect::<Vec<_>>())
        .await
        .unwrap();
    assert_eq!((n, left.len()), (moves.len(), 0));
    assert_eq!(waiting(&db, &s).await.len(), n);
    // The tray tells what is expected to be spent, as well as what budgets add up to.
    let rows = tray::rows(&db, &s.account).await.unwrap();
    assert!(rows.iter().all(|r| r.change.spend_a_day.is_some()));
    // What waits is not advised again; nor what was sent, until its look-back.
    let again = async |s: &Scene| {
        let book = book(&db, &s.account).await;
        advice::of_account(&db, &book).await.unwrap().week.moves.clone()
    };
    let moved = |m: &weekly::Move| moves.iter().any(|x| x.line.campaign == m.line.campaign);
    assert!(!again(&s).await.iter().any(moved));
    s.send(&db).await;
    s.days_pass(&db, 1).await;
    assert!(!again(&s).await.iter().any(moved));
    let book = book(&db, &s.account).await;
    let quiet = advice::of_account(&db, &book).await.unwrap();
    assert!(moves.iter().all(|m| quiet.quiet(m.line.campaign).is_some_and(|q| q.until.is_some())));
}

/// Over a flight, the plan's money by the day becomes one sum: what has been spent, and the days that are left.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_plan_over_a_flight_is_one_sum(db: PgPool) {
    let s = Scene::new(&db).await;
    let id = s.id(&db, "Names, search").await;
    let flight_days = Window::ending("2026-12-09".parse().unwrap(), 30);
    flight::convert(&db, &s.account, s.person, id, Some(flight_days)).await.unwrap();
    s.send(&db).await;
    s.days_pass(&db, 3).await;
    let mut opened = s.plan(&db).await;
    // Money for what has a flight is typed: half of what it spends.
    let line = opened.file.lines.iter().position(|l| l.id == "Names, search");
    let Some(line) = line else { panic!("{:?}", opened.file.lines) };
    let half = (opened.file.lines[line].current * 0.5).round();
    let errors = plans::edit(
        &mut opened.file,
        &fields(&[
            (&format!("fixed-{line}"), &half.to_string()),
            (&format!("floor-{line}"), ""),
            ("max_change", ""),
            ("use", "up_to"),
        ]),
    );
    assert!(errors.is_empty(), "{errors:?}");
    plans::save(&db, &s.account, opened.plan.id, "Plan", &opened.file).await.unwrap();
    let now = book(&db, &s.account).await;
    moves::to_tray(&db, &now, s.person, &opened, &carried(&opened)).await.unwrap();
    let rows = tray::rows(&db, &s.account).await.unwrap();
    let sum = rows
        .iter()
        .find_map(|r| match r.set_to {
            Setting::Budget(Budget::Lifetime { amount, starts, ends }) => {
                Some((amount, starts, ends))
            }
            _ => None,
        })
        .unwrap();
    assert_eq!((sum.1, sum.2), (flight_days.from(), flight_days.to()));
    let entry = now.entry(id).unwrap();
    let spent = entry.tally(Window::new(sum.1, now.span.to()).unwrap()).spend.to_units();
    let left = (sum.2 - now.span.to()).num_days() as f64;
    assert!(
        (sum.0.to_units() - (spent + half / 30.4 * left)).abs() < 0.02,
        "{sum:?} {spent} {left}"
    );
}

/// Whatever a plan is for, it never brings less of that than the present, and its lines add up to it.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn plans_for_every_goal(db: PgPool) {
    let s = Scene::new(&db).await;
    let opened = s.plan(&db).await;
    for (word, goal) in [
        ("conversions", Goal::Conversions),
        ("clicks", Goal::Clicks),
        ("value", Goal::Value),
        ("profit", Goal::Profit),
    ] {
        let mut file = opened.file.clone();
        for line in &mut file.lines {
            line.value_per_conversion = Some(80.0);
        }
        let errors = plans::edit(&mut file, &fields(&[("goal", word), ("margin", "40%")]));
        assert!(errors.is_empty(), "{word} {errors:?}");
        assert_eq!(file.goal, goal);
        let worked = plans::work(&file);
        let solved = worked.solved().unwrap();
        assert!(solved.objective >= solved.present - 1e-6, "{word}");
        let brought: f64 =
            (0..file.lines.len()).map(|i| brings(&worked.problem, i, solved.lines[i].budget)).sum();
        let cost = if goal == Goal::Profit { solved.totals.budget } else { 0.0 };
        assert!((brought - cost - solved.objective).abs() < 1e-6, "{word}");
    }
    // The least money for as much as now is no more than now.
    let mut file = opened.file.clone();
    let present: f64 = file.lines.iter().map(|l| plans::present_conversions(l, file.days)).sum();
    let typed = format!("{:.2}", present * 0.999);
    let errors = plans::edit(
        &mut file,
        &fields(&[("goal", "least_spend"), ("min_conversions", &typed), ("max_change", "")]),
    );
    assert!(errors.is_empty(), "{errors:?}");
    let worked = plans::work(&file);
    let solved = worked.solved().unwrap();
    assert!(solved.totals.budget <= solved.current.budget + 0.01);
    assert!(solved.totals.conversions >= present * 0.999 - 0.01);
}

/// A plan says of a bending line what one of a straight line need not, and of a strategy who makes its bids.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn who_bids_decides_how_money_is_answered(db: PgPool) {
    let s = Scene::new(&db).await;
    let now = book(&db, &s.account).await;
    let (_, known) = plans::known(&db, &now).await.unwrap();
    assert!(
        known
            .iter()
            .all(|l| l.bidding == Some(Bidding::Priced) && l.budget_response.curve.is_none())
    );
    // Reports alone tell nothing of bids: money is believed to bring less and less.
    let files = account(&db, "files").await;
    let days = "2026-09-10".parse::<chrono::NaiveDate>().unwrap().iter_days().take(60);
    let rows = days.enumerate().map(|(i, day)| {
        let spend = format!("{}.00", 30 + 7 * i % 25);
        crate::common::row(
            &day.to_string(),
            "Alone",
            "hives",
            20,
            &spend,
            if i % 2 == 0 { "2" } else { "1" },
        )
    });
    let report = crate::common::HEADER.to_owned() + &rows.collect::<String>();
    crate::common::import(&db, &files, &report).await;
    let now = book(&db, &files).await;
    let (_, known) = plans::known(&db, &now).await.unwrap();
    assert!(
        known.iter().all(|l| l.bidding.is_none() && l.budget_response.curve.is_some()),
        "{known:?}"
    );
    assert_eq!(known[0].budget, None);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn nothing_of_an_accounts_money_is_reached_from_another(db: PgPool) {
    let (mine, theirs) = (Scene::new(&db).await, Scene::new(&db).await);
    let plan = theirs.plan(&db).await;
    let id = theirs.id(&db, "Names, search").await;
    let start = "2026-11-20".parse().unwrap();
    let dates = Window::new(start, "2026-11-22".parse().unwrap()).unwrap();
    courses::lift(&db, &theirs.account, theirs.person, id, Lift::Amount(PerDay(10.0)), dates)
        .await
        .unwrap();
    let course = courses::list(&db, &theirs.account).await.unwrap().remove(0);

    let not_found = |e: DeskError| assert!(matches!(e, DeskError::NotFound(_)), "{e}");
    not_found(plans::open(&db, &mine.account, plan.plan.id).await.unwrap_err());
    not_found(plans::save(&db, &mine.account, plan.plan.id, "Mine", &plan.file).await.unwrap_err());
    not_found(courses::stop(&db, &mine.account, course.id()).await.unwrap_err());
    not_found(plans::follow(&db, &mine.account, Some(plan.plan.id)).await.map(drop).unwrap_err());
    assert!(courses::list(&db, &mine.account).await.unwrap().is_empty());
    assert!(plans::list(&db, &mine.account).await.unwrap().is_empty());
    let own = book(&db, &mine.account).await;
    assert!(
        own.entry(id).is_err() && Curves::load(&db, &mine.account).await.unwrap().of(id).is_none()
    );
    not_found(curves::examine(&db, &own, id, &[]).await.map(drop).unwrap_err());
    let lift =
        courses::lift(&db, &mine.account, mine.person, id, Lift::Amount(PerDay(10.0)), dates).await;
    assert!(lift.is_err(), "a lift on another account's campaign");
    let convert = flight::convert(&db, &mine.account, mine.person, id, Some(dates)).await;
    assert!(convert.is_err(), "a flight on another account's campaign");
    // And theirs is as it was.
    let course = courses::list(&db, &theirs.account).await.unwrap().remove(0);
    assert!(course.plan.open());
    assert_eq!(plans::open(&db, &theirs.account, plan.plan.id).await.unwrap().plan.name, "Plan");
    assert_eq!(
        theirs.at_market("Names, search").budget,
        Some(Budget::Daily { amount: Micros::from_units(100.0) })
    );
}
