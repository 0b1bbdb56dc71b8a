//! Bids over time, against a market: experiments and steps that go on by themselves, what is learned from them, and what
//! the market's own truth says of it.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::common::book;
use crate::common::market::{amberfold, amberfold_days, days_of, practice};
use crate::common::scene::{Scene, says};
use tiller_core::bid_volume::Range;
use tiller_core::evidence::FEW;
use tiller_core::ids::CampaignId;
use tiller_core::setting::{Budget, Setting, Strategy};
use tiller_core::spot::Subject;
use tiller_core::verdict::Verdict;
use tiller_core::{Micros, Price, Target};
use tiller_desk::advice::{self, Advice, Advised, Cure, Means};
use tiller_desk::another_bid::Bidder;
use tiller_desk::bids::{self, course, toward};
use tiller_desk::book::{Entry, Judged};
use tiller_desk::budgets::responses::Spender;
use tiller_desk::budgets::weekly::{self, Move, Part};
use tiller_desk::courses::{self, Lever};
use tiller_desk::learning;
use tiller_desk::numerals::money;
use tiller_desk::tray::proposal::{Origin, Proposal};
use tiller_desk::{PgPool, account, logbook, today, tray, volume};
use tiller_market::sim::{Market, outcome, truth};
use tiller_market::world::{LARGE_SHOP, THIN_LEADS};
use tiller_store::MIGRATIONS;

