//! What a request may bring, in one place; docs/operations.md states the same.

use std::time::Duration;

use axum::body::Body;
use axum::extract::Request;
use axum::http::header;
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use tiller_core::text::{TextError, lines};
use tower_http::timeout::TimeoutBody;

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

/// Until more of what is sent comes in.
pub const PAUSE: Duration = Duration::from_secs(30);
/// Until a page is there; reports take as long as they take to come in.
pub const PAGE: Duration = Duration::from_mins(1);

/// Ends what takes too long.
pub async fn in_time(request: Request, next: Next) -> Response {
    let kind = request.headers().get(header::CONTENT_TYPE).and_then(|k| k.to_str().ok());
    let report = kind.is_some_and(|k| k.starts_with("multipart/form-data"));
    let answer = next.run(request.map(|body| Body::new(TimeoutBody::new(PAUSE, body))));
    if report {
        return answer.await;
    }
    match tokio::time::timeout(PAGE, answer).await {
        Ok(answer) => answer,
        Err(_) => PageError::Away("it took longer than a minute".into()).into_response(),
    }
}

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
