//! Response curves find again what made the data: 500 simulated campaigns (the handbook's maths, section 10).
#![allow(clippy::unwrap_used, clippy::expect_used)]

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, Gamma, Normal, Poisson};
use tiller_core::Price;
use tiller_core::evidence::over_target;
use tiller_core::response::{Day, fit, of_channel};
use tiller_core::week::DAYS;

const CHANNELS: usize = 25;
const CAMPAIGNS: usize = 20;

/// What moves money.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Moved {
    /// A budget of each day, which is spent.
    EachDay,
    /// As demand does, under a budget that stands.
    ByDemand,
    /// As demand does, under a budget that is another one every three weeks; as far as spend follows it.
    Both(f64),
}

struct Simulated {
    elasticity: f64,
    level: f64,
    days: Vec<Day>,
}

/// A campaign whose conversions are over-dispersed by `noise` (the variance of a gamma with mean 1), with a week
/// and a spend that varies by `spread` for reasons of its own.
fn campaign(rng: &mut ChaCha8Rng, mean: f64, spread: f64, noise: f64) -> Simulated {
    drawn(rng, mean, (spread, Moved::EachDay), noise, 0.0, 0.0)
}

/// The same where demand follows itself, as an autoregression of its logarithm with a standard deviation of 0.15, and
/// grows by so much a week.
fn drawn(
    rng: &mut ChaCha8Rng,
    mean: f64,
    (spread, moved): (f64, Moved),
    noise: f64,
    persistent: f64,
    trend: f64,
) -> Simulated {
    let elasticity = f64::clamp(Normal::new(mean, 0.15).unwrap().sample(rng), 0.1, 0.98);
    let level = f64::exp(Normal::new(1.8, 0.6).unwrap().sample(rng));
    let week: Vec<f64> = (0..7).map(|_| Normal::new(0.0, 0.2).unwrap().sample(rng)).collect();
    let log_spend = Normal::new(100f64.ln(), spread).unwrap();
    let usual = if persistent > 0.0 { 0.15 } else { 0.0 };
    let shock = Normal::new(0.0, usual * (1.0 - f64::powi(persistent, 2)).sqrt()).unwrap();
    let (mut demand, mut set) = (0.0, 0.0);
    let days = (0..112)
        .map(|i| {
            if moved == Moved::EachDay || i % 21 == 20 {
                set = log_spend.sample(rng) - 100f64.ln();
            }
            demand = persistent * demand + shock.sample(rng);
            let grown = trend * (i as f64 - 111.0) / 7.0;
            let follows = match moved {
                Moved::EachDay => set,
                Moved::ByDemand => demand,
                Moved::Both(part) => part * set + demand,
            };
            let spend = 100.0 * f64::exp(follows);
            let budget = (moved != Moved::ByDemand).then(|| 100.0 * set.exp());
            let mut rate =
                level * (spend / 100.0).powf(elasticity) * (week[i % 7] + demand + grown).exp();
            if noise > 0.0 {
                rate *= Gamma::new(1.0 / noise, noise).unwrap().sample(rng);
            }
            let conversions: f64 = Poisson::new(rate.max(1e-9)).unwrap().sample(rng);
            Day { weekday: DAYS[i % 7], at: i as f64, spend, conversions, budget, step: None }
        })
        .collect();
    let week = week.iter().map(|w| w.exp()).sum::<f64>() / 7.0;
    Simulated { elasticity, level: level * week, days }
}

/// Shares of campaigns whose elasticity, and whose level at 100 a day, lie in their intervals.
fn coverage(spread: f64, noise: f64, seed: u64) -> (f64, f64) {
    let mean = |channel: usize, _: &mut ChaCha8Rng| 0.5 + 0.4 * channel as f64 / CHANNELS as f64;
    let draw = |mean: f64, rng: &mut ChaCha8Rng| campaign(rng, mean, spread, noise);
    coverage_of(seed, (CHANNELS, CAMPAIGNS), mean, draw)
}

