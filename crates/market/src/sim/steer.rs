//! How well an account was steered: the same days with nothing changed, and with the best budgets that
//! knowledge of the truth allows.

use serde::Serialize;
use tiller_channel::report::Status;
use tiller_channel::wire::Budget;

use super::market::Market;
use super::truth::{CurvePoint, response, set_budget};

/// Who steers.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Policy {
    /// Nobody.
    Stay,
    /// One who knows every true response: the best daily budgets within the same total.
    Oracle,
}

/// What came of it.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Outcome {
    /// Money.
    pub spend: f64,
    /// Conversions that really came, reported or not yet.
    pub conversions: f64,
    /// Their value, as far as it will be reported.
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

/// Steers an account of a market that stands at the end of its history, and says what came of it.
pub fn steer(mut market: Market, account: usize, policy: Policy, days: u32) -> Outcome {
    if policy == Policy::Oracle {
        let budgets = best_budgets(&market, account, days);
        for (sim, budget) in market.accounts[account].campaigns.iter_mut().zip(budgets) {
            if let Some(units) = budget {
                set_budget(sim, units);
            }
        }
    }
    market.pass(u64::from(days));
    outcome(&market, account, days)
}

/// What came of an account's last days.
pub fn outcome(market: &Market, account: usize, days: u32) -> Outcome {
    let mut outcome = Outcome { spend: 0.0, conversions: 0.0, value: 0.0 };
    for sim in &market.accounts[account].campaigns {
        let from = sim.days.len().saturating_sub(days as usize);
        for s in sim.days[from..].iter().flat_map(|d| &d.streams) {
            outcome.spend += s.spend.to_units();
            outcome.conversions += f64::from(s.converted);
            outcome.value += s.results.iter().map(|r| r.value.to_units()).sum::<f64>();
        }
    }
    outcome
}

/// For each campaign the daily budget that brings the account the most; none where a budget is no lever.
fn best_budgets(market: &Market, account: usize, days: u32) -> Vec<Option<f64>> {
    let sim = &market.accounts[account];
    let by_value = market.of_world(sim).target_roas.is_some();
    let lever = |c: &super::campaign::CampaignSim| {
        c.settings.status == Status::Active
            && matches!(c.settings.budget, Some(Budget::Daily { .. }))
    };
    let total: f64 =
        sim.campaigns.iter().filter(|c| lever(c)).map(|c| c.budget_a_day().to_units()).sum();
    let step = total / STEPS as f64;
    // Finer where little money is, since responses bend most there.
    let grid: Vec<f64> = (0..=POINTS).map(|k| total * (k as f64 / POINTS as f64).powi(2)).collect();
    let gains: Vec<Option<Vec<f64>>> = sim
        .campaigns
        .iter()
        .map(|c| {
            lever(c).then(|| {
                let curve = response(market, sim, c, days, &grid[1..]);
                let result = |p: &CurvePoint| if by_value { p.value } else { p.conversions };
                envelope(&grid, std::iter::once(0.0).chain(curve.iter().map(result)).collect())
            })
        })
        .collect();
    let mut budgets: Vec<f64> = vec![0.0; gains.len()];
    for _ in 0..STEPS {
        let gain = |i: usize| {
            gains[i]
                .as_ref()
                .map(|g| straight(&grid, g, budgets[i] + step) - straight(&grid, g, budgets[i]))
        };
        let best =
            (0..gains.len()).filter_map(|i| Some((i, gain(i)?))).max_by(|a, b| a.1.total_cmp(&b.1));
        if let Some((i, _)) = best {
            budgets[i] += step;
        }
    }
    gains.iter().zip(budgets).map(|(g, b)| g.as_ref().map(|_| b.max(0.01))).collect()
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
    use super::*;

    #[test]
    fn an_envelope_lies_above_and_is_concave() {
        let x = [0.0, 1.0, 2.0, 3.0, 4.0];
        let y = envelope(&x, vec![0.0, 0.5, 2.0, 2.5, 2.6]);
        assert_eq!(y, vec![0.0, 1.0, 2.0, 2.5, 2.6]);
        assert_eq!(straight(&x, &y, 2.5), 2.25);
        assert_eq!(straight(&x, &y, 9.0), 2.6);
    }
}
