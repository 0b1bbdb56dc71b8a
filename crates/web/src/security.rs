//! Headers that every answer carries, and the refusal of requests from other sites.

use axum::extract::{Request, State};
use axum::http::{HeaderName, HeaderValue, header};
use axum::middleware::Next;
use axum::response::Response;

use crate::App;

/// Only files of our own; no inline script or style; nobody may frame us.
const POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self'; font-src 'self'; \
                      connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'";

const HEADERS: [(HeaderName, &str); 5] = [
    (header::CONTENT_SECURITY_POLICY, POLICY),
    (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
    (header::REFERRER_POLICY, "same-origin"),
    (header::X_FRAME_OPTIONS, "DENY"),
    (HeaderName::from_static("cross-origin-opener-policy"), "same-origin"),
];

/// Adds the headers; pages of an account are never kept by caches.
pub async fn headers(State(app): State<App>, request: Request, next: Next) -> Response {
    let private = !request.uri().path().starts_with("/assets/");
    let mut response = next.run(request).await;
    let headers = response.headers_mut();
    for (name, value) in HEADERS {
        headers.insert(name, HeaderValue::from_static(value));
    }
    if app.https {
        // Two years, as browsers ask of those who mean it.
        let strict = HeaderValue::from_static("max-age=63072000; includeSubDomains");
        headers.insert(header::STRICT_TRANSPORT_SECURITY, strict);
    }
    if private {
        headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    response
}
