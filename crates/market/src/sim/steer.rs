//! How well an account was steered: the same days with nothing changed, and with the best budgets, bids and targets that
//! knowledge of the truth allows. Where only budgets are moved, the same money is the same spend: a budget that is not
//! used up has none to give. Where bids are, what is spent is part of the decision: the best brings the most that its
//! results are worth at the account's target above what they cost, with budgets too for no more than those add up to.

use serde::Serialize;
use tiller_core::setting::{Budget, Status};

use super::campaign::CampaignSim;
use super::market::Market;
use super::truth::{Ahead, CurvePoint, response, scale_bids, set_budget};

/// Who steers.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Policy {
    /// Nobody.
    Stay,
    /// One who knows every true response: the best daily budgets for what is spent where nobody steers.
    Oracle,
}

/// What the oracle may move.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Levers {
    /// Daily budgets, within their total.
    pub budgets: bool,
    /// What stands for bids: bids by hand, targets, highest bids.
    pub bids: bool,
}

/// What came of it.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Outcome {
    /// Money.
    pub spend: f64,
    /// Conversions that really came, reported or not yet.
    pub conversions: f64,
    /// Their value, reported or not.
    pub value: f64,
    /// What its clicks were due to bring, whatever chance made of them: two ways of steering are told apart by it with
    /// fewer accounts.
    pub due: Due,
}

/// What clicks were due to bring.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize)]
pub struct Due {
    /// Conversions.
    pub conversions: f64,
    /// Their value.
    pub value: f64,
}

impl Outcome {
    /// Money for a conversion.
    pub fn cpa(&self) -> Option<f64> {
        (self.conversions > 0.0).then(|| self.spend / self.conversions)
    }
}

/// Money is shared out in so many steps.
const STEPS: usize = 2000;
/// Points at which a response is computed; between them it is straight.
const POINTS: usize = 32;

/// How often the oracle aims anew at what would be spent without it.
const AIMS: usize = 4;

/// Steers an account of a market that stands at the end of its history, and says what came of it.
pub fn steer(market: Market, account: usize, policy: Policy, levers: Levers, days: u32) -> Outcome {
    let with = |set: &[Set]| {
        let mut market = market.clone();
        for (sim, set) in market.accounts[account].campaigns.iter_mut().zip(set) {
            if let Some(units) = set.budget {
                set_budget(sim, units);
            }
            scale_bids(sim, set.times);
        }
        market.pass(u64::from(days));
        outcome(&market, account, days)
    };
    let stayed = with(&[]);
    if policy == Policy::Stay || stayed.spend <= 0.0 {
        return stayed;
    }
    if levers.bids {
        return with(&most_worth(&market, account, levers, days));
    }
    let with = |budgets: &[Option<f64>]| {
        let set = |budget: &Option<f64>| Set { budget: *budget, times: 1.0 };
        with(&budgets.iter().map(set).collect::<Vec<_>>())
    };
    // What is expected is not what is spent in the end: more money would be compared with less.
    let mut share = 1.0;
    let mut steered = with(&best_budgets(&market, account, days, share));
    for _ in 1..AIMS {
        share *= stayed.spend / steered.spend.max(f64::MIN_POSITIVE);
        steered = with(&best_budgets(&market, account, days, share));
    }
    steered
}

/// What came of an account's last days.
pub fn outcome(market: &Market, account: usize, days: u32) -> Outcome {
    let mut outcome = Outcome { spend: 0.0, conversions: 0.0, value: 0.0, due: Due::default() };
    let of_world = market.of_world(&market.accounts[account]);
    for sim in &market.accounts[account].campaigns {
        let from = sim.days.len().saturating_sub(days as usize);
        let each = of_world.campaigns[sim.index].value;
        for (s, stream) in sim.days[from..].iter().flat_map(|d| d.streams.iter().zip(&sim.streams))
        {
            outcome.spend += s.spend.to_units();
            outcome.conversions += f64::from(s.converted);
            outcome.value += s.worth.to_units();
            outcome.due.conversions += s.due;
            outcome.due.value += s.due * each * stream.value;
        }
    }
    outcome
}

/// What a campaign brings for the money that it really spends, and the budget that makes it spend that.
struct BudgetResponse {
    /// Money a day that is spent, rising from 0.
    spends: Vec<f64>,
    /// What it brings then: conversions or value.
    results: Vec<f64>,
    /// The budget a day that leads there.
    budgets: Vec<f64>,
}

impl BudgetResponse {
    fn of(curve: &[CurvePoint], by_value: bool) -> Self {
        let (mut spends, mut results, mut budgets) = (vec![0.0], vec![0.0], vec![0.0]);
        for p in curve {
            // Beyond what it can spend a budget changes nothing.
            if p.spend > spends[spends.len() - 1] * (1.0 + 1e-6) {
                spends.push(p.spend);
                results.push(if by_value { p.value } else { p.conversions });
                budgets.push(p.budget);
            }
        }
        Self { results: envelope(&spends, results), spends, budgets }
    }

