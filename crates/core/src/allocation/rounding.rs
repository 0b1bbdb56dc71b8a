//! Whole steps: the split rounded by largest remainder inside every limit, its total exact.

use crate::share_out::round_to;

use super::tree::Tree;

/// Rounds amounts (in tree order) to multiples of `step`; groups keep their bounds. What has to be spent is, though the amounts
/// may miss it by what a search leaves.
pub(super) fn round(tree: &Tree, amounts: &[f64], all: Option<f64>, step: f64) -> Vec<f64> {
    let steps: Vec<f64> = amounts.iter().map(|a| a / step).collect();
    let whole_low = |x: f64| (x / step - 1e-6).ceil() as i64;
    let whole_high = |x: f64| (x / step + 1e-6).floor().min(1e15) as i64;
    let lines: Vec<(i64, i64)> = tree
        .bounds
        .iter()
        .zip(&steps)
        .map(|(&(low, high), x)| match (whole_low(low), whole_high(high)) {
            (low, high) if low <= high => (low, high),
            // No whole step lies between floor and ceiling: the nearest one.
            _ => (x.round() as i64, x.round() as i64),
        })
        .collect();
    let mut bounds = vec![(0i64, 0i64); tree.nodes.len()];
    let mut exact = vec![0.0; tree.nodes.len()];
    for ((line, x), &node) in lines.iter().zip(&steps).zip(&tree.node_of) {
        add(&mut bounds[node], *line);
        exact[node] += x;
    }
    for (i, node) in tree.nodes.iter().enumerate() {
        if node.parent != i {
            let (low, high) = bounds[i];
            let held = (low.max(whole_low(node.low)), high.min(whole_high(node.high)));
            bounds[i] = (held.0.min(held.1), held.1.max(held.0));
            let held = bounds[i];
            add(&mut bounds[node.parent], held);
            exact[node.parent] += exact[i];
        }
    }
    let root = tree.root();
    let mut given = vec![0i64; tree.nodes.len()];
    given[root] = all.map_or(exact[root], |all| all / step).round() as i64;
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
    out
}

fn add(sum: &mut (i64, i64), part: (i64, i64)) {
    sum.0 = sum.0.saturating_add(part.0);
    sum.1 = sum.1.saturating_add(part.1);
}