fn coverage_of(
    seed: u64,
    (channels, campaigns): (usize, usize),
    mean: impl Fn(usize, &mut ChaCha8Rng) -> f64,
    draw: impl Fn(f64, &mut ChaCha8Rng) -> Simulated,
) -> (f64, f64) {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let (mut slopes, mut levels, mut all) = (0, 0, 0);
    for channel in 0..channels {
        let mean = mean(channel, &mut rng);
        let simulated: Vec<Simulated> = (0..campaigns).map(|_| draw(mean, &mut rng)).collect();
        let days: Vec<&[Day]> = simulated.iter().map(|s| s.days.as_slice()).collect();
        for (s, belief) in simulated.iter().zip(of_channel(&days)) {
            let c = fit(&s.days, belief).unwrap();
            // 1.645: 90% of a normal distribution.
            slopes += u32::from((c.elasticity - s.elasticity).abs() <= 1.645 * c.elasticity_error);
            let level = c.interval(100.0, 0.8);
            levels += u32::from((level.low..=level.high).contains(&s.level));
            all += 1;
        }
    }
    (f64::from(slopes) / f64::from(all), f64::from(levels) / f64::from(all))
}

#[test]
fn ninety_percent_intervals_cover_the_elasticity() {
    for (spread, noise) in [(0.3, 0.0), (0.3, 0.15), (0.1, 0.0)] {
        let (slopes, levels) = coverage(spread, noise, 17);
        assert!((0.85..=0.95).contains(&slopes), "spread {spread}, noise {noise}: {slopes}");
        // The level is that of the last day, whose trend was fitted too.
        assert!((0.72..=0.88).contains(&levels), "spread {spread}, noise {noise}: level {levels}");
    }
}

/// A channel with one campaign, or three: its mean elasticity is hardly known, and the interval says so; nor does it forget
/// that demand follows itself.
#[test]
fn few_campaigns_know_little_of_their_channel() {
    for (campaigns, spread, noise, persistent) in
        [(1, 0.3, 0.15, 0.0), (1, 0.05, 0.0, 0.0), (3, 0.05, 0.1, 0.0), (3, 0.2, 0.1, 0.8)]
    {
        let channels = 500 / campaigns;
        let mean = |_, rng: &mut ChaCha8Rng| Normal::new(0.7, 0.2).unwrap().sample(rng);
        let draw = |mean: f64, rng: &mut ChaCha8Rng| {
            drawn(rng, mean, (spread, Moved::EachDay), noise, persistent, 0.0)
        };
        let (slopes, levels) = coverage_of(29, (channels, campaigns), mean, draw);
        println!("{campaigns} a channel, spread {spread}: {slopes:.2} of 0.90, level {levels:.2}");
        assert!(
            (0.85..=0.97).contains(&slopes),
            "{campaigns} a channel, spread {spread}: {slopes}"
        );
    }
}

/// What a day spends and what it brings both move with demand: that is no answer to money. Where a budget was moved, its part
/// is told from it; where none was, the channel is all that is known. Taken together, elasticities would lie near 1.
#[test]
fn demand_is_not_taken_for_an_answer_to_money() {
    for (moved, spread) in
        [(Moved::ByDemand, 0.0), (Moved::Both(1.0), 0.3), (Moved::Both(0.5), 0.4)]
    {
        for persistent in [0.4, 0.8] {
            let mean = |_, rng: &mut ChaCha8Rng| Normal::new(0.65, 0.15).unwrap().sample(rng);
            let off = std::cell::Cell::new(0.0);
            let draw = |mean: f64, rng: &mut ChaCha8Rng| {
                let s = drawn(rng, mean, (spread, moved), 0.1, persistent, 0.0);
                let alone = fit(&s.days, tiller_core::response::BELIEF).unwrap();
                off.set(off.get() + (alone.elasticity - s.elasticity) / 500.0);
                s
            };
            let (slopes, _) = coverage_of(37, (50, 10), mean, draw);
            let off = off.get();
            println!("{moved:?}, demand keeps {persistent}: {slopes:.2} of 0.90, off by {off:+.3}");
            assert!((0.84..=0.97).contains(&slopes), "{moved:?}, {persistent}: {slopes}");
            assert!(off.abs() < 0.1, "{moved:?}, {persistent}: off by {off}");
        }
    }
}