    fn most(&self) -> f64 {
        self.spends[self.spends.len() - 1]
    }

    fn gain(&self, from: f64, to: f64) -> f64 {
        let at = |x| straight(&self.spends, &self.results, x);
        if to > self.most() { 0.0 } else { at(to) - at(from) }
    }
}

/// For each campaign the daily budget that brings the account the most for a share of what it is expected to spend
/// now; none where a budget moves nothing.
fn best_budgets(market: &Market, account: usize, days: u32, share: f64) -> Vec<Option<f64>> {
    let sim = &market.accounts[account];
    let by_value = market.of_world(sim).target_roas.is_some();
    let nominal: f64 =
        sim.campaigns.iter().filter(|c| is_lever(c)).map(|c| c.budget_a_day().to_units()).sum();
    // Finer where little money is, since responses bend most there.
    let grid: Vec<f64> =
        (1..=POINTS).map(|k| nominal * (k as f64 / POINTS as f64).powi(2)).collect();
    let mut total = 0.0;
    let responses: Vec<Option<BudgetResponse>> = sim
        .campaigns
        .iter()
        .map(|c| {
            is_lever(c).then(|| {
                let present = response(market, sim, c, days, &[c.budget_a_day().to_units()]);
                total += present[0].spend;
                BudgetResponse::of(&response(market, sim, c, days, &grid), by_value)
            })
        })
        .collect();
    let step = share * total / STEPS as f64;
    let mut spends: Vec<f64> = vec![0.0; responses.len()];
    for _ in 0..STEPS {
        let gain = |i: usize| responses[i].as_ref().map(|l| l.gain(spends[i], spends[i] + step));
        let best = (0..responses.len())
            .filter_map(|i| Some((i, gain(i)?)))
            .max_by(|a, b| a.1.total_cmp(&b.1))
            .filter(|(_, gain)| *gain > 0.0);
        let Some((i, _)) = best else { break };
        spends[i] += step;
    }
    let budget = |l: &BudgetResponse, spend: f64| {
        // What it spends in full needs no exact budget: a bit above leaves its good days alone.
        if spend + step > l.most() {
            l.budgets[l.budgets.len() - 1]
        } else {
            straight(&l.spends, &l.budgets, spend).max(0.01)
        }
    };
    responses.iter().zip(spends).map(|(l, spend)| l.as_ref().map(|l| budget(l, spend))).collect()
}

/// Whether a campaign runs on a daily budget.
fn is_lever(c: &CampaignSim) -> bool {
    c.settings.status == Status::Active && matches!(c.settings.budget, Some(Budget::Daily { .. }))
}

/// What the oracle sets on a campaign.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Set {
    /// Its budget a day; none leaves it.
    budget: Option<f64>,
    /// Times that what stands for its bids is multiplied.
    times: f64,
}

/// As many times the present bids as are tried.
const TIMES: [f64; 11] = [0.3, 0.4, 0.5, 0.63, 0.8, 0.9, 1.0, 1.12, 1.25, 1.6, 2.0];
/// Budgets that are tried with each of them.
const BUDGETS: usize = 14;

