//! A problem solved, with all that is told of the answer.

use super::answer::{Answer, LineAnswer, Solved, Warning};
use super::goal::{goal_weight, marginal, objective, totals};
use super::held_by::held_by;
use super::outlook::{Outlook, Range, outlook};
use super::problem::{Goal, Problem, ProblemError};
use super::repair::offer;
use super::response::Response;
use super::split::{Split, best_split};
use super::tree::Tree;
use super::what_if::next_1000;

/// Solves a problem, with repairs where its limits contradict each other.
pub fn solve(problem: &Problem) -> Answer {
    match best_split(problem) {
        Ok(split) => Answer::Optimal(report(problem, &split)),
        Err(conflicts) => Answer::Infeasible { repairs: offer(problem, &conflicts), conflicts },
    }
}

/// Checks and solves.
impl Problem {
    /// The answer, unless a value makes no sense.
    pub fn answer(&self) -> Result<Answer, ProblemError> {
        self.check()?;
        Ok(solve(self))
    }
}

fn report(problem: &Problem, split: &Split) -> Solved {
    let budgets = split.tree.restore(&split.amounts);
    let held = held_by(problem, split);
    let lines = problem
        .lines
        .iter()
        .zip(&budgets)
        .enumerate()
        .map(|(i, (line, &budget))| {
            let conversions = line.results(budget, problem.days);
            LineAnswer {
                budget,
                clicks: line.cost_per_click().map(|cpc| line.spent(budget, problem.days) / cpc),
                conversions,
                value: line.value_per_conversion.map(|v| v * conversions),
                marginal: marginal(problem, i, budget),
                held_by: held[i],
            }
        })
        .collect();
    let present: Vec<f64> = problem.lines.iter().map(|l| l.current).collect();
    let best = objective(problem, &budgets);
    let weights: Vec<f64> = (0..budgets.len()).map(|i| goal_weight(problem, i)).collect();
    let outlook = outlook(problem, &budgets, &weights);
    Solved {
        objective: best,
        present: objective(problem, &present),
        lines,
        totals: totals(problem, &budgets),
        current: totals(problem, &present),
        next_1000: next_1000(problem, objective(problem, &split.tree.restore(&split.exact))),
        warnings: warnings(problem, &split.tree, &budgets, outlook),
        outlook: outlook.map(|o| o.0),
    }
}

/// A gain that is less likely than this is none to count on.
const LIKELY: f64 = 0.8;
/// Totals within this share of each other are one.
const SAME: f64 = 0.005;
/// Further than this share from its middle an interval is wide.
const WIDE: f64 = 0.25;

fn warnings(
    problem: &Problem,
    tree: &Tree,
    budgets: &[f64],
    outlook: Option<(Outlook, Range)>,
) -> Vec<Warning> {
    let floors = tree.restore(&tree.bounds.iter().map(|b| b.0).collect::<Vec<_>>());
    let free: Vec<f64> = budgets.iter().zip(&floors).map(|(b, f)| b - f).collect();
    let all: f64 = free.iter().sum();
    let constant = |i: usize| {
        problem.goal == Goal::Clicks
            || matches!(problem.lines[i].response, Response::Constant { .. })
    };
    let corner = (0..free.len())
        .max_by(|&a, &b| free[a].total_cmp(&free[b]))
        .filter(|&i| free.len() > 1 && all > 0.0 && constant(i) && free[i] >= 0.8 * all)
        .map(|i| Warning::Corner { line: problem.lines[i].id.clone(), share: free[i] / all });
    let outside: Vec<String> = problem
        .lines
        .iter()
        .zip(budgets)
        .filter(|(l, b)| {
            let [least, most] = l
                .precision
                .map_or([l.current; 2], |p| p.observed.map(|a_day| a_day * problem.days));
            most > 0.0 && (**b > 2.0 * most || **b < 0.5 * least)
        })
        .map(|(l, _)| l.id.clone())
        .collect();
    let extrapolates = (!outside.is_empty()).then_some(Warning::Extrapolates { lines: outside });
    let wide = outlook.map(|o| o.1).filter(|r| r.wider_than(WIDE));
    let wide = wide.map(|range| Warning::Wide { range });
    let present: f64 = problem.lines.iter().map(|l| l.current).sum();
    let same = (budgets.iter().sum::<f64>() - present).abs() <= SAME * present;
    let better = outlook.map(|o| o.0.better).filter(|b| same && *b < LIKELY);
    let unclear = better.map(|better| Warning::Unclear { better });
    corner.into_iter().chain(extrapolates).chain(wide).chain(unclear).collect()
}

