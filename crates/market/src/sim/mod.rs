//! One day of an account, stream by stream.
//!
//! - `stream`: what one item meets: demand, competition, rates
//! - `auction`: winning and paying
//! - `day`: bids, budgets and draws of a day, as report rows

mod auction;
mod day;
mod stream;

pub use day::{Calendar, day, report};
pub use stream::{Stream, streams};
