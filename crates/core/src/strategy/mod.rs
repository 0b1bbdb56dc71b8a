//! Which bid strategy fits a campaign (B1): a table of conditions, kept as data so that people can have their own.
//!
//! - `facts`: what the advice goes by
//! - `table`: the rows, and what makes a table whole
//! - `start`: a first target, and the budget that a strategy needs (B2, B4)
//!
//! ```
//! use tiller_core::strategy::{Aim, Facts, Kind, Table, Values};
//! let facts = Facts {
//!     aim: Aim::Leads,
//!     values: Values::Absent,
//!     conversions: 120.0,
//!     history: 150.0,
//!     flight: f64::INFINITY,
//!     target_known: true,
//!     fears_runaway: false,
//! };
//! let table = Table::shipped();
//! let ranked = table.advise(&facts);
//! assert_eq!(ranked[0].advice, Kind::TargetCpa);
//! // Without conversions to learn from, no automatic strategy.
//! let none = table.advise(&Facts { conversions: 0.0, ..facts });
//! assert!(none.iter().all(|row| !row.advice.automatic()));
//! ```

mod facts;
mod start;
mod table;

pub use facts::{Aim, Facts, Kind, Values};
pub use start::{FirstTarget, Medium, budget_multiple, first_target};
pub use table::{Bound, Fault, MOST_ROWS, Row, Table, When};
