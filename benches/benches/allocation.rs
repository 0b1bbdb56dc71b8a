//! Allocation: the goals of the handbook, and a conic solver in the same run.

use criterion::{Criterion, criterion_group, criterion_main};
use tiller_benches::{conic, instance};
use tiller_core::allocation::{Answer, Problem, Use, solve};

fn objective(p: &Problem) -> f64 {
    match solve(p) {
        Answer::Optimal(s) => s.objective,
        Answer::Infeasible { .. } => f64::NAN,
    }
}

fn allocation(c: &mut Criterion) {
    for (lines, groups) in [(100, 5), (1_000, 20), (10_000, 200), (100_000, 2_000)] {
        let p = instance(lines, groups);
        c.bench_function(&format!("solve/{lines} lines, {groups} groups"), |b| {
            b.iter(|| objective(&p))
        });
    }
    let mut limited = instance(10_000, 200);
    limited.total.spend = Use::UpTo;
    limited.limits.max_cpa = Some(6.0);
    c.bench_function("solve/10000 lines, CPA at most", |b| b.iter(|| objective(&limited)));

    let p = instance(1_000, 20);
    let (ours, reference) = (objective(&p), conic(&p));
    assert!((ours / reference - 1.0).abs() < 1e-6, "{ours} is not {reference}");
    let mut group = c.benchmark_group("conic");
    group.sample_size(10);
    group.bench_function("1000 lines, 20 groups", |b| b.iter(|| conic(&p)));
    group.finish();
}

criterion_group!(benches, allocation);
criterion_main!(benches);
