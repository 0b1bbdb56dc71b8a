//! What workers do, each job claimed by one, fenced by its attempt and beating while it lives.
//!
//! - [`import`]: an uploaded report
//! - [`fetch`]: a connection's structure and figures; `staging`: its splits
//! - [`send`]: a batch of changes
//! - `after`: what follows from new figures

mod after;
pub mod fetch;
pub mod import;
pub mod send;
mod staging;
