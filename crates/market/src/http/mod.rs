//! The channels' open interface over a market, version 1.
//!
//! - `routes`: what is answered where
//! - `reports`: reports as streamed CSV
//! - `journal`: what has been answered is on disk
//! - `faults`: what goes wrong when a test or a curious person asks for it

mod faults;
mod journal;
mod reports;
mod routes;

pub use faults::Faults;
pub use journal::JournalError;
pub use routes::{Service, openapi};
