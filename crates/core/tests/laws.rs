//! Laws that hold for all inputs: bridges, excess, evidence, allocation.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::instances::{Random, assert_limits_kept, solved};
use proptest::prelude::*;
use tiller_core::allocation::{Answer, ConflictKind, Goal, HeldBy, Problem, Repair, Use};
use tiller_core::bridge::{bridge, bridge_of_returns};
use tiller_core::evidence::{clopper_pearson, poisson, wilson};
use tiller_core::share_out::share_out;
use tiller_core::verdict::{BudgetUse, Case, Faults, Verdict, diagnose};
use tiller_core::{Micros, Price, Tally, Target};

fn tally() -> impl Strategy<Value = Tally> {
    (1i64..100_000, 1i64..5_000, 1i64..5_000_000_000, 0u32..800, 0i64..90_000_000_000).prop_map(
        |(i, clicks, spend, conversions, value)| Tally {
            impressions: i + clicks,
            clicks,
            spend: Micros::new(spend),
            conversions: f64::from(conversions) / 4.0,
            value: Micros::new(value),
        },
    )
}

fn case(tally: Tally, target: Target, peers: &[Tally]) -> Case<'_> {
    Case {
        tally,
        settled_days: 28,
        target,
        least_difference: 0.05,
        peers,
        orders: None,
        launched: None,
        shocked: None,
        last_day: chrono::NaiveDate::default(),
        settle_days: 2,
        findings: &[],
        budget_use: BudgetUse::default(),
        dispersion: 1.0,
        to_come_error: 0.0,
    }
}

fn converting() -> impl Strategy<Value = Tally> {
    tally().prop_filter("a bridge needs conversions", |t| t.conversions > 0.0)
}

