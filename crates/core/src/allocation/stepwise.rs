//! Whole steps inside the limits on the whole: rounding may leave a plan a hair beyond a limit that the exact one
//! just met. Single steps are then moved between lines, or left unspent where that is allowed, each time the one
//! that helps most, until every limit holds.

use super::coupled::{Coupling, Space};

/// A plan of thousands of lines misses a limit by a few steps; more than this many are no rounding.
const MOST_MOVES: usize = 5000;
/// The best so many lines on either side are tried, since groups may forbid a move.
const TRIED: usize = 24;
/// A limit is kept to this share of what it compares.
const SLACK: f64 = 1e-9;

/// The amounts (in tree order, multiples of `step`) moved until every limit holds; none where no move helps.
pub(super) fn within(
    space: &Space,
    limits: &[Coupling],
    mut amounts: Vec<f64>,
    step: f64,
) -> Result<Vec<f64>, Missed> {
    let mut sums = group_sums(space, &amounts);
    for _ in 0..MOST_MOVES {
        let Some(limit) = limits.iter().find(|l| missed(space, l, &amounts)) else {
            return Ok(amounts);
        };
        let Some((from, to)) = best_move(space, limit, &amounts, &sums, step) else {
            break;
        };
        for (line, by) in [(from, -step), (to, step)] {
            if let Some(i) = line {
                amounts[i] = ((amounts[i] + by) / step).round() * step;
                add_up(space, &mut sums, i, by);
            }
        }
    }
    match limits.iter().find(|l| missed(space, l, &amounts)) {
        Some(limit) => Err(Missed { limit: limit.limit, amounts }),
        None => Ok(amounts),
    }
}

/// A limit that no multiple of the step meets, with the amounts that come nearest.
#[derive(Debug)]
pub(super) struct Missed {
    pub limit: super::conflict::WholeLimit,
    pub amounts: Vec<f64>,
}

fn missed(space: &Space, limit: &Coupling, amounts: &[f64]) -> bool {
    let scale = limit.least + limit.price * amounts.iter().sum::<f64>();
    space.slack(limit, amounts) < -SLACK * scale.max(1e-9)
}

/// The line to take a step from and the one to give it to; either may be none where money may stay unspent.
type Move = (Option<usize>, Option<usize>);

fn best_move(
    space: &Space,
    limit: &Coupling,
    amounts: &[f64],
    sums: &[f64],
    step: f64,
) -> Option<Move> {
    // What the limit's slack gains with a step less, or a step more, on a line.
    let change = |i: usize, by: f64| {
        let (low, high) = space.tree.bounds[i];
        let to = amounts[i] + by;
        let fits = to >= low - 1e-9 * step && to <= high + 1e-9 * step;
        let results = space.curves[i].at(to.max(0.0)) - space.curves[i].at(amounts[i]);
        fits.then(|| limit.weights[i] * results - limit.price * by)
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
        if spent + step <= space.total + 1e-9 * step {
            moves.extend(more.iter().map(|(gain, i)| (*gain, (None, Some(*i)))));
        }
    }
    moves.sort_by(|a, b| b.0.total_cmp(&a.0));
    let helps = moves.into_iter().take_while(|(gain, _)| *gain > 0.0);
    helps.map(|(_, m)| m).find(|m| groups_allow(space, sums, *m, step))
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
        // A bound that was not kept before (no whole step lies inside it) need not be kept after.
        (*sum >= node.low - near || *sum >= sums[n])
            && (*sum <= node.high + near || *sum <= sums[n])
    };
    after.iter().enumerate().all(kept)
}
