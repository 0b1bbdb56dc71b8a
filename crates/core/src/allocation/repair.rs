//! Repairs: the smallest changes that end a contradiction. Every one that is offered has been tried.

use super::conflict::{Conflict, ConflictKind, WholeLimit};
use super::problem::{Problem, Use};
use super::split::best_split;
use super::tree::{Tree, line_bounds, spends_all};

/// A change to a problem that ends a contradiction.
#[derive(Clone, Debug, PartialEq)]
pub enum Repair {
    /// Another total.
    Total {
        /// The new amount.
        to: f64,
    },
    /// Leave unspent what can't be spent.
    SpendUpTo,
    /// Other floors of lines.
    Floors {
        /// Lines with their new floors.
        lines: Vec<(String, f64)>,
    },
    /// Other ceilings of lines.
    Ceilings {
        /// Lines with their new ceilings.
        lines: Vec<(String, f64)>,
    },
    /// Another floor of a group, in money.
    GroupFloor {
        /// The group.
        group: String,
        /// Its new floor.
        to: f64,
    },
    /// Other floors of several groups, in money.
    GroupFloors {
        /// Groups with their new floors.
        groups: Vec<(String, f64)>,
    },
    /// Another step that budgets are multiples of; 0 for none.
    Step {
        /// The new step.
        to: f64,
    },
    /// Another ceiling of a group, in money.
    GroupCeiling {
        /// The group.
        group: String,
        /// Its new ceiling.
        to: f64,
    },
    /// Lines that need no longer get just what they were set to.
    Release {
        /// Those lines.
        lines: Vec<String>,
    },
    /// A wider limit on change.
    MaxChange {
        /// The new share.
        to: f64,
    },
    /// Another limit on the whole.
    Whole {
        /// Which.
        limit: WholeLimit,
        /// The nearest that can be met.
        to: f64,
    },
}

impl Repair {
    /// Makes the change.
    pub fn apply(&self, problem: &mut Problem) {
        let line = |problem: &mut Problem, id: &str, set: &dyn Fn(&mut super::Line)| {
            problem.lines.iter_mut().filter(|l| l.id == id).for_each(set);
        };
        match self {
            Self::Total { to } => problem.total.amount = *to,
            Self::SpendUpTo => problem.total.spend = Use::UpTo,
            Self::Floors { lines } => {
                for (id, to) in lines {
                    line(problem, id, &|l| l.floor = *to);
                }
            }
            Self::Ceilings { lines } => {
                for (id, to) in lines {
                    line(problem, id, &|l| l.ceiling = Some(*to));
                }
            }
            Self::GroupFloor { group, to } => lower_floor(problem, group, *to),
            Self::GroupFloors { groups } => {
                groups.iter().for_each(|(group, to)| lower_floor(problem, group, *to));
            }
            Self::Step { to } => problem.step = *to,
            Self::GroupCeiling { group, to } => {
                for g in problem.groups.iter_mut().filter(|g| g.id == *group) {
                    g.ceiling = g.ceiling.map(|c| c.max(*to));
                    let share = to / problem.total.amount;
                    g.share_ceiling = g.share_ceiling.map(|s| s.max(share).min(1.0));
                }
            }
            Self::Release { lines } => {
                for id in lines {
                    line(problem, id, &|l| l.fixed = None);
                }
            }
            Self::MaxChange { to } => problem.limits.max_change = Some(*to),
            Self::Whole { limit, to } => match limit {
                WholeLimit::MaxCpa => problem.limits.max_cpa = Some(*to),
                WholeLimit::MinRoas => problem.limits.min_roas = Some(*to),
                WholeLimit::MinConversions => problem.limits.min_conversions = Some(*to),
            },
        }
    }
}

/// Lowers a group's floors to an amount: the one in money, and the one that is a share.
fn lower_floor(problem: &mut Problem, group: &str, to: f64) {
    for g in problem.groups.iter_mut().filter(|g| g.id == group) {
        g.floor = g.floor.map(|floor| floor.min(to));
        let share = to / problem.total.amount;
        g.share_floor = g.share_floor.map(|s| s.min(share));
    }
}