fn bid(s: &Scene, name: &str) -> f64 {
    let set = s.at_market(name);
    match set.strategy {
        Strategy::TargetCpa { target } => target.to_units(),
        _ => set.bid.unwrap().to_units(),
    }
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_bid_experiment_runs_by_itself_and_is_learned_from(db: PgPool) {
    let s = Scene::new(&db).await;
    let names = s.id(&db, "Names, search").await;
    let known = async || {
        let now = book(&db, &s.account).await;
        volume::of_account(&db, &now).await.unwrap().get(names)
    };
    let before = known().await;
    assert!(!before.moved, "its bid has never moved: {before:?}");
    courses::experiment(&db, &s.account, s.person, names, Lever::Bid).await.unwrap();
    let other = courses::experiment(&db, &s.account, s.person, names, Lever::Budget).await;
    says(other.unwrap_err(), "on a course already");
    assert_eq!(bid(&s, "Names, search"), 4.0, "nothing happens before it is sent");
    s.send(&db).await;
    let mut seen = vec![bid(&s, "Names, search")];
    for _ in 0..4 {
        s.days_pass(&db, 7).await;
        seen.push(bid(&s, "Names, search"));
    }
    assert_eq!(seen, [4.8, 3.2, 3.2, 4.8, 4.0]);
    assert_eq!(s.budget("Names, search"), 100.0, "its budget is left alone");
    s.days_pass(&db, 3).await;
    let after = known().await;
    assert!(after.moved && after.clicks.sd < before.clicks.sd, "{before:?} {after:?}");
    assert!(after.seen.is_some_and(|s| s.low < 0.85 && s.high > 1.15), "{after:?}");
    // The market knows how its clicks answer to its bid: what was measured agrees with that within its error.
    let all = s.market.service.market();
    let known = truth(&all, &all.accounts[0]).into_iter().find(|t| t.campaign == "Names, search");
    let gamma = known.and_then(|t| t.bid_elasticity).unwrap();
    assert!((after.clicks.mean - gamma).abs() < 2.5 * after.clicks.sd, "{after:?} {gamma}");
    let list = courses::list(&db, &s.account).await.unwrap();
    assert_eq!((list[0].plan.lever, list[0].standing().as_str()), (Lever::Bid, "done"));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn steps_lead_to_what_is_affordable(db: PgPool) {
    let s = Scene::new(&db).await;
    account::set_default_target(&db, s.account.id, Some(Target::Cpa(Price(30.0)))).await.unwrap();
    let account = account::by_slug(&db, &s.account.slug).await.unwrap();
    let now = book(&db, &account).await;
    let all = bids::campaigns(&db, &now).await.unwrap();
    let line = all.lines.iter().find(|l| l.row.name == "Courses, search").unwrap();
    let settings = account::settings::Settings::of_book(&db, &now).await.unwrap();
    let steps = course::of(&all, &settings, line).expect("it pays too much for a click");
    // Each goes half of what is left, and none a fifth at once: learning is not begun anew.
    let mut last = 55.0;
    for x in &steps.numbers {
        assert!(*x < last && *x >= 0.81 * last - 0.01, "{:?}", steps.numbers);
        last = *x;
    }
    let id = line.row.campaign;
    let stale = ["steps: 1.00 now, 0.50 later".to_owned()];
    let refused = course::begin(&db, &all, s.person, id, &stale).await.unwrap_err();
    says(refused, "has changed since this page was loaded");
    let button = [steps.offer(&line.row.name).button()];
    course::begin(&db, &all, s.person, id, &button).await.unwrap();
    let waits = tray::rows(&db, &account).await.unwrap();
    assert_eq!(waits.len(), 1, "the first waits, the others follow");
    assert!(!waits[0].learns_anew && waits[0].change.reason.contains("each with its look-back"));
    s.send(&db).await;
    assert!((bid(&s, "Courses, search") - steps.numbers[0]).abs() < 1e-9);
    s.days_pass(&db, 13).await;
    assert!((bid(&s, "Courses, search") - steps.numbers[0]).abs() < 1e-9, "not yet");
    s.days_pass(&db, 1).await;
    assert!((bid(&s, "Courses, search") - steps.numbers[1]).abs() < 1e-9);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_shock_makes_a_strategy_learn(db: PgPool) {
    let s = Scene::new(&db).await;
    let id = s.id(&db, "Courses, search").await;
    let learning = async || {
        let now = book(&db, &s.account).await;
        learning::of_account(&db, &now).await.unwrap().get(&id).copied()
    };
    assert_eq!(learning().await, None);
    let subject = Subject::Campaign(id);
    let set = async |how: &str| {
        let edit = tray::Edit::Target;
        tray::edit(&db, &s.account, s.person, &[subject], edit, how, "").await.unwrap();
        s.send(&db).await;
    };
    set("50").await;
    s.days_pass(&db, 2).await;
    assert_eq!(learning().await, None, "a tenth less is no shock");
    set("30").await;
    s.days_pass(&db, 3).await;
    let learns = learning().await.expect("two fifths less is one");
    assert!(learns.day >= 2 && learns.day <= 4 && learns.of >= 7, "{learns:?}");
    s.days_pass(&db, 28).await;
    assert_eq!(learning().await, None, "it is over");
}

/// Once its look-back is over a campaign is judged by days of which half still tell of the bid before: what came since has
/// to ask for another step too. Here it was cut so far that it does not.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_step_that_suffices_is_not_followed_by_another(db: PgPool) {
    let s = Scene::new(&db).await;
    account::set_default_target(&db, s.account.id, Some(Target::Cpa(Price(30.0)))).await.unwrap();
    let account = account::by_slug(&db, &s.account.slug).await.unwrap();
    let id = s.id(&db, "Courses, search").await;
    let cure = async || {
        let now = book(&db, &account).await;
        let settings = account::settings::Settings::of_book(&db, &now).await.unwrap();
        let advised = advice::of_account(&db, &now).await.unwrap();
        let judged = now.judge(id);
        let over = judged.as_ref().is_some_and(|j| j.tally.cpa().is_some_and(|c| c > Price(30.0)));
        (over, advised.cure(&now, &settings, now.entry(id).unwrap(), judged.as_ref()))
    };
    assert!(matches!(cure().await, (true, Some(Cure::Change(_)))));
    let subject = Subject::Campaign(id);
    let edit = tray::Edit::Target;
    // In two steps, so that nothing begins to learn anew and the look-back comes sooner.
    for to in ["44.5", "36"] {
        tray::edit(&db, &account, s.person, &[subject], edit, to, "").await.unwrap();
        s.send(&db).await;
    }
    let (_, first) = cure().await;
    assert!(matches!(&first, Some(Cure::Quiet(q)) if !q.unclear), "{first:?}");
    s.days_pass(&db, 15).await;
    let (over, then) = cure().await;
    let Some(Cure::Quiet(quiet)) = then else { panic!("{over} {then:?}") };
    assert!(over && quiet.unclear, "the days before still weigh: {over} {quiet:?}");
    assert!(quiet.sentence().contains("don’t call for another step yet"));
    assert!(quiet.advice().starts_with("It is left alone for now: Target CPA from"));
    // When all days tell of it, it is judged as it is.
    s.days_pass(&db, 20).await;
    let (over, last) = cure().await;
    assert!(!matches!(&last, Some(Cure::Quiet(q)) if q.unclear), "{over} {last:?}");
}

/// What budgets leave unspent is spent where the next result surely meets the target, and cuts nobody who is on target; where
/// bids are not to be moved, what is spent stays the same.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_budgets_leave_unspent_is_spent_where_it_surely_pays(db: PgPool) {
    let market = amberfold_days(20).await;
    let account = practice(&db, &market, "supply", 20, Target::Roas(4.0)).await;
    let now = book(&db, &account).await;
    let week = advice::of_account(&db, &now).await.unwrap().week.clone();
    let more: f64 = week.moves.iter().map(|m| m.spend - m.line.spend).sum();
    assert!(more > 1.0 && more <= week.unspent + 1e-6, "{more} {}", week.unspent);
    for m in &week.moves {
        assert!(m.to > m.from || m.part != Part::Full, "{m:?}");
    }
    let alone = Means { budgets: true, bids: false, others: false };
    let alone = advice::by(&db, &now, alone).await.unwrap().week;
    let more: f64 = alone.moves.iter().map(|m| m.spend - m.line.spend).sum();
    assert!(!alone.moves.is_empty() && more.abs() < 1e-6 * week.unspent.max(1.0), "{alone:?}");
}

/// What budgets leave unspent is promised once: not again while it waits in the tray, is on its way by steps, or can't be
/// seen in what is spent yet; and what advice added to budgets makes no room for more of it. Taken back, it is there again.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_same_money_is_promised_once(db: PgPool) {
    let market = amberfold_days(20).await;
    let account = practice(&db, &market, "supply", 20, Target::Roas(4.0)).await;
    let s = Scene::of(&db, market, account).await;
    let left = async || {
        let now = book(&db, &s.account).await;
        advice::of_account(&db, &now).await.unwrap().week.unspent
    };
    let now = book(&db, &s.account).await;
    let advised = advice::of_account(&db, &now).await.unwrap();
    let first = advised.week.unspent;
    let budgets = advised.known.iter().filter_map(|l| Some(l.budget? - l.spend)).sum::<f64>();
    assert!(
        first <= budgets + 1e-6 && first > 0.0,
        "{first} of {budgets}: nobody has changed anything"
    );
    let raises: Vec<&Move> = advised.week.moves.iter().filter(|m| m.to > m.from).collect();
    let promised: f64 = raises.iter().map(|m| m.spend - m.line.spend).sum();
    assert!(promised > 1.0, "{raises:?}");
    weekly::propose(&db, &s.account, s.person, &raises).await.unwrap();
    let waiting = left().await;
    assert!(waiting <= first - promised + 1e-6, "{waiting} {first} {promised}");
    s.send(&db).await;
    let sent = left().await;
    assert!(sent <= first - promised + 1e-6, "{sent} {first} {promised}");
    // Nothing else is decided, and everything shows: people's budgets less what is spent, whatever budgets are now.
    for _ in 0..8 {
        s.days_pass(&db, 7).await;
    }
    let now = book(&db, &s.account).await;
    let then = advice::of_account(&db, &now).await.unwrap();
    let was = |l: &Spender| advised.known.iter().find(|o| o.campaign == l.campaign)?.budget;
    let people: f64 = then.known.iter().filter_map(|l| Some(was(l)? - l.spend)).sum();
    let naive: f64 = then.known.iter().filter_map(|l| Some(l.budget? - l.spend)).sum();
    assert!(naive > people + 1.0, "{naive} {people}");
    assert!((then.week.unspent - people.max(0.0)).abs() < 0.02, "{} {people}", then.week.unspent);
    // One is taken back, its steps like what they were a course of.
    let made = logbook::lately(&db, &s.account, 90).await.unwrap();
    let last = |l: &Spender| {
        made.iter().filter(|e| e.change.campaign == l.campaign).max_by_key(|e| e.change.id)
    };
    let taken = raises.iter().find(|m| m.steps.len() > 1).unwrap_or(&raises[0]);
    let last = last(&taken.line).unwrap();
    logbook::undo(&db, &s.account, s.person, last.change.id).await.unwrap();
    s.send(&db).await;
    let back = left().await;
    assert!((back - then.week.unspent).abs() < 0.02, "{back} {}", then.week.unspent);
}

