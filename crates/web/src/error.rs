//! One error type that knows its status; people get a page, programs get problem details (RFC 9457).

use std::time::Duration;

use askama::Template;
use axum::Json;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use tiller_desk::{DeskError, Kind};
use tower_sessions::{session, session_store};

/// Why a request ended without its page.
#[derive(Debug)]
pub enum PageError {
    /// Nobody is signed in; `next` is where they wanted to go.
    SignInFirst {
        /// Path and query.
        next: String,
    },
    /// The member's role does not allow it.
    NotAllowed,
    /// There is no such thing, or it belongs to others.
    NotFound(String),
    /// Input that can't be used.
    Invalid(String),
    /// Asked too often: so long has to be waited.
    TooMany(Duration),
    /// The database is not there right now.
    Away(String),
    /// Our fault.
    Internal(String),
}

impl From<DeskError> for PageError {
    fn from(error: DeskError) -> Self {
        match error {
            DeskError::NotFound(what) => {
                Self::NotFound(format!("There is no such {what} in this account."))
            }
            DeskError::Invalid(message) | DeskError::BrokeOff(message) => Self::Invalid(message),
            DeskError::Store(error) if error.kind() == Kind::Passing => {
                Self::Away(error.to_string())
            }
            DeskError::Store(error) => Self::Internal(error.to_string()),
            DeskError::Busy => Self::TooMany(Duration::from_secs(2)),
            error @ DeskError::Broke(_) => Self::Internal(error.to_string()),
        }
    }
}

impl From<session::Error> for PageError {
    fn from(error: session::Error) -> Self {
        match &error {
            // What keeps the sessions is the database.
            session::Error::Store(session_store::Error::Backend(_)) => {
                Self::Away(error.to_string())
            }
            _ => Self::Internal(error.to_string()),
        }
    }
}

#[derive(Template)]
#[template(path = "error.html")]
struct ErrorPage<'a> {
    heading: &'a str,
    message: &'a str,
    /// Where to go on, and what that says.
    onward: (&'a str, &'a str),
}

impl PageError {
    fn parts(&self) -> (StatusCode, &'static str, &str) {
        match self {
            Self::SignInFirst { .. } => {
                (StatusCode::UNAUTHORIZED, "Please sign in first", "Nobody is signed in.")
            }
            Self::NotAllowed => (
                StatusCode::FORBIDDEN,
                "Your role doesn’t allow this",
                "As a viewer you can see everything and change nothing. Ask an admin of the account to make you an analyst.",
            ),
            Self::NotFound(what) => (StatusCode::NOT_FOUND, "There is nothing here", what),
            Self::Invalid(message) => {
                (StatusCode::UNPROCESSABLE_ENTITY, "That can’t be used as it is", message)
            }
            Self::TooMany(_) => (
                StatusCode::TOO_MANY_REQUESTS,
                "Please wait a moment",
                "There were too many attempts to sign in. Wait a little, at most a quarter of an hour, and try again.",
            ),
            Self::Away(_) => (
                StatusCode::SERVICE_UNAVAILABLE,
                "The database can’t be reached",
                "Nothing that you had saved is lost. Try again in a moment; if it stays so, tell whoever runs this server.",
            ),
            Self::Internal(_) => (
                StatusCode::INTERNAL_SERVER_ERROR,
                "Something went wrong on our side",
                "Nothing that you had saved is lost. Go back and try again; if it stays so, tell whoever runs this server.",
            ),
        }
    }

    /// As problem details, for programs.
    pub fn problem(&self) -> Response {
        let (status, title, detail) = self.parts();
        let body = serde_json::json!({ "type": "about:blank", "title": title, "status": status.as_u16(), "detail": detail });
        (status, [(header::CONTENT_TYPE, "application/problem+json")], Json(body)).into_response()
    }
}

impl IntoResponse for PageError {
    fn into_response(self) -> Response {
        if let Self::SignInFirst { next } = &self {
            let to = format!("/sign-in?next={}", encode(next));
            return Redirect::to(&to).into_response();
        }
        if let Self::Internal(error) | Self::Away(error) = &self {
            tracing::error!(%error, "request failed");
        }
        let (status, heading, message) = self.parts();
        let onward = match &self {
            Self::TooMany(_) => ("/sign-in", "Back to sign-in"),
            _ => ("/", "Go to Today"),
        };
        let page = ErrorPage { heading, message, onward };
        let page = page.render().unwrap_or_else(|_| heading.to_owned());
        let mut response = (status, Html(page)).into_response();
        if let Self::TooMany(wait) = &self {
            response.headers_mut().insert(header::RETRY_AFTER, wait.as_secs().max(1).into());
        }
        response.extensions_mut().insert(std::sync::Arc::new(self));
        response
    }
}

/// Programs that ask for JSON get problem details in place of the page.
pub async fn for_programs(
    headers: HeaderMap,
    request: axum::extract::Request,
    next: axum::middleware::Next,
) -> Response {
    let wants_json = headers
        .get(header::ACCEPT)
        .and_then(|a| a.to_str().ok())
        .is_some_and(|a| a.contains("json"));
    let response = next.run(request).await;
    match response.extensions().get::<std::sync::Arc<PageError>>() {
        Some(error) if wants_json => error.problem(),
        _ => response,
    }
}

/// The page of an address that does not exist.
pub async fn no_such_page() -> PageError {
    PageError::NotFound(
        "There is no page at this address. Check it for typing errors; what it showed may have been removed.".into(),
    )
}

/// One value, encoded for a query.
fn encode(text: &str) -> String {
    form_urlencoded::byte_serialize(text.as_bytes()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_desk::StoreError;

    fn status(error: StoreError) -> StatusCode {
        PageError::from(DeskError::Store(error)).into_response().status()
    }

    #[test]
    fn a_database_that_is_away_is_no_fault_of_ours() {
        let short = StoreError::Short { what: "conversions", staged: 2, found: 1 };
        assert_eq!(status(short), StatusCode::SERVICE_UNAVAILABLE);
        assert_eq!(status(StoreError::Lost), StatusCode::INTERNAL_SERVER_ERROR);
        let cut = PageError::from(DeskError::BrokeOff("the upload broke off".into()));
        assert_eq!(cut.into_response().status(), StatusCode::UNPROCESSABLE_ENTITY);
    }
}
