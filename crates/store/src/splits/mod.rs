//! What the reports beside the one by items tell: conversions by event and age, people by segments, search
//! terms.
//!
//! - `stage` as it comes in, `take_in` with the report by items
//! - `counting`: which conversions count
//! - `events`, `segments`, `terms`: what they tell

mod counting;
mod events;
mod segments;
mod stage;
mod take_in;
mod terms;

pub(crate) use counting::{recount, set_click_window, set_events};
pub use events::{Aged, EventTally, aged, events, set_settle_days};
pub use segments::{
    Known, SegmentTally, before_noon, people, segments, segments_by, segments_of, week,
};
pub use stage::{
    Counts, StagedConversion, StagedSegment, StagedTerm, clear, stage_conversions, stage_segments,
    stage_terms, staged,
};
pub(crate) use take_in::take_in;
pub use terms::{TermTally, terms, terms_of, terms_seen};