/// Repairs after which a contradiction no longer stands; others that it hid may then come to light.
pub(super) fn offer(problem: &Problem, conflicts: &[Conflict]) -> Vec<Repair> {
    let mends = |repair: &Repair, conflict: &Conflict| {
        let mut changed = problem.clone();
        repair.apply(&mut changed);
        // Whom a contradiction of many lines names depends on their floors; of one line, it is that line.
        let same = |c: &Conflict| {
            let one = c.members.len() == 1 && conflict.members.len() == 1;
            c.kind == conflict.kind
                && c.group == conflict.group
                && (!one || c.members == conflict.members)
        };
        solve_quietly(&changed).is_none_or(|left| !left.iter().any(same))
    };
    let mut offered: Vec<Repair> = Vec::new();
    for conflict in conflicts.iter().take(8) {
        for repair in candidates(problem, conflict) {
            if !offered.contains(&repair) && mends(&repair, conflict) {
                offered.push(repair);
            }
        }
    }
    offered
}

/// The contradictions of a problem, none if it can be solved; without offering repairs in turn.
fn solve_quietly(problem: &Problem) -> Option<Vec<Conflict>> {
    best_split(problem).err()
}

fn candidates(problem: &Problem, c: &Conflict) -> Vec<Repair> {
    let step = problem.step;
    let up = |x: f64| {
        if step > 0.0 { (x / step - 1e-9).ceil() * step } else { x }
    };
    let down = |x: f64| {
        if step > 0.0 { (x / step + 1e-9).floor() * step } else { x }
    };
    let lines = || problem.lines.iter().filter(|l| c.members.contains(&l.id));
    let scaled_floors = || {
        let lines = || lines().filter(|l| l.fixed.is_none());
        let floors: f64 = lines().map(|l| l.floor).sum();
        // Only the floors can give way; the rest of the least amount comes from elsewhere.
        let ratio = ((floors - c.short_by()) / floors).max(0.0);
        let lines = lines()
            .filter(|l| l.floor > 0.0)
            .map(|l| (l.id.clone(), down(l.floor * ratio)))
            .collect();
        Repair::Floors { lines }
    };
    let scaled_ceilings = || {
        // A ceiling above what a line can spend opens nothing.
        let lines = || lines().filter(|l| l.fixed.is_none() && !spends_all_it_can(problem, l));
        let ceilings: f64 = lines().filter_map(|l| l.ceiling).sum();
        let ratio = 1.0 + c.short_by() / ceilings;
        let lines = lines().filter_map(|l| Some((l.id.clone(), up(l.ceiling? * ratio)))).collect();
        Repair::Ceilings { lines }
    };
    let member = || c.members.first().cloned().unwrap_or_default();
    let group = || c.group.clone().unwrap_or_default();
    let floor_to = |to| Repair::Floors { lines: vec![(member(), to)] };
    let ceiling_to = |to| Repair::Ceilings { lines: vec![(member(), to)] };
    let whole_step = |x: f64| (x * 1000.0 - 1e-6).ceil() / 1000.0;
    let wider = |to: f64| {
        let current = lines().next().map_or(0.0, |l| l.current);
        (current > 0.0).then(|| Repair::MaxChange { to: whole_step((to / current - 1.0).abs()) })
    };
    let free_change =
        || problem.limits.max_change.and(least_change(problem)).map(|to| Repair::MaxChange { to });
    let release = || {
        let lines: Vec<String> =
            lines().filter(|l| l.fixed.is_some()).map(|l| l.id.clone()).collect();
        (!lines.is_empty()).then_some(Repair::Release { lines })
    };
    match c.kind {
        ConflictKind::FloorAboveCeiling => vec![floor_to(c.possible), ceiling_to(c.asked)],
        ConflictKind::FloorAboveChange => {
            std::iter::once(floor_to(down(c.possible))).chain(wider(c.asked)).collect()
        }
        ConflictKind::CeilingBelowChange => {
            std::iter::once(ceiling_to(up(c.possible))).chain(wider(c.asked)).collect()
        }
        ConflictKind::GroupFloorAboveCeiling => vec![
            Repair::GroupFloor { group: group(), to: c.possible },
            Repair::GroupCeiling { group: group(), to: c.asked },
        ],
        ConflictKind::GroupFloorAboveMembers => {
            vec![Repair::GroupFloor { group: group(), to: down(c.possible) }, scaled_ceilings()]
                .into_iter()
                .chain(release())
                .collect()
        }
        ConflictKind::MembersAboveGroupCeiling => {
            vec![Repair::GroupCeiling { group: group(), to: up(c.asked) }, scaled_floors()]
                .into_iter()
                .chain(release())
                .collect()
        }
        ConflictKind::FloorsAboveTotal => std::iter::once(Repair::Total { to: up(c.asked) })
            .chain((!c.members.is_empty()).then(scaled_floors))
            .chain(group_floors(problem, c, down))
            .chain(free_change())
            .chain(release())
            .collect(),
        ConflictKind::CeilingsBelowTotal => {
            [Repair::Total { to: down(c.possible) }, Repair::SpendUpTo, scaled_ceilings()]
                .into_iter()
                .chain(free_change())
                .chain(release())
                .collect()
        }
        ConflictKind::StepTooCoarse(limit) => {
            let nearest = presentable(c.possible, limit == WholeLimit::MaxCpa);
            spends_all(problem)
                .then_some(Repair::SpendUpTo)
                .into_iter()
                .chain(finer_step(problem))
                .chain([Repair::Whole { limit, to: nearest }])
                .collect()
        }
        ConflictKind::BetweenSteps => {
            let of_total = c.group.is_none() && c.members.is_empty();
            let less = Repair::Total { to: down(c.asked) };
            finer_step(problem).into_iter().chain(of_total.then_some(less)).collect()
        }
        ConflictKind::OutOfReach(limit) => {
            let to = if limit == WholeLimit::MaxCpa {
                c.possible * (1.0 + 1e-6)
            } else {
                c.possible * (1.0 - 1e-6)
            };
            let nearest = Repair::Whole { limit, to: presentable(to, limit == WholeLimit::MaxCpa) };
            spends_all(problem).then_some(Repair::SpendUpTo).into_iter().chain([nearest]).collect()
        }
    }
}

