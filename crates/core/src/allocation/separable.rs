//! The kernel: the best split for given weights, by nested search on marginal values.
//!
//! At a price ν every line asks for the money at which its marginal result, weighted, equals ν. A group
//! asks for what its members ask, held to its bounds. The demand of the whole falls as ν rises, so the
//! price that asks for just the total is found by search; groups that stood at a bound are then searched
//! on their own with a price of their own. Lines of constant rates ask in a step: at the price of the
//! step what is left is shared among them.

use super::response::{Curve, Demand};
use super::tree::Tree;

/// Where the demand of lines on a step is taken.
#[derive(Clone, Copy, PartialEq)]
enum Side {
    Low,
    High,
}

/// Demand of a node: money, and how fast it falls with ln ν.
#[derive(Clone, Copy, Default)]
struct Sum {
    money: f64,
    slope: f64,
}

pub(super) struct Kernel<'a> {
    tree: &'a Tree,
    reach: &'a [(f64, f64)],
    demand: Vec<Demand>,
    /// What each unit of money brings by itself, in tree order; empty where nothing does.
    bonus: &'a [f64],
    /// Unclamped sums of each node at the price last asked.
    sums: Vec<Sum>,
    /// Prices of steps above 0 in tree order of the node last prepared.
    amounts: Vec<f64>,
}

/// A demand this near to the amount is it; what is left is spread over the free members.
const CLOSE: f64 = 1e-11;

/// A price with its logarithm.
#[derive(Clone, Copy)]
struct ShadowPrice {
    price: f64,
    log: f64,
}

impl ShadowPrice {
    fn new(price: f64) -> Self {
        Self { price, log: price.ln() }
    }
    fn from_log(log: f64) -> Self {
        Self { price: log.exp(), log }
    }
}

impl<'a> Kernel<'a> {
    /// `curves` and `weights` in tree order; `reach` as of `tree`.
    pub fn new(
        tree: &'a Tree,
        reach: &'a [(f64, f64)],
        curves: &[Curve],
        weights: impl Iterator<Item = f64>,
        bonus: &'a [f64],
    ) -> Self {
        let mut demand: Vec<Demand> =
            curves.iter().zip(weights).map(|(c, w)| c.demand(w)).collect();
        for (d, more) in demand.iter_mut().zip(bonus) {
            if let Demand::Step { price } = d {
                *price += more;
            }
        }
        Self {
            tree,
            reach,
            bonus,
            sums: vec![Sum::default(); tree.nodes.len()],
            amounts: vec![0.0; demand.len()],
            demand,
        }
    }

    /// Spends just `total`, which must be within reach.
    pub fn spend_all(mut self, total: f64) -> Vec<f64> {
        let root = self.tree.root();
        self.solve(root, total);
        self.amounts
    }

    /// Spends up to `total`, and only while a unit of money brings more than `least_price`.
    pub fn spend_up_to(mut self, total: f64, least_price: f64) -> Vec<f64> {
        let root = self.tree.root();
        let worth = if least_price > 0.0 {
            self.ask(root, ShadowPrice::new(least_price), Side::Low).money
        } else {
            self.ask_near_zero(root)
        };
        let (low, high) = self.reach[root];
        self.solve(root, worth.clamp(low, high.max(low)).min(total.max(low)));
        self.amounts
    }

    /// Fills the lines of `node` with `amount` in all.
    fn solve(&mut self, node: usize, amount: f64) {
        let (low, high) = self.reach[node];
        if amount <= low || amount >= high {
            return self.fill_to_bound(node, amount <= low);
        }
        if self.ask_near_zero(node) <= amount {
            // Only lines that bring nothing are left to take the rest.
            return self.share(node, amount, None);
        }
        let price = self.find_price(node, amount);
        self.share(node, amount, Some(price));
    }

    /// All lines of `node` at the least (or the most) that it can take: where a member group is held by
    /// its own bound rather than its lines', that group is solved.
    fn fill_to_bound(&mut self, node: usize, low: bool) {
        let n = &self.tree.nodes[node];
        let side = |b: (f64, f64)| if low { b.0 } else { b.1 };
        let members: f64 = self.members(node).map(|m| side(self.bounds_of(m))).sum();
        let amount = side(self.reach[node]);
        if (members - amount).abs() > 1e-12 * amount.abs().max(1.0) {
            // Its own floor or ceiling binds: its members have room, so a price decides.
            if self.ask_near_zero(node) <= amount {
                return self.share(node, amount, None);
            }
            let price = self.find_price(node, amount);
            return self.share(node, amount, Some(price));
        }
        for i in n.lines.clone().filter(|&i| self.tree.node_of[i] == node) {
            self.amounts[i] = side(self.tree.bounds[i]);
        }
        for child in self.children(node) {
            self.fill_to_bound(child, low);
        }
    }

