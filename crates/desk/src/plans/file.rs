//! The plan file, `gold-tiller/plan@1`: read, checked, written.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tiller_core::allocation::{Goal, Group, Limits, Line, Noise, Problem, Total, or_default};
use tiller_core::{Currency, MoneyError};

use crate::json::{self, Misplaced};

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
    /// What such a period's own chance does to what the goal counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub noise: Option<Noise>,
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
    #[error(transparent)]
    Form(#[from] Misplaced),
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
        let file: Self = json::read(text)?;
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
            noise: self.noise,
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

#[cfg(test)]
pub(super) mod tests {
    use super::*;

    pub(crate) const PLAN: &str = r#"{"format":"gold-tiller/plan@1","currency":"EUR","goal":"conversions",
        "total":{"amount":100,"use":"all"},"step":0.01,"days":1,
        "lines":[{"id":"a","current":50,"response":{"kind":"power","scale":1.0,"elasticity":0.5},"floor":0,"ceiling":null},
                 {"id":"b","current":50,"response":{"kind":"power","scale":2.0,"elasticity":0.5}}]}"#;

    #[test]
    fn the_handbook_example_round_trips() {
        let file = PlanFile::read(PLAN).unwrap();
        assert_eq!(PlanFile::read(&serde_json::to_string(&file).unwrap()).unwrap(), file);
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
