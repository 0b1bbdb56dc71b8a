//! The answer to a plan file, and its parts in words.

use schemars::JsonSchema;
use serde::Serialize;
use tiller_core::allocation::{
    Answer, Conflict, ConflictKind, HeldBy, Line, LineAnswer, Problem, Range, Repair, Solved,
    Totals, Warning, WholeLimit,
};

use crate::numerals::{listed, money, number, percent, probability};

/// The answer to a plan file.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(tag = "status", rename_all = "snake_case")]
#[expect(clippy::large_enum_variant, reason = "one is made and written out")]
pub enum AnswerFile {
    /// The best split.
    Optimal {
        /// What the goal counts.
        objective: f64,
        /// One for each line.
        lines: Vec<LineFile>,
        /// The whole plan.
        totals: TotalsFile,
        /// The same for the present.
        current: TotalsFile,
        /// What 1,000 more in total would bring of the goal.
        next_1000: Option<f64>,
        /// What the goal counts, 80%, where lines tell how well their responses are known.
        #[serde(skip_serializing_if = "Option::is_none")]
        result: Option<Range>,
        /// What it counts more than at the present, 80%.
        #[serde(skip_serializing_if = "Option::is_none")]
        gain: Option<Range>,
        /// The probability that it counts more than at the present.
        #[serde(skip_serializing_if = "Option::is_none")]
        better: Option<f64>,
        /// What to know before believing it.
        warnings: Vec<WarningFile>,
    },
    /// The limits contradict each other.
    Infeasible {
        /// Which.
        conflicts: Vec<ConflictFile>,
        /// Changes that end them.
        repairs: Vec<RepairFile>,
    },
}

/// A line of the answer.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct LineFile {
    id: String,
    budget: f64,
    clicks: Option<f64>,
    conversions: f64,
    value: Option<f64>,
    marginal: f64,
    held_by: &'static str,
}

/// Sums.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct TotalsFile {
    budget: f64,
    conversions: f64,
    value: Option<f64>,
    cpa: Option<f64>,
    roas: Option<f64>,
}

/// A warning.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct WarningFile {
    /// corner, extrapolates or wide.
    pub kind: &'static str,
    /// For people.
    pub message: String,
    /// The lines concerned.
    pub lines: Vec<String>,
}

/// A conflict.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ConflictFile {
    /// Its kind.
    pub kind: &'static str,
    /// For people.
    pub message: String,
    /// By how much the limits miss each other.
    pub short_by: f64,
    /// The lines and groups concerned.
    pub members: Vec<String>,
}

/// A repair.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct RepairFile {
    /// For people.
    pub message: String,
}

/// The word for what holds a line.
pub fn held_word(held: HeldBy) -> &'static str {
    match held {
        HeldBy::Floor => "floor",
        HeldBy::Ceiling => "ceiling",
        HeldBy::Capacity => "capacity",
        HeldBy::Fixed => "fixed",
        HeldBy::GroupFloor => "group_floor",
        HeldBy::GroupCeiling => "group_ceiling",
        HeldBy::Nothing => "none",
    }
}

impl From<&Totals> for TotalsFile {
    fn from(t: &Totals) -> Self {
        Self {
            budget: t.budget,
            conversions: t.conversions,
            value: t.value,
            cpa: t.cpa(),
            roas: t.roas(),
        }
    }
}

/// The answer in its file form.
pub fn answer_file(problem: &Problem, answer: &Answer) -> AnswerFile {
    match answer {
        Answer::Optimal(solved) => optimal(problem, solved),
        Answer::Infeasible { conflicts, repairs } => AnswerFile::Infeasible {
            conflicts: conflicts.iter().map(conflict_file).collect(),
            repairs: repairs.iter().map(|r| RepairFile { message: repair(r) }).collect(),
        },
    }
}

fn optimal(problem: &Problem, solved: &Solved) -> AnswerFile {
    let line = |(line, a): (&Line, &LineAnswer)| LineFile {
        id: line.id.clone(),
        budget: a.budget,
        clicks: a.clicks,
        conversions: a.conversions,
        value: a.value,
        marginal: a.marginal,
        held_by: held_word(a.held_by),
    };
    AnswerFile::Optimal {
        objective: solved.objective,
        lines: problem.lines.iter().zip(&solved.lines).map(line).collect(),
        totals: (&solved.totals).into(),
        current: (&solved.current).into(),
        next_1000: solved.next_1000,
        result: solved.outlook.map(|o| o.result),
        gain: solved.outlook.map(|o| o.gain),
        better: solved.outlook.map(|o| o.better),
        warnings: solved.warnings.iter().map(warning).collect(),
    }
}

