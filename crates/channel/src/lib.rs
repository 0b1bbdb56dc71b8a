//! The port to ad channels: the wire types of structures, reports and changes, the client of their open
//! interface, and how report files of many makes are read. Never here: rules of the job, SQL, pages.

pub mod change_file;
pub mod connection;
pub mod report;
pub mod wire;

pub use tiller_core::{Currency, Micros};
