//! Laws of rules: thresholds, inheritance, evidence, rehearsal.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use chrono::{Days as Later, NaiveDate};
use proptest::prelude::*;
use tiller_core::bid_rule::{
    Action as BidAction, Ceiling, Field, Limits, Thresholds, Tree, decide,
};
use tiller_core::bid_volume::{PRIOR, unmoved};
use tiller_core::custom_rule::{
    Action, Clause, CustomRule, Evidence, Is, Metric, Over, Than, Things, When,
};
use tiller_core::history::{Came, Counted, History};
use tiller_core::ids::{AdGroupId, CampaignId, ItemId};
use tiller_core::rehearsal::campaigns::{CampaignDay, Campaigns};
use tiller_core::rehearsal::late::Late;
use tiller_core::rehearsal::{
    Because, Days, Outcome, Rehearsal, Stage, Thing, look, rehearse, sum,
};
use tiller_core::rule::{BidRule, Body, Daily, Rule};
use tiller_core::spot::Spot;
use tiller_core::{Micros, Price, Tally, Target};

fn units(x: f64) -> Micros {
    Micros::from_units(x)
}

fn day(n: u64) -> NaiveDate {
    NaiveDate::from_ymd_opt(2026, 8, 1).unwrap() + Later::new(n)
}

fn thresholds() -> impl Strategy<Value = Thresholds> {
    let ceiling = prop_oneof![
        (0.05f64..1.0).prop_map(Ceiling::Acos),
        (1.0f64..60.0).prop_map(|x| Ceiling::Cpa(Price(x)))
    ];
    (1.0f64..60.0, ceiling, 0.0f64..1.0, 0.05f64..1.0, 1u32..=20, 0.0f64..0.2).prop_map(
        |(spend, ceiling, headroom, lowest, clicks, least_cvr)| Thresholds {
            spend_without_sale: units(spend),
            ceiling,
            headroom: units(headroom),
            lowest_bid: units(lowest),
            clicks,
            least_cvr,
        },
    )
}

fn tallies() -> impl Strategy<Value = Tally> {
    (0i64..60, 0.0f64..80.0, 0u8..6, 0.0f64..60.0).prop_map(|(clicks, spend, conversions, each)| {
        Tally {
            impressions: clicks * 30 + 1,
            clicks,
            spend: units(if clicks > 0 { spend } else { 0.0 }),
            conversions: f64::from(conversions),
            value: units(f64::from(conversions) * each),
        }
    })
}

/// Thresholds of which any may be left out.
fn limits() -> impl Strategy<Value = Limits> {
    (thresholds(), proptest::collection::vec(any::<bool>(), 6)).prop_map(|(all, out)| {
        let left = Field::ALL.into_iter().zip(out).filter(|(_, out)| *out);
        left.fold(Limits::from(all), |some, (field, _)| some.without(field))
    })
}

const CAMPAIGN: CampaignId = CampaignId(1);

fn spot(group: i64, item: i64) -> Spot {
    Spot::of(CAMPAIGN).ad_group(AdGroupId(group)).item(ItemId(group * 10 + item))
}

proptest! {
    /// Whoever waits for less stops no less: spend without a sale, clicks before acting.
    #[test]
    fn lowering_what_is_waited_for_never_pauses_less(t in thresholds(), counted in tallies(), less in 0.1f64..1.0) {
        let paused = |t: &Thresholds| decide(t, &counted).action == BidAction::Pause;
        let spend = Thresholds { spend_without_sale: units(t.spend_without_sale.to_units() * less), ..t };
        let clicks = Thresholds { clicks: ((f64::from(t.clicks) * less) as u32).max(1), ..t };
        prop_assert!(!paused(&t) || (paused(&spend) && paused(&clicks)));
    }

    /// Nothing is done with a sale before there are the clicks asked for, and no bid is below the lowest.
    #[test]
    fn no_bid_rule_acts_below_its_evidence(t in thresholds(), counted in tallies()) {
        let decision = decide(&t, &counted);
        if counted.conversions > 0.0 && counted.clicks < t.clicks.into() {
            prop_assert_eq!(decision.action, BidAction::Wait);
        }
        if counted.conversions == 0.0 && counted.clicks < t.clicks.into() && counted.spend < t.spend_without_sale {
            prop_assert_eq!(decision.action, BidAction::Wait);
        }
        if let BidAction::Bid(bid) = decision.action {
            prop_assert!(bid >= t.lowest_bid);
        }
    }

    /// A threshold that is inherited does what the same threshold does that is set at every place itself.
    #[test]
    fn inheritance_is_a_copy(top in thresholds(), at in proptest::collection::vec(limits(), 7), counted in tallies()) {
        let places: Vec<Spot> = std::iter::once(Spot::of(CAMPAIGN))
            .chain((1..=2).map(|g| Spot::of(CAMPAIGN).ad_group(AdGroupId(g))))
            .chain((1..=2).flat_map(|g| (1..=2).map(move |i| spot(g, i))))
            .collect();
        let mut tree = Tree::new(top.into());
        for (place, own) in places.iter().zip(&at) {
            tree.set(*place, *own);
        }
        let mut copies = Tree::new(Limits::default());
        for place in &places {
            copies.set(*place, tree.at(*place));
        }
        for place in &places {
            let (a, b) = (tree.at(*place).complete().unwrap(), copies.at(*place).complete().unwrap());
            prop_assert_eq!(decide(&a, &counted), decide(&b, &counted));
            for field in Field::ALL {
                let source = tree.source(*place, field).unwrap();
                let there = source.map_or(tree.top, |s| tree.own(s));
                prop_assert_eq!(there.only(field), tree.at(*place).only(field), "it is set where it is said to be");
                prop_assert_eq!(copies.source(*place, field), Some(Some(*place)));
            }
        }
        let text = serde_json::to_string(&tree).unwrap();
        prop_assert_eq!(serde_json::from_str::<Tree>(&text).unwrap(), tree);
    }
}