    fn children(&self, node: usize) -> Vec<usize> {
        self.tree.nodes[node]
            .nodes
            .clone()
            .filter(|&c| c != node && self.tree.nodes[c].parent == node)
            .collect()
    }

    /// Lines (as `Ok`) and subgroups (as `Err`) directly in `node`.
    fn members(&self, node: usize) -> impl Iterator<Item = Result<usize, usize>> + use<'_> {
        let n = &self.tree.nodes[node];
        let lines = n.lines.clone().filter(move |&i| self.tree.node_of[i] == node).map(Ok);
        lines.chain(self.children(node).into_iter().map(Err))
    }

    fn bounds_of(&self, member: Result<usize, usize>) -> (f64, f64) {
        match member {
            Ok(line) => self.tree.bounds[line],
            Err(group) => self.reach[group],
        }
    }

    /// Demand of one line.
    fn line(&self, i: usize, at: ShadowPrice, root: f64, side: Side) -> Sum {
        let (low, high) = self.tree.bounds[i];
        let bends = !matches!(self.demand[i], Demand::Step { .. });
        let bonus = self.bonus.get(i).copied().filter(|b| bends && *b > 0.0);
        // What the money brings by itself is taken off the price; the rest has to come from the results.
        let (at, root, steeper) = match bonus {
            None => (at, root, 1.0),
            Some(bonus) if at.price <= bonus => return Sum { money: high, slope: 0.0 },
            Some(bonus) => {
                let left = ShadowPrice::new(at.price - bonus);
                (left, (-0.5 * left.log).exp(), at.price / left.price)
            }
        };
        let (money, slope) = match self.demand[i] {
            Demand::Step { price } => {
                let takes = price > at.price || (price == at.price && side == Side::High);
                (if takes { high } else { low }, 0.0)
            }
            Demand::Power { log, inverse } => {
                let money = (log - inverse * at.log).exp();
                (money, inverse * money)
            }
            Demand::Root { factor, half_at } => {
                let sum = factor * root;
                (sum - half_at, 0.5 * sum)
            }
        };
        if money <= low {
            Sum { money: low, slope: 0.0 }
        } else if money >= high {
            Sum { money: high, slope: 0.0 }
        } else {
            Sum { money, slope: slope * steeper }
        }
    }

    /// Demand of `node`'s members at a price, and of every node below it on the way.
    fn ask(&mut self, node: usize, at: ShadowPrice, side: Side) -> Sum {
        let (lines, nodes) =
            (self.tree.nodes[node].lines.clone(), self.tree.nodes[node].nodes.clone());
        self.sums[nodes.clone()].fill(Sum::default());
        let root = (-0.5 * at.log).exp();
        for i in lines {
            let line = self.line(i, at, root, side);
            let sum = &mut self.sums[self.tree.node_of[i]];
            sum.money += line.money;
            sum.slope += line.slope;
        }
        for i in nodes {
            let n = &self.tree.nodes[i];
            if i != node {
                let held = self.sums[i].money.clamp(n.low, n.high);
                let slope = if held == self.sums[i].money { self.sums[i].slope } else { 0.0 };
                self.sums[n.parent].money += held;
                self.sums[n.parent].slope += slope;
            }
        }
        self.sums[node]
    }

    /// Demand as the price goes to 0: every line that brings anything at its ceiling.
    fn ask_near_zero(&mut self, node: usize) -> f64 {
        let (lines, nodes) =
            (self.tree.nodes[node].lines.clone(), self.tree.nodes[node].nodes.clone());
        let mut sums = vec![0.0; nodes.len()];
        for i in lines {
            let nothing = matches!(self.demand[i], Demand::Step { price } if price <= 0.0);
            let (low, high) = self.tree.bounds[i];
            sums[self.tree.node_of[i] - nodes.start] += if nothing { low } else { high };
        }
        for i in nodes.clone().filter(|&i| i != node) {
            let n = &self.tree.nodes[i];
            sums[n.parent - nodes.start] += sums[i - nodes.start].clamp(n.low, n.high);
        }
        sums[node - nodes.start]
    }

    /// The price at which `node`'s members ask for `amount`, between bounds of demand.
    fn find_price(&mut self, node: usize, amount: f64) -> ShadowPrice {
        let mut steps: Vec<f64> = self.demand[self.tree.nodes[node].lines.clone()]
            .iter()
            .filter_map(|d| match d {
                Demand::Step { price } if *price > 0.0 => Some(*price),
                _ => None,
            })
            .collect();
        steps.sort_by(f64::total_cmp);
        steps.dedup();
        // Steps below the price sought ask for too much; above it, for too little.
        let (mut below, mut above) = (0, steps.len());
        while below < above {
            let middle = usize::midpoint(below, above);
            let at = ShadowPrice::new(steps[middle]);
            if self.ask(node, at, Side::Low).money > amount {
                below = middle + 1;
            } else if self.ask(node, at, Side::High).money < amount {
                above = middle;
            } else {
                return at;
            }
        }
        let floor = below.checked_sub(1).map(|i| steps[i].ln());
        let roof = steps.get(below).map(|p| p.ln());
        ShadowPrice::from_log(self.search(node, amount, floor, roof))
    }

    /// Mean ln marginal at an even split: a start from which few steps are left.
    fn guess(&self, node: usize, amount: f64) -> f64 {
        let lines = self.tree.nodes[node].lines.clone();
        let even = amount / lines.len() as f64;
        let log_even = even.ln();
        let logs = self.demand[lines].iter().filter_map(|d| match *d {
            Demand::Power { log, inverse } => Some((log - log_even) / inverse),
            Demand::Root { factor, half_at } => Some(2.0 * (factor / (even + half_at)).ln()),
            Demand::Step { .. } => None,
        });
        let (sum, count) = logs.fold((0.0, 0.0), |(sum, count), x| (sum + x, count + 1.0));
        if count > 0.0 { sum / count } else { 0.0 }
    }

    /// Newton's method on ln demand against ln price, kept inside a bracket that always closes.
    fn search(&mut self, node: usize, amount: f64, floor: Option<f64>, roof: Option<f64>) -> f64 {
        let guess = self.guess(node, amount);
        let inside = |x: f64| floor.is_none_or(|f| x > f) && roof.is_none_or(|r| x < r);
        let start = match (floor, roof) {
            _ if inside(guess) => guess,
            (Some(a), Some(b)) => f64::midpoint(a, b),
            (Some(a), None) => a + 1.0,
            (None, Some(b)) => b - 1.0,
            (None, None) => 0.0,
        };
        let (mut low, mut high) =
            (floor.unwrap_or(f64::NEG_INFINITY), roof.unwrap_or(f64::INFINITY));
        let (mut x, mut reach) = (start, 1.0);
        for round in 0..400 {
            let found = self.ask(node, ShadowPrice::from_log(x), Side::Low);
            let miss = found.money - amount;
            if miss.abs() <= CLOSE * amount {
                return x;
            }
            if miss > 0.0 {
                low = x
            } else {
                high = x
            }
            if high - low <= 4.0 * f64::EPSILON * (1.0 + x.abs()) {
                return x;
            }
            let newton = x + (found.money / amount).ln() * found.money / found.slope;
            // Kinks can make Newton's steps creep: every fourth step halves a closed bracket.
            let closed = low.is_finite() && high.is_finite();
            let creeps = closed && round % 4 == 3;
            x = if newton > low && newton < high && newton.is_finite() && !creeps {
                newton
            } else if !closed {
                reach *= 2.0;
                if low.is_infinite() { high - reach } else { low + reach }
            } else {
                f64::midpoint(low, high)
            };
        }
        x
    }

    /// Gives `amount` to `node`'s members at a price (none: all that brings anything is at its most),
    /// sharing what is open among the lines that stand on a step.
    fn share(&mut self, node: usize, amount: f64, price: Option<ShadowPrice>) {
        let at = price.unwrap_or(ShadowPrice { price: 0.0, log: f64::NEG_INFINITY });
        let members: Vec<Result<usize, usize>> = self.members(node).collect();
        let (low, high) = if price.is_some() {
            self.ask(node, at, Side::High);
            let high = self.sums[self.tree.nodes[node].nodes.clone()].to_vec();
            self.ask(node, at, Side::Low);
            (self.sums[self.tree.nodes[node].nodes.clone()].to_vec(), high)
        } else {
            self.sums_near_zero(node)
        };
        let first = self.tree.nodes[node].nodes.start;
        let root = (-0.5 * at.log).exp();
        let asked: Vec<(f64, f64)> = members
            .iter()
            .map(|m| match *m {
                Ok(i) if price.is_some() => (
                    self.line(i, at, root, Side::Low).money,
                    self.line(i, at, root, Side::High).money,
                ),
                Ok(i) => self.near_zero_line(i),
                Err(g) => {
                    let n = &self.tree.nodes[g];
                    let held = |s: f64| s.clamp(n.low, n.high);
                    (held(low[g - first].money), held(high[g - first].money))
                }
            })
            .collect();
        let bounds: Vec<(f64, f64)> = members.iter().map(|m| self.bounds_of(*m)).collect();
        let mut given = fill_in_proportion(amount, &asked);
        spread_rest(amount, &mut given, &bounds);
        for (member, given) in members.into_iter().zip(given) {
            match member {
                Ok(i) => {
                    self.amounts[i] = given.clamp(self.tree.bounds[i].0, self.tree.bounds[i].1)
                }
                Err(g) => {
                    // What was spread over it is no reason to seek it a price of its own.
                    let slack = 1e-9 * given;
                    let free = low[g - first].money <= given + slack
                        && given <= high[g - first].money + slack;
                    if free { self.share(g, given, price) } else { self.solve(g, given) }
                }
            }
        }
    }

    fn near_zero_line(&self, i: usize) -> (f64, f64) {
        let (low, high) = self.tree.bounds[i];
        let nothing = matches!(self.demand[i], Demand::Step { price } if price <= 0.0);
        (if nothing { low } else { high }, high)
    }

    fn sums_near_zero(&self, node: usize) -> (Vec<Sum>, Vec<Sum>) {
        let nodes = self.tree.nodes[node].nodes.clone();
        let mut both = (vec![Sum::default(); nodes.len()], vec![Sum::default(); nodes.len()]);
        for i in self.tree.nodes[node].lines.clone() {
            let (low, high) = self.near_zero_line(i);
            both.0[self.tree.node_of[i] - nodes.start].money += low;
            both.1[self.tree.node_of[i] - nodes.start].money += high;
        }
        for i in nodes.clone().filter(|&i| i != node) {
            let n = &self.tree.nodes[i];
            for sums in [&mut both.0, &mut both.1] {
                let held = sums[i - nodes.start].money.clamp(n.low, n.high);
                sums[n.parent - nodes.start].money += held;
            }
        }
        both
    }
}