/// Fault 2, people who are only interested in its places: its one advice is to reach those in them. Where only budgets and
/// bids may be moved, its bid is what is left.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_only_places_would_mend_is_bid_for_less_where_they_may_not_be_moved(db: PgPool) {
    let market = amberfold_days(20).await;
    let account = practice(&db, &market, "school", 20, Target::Cpa(Price(30.0))).await;
    let now = book(&db, &account).await;
    let settings = account::settings::Settings::of_book(&db, &now).await.unwrap();
    let entry = now.entries.iter().find(|e| e.campaign.name == "Apiary visits, display").unwrap();
    let judged = now.judge(entry.campaign.id);
    let mut set = Vec::new();
    for others in [true, false] {
        let means = Means { budgets: false, bids: true, others };
        let advised = advice::by(&db, &now, means).await.unwrap();
        match advised.cure(&now, &settings, entry, judged.as_ref()) {
            Some(Cure::Change(p)) => set.push(p.set),
            other => panic!("{other:?}"),
        }
    }
    assert!(matches!(set[0], Setting::Places(_)), "{set:?}");
    let Setting::Bid(Some(bid)) = set[1] else { panic!("{set:?}") };
    let paid = settings.campaign(entry.campaign.id).unwrap().bid.unwrap();
    assert!(bid < paid, "{bid:?} {paid:?}");
}