/// Clicks, what each costs, whether one brings a sale, and how late that comes.
type ItemDay = (i64, f64, u8, u16);

/// Items with sixty days, some of whose conversions come late.
fn things() -> impl Strategy<Value = Vec<Thing>> {
    let days = proptest::collection::vec((0i64..4, 0.2f64..1.5, 0u8..20, 0u16..6), 60);
    let item = (days, 10.0f64..90.0, 0.5f64..3.0);
    proptest::collection::vec(item, 1..6).prop_map(|items| {
        let thing = |(n, (days, each, bid)): (usize, (Vec<ItemDay>, f64, f64))| {
            let counted = days.iter().enumerate().map(|(i, (clicks, cpc, _, _))| Counted {
                day: day(i as u64),
                impressions: clicks * 30 + 1,
                clicks: *clicks,
                spend: units(*clicks as f64 * cpc),
                bid: Some(units(bid)),
            });
            let sold = days.iter().enumerate().filter(|(_, d)| d.0 > 0 && d.2 == 0);
            let came = sold.map(|(i, d)| Came {
                day: day(i as u64),
                age: d.3,
                conversions: 1.0,
                value: units(each),
            });
            Thing {
                spot: spot(1, n as i64),
                history: History::new(counted.collect(), came.collect()),
                target: Some(Target::Cpa(Price(12.0))),
                dispersion: 1.5,
                aov: Some(Price(each)),
                group: 0,
                bid: Some(Price(bid)),
                bids: true,
                by_hand: Some(true),
                budget: None,
                stopped: false,
                volume: unmoved(PRIOR),
            }
        };
        items.into_iter().enumerate().map(thing).collect()
    })
}

fn rule(body: Body) -> Rule {
    Rule::new("A rule", body)
}

fn custom(sure: Option<f64>, clicks: u32) -> CustomRule<CampaignId> {
    let clause = Clause {
        metric: Metric::Cpa,
        over: Over::Days(14),
        is: Is::Above,
        than: Than::Target(1.5),
    };
    CustomRule {
        evidence: Evidence { clicks, sure, ..Evidence::default() },
        cool_down: 10,
        ..CustomRule::new(Things::Items, When::all([clause]), Action::Pause)
    }
}

const DAYS: (u64, u64) = (20, 59);

fn rehearsed(rule: &Rule, things: &[Thing]) -> Rehearsal {
    let days = Days { from: day(DAYS.0), to: day(DAYS.1), known: day(59), settle: 2 };
    rehearse(rule, &stage(things), days)
}

