//! What a desk and a channel say to each other, version 1 of the open interface.
//!
//! - `settings`: what can be set on a campaign, an ad group or an item
//! - `structure`: what there is
//! - `change`: what shall be different, and what the channel says to it
//! - `rows`: the reports besides the one by items

mod change;
mod rows;
mod settings;
mod structure;

pub use change::{Answer, Batch, Change, Clock, Place, Problem, Refusal, Setting};
pub use rows::{AdRow, ConversionRow, ReportKind, SegmentRow, TermRow};
pub use settings::{
    AdGroupSettings, Adjustment, Budget, CampaignSettings, Dimension, Hours, HoursError,
    ItemSettings, Negative, Pacing, Places, PlacesMode, Strategy,
};
pub use structure::{AdGroup, Campaign, ChannelInfo, Item, Limits, Structure};
