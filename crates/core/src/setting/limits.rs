//! What a channel does not allow.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::Micros;

/// What a channel does not allow.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Limits {
    /// The least bid, in millionths.
    pub least_bid: Micros,
    /// The least budget a day, in millionths.
    pub least_budget: Micros,
    /// Hours can be set only where the budget is a lifetime one.
    pub hours_need_lifetime: bool,
    /// Changes an hour at most; 0 is no limit.
    pub changes_per_hour: u32,
}
