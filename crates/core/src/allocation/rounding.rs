//! Whole steps: the split rounded by largest remainder inside every limit, its total exact.

use crate::share_out::round_to;

use super::tree::Tree;

/// A limit between whose bounds no whole step lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum NoStep {
    /// A line's, by its place in the tree's order.
    Line(usize),
    /// A group's, or at the root the total's, by its place in the tree.
    Node(usize),
}

/// The least and the most whole steps between two amounts, as near to them as solvers come.
fn whole_steps(low: f64, high: f64, step: f64) -> (i64, i64) {
    ((low / step - 1e-6).ceil() as i64, (high / step + 1e-6).floor().min(1e15) as i64)
}

/// Rounds amounts (in tree order) to multiples of `step` inside the bounds of lines and groups and the `total`: all of
/// it where that has to be spent, though the amounts may miss it by what a search leaves, else no more than it.
pub(super) fn round(
    tree: &Tree,
    amounts: &[f64],
    (total, all): (f64, bool),
    fixed: impl Fn(usize) -> bool,
    step: f64,
) -> Result<Vec<f64>, NoStep> {
    let steps: Vec<f64> = amounts.iter().map(|a| a / step).collect();
    let mut lines = Vec::with_capacity(amounts.len());
    for (i, (&(low, high), x)) in tree.bounds.iter().zip(&steps).enumerate() {
        lines.push(match whole_steps(low, high.max(low), step) {
            (low, high) if low <= high => (low, high),
            // What was set by hand is no limit: its nearest step.
            _ if fixed(i) => (x.round() as i64, x.round() as i64),
            _ => return Err(NoStep::Line(i)),
        });
    }
    let mut bounds = vec![(0i64, 0i64); tree.nodes.len()];
    let mut exact = vec![0.0; tree.nodes.len()];
    for ((line, x), &node) in lines.iter().zip(&steps).zip(&tree.node_of) {
        add(&mut bounds[node], *line);
        exact[node] += x;
    }
    for (n, node) in tree.nodes.iter().enumerate() {
        let of_its_own = if node.parent == n {
            whole_steps(if all { total } else { 0.0 }, total, step)
        } else {
            whole_steps(node.low, node.high, step)
        };
        let held = (bounds[n].0.max(of_its_own.0), bounds[n].1.min(of_its_own.1));
        if held.0 > held.1 {
            return Err(NoStep::Node(n));
        }
        bounds[n] = held;
        if node.parent != n {
            add(&mut bounds[node.parent], held);
            exact[node.parent] += exact[n];
        }
    }
    let root = tree.root();
    let mut given = vec![0i64; tree.nodes.len()];
    given[root] = (exact[root].round() as i64).clamp(bounds[root].0, bounds[root].1);
    let mut out = vec![0.0; amounts.len()];
    for n in (0..tree.nodes.len()).rev() {
        let node = &tree.nodes[n];
        let own: Vec<usize> = node.lines.clone().filter(|&i| tree.node_of[i] == n).collect();
        let groups: Vec<usize> =
            node.nodes.clone().filter(|&g| g != n && tree.nodes[g].parent == n).collect();
        let wanted: Vec<f64> =
            own.iter().map(|&i| steps[i]).chain(groups.iter().map(|&g| exact[g])).collect();
        let limits: Vec<(i64, i64)> =
            own.iter().map(|&i| lines[i]).chain(groups.iter().map(|&g| bounds[g])).collect();
        let whole = round_to(given[n], &wanted, &limits);
        for (&i, &w) in own.iter().zip(&whole) {
            out[i] = w as f64 * step;
        }
        for (&g, &w) in groups.iter().zip(&whole[own.len()..]) {
            given[g] = w;
        }
    }
    Ok(out)
}

fn add(sum: &mut (i64, i64), part: (i64, i64)) {
    sum.0 = sum.0.saturating_add(part.0);
    sum.1 = sum.1.saturating_add(part.1);
}