#[cfg(test)]
mod tests {
    use super::super::problem::tests::{constant, power, problem};
    use super::super::{
        ConflictKind, Group, HeldBy, Line, Repair, Use, WholeLimit, at_totals, brings, limit_costs,
    };
    use super::*;

    fn solved(p: &Problem) -> Solved {
        match p.answer().unwrap() {
            Answer::Optimal(s) => s,
            Answer::Infeasible { conflicts, .. } => panic!("{conflicts:?}"),
        }
    }

    fn budgets(p: &Problem) -> Vec<f64> {
        solved(p).lines.iter().map(|l| l.budget).collect()
    }

    /// Closed form: b = ½, a = (1, 2), B = 100 → 20 / 80, total √(B·Σa²) = √500.
    #[test]
    fn two_power_lines() {
        let s = solved(&problem(100.0, vec![power("a", 1.0, 0.5), power("b", 2.0, 0.5)]));
        assert!((s.lines[0].budget - 20.0).abs() < 1e-9 && (s.lines[1].budget - 80.0).abs() < 1e-9);
        assert!((s.objective - 500f64.sqrt()).abs() < 1e-9);
        assert!((s.lines[0].marginal - s.lines[1].marginal).abs() < 1e-12);
        assert!((s.next_1000.unwrap() - (5500f64.sqrt() - 500f64.sqrt())).abs() < 1e-8);
    }

    /// By hand: 100 on a straight line at 2 a click and 5% brings 50 clicks and 2.5 conversions; at 80 each, 200 of
    /// value; with a margin of half 100 before their cost. Now 40 bring two fifths of it.
    #[test]
    fn a_line_brings_what_the_goal_counts() {
        let mut p = problem(100.0, vec![constant("a", 2.0, 0.05)]);
        let line = &mut p.lines[0];
        (line.value_per_conversion, line.margin, line.current) = (Some(80.0), Some(0.5), 40.0);
        for (goal, brought, objective) in [
            (Goal::Conversions, 2.5, 2.5),
            (Goal::Clicks, 50.0, 50.0),
            (Goal::Value, 200.0, 200.0),
            (Goal::Profit, 100.0, 0.0),
        ] {
            p.goal = goal;
            assert!((brings(&p, 0, 100.0) - brought).abs() < 1e-9, "{goal:?}");
            let s = solved(&p);
            assert!((s.objective - objective).abs() < 1e-9, "{goal:?} {}", s.objective);
            assert!((s.present - 0.4 * objective).abs() < 1e-9, "{goal:?} {}", s.present);
        }
        p.lines[0].capacity = Some(60.0);
        p.goal = Goal::Clicks;
        assert_eq!(brings(&p, 0, 100.0), 30.0, "what it can't spend buys no click");
    }

    #[test]
    fn equal_lines_share_equally() {
        for make in [|n: &str| power(n, 1.3, 0.7), |n: &str| constant(n, 2.0, 0.05)] {
            let b = budgets(&problem(90.0, ["a", "b", "c"].map(make).to_vec()));
            assert!(b.iter().all(|b| (b - 30.0).abs() < 1e-9), "{b:?}");
        }
    }

    #[test]
    fn constant_rates_go_to_one_corner_and_say_so() {
        let mut p = problem(100.0, vec![constant("dear", 2.0, 0.02), constant("cheap", 2.0, 0.05)]);
        let s = solved(&p);
        assert_eq!(s.lines[1].budget, 100.0);
        assert!(matches!(&s.warnings[0], Warning::Corner { line, .. } if line == "cheap"));
        p.lines[1].ceiling = Some(60.0);
        assert_eq!(budgets(&p), [40.0, 60.0]);
        assert_eq!(solved(&p).lines[1].held_by, HeldBy::Ceiling);
    }

    #[test]
    fn groups_hold_their_lines() {
        let mut p =
            problem(100.0, vec![power("a", 1.0, 0.5), power("b", 2.0, 0.5), power("c", 2.0, 0.5)]);
        p.groups = vec![Group { id: "g".into(), share_ceiling: Some(0.3), ..Group::default() }];
        p.lines[1].group = Some("g".into());
        p.lines[2].group = Some("g".into());
        let s = solved(&p);
        assert!((s.lines[0].budget - 70.0).abs() < 1e-9);
        assert!((s.lines[1].budget - 15.0).abs() < 1e-9);
        assert_eq!(s.lines[1].held_by, HeldBy::GroupCeiling);
        let costs = limit_costs(&p, &s);
        assert!(matches!(&costs[..], [(g, HeldBy::GroupCeiling, gain)] if g == "g" && *gain > 0.0));
    }

