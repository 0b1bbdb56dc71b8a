//! Plans for a month: drafted from chosen campaigns, edited, solved, saved, and put in the tray.

pub mod answer;
mod draft;
pub mod file;
mod groups;
pub mod moves;
mod saved;
mod typed;
pub mod words;
mod worked;
mod working;

pub use draft::{Choice, at_money, choices, differs, draft, entry_of, known, line_id, refresh};
pub use groups::{GroupBy, group, grouped_by};
pub use saved::{Opened, add, duplicate, follow, list, open, remove, save};
pub use typed::{DEFAULT_ELASTICITY, FieldError, Typed, edit};
pub use worked::{Worked, mend, of_a_month, present_conversions, why, with_money_to_spare, work};
pub use working::working;

/// Fewer conversions than this are thin evidence for a rate.
pub const THIN: f64 = 10.0;