/// For each campaign the bids, and the budget if that may be moved, that bring the account the most above what is spent,
/// each conversion worth the target, for no more than its daily budgets add up to.
fn most_worth(market: &Market, account: usize, levers: Levers, days: u32) -> Vec<Set> {
    let sim = &market.accounts[account];
    let of_world = market.of_world(sim);
    let worth = |p: &CurvePoint| match (of_world.target_roas, of_world.target_cpa) {
        (Some(roas), _) => p.value / roas,
        (None, Some(cpa)) => p.conversions * cpa,
        (None, None) => p.conversions,
    };
    let budgets = |c: &CampaignSim| c.budget_a_day().to_units();
    let total: f64 = sim.campaigns.iter().filter(|c| is_lever(c)).map(budgets).sum();
    let grid: Vec<f64> =
        (1..=BUDGETS).map(|k| total * (k as f64 / BUDGETS as f64).powi(2)).collect();
    let none = Set { budget: None, times: 1.0 };
    let ways = |c: &CampaignSim| -> Vec<(CurvePoint, Set)> {
        let ahead = Ahead::of(market, sim, c, days);
        if c.settings.status != Status::Active {
            return vec![(ahead.run(None, 1.0), none)];
        }
        let budgets: Vec<Option<f64>> = if levers.budgets && is_lever(c) {
            grid.iter().map(|b| Some(*b)).collect()
        } else {
            vec![None]
        };
        let all = TIMES.iter().flat_map(|times| budgets.iter().map(move |b| (*times, *b)));
        all.map(|(times, budget)| (ahead.run(budget, times), Set { budget, times })).collect()
    };
    let ways: Vec<Vec<(CurvePoint, Set)>> = sim.campaigns.iter().map(ways).collect();
    // Each campaign's best where a unit of money costs so much: dearer as long as more is spent than there is.
    let best = |price: f64| -> Vec<&(CurvePoint, Set)> {
        let gain = |p: &CurvePoint| worth(p) - price * p.spend;
        let of = |all: &'_ Vec<(CurvePoint, Set)>| {
            (0..all.len()).max_by(|a, b| gain(&all[*a].0).total_cmp(&gain(&all[*b].0)))
        };
        ways.iter().filter_map(|all| of(all).map(|i| &all[i])).collect()
    };
    // Campaigns without a daily budget spend what they spend.
    let others = sim.campaigns.iter().filter(|c| !is_lever(c));
    let stays = |c: &CampaignSim| Ahead::of(market, sim, c, days).run(None, 1.0).spend;
    let most: f64 = total + others.map(stays).sum::<f64>();
    let spent = |price: f64| best(price).iter().map(|(p, _)| p.spend).sum::<f64>();
    let (mut low, mut high) = (1.0, 1.0);
    while levers.budgets && spent(high) > most && high < 1e3 {
        high *= 2.0;
    }
    for _ in 0..30 {
        let middle = f64::midpoint(low, high);
        if spent(middle) > most { low = middle } else { high = middle }
    }
    best(high).into_iter().map(|(_, set)| *set).collect()
}

/// The least concave curve above the points: what mixing two budgets over days would reach.
fn envelope(x: &[f64], mut y: Vec<f64>) -> Vec<f64> {
    let mut hull: Vec<usize> = Vec::new();
    for i in 0..x.len() {
        while hull.len() >= 2 {
            let (a, b) = (hull[hull.len() - 2], hull[hull.len() - 1]);
            let under = (y[b] - y[a]) * (x[i] - x[a]) <= (y[i] - y[a]) * (x[b] - x[a]);
            if !under {
                break;
            }
            hull.pop();
        }
        hull.push(i);
    }
    for pair in hull.windows(2) {
        let (a, b) = (pair[0], pair[1]);
        for i in a + 1..b {
            y[i] = y[a] + (y[b] - y[a]) * (x[i] - x[a]) / (x[b] - x[a]);
        }
    }
    y
}

fn straight(x: &[f64], y: &[f64], at: f64) -> f64 {
    let after = x.partition_point(|v| *v <= at).min(x.len() - 1);
    let before = after - 1;
    let along = ((at - x[before]) / (x[after] - x[before])).min(1.0);
    y[before] + (y[after] - y[before]) * along
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::World;
    use crate::world::AMBERFOLD;

    #[test]
    fn who_knows_the_truth_waits_for_a_strategy_to_learn_too() {
        let world = Arc::new(World::parse(AMBERFOLD).unwrap());
        let market = Market::begin(world, "2026-11-09".parse().unwrap());
        let by_target = |c: &&CampaignSim| {
            matches!(c.settings.strategy, tiller_core::setting::Strategy::TargetCpa { .. })
        };
        let mut sim = market.accounts[0].campaigns.iter().find(by_target).unwrap().clone();
        let begun = sim.learning.begun;
        scale_bids(&mut sim, 0.85);
        assert_eq!(sim.learning.begun, begun);
        scale_bids(&mut sim, 0.5);
        assert_eq!(sim.learning.begun, begun + 1);
    }

    #[test]
    fn an_envelope_lies_above_and_is_concave() {
        let x = [0.0, 1.0, 2.0, 3.0, 4.0];
        let y = envelope(&x, vec![0.0, 0.5, 2.0, 2.5, 2.6]);
        assert_eq!(y, vec![0.0, 1.0, 2.0, 2.5, 2.6]);
        assert_eq!(straight(&x, &y, 2.5), 2.25);
        assert_eq!(straight(&x, &y, 9.0), 2.6);
    }

    #[test]
    fn a_lever_is_told_by_what_is_spent() {
        let point = |budget: f64, spend: f64, conversions: f64| CurvePoint {
            budget,
            spend,
            clicks: 0.0,
            conversions,
            value: 0.0,
        };
        let l = BudgetResponse::of(
            &[point(10.0, 10.0, 2.0), point(40.0, 20.0, 4.0), point(90.0, 20.0, 4.0)],
            false,
        );
        assert_eq!((l.most(), l.budgets.len()), (20.0, 3), "no more is spent at 90");
        assert_eq!((l.gain(10.0, 20.0), l.gain(20.0, 21.0)), (2.0, 0.0));
    }
}
