//! Rules: their versions, when they run, what each run did.
//!
//! - `kept`: rules and their versions, on and off
//! - `runs`: due times, runs, what they did
//! - `looked_at`: what rules look at: items with what was counted of them

mod kept;
mod looked_at;
mod runs;

pub use kept::*;
pub use looked_at::*;
pub use runs::*;
