//! Whether the ranges of an estimate hold what comes, in worlds drawn for it: few and many similar campaigns, alike and
//! not, thin ones, days that differ more than by chance, and spreads with heavy tails. 80% is what they promise.
#![allow(clippy::unwrap_used)]

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, Gamma, Poisson, StandardNormal, StudentT};
use tiller_core::results_estimate::{Guess, Own, Similar, Told, results};

#[derive(Clone, Copy)]
struct World {
    campaigns: usize,
    spread: f64,
    conversions: f64,
    dispersion: f64,
    heavy: bool,
}

fn normal(rng: &mut ChaCha8Rng) -> f64 {
    StandardNormal.sample(rng)
}

/// A campaign's log rate over the usual, as its world has it.
fn apart(world: World, rng: &mut ChaCha8Rng) -> f64 {
    if world.heavy {
        // Variance 3: brought to the spread.
        world.spread * StudentT::new(3.0).unwrap().sample(rng) / 3f64.sqrt()
    } else {
        world.spread * normal(rng)
    }
}

/// A count of that mean whose variance is the dispersion times it.
fn count(mean: f64, dispersion: f64, rng: &mut ChaCha8Rng) -> f64 {
    let mean = mean.max(1e-6);
    let rate = if dispersion > 1.0 {
        let scale = dispersion - 1.0;
        Gamma::new(mean / scale, scale).unwrap().sample(rng)
    } else {
        mean
    };
    Poisson::new(rate.max(1e-9)).map_or(0.0, |p| p.sample(rng))
}

/// One more campaign: its real CPC and CVR, and its conversions in four weeks for 100 a day.
fn drawn(world: World, rng: &mut ChaCha8Rng) -> (Vec<Similar>, f64, f64, f64) {
    let rates = |rng: &mut ChaCha8Rng| {
        (2.0 * (0.6 * apart(world, rng)).exp(), 0.05 * apart(world, rng).exp())
    };
    let similar = (0..world.campaigns)
        .map(|_| {
            let (cpc, cvr) = rates(rng);
            let clicks = world.conversions / 0.05 * (0.5 * normal(rng)).exp();
            Similar {
                impressions: 30.0 * clicks,
                clicks,
                spend: clicks * cpc,
                conversions: count(clicks * cvr, world.dispersion, rng),
                value: 0.0,
                dispersion: world.dispersion,
            }
        })
        .collect();
    let (cpc, cvr) = rates(rng);
    let came = count(2800.0 / cpc * cvr, world.dispersion, rng);
    (similar, cpc, cvr, came / 28.0)
}

fn worlds() -> Vec<World> {
    let mut all = Vec::new();
    for campaigns in [2, 3, 6, 12] {
        for spread in [0.25, 0.5, 0.8] {
            for (conversions, dispersion, heavy) in
                [(60.0, 1.0, false), (60.0, 3.0, false), (8.0, 2.0, false), (60.0, 2.0, true)]
            {
                all.push(World { campaigns, spread, conversions, dispersion, heavy });
            }
        }
    }
    all
}

#[test]
fn ranges_hold_what_comes() {
    let mut rng = ChaCha8Rng::seed_from_u64(4);
    let mut shares = [Vec::new(), Vec::new()];
    for world in worlds() {
        let runs = 400;
        let mut held = [0, 0];
        for _ in 0..runs {
            let (similar, cpc, _, came) = drawn(world, &mut rng);
            let r = results(&Own::of(&similar), None, 100.0, None);
            held[0] += usize::from(r.cpc.unwrap().between().contains(cpc));
            held[1] += usize::from(r.conversions.unwrap().between().contains(came));
        }
        for (of, held) in shares.iter_mut().zip(held) {
            let share = held as f64 / f64::from(runs);
            // What campaigns differ by is unknown where they are few: a usual spread is believed, too much of it for those
            // that are alike.
            let World { campaigns, spread, conversions, dispersion, heavy } = world;
            let says = format!("{campaigns} of {spread}, {conversions}, {dispersion}, {heavy}");
            assert!(share >= 0.68, "{says}: {share}");
            of.push(share);
        }
    }
    for of in shares {
        let mean = of.iter().sum::<f64>() / of.len() as f64;
        assert!((0.78..=0.9).contains(&mean), "{mean} of {of:?}");
    }
}

/// A channel that is right within its range, and one that is wrong by half: the first makes the estimate sharper, the
/// second makes it wider.
#[test]
fn a_channel_that_disagrees_makes_nothing_surer() {
    let world =
        World { campaigns: 6, spread: 0.4, conversions: 60.0, dispersion: 1.5, heavy: false };
    let mut rng = ChaCha8Rng::seed_from_u64(9);
    let (mut held, mut wider, mut narrower) = (0, 0, 0);
    let runs = 400;
    for _ in 0..runs {
        let (similar, cpc, _, _) = drawn(world, &mut rng);
        let own = Own::of(&similar);
        let alone = results(&own, None, 100.0, None).cpc.unwrap().between();
        let says = |factor: f64, rng: &mut ChaCha8Rng| {
            let clicks = 100.0 / (cpc * factor) * (0.2 * normal(rng)).exp();
            let by = (0.2 * 1.2816f64).exp();
            Told {
                spend: Some(Guess::sure(100.0)),
                clicks: Some(Guess::within(clicks / by, clicks * by)),
                ..Told::default()
            }
        };
        let right = results(&own, Some(&says(1.0, &mut rng)), 100.0, None).cpc.unwrap().between();
        held += usize::from(right.contains(cpc));
        narrower += usize::from(right.high / right.low < alone.high / alone.low);
        let wrong = results(&own, Some(&says(4.0, &mut rng)), 100.0, None).cpc.unwrap().between();
        wider += usize::from(wrong.high / wrong.low > right.high / right.low);
    }
    let share = |n: usize| n as f64 / f64::from(runs);
    assert!((0.74..=0.92).contains(&share(held)), "{}", share(held));
    assert!(share(narrower) > 0.9 && share(wider) > 0.85, "{} {}", share(narrower), share(wider));
}