/// What is promised of money: where the next result is said to meet a target so surely, or to cost more than it may, it
/// does, whatever the days are like.
#[test]
fn what_is_said_of_the_next_result_comes_true() {
    const SURE_OF_NEXT: f64 = 0.7;
    const SURE_OF_LAST: f64 = 0.9;
    let worlds = [
        ("independent days", 0.3, 0.0, 0.0, 0.0),
        ("days that differ by more than chance", 0.3, 0.15, 0.0, 0.0),
        ("money that hardly varied", 0.05, 0.0, 0.0, 0.0),
        ("demand that follows itself", 0.2, 0.1, 0.7, 0.0),
        ("growth of 3% a week", 0.2, 0.1, 0.0, 0.03),
    ];
    for (name, spread, noise, persistent, trend) in worlds {
        let mut rng = ChaCha8Rng::seed_from_u64(23);
        let (mut said, mut came, mut all) = (0.0, 0.0, 0.0);
        let (mut raised, mut lowered) = ([0.0; 2], [0.0; 2]);
        for channel in 0..CHANNELS {
            let mean = 0.5 + 0.4 * channel as f64 / CHANNELS as f64;
            let simulated: Vec<Simulated> = (0..CAMPAIGNS)
                .map(|_| drawn(&mut rng, mean, (spread, Moved::EachDay), noise, persistent, trend))
                .collect();
            let days: Vec<&[Day]> = simulated.iter().map(|s| s.days.as_slice()).collect();
            for (s, belief) in simulated.iter().zip(of_channel(&days)) {
                let c = fit(&s.days, belief).unwrap();
                let lately = &s.days[s.days.len() - 28..];
                let spend: f64 = lately.iter().map(|d| d.spend).sum();
                let counted: f64 = lately.iter().map(|d| d.conversions).sum();
                let target =
                    100.0 / s.level * f64::exp(Normal::new(0.3, 0.4).unwrap().sample(&mut rng));
                let phi = c.dispersion.max(1.0);
                let meets = |costs: f64| {
                    1.0 - over_target(spend / phi, counted / phi, Price(target / costs))
                };
                let chance = c.precision.next_meets(c.response, 100.0, 100.0, meets);
                let truly = 100.0 / s.level / s.elasticity <= target;
                all += 1.0;
                said += chance;
                came += f64::from(u8::from(truly));
                if chance >= SURE_OF_NEXT {
                    raised[0] += 1.0;
                    raised[1] += f64::from(u8::from(truly));
                }
                if chance <= 1.0 - SURE_OF_LAST {
                    lowered[0] += 1.0;
                    lowered[1] += f64::from(u8::from(!truly));
                }
            }
        }
        let (good, dear) = (raised[1] / raised[0], lowered[1] / lowered[0]);
        println!(
            "{name}: said {:.2}, came {:.2}; of {} it held in {good:.2}, of {} too dear in {dear:.2}",
            said / all,
            came / all,
            raised[0],
            lowered[0]
        );
        // Where demand grows, days that are past promise less than is to come.
        let less = (came - said) / all;
        assert!((-0.02..0.1).contains(&less), "{name}: {} {}", said / all, came / all);
        assert!(raised[0] > 50.0 && good >= SURE_OF_NEXT, "{name}: {good} of {}", raised[0]);
        assert!(
            lowered[0] > 50.0 && dear >= SURE_OF_LAST - 0.02,
            "{name}: {dear} of {}",
            lowered[0]
        );
    }
}
