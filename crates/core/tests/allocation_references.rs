//! Allocation against solvers of other makes: a linear program for constant rates, a conic solver for curves.
#![allow(clippy::unwrap_used, clippy::expect_used)]

mod instances;

use clarabel::algebra::CscMatrix;
use clarabel::solver::{DefaultSettings, DefaultSolver, IPSolver, SolverStatus, SupportedConeT};
use instances::{Random, members, solved};
use tiller_core::allocation::{Goal, Problem, Response, Use};

/// Relative gap of objectives that counts as the same optimum.
const GAP: f64 = 1e-7;

/// Bounds of each line and of each group's member list, as the solvers need them.
fn line_bounds(p: &Problem, i: usize) -> (f64, f64) {
    let line = &p.lines[i];
    let change = p.limits.max_change.unwrap_or(f64::INFINITY);
    let low = line.floor.max(if change.is_finite() { line.current * (1.0 - change) } else { 0.0 });
    let high = line.ceiling.unwrap_or(f64::INFINITY).min(if change.is_finite() {
        line.current * (1.0 + change)
    } else {
        f64::INFINITY
    });
    (low, high)
}

/// Constant rates are a linear program.
#[test]
fn constant_rates_match_a_linear_program() {
    for seed in 0..60 {
        let p = Random::new(seed).constant_problem();
        let mut lp = microlp::Problem::new(microlp::OptimizationDirection::Maximize);
        let slope = |i: usize| match p.lines[i].response {
            Response::Constant { cpc, cvr } => cvr / cpc,
            _ => unreachable!(),
        };
        let variables: Vec<_> =
            (0..p.lines.len()).map(|i| lp.add_var(slope(i), line_bounds(&p, i))).collect();
        let sum = |of: &[usize]| of.iter().map(|&i| (variables[i], 1.0)).collect::<Vec<_>>();
        let all: Vec<usize> = (0..p.lines.len()).collect();
        let relation = if p.total.spend == Use::All {
            microlp::ComparisonOp::Eq
        } else {
            microlp::ComparisonOp::Le
        };
        lp.add_constraint(sum(&all), relation, p.total.amount);
        for g in &p.groups {
            let of = members(&p, &g.id);
            lp.add_constraint(sum(&of), microlp::ComparisonOp::Ge, g.floor.unwrap_or(0.0));
            if let Some(ceiling) = g.ceiling {
                lp.add_constraint(sum(&of), microlp::ComparisonOp::Le, ceiling);
            }
        }
        if let Some(cpa) = p.limits.max_cpa {
            let terms: Vec<_> = all.iter().map(|&i| (variables[i], cpa * slope(i) - 1.0)).collect();
            lp.add_constraint(terms, microlp::ComparisonOp::Ge, 0.0);
        }
        let reference = lp.solve().ok().map(|outcome| match outcome {
            microlp::SolveOutcome::Solution(solution) => solution.objective(),
            microlp::SolveOutcome::Interrupted(_) => unreachable!("no limit was set"),
        });
        match (reference, solved(&p)) {
            (Some(reference), Some(ours)) => {
                let gap = (reference - ours.objective).abs() / reference.abs().max(1.0);
                assert!(gap <= GAP, "seed {seed}: {} against {}", ours.objective, reference);
                instances::assert_limits_kept(&p, &ours);
            }
            (None, None) => {}
            (reference, ours) => panic!("seed {seed}: {:?} against {}", reference, ours.is_some()),
        }
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
fn conic(p: &Problem) -> Option<f64> {
    let n = p.lines.len();
    let days = p.days;
    let mut rows = Rows::default();
    let mut cones: Vec<SupportedConeT<f64>> = Vec::new();
    let total: Vec<_> = (0..n).map(|i| (i, 1.0)).collect();
    rows.row(&total, p.total.amount);
    cones.push(if p.total.spend == Use::All {
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
        let of = members(p, &g.id);
        let terms = |sign: f64| of.iter().map(|&i| (i, sign)).collect::<Vec<_>>();
        if let Some(floor) = g.floor {
            rows.row(&terms(-1.0), -floor);
        }
        if let Some(ceiling) = g.ceiling {
            rows.row(&terms(1.0), ceiling);
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
        if let Response::Constant { cpc, cvr } = p.lines[i].response {
            rows.row(&[(n + i, 1.0), (i, -cvr / cpc)], 0.0);
        }
    }
    cones.push(SupportedConeT::NonnegativeConeT(rows.b.len() - before));
    for i in 0..n {
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
    // What money and results of each line weigh.
    let weight = |i: usize| match p.goal {
        Goal::Conversions => (0.0, 1.0),
        Goal::Value => (0.0, worth(i)),
        Goal::Clicks => (1.0 / p.lines[i].cost_per_click().unwrap(), 0.0),
        _ => unreachable!("the instances ask for conversions, value or clicks"),
    };
    let money = (0..n).map(|i| -weight(i).0);
    let q: Vec<f64> = money.chain((0..n).map(|i| -weight(i).1)).collect();
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
        SolverStatus::Solved | SolverStatus::AlmostSolved => Some(-solver.solution.obj_val),
        SolverStatus::PrimalInfeasible | SolverStatus::AlmostPrimalInfeasible => None,
        other => panic!("the conic solver ended with {other:?}"),
    }
}

/// Both solvers agree on what is possible and on what is best; tells how many could be solved.
fn compare(problems: impl Iterator<Item = Problem>) -> usize {
    let mut compared = 0;
    for (seed, p) in problems.enumerate() {
        let ours = solved(&p);
        match (conic(&p), &ours) {
            (Some(reference), Some(ours)) => {
                compared += 1;
                let gap = (reference - ours.objective).abs() / reference.abs().max(1e-9);
                assert!(
                    gap <= GAP,
                    "seed {seed}: {} against {reference}, gap {gap:e}",
                    ours.objective
                );
                instances::assert_limits_kept(&p, ours);
            }
            (None, None) => {}
            (reference, ours) => panic!(
                "seed {seed}: {reference:?} against {:?}",
                ours.as_ref().map(|o| o.objective)
            ),
        }
    }
    compared
}

#[test]
fn mixed_curves_match_a_conic_solver() {
    let compared = compare((0..60).map(|seed| Random::new(1000 + seed).mixed_problem()));
    assert!(compared >= 40, "only {compared} instances were solvable");
}

#[test]
fn most_clicks_within_limits_match_a_conic_solver() {
    let compared = compare((0..60).map(|seed| Random::new(5000 + seed).click_problem()));
    assert!(compared >= 25, "only {compared} instances were solvable");
}