    #[test]
    fn steps_are_whole_and_the_total_exact() {
        let mut p = problem(100.0, ["a", "b", "c"].map(|n| power(n, 1.0, 0.5)).to_vec());
        p.step = 0.01;
        let b = budgets(&p);
        assert_eq!(b.iter().map(|b| (b * 100.0).round() as i64).sum::<i64>(), 10_000);
        assert!(b.iter().all(|b| (b * 100.0 - (b * 100.0).round()).abs() < 1e-9));
    }

    #[test]
    fn least_spend_reaches_the_number_and_no_more() {
        let mut p = problem(1000.0, vec![power("a", 1.0, 0.5), power("b", 2.0, 0.5)]);
        p.goal = Goal::LeastSpend;
        p.limits.min_conversions = Some(500f64.sqrt());
        let s = solved(&p);
        assert!((s.totals.budget - 100.0).abs() < 1e-6, "{}", s.totals.budget);
        assert_eq!(s.next_1000, None);
    }

    #[test]
    fn cpa_at_most_leaves_money_unspent() {
        let mut p = problem(1000.0, vec![power("a", 1.0, 0.5), power("b", 2.0, 0.5)]);
        p.limits.max_cpa = Some(10.0);
        let Answer::Infeasible { conflicts, repairs } = p.answer().unwrap() else { panic!() };
        assert_eq!(conflicts[0].kind, ConflictKind::OutOfReach(WholeLimit::MaxCpa));
        assert!(repairs.contains(&Repair::SpendUpTo));
        p.total.spend = Use::UpTo;
        let s = solved(&p);
        // Σs ÷ √(5·Σs) = 10 → Σs = 500.
        assert!((s.totals.budget - 500.0).abs() < 1e-6);
        assert!((s.totals.cpa().unwrap() - 10.0).abs() < 1e-9);
    }

    #[test]
    fn profit_stops_where_a_unit_brings_less_than_itself() {
        let mut p = problem(
            1e6,
            vec![Line {
                value_per_conversion: Some(20.0),
                margin: Some(0.5),
                ..power("a", 2.0, 0.5)
            }],
        );
        p.goal = Goal::Profit;
        p.total.spend = Use::UpTo;
        // 10·2·½·s^−½ = 1 → s = 100.
        assert!((budgets(&p)[0] - 100.0).abs() < 1e-8);
    }

    #[test]
    fn most_clicks_goes_to_the_cheapest_click() {
        let mut p = problem(
            10.0,
            vec![constant("a", 2.0, 0.5), Line { cpc: Some(1.0), ..power("b", 1.0, 0.5) }],
        );
        p.goal = Goal::Clicks;
        assert_eq!(budgets(&p), [0.0, 10.0]);
    }

    #[test]
    fn contradictions_are_named_and_mended() {
        let base = || problem(100.0, vec![power("a", 1.0, 0.5), power("b", 2.0, 0.5)]);
        let mut floors = base();
        floors.lines[0].floor = 80.0;
        floors.lines[1].floor = 60.0;
        let Answer::Infeasible { conflicts, repairs } = floors.answer().unwrap() else { panic!() };
        assert_eq!(conflicts.len(), 1);
        assert_eq!(
            (conflicts[0].kind, conflicts[0].short_by()),
            (ConflictKind::FloorsAboveTotal, 40.0)
        );
        assert_eq!(repairs[0], Repair::Total { to: 140.0 });
        assert!(
            matches!(&repairs[1], Repair::Floors { lines } if (lines[0].1 - 400.0 / 7.0).abs() < 1e-9)
        );

        let mut shock = base();
        shock.limits.max_change = Some(0.2);
        shock.lines[0].floor = 90.0;
        let Answer::Infeasible { conflicts, repairs } = shock.answer().unwrap() else { panic!() };
        assert_eq!(conflicts[0].kind, ConflictKind::FloorAboveChange);
        assert!(
            repairs
                .iter()
                .any(|r| matches!(r, Repair::MaxChange { to } if (*to - 0.8).abs() < 1e-9)),
            "{repairs:?}"
        );

        let mut group = base();
        group.groups = vec![Group { id: "g".into(), floor: Some(70.0), ..Group::default() }];
        group.lines[0].group = Some("g".into());
        group.lines[0].ceiling = Some(50.0);
        let Answer::Infeasible { conflicts, .. } = group.answer().unwrap() else { panic!() };
        assert_eq!(
            (conflicts[0].kind, conflicts[0].short_by()),
            (ConflictKind::GroupFloorAboveMembers, 20.0)
        );
    }