/// *Jars, search* is over its target, by less than its results can tell: it is offered a step down, since its last
/// conversions surely cost too much. In truth they do.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn where_the_last_conversions_are_too_dear_a_bid_is_lowered_by_a_step(db: PgPool) {
    let market = amberfold_days(5).await;
    let account = practice(&db, &market, "supply", 5, Target::Roas(4.0)).await;
    let now = book(&db, &account).await;
    let advised = advice::of_account(&db, &now).await.unwrap();
    let of = |(e, _): &(&Entry, Option<Judged>)| e.campaign.name == "Jars, search";
    let (entry, judged) = now.entries.iter().zip(now.judge_all().iter().cloned()).find(of).unwrap();
    let verdict = judged.as_ref().unwrap().diagnosis.verdict;
    assert_eq!(verdict, Verdict::TooEarly, "neither surely over nor under its target");
    let Advice::Bid(p) = advised.on(entry, judged.as_ref()) else { panic!("no step") };
    let Setting::Bid(Some(bid)) = p.set else { panic!("{p:?}") };
    assert!((bid.to_units() - 0.81).abs() < 0.011, "1.00 less 19%: {bid:?}");
    assert!(p.adds.spend.unwrap() < 0.0 && p.adds.conversions.unwrap() < 0.0);
    assert!(p.effect.contains(" a day less"), "{}", p.effect);
    let world = market.service.market();
    let known = truth(&world, &world.accounts[1]);
    let t = known.iter().find(|t| t.campaign == "Jars, search").unwrap();
    let last = 1.0 + t.price_elasticity.unwrap() / t.bid_elasticity.unwrap();
    let roas = judged.as_ref().unwrap().tally.roas().unwrap();
    assert!(roas / last < 4.0, "the last bring {} where 4 are wanted", roas / last);
    // Today does not say that it is to be left alone.
    let dear = |j: &&Judged| j.diagnosis.verdict == Verdict::TooEarly && j.diagnosis.excess > 0.0;
    let all = now.judge_all().iter().flatten().filter(dear).count();
    let (_, undecided) = today::deeds(&now, &advised);
    assert!(undecided < all, "{undecided} of {all}");
}

/// In a large shop one campaign is held by its bid and its budget, and raised in both at once, by more than its budget
/// alone would bring; another is on target, and its last conversions cost more than twice what they may: it is
/// offered a step down. In the market that step is worth more than it costs.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn both_are_raised_at_once_and_waste_is_cut_on_target_too(db: PgPool) {
    let market = days_of(LARGE_SHOP, 1).await;
    let account = practice(&db, &market, "bazaar", 1, Target::Roas(3.5)).await;
    let s = Scene::of(&db, market, account).await;
    let now = book(&db, &s.account).await;
    let advised = advice::of_account(&db, &now).await.unwrap();
    let bids: Vec<(CampaignId, Proposal)> = now
        .entries
        .iter()
        .zip(now.judge_all())
        .filter_map(|(e, j)| match advised.on(e, j.as_ref()) {
            Advice::Bid(p) => Some((e.campaign.id, p.clone())),
            _ => None,
        })
        .collect();
    let (hives, raise) =
        bids.iter().find(|(_, p)| !p.along.is_empty()).expect("one is held by both");
    let (hives, [along]) = (*hives, &raise.along[..]) else { panic!("{raise:?}") };
    assert!(matches!((&raise.set, &along.set), (Setting::Bid(_), Setting::Budget(_))));
    let budgets = Means { bids: false, ..Means::ALL };
    let alone = advice::by(&db, &now, budgets).await.unwrap();
    let alone = alone.week.moves.iter().find(|m| m.line.campaign == hives).map(Move::adds);
    assert!(alone.is_none_or(|a| a.spend < raise.adds.spend), "{alone:?} {:?}", raise.adds);
    assert!(advised.week.moves.iter().all(|m| m.line.campaign != hives), "one advice");

    let waste = "but the last conversions that its bid buys cost more than twice";
    let (_, step) =
        bids.iter().find(|(_, p)| p.reason.contains(waste)).expect("one buys waste").clone();
    let (saved, fewer) = (-step.adds.spend.unwrap(), -step.adds.value.unwrap());
    assert!(saved > 0.0 && fewer >= 0.0 && fewer < 3.5 * saved, "{:?}", step.adds);
    tray::propose(&db, &s.account, s.person, vec![step]).await.unwrap();
    let mut without = Market::clone(&s.market.service.market());
    without.pass(14);
    s.send(&db).await;
    s.days_pass(&db, 14).await;
    let came = |market: &Market| outcome(market, 0, 14);
    let (without, with) = (came(&without), came(&s.market.service.market()));
    let (saved, fewer) = (without.spend - with.spend, without.due.value - with.due.value);
    assert!(saved > 0.0 && fewer < 3.5 * saved, "saved {saved} for {fewer}");
}

