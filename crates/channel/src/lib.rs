//! The port to ad channels: the wire types of reports and how report files of many makes are read.
//! Never here: rules of the job, SQL, pages.

pub mod report;

pub use tiller_core::{Currency, Micros};
