//! Whole steps inside the limits on the whole: rounding may leave a plan a hair beyond a limit that the exact one
//! just met, or beside the best. Single steps are then moved between lines, or left unspent where that is allowed,
//! each time the one that helps most: first until every limit holds, then until nothing gains. Results are concave
//! and groups are nested, so without limits on the whole a plan that no single step betters is the best of all
//! (discrete convexity; K. Murota, Discrete Convex Analysis, SIAM 2003, theorem 6.26, from memory).

use super::conflict::WholeLimit;
use super::coupled::{Coupling, Objective, Space};

/// A plan of thousands of lines misses a limit by a few steps; more than this many are no rounding.
const MOST_MOVES: usize = 5000;
/// Where the total has more steps than this, one is nothing: such plans are left as they were rounded.
const COARSE: f64 = 10_000.0;
/// Plans of so many lines are bettered by one step, of half as many by two.
const MOST_BETTERED: usize = 20_000;
/// The best so many lines on either side are tried, since groups may forbid a move.
const TRIED: usize = 24;
/// A limit is kept to this share of what it compares; less than this share more is no gain.
const SLACK: f64 = 1e-9;

/// A plan in whole steps: what it is to bring, and what it has to keep.
pub(super) struct Whole<'a> {
    pub space: &'a Space<'a>,
    pub goal: &'a Objective,
    pub limits: &'a [Coupling],
    pub step: f64,
}

/// A limit that no multiple of the step meets, with the amounts that come nearest.
#[derive(Debug)]
pub(super) struct Missed {
    pub limit: WholeLimit,
    pub amounts: Vec<f64>,
}

/// The line to take a step from and the one to give it to; either may be none where money may stay unspent.
type Move = (Option<usize>, Option<usize>);

impl Whole<'_> {
    /// The amounts (in tree order, multiples of the step) moved until every limit holds; none where no move helps.
    pub(super) fn within_limits(&self, mut amounts: Vec<f64>) -> Result<Vec<f64>, Missed> {
        let mut sums = group_sums(self.space, &amounts);
        for _ in 0..MOST_MOVES {
            let Some(limit) = self.missed(&amounts) else {
                return Ok(amounts);
            };
            let helps = |i: usize, from: f64, to: f64| {
                let results = self.space.curves[i].at(to) - self.space.curves[i].at(from);
                limit.weights[i] * results - limit.price * (to - from)
            };
            let Some(best) = self.moves(&amounts, &sums, helps).next() else {
                break;
            };
            self.make(best, &mut amounts, &mut sums);
        }
        match self.missed(&amounts) {
            Some(limit) => Err(Missed { limit: limit.limit, amounts }),
            None => Ok(amounts),
        }
    }

    /// The amounts, which keep every limit, moved while the goal gains and they still do.
    pub(super) fn improved(&self, mut amounts: Vec<f64>) -> Vec<f64> {
        if self.space.total > COARSE * self.step {
            return amounts;
        }
        let mut sums = group_sums(self.space, &amounts);
        let gains = |i: usize, from: f64, to: f64| {
            let results = self.space.curves[i].at(to) - self.space.curves[i].at(from);
            let each = self.goal.bonus.get(i).copied().unwrap_or(0.0) - self.goal.price;
            self.goal.weights[i] * results + each * (to - from)
        };
        for _ in 0..MOST_BETTERED / amounts.len().max(1) {
            let better = self.moves(&amounts, &sums, gains).find_map(|m| {
                let (mut amounts, mut sums) = (amounts.clone(), sums.clone());
                self.make(m, &mut amounts, &mut sums);
                self.missed(&amounts).is_none().then_some((amounts, sums))
            });
            let Some(next) = better else {
                break;
            };
            (amounts, sums) = next;
        }
        amounts
    }

    fn missed(&self, amounts: &[f64]) -> Option<&Coupling> {
        self.limits.iter().find(|limit| {
            let scale = limit.least + limit.price * amounts.iter().sum::<f64>();
            self.space.slack(limit, amounts) < -SLACK * scale.max(1e-9)
        })
    }

    fn make(&self, (from, to): Move, amounts: &mut [f64], sums: &mut [f64]) {
        for (line, by) in [(from, -self.step), (to, self.step)] {
            if let Some(i) = line {
                amounts[i] = ((amounts[i] + by) / self.step).round() * self.step;
                add_up(self.space, sums, i, by);
            }
        }
    }

    /// Moves that help and that lines and groups allow, the best first. `helps` tells what another amount on a line does.
    fn moves(
        &self,
        amounts: &[f64],
        sums: &[f64],
        helps: impl Fn(usize, f64, f64) -> f64,
    ) -> impl Iterator<Item = Move> {
        let (space, step) = (self.space, self.step);
        let change = |i: usize, by: f64| {
            let (low, high) = space.tree.bounds[i];
            let to = amounts[i] + by;
            let fits = to >= low - 1e-6 * step && to <= high + 1e-6 * step;
            fits.then(|| helps(i, amounts[i], to.max(0.0)))
        };
        let ranked = |by: f64| {
            let mut all: Vec<(f64, usize)> =
                (0..amounts.len()).filter_map(|i| Some((change(i, by)?, i))).collect();
            all.sort_by(|a, b| b.0.total_cmp(&a.0));
            all.truncate(TRIED);
            all
        };
        let (less, more) = (ranked(-step), ranked(step));
        let mut moves: Vec<(f64, Move)> = Vec::new();
        for (gain, from) in &less {
            moves.extend(
                more.iter()
                    .filter(|(_, to)| to != from)
                    .map(|(other, to)| (gain + other, (Some(*from), Some(*to)))),
            );
        }
        if !space.all {
            let spent: f64 = amounts.iter().sum();
            moves.extend(less.iter().map(|(gain, i)| (*gain, (Some(*i), None))));
            if spent + step <= space.total + 1e-6 * step {
                moves.extend(more.iter().map(|(gain, i)| (*gain, (None, Some(*i)))));
            }
        }
        let size = less.iter().chain(&more).map(|(gain, _)| gain.abs()).fold(0.0, f64::max);
        moves.retain(|(gain, _)| *gain > SLACK * size);
        moves.sort_by(|a, b| b.0.total_cmp(&a.0));
        moves.into_iter().map(|(_, m)| m).filter(move |m| groups_allow(space, sums, *m, step))
    }
}

fn group_sums(space: &Space, amounts: &[f64]) -> Vec<f64> {
    let mut sums = vec![0.0; space.tree.nodes.len()];
    for (i, amount) in amounts.iter().enumerate() {
        add_up(space, &mut sums, i, *amount);
    }
    sums
}

fn add_up(space: &Space, sums: &mut [f64], line: usize, by: f64) {
    let mut n = space.tree.node_of[line];
    loop {
        sums[n] += by;
        let parent = space.tree.nodes[n].parent;
        if parent == n {
            return;
        }
        n = parent;
    }
}

fn groups_allow(space: &Space, sums: &[f64], (from, to): Move, step: f64) -> bool {
    let mut after = sums.to_vec();
    for (line, by) in [(from, -step), (to, step)] {
        if let Some(i) = line {
            add_up(space, &mut after, i, by);
        }
    }
    let near = 1e-6 * step;
    let kept = |(n, sum): (usize, &f64)| {
        let node = &space.tree.nodes[n];
        *sum >= node.low - near && *sum <= node.high + near
    };
    after.iter().enumerate().all(kept)
}
