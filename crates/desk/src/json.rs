//! JSON that people write: what is wrong with it is named by its place.

use serde::de::DeserializeOwned;

/// Not JSON of the form that is asked for.
#[derive(Debug, thiserror::Error)]
#[error("{path}{message}")]
pub struct Misplaced {
    /// JSON path with a colon, or nothing.
    path: String,
    /// What was found and what is allowed, with line and column.
    message: String,
}

/// Reads a text as a whole.
pub fn read<T: DeserializeOwned>(text: &str) -> Result<T, Misplaced> {
    let mut json = serde_json::Deserializer::from_str(text);
    let read = serde_path_to_error::deserialize(&mut json).map_err(|e| Misplaced {
        path: match e.path().to_string() {
            path if path == "." => String::new(),
            path => path + ": ",
        },
        message: e.into_inner().to_string(),
    })?;
    json.end().map_err(|e| Misplaced { path: String::new(), message: e.to_string() })?;
    Ok(read)
}