/// Each member's lower demand, and what is open shared in proportion to the room up to the upper one.
fn fill_in_proportion(amount: f64, asked: &[(f64, f64)]) -> Vec<f64> {
    let low: f64 = asked.iter().map(|a| a.0).sum();
    let open = amount - low;
    let rooms: Vec<f64> = asked.iter().map(|a| a.1 - a.0).collect();
    let unbounded = rooms.iter().filter(|r| r.is_infinite()).count();
    let room: f64 = rooms.iter().sum();
    asked
        .iter()
        .zip(rooms)
        .map(|(a, r)| {
            if unbounded > 0 {
                a.0 + if r.is_infinite() { open / unbounded as f64 } else { 0.0 }
            } else if room > 0.0 {
                a.0 + open * r / room
            } else {
                a.0
            }
        })
        .collect()
}

/// Spreads what the search left over the members that stand between their bounds, by their size.
fn spread_rest(amount: f64, given: &mut [f64], bounds: &[(f64, f64)]) {
    let rest = amount - given.iter().sum::<f64>();
    let is_free = |x: f64, b: (f64, f64)| x > b.0 && x < b.1;
    let free: f64 =
        given.iter().zip(bounds).filter(|(x, b)| is_free(**x, **b)).map(|(x, _)| x).sum();
    if free > 0.0 && rest.abs() < 1e-6 * free {
        for (x, b) in given.iter_mut().zip(bounds).filter(|(x, b)| is_free(**x, **b)) {
            *x = (*x + rest * *x / free).clamp(b.0, b.1);
        }
    }
}