    #[test]
    fn a_line_of_no_use_gets_money_only_when_all_must_go() {
        let mut p = problem(
            100.0,
            vec![constant("none", 1.0, 0.0), Line { ceiling: Some(30.0), ..power("a", 1.0, 0.5) }],
        );
        assert_eq!(budgets(&p), [70.0, 30.0]);
        p.total.spend = Use::UpTo;
        assert_eq!(budgets(&p), [0.0, 30.0]);
    }

    #[test]
    fn what_a_line_cannot_spend_goes_elsewhere_or_brings_nothing() {
        let capped = |most| Line { capacity: Some(most), ..constant("cheap", 1.0, 0.1) };
        let p = problem(100.0, vec![capped(30.0), constant("dear", 1.0, 0.05)]);
        let s = solved(&p);
        assert_eq!((s.lines[0].budget, s.lines[0].held_by), (30.0, HeldBy::Capacity));
        assert!((s.objective - (3.0 + 3.5)).abs() < 1e-9);
        // Set by hand beyond what it can spend: the money is lost there.
        let mut p = p;
        p.lines[0].fixed = Some(60.0);
        let s = solved(&p);
        assert_eq!((s.lines[0].budget, s.lines[0].held_by), (60.0, HeldBy::Fixed));
        assert!((s.lines[0].conversions - 3.0).abs() < 1e-9 && (s.objective - 5.0).abs() < 1e-9);
        assert!(
            limit_costs(&p, &s).iter().any(|c| c.1 == HeldBy::Fixed && (c.2 - 1.5).abs() < 1e-9)
        );
        // A limit on the whole counts what is really brought.
        p.limits.min_conversions = Some(5.2);
        assert!(matches!(p.answer().unwrap(), Answer::Infeasible { .. }));
    }

    #[test]
    fn set_amounts_that_contradict_are_released() {
        let fixed = |id: &str, amount| Line { fixed: Some(amount), ..power(id, 1.0, 0.5) };
        let mut p = problem(100.0, vec![fixed("a", 80.0), fixed("b", 40.0)]);
        let Answer::Infeasible { repairs, .. } = p.answer().unwrap() else { panic!() };
        let release = repairs.iter().find(|r| matches!(r, Repair::Release { .. })).unwrap();
        release.apply(&mut p);
        assert_eq!(budgets(&p), [50.0, 50.0]);
    }

    /// Closed form: two lines a·√s bring √(B·Σa²), whatever the total.
    #[test]
    fn other_totals_lie_on_the_best_curve() {
        let mut p = problem(100.0, vec![power("a", 1.0, 0.5), power("b", 2.0, 0.5)]);
        p.lines[0].fixed = Some(90.0);
        let points = at_totals(&p, &[25.0, 400.0]);
        for point in points {
            assert!((point.result - (5.0 * point.total).sqrt()).abs() < 1e-8, "{point:?}");
            assert_eq!(point.error, 0.0);
        }
    }

    #[test]
    fn a_poorly_known_plan_says_so() {
        let mut p = problem(100.0, vec![power("a", 1.0, 0.5), power("b", 2.0, 0.5)]);
        let known = |variance: f64| {
            super::super::Precision::alone(50.0, [[variance, 0.0], [0.0, 0.01]], [15.0, 90.0])
        };
        p.lines.iter_mut().for_each(|l| l.precision = Some(known(0.002)));
        let s = solved(&p);
        assert!(s.outlook.is_some() && s.warnings.is_empty(), "{:?}", s.warnings);
        p.lines.iter_mut().for_each(|l| l.precision = Some(known(0.3)));
        // Nor is it sure to bring more than changing nothing.
        let told = solved(&p).warnings;
        assert!(
            matches!(told[..], [Warning::Wide { .. }, Warning::Unclear { better }] if better < 0.8),
            "{told:?}"
        );
        p.lines.iter_mut().for_each(|l| {
            l.precision = Some(super::super::Precision { observed: [1.0, 5.0], ..known(0.002) })
        });
        assert!(
            matches!(&solved(&p).warnings[..], [Warning::Extrapolates { lines }] if lines.len() == 2)
        );
    }
}
