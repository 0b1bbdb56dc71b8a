//! Performance reports as CSV: one row per item and day.
//!
//! - `column`: what a report may tell
//! - `dialect`: delimiter, decimal mark, date order
//! - `guess`: which header means what, from names and contents
//! - `row`: a record read into a [`ReportRow`], or the errors in it
//! - `reader`: the stream of records
//! - `writer`: the product's own form

mod column;
mod dialect;
mod guess;
mod reader;
mod row;
mod writer;

pub use column::Column;
pub use dialect::{DateOrder, Dialect};
pub use guess::{Guess, GuessError, guess};
pub use reader::{Record, Records};
pub use row::{Mapping, MappingError, ReportRow, RowError, RowReader};
pub use writer::{HEADER, ReportWriter};
