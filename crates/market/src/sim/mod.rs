//! The market day by day: what is set, what is bid, what is bought, what is reported.
//!
//! - `chance`: draws that nothing else can disturb
//! - `auction`: winning and paying
//! - `people`: who is reached, and what adjustments and places change in it
//! - `demand`: season, weekday, hour and shocks
//! - `unrest`: how days differ by more than chance
//! - `stream`: what one item meets
//! - `bidding`: bids by hand and by strategies that learn
//! - `purse`: how much of a budget a day may spend
//! - `campaign`: a campaign with its memory
//! - `day`: one day of a campaign, hour by hour
//! - `apply`: changes, made or refused
//! - `market`: all accounts of a world up to a day
//! - `estimate`: what a channel expects of a campaign that doesn't exist yet
//! - `structure`, `report`, `split`: what a channel tells of it
//! - `truth`, `steer`: what only the market knows, and how well it was used

mod apply;
mod auction;
mod bidding;
mod campaign;
pub mod chance;
mod day;
mod demand;
mod estimate;
mod market;
mod people;
mod purse;
mod report;
mod split;
mod steer;
mod stream;
mod structure;
mod truth;
mod unrest;

pub use estimate::Unknown;
pub use market::{AccountSim, Market};
pub use steer::{Due, Levers, Outcome, Policy, outcome, steer};
pub use truth::{CampaignTruth, CurvePoint, truth};