/// A warning in words.
pub fn warning(w: &Warning) -> WarningFile {
    match w {
        Warning::Wide { range } => WarningFile {
            kind: "wide",
            message: format!(
                "The result is very uncertain: 80% between {} and {}. A step experiment on the lines that move most would narrow it.",
                money(range.low),
                money(range.high)
            ),
            lines: Vec::new(),
        },
        Warning::Unclear { better } => WarningFile {
            kind: "unclear",
            message: format!(
                "That this brings more than changing nothing has a probability of {} only. Leaving budgets as they are may be as good.",
                probability(*better)
            ),
            lines: Vec::new(),
        },
        Warning::Corner { line, share } => WarningFile {
            kind: "corner",
            message: format!(
                "{}% of the free money goes to ‘{line}’. With constant rates every unit of money buys as much as the one before, so the cheapest line takes it all; \
                 in reality clicks get more expensive as spend grows. Set ceilings or a limit on change, or give the lines diminishing returns.",
                number(share * 100.0, 0)
            ),
            lines: vec![line.clone()],
        },
        Warning::Extrapolates { lines } => WarningFile {
            kind: "extrapolates",
            message: format!(
                "{} would get less than half or more than double of what has been seen to be spent there, so how it would respond is not known: {}. Take it in steps.",
                if lines.len() == 1 {
                    "One line".to_owned()
                } else {
                    format!("{} lines", lines.len())
                },
                lines.join(", ")
            ),
            lines: lines.clone(),
        },
    }
}

fn conflict_file(c: &Conflict) -> ConflictFile {
    let (kind, message) = conflict(c);
    ConflictFile {
        kind,
        message,
        short_by: c.short_by(),
        members: c.group.iter().chain(&c.groups).chain(&c.members).cloned().collect(),
    }
}

/// A conflict's kind and its sentence.
pub fn conflict(c: &Conflict) -> (&'static str, String) {
    let (asked, possible, short) = (money(c.asked), money(c.possible), money(c.short_by()));
    let line = c.members.first().map_or("", String::as_str);
    let group = c.group.as_deref().unwrap_or_default();
    match c.kind {
        ConflictKind::FloorAboveCeiling => (
            "floor_above_ceiling",
            format!("The floor of ‘{line}’, {asked}, is {short} above its ceiling, {possible}."),
        ),
        ConflictKind::FloorAboveChange => (
            "floor_above_change",
            format!(
                "The floor of ‘{line}’, {asked}, is {short} above {possible}, the most that the limit on change allows it."
            ),
        ),
        ConflictKind::CeilingBelowChange => (
            "ceiling_below_change",
            format!(
                "The ceiling of ‘{line}’, {asked}, is {short} below {possible}, the least that the limit on change allows it."
            ),
        ),
        ConflictKind::GroupFloorAboveCeiling => (
            "group_floor_above_ceiling",
            format!(
                "The floor of the group ‘{group}’, {asked}, is {short} above its ceiling, {possible}."
            ),
        ),
        ConflictKind::GroupFloorAboveMembers => (
            "group_floor_above_members",
            format!(
                "The floor of the group ‘{group}’, {asked}, is {short} above the ceilings of its lines together, {possible}: {}.",
                listed(&c.members)
            ),
        ),
        ConflictKind::MembersAboveGroupCeiling => (
            "floors_above_group_ceiling",
            format!(
                "The floors in the group ‘{group}’ add up to {asked}, {short} above its ceiling, {possible}: {}.",
                listed(&c.members)
            ),
        ),
        ConflictKind::FloorsAboveTotal => (
            "floors_above_total",
            format!(
                "What lines and groups get at least, by floors, by hand or by the limit on change, adds up to {asked}, {short} above the total of {possible}: {}.",
                listed(&[c.groups.as_slice(), c.members.as_slice()].concat())
            ),
        ),
        ConflictKind::CeilingsBelowTotal => (
            "ceilings_below_total",
            format!(
                "What lines get at most, by ceilings, by what they can spend or by the limit on change, adds up to {possible}, so {short} of the total of {asked} can’t be spent."
            ),
        ),
        ConflictKind::StepTooCoarse(limit) => {
            let (what, asked, possible) = match limit {
                WholeLimit::MaxCpa => {
                    ("a CPA of at most", number(c.asked, 2), number(c.possible, 4))
                }
                WholeLimit::MinRoas => {
                    ("a ROAS of at least", number(c.asked, 2), number(c.possible, 4))
                }
                WholeLimit::MinConversions => {
                    ("at least", number(c.asked, 2), number(c.possible, 4))
                }
            };
            (
                "step_too_coarse",
                format!(
                    "In whole steps no split brings {what} {asked}; the nearest reaches {possible}. A finer step does."
                ),
            )
        }
        ConflictKind::BetweenSteps => (
            "between_steps",
            match (&c.group, c.members.first()) {
                (Some(group), _) => format!(
                    "No split in whole steps keeps the limits of the group ‘{group}’. A finer step does."
                ),
                (None, Some(line)) => format!(
                    "No multiple of the step lies between the least and the most that ‘{line}’ may get: near {asked} the nearest is {possible}. A finer step does."
                ),
                (None, None) => format!(
                    "No split in whole steps comes to the total of {asked} within these limits. A finer step does."
                ),
            },
        ),
        ConflictKind::OutOfReach(WholeLimit::MaxCpa) => (
            "cpa_out_of_reach",
            format!(
                "No split brings the CPA down to {asked}; the best that these limits allow is {possible}."
            ),
        ),
        ConflictKind::OutOfReach(WholeLimit::MinRoas) => {
            let (asked, possible) = (number(c.asked, 2), number(c.possible, 2));
            (
                "roas_out_of_reach",
                format!(
                    "No split brings the ROAS up to {asked}; the best that these limits allow is {possible}."
                ),
            )
        }
        ConflictKind::OutOfReach(WholeLimit::MinConversions) => {
            let (asked, possible) = (number(c.asked, 1), number(c.possible, 1));
            (
                "conversions_out_of_reach",
                format!(
                    "No split brings {asked} conversions; the best that these limits allow is {possible}."
                ),
            )
        }
    }
}