/// Things of one group, in an account of euros.
fn stage(things: &[Thing]) -> Stage {
    let groups = vec![History::together(things.iter().map(|t| &t.history))];
    Stage { things: things.to_vec(), groups, ..Stage::of("EUR".parse().unwrap()) }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// What a rehearsal says of a day is what the rule makes of that day, from what had been reported by its eve alone.
    #[test]
    fn a_rehearsed_day_is_the_run_of_that_day(things in things(), t in thresholds(), by_bid in any::<bool>()) {
        let limits = Tree::new(t.into());
        let bid = BidRule { within: vec![], window_days: 14, cool_down: 7, limits };
        let body = if by_bid { Body::Bid(bid) } else { Body::Custom(custom(Some(0.8), 3)) };
        let rule = rule(body);
        let stage = stage(&things);
        for act in &rehearsed(&rule, &things).acts {
            let eve = act.day.pred_opt().unwrap();
            let found = look(&rule.body, &stage, eve, 2).into_iter().find(|f| f.thing == act.found.thing).unwrap();
            prop_assert_eq!(found.known, act.found.known);
            prop_assert_eq!(found.because, act.found.because);
            prop_assert!(found.action.is_some());
        }
    }

    /// More evidence asked for is never more done on a first look, and nothing is done without it.
    #[test]
    fn no_custom_rule_acts_below_its_evidence(things in things(), sure in 0.5f64..0.99, clicks in 0u32..20) {
        let stage = stage(&things);
        let asks = Body::Custom(custom(Some(sure), clicks));
        let free = Body::Custom(custom(None, 0));
        for n in DAYS.0..DAYS.1 {
            let freely: Vec<_> = look(&free, &stage, day(n), 2).into_iter().filter(|f| f.action.is_some()).collect();
            for found in look(&asks, &stage, day(n), 2) {
                prop_assert_eq!(found.action.is_some(), found.because == Because::Holds);
                if found.action.is_some() {
                    prop_assert!(found.known.clicks >= clicks.into());
                    prop_assert!(freely.iter().any(|f| f.thing == found.thing));
                }
            }
        }
    }

    /// A rehearsal keeps to the day's limits, and what spends most comes first.
    #[test]
    fn a_rehearsal_keeps_to_the_days_limits(things in things()) {
        let free = rule(Body::Custom(custom(None, 0)));
        let one = Rule { daily: Daily { pauses: Some(1), ..Daily::default() }, ..free.clone() };
        let (all, some) = (rehearsed(&free, &things).acts, rehearsed(&one, &things).acts);
        for pair in some.windows(2) {
            prop_assert!(pair[0].day < pair[1].day, "one a day");
        }
        if let (Some(first), Some(limited)) = (all.first(), some.first()) {
            let that_day = all.iter().filter(|a| a.day == first.day);
            let most = that_day.map(|a| a.found.known.spend).max();
            prop_assert_eq!((limited.day, Some(limited.found.known.spend)), (first.day, most));
        }
    }

    /// What a rule sets is whole coins, and another amount than stood before.
    #[test]
    fn what_is_set_is_whole_coins_and_something_else(things in things(), t in thresholds(), by in -0.5f64..0.5) {
        let limits = Tree::new(t.into());
        let table = Body::Bid(BidRule { within: vec![], window_days: 14, cool_down: 3, limits });
        let cheap = Clause { metric: Metric::Clicks, over: Over::Days(7), is: Is::AtLeast, than: Than::Value(1.0) };
        let then = Action::BidBy(by);
        let step = CustomRule { cool_down: 3, ..CustomRule::new(Things::Items, When::all([cheap]), then) };
        for body in [table, Body::Custom(step)] {
            for act in rehearsed(&rule(body), &things).acts {
                let Some((from, to)) = act.from_to else { continue };
                prop_assert_ne!(from, to);
                let coins = to.units() * 100.0;
                prop_assert!((coins - coins.round()).abs() < 1e-6 && coins > 0.5, "{to:?}");
            }
        }
    }

    /// A thing is stopped once, rests as long as it is to, and what it kept is what was counted of it from then on; of its
    /// conversions those of complete days count, and as many a click on the last ones.
    #[test]
    fn what_is_kept_is_what_followed(things in things()) {
        let rehearsal = rehearsed(&rule(Body::Custom(custom(None, 0))), &things);
        let late = Late::of(&[History::together(things.iter().map(|t| &t.history))], day(59));
        for (n, thing) in things.iter().enumerate() {
            let acts: Vec<_> = rehearsal.acts.iter().filter(|a| a.found.thing == n).collect();
            prop_assert!(acts.len() <= 1, "stopped is stopped");
            for act in acts {
                let rest = tiller_core::Window::new(act.day, day(59)).unwrap();
                let followed = thing.history.tally(rest, day(59));
                prop_assert_eq!(act.followed, followed);
                prop_assert!((act.kept.mid - followed.spend.to_units()).abs() < 1e-6);
                let complete = tiller_core::Window::new(act.day, day(57));
                let known = complete.map(|w| late.completed(&thing.history, w, day(59))).unwrap_or_default();
                let times = followed.clicks as f64 / known.clicks as f64;
                let came = if known.clicks > 0 { known.conversions * times } else { followed.conversions };
                prop_assert!((act.lost.mid - came).abs() < 1e-9);
                let dear = thing.target.map(|t| t.excess(&known) > 0.0).filter(|_| known.spend.get() > 0);
                let outcome = match dear {
                    Some(true) => Outcome::Right,
                    Some(false) => Outcome::Mistake,
                    None => Outcome::Open,
                };
                prop_assert_eq!(act.outcome, outcome);
            }
        }
        let sum = sum(&rehearsal.acts);
        let kept: f64 = rehearsal.acts.iter().map(|a| a.followed.spend.to_units()).sum();
        prop_assert!((sum.kept.mid - kept).abs() < 1e-6 && sum.kept.around.high + 1e-9 >= sum.kept.mid);
    }
}

