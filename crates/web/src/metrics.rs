//! What the program counts of itself, in Prometheus form.

use std::time::{Duration, Instant};

use axum::Router;
use axum::extract::{MatchedPath, Request};
use axum::http::Method;
use axum::middleware::Next;
use axum::response::Response;
use axum::routing::get;
use metrics_exporter_prometheus::{Matcher, PrometheusBuilder, PrometheusHandle};

/// Seconds that divide answers into quick and slow ones.
const BUCKETS: &[f64] = &[0.002, 0.005, 0.01, 0.02, 0.04, 0.08, 0.12, 0.25, 0.5, 1.0, 2.5];

/// Installs the recorder; none if the process has one already.
pub fn install() -> Option<PrometheusHandle> {
    let builder = PrometheusBuilder::new()
        .set_buckets_for_metric(Matcher::Suffix("seconds".into()), BUCKETS)
        .ok()?;
    builder.install_recorder().ok()
}

/// How often what was timed is summed up.
const SUMMED_EVERY: Duration = Duration::from_secs(5);

/// Sums up what was timed, again and again: until somebody does, each time is kept by itself.
pub async fn sum_up(recorded: PrometheusHandle) {
    let mut every = tokio::time::interval(SUMMED_EVERY);
    loop {
        every.tick().await;
        recorded.run_upkeep();
    }
}

/// A method as it is counted: anybody may invent others.
fn told(method: &Method) -> &'static str {
    const KNOWN: [&str; 5] = ["GET", "HEAD", "POST", "PUT", "DELETE"];
    KNOWN.into_iter().find(|known| *known == method.as_str()).unwrap_or("other")
}

/// Counts and times a request by its route, never by its address.
pub async fn measure(request: Request, next: Next) -> Response {
    let route =
        request.extensions().get::<MatchedPath>().map_or("none", MatchedPath::as_str).to_owned();
    let method = told(request.method());
    let start = Instant::now();
    let response = next.run(request).await;
    let status = response.status().as_u16().to_string();
    metrics::histogram!("gold_tiller_request_seconds", "route" => route.clone(), "method" => method).record(start.elapsed());
    metrics::counter!("gold_tiller_requests_total", "route" => route, "method" => method, "status" => status).increment(1);
    response
}

/// The numbers, at an address of their own: they are for whoever runs the server, not for its readers.
pub fn router(recorded: PrometheusHandle) -> Router {
    Router::new().route("/metrics", get(async move || recorded.render()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn invented_methods_are_counted_as_one() {
        for method in ["BREW", "x", "get"] {
            assert_eq!(told(&Method::from_bytes(method.as_bytes()).unwrap()), "other");
        }
        assert_eq!(told(&Method::POST), "POST");
    }
}
