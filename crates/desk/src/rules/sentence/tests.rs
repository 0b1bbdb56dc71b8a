use proptest::prelude::*;
use tiller_core::bid_rule::{Ceiling, Limits, Tree};
use tiller_core::custom_rule::condition::Join;
use tiller_core::custom_rule::{
    Action, Amount, Clause, CustomRule, Evidence, Is, Metric, Over, Than, Things, When,
};
use tiller_core::ids::CampaignId;
use tiller_core::rule::{BidRule, Body, Daily, Rule};
use tiller_core::schedule::Schedule;
use tiller_core::week::DAYS;
use tiller_core::{Micros, Price};

use super::{Naming, Sentence, read};

fn naming() -> Naming {
    Naming {
        campaigns: vec![
            (CampaignId(1), "Stall, jars".into()),
            (CampaignId(2), "Stall, suits".into()),
        ],
    }
}

/// What a form with a sentence's places would send.
fn filled(sentence: &Sentence) -> impl Fn(&str) -> Vec<String> + use<> {
    let all: Vec<(String, Vec<String>)> =
        sentence.slots().map(|s| (s.name.clone(), s.values.clone())).collect();
    move |name: &str| all.iter().filter(|(n, _)| n == name).flat_map(|(_, v)| v.clone()).collect()
}

fn rule(body: Body) -> Rule {
    let schedule = Schedule { days: vec![DAYS[0]], ..Schedule::every_morning() };
    Rule { schedule, ..Rule::new("Jars", body) }
}

fn clause(metric: Metric, over: Over, is: Is, than: Than) -> Clause {
    Clause { metric, over, is, than }
}

fn custom() -> CustomRule<CampaignId> {
    let none = clause(Metric::Conversions, Over::Days(7), Is::AtMost, Than::Value(0.0));
    CustomRule {
        within: vec![CampaignId(1)],
        evidence: Evidence {
            spend: Some(Amount::TimesTarget(3.0)),
            days: 3,
            sure: Some(0.95),
            ..Evidence::default()
        },
        ..CustomRule::new(Things::AdGroups, When::all([none]), Action::Pause)
    }
}

#[test]
fn a_custom_rule_reads_as_a_sentence() {
    let rule = rule(Body::Custom(custom()));
    assert_eq!(
        Sentence::of(&rule, &naming()).text(),
        "Every Monday at 6:00, for each ad group of Stall, jars: if conversions over 7 settled days are at most 0, pause it. \
         Only with at least 3 × target spent and 3 settled days. Only when that is at least 95% certain. \
         It leaves anything it has changed alone for 14 days. Its changes go into the tray; if a run is missed, it catches up once."
    );
}

#[test]
fn a_bid_rule_reads_as_a_sentence() {
    let top = Limits {
        spend_without_sale: Some(Micros::from_units(12.0)),
        ceiling: Some(Ceiling::Acos(0.25)),
        headroom: Some(Micros::from_units(0.16)),
        lowest_bid: Some(Micros::from_units(0.3)),
        clicks: Some(10),
        least_cvr: Some(0.0),
    };
    let of = BidRule {
        within: vec![CampaignId(1)],
        window_days: 30,
        cool_down: 7,
        limits: Tree::new(top),
    };
    let rule = Rule { daily: Daily { pauses: Some(3), ..Daily::default() }, ..rule(Body::Bid(of)) };
    assert_eq!(
        Sentence::of(&rule, &naming()).text(),
        "Every Monday at 6:00, for items of Stall, jars, over 30 settled days: pause what has spent 12.00 without a sale, \
         or had 10 clicks without one; lower what costs more than 25% of its sales to what it can afford; bid everything \
         else 0.16 above its average click, never below 0.30. In a day, it makes at most 3 pauses. \
         It leaves anything it has changed alone for 7 days. Its changes go into the tray; if a run is missed, it catches up once."
    );
}

#[test]
fn what_is_wrong_names_its_place() {
    let was = rule(Body::Custom(custom()));
    let right = filled(&Sentence::of(&was, &naming()));
    let wrong = |slot: &str, text: &str| {
        let changed = |name: &str| {
            if name == slot { vec![text.to_owned()] } else { right(name) }
        };
        let all = read(&was, &changed).unwrap_err().wrong;
        assert_eq!(all.len(), 1, "{all:?}");
        (all[0].slot.clone(), all[0].text.clone())
    };
    for (slot, text, says) in [
        ("at", "25:00", "‘25:00’ is no time of day"),
        ("days", "someday", "at least one day"),
        ("c0.0.metric", "luck", "‘luck’ is not one of"),
        ("evidence.clicks", "2.5", "not a whole number"),
        ("evidence.spend", "three × target", "3 × target"),
        ("then", "vanish", "nothing that a rule can do"),
        ("cool_down", "-1", "not a whole number"),
    ] {
        let (at, why) = wrong(slot, text);
        assert!(at == slot && why.contains(says), "{slot}: {at}: {why}");
    }
    // What makes no sense together is told of the whole.
    assert_eq!(wrong("c0.0.number", "2 × target").0, "");
    assert!(wrong("c0.0.number", "two × target").1.contains("1.5 × target"));
    // An emptied condition is taken out, and none is left.
    assert!(wrong("c0.0.number", "").1.contains("add a condition"));
}

