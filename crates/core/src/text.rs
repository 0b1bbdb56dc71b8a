//! Text that comes from outside, and what of it can be kept and shown: one check for files, forms, addresses and channels.
//!
//! ```
//! use tiller_core::text::{TextError, line, lines};
//! assert_eq!(line("Hive kits, search", 500), Ok(()));
//! assert_eq!(line("Hive\0kits", 500), Err(TextError::Control('\0')));
//! assert_eq!(line("two\nlines", 500), Err(TextError::Control('\n')));
//! assert_eq!(lines("two\nlines", 500), Ok(()));
//! assert_eq!(line(&"æ".repeat(300), 500), Err(TextError::Long(500)));
//! ```

use std::borrow::Cow;

/// Names of channels, campaigns, ad groups and items, in bytes: an index of the database keeps them.
pub const NAME: usize = 500;
/// Keys by which channels know their things.
pub const KEY: usize = 200;

/// Why a text can't be taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TextError {
    /// A character that is no text.
    #[error("it holds the control character U+{:04X}; take it out", *.0 as u32)]
    Control(char),
    /// More bytes than that.
    #[error("it is longer than {0} bytes; shorten it")]
    Long(usize),
}

/// A text of one line, of so many bytes at most.
pub fn line(text: &str, most: usize) -> Result<(), TextError> {
    check(text, most, &[])
}

/// A text that may have lines and tabs.
pub fn lines(text: &str, most: usize) -> Result<(), TextError> {
    check(text, most, &['\n', '\r', '\t'])
}

/// A cell of a file that people open in spreadsheets: what these would take for a formula is marked as text; numbers are not.
///
/// ```
/// use tiller_core::text::cell;
/// assert_eq!(cell("=HYPERLINK(A1)"), "'=HYPERLINK(A1)");
/// assert_eq!(cell("-2+3"), "'-2+3");
/// assert_eq!((cell("-2.5"), cell("Hive kits")), ("-2.5".into(), "Hive kits".into()));
/// ```
pub fn cell(text: &str) -> Cow<'_, str> {
    let formula = text.starts_with(['=', '+', '-', '@', '\t', '\r']);
    if formula && text.parse::<f64>().is_err() { format!("'{text}").into() } else { text.into() }
}

fn check(text: &str, most: usize, allowed: &[char]) -> Result<(), TextError> {
    if text.len() > most {
        return Err(TextError::Long(most));
    }
    let control = text.chars().find(|c| c.is_control() && !allowed.contains(c));
    control.map_or(Ok(()), |c| Err(TextError::Control(c)))
}