/// *Suits, search* has a strategy that spends any budget, and no highest bid. Over its target, its budget is what stands for
/// its bid: a step less of it, that restarts nothing, and is looked back on as a bid is.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_budget_that_is_always_spent_stands_for_the_bid(db: PgPool) {
    let market = amberfold_days(20).await;
    let account = practice(&db, &market, "supply", 20, Target::Roas(4.0)).await;
    let mut s = Scene::of(&db, market, account).await;
    let id = s.id(&db, "Suits, search").await;
    let now = book(&db, &s.account).await;
    let roas = now.judge(id).unwrap().tally.roas().unwrap();
    account::set_default_target(&db, s.account.id, Some(Target::Roas(1.6 * roas))).await.unwrap();
    s.account = account::by_slug(&db, &s.account.slug).await.unwrap();
    // The others wait for another budget: its money has nowhere to go.
    let settings = account::settings::Settings::of_account(&db, s.account.id).await.unwrap();
    let coin_more = |e: &Entry| {
        let other = e.campaign.id != id;
        let Budget::Daily { amount } = settings.campaign(e.campaign.id)?.budget? else {
            return None;
        };
        let set = Setting::Budget(Budget::Daily { amount: amount + Micros::from_units(0.01) });
        let of = Subject::Campaign(e.campaign.id);
        other.then(|| Proposal::new(of, set, Origin::Hand, "Because."))
    };
    let others = now.entries.iter().filter_map(coin_more).collect();
    tray::propose(&db, &s.account, s.person, others).await.unwrap();
    let now = book(&db, &s.account).await;
    let judged = now.judge(id).unwrap();
    assert!(judged.diagnosis.verdict != Verdict::TooEarly, "surely over: {:?}", judged.diagnosis);
    let settings = account::settings::Settings::of_book(&db, &now).await.unwrap();
    let cure = |of: &Advised| of.cure(&now, &settings, now.entry(id).unwrap(), Some(&judged));
    let budgets_alone = Means { budgets: true, bids: false, others: false };
    let bids_alone = Means { budgets: false, bids: true, others: false };
    for means in [budgets_alone, bids_alone] {
        let advised = advice::by(&db, &now, means).await.unwrap();
        let week = advised.week.moves.iter().any(|m| m.line.campaign == id);
        assert!(week || !matches!(cure(&advised), Some(Cure::Change(_))), "{means:?}");
    }
    let advised = advice::of_account(&db, &now).await.unwrap();
    let Some(Cure::Change(p)) = cure(&advised) else { panic!("{:?}", cure(&advised)) };
    let before = settings.campaign(id).unwrap().budget.unwrap().per_day().to_units();
    let Setting::Budget(Budget::Daily { amount }) = p.set else { panic!("{p:?}") };
    assert!((amount.to_units() - 0.81 * before).abs() < 0.006, "{before} {amount:?}");
    assert!(p.reason.contains("Its strategy spends any budget it is given"), "{}", p.reason);
    // Money goes by a fifth, results by less, and each of those that go costs more than it may.
    let (spend, conversions) = p.adds.spend.zip(p.adds.conversions).unwrap();
    let days = judged.window.days() as f64;
    let (spent, came) = (judged.tally.spend.to_units() / days, judged.tally.conversions / days);
    assert!((spend / spent + 0.19).abs() < 0.03, "{spend} of {spent}");
    assert!(conversions < 0.0 && conversions / came > spend / spent, "{conversions} of {came}");
    assert!(spend / conversions > judged.diagnosis.target_cpa.unwrap().units());
    tray::propose(&db, &s.account, s.person, vec![p]).await.unwrap();
    let rows = tray::rows(&db, &s.account).await.unwrap();
    assert!(rows.iter().any(|r| r.change.campaign == id) && rows.iter().all(|r| !r.learns_anew));
    s.send(&db).await;
    let then = book(&db, &s.account).await;
    let advised = advice::of_account(&db, &then).await.unwrap();
    assert!(advised.quiet(id).is_some());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn toward_what_is_affordable_by_whatever_sets_the_bid(db: PgPool) {
    let s = Scene::new(&db).await;
    account::set_default_target(&db, s.account.id, Some(Target::Cpa(Price(30.0)))).await.unwrap();
    let account = account::by_slug(&db, &s.account.slug).await.unwrap();
    let now = book(&db, &account).await;
    let all = bids::campaigns(&db, &now).await.unwrap();
    for name in ["Courses, search", "Names, search"] {
        let row = &all.lines.iter().find(|l| l.row.name == name).unwrap().row;
        let (paid, may) = (row.tally.cpc().unwrap(), row.affordable().unwrap().cautious);
        let before = bid(&s, name);
        toward::set(&db, &now, s.person, &[row.subject], toward::Toward::Affordable, "")
            .await
            .unwrap();
        let waits = tray::rows(&db, &account).await.unwrap();
        let set = tiller_desk::change_words::amount(&waits[0].set_to).unwrap();
        // A click's price follows its bid in part, so the bid goes further than the price is meant to.
        let times = all.volumes.get(row.campaign).bid_for(may / paid);
        assert!((times < 1.0) == (times < may / paid), "{name}: {times}");
        assert!((set - before * times).abs() < 0.006, "{name}: {before} {set}");
        tray::withdraw(&db, &account, &[waits[0].change.id]).await.unwrap();
    }
    let none = toward::set(&db, &now, s.person, &[], toward::Toward::Halfway, "").await;
    says(none.unwrap_err(), "choose at least one row");
}

