//! For whoever runs the server: is it alive, can it serve.

use std::time::Duration;

use axum::extract::{Request, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};

use crate::App;

/// Whoever asks wants to know by then.
const SOON: Duration = Duration::from_secs(1);

/// The process answers.
pub async fn alive() -> &'static str {
    "alive\n"
}

/// The database answers too, and the queues are worked off.
pub async fn ready(State(app): State<App>) -> Response {
    let ping = tokio::time::timeout(SOON, tiller_store::ping(&app.db)).await;
    match ping.map_err(|_| "it took too long".to_owned()).and_then(|p| p.map_err(|e| e.to_string()))
    {
        Ok(()) => match app.queues.dead() {
            dead if dead.is_empty() => "ready\n".into_response(),
            dead => {
                let told = format!("not being worked off: {}\n", dead.join(", "));
                (StatusCode::SERVICE_UNAVAILABLE, told).into_response()
            }
        },
        Err(error) => {
            tracing::warn!(%error, "not ready");
            (StatusCode::SERVICE_UNAVAILABLE, "the database does not answer\n").into_response()
        }
    }
}

/// The log span of a request: its id, method and path, never its query.
pub fn span(request: &Request) -> tracing::Span {
    let id =
        request.headers().get("x-request-id").and_then(|id| id.to_str().ok()).unwrap_or_default();
    tracing::info_span!("request", id, method = %request.method(), path = request.uri().path())
}
