//! The stand-in market: auctions simulated a second, one account and one day at a time.

use std::sync::Arc;

use chrono::NaiveDate;
use criterion::{BatchSize, Criterion, Throughput, criterion_group, criterion_main};
use tiller_market::world::{AMBERFOLD, LARGE_SHOP, THIN_LEADS};
use tiller_market::{Market, World};

fn market(c: &mut Criterion) {
    let last = NaiveDate::from_ymd_opt(2026, 11, 9).unwrap_or_default();
    let mut group = c.benchmark_group("market, one day");
    for (name, text) in
        [("amberfold", AMBERFOLD), ("thin_leads", THIN_LEADS), ("large_shop", LARGE_SHOP)]
    {
        let Ok(world) = World::parse(text) else { continue };
        for account in &world.accounts {
            let alone = World { accounts: vec![account.clone()], ..world.clone() };
            let begun = Market::begin(Arc::new(alone), last);
            // The world file's mean auctions of a day; what a weekday or a season adds is left out.
            let auctions: f64 = account.campaigns.iter().map(|c| c.auctions).sum();
            group.throughput(Throughput::Elements(auctions as u64));
            group.bench_function(format!("{name}/{}", account.key), |b| {
                b.iter_batched_ref(|| begun.clone(), |m| m.pass(1), BatchSize::PerIteration);
            });
        }
    }
    group.finish();
    let world = Arc::new(World::parse(AMBERFOLD).unwrap_or_else(|e| panic!("{e}")));
    c.bench_function("history of amberfold, 3 accounts, 150 days", |b| {
        b.iter(|| Market::begin(world.clone(), last));
    });
}

criterion_group!(benches, market);
criterion_main!(benches);