/// Fault 6: nobody answers the telephone at night. Once the channel takes hours, with a lifetime budget, the hours of the week
/// stand among the adjustments, as one change that sets them.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn hours_of_the_week_stand_among_the_adjustments(db: PgPool) {
    let market = amberfold(20).await;
    let account = practice(&db, &market, "school", 20, Target::Cpa(Price(30.0))).await;
    let s = Scene::of(&db, market, account).await;
    let id = s.id(&db, "Evening calls, feed").await;
    let week = async || {
        let now = book(&db, &s.account).await;
        let (rows, _) = bids::adjustments::of_account(&db, &now).await.unwrap();
        rows.into_iter().find(|r| r.campaign == id && r.who == "hours of the week")
    };
    assert!(week().await.is_none(), "the channel would refuse them");
    let set = Setting::Budget(Budget::Lifetime {
        amount: Micros::from_units(4000.0),
        starts: "2026-11-10".parse().unwrap(),
        ends: "2026-12-31".parse().unwrap(),
    });
    let subject = Subject::Campaign(id);
    let change = Proposal::new(subject, set, Origin::Hand, "For its hours.");
    tray::propose(&db, &s.account, s.person, vec![change]).await.unwrap();
    s.send(&db).await;
    s.days_pass(&db, 31).await;
    let row = week().await.expect("nobody answers at night");
    assert!(row.now == "always" && row.to.contains("off"), "{row:?}");
    let Setting::Hours(Some(hours)) = &row.change.set else { panic!("{row:?}") };
    assert!(hours.on() < 168 && hours.on() > 24, "{row:?}");
    let now = book(&db, &s.account).await;
    let button = vec![row.offer().button()];
    let put = bids::adjustments::take(&db, &now, s.person, &button).await.unwrap();
    assert_eq!(put, 1);
    s.send(&db).await;
    assert!(week().await.is_none(), "it is left alone until its look-back");
}

/// Fault 14: a return asked for far above what is wanted keeps a campaign out of auctions that would pay. It is offered a
/// higher bid, a step at a time, and is not when one more would not pay.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_its_bid_keeps_from_more_is_raised(db: PgPool) {
    let market = amberfold_days(20).await;
    let account = practice(&db, &market, "supply", 20, Target::Roas(4.0)).await;
    let now = book(&db, &account).await;
    let advised = advice::of_account(&db, &now).await.unwrap();
    let mut raised = Vec::new();
    for (entry, judged) in now.entries.iter().zip(now.judge_all()) {
        let Advice::Bid(p) = advised.on(entry, judged.as_ref()) else { continue };
        if p.adds.spend.is_none_or(|more| more <= 0.0) {
            continue;
        }
        let judged = judged.as_ref().unwrap();
        // The mean of the next, at the present bid, is under what the target allows.
        let next = advised.volumes.get(entry.campaign.id).next_click();
        let (next, low) = (next.mid, next.around.low);
        let allowed = judged.diagnosis.target_cpa.unwrap() / judged.tally.cpa().unwrap();
        assert!(low <= next && next <= allowed, "{}: {next} {allowed}", entry.campaign.name);
        assert!(p.adds.conversions.unwrap() > 0.0 && p.adds.spend.unwrap() > 0.0);
        raised.push((entry.campaign.name.clone(), p.clone()));
    }
    let smokers = raised.iter().find(|(name, _)| name == "Smokers, search");
    let (_, p) = smokers.unwrap_or_else(|| panic!("{raised:?}"));
    let Setting::Strategy(Strategy::TargetRoas { target }) = p.set else { panic!("{:?}", p.set) };
    assert!((target - 8.5 / 1.19).abs() < 0.01, "a step more bid: {target}");
    // Bids and Causes offer the same.
    let entry = now.entries.iter().find(|e| e.campaign.name == "Smokers, search").unwrap();
    let settings = account::settings::Settings::of_book(&db, &now).await.unwrap();
    let judged = now.judge(entry.campaign.id);
    let cure = advised.cure(&now, &settings, entry, judged.as_ref());
    assert!(matches!(cure, Some(Cure::Change(c)) if c.set == p.set));
}

