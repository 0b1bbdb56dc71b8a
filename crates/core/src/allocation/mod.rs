//! Allocation: the best split of a total over lines, within limits.
//!
//! Maximise Σ vᵢ·fᵢ(sᵢ) over budgets sᵢ with floors, ceilings, nested groups, a total, and limits on
//! the whole. The problem is convex and separable but for the groups and the limits, so its dual is
//! solved by nested search on marginal values; there is no general solver here.
//!
//! - what is asked: `problem`, `response`
//! - whether it can be: `tree` bounds, `conflict` and the `repair`s it offers
//! - the best split: `separable` for given weights, `coupled` for limits on the whole,
//!   `rounding` to whole steps, `stepwise` inside limits on the whole
//! - what comes back: `answer`, with the `precision` that responses are known to

mod answer;
mod conflict;
mod coupled;
mod precision;
mod problem;
mod repair;
mod response;
mod rounding;
mod separable;
mod stepwise;
mod tree;

pub use answer::{
    Answer, AtTotal, HeldBy, LineAnswer, Solved, Totals, Warning, at_totals, brings, limit_costs,
    marginal_at, solve,
};
pub use conflict::{Conflict, ConflictKind, WholeLimit};
pub use precision::{CONFIDENCE, Outlook, Precision, Range};
pub use problem::{Goal, Group, Limits, Line, Problem, ProblemError, Total, Use, or_default};
pub use repair::Repair;
pub use response::Response;
