//! Rules: their versions, when they run, what each run did.
//!
//! - `kept`: rules and their versions, on and off
//! - `runs`: due times, runs, what they did
//! - `looked_at`: what rules look at: items with what was counted of them
//! - `mail`: runs of which something is to be told by e-mail
//! - `tidings`: what rules have to tell on Today

mod kept;
mod looked_at;
mod mail;
mod runs;
mod tidings;

pub use kept::*;
pub use looked_at::*;
pub use mail::*;
pub use runs::*;
pub use tidings::*;