/// A repair as the words on its button.
pub fn repair(r: &Repair) -> String {
    let each = |lines: &[(String, f64)]| {
        let names: Vec<String> =
            lines.iter().map(|(id, to)| format!("{id} to {}", money(*to))).collect();
        listed(&names)
    };
    match r {
        Repair::Total { to } => format!("Set the total to {}", money(*to)),
        Repair::SpendUpTo => "Leave unspent what can’t be spent".into(),
        Repair::Floors { lines } => format!("Lower floors: {}", each(lines)),
        Repair::Ceilings { lines } => format!("Raise ceilings: {}", each(lines)),
        Repair::GroupFloor { group, to } => {
            format!("Lower the floor of the group {group} to {}", money(*to))
        }
        Repair::GroupFloors { groups } => format!("Lower the floors of groups: {}", each(groups)),
        Repair::Step { to } if *to > 0.0 => format!("Use steps of {to}"),
        Repair::Step { .. } => "Use no steps".into(),
        Repair::GroupCeiling { group, to } => {
            format!("Raise the ceiling of the group {group} to {}", money(*to))
        }
        Repair::Release { lines } => format!("Let the plan decide on {}", listed(lines)),
        Repair::MaxChange { to } => format!("Allow lines to change by up to {}%", percent(*to)),
        Repair::Whole { limit: WholeLimit::MaxCpa, to } => {
            format!("Allow a CPA of up to {}", number(*to, 2))
        }
        Repair::Whole { limit: WholeLimit::MinRoas, to } => {
            format!("Accept a ROAS of {}", number(*to, 3))
        }
        Repair::Whole { limit: WholeLimit::MinConversions, to } => {
            format!("Accept {} conversions", number(*to, 2))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plans::file::PlanFile;
    use crate::plans::file::tests::PLAN;

    /// √x and 2√x share 100 as 1 : 4, as the handbook works it out.
    #[test]
    fn the_handbook_example_is_answered() {
        let problem = PlanFile::read(PLAN).unwrap().problem();
        let AnswerFile::Optimal { lines, .. } = answer_file(&problem, &problem.answer().unwrap())
        else {
            panic!()
        };
        assert_eq!((lines[0].budget, lines[1].budget), (20.0, 80.0));
    }
}
