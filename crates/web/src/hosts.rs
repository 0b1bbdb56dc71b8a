//! The names under which the site may be asked for: a page of another name that points here reads nothing (DNS rebinding).

use axum::extract::{Request, State};
use axum::http::{StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};

use crate::App;

/// The names; none lets all pass, for tests of a router without a server.
pub type Hosts = Option<Vec<String>>;

/// Names of this machine itself.
pub const LOOPBACK: [&str; 3] = ["localhost", "127.0.0.1", "[::1]"];

/// Without its port.
fn name(host: &str) -> &str {
    match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|b| b.is_ascii_digit()) => name,
        _ => host,
    }
}

/// Turns away who asks for another name.
pub async fn check(State(app): State<App>, request: Request, next: Next) -> Response {
    let asked = request.headers().get(header::HOST).and_then(|h| h.to_str().ok());
    let asked = asked.or(request.uri().host()).unwrap_or_default();
    let known = |names: &Vec<String>| names.iter().any(|n| n.eq_ignore_ascii_case(name(asked)));
    if app.hosts.as_ref().is_none_or(known) {
        return next.run(request).await;
    }
    (StatusCode::MISDIRECTED_REQUEST, "This server does not answer to that name; whoever runs it can add the name to its setting ‘hosts’.\n").into_response()
}

#[cfg(test)]
mod tests {
    use super::name;

    #[test]
    fn ports_are_left_out() {
        for (host, told) in [
            ("desk.example:8400", "desk.example"),
            ("desk.example", "desk.example"),
            ("[::1]:8400", "[::1]"),
            ("[::1]", "[::1]"),
        ] {
            assert_eq!(name(host), told);
        }
    }
}