/// In thin leads a dozen results a month say little, and most of what looks cheap is luck: a bid is raised on fewer than ten only
/// where it is nine in ten sure (0.7 was; on seed 1 that raised one which then paid 145 for leads that may cost 120).
#[sqlx::test(migrator = "MIGRATIONS")]
async fn on_few_results_a_bid_is_raised_only_where_that_is_surer(db: PgPool) {
    for seed in 1..=2 {
        let market = days_of(THIN_LEADS, seed).await;
        let account = practice(&db, &market, "rental", seed, Target::Cpa(Price(120.0))).await;
        let now = book(&db, &account).await;
        let settings = account::settings::Settings::of_book(&db, &now).await.unwrap();
        let volumes = volume::of_account(&db, &now).await.unwrap();
        for (entry, judged) in now.entries.iter().zip(now.judge_all()) {
            let Some(judged) = judged else { continue };
            let dispersion = entry.rules(judged.target, judged.window).dispersion;
            let few = judged.tally.conversions / dispersion < FEW;
            let bidder = Bidder::of(&settings, &volumes, entry, judged);
            let Some(p) = bidder.and_then(|b| b.higher(None)) else { continue };
            let reason = p.reason.as_str();
            let sure = reason.split("(probability ").nth(1).unwrap().split(')').next().unwrap();
            let digits = sure.trim_start_matches("over ").trim_end_matches('%');
            let sure = digits.parse::<f64>().unwrap() / 100.0;
            assert!(
                sure >= if few { 0.9 } else { 0.7 },
                "{seed} {}: {reason}",
                entry.campaign.name
            );
        }
    }
}

/// *Own name, search* brings leads at a quarter of the target, its bid keeps it from more, and its budget has room for little
/// more: it is offered a higher bid with the budget that this needs, as one advice, and no more money than the
/// account's budgets leave unspent.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_higher_bid_brings_the_budget_that_it_needs(db: PgPool) {
    let market = amberfold_days(20).await;
    let account = practice(&db, &market, "school", 20, Target::Cpa(Price(30.0))).await;
    let s = Scene::of(&db, market, account).await;
    let now = book(&db, &s.account).await;
    let advised = advice::of_account(&db, &now).await.unwrap();
    let (entry, judged) = {
        let of = |(e, _): &(&Entry, Option<Judged>)| e.campaign.name == "Own name, search";
        now.entries.iter().zip(now.judge_all().iter().cloned()).find(of).unwrap()
    };
    let Advice::Bid(raise) = advised.on(entry, judged.as_ref()) else { panic!("no raise") };
    let settings = account::settings::Settings::of_book(&db, &now).await.unwrap();
    let set = settings.campaign(entry.campaign.id).unwrap();
    let (bid, Budget::Daily { amount }) = (set.bid.unwrap().to_units(), set.budget.unwrap()) else {
        panic!("a daily budget")
    };
    let Setting::Bid(Some(to)) = raise.set else { panic!("{raise:?}") };
    assert!(to.to_units() > 1.2 * bid && to.to_units() <= 2.0 * bid, "{bid} {to:?}");
    let [budget] = &raise.along[..] else { panic!("{raise:?}") };
    let Setting::Budget(Budget::Daily { amount: room }) = budget.set else { panic!("{budget:?}") };
    assert!(room > amount && room.to_units() <= 2.0 * amount.to_units(), "{amount:?} {room:?}");
    let adds = raise.adds.spend.unwrap();
    let of_known = |l: &&Spender| l.campaign == entry.campaign.id;
    let spends = advised.known.iter().find(of_known).unwrap().spend;
    assert!(spends + adds <= room.to_units() && spends + adds > 0.95 * amount.to_units());
    let unspent: f64 = advised.known.iter().filter_map(|l| Some(l.budget? - l.spend)).sum();
    assert!(adds <= unspent, "{adds} {unspent}");
    assert_eq!(
        raise.aim(),
        format!("Bid to {}, daily budget to {}", money(to.to_units()), money(room.to_units()))
    );
    // Where budgets are not to be moved, it goes as far as its own has room.
    let bids = Means { budgets: false, bids: true, others: false };
    let alone = advice::by(&db, &now, bids).await.unwrap();
    let Advice::Bid(within) = alone.on(entry, judged.as_ref()) else { panic!("no raise") };
    let Setting::Bid(Some(less)) = within.set else { panic!("{within:?}") };
    assert!(within.along.is_empty() && less < to && less.to_units() > bid);
    // Both go to the tray together, and what they add is counted once.
    tray::propose(&db, &s.account, s.person, vec![raise.clone()]).await.unwrap();
    let rows = tray::rows(&db, &s.account).await.unwrap();
    assert_eq!(rows.len(), 2);
    let shocked: Vec<_> = rows.iter().flat_map(|r| &r.checks).collect();
    assert!(shocked.is_empty(), "a bid by hand and its room: {shocked:?}");
    let counted: i64 = rows.iter().filter_map(|r| r.change.spend_a_day).sum();
    assert!((Micros::new(counted).to_units() - adds).abs() < 0.01, "{counted} {adds}");
    s.send(&db).await;
    assert_eq!(s.at_market("Own name, search").bid, Some(to));
    assert_eq!(s.budget("Own name, search"), room.to_units());
    // Nothing more until its look-back.
    let then = book(&db, &s.account).await;
    let advised = advice::of_account(&db, &then).await.unwrap();
    assert!(advised.quiet(entry.campaign.id).is_some());
}