fn rounded(most: f64) -> impl Strategy<Value = f64> {
    (1u32..1000).prop_map(move |n| (f64::from(n) / 1000.0 * most * 100.0).round().max(1.0) / 100.0)
}

fn clauses() -> impl Strategy<Value = Clause> {
    (0..Metric::ALL.len(), 1u16..60, any::<bool>(), 0..Is::ALL.len(), 0..4u8, rounded(9.0))
        .prop_map(|(metric, days, life, is, than, x)| {
            let metric = Metric::ALL[metric];
            let than = match than {
                1 if metric.has_target() => Than::Target(x),
                2 if metric.is_rate() => Than::Peers(x),
                3 if metric != Metric::Age => Than::Before(x),
                _ if super::custom::is_share(metric) => Than::Value(x / 10.0),
                _ => Than::Value(x),
            };
            let life = life && !matches!(than, Than::Before(_));
            let over = if life { Over::Life } else { Over::Days(days) };
            clause(metric, over, Is::ALL[is], than)
        })
}

fn actions() -> impl Strategy<Value = (Things, Action)> {
    (0..4usize, 0..9u8, rounded(0.9), rounded(40.0), any::<bool>()).prop_map(
        |(things, n, by, to, up)| {
            let things = Things::ALL[things];
            let by = if up { by } else { -by };
            let action = match n {
                0 => Action::Pause,
                1 => Action::Resume,
                2 => Action::BidBy(by),
                3 => Action::BidTo(Price(to)),
                4 => Action::BudgetBy(by),
                5 => Action::BudgetTo(Price(to)),
                6 => Action::TargetBy(by),
                7 => Action::Exclude,
                _ => Action::Tell,
            };
            (things, if action.fits(things) { action } else { Action::Tell })
        },
    )
}

proptest! {
    /// Sentence ↔ data: what a sentence's places are filled with gives the rule again.
    #[test]
    fn a_sentence_gives_its_rule_again(
        (things, then) in actions(),
        any in any::<bool>(),
        parts in proptest::collection::vec(proptest::collection::vec(clauses(), 1..3), 1..4),
        (clicks, conversions, days) in (0u32..50, 0u32..9, 0u16..30),
        spend in prop_oneof![Just(None), rounded(90.0).prop_map(|x| Some(Amount::Value(x))), rounded(9.0).prop_map(|x| Some(Amount::TimesTarget(x)))],
        sure in proptest::option::of(50u8..99),
        (pauses, up, weekdays) in (proptest::option::of(1u32..9), proptest::option::of(rounded(500.0)), 1u8..128),
    ) {
        let parts: Vec<Vec<Clause>> = parts
            .into_iter()
            .map(|p| p.into_iter().map(|mut c| {
                if things == Things::Terms && let Than::Peers(x) = c.than { c.than = Than::Value(x); }
                c
            }).collect())
            .collect();
        let numbered = matches!(then, Action::BidBy(_) | Action::BidTo(_) | Action::BudgetBy(_) | Action::BudgetTo(_) | Action::TargetBy(_));
        let bound = |x: f64| numbered.then_some(Price(x));
        // One part alone has nothing to be joined with.
        let join = if any && parts.len() > 1 { Join::Any } else { Join::All };
        let body = CustomRule {
            things,
            within: vec![CampaignId(2)],
            when: When { join, parts },
            evidence: Evidence { clicks, spend, conversions, days, sure: sure.map(|p| f64::from(p) / 100.0) },
            then,
            floor: bound(0.25),
            ceiling: bound(8.5),
            cool_down: 14,
        };
        prop_assume!(body.when.clauses().count() <= 6 && body.check().is_ok());
        let mut was = rule(Body::Custom(body));
        was.daily = Daily { pauses, budget_up: up.map(Price), ..Daily::default() };
        was.schedule.days = DAYS.into_iter().enumerate().filter(|(n, _)| weekdays & (1 << n) != 0).map(|(_, d)| d).collect();
        let sentence = Sentence::of(&was, &naming());
        let again = read(&was, &filled(&sentence)).map_err(|e| TestCaseError::fail(format!("{e:?}")))?;
        let near = |rule: &Rule| serde_json::to_string(rule).unwrap();
        // Shares are typed as percentages: equal to what can be typed.
        let (a, b) = (Sentence::of(&again, &naming()), &sentence);
        prop_assert_eq!(&a, b, "{} {}", near(&again), near(&was));
        let Body::Custom(again) = again.body else { panic!("of a kind") };
        prop_assert!(again.check().is_ok());
    }
}
