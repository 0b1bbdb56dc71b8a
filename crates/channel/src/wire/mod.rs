//! What a desk and a channel say to each other, version 1 of the open interface; what can be set is `core::setting`.
//!
//! - `structure`: what there is
//! - `change`: what shall be different, and what the channel says to it
//! - `estimate`: what a campaign would do that doesn't exist yet
//! - `rows`: the reports besides the one by items

mod change;
mod estimate;
mod rows;
mod structure;

pub use change::{Answer, Batch, Change, Clock, Place, Problem, Refusal};
pub use estimate::{Between, Draft, Estimate, MoneyBetween, Who};
pub use rows::{AdRow, ConversionRow, ReportKind, SegmentRow, TermRow};
pub use structure::{AdGroup, Campaign, ChannelInfo, Item, Structure};
