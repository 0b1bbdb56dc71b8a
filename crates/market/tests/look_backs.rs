//! What is said of changes (L3), against what the market knows of them: the same days without the change, and what clicks
//! were due to bring. On even days and on uneasy ones, where shocks last and are shared.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::sync::Arc;

use crate::common::{change, day};
use tiller_channel::Micros;
use tiller_core::change_effect::{CameOfIt, Line, When, Worth, effect};
use tiller_core::setting::{Budget, Setting, Status, Strategy};
use tiller_market::world::AMBERFOLD;
use tiller_market::{Market, World};

/// Days that are judged.
const WEEK: usize = 7;

fn market(seed: u64, uneasy: bool) -> Market {
    let world = World { seed, ..World::parse(AMBERFOLD).unwrap() };
    let world = if uneasy { world } else { world.at_rest() };
    Market::begin(Arc::new(world), day("2026-11-09"))
}

/// Something that is changed of a campaign, by turns; none where it has no such setting.
fn turned(budget: Option<Budget>, strategy: Strategy, turn: usize) -> Option<Setting> {
    let daily = |times: f64| {
        let amount = match budget? {
            Budget::Daily { amount } => amount,
            Budget::Lifetime { .. } => return None,
        };
        Some(Setting::Budget(Budget::Daily {
            amount: Micros::from_units(amount.to_units() * times),
        }))
    };
    let aimed = |times: f64| match strategy {
        Strategy::TargetCpa { target } => {
            let target = Micros::from_units((target.to_units() * times).max(0.5));
            Some(Setting::Strategy(Strategy::TargetCpa { target }))
        }
        Strategy::TargetRoas { target } => {
            Some(Setting::Strategy(Strategy::TargetRoas { target: target / times }))
        }
        _ => None,
    };
    match turn % 5 {
        0 => daily(0.4),
        1 => daily(2.0),
        2 => Some(Setting::Status(Status::Paused)),
        3 => aimed(0.6),
        _ => aimed(1.5),
    }
}

/// A campaign's days: what was spent, and what its results are worth; as they came, or as they were due.
fn line(market: &Market, account: usize, n: usize, each: f64, due: bool) -> Line {
    let sim = &market.accounts[account].campaigns[n];
    let of_world = &market.of_world(&market.accounts[account]).campaigns[n];
    let mut line = Line::default();
    for d in &sim.days {
        let streams = d.streams.iter().zip(&sim.streams);
        line.spend.push(d.streams.iter().map(|s| s.spend.to_units()).sum());
        line.worth.push(
            streams
                .map(|(s, stream)| match (due, of_world.value > 0.0) {
                    (true, true) => s.due * of_world.value * stream.value * each,
                    (false, true) => s.worth.to_units() * each,
                    (true, false) => s.due * each,
                    (false, false) => f64::from(s.converted) * each,
                })
                .sum(),
        );
    }
    line
}

/// What a result is worth where the account's own average is its target.
fn worth_of_one(market: &Market, account: usize) -> f64 {
    let outcome = tiller_market::sim::outcome(market, account, 28);
    let results = if outcome.value > 0.0 { outcome.due.value } else { outcome.due.conversions };
    outcome.spend / results
}

#[derive(Clone, Copy, Debug, Default)]
struct Tally {
    judged: usize,
    worked: usize,
    worked_truly: usize,
    worse: usize,
    worse_truly: usize,
    held: usize,
    useless: usize,
    useless_worked: usize,
    useless_worse: usize,
}

