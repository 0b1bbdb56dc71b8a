//! The plan file, `gold-tiller/plan@1`: read, answered, written.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tiller_core::allocation::{
    Answer, Conflict, ConflictKind, Goal, Group, HeldBy, Limits, Line, Problem, Range, Repair,
    Solved, Total, Totals, Warning, WholeLimit, or_default,
};
use tiller_core::{Currency, MoneyError};

use crate::numerals::{money, number, percent};

/// The name that the format gives itself.
pub const FORMAT: &str = "gold-tiller/plan@1";

/// A plan file.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PlanFile {
    /// `gold-tiller/plan@1`.
    pub format: String,
    /// ISO 4217 code of all its money.
    pub currency: String,
    /// What there should be most of.
    pub goal: Goal,
    /// The money.
    pub total: Total,
    /// Budgets are whole multiples of this; 0 asks for the unrounded optimum.
    #[serde(default = "cent", deserialize_with = "or_cent")]
    #[schemars(with = "Option<f64>")]
    pub step: f64,
    /// Length of the period in days.
    #[serde(default = "one_day", deserialize_with = "or_one_day")]
    #[schemars(with = "Option<f64>")]
    pub days: f64,
    /// What the money can go to.
    pub lines: Vec<Line>,
    /// Nested groups of lines.
    #[serde(default, deserialize_with = "or_default")]
    #[schemars(with = "Option<Vec<Group>>")]
    pub groups: Vec<Group>,
    /// Limits on the whole.
    #[serde(default, deserialize_with = "or_default")]
    #[schemars(with = "Option<Limits>")]
    pub limits: Limits,
    /// Share of the total that is kept for tests; the rest is split, and shares of groups are of the rest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub test_share: Option<f64>,
}

fn or_cent<'de, D: serde::Deserializer<'de>>(from: D) -> Result<f64, D::Error> {
    Ok(Option::<f64>::deserialize(from)?.unwrap_or_else(cent))
}
fn or_one_day<'de, D: serde::Deserializer<'de>>(from: D) -> Result<f64, D::Error> {
    Ok(Option::<f64>::deserialize(from)?.unwrap_or_else(one_day))
}
fn cent() -> f64 {
    0.01
}
fn one_day() -> f64 {
    1.0
}

