//! Limits on the whole: CPA at most, ROAS at least, conversions at least.
//!
//! Each is Σ qᵢ·fᵢ(sᵢ) − r·Σsᵢ ≥ n. With a multiplier θ ∈ [0, 1] between the goal (0) and the limit (1)
//! the weights become (1 − θ)·w + θ·q and the least price (1 − θ)·p + θ·r, which the kernel solves; the
//! slack rises with θ, so θ is found by search. Where lines of constant rates make the answer jump, both
//! sides of the jump are best, and so is the mixture of them that meets the limit exactly.

use super::conflict::WholeLimit;
use super::response::Curve;
use super::separable::Kernel;
use super::tree::Tree;

/// One limit on the whole, in tree order.
#[derive(Clone, Debug)]
pub(super) struct Coupling {
    pub limit: WholeLimit,
    pub weights: Vec<f64>,
    pub price: f64,
    pub least: f64,
}

/// What is maximised: Σ weightᵢ·fᵢ(sᵢ) + Σ bonusᵢ·sᵢ − price·Σsᵢ.
#[derive(Clone, Debug)]
pub(super) struct Objective {
    pub weights: Vec<f64>,
    /// What each unit of money brings by itself, such as clicks where results are conversions; empty: nothing.
    pub bonus: Vec<f64>,
    pub price: f64,
}

pub(super) struct Space<'a> {
    pub tree: &'a Tree,
    pub reach: &'a [(f64, f64)],
    pub curves: &'a [Curve],
    pub total: f64,
    pub all: bool,
}

/// The limit can't be met; `best` comes nearest to it.
#[derive(Debug)]
pub(super) struct OutOfReach {
    pub limit: WholeLimit,
    pub best: Vec<f64>,
}

/// A multiplier below this is none: weights so small vanish among the others.
const SMALLEST: f64 = 1e-6;

impl Space<'_> {
    fn kernel(&self, goal: &Objective) -> Vec<f64> {
        let weights = goal.weights.iter().copied();
        let kernel = Kernel::new(self.tree, self.reach, self.curves, weights, &goal.bonus);
        if self.all {
            kernel.spend_all(self.total)
        } else {
            kernel.spend_up_to(self.total, goal.price)
        }
    }

    pub fn slack(&self, c: &Coupling, s: &[f64]) -> f64 {
        let results: f64 =
            self.curves.iter().zip(&c.weights).zip(s).map(|((f, q), s)| q * f.at(*s)).sum();
        results - c.price * s.iter().sum::<f64>() - c.least
    }

    /// The best split that meets all limits.
    pub fn solve(&self, goal: &Objective, limits: &[Coupling]) -> Result<Vec<f64>, OutOfReach> {
        let Some((limit, rest)) = limits.split_first() else {
            return Ok(self.kernel(goal));
        };
        let without = self.solve(goal, rest)?;
        let mut low = (0.0_f64, self.slack(limit, &without), without);
        if low.1 >= 0.0 {
            return Ok(low.2);
        }
        let size = |o: &[f64], price: f64| o.iter().copied().fold(price, f64::max).max(1e-300);
        let unit_goal = size(&goal.weights, goal.price).max(size(&goal.bonus, 0.0));
        let unit_limit = size(&limit.weights, limit.price);
        let mixed = |theta: f64| Objective {
            weights: goal
                .weights
                .iter()
                .zip(&limit.weights)
                .map(|(w, q)| (1.0 - theta) * w / unit_goal + theta * q / unit_limit)
                .collect(),
            bonus: goal.bonus.iter().map(|b| (1.0 - theta) * b / unit_goal).collect(),
            price: (1.0 - theta) * goal.price / unit_goal + theta * limit.price / unit_limit,
        };
        let nearest = self.solve(&mixed(1.0), rest)?;
        let scale = limit.least + limit.price * nearest.iter().sum::<f64>();
        let mut high = (1.0_f64, self.slack(limit, &nearest), nearest);
        if high.1 < -1e-9 * scale.max(1e-9) {
            return Err(OutOfReach { limit: limit.limit, best: high.2 });
        }
        let (mut weight_low, mut weight_high) = (low.1, high.1.max(0.0));
        for round in 0..100 {
            if high.1.abs() <= 1e-12 * scale || high.0 - low.0 <= 1e-15 * high.0.max(SMALLEST) {
                break;
            }
            // Illinois steps, and every third one a bisection so that jumps can't stall it.
            let theta = match low.0 + (high.0 - low.0) * -weight_low / (weight_high - weight_low) {
                t if round % 3 != 2 && t > low.0 && t < high.0 => t,
                _ => f64::midpoint(low.0, high.0),
            };
            let split = self.solve(&mixed(theta), rest)?;
            let slack = self.slack(limit, &split);
            if slack < 0.0 {
                low = (theta, slack, split);
                (weight_low, weight_high) = (slack, weight_high / 2.0);
            } else {
                high = (theta, slack, split);
                (weight_low, weight_high) = (weight_low / 2.0, slack);
            }
        }
        Ok(self.mixture(limit, &low.2, &high.2))
    }

    /// The mixture of a split that misses the limit and one that meets it, as far toward the first as
    /// the limit allows. The slack is concave along the way, so the search stays on the safe side.
    fn mixture(&self, limit: &Coupling, misses: &[f64], meets: &[f64]) -> Vec<f64> {
        let at = |a: f64| -> Vec<f64> {
            misses.iter().zip(meets).map(|(m, k)| a * m + (1.0 - a) * k).collect()
        };
        let (mut low, mut high) = (0.0, 1.0);
        for _ in 0..60 {
            let middle = f64::midpoint(low, high);
            if self.slack(limit, &at(middle)) >= 0.0 { low = middle } else { high = middle }
        }
        at(low)
    }
}