proptest! {
    #[test]
    fn a_bridge_adds_up_and_turns_around(a in converting(), b in converting()) {
        let there = bridge(&a, &b).unwrap();
        let scale = there.from + there.to;
        prop_assert!((there.from + there.cpc + there.cvr - there.to).abs() <= 1e-9 * scale);
        let back = bridge(&b, &a).unwrap();
        prop_assert!((there.cpc + back.cpc).abs() <= 1e-9 * scale);
        prop_assert!((there.cvr + back.cvr).abs() <= 1e-9 * scale);
        if let (Some(there), Some(back)) = (bridge_of_returns(&a, &b), bridge_of_returns(&b, &a)) {
            let scale = there.from + there.to;
            let sum: f64 = there.effects().map(|(_, e)| e).sum();
            prop_assert!((there.from + sum - there.to).abs() <= 1e-9 * scale);
            for ((_, x), (_, y)) in there.effects().zip(back.effects()) {
                prop_assert!((x + y).abs() <= 1e-9 * scale);
            }
        }
        // The second effect is the mean times its own logarithm, though it is computed by difference.
        let log = (there.to / there.from).ln();
        if log.abs() > 1e-3 {
            let mean = (there.to - there.from) / log;
            let cvr = mean * (b.cvr().unwrap() / a.cvr().unwrap()).ln();
            prop_assert!((there.cvr - cvr).abs() <= 1e-7 * scale);
        }
    }

    #[test]
    fn excess_adds_up_over_any_partition(parts in prop::collection::vec((tally(), 0u8..4), 1..40), target in 0.5f64..200.0) {
        for target in [Target::Cpa(Price(target)), Target::Roas(target)] {
            let whole = target.excess(&parts.iter().map(|p| p.0).sum());
            let pieces: f64 = (0..4).map(|k| target.excess(&parts.iter().filter(|p| p.1 == k).map(|p| p.0).sum())).sum();
            prop_assert!((whole - pieces).abs() <= 1e-9 * (1.0 + whole.abs() + parts.len() as f64 * 1e5));
        }
    }

    #[test]
    fn intervals_hold_what_was_seen(successes in 0u32..500, more in 0u32..5000) {
        let (s, n) = (f64::from(successes), f64::from(successes + more + 1));
        let w = wilson(s, n, 0.95).unwrap();
        prop_assert!(w.low <= s / n && s / n <= w.high);
        let exact = clopper_pearson(s, n, 0.95).unwrap();
        prop_assert!(exact.low <= s / n && s / n <= exact.high);
        let p = poisson(s, 0.95);
        prop_assert!(p.low <= s && s <= p.high);
        prop_assert!(poisson(s, 0.99).high > p.high);
    }

    #[test]
    fn shares_are_exact(total in 0i64..10_000, wanted in prop::collection::vec(0.0f64..100.0, 1..20)) {
        let bounds = vec![(0, total); wanted.len()];
        let shares = share_out(total, &wanted, &bounds);
        prop_assert_eq!(shares.iter().sum::<i64>(), total);
        let sum: f64 = wanted.iter().sum();
        prop_assume!(sum > 0.0);
        for (share, w) in shares.iter().zip(&wanted) {
            prop_assert!((*share as f64 - total as f64 * w / sum).abs() < 1.0 + 1e-6);
        }
    }

    #[test]
    fn dearer_is_never_judged_better(peers in prop::collection::vec(converting(), 2..6), own in converting(), factor in 1.0f64..4.0) {
        let dearer = Tally { spend: Micros::from_units(own.spend.to_units() * factor), ..own };
        let judge = |t| diagnose(&case(t, Target::Cpa(Price(30.0)), &peers));
        let (now, then) = (judge(own), judge(dearer));
        prop_assert!(then.p_over.unwrap() >= now.p_over.unwrap() - 1e-9);
        prop_assert!(then.excess >= now.excess);
        if then.verdict == Verdict::OnTarget && now.early.is_none() {
            prop_assert_eq!(now.verdict, Verdict::OnTarget);
        }
    }

    /// Over its target or not is the campaign's own matter; what it says agrees with the money that it shows.
    #[test]
    fn verdicts_agree_with_their_figures(peers in prop::collection::vec(tally(), 0..5), own in tally(), target in 0.5f64..300.0) {
        for target in [Target::Cpa(Price(target)), Target::Roas(target / 30.0)] {
            let d = diagnose(&case(own, target, &peers));
            let fault = !matches!(d.verdict, Verdict::OnTarget | Verdict::TooEarly);
            prop_assert!(d.verdict != Verdict::OnTarget || (d.excess <= 0.0 && d.p_over.unwrap() <= 0.1));
            prop_assert!(!fault || (d.excess > 0.0 && d.p_over.unwrap() >= 0.9));
            prop_assert_eq!(fault, d.faults != Faults::default());
            prop_assert!(!fault || !peers.is_empty() || d.leans.is_some(), "without peers it leans");
            if matches!(target, Target::Cpa(_)) {
                prop_assert_eq!(d.p_over, diagnose(&case(own, target, &[])).p_over, "peers have no say");
            }
        }
    }

    #[test]
    fn free_lines_have_equal_marginals(seed in 0u64..100_000, n in 2usize..40) {
        let s = solved(&Random::new(seed).smooth_problem(n)).unwrap();
        let free: Vec<f64> = s.lines.iter().filter(|l| l.held_by == HeldBy::Nothing && l.budget > 1e-6).map(|l| l.marginal).collect();
        for m in &free {
            prop_assert!((m / free[0] - 1.0).abs() < 1e-6, "{:?}", free);
        }
        // A line at zero would bring less with its first unit than the others with their last.
        for l in s.lines.iter().filter(|l| l.budget < 1e-9) {
            prop_assert!(l.marginal <= free[0] * (1.0 + 1e-6));
        }
    }

    #[test]
    fn limits_are_kept_or_named(seed in 0u64..1_000_000) {
        let p = Random::new(seed).mixed_problem();
        match p.answer().unwrap() {
            Answer::Optimal(s) => assert_limits_kept(&p, &s),
            Answer::Infeasible { conflicts, .. } => {
                prop_assert!(!conflicts.is_empty());
                for c in conflicts {
                    prop_assert!(c.short_by() > 0.0, "{c:?}");
                }
            }
        }
    }

    #[test]
    fn the_first_repair_leads_out(seed in 0u64..1_000_000, squeeze in 0.05f64..0.6) {
        let mut p = Random::new(seed).mixed_problem();
        p.total.amount *= squeeze;
        let mut rounds = 0;
        while let Answer::Infeasible { conflicts, repairs } = p.answer().unwrap() {
            prop_assert!(!repairs.is_empty(), "{conflicts:?}");
            repairs[0].apply(&mut p);
            rounds += 1;
            prop_assert!(rounds < 20, "{conflicts:?}");
        }
    }

    #[test]
    fn more_money_never_brings_less(seed in 0u64..1_000_000, more in 1.0f64..1.5) {
        let mut p = Random::new(seed).mixed_problem();
        p.total.spend = Use::UpTo;
        for g in &mut p.groups {
            g.floor = None;
        }
        if let Some(now) = solved(&p) {
            p.total.amount *= more;
            let then = solved(&p).unwrap();
            prop_assert!(then.objective >= now.objective * (1.0 - 1e-9));
        }
    }

    #[test]
    fn another_unit_of_money_scales_the_plan(seed in 0u64..1_000_000, c in 0.1f64..20.0) {
        use tiller_core::allocation::Response;
        let p = Random::new(seed).mixed_problem();
        let mut q = p.clone();
        q.total.amount *= c;
        for l in &mut q.lines {
            (l.current, l.floor) = (l.current * c, l.floor * c);
            l.ceiling = l.ceiling.map(|x| x * c);
            l.response = match l.response {
                Response::Constant { cpc, cvr } => Response::Constant { cpc: cpc * c, cvr },
                Response::Power { scale, elasticity } => Response::Power { scale: scale * c.powf(-elasticity), elasticity },
                Response::Saturating { limit, half_at } => Response::Saturating { limit, half_at: half_at * c },
            };
        }
        for g in &mut q.groups {
            (g.floor, g.ceiling) = (g.floor.map(|x| x * c), g.ceiling.map(|x| x * c));
        }
        q.limits.max_cpa = q.limits.max_cpa.map(|x| x * c);
        match (solved(&p), solved(&q)) {
            (Some(a), Some(b)) => prop_assert!((a.objective / b.objective - 1.0).abs() < 1e-6, "{} {}", a.objective, b.objective),
            (None, None) => {}
            (a, b) => prop_assert!(false, "{} {}", a.is_some(), b.is_some()),
        }
    }

    #[test]
    fn whole_steps_keep_limits_and_total(seed in 0u64..1_000_000) {
        let mut p = Random::new(seed).mixed_problem();
        // Limits in whole coins, as people set them.
        let coin = |x: f64| x.round();
        p.step = 0.01;
        p.limits.max_change = None;
        p.limits.max_cpa = None;
        p.total.amount = coin(p.total.amount);
        for l in &mut p.lines {
            (l.floor, l.ceiling) = (coin(l.floor), l.ceiling.map(|c| coin(c).max(coin(l.floor))));
        }
        for g in &mut p.groups {
            (g.floor, g.ceiling) = (g.floor.map(coin), g.ceiling.map(coin));
        }
        if let Some(s) = solved(&p) {
            assert_limits_kept(&p, &s);
            for l in &s.lines {
                prop_assert!((l.budget * 100.0 - (l.budget * 100.0).round()).abs() < 1e-6);
            }
        }
    }

    /// Limits on the whole hold in whole steps too, however coarse; where none fits, that is said, and the finer
    /// step that is offered leads out.
    #[test]
    fn whole_steps_keep_limits_on_the_whole(seed in 0u64..1_000_000, coarse in 0usize..3, clicks in any::<bool>()) {
        let mut random = Random::new(seed);
        let mut p = if clicks { random.click_problem() } else { random.mixed_problem() };
        p.step = [0.01, 1.0, 25.0][coarse];
        p.limits.max_change = None;
        p.groups.clear();
        p.total.amount = (p.total.amount / p.step).round() * p.step;
        for l in &mut p.lines {
            (l.group, l.floor, l.ceiling) = (None, 0.0, None);
        }
        let exact = solved(&Problem { step: 0.0, ..p.clone() });
        match p.answer().unwrap() {
            Answer::Optimal(s) => {
                assert_limits_kept(&p, &s);
                prop_assert!(s.objective <= exact.unwrap().objective * (1.0 + 1e-9));
                // All of it has to be spent: to keep what a conversion may cost, more money can leave fewer clicks.
                let against = clicks && (p.limits.max_cpa.is_some() || p.limits.min_roas.is_some());
                let more = s.next_1000.unwrap();
                prop_assert!(against || more >= -1e-6 * s.objective, "{more}");
            }
            Answer::Infeasible { conflicts, repairs } => {
                let coarse = conflicts.iter().any(|c| matches!(c.kind, ConflictKind::StepTooCoarse(_)));
                prop_assert_eq!(coarse, exact.is_some(), "{:?}", conflicts);
                for repair in repairs.iter().filter(|r| matches!(r, Repair::Step { .. })) {
                    let mut finer = p.clone();
                    repair.apply(&mut finer);
                    assert_limits_kept(&finer, &solved(&finer).unwrap());
                }
            }
        }
    }

    #[test]
    fn marginals_are_numbers_and_nothing_at_capacity(seed in 0u64..1_000_000) {
        let mut p = Random::new(seed).mixed_problem();
        for l in &mut p.lines {
            l.capacity = Some(l.current / p.days);
        }
        if let Some(s) = solved(&p) {
            for (line, a) in p.lines.iter().zip(&s.lines) {
                prop_assert!(a.marginal.is_finite());
                prop_assert!(a.budget < line.current - 1e-9 || a.marginal == 0.0, "{:?}", a);
            }
        }
    }

    #[test]
    fn least_spend_and_most_conversions_are_two_sides_of_one_curve(seed in 0u64..100_000, n in 2usize..20) {
        let mut p = Random::new(seed).smooth_problem(n);
        let most = solved(&p).unwrap();
        p.goal = Goal::LeastSpend;
        p.limits.min_conversions = Some(most.objective * (1.0 - 1e-9));
        p.total.amount *= 2.0;
        let least = solved(&p).unwrap();
        prop_assert!((least.objective / most.totals.budget - 1.0).abs() < 1e-5, "{} {}", least.objective, most.totals.budget);
    }
}
