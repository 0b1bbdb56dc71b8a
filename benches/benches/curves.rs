//! Response curves of an account: 400 campaigns in 8 channels over 120 days.

use criterion::{Criterion, criterion_group, criterion_main};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use tiller_core::response::{Belief, Day, fit, of_channel};
use tiller_core::week;

const CAMPAIGNS: usize = 400;
const CHANNELS: usize = 8;
const DAYS: usize = 120;

fn account() -> Vec<Vec<Day>> {
    let mut rng = ChaCha8Rng::seed_from_u64(5);
    (0..CAMPAIGNS)
        .map(|_| {
            let level = rng.random_range(1.0..12.0);
            let day = |i: usize| {
                let spend: f64 = rng.random_range(60.0..160.0);
                let rate = level * (spend / 100.0).powf(0.65);
                let conversions = (rate * rng.random_range(0.5..1.5)).round();
                Day {
                    weekday: week::DAYS[i % 7],
                    at: i as f64,
                    spend,
                    conversions,
                    budget: Some(spend),
                    step: None,
                }
            };
            (0..DAYS).map(day).collect()
        })
        .collect()
}

fn curves(c: &mut Criterion) {
    let account = account();
    c.bench_function("curves of 400 campaigns over 120 days", |b| {
        b.iter(|| {
            let mut fitted = 0;
            for channel in account.chunks(CAMPAIGNS / CHANNELS) {
                let days: Vec<&[Day]> = channel.iter().map(Vec::as_slice).collect();
                let beliefs = of_channel(&days);
                let of = |(d, belief): (&Vec<Day>, Belief)| fit(d, belief);
                fitted += channel.iter().zip(beliefs).filter_map(of).count();
            }
            fitted
        });
    });
}

criterion_group!(benches, curves);
criterion_main!(benches);
