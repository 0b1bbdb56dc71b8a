//! What keeps each line of a split from getting more or less.

use super::answer::HeldBy;
use super::problem::Problem;
use super::split::Split;

pub(super) fn held_by(problem: &Problem, split: &Split) -> Vec<HeldBy> {
    let (tree, amounts) = (&split.tree, &split.exact);
    let near = 1e-9 * problem.total.amount.max(1.0);
    let mut sums = vec![0.0; tree.nodes.len()];
    for (a, &n) in amounts.iter().zip(&tree.node_of) {
        sums[n] += a;
    }
    for i in 0..tree.root() {
        let sum = sums[i];
        sums[tree.nodes[i].parent] += sum;
    }
    let at_group = |mut n: usize| loop {
        let node = &tree.nodes[n];
        if sums[n] >= node.high - near {
            return Some(HeldBy::GroupCeiling);
        }
        if node.low > 0.0 && sums[n] <= node.low + near {
            return Some(HeldBy::GroupFloor);
        }
        if node.parent == n {
            return None;
        }
        n = node.parent;
    };
    let mut held = vec![HeldBy::Nothing; amounts.len()];
    for (place, &line) in tree.order.iter().enumerate() {
        let (low, high) = tree.bounds[place];
        held[line] = if problem.lines[line].fixed.is_some() {
            HeldBy::Fixed
        } else if amounts[place] >= high - near.min(high / 2.0) {
            let able = problem.lines[line].capacity.map(|c| c * problem.days);
            if able.is_some_and(|a| a <= high + near) { HeldBy::Capacity } else { HeldBy::Ceiling }
        } else if amounts[place] <= low + near {
            HeldBy::Floor
        } else {
            at_group(tree.node_of[place]).unwrap_or(HeldBy::Nothing)
        };
    }
    held
}
