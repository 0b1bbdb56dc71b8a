//! Allocation against solvers of other makes: a linear program for constant rates, a conic solver for curves.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use crate::instances::{Random, members, solved};
use clarabel::algebra::CscMatrix;
use clarabel::solver::{DefaultSettings, DefaultSolver, IPSolver, SolverStatus, SupportedConeT};
use tiller_core::allocation::{Goal, Group, Problem, Response, Use};

/// Relative gap of objectives that counts as the same optimum.
const GAP: f64 = 1e-7;
/// The gap that the conic solver vouches for where it calls a problem almost solved.
const ALMOST: f64 = 5e-5;

/// The best that a solver found, and how far from it the optimum may lie.
type Reference = (f64, f64);

/// Bounds of each line, as the solvers need them.
fn line_bounds(p: &Problem, i: usize) -> (f64, f64) {
    let line = &p.lines[i];
    if let Some(fixed) = line.fixed {
        return (fixed, fixed);
    }
    let change = p.limits.max_change.unwrap_or(f64::INFINITY);
    let low = line.floor.max(if change.is_finite() { line.current * (1.0 - change) } else { 0.0 });
    let most = if change.is_finite() { line.current * (1.0 + change) } else { f64::INFINITY };
    // Where it has to get more than it can spend, the rest lies idle; nothing else does.
    let able = line.capacity.map_or(f64::INFINITY, |c| (c * p.days).max(low));
    (low, line.ceiling.unwrap_or(f64::INFINITY).min(most).min(able))
}

/// What a line brings whatever happens, if what it has to get is more than it can spend.
fn idle(p: &Problem, i: usize) -> Option<f64> {
    let able = p.lines[i].capacity? * p.days;
    let low = line_bounds(p, i).0;
    (able < low).then(|| p.days * p.lines[i].response.at(able / p.days))
}

/// What money and results of each line weigh in the goal, and what they add whatever happens.
fn weight(p: &Problem, i: usize) -> (f64, f64, f64) {
    let line = &p.lines[i];
    let worth = line.value_per_conversion.unwrap();
    match p.goal {
        Goal::Conversions => (0.0, 1.0, 0.0),
        Goal::Value => (0.0, worth, 0.0),
        Goal::Profit => (-1.0, worth * line.margin.unwrap(), 0.0),
        Goal::Clicks => {
            let per_money = 1.0 / line.cost_per_click().unwrap();
            match idle(p, i) {
                Some(_) => (0.0, 0.0, per_money * line.capacity.unwrap() * p.days),
                None => (per_money, 0.0, 0.0),
            }
        }
        Goal::LeastSpend => (-1.0, 0.0, 0.0),
    }
}

/// Floor and ceiling of a group, with those by share.
fn group_bounds(p: &Problem, g: &Group) -> (f64, f64) {
    let share = |x: Option<f64>| x.map(|x| x * p.total.amount);
    let low = g.floor.unwrap_or(0.0).max(share(g.share_floor).unwrap_or(0.0));
    let high =
        [g.ceiling, share(g.share_ceiling)].into_iter().flatten().fold(f64::INFINITY, f64::min);
    (low, high)
}

/// Constant rates as a linear program of budgets and results.
fn linear(p: &Problem) -> Option<Reference> {
    use microlp::ComparisonOp::{Eq, Ge, Le};
    let mut lp = microlp::Problem::new(microlp::OptimizationDirection::Maximize);
    let n = p.lines.len();
    for i in 0..n {
        let (low, high) = line_bounds(p, i);
        // A floor above its ceiling is no variable of theirs.
        if low > high + 1e-9 {
            return None;
        }
    }
    let money: Vec<_> = (0..n)
        .map(|i| {
            lp.add_var(weight(p, i).0, {
                let (l, h) = line_bounds(p, i);
                (l, h.max(l))
            })
        })
        .collect();
    let results: Vec<_> =
        (0..n).map(|i| lp.add_var(weight(p, i).1, (0.0, f64::INFINITY))).collect();
    for i in 0..n {
        match (idle(p, i), p.lines[i].response) {
            (Some(all), _) => lp.add_constraint([(results[i], 1.0)], Le, all),
            (None, Response::Constant { cpc, cvr }) => {
                lp.add_constraint([(results[i], 1.0), (money[i], -cvr / cpc)], Le, 0.0);
            }
            _ => unreachable!("straight lines only"),
        }
    }
    let sum = |of: &[usize]| of.iter().map(|&i| (money[i], 1.0)).collect::<Vec<_>>();
    let all: Vec<usize> = (0..n).collect();
    lp.add_constraint(sum(&all), if p.total.spend == Use::All { Eq } else { Le }, p.total.amount);
    for g in &p.groups {
        let (of, (low, high)) = (members(p, &g.id), group_bounds(p, g));
        lp.add_constraint(sum(&of), Ge, low);
        if high.is_finite() {
            lp.add_constraint(sum(&of), Le, high);
        }
    }
    if let Some(cpa) = p.limits.max_cpa {
        let terms = all.iter().flat_map(|&i| [(results[i], cpa), (money[i], -1.0)]);
        lp.add_constraint(terms.collect::<Vec<_>>(), Ge, 0.0);
    }
    if let Some(roas) = p.limits.min_roas {
        let worth = |i: usize| p.lines[i].value_per_conversion.unwrap();
        let terms = all.iter().flat_map(|&i| [(results[i], worth(i)), (money[i], -roas)]);
        lp.add_constraint(terms.collect::<Vec<_>>(), Ge, 0.0);
    }
    let always: f64 = (0..n).map(|i| weight(p, i).2).sum();
    match lp.solve().ok()? {
        microlp::SolveOutcome::Solution(solution) => Some((solution.objective() + always, GAP)),
        microlp::SolveOutcome::Interrupted(_) => unreachable!("no limit was set"),
    }
}

