//! What a request may bring, in one place; docs/operations.md states the same.

use tiller_core::text::{TextError, lines};

use crate::error::PageError;

/// Bytes of a query.
pub const QUERY: usize = 8 << 10;
/// Fields of a query.
pub const PARAMS: usize = 200;
/// Bytes of a form; reports are streamed and have a limit of their own.
pub const FORM: usize = 2 << 20;
/// Fields of a form: every row of the largest tray has one.
pub const FIELDS: usize = 20_000;
/// Bytes of a field's name.
pub const NAME: usize = 200;
/// Bytes of a field: plans and rules go through forms as files.
pub const VALUE: usize = 256 << 10;

/// A field of a form or a query, if it can be taken.
pub fn field(name: &str, value: &str) -> Result<(), PageError> {
    let wrong =
        |what: &str, e: TextError| PageError::Invalid(format!("{what} can’t be used: {e}."));
    lines(name, NAME).map_err(|e| wrong("The name of a field", e))?;
    lines(value, VALUE).map_err(|e| wrong(&format!("What was entered as ‘{name}’"), e))
}

/// How many of something, if they can be taken.
pub fn at_most(what: &str, found: usize, most: usize) -> Result<(), PageError> {
    if found <= most {
        return Ok(());
    }
    Err(PageError::Invalid(format!(
        "{found} {what} are more than the {most} that can be taken at once."
    )))
}