/// On days on which the budget was used up, what one thing does not spend the others do: that day, or, where a day may spend
/// what another left over, in the same month.
#[test]
fn money_of_a_full_budget_is_not_kept() {
    let counted =
        |n: u64| Counted { day: day(n), impressions: 100, clicks: 2, spend: units(3.0), bid: None };
    let thing = Thing {
        spot: spot(1, 1),
        history: History::new((0..60).map(counted).collect(), vec![]),
        target: Some(Target::Cpa(Price(12.0))),
        dispersion: 1.0,
        aov: None,
        group: 0,
        bid: None,
        bids: true,
        by_hand: Some(true),
        budget: None,
        stopped: false,
        volume: unmoved(PRIOR),
    };
    let counted = Tally { clicks: 20, spend: units(30.0), conversions: 3.0, ..Tally::default() };
    let by = |lost: Option<f64>, most: f64| {
        let mut campaigns = Campaigns::default();
        for n in 0..60 {
            let full = n % 2 == 0;
            let budget = Some(30.0 / if full { most } else { 0.5 });
            let lost = lost.map(|l| if full { l } else { 0.0 });
            campaigns.add(CAMPAIGN, day(n), CampaignDay { budget, lost, counted });
        }
        campaigns
    };
    let days = Days { from: day(20), to: day(20), known: day(59), settle: 2 };
    let rule = rule(Body::Custom(custom(None, 0)));
    let of = |thing: &Thing, campaigns: Campaigns| {
        let stage = Stage { campaigns, ..stage(std::slice::from_ref(thing)) };
        rehearse(&rule, &stage, days)
    };
    let run = |campaigns| of(&thing, campaigns);
    // Of 30 a day 0.04 were lost for want of budget on every other: the others' 27 could have been 27 ÷ 0.96, 1.125 more.
    let some = run(by(Some(0.04), 1.0)).acts[0].kept;
    assert!((some.mid - (60.0 + 20.0 * 1.875)).abs() < 1e-9, "{some:?}");
    assert!(some.around.low < some.mid && some.mid < some.around.high);
    // Where a quarter was, they would have taken 9: all of a day's 3, and what is free on the days with money to spare
    // where budgets carry over.
    assert!((run(by(Some(0.25), 1.0)).acts[0].kept.mid - 60.0).abs() < 1e-9);
    assert!(run(by(Some(0.25), 1.3)).acts[0].kept.mid.abs() < 1e-9);
    // Where nobody tells, all that might be taken counts as taken.
    let rehearsal = run(by(None, 1.0));
    let [act] = &rehearsal.acts[..] else { panic!("{rehearsal:?}") };
    assert_eq!(act.followed.spend, units(120.0), "forty days at 3");
    assert!((act.kept.mid - 60.0).abs() < 1e-9, "half of the days had money to spare");
    // The other 60 bring what the rest of the campaign makes of its money: 3 conversions a day on 27.
    assert!((act.lost.mid + 60.0 / 9.0).abs() < 1e-9, "{:?}", act.lost);
    // A strategy that has to spend more of it gets 0.7 as much for it: returns diminish.
    let bent = of(&Thing { by_hand: Some(false), ..thing.clone() }, by(None, 1.0)).acts[0].lost;
    assert!((bent.mid + 0.7 * 60.0 / 9.0).abs() < 1e-9, "{bent:?}");
    // Where nobody tells how bids are made, the range spans both.
    let either = of(&Thing { by_hand: None, ..thing.clone() }, by(None, 1.0)).acts[0].lost.around;
    let straight = run(by(None, 1.0)).acts[0].lost.around;
    assert!(either.low <= straight.low && either.high >= bent.around.high, "{either:?}");
}
