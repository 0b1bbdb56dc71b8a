//! Advice on money, as it goes to the tray: steps, the week's budgets, plans over flights; and whose it is.
#![allow(clippy::unwrap_used, clippy::expect_used)]

mod common;

use common::scene::{Scene, fields, says};
use common::{account, book};
use tiller_channel::wire::{Budget, Setting};
use tiller_core::allocation::{Goal, brings};
use tiller_core::flight::By;
use tiller_core::response::lever::Bidding;
use tiller_core::steps::Step;
use tiller_core::{Micros, Target, Window};
use tiller_desk::curves::Curves;
use tiller_desk::tray;
use tiller_desk::{
    DeskError, PgPool, accounts, budgets, courses, curves, flight, rebalance, remedy, steps,
};
use tiller_store::MIGRATIONS;

/// The daily budgets that wait in the tray, by campaign.
async fn waiting(pool: &PgPool, s: &Scene) -> Vec<(String, f64)> {
    let rows = tray::rows(pool, &s.account).await.unwrap();
    let daily = |r: &tray::Row| match r.set_to {
        Setting::Budget(Budget::Daily { amount }) => {
            Some((r.change.place.clone(), amount.to_units()))
        }
        _ => None,
    };
    rows.iter().filter(|r| r.change.state == "waiting").filter_map(daily).collect()
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn three_days_speak_for_a_step(pool: PgPool) {
    let mut s = Scene::new(&pool).await;
    let due = async |s: &Scene| {
        let book = book(&pool, &s.account).await;
        let (_, known) = budgets::known(&pool, &book).await.unwrap();
        let lines = steps::of_account(&book, &known);
        (book, lines)
    };
    // By a target that nobody could miss, every due step goes up, and only where the budget is what holds it.
    accounts::set_default_target(&pool, s.account.id, Some(Target::Cpa(5000.0))).await.unwrap();
    s.account = accounts::by_slug(&pool, &s.account.slug).await.unwrap();
    let (_, up) = due(&s).await;
    assert!(up.iter().all(|l| l.advice.step == Step::Up && l.to(false) > l.budget), "{up:?}");
    assert!(up.iter().all(|l| (l.to(true) / l.budget - 2.0).abs() < 1e-3), "doubled if asked for");
    // By one that nobody could meet, all go down by a fifth of what they spend.
    accounts::set_default_target(&pool, s.account.id, Some(Target::Cpa(0.5))).await.unwrap();
    s.account = accounts::by_slug(&pool, &s.account.slug).await.unwrap();
    let (book, down) = due(&s).await;
    assert_eq!(down.len(), 4, "{down:?}");
    for line in &down {
        let spent = line.advice.tally.spend.to_units() / 3.0;
        assert_eq!(line.advice.step, Step::Down);
        assert!((line.to(false) - 0.8 * line.budget.min(spent)).abs() < 0.01, "{line:?}");
        assert!(line.told().contains("above target with a probability of"), "{}", line.told());
    }
    says(steps::take(&pool, &book, s.person, &[], false).await.unwrap_err(), "choose at least one");
    let chosen = [down[0].campaign, down[1].campaign];
    assert_eq!(steps::take(&pool, &book, s.person, &chosen, false).await.unwrap(), 2);
    let mut expected: Vec<f64> = down[..2].iter().map(|l| l.to(false)).collect();
    let mut found: Vec<f64> = waiting(&pool, &s).await.into_iter().map(|(_, b)| b).collect();
    expected.sort_by(f64::total_cmp);
    found.sort_by(f64::total_cmp);
    assert_eq!(found, expected);
    // A step is taken once in three days: what has just been changed waits.
    s.send(&pool).await;
    s.days_pass(&pool, 1).await;
    let (_, again) = due(&s).await;
    assert!(again.iter().all(|l| !chosen.contains(&l.campaign)), "{again:?}");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_weeks_advice_keeps_the_total_and_the_channels_limits(pool: PgPool) {
    let s = Scene::new(&pool).await;
    let now = book(&pool, &s.account).await;
    let moves = rebalance::advise(&pool, &now).await.unwrap();
    assert!(!moves.is_empty());
    let before: f64 = moves.iter().map(|m| m.from).sum();
    let after: f64 = moves.iter().map(|m| m.to).sum();
    assert!(after <= before + 1e-6, "{before} {after}");
    for m in &moves {
        assert!(m.to >= m.line.least - 1e-9, "{m:?}");
        assert!((m.to / m.from - 1.0).abs() >= 0.03, "not worth a change: {m:?}");
        if m.line.bidding == Some(Bidding::Priced) && m.line.learns {
            assert!((m.to / m.from - 1.0).abs() <= 0.2 + 1e-4, "a shock: {m:?}");
        }
        assert!(!m.capacity().is_empty());
    }
    let gained: f64 = moves.iter().map(|m| m.conversions().1 - m.conversions().0).sum();
    assert!(gained >= -1e-9, "{gained}");
    let n = rebalance::propose(&pool, &s.account, s.person, &moves).await.unwrap();
    assert_eq!(n, moves.len());
    assert_eq!(waiting(&pool, &s).await.len(), n);
    // Asked again, nothing is there twice.
    rebalance::propose(&pool, &s.account, s.person, &moves).await.unwrap();
    assert_eq!(waiting(&pool, &s).await.len(), n);
}

/// Over a flight, the plan's money by the day becomes one sum: what has been spent, and the days that are left.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_plan_over_a_flight_is_one_sum(pool: PgPool) {
    let s = Scene::new(&pool).await;
    let id = s.id(&pool, "Names, search").await;
    let flight_days = Window::ending("2026-12-09".parse().unwrap(), 30);
    flight::convert(&pool, &s.account, s.person, id, Some(flight_days)).await.unwrap();
    s.send(&pool).await;
    s.days_pass(&pool, 3).await;
    let mut opened = s.plan(&pool).await;
    // Money for what has a flight is typed: half of what it spends.
    let line = opened.file.lines.iter().position(|l| l.id == "Names, search");
    let Some(line) = line else { panic!("{:?}", opened.file.lines) };
    let half = (opened.file.lines[line].current * 0.5).round();
    let errors = budgets::edit(
        &mut opened.file,
        &fields(&[
            (&format!("fixed-{line}"), &half.to_string()),
            (&format!("floor-{line}"), ""),
            ("max_change", ""),
            ("use", "up_to"),
        ]),
    );
    assert!(errors.is_empty(), "{errors:?}");
    budgets::save(&pool, &s.account, opened.plan.id, "Plan", &opened.file).await.unwrap();
    let now = book(&pool, &s.account).await;
    remedy::plan_to_tray(&pool, &now, s.person, &opened).await.unwrap();
    let rows = tray::rows(&pool, &s.account).await.unwrap();
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
async fn plans_for_every_goal(pool: PgPool) {
    let s = Scene::new(&pool).await;
    let opened = s.plan(&pool).await;
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
        let errors = budgets::edit(&mut file, &fields(&[("goal", word), ("margin", "40%")]));
        assert!(errors.is_empty(), "{word} {errors:?}");
        assert_eq!(file.goal, goal);
        let worked = budgets::work(&file);
        let solved = worked.solved().unwrap();
        assert!(solved.objective >= solved.present - 1e-6, "{word}");
        let brought: f64 =
            (0..file.lines.len()).map(|i| brings(&worked.problem, i, solved.lines[i].budget)).sum();
        let cost = if goal == Goal::Profit { solved.totals.budget } else { 0.0 };
        assert!((brought - cost - solved.objective).abs() < 1e-6, "{word}");
    }
    // The least money for as much as now is no more than now.
    let mut file = opened.file.clone();
    let present: f64 = file.lines.iter().map(|l| budgets::present_conversions(l, file.days)).sum();
    let typed = format!("{:.2}", present * 0.999);
    let errors = budgets::edit(
        &mut file,
        &fields(&[("goal", "least_spend"), ("min_conversions", &typed), ("max_change", "")]),
    );
    assert!(errors.is_empty(), "{errors:?}");
    let worked = budgets::work(&file);
    let solved = worked.solved().unwrap();
    assert!(solved.totals.budget <= solved.current.budget + 0.01);
    assert!(solved.totals.conversions >= present * 0.999 - 0.01);
}

/// A plan says of a bending line what one of a straight line need not, and of a strategy who makes its bids.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn who_bids_decides_how_money_is_answered(pool: PgPool) {
    let s = Scene::new(&pool).await;
    let now = book(&pool, &s.account).await;
    let (_, known) = budgets::known(&pool, &now).await.unwrap();
    assert!(known.iter().all(|l| l.bidding == Some(Bidding::Priced) && l.lever.curve.is_none()));
    // Reports alone tell nothing of bids: money is believed to bring less and less.
    let files = account(&pool, "files").await;
    let days = "2026-09-10".parse::<chrono::NaiveDate>().unwrap().iter_days().take(60);
    let rows = days.enumerate().map(|(i, day)| {
        let spend = format!("{}.00", 30 + 7 * i % 25);
        common::row(
            &day.to_string(),
            "Alone",
            "hives",
            20,
            &spend,
            if i % 2 == 0 { "2" } else { "1" },
        )
    });
    let report = common::HEADER.to_owned() + &rows.collect::<String>();
    common::import(&pool, &files, &report).await;
    let now = book(&pool, &files).await;
    let (_, known) = budgets::known(&pool, &now).await.unwrap();
    assert!(known.iter().all(|l| l.bidding.is_none() && l.lever.curve.is_some()), "{known:?}");
    assert_eq!(known[0].budget, None);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn nothing_of_an_accounts_money_is_reached_from_another(pool: PgPool) {
    let (mine, theirs) = (Scene::new(&pool).await, Scene::new(&pool).await);
    let plan = theirs.plan(&pool).await;
    let id = theirs.id(&pool, "Names, search").await;
    let start = "2026-11-20".parse().unwrap();
    let dates = Window::new(start, "2026-11-22".parse().unwrap()).unwrap();
    courses::lift(&pool, &theirs.account, theirs.person, id, By::Amount(10.0), dates)
        .await
        .unwrap();
    let course = courses::list(&pool, &theirs.account).await.unwrap().remove(0);

    let not_found = |e: DeskError| assert!(matches!(e, DeskError::NotFound(_)), "{e}");
    not_found(budgets::open(&pool, &mine.account, plan.plan.id).await.unwrap_err());
    not_found(
        budgets::save(&pool, &mine.account, plan.plan.id, "Mine", &plan.file).await.unwrap_err(),
    );
    not_found(courses::stop(&pool, &mine.account, course.id()).await.unwrap_err());
    not_found(
        budgets::hold_month(&pool, &mine.account, Some(plan.plan.id)).await.map(drop).unwrap_err(),
    );
    assert!(courses::list(&pool, &mine.account).await.unwrap().is_empty());
    assert!(budgets::list(&pool, &mine.account).await.unwrap().is_empty());
    let own = book(&pool, &mine.account).await;
    assert!(
        own.entry(id).is_err()
            && Curves::load(&pool, &mine.account).await.unwrap().of(id).is_none()
    );
    not_found(curves::examine(&pool, &own, id, &[]).await.map(drop).unwrap_err());
    let lift = courses::lift(&pool, &mine.account, mine.person, id, By::Amount(10.0), dates).await;
    assert!(lift.is_err(), "a lift on another account's campaign");
    let convert = flight::convert(&pool, &mine.account, mine.person, id, Some(dates)).await;
    assert!(convert.is_err(), "a flight on another account's campaign");
    // And theirs is as it was.
    let course = courses::list(&pool, &theirs.account).await.unwrap().remove(0);
    assert!(course.open());
    assert_eq!(
        budgets::open(&pool, &theirs.account, plan.plan.id).await.unwrap().plan.name,
        "Plan"
    );
    assert_eq!(
        theirs.at_market("Names, search").budget,
        Some(Budget::Daily { amount: Micros::from_units(100.0) })
    );
}