/// The nearest finer step at which some plan fits, or none at all.
fn finer_step(problem: &Problem) -> Option<Repair> {
    let finer = (1..=4).map(|n| problem.step / 10f64.powi(n)).chain([0.0]);
    let fits = |to: &f64| {
        let mut finer = problem.clone();
        finer.step = *to;
        solve_quietly(&finer).is_none()
    };
    finer.into_iter().find(fits).map(|to| Repair::Step { to })
}

/// The floors of groups lowered together, each in proportion to what it asks beyond its members' floors.
fn group_floors(problem: &Problem, c: &Conflict, down: impl Fn(f64) -> f64) -> Option<Repair> {
    let tree = Tree::new(problem);
    let reach = tree.reach();
    let mut members = vec![0.0; tree.nodes.len()];
    for (bounds, &node) in tree.bounds.iter().zip(&tree.node_of) {
        members[node] += bounds.0;
    }
    let id = |n: usize| tree.nodes[n].group.map(|g| &problem.groups[g].id);
    for n in 0..tree.root() {
        members[tree.nodes[n].parent] += reach[n].0;
    }
    let beyond = |n: usize| (tree.nodes[n].low - members[n]).max(0.0);
    let all: f64 = (0..tree.root()).map(beyond).sum();
    let part = c.short_by() / all;
    if c.groups.is_empty() || part.is_nan() || part > 1.0 {
        return None;
    }
    // A group around others gives up what they give up, too.
    let mut less = vec![0.0; tree.nodes.len()];
    let mut groups = Vec::new();
    for n in 0..tree.root() {
        less[n] += part * beyond(n);
        if let Some(id) = id(n).filter(|_| beyond(n) > 0.0) {
            groups.push((id.clone(), down(tree.nodes[n].low - less[n])));
            less[tree.nodes[n].parent] += less[n];
        }
    }
    Some(Repair::GroupFloors { groups })
}

/// Changes are offered in whole %, up to tenfold.
const MOST_CHANGE: u32 = 1000;

/// The least change at which the total lies between what the lines may get together, if there is one.
fn least_change(problem: &Problem) -> Option<f64> {
    let mut freed = problem.clone();
    let mut fits = |percent: u32| {
        freed.limits.max_change = Some(f64::from(percent) / 100.0);
        let bounds = (0..freed.lines.len()).map(|i| line_bounds(&freed, i));
        let (low, high) = bounds.fold((0.0, 0.0), |s, b| (s.0 + b.0, s.1 + b.1.max(b.0)));
        low <= problem.total.amount && (problem.total.amount <= high || !spends_all(problem))
    };
    let percents: Vec<u32> = (0..=MOST_CHANGE).collect();
    let first = percents.partition_point(|p| !fits(*p));
    percents.get(first).map(|p| f64::from(*p) / 100.0)
}

/// Whether its demand holds a line before its ceiling does.
fn spends_all_it_can(problem: &Problem, line: &super::Line) -> bool {
    line.capacity.zip(line.ceiling).is_some_and(|(c, ceiling)| c * problem.days <= ceiling)
}

/// A limit with four significant figures, on the side that can be met.
fn presentable(x: f64, up: bool) -> f64 {
    let unit = 10f64.powf(x.abs().log10().floor() - 3.0);
    let steps = x / unit;
    (if up { steps.ceil() } else { steps.floor() }) * unit
}