/// Rows of a sparse matrix, collected as triplets.
#[derive(Default)]
struct Rows {
    at: Vec<(usize, usize, f64)>,
    b: Vec<f64>,
}

impl Rows {
    /// One row of A·x + s = b.
    fn row(&mut self, terms: &[(usize, f64)], b: f64) {
        let row = self.b.len();
        self.at.extend(terms.iter().map(|&(column, x)| (row, column, x)));
        self.b.push(b);
    }
}

/// Mixed responses as a conic program: variables are budgets s and results t, with t ≤ f(s) by a power
/// cone for powers and a rotated second-order cone for saturating curves.
fn conic(p: &Problem) -> Option<Reference> {
    let n = p.lines.len();
    let days = p.days;
    let mut rows = Rows::default();
    let mut cones: Vec<SupportedConeT<f64>> = Vec::new();
    let total: Vec<_> = (0..n).map(|i| (i, 1.0)).collect();
    rows.row(&total, p.total.amount);
    cones.push(if p.total.spend == Use::All && p.goal != Goal::LeastSpend {
        SupportedConeT::ZeroConeT(1)
    } else {
        SupportedConeT::NonnegativeConeT(1)
    });
    let before = rows.b.len();
    for i in 0..n {
        let (low, high) = line_bounds(p, i);
        rows.row(&[(i, -1.0)], -low);
        if high.is_finite() {
            rows.row(&[(i, 1.0)], high);
        }
    }
    for g in &p.groups {
        let (of, (low, high)) = (members(p, &g.id), group_bounds(p, g));
        let terms = |sign: f64| of.iter().map(|&i| (i, sign)).collect::<Vec<_>>();
        rows.row(&terms(-1.0), -low);
        if high.is_finite() {
            rows.row(&terms(1.0), high);
        }
    }
    if let Some(cpa) = p.limits.max_cpa {
        let terms: Vec<_> = (0..n).map(|i| (i, 1.0)).chain((0..n).map(|i| (n + i, -cpa))).collect();
        rows.row(&terms, 0.0);
    }
    let worth = |i: usize| p.lines[i].value_per_conversion.unwrap();
    if let Some(roas) = p.limits.min_roas {
        let results = (0..n).map(|i| (n + i, -worth(i)));
        let terms: Vec<_> = (0..n).map(|i| (i, roas)).chain(results).collect();
        rows.row(&terms, 0.0);
    }
    if let Some(least) = p.limits.min_conversions {
        rows.row(&(0..n).map(|i| (n + i, -1.0)).collect::<Vec<_>>(), -least);
    }
    for i in 0..n {
        match (idle(p, i), p.lines[i].response) {
            (Some(all), _) => rows.row(&[(n + i, 1.0)], all),
            (None, Response::Constant { cpc, cvr }) => {
                rows.row(&[(n + i, 1.0), (i, -cvr / cpc)], 0.0);
            }
            _ => {}
        }
    }
    cones.push(SupportedConeT::NonnegativeConeT(rows.b.len() - before));
    for i in (0..n).filter(|i| idle(p, *i).is_none()) {
        match p.lines[i].response {
            // (s, 1, t ÷ a) with s^b·1^(1−b) ≥ |t ÷ a|.
            Response::Power { scale, elasticity } => {
                let a = scale * days.powf(1.0 - elasticity);
                rows.row(&[(i, -1.0)], 0.0);
                rows.row(&[], 1.0);
                rows.row(&[(n + i, -1.0 / a)], 0.0);
                cones.push(SupportedConeT::PowerConeT(elasticity));
            }
            // t ≤ V·s ÷ (k + s)  ⇔  (1 − t ÷ V)·(1 + s ÷ k) ≥ 1: with u = 1 − t ÷ V and w = 1 + s ÷ k,
            // ‖(u − w, 2)‖ ≤ u + w.
            Response::Saturating { limit, half_at } => {
                let (v, k) = (limit * days, half_at * days);
                rows.row(&[(n + i, 1.0 / v), (i, -1.0 / k)], 2.0);
                rows.row(&[(n + i, 1.0 / v), (i, 1.0 / k)], 0.0);
                rows.row(&[], 2.0);
                cones.push(SupportedConeT::SecondOrderConeT(3));
            }
            Response::Constant { .. } => {}
        }
    }
    let money = (0..n).map(|i| -weight(p, i).0);
    let q: Vec<f64> = money.chain((0..n).map(|i| -weight(p, i).1)).collect();
    let always: f64 = (0..n).map(|i| weight(p, i).2).sum();
    let (r, c, x): (Vec<_>, Vec<_>, Vec<_>) =
        rows.at.iter().fold((vec![], vec![], vec![]), |(mut r, mut c, mut x), t| {
            r.push(t.0);
            c.push(t.1);
            x.push(t.2);
            (r, c, x)
        });
    let a = CscMatrix::new_from_triplets(rows.b.len(), 2 * n, r, c, x);
    let settings = DefaultSettings {
        verbose: false,
        tol_gap_abs: 1e-10,
        tol_gap_rel: 1e-10,
        tol_feas: 1e-10,
        ..DefaultSettings::default()
    };
    let mut solver =
        DefaultSolver::new(&CscMatrix::zeros((2 * n, 2 * n)), &q, &a, &rows.b, &cones, settings)
            .unwrap();
    solver.solve();
    match solver.solution.status {
        SolverStatus::Solved => Some((always - solver.solution.obj_val, GAP)),
        SolverStatus::AlmostSolved => Some((always - solver.solution.obj_val, ALMOST)),
        SolverStatus::PrimalInfeasible | SolverStatus::AlmostPrimalInfeasible => None,
        other => panic!("the conic solver ended with {other:?}"),
    }
}

