//! What a campaign's money can do: how it answers, what it is to have this week, its hours, its flight, its pool.

pub mod counted;
pub mod curves;
pub mod flight;
pub mod freed;
pub mod hours;
pub mod pool;
pub mod responses;
pub mod room;
pub mod weekly;