fn judge(seeds: std::ops::RangeInclusive<u64>, uneasy: bool) -> Tally {
    let mut all = Tally::default();
    for seed in seeds {
        let began = market(seed, uneasy);
        let mut stayed = began.clone();
        stayed.pass(WEEK as u64);
        let mut turned_round = began.clone();
        let mut turn = seed as usize;
        let mut changed: Vec<(usize, usize)> = Vec::new();
        for account in 0..began.accounts.len() {
            for (n, sim) in began.accounts[account].campaigns.iter().enumerate() {
                // A third of them, others in other seeds; the rest is what they are held against.
                if !(n as u64 + seed).is_multiple_of(3) {
                    continue;
                }
                turn += 1;
                let Some(set) = turned(sim.settings.budget, sim.settings.strategy, turn) else {
                    continue;
                };
                let of_world = began.of_world(&began.accounts[account]);
                let channel = of_world.campaigns[n].channel.clone();
                let answer = turned_round.change(account, &channel, &change(&sim.key, set));
                if answer.refused.is_none() {
                    changed.push((account, n));
                }
            }
        }
        turned_round.pass(WEEK as u64);
        for account in 0..began.accounts.len() {
            let each = worth_of_one(&began, account);
            let campaigns = began.accounts[account].campaigns.len();
            let all_lines: Vec<Line> =
                (0..campaigns).map(|n| line(&turned_round, account, n, each, false)).collect();
            let untouched = |n: &usize| !changed.contains(&(account, *n));
            for n in 0..campaigns {
                let days = all_lines[n].spend.len();
                let when =
                    When { since: 0, changed: days - WEEK, judged: (days - WEEK..days).collect() };
                let others: Vec<&Line> = (0..campaigns)
                    .filter(|o| *o != n && untouched(o))
                    .map(|o| &all_lines[o])
                    .collect();
                if all_lines[n].spend[..days - WEEK].iter().rev().take(28).sum::<f64>() <= 0.0 {
                    continue;
                }
                let Some(found) = effect(&all_lines[n], &others, &when) else { continue };
                let worth = Worth::sum([&found]);
                let came = worth.came_of_it();
                let of = |market: &Market| -> f64 {
                    let line = line(market, account, n, each, true);
                    line.worth[days - WEEK..].iter().sum::<f64>()
                        - line.spend[days - WEEK..].iter().sum::<f64>()
                };
                let truth = of(&turned_round) - of(&stayed);
                if untouched(&n) {
                    all.useless += 1;
                    all.useless_worked += usize::from(came == CameOfIt::Worked);
                    all.useless_worse += usize::from(came == CameOfIt::Worse);
                    continue;
                }
                all.judged += 1;
                all.held += usize::from(worth.range().contains(truth));
                match came {
                    CameOfIt::Worked => {
                        all.worked += 1;
                        all.worked_truly += usize::from(truth > 0.0);
                    }
                    CameOfIt::Worse => {
                        all.worse += 1;
                        all.worse_truly += usize::from(truth < 0.0);
                    }
                    CameOfIt::Untold => {}
                }
                if std::env::var_os("LOOK_BACKS").is_some() {
                    eprintln!(
                        "{seed} {account}/{n} {} {came:?} {:.0} ± {:.0}, truly {truth:.0}",
                        began.of_world(&began.accounts[account]).campaigns[n].name,
                        worth.mid,
                        worth.deviation
                    );
                }
            }
        }
    }
    eprintln!("uneasy {uneasy}: {all:?}");
    all
}

/// The seeds that are tried; more with `SEEDS=20`.
fn seeds() -> std::ops::RangeInclusive<u64> {
    1..=std::env::var("SEEDS").ok().and_then(|n| n.parse().ok()).unwrap_or(4)
}

#[test]
fn what_is_said_to_have_worked_did() {
    for uneasy in [false, true] {
        let all = judge(seeds(), uneasy);
        assert!(all.judged >= 10 && all.useless >= 40, "{all:?}");
        // Nine of ten verdicts are true; of a few, one may be wrong.
        let wrong = all.worked + all.worse - all.worked_truly - all.worse_truly;
        assert!(wrong <= 1.max((all.worked + all.worse) / 10), "{all:?}");
        // Eight of ten ranges hold what it was, give or take two standard deviations of chance.
        let chance = 2.0 * (0.16 / all.judged as f64).sqrt();
        assert!(all.held as f64 / all.judged as f64 > 0.8 - chance, "{all:?}");
        assert!(10 * all.useless_worked <= all.useless, "{all:?}");
        assert!(10 * all.useless_worse <= all.useless, "{all:?}");
        assert!(all.worked + all.worse > 0, "never says anything: {all:?}");
    }
}