/// Both agree on what is possible and on what is best; tells how many could be solved.
fn compare(
    problems: impl Iterator<Item = Problem>,
    reference: fn(&Problem) -> Option<Reference>,
) -> usize {
    let mut compared = 0;
    for (seed, p) in problems.enumerate() {
        let ours = solved(&p);
        match (reference(&p), &ours) {
            (Some((reference, most)), Some(ours)) => {
                compared += 1;
                let best = match p.goal {
                    // The least of what is spent is the most of its negative.
                    Goal::LeastSpend => -ours.objective,
                    _ => ours.objective,
                };
                let gap = (reference - best).abs() / reference.abs().max(1.0);
                assert!(gap <= most, "seed {seed}: {best} against {reference}, gap {gap:e}");
                crate::instances::assert_limits_kept(&p, ours);
            }
            (None, None) => {}
            (reference, ours) => panic!(
                "seed {seed}: {reference:?} against {:?} {p:#?}",
                ours.as_ref().map(|o| o.objective)
            ),
        }
    }
    compared
}

#[test]
fn constant_rates_match_a_linear_program() {
    let problems = (0..60).map(|seed| Random::new(seed).constant_problem());
    let compared = compare(problems, linear);
    assert!(compared >= 42, "only {compared} instances were solvable");
}

#[test]
fn mixed_curves_match_a_conic_solver() {
    let problems = (0..60).map(|seed| Random::new(1000 + seed).mixed_problem());
    let compared = compare(problems, conic);
    assert!(compared >= 42, "only {compared} instances were solvable");
}

#[test]
fn most_clicks_within_limits_match_a_conic_solver() {
    let problems = (0..60).map(|seed| Random::new(5000 + seed).click_problem());
    let compared = compare(problems, conic);
    assert!(compared >= 25, "only {compared} instances were solvable");
}

/// Capacities, fixed amounts, shares, a ROAS or a CPA, for conversions, value, clicks and profit.
#[test]
fn every_kind_of_limit_matches_a_linear_program() {
    let problems = (0..120).map(|seed| Random::new(9000 + seed).limited_constant_problem());
    let compared = compare(problems, linear);
    assert!(compared >= 84, "only {compared} of 120 instances were solvable");
}

#[test]
fn every_kind_of_limit_matches_a_conic_solver() {
    let problems = (0..120).map(|seed| Random::new(7000 + seed).limited_mixed_problem());
    let compared = compare(problems, conic);
    assert!(compared >= 84, "only {compared} of 120 instances were solvable");
}

#[test]
fn the_least_spend_matches_a_conic_solver() {
    let problems = (0..90).map(|seed| Random::new(11_000 + seed).least_spend_problem());
    let compared = compare(problems, conic);
    assert!(compared >= 45, "only {compared} of 90 instances were solvable");
}
