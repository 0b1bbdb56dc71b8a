//! Shared instances for the benches; never used by the product.

use clarabel::algebra::CscMatrix;
use clarabel::solver::{DefaultSettings, DefaultSolver, IPSolver, SolverStatus, SupportedConeT};
use tiller_core::allocation::{Goal, Group, Limits, Line, Problem, Response, Total, Use};

/// So many lines in so many groups of equal size, curves of both kinds; half of the groups have ceilings.
pub fn instance(lines: usize, groups: usize) -> Problem {
    // xorshift64*: the same instance on every machine.
    let mut state = 0x9E37_79B9_7F4A_7C15u64;
    let mut next = move || {
        state ^= state >> 12;
        state ^= state << 25;
        state ^= state >> 27;
        (state.wrapping_mul(0x2545_F491_4F6C_DD1D) >> 11) as f64 / (1u64 << 53) as f64
    };
    let name = |i: usize| format!("group {}", i % groups);
    let lines: Vec<Line> = (0..lines)
        .map(|i| {
            let current = 5.0 + 200.0 * next();
            let response = if next() < 0.5 {
                Response::Power { scale: 0.05 + 3.0 * next(), elasticity: 0.2 + 0.7 * next() }
            } else {
                Response::Saturating { limit: 1.0 + 60.0 * next(), half_at: 10.0 + 400.0 * next() }
            };
            Line {
                group: Some(name(i)),
                current,
                value_per_conversion: Some(10.0 + 100.0 * next()),
                cpc: Some(1.0),
                floor: 0.2 * current * next(),
                ceiling: (next() < 0.5).then(|| current * (1.0 + 2.0 * next())),
                ..Line::new(format!("line {i}"), response)
            }
        })
        .collect();
    let present = |g: &str| {
        lines.iter().filter(|l| l.group.as_deref() == Some(g)).map(|l| l.current).sum::<f64>()
    };
    let groups = (0..groups)
        .map(|i| {
            let id = name(i);
            let ceiling = (i % 2 == 0).then(|| 0.9 * present(&id));
            Group { id, ceiling, ..Group::default() }
        })
        .collect();
    let total = lines.iter().map(|l| l.current).sum();
    Problem {
        goal: Goal::Conversions,
        total: Total { amount: total, spend: Use::All },
        step: 0.0,
        days: 1.0,
        noise: None,
        lines,
        groups,
        limits: Limits::default(),
    }
}

/// The optimum of an [`instance`] by a conic solver.
pub fn conic(p: &Problem) -> f64 {
    let n = p.lines.len();
    let (mut at, mut b): (Vec<(usize, usize, f64)>, Vec<f64>) = Default::default();
    let mut cones = vec![SupportedConeT::ZeroConeT(1)];
    let mut row = |terms: &[(usize, f64)], rhs: f64| {
        at.extend(terms.iter().map(|&(column, x)| (b.len(), column, x)));
        b.push(rhs);
    };
    row(&(0..n).map(|i| (i, 1.0)).collect::<Vec<_>>(), p.total.amount);
    let mut linear = 0;
    for (i, line) in p.lines.iter().enumerate() {
        row(&[(i, -1.0)], -line.floor);
        linear += 1;
        if let Some(ceiling) = line.ceiling {
            row(&[(i, 1.0)], ceiling);
            linear += 1;
        }
    }
    for g in &p.groups {
        if let Some(ceiling) = g.ceiling {
            let of: Vec<_> = (0..n)
                .filter(|&i| p.lines[i].group.as_ref() == Some(&g.id))
                .map(|i| (i, 1.0))
                .collect();
            row(&of, ceiling);
            linear += 1;
        }
    }
    cones.push(SupportedConeT::NonnegativeConeT(linear));
    for (i, line) in p.lines.iter().enumerate() {
        match line.response {
            Response::Power { scale, elasticity } => {
                row(&[(i, -1.0)], 0.0);
                row(&[], 1.0);
                row(&[(n + i, -1.0 / scale)], 0.0);
                cones.push(SupportedConeT::PowerConeT(elasticity));
            }
            Response::Saturating { limit, half_at } => {
                row(&[(n + i, 1.0 / limit), (i, -1.0 / half_at)], 2.0);
                row(&[(n + i, 1.0 / limit), (i, 1.0 / half_at)], 0.0);
                row(&[], 2.0);
                cones.push(SupportedConeT::SecondOrderConeT(3));
            }
            Response::Constant { .. } => {}
        }
    }
    let q: Vec<f64> = std::iter::repeat_n(0.0, n).chain(std::iter::repeat_n(-1.0, n)).collect();
    let (rows, columns, values): (Vec<_>, Vec<_>, Vec<_>) =
        at.into_iter().fold(Default::default(), |mut all: (Vec<_>, Vec<_>, Vec<_>), t| {
            all.0.push(t.0);
            all.1.push(t.1);
            all.2.push(t.2);
            all
        });
    let a = CscMatrix::new_from_triplets(b.len(), 2 * n, rows, columns, values);
    let settings = DefaultSettings { verbose: false, ..DefaultSettings::default() };
    let solver =
        DefaultSolver::new(&CscMatrix::zeros((2 * n, 2 * n)), &q, &a, &b, &cones, settings);
    let Ok(mut solver) = solver else { return f64::NAN };
    solver.solve();
    match solver.solution.status {
        SolverStatus::Solved | SolverStatus::AlmostSolved => -solver.solution.obj_val,
        _ => f64::NAN,
    }
}
