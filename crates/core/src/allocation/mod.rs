//! Allocation: the best split of a total over lines, within limits.
//!
//! Maximise Σ vᵢ·fᵢ(sᵢ) over budgets sᵢ with floors, ceilings, nested groups, a total, and limits on
//! the whole. The problem is convex and separable but for the groups and the limits, so its dual is
//! solved by nested search on marginal values; there is no general solver here.
//!
//! - what is asked: `problem`, `response` with the `precision` that it is known to, `goal`
//! - whether it can be: `tree` bounds, `conflict` and the `repair`s it offers
//! - the best `split`: `separable` for given weights, `coupled` for limits on the whole,
//!   `rounding` to whole steps, `stepwise` inside limits on the whole
//! - what comes back from `solve`: `answer`, what each line is `held_by`, the `outlook`, and `what_if`
//!
//! ```
//! use tiller_core::allocation::{Answer, Goal, Limits, Line, Problem, Response, Total, Use};
//! let line = |id: &str, cvr| Line {
//!     ceiling: Some(60.0),
//!     ..Line::new(id, Response::Constant { cpc: 1.0, cvr })
//! };
//! let problem = Problem {
//!     goal: Goal::Conversions,
//!     total: Total { amount: 100.0, spend: Use::UpTo },
//!     step: 0.0,
//!     days: 1.0,
//!     noise: None,
//!     lines: vec![line("courses", 0.04), line("visits", 0.05)],
//!     groups: Vec::new(),
//!     limits: Limits::default(),
//! };
//! let Answer::Optimal(best) = problem.answer()? else { unreachable!("nothing contradicts itself") };
//! // All that the better one takes, and the rest.
//! let budgets: Vec<f64> = best.lines.iter().map(|l| l.budget.round()).collect();
//! assert_eq!(budgets, [40.0, 60.0]);
//! # Ok::<(), tiller_core::allocation::ProblemError>(())
//! ```

mod answer;
mod conflict;
mod coupled;
mod goal;
mod held_by;
mod outlook;
mod precision;
mod problem;
mod repair;
mod response;
mod rounding;
mod separable;
mod solve;
mod split;
mod stepwise;
mod tree;
mod what_if;

pub use answer::{Answer, HeldBy, LineAnswer, Solved, Warning};
pub use conflict::{Conflict, ConflictKind, WholeLimit};
pub use goal::{Totals, brings, marginal_at};
pub use outlook::{CONFIDENCE, Outlook, Range};
pub use precision::{Next, Precision, Shared};
pub use problem::{
    Goal, Group, Limits, Line, Noise, Problem, ProblemError, Total, Use, or_default,
};
pub use repair::Repair;
pub use response::Response;
pub use solve::solve;
pub use what_if::{AtTotal, at_totals, limit_costs};
