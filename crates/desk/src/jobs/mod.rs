//! What workers do, each job claimed by one, fenced by its attempt and beating while it lives.
//!
//! - [`import`]: an uploaded report
//! - [`fetch`]: a connection's structure and figures; `staging`: its splits
//! - [`send`]: a batch of changes
//! - [`rules`]: a rule that is due
//! - [`mail`]: what runs of rules tell, by e-mail
//! - `caught`: what becomes of a job that panics
//! - `after`: what follows from new figures

mod after;
mod caught;
pub mod fetch;
pub mod import;
pub mod mail;
pub mod rules;
pub mod send;
mod staging;
