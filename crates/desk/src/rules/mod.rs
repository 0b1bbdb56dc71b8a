//! Rules: what was decided twice by hand, written down, rehearsed on the past, run when due, and watched.
//!
//! - `file`: the file format, and names in it
//! - `things`: what a rule looks at, with its days
//! - `report`: rules over a report file
//! - `sentence`: a rule as the sentence that it reads as, and back
//! - `words`: what a rule does, and why, in words

pub mod file;
pub mod report;
pub mod sentence;
mod things;
pub mod words;

pub use things::{Place, Things};
