//! The laminar tree of groups: lines in depth-first order, so that a group's lines and subgroups are ranges.

use std::collections::HashMap;
use std::ops::Range;

use super::problem::{Problem, Use};

/// A group, or the whole plan at the end of the list.
#[derive(Clone, Debug)]
pub(super) struct Node {
    /// Position in the problem's groups; none for the whole.
    pub group: Option<usize>,
    /// Position of the node around it (itself for the whole).
    pub parent: usize,
    /// Its lines, subgroups' lines included, as positions in `Tree::order`.
    pub lines: Range<usize>,
    /// It and its subgroups, as positions in `Tree::nodes`; it is the last.
    pub nodes: Range<usize>,
    /// The least and the most its lines get together.
    pub low: f64,
    pub high: f64,
}

/// Bounds of lines and groups, children before parents.
#[derive(Clone, Debug)]
pub(super) struct Tree {
    pub nodes: Vec<Node>,
    /// Positions in the problem's lines, in depth-first order.
    pub order: Vec<usize>,
    /// Node of each line, in that order.
    pub node_of: Vec<usize>,
    /// Bounds of each line, in that order.
    pub bounds: Vec<(f64, f64)>,
}

impl Tree {
    /// The tree of a checked problem. The whole has no bounds of its own here.
    pub fn new(problem: &Problem) -> Self {
        let index: HashMap<&str, usize> =
            problem.groups.iter().enumerate().map(|(i, g)| (g.id.as_str(), i)).collect();
        let place = |name: Option<&String>| {
            name.and_then(|n| index.get(n.as_str())).map_or(problem.groups.len(), |i| *i)
        };
        let mut groups_in = vec![Vec::new(); problem.groups.len() + 1];
        for (i, group) in problem.groups.iter().enumerate() {
            groups_in[place(group.parent.as_ref())].push(i);
        }
        let mut lines_in = vec![Vec::new(); problem.groups.len() + 1];
        for (i, line) in problem.lines.iter().enumerate() {
            lines_in[place(line.group.as_ref())].push(i);
        }
        let mut tree = Self {
            nodes: Vec::new(),
            order: Vec::new(),
            node_of: vec![0; problem.lines.len()],
            bounds: Vec::new(),
        };
        tree.add(problem, problem.groups.len(), &groups_in, &lines_in);
        tree.bounds = tree.order.iter().map(|&i| line_bounds(problem, i)).collect();
        tree
    }

    fn add(
        &mut self,
        problem: &Problem,
        place: usize,
        groups_in: &[Vec<usize>],
        lines_in: &[Vec<usize>],
    ) -> usize {
        let (first_line, first_node) = (self.order.len(), self.nodes.len());
        let children: Vec<usize> =
            groups_in[place].iter().map(|&g| self.add(problem, g, groups_in, lines_in)).collect();
        let own = self.order.len();
        self.order.extend(&lines_in[place]);
        let me = self.nodes.len();
        self.node_of[own..self.order.len()].fill(me);
        for child in children {
            self.nodes[child].parent = me;
        }
        let group = problem.groups.get(place);
        let share = |s: Option<f64>| s.map(|s| s * problem.total.amount);
        let bound = |money: Option<f64>, share: Option<f64>, pick: fn(f64, f64) -> f64| {
            money.into_iter().chain(share).reduce(pick)
        };
        self.nodes.push(Node {
            group: group.map(|_| place),
            parent: me,
            lines: first_line..self.order.len(),
            nodes: first_node..me + 1,
            low: group.and_then(|g| bound(g.floor, share(g.share_floor), f64::max)).unwrap_or(0.0),
            high: group
                .and_then(|g| bound(g.ceiling, share(g.share_ceiling), f64::min))
                .unwrap_or(f64::INFINITY),
        });
        me
    }

    /// Position of the whole.
    pub fn root(&self) -> usize {
        self.nodes.len() - 1
    }

    /// The least and the most that each node can take, its members' bounds considered.
    pub fn reach(&self) -> Vec<(f64, f64)> {
        let mut reach = vec![(0.0, 0.0); self.nodes.len()];
        for (bounds, &node) in self.bounds.iter().zip(&self.node_of) {
            reach[node].0 += bounds.0;
            reach[node].1 += bounds.1;
        }
        for (i, node) in self.nodes.iter().enumerate() {
            let (low, high) = (reach[i].0.max(node.low), reach[i].1.min(node.high));
            reach[i] = (low, high);
            if node.parent != i {
                reach[node.parent].0 += low;
                reach[node.parent].1 += high;
            }
        }
        reach
    }

    /// Amounts in tree order, put back into the order of the problem's lines.
    pub fn restore(&self, amounts: &[f64]) -> Vec<f64> {
        let mut out = vec![0.0; amounts.len()];
        for (amount, &line) in amounts.iter().zip(&self.order) {
            out[line] = *amount;
        }
        out
    }
}

/// Floor and ceiling of a line, with the limit on its change and what it can spend at all.
pub(super) fn line_bounds(problem: &Problem, i: usize) -> (f64, f64) {
    let line = &problem.lines[i];
    if let Some(amount) = line.fixed {
        return (amount, amount);
    }
    let (least, most) = change_bounds(problem, i);
    let low = line.floor.max(least);
    // What it can't spend contradicts no floor: the money is then left over there.
    let able = line.capacity.map_or(f64::INFINITY, |c| (c * problem.days).max(low));
    (low, line.ceiling.unwrap_or(f64::INFINITY).min(most).min(able))
}

/// What the limit on change alone allows.
pub(super) fn change_bounds(problem: &Problem, i: usize) -> (f64, f64) {
    let current = problem.lines[i].current;
    problem
        .limits
        .max_change
        .map_or((0.0, f64::INFINITY), |x| ((current * (1.0 - x)).max(0.0), current * (1.0 + x)))
}

/// Whether all of the total has to be spent. A goal of least spend takes it as an upper bound.
pub(super) fn spends_all(problem: &Problem) -> bool {
    problem.total.spend == Use::All && problem.goal != super::Goal::LeastSpend
}
