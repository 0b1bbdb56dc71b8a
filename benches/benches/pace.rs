//! The month's forecast of a large account: every campaign, its channels and the whole.

use std::hint::black_box;

use chrono::{Days, NaiveDate};
use criterion::{Criterion, criterion_group, criterion_main};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tiller_core::Window;
use tiller_core::pace::{Series, forecasts};

fn series(campaigns: usize, to: NaiveDate) -> Vec<Series> {
    let mut chance = ChaCha8Rng::seed_from_u64(1);
    (0..campaigns)
        .map(|i| Series {
            spend: (0..118)
                .map(|age| (to - Days::new(age), 50.0 + 40.0 * chance.random::<f64>()))
                .collect(),
            budget: Some(80.0),
            parts_of: vec![0, 1 + i % 8],
        })
        .collect()
}

fn month(c: &mut Criterion) {
    let to = NaiveDate::from_ymd_opt(2026, 11, 9).unwrap_or_default();
    let Some(month) = Window::new(to - Days::new(8), to + Days::new(21)) else { return };
    for campaigns in [100, 400, 1000] {
        let all = series(campaigns, to);
        c.bench_function(&format!("forecast of {campaigns} campaigns"), |b| {
            b.iter(|| forecasts(black_box(&all), 9, to, month));
        });
    }
}

criterion_group! { name = pace; config = Criterion::default().sample_size(10); targets = month }
criterion_main!(pace);
