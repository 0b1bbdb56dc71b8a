//! What goes wrong when asked for. Each number counts the next requests that it spoils.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Faults that are switched on.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Faults {
    /// Milliseconds before every answer.
    pub latency_ms: u32,
    /// Requests that are answered 429.
    pub too_many: u32,
    /// What those say in Retry-After, in seconds.
    pub retry_after: u32,
    /// Requests that are answered 503.
    pub unavailable: u32,
    /// Reports whose connection is cut after their first piece.
    pub cut_report: u32,
    /// Batches of which the second half is refused as unavailable.
    pub half_batch: u32,
    /// Batches that are made, but whose answer is cut off.
    pub lost_answer: u32,
    /// Batches that are made, but whose answer can't be read.
    pub garbled_answer: u32,
    /// Batches that are made, but whose answer says nothing of the last change.
    pub short_answer: u32,
    /// For as long as it is set, reports by segments and by search terms have no rows.
    pub no_splits: bool,
}

impl Faults {
    /// Uses up one spoiled request of a kind, if there is one.
    pub fn take(count: &mut u32) -> bool {
        let hit = *count > 0;
        *count -= u32::from(hit);
        hit
    }
}