/// What is believed of campaigns whose bids have not moved, and what is read of those whose bids have, holds what is true
/// in the market: its campaigns win from a tenth to nearly all of their auctions.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_is_believed_of_bids_holds_the_truth(db: PgPool) {
    let (mut clicks, mut price, mut all) = (0, 0, 0);
    for seed in [5, 31] {
        let market = amberfold_days(seed).await;
        for (i, (key, target)) in
            [("school", Target::Cpa(Price(30.0))), ("supply", Target::Roas(4.0))].iter().enumerate()
        {
            let account = practice(&db, &market, key, seed, *target).await;
            let now = book(&db, &account).await;
            let volumes = volume::of_account(&db, &now).await.unwrap();
            let world = market.service.market();
            for t in truth(&world, &world.accounts[i]) {
                let Some((gamma, kappa)) = t.bid_elasticity.zip(t.price_elasticity) else {
                    continue;
                };
                let Some(e) = now.entries.iter().find(|e| e.campaign.name == t.campaign) else {
                    continue;
                };
                let e = volumes.get(e.campaign.id);
                // At a lower bid, where no share of the auctions is the end of it.
                let times: f64 = 0.9;
                let holds = |r: Range, x: f64| {
                    u32::from((r.around.low..=r.around.high).contains(&times.powf(x)))
                };
                clicks += holds(e.volume(times), gamma);
                price += holds(e.cpc(times), kappa);
                all += 1;
            }
        }
    }
    println!("80% intervals hold γ in {clicks} and κ in {price} of {all}");
    assert!(all > 30 && clicks * 10 >= all * 7 && price * 10 >= all * 7, "{clicks} {price} {all}");
}

/// A campaign on target whose budget ends its days early gets more for the same money at a lower bid; the market agrees.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn where_the_budget_ends_its_days_a_lower_bid_buys_more(db: PgPool) {
    let market = amberfold_days(20).await;
    let account = practice(&db, &market, "supply", 20, Target::Roas(4.0)).await;
    let now = book(&db, &account).await;
    let settings = account::settings::Settings::of_book(&db, &now).await.unwrap();
    let volumes = volume::of_account(&db, &now).await.unwrap();
    let world = market.service.market();
    let known = truth(&world, &world.accounts[1]);
    let mut lowered = 0;
    for (entry, judged) in now.entries.iter().zip(now.judge_all()) {
        let Some(judged) = judged else { continue };
        let bidder = Bidder::of(&settings, &volumes, entry, judged);
        let Some((bidder, p)) = bidder.and_then(|b| b.lasting().map(|p| (b, p))) else { continue };
        lowered += 1;
        assert_eq!(p.adds.spend, Some(0.0), "the same money");
        assert!(p.adds.conversions.unwrap() > 0.0 && p.effect.ends_with("for the same money"));
        let Setting::Bid(Some(bid)) = p.set else { panic!("{:?}", p.set) };
        let spot = settings.spot(p.subject).unwrap();
        let times = bid.to_units() / settings.bid(spot).unwrap().to_units();
        assert!((0.79..0.99).contains(&times), "{}: {times}", entry.campaign.name);
        // In truth: what the lower bid could spend is no less than what the budget has.
        let t = known.iter().find(|t| t.campaign == entry.campaign.name).unwrap();
        let follows = t.bid_elasticity.unwrap() + t.price_elasticity.unwrap();
        let lost = entry.days.iter().rev().take(28).filter_map(|d| Some(d.lost_to_budget?.get()));
        let lost: Vec<f64> = lost.collect();
        let could = 1.0 / (1.0 - lost.iter().sum::<f64>() / lost.len() as f64);
        assert!(could * times.powf(follows) > 0.9, "{}: {could} {times}", entry.campaign.name);
        // One that its bid holds, or nothing, is not offered it.
        assert!(bidder.higher(None).is_none());
    }
    assert!(lowered >= 2, "several are held by their budgets: {lowered}");
}
