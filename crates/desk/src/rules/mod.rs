//! Rules: what was decided twice by hand, written down, rehearsed on the past, run when due, and watched.
//!
//! - `file`: the file format, and names in it
//! - `ground`: the account as its rules see it
//! - `keeping`: rules are written, switched, stopped, undone
//! - `run`: what a rule makes of the account now
//! - `things`: what a rule looks at, with its days
//! - `posture`: thresholds by posture
//! - `rehearsal`: a rule on the past of the account
//! - `report`: rules over a report file
//! - `sentence`: a rule as the sentence that it reads as, and back
//! - `sets`: ready-made rules
//! - `words`: what a rule does, and why, in words
//! - `worth`: what a rule is worth so far, by its look-backs
//! - `tidings`: what rules tell, on Today and by e-mail

pub mod file;
pub mod ground;
pub mod keeping;
pub mod posture;
pub mod rehearsal;
pub mod report;
pub mod run;
pub mod sentence;
pub mod sets;
mod things;
pub mod tidings;
pub mod words;
pub mod worth;

pub use things::{Place, Things};
