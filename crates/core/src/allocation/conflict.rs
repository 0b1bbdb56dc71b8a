//! Limits that contradict each other, each in its smallest form with the shortfall.

use super::problem::Problem;
use super::tree::{Tree, change_bounds, spends_all};

/// A limit on the whole plan.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WholeLimit {
    /// CPA at most.
    MaxCpa,
    /// ROAS at least.
    MinRoas,
    /// Conversions at least.
    MinConversions,
}

/// Which limits contradict each other.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum ConflictKind {
    /// A line's floor is above its ceiling.
    FloorAboveCeiling,
    /// A line's floor is above what the limit on change allows.
    FloorAboveChange,
    /// A line's ceiling is below what the limit on change allows.
    CeilingBelowChange,
    /// A group's floor is above its ceiling.
    GroupFloorAboveCeiling,
    /// A group's floor is above its members' ceilings together.
    GroupFloorAboveMembers,
    /// The floors in a group are together above its ceiling.
    MembersAboveGroupCeiling,
    /// The floors are together above the total.
    FloorsAboveTotal,
    /// The ceilings are together below the total, and all of it has to be spent.
    CeilingsBelowTotal,
    /// A limit on the whole can't be met.
    OutOfReach(WholeLimit),
    /// A limit on the whole can be met, but not in whole steps.
    StepTooCoarse(WholeLimit),
    /// What a line or a group has to get, or the total (neither is named), lies between whole steps.
    BetweenSteps,
}

/// A contradiction between limits.
#[derive(Clone, Debug, PartialEq)]
pub struct Conflict {
    /// Which limits.
    pub kind: ConflictKind,
    /// What is asked for (a floor, a total, a target).
    pub asked: f64,
    /// The nearest that can be had.
    pub possible: f64,
    /// The group concerned.
    pub group: Option<String>,
    /// The lines concerned.
    pub members: Vec<String>,
    /// The groups whose floors are concerned, where several are.
    pub groups: Vec<String>,
}

impl Conflict {
    /// By how much the limits miss each other.
    pub fn short_by(&self) -> f64 {
        (self.asked - self.possible).abs()
    }
}

/// Money below this share of the amounts compared is rounding, not a contradiction.
const SLACK: f64 = 1e-9;

fn above(a: f64, b: f64) -> bool {
    a > b + SLACK * (1.0 + a.abs())
}

/// The contradictions among floors, ceilings, groups, changes and the total.
pub(super) fn find(problem: &Problem, tree: &Tree) -> Vec<Conflict> {
    let mut found = Vec::new();
    let mut reach = vec![(0.0, 0.0); tree.nodes.len()];
    // Groups whose own floor asks for more than their members' do.
    let mut floors = Vec::new();
    for (place, &i) in tree.order.iter().enumerate() {
        let (low, high) = line_reach(problem, i, tree.bounds[place], &mut found);
        let sum: &mut (f64, f64) = &mut reach[tree.node_of[place]];
        sum.0 += low;
        sum.1 += high;
    }
    for (n, node) in tree.nodes.iter().enumerate() {
        let (low, high) = reach[n];
        let Some(group) = node.group.map(|g| &problem.groups[g].id) else {
            continue;
        };
        let lines = || node.lines.clone().map(|place| &problem.lines[tree.order[place]]);
        let conflict = |kind, asked, possible, members: Vec<String>| Conflict {
            kind,
            asked,
            possible,
            group: Some(group.clone()),
            members,
            groups: Vec::new(),
        };
        let with_floor = || {
            lines()
                .filter(|l| {
                    l.floor > 0.0 || l.fixed.is_some() || problem.limits.max_change.is_some()
                })
                .map(|l| l.id.clone())
                .collect()
        };
        let with_ceiling = || lines().map(|l| l.id.clone()).collect();
        let held = if above(node.low, node.high) {
            found.push(conflict(
                ConflictKind::GroupFloorAboveCeiling,
                node.low,
                node.high,
                Vec::new(),
            ));
            (node.high, node.high)
        } else if above(low, node.high) {
            found.push(conflict(
                ConflictKind::MembersAboveGroupCeiling,
                low,
                node.high,
                with_floor(),
            ));
            (node.high, node.high)
        } else if above(node.low, high) {
            found.push(conflict(
                ConflictKind::GroupFloorAboveMembers,
                node.low,
                high,
                with_ceiling(),
            ));
            (high, high)
        } else {
            if above(node.low, low) {
                floors.push(group.clone());
            }
            (low.max(node.low), high.min(node.high))
        };
        reach[node.parent].0 += held.0;
        reach[node.parent].1 += held.1;
    }
    if found.is_empty() {
        found.extend(against_total(problem, reach[tree.root()], floors));
    }
    found
}

fn line_reach(
    problem: &Problem,
    i: usize,
    bounds: (f64, f64),
    found: &mut Vec<Conflict>,
) -> (f64, f64) {
    let line = &problem.lines[i];
    if line.fixed.is_some() {
        return bounds;
    }
    let (least, most) = change_bounds(problem, i);
    let ceiling = line.ceiling.unwrap_or(f64::INFINITY);
    let (kind, asked, possible) = if above(line.floor, ceiling) {
        (ConflictKind::FloorAboveCeiling, line.floor, ceiling)
    } else if above(line.floor, most) {
        (ConflictKind::FloorAboveChange, line.floor, most)
    } else if above(least, ceiling) {
        (ConflictKind::CeilingBelowChange, ceiling, least)
    } else {
        return (bounds.0, bounds.1.max(bounds.0));
    };
    found.push(Conflict {
        kind,
        asked,
        possible,
        group: None,
        members: vec![line.id.clone()],
        groups: Vec::new(),
    });
    (possible, possible)
}

fn against_total(
    problem: &Problem,
    (low, high): (f64, f64),
    floors: Vec<String>,
) -> Option<Conflict> {
    let total = problem.total.amount;
    let names = |keep: fn(&super::Line) -> bool| {
        problem.lines.iter().filter(|l| keep(l)).map(|l| l.id.clone()).collect()
    };
    if above(low, total) {
        let members = names(|l| l.floor > 0.0 || l.fixed.is_some());
        Some(Conflict {
            kind: ConflictKind::FloorsAboveTotal,
            asked: low,
            possible: total,
            group: None,
            members,
            groups: floors,
        })
    } else if spends_all(problem) && above(total, high) {
        let members = names(|_| true);
        Some(Conflict {
            kind: ConflictKind::CeilingsBelowTotal,
            asked: total,
            possible: high,
            group: None,
            members,
            groups: Vec::new(),
        })
    } else {
        None
    }
}