/// Why a plan file can't be used.
#[derive(Debug, thiserror::Error)]
pub enum PlanFileError {
    /// Not JSON of this form; the text names the place.
    #[error("{path}{message}")]
    Form {
        /// JSON path with a colon, or nothing.
        path: String,
        /// What was found and what is allowed, with line and column.
        message: String,
    },
    /// Another format.
    #[error("format: ‘{0}’ found; {FORMAT} is allowed")]
    OtherFormat(String),
    /// No currency.
    #[error("currency: {0}")]
    Currency(#[from] MoneyError),
    /// Nothing would be left to split.
    #[error("test_share: {0} found; a share from 0 to 0.9 is allowed")]
    TestShare(f64),
    /// A value that makes no sense.
    #[error(transparent)]
    Value(#[from] tiller_core::allocation::ProblemError),
}

impl PlanFile {
    /// Reads a plan file and checks every value.
    pub fn read(text: &str) -> Result<Self, PlanFileError> {
        let mut json = serde_json::Deserializer::from_str(text);
        let form = |path: String, error: &serde_json::Error| PlanFileError::Form {
            path: if path == "." { String::new() } else { format!("{path}: ") },
            message: error.to_string(),
        };
        let file: Self = serde_path_to_error::deserialize(&mut json)
            .map_err(|e| form(e.path().to_string(), e.inner()))?;
        json.end().map_err(|e| form(String::new(), &e))?;
        file.check()?;
        Ok(file)
    }

    /// Checks every value.
    pub fn check(&self) -> Result<(), PlanFileError> {
        if self.format != FORMAT {
            return Err(PlanFileError::OtherFormat(self.format.clone()));
        }
        self.currency.parse::<Currency>()?;
        if let Some(share) = self.test_share.filter(|s| !(0.0..=0.9).contains(s)) {
            return Err(PlanFileError::TestShare(share));
        }
        Ok(self.problem().check()?)
    }

    /// Money that is kept for tests, in whole steps.
    pub fn for_tests(&self) -> f64 {
        let kept = self.total.amount * self.test_share.unwrap_or(0.0);
        if self.step > 0.0 { (kept / self.step).round() * self.step } else { kept }
    }

    /// What is to be solved: the split of what is not kept for tests.
    pub fn problem(&self) -> Problem {
        let amount = self.total.amount - self.for_tests();
        // A difference of whole steps is one, whatever its binary form lost.
        let amount = if self.step > 0.0 && self.test_share.is_some() {
            (amount / self.step).round() * self.step
        } else {
            amount
        };
        Problem {
            goal: self.goal,
            total: Total { amount, ..self.total },
            step: self.step,
            days: self.days,
            lines: self.lines.clone(),
            groups: self.groups.clone(),
            limits: self.limits,
        }
    }

    /// Takes over what repairs changed.
    pub fn set_problem(&mut self, problem: Problem) {
        self.goal = problem.goal;
        let share = self.test_share.unwrap_or(0.0);
        if (problem.total.amount - self.problem().total.amount).abs() > 1e-9 {
            let whole = problem.total.amount / (1.0 - share);
            self.total.amount =
                if self.step > 0.0 { (whole / self.step).ceil() * self.step } else { whole };
        }
        self.total.spend = problem.total.spend;
        self.step = problem.step;
        self.days = problem.days;
        self.lines = problem.lines;
        self.groups = problem.groups;
        self.limits = problem.limits;
    }
}

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
    let line = |(line, a): (&Line, &tiller_core::allocation::LineAnswer)| LineFile {
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

/// Some of the names, and how many more.
pub fn listed(names: &[String]) -> String {
    match names {
        [a, b, c, rest @ ..] if !rest.is_empty() => {
            format!("{a}, {b}, {c} and {} more", rest.len())
        }
        names => names.join(", "),
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

    const PLAN: &str = r#"{"format":"gold-tiller/plan@1","currency":"EUR","goal":"conversions",
        "total":{"amount":100,"use":"all"},"step":0.01,"days":1,
        "lines":[{"id":"a","current":50,"response":{"kind":"power","scale":1.0,"elasticity":0.5},"floor":0,"ceiling":null},
                 {"id":"b","current":50,"response":{"kind":"power","scale":2.0,"elasticity":0.5}}]}"#;

    #[test]
    fn the_handbook_example_round_trips_and_solves() {
        let file = PlanFile::read(PLAN).unwrap();
        assert_eq!(PlanFile::read(&serde_json::to_string(&file).unwrap()).unwrap(), file);
        let problem = file.problem();
        let AnswerFile::Optimal { lines, .. } = answer_file(&problem, &problem.answer().unwrap())
        else {
            panic!()
        };
        assert_eq!((lines[0].budget, lines[1].budget), (20.0, 80.0));
    }

    #[test]
    fn null_leaves_a_field_out() {
        let nulls = PLAN
            .replace("\"floor\":0", "\"floor\":null")
            .replace("\"current\":50", "\"current\":null")
            .replace(
                "\"step\":0.01,\"days\":1",
                "\"step\":null,\"days\":null,\"groups\":null,\"limits\":null",
            );
        let file = PlanFile::read(&nulls).unwrap();
        assert_eq!(
            (file.step, file.days, file.lines[0].floor, file.lines[0].current),
            (0.01, 1.0, 0.0, 0.0)
        );
    }

    #[test]
    fn large_totals_are_multiples_of_a_cent() {
        for total in ["276175070.33", "999999999.99", "0.07"] {
            PlanFile::read(&PLAN.replace("\"amount\":100", &format!("\"amount\":{total}")))
                .unwrap();
        }
        assert!(PlanFile::read(&PLAN.replace("\"amount\":100", "\"amount\":100.005")).is_err());
    }

    #[test]
    fn mistakes_name_their_place() {
        let wrong =
            |from: &str, to: &str| PlanFile::read(&PLAN.replace(from, to)).unwrap_err().to_string();
        let unknown = wrong("\"current\":50,", "\"curent\":50,");
        assert!(
            unknown.starts_with("lines[0]")
                && unknown.contains("curent")
                && unknown.contains("line 3"),
            "{unknown}"
        );
        let kind = wrong("\"power\"", "\"powder\"");
        assert!(kind.starts_with("lines[0].response") && kind.contains("powder"), "{kind}");
        assert!(wrong("EUR", "EURO").starts_with("currency: "));
        assert!(wrong("plan@1", "plan@2").starts_with("format: "));
        assert!(wrong("0.5}", "1.5}").starts_with("lines[0].response.elasticity: 1.5 found"));
        assert!(PlanFile::read(&format!("{PLAN} x")).is_err());
    }
}
