//! What comes back: budgets, what they bring, what holds each of them.

use super::conflict::Conflict;
use super::goal::Totals;
use super::outlook::{Outlook, Range};
use super::repair::Repair;

/// The answer to a problem.
#[derive(Clone, Debug, PartialEq)]
pub enum Answer {
    /// The best split.
    Optimal(Solved),
    /// The limits contradict each other.
    Infeasible {
        /// Which, in their smallest form.
        conflicts: Vec<Conflict>,
        /// Changes that end them.
        repairs: Vec<Repair>,
    },
}

/// The best split.
#[derive(Clone, Debug, PartialEq)]
pub struct Solved {
    /// What the goal counts, at the split: conversions, value, clicks, profit, or spend.
    pub objective: f64,
    /// The same at the present spends.
    pub present: f64,
    /// In the order of the problem's lines.
    pub lines: Vec<LineAnswer>,
    /// The whole plan.
    pub totals: Totals,
    /// The same for the present spends.
    pub current: Totals,
    /// What 1,000 more in total would bring of the goal; absent for the goal of least spend.
    pub next_1000: Option<f64>,
    /// What is open about the goal's count, where responses tell how well they are known.
    pub outlook: Option<Outlook>,
    /// What to know before believing it.
    pub warnings: Vec<Warning>,
}

/// One line of the answer.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct LineAnswer {
    /// Money for the period.
    pub budget: f64,
    /// Where the cost per click is known.
    pub clicks: Option<f64>,
    /// Expected conversions.
    pub conversions: f64,
    /// Where a conversion's worth is known.
    pub value: Option<f64>,
    /// What one more unit of money here would bring of the goal.
    pub marginal: f64,
    /// What keeps it from getting more or less.
    pub held_by: HeldBy,
}

/// What keeps a line from getting more or less.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HeldBy {
    /// Its floor, or the limit on its decrease.
    Floor,
    /// Its ceiling, or the limit on its increase.
    Ceiling,
    /// All that it can spend.
    Capacity,
    /// The amount that it was set to.
    Fixed,
    /// A floor of a group around it.
    GroupFloor,
    /// A ceiling of a group around it.
    GroupCeiling,
    /// Nothing: its marginal result equals that of the other free lines.
    Nothing,
}

/// What to know before believing an answer.
#[derive(Clone, Debug, PartialEq)]
pub enum Warning {
    /// Constant rates put at least 80% of the free money on one line.
    Corner {
        /// That line.
        line: String,
        /// Its share of the money above the floors.
        share: f64,
    },
    /// Budgets outside half to double of what has been seen.
    Extrapolates {
        /// Those lines.
        lines: Vec<String>,
    },
    /// For the same money, that it brings more than changing nothing is less likely than 80%.
    Unclear {
        /// How likely.
        better: f64,
    },
    /// The 80% interval of what is due reaches further than a quarter from its middle.
    Wide {
        /// The interval.
        range: Range,
    },
}
