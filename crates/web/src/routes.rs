//! All routes, as a table of contents.

use axum::Router;
use axum::extract::{DefaultBodyLimit, Request};
use axum::middleware::{Next, from_fn, from_fn_with_state};
use axum::response::Response;
use axum::routing::{get, post};
use tiller_desk::numerals;
use tower::ServiceBuilder;
use tower_http::catch_panic::CatchPanicLayer;
use tower_http::compression::CompressionLayer;
use tower_http::csrf::CsrfLayer;
use tower_http::request_id::{MakeRequestUuid, PropagateRequestIdLayer, SetRequestIdLayer};
use tower_http::trace::TraceLayer;
use tracing::Instrument;

use crate::pages::{
    adjustments, advice, bids, budgets, causes, channels, curve, estimate, findings, flight,
    health, hours, lines, logbook, measure, pace, pace_working, peers, plan, pool, reports, rules,
    score, shared, sign_in, spend, split, strategies, strategy_table, targets, today, tray, views,
    volume, working,
};
use crate::{App, assets, error, hosts, limits, metrics, security, session};

/// The whole program as a service.
pub fn router(app: App) -> Router {
    let account = Router::new()
        .route("/", get(today::home))
        .route("/today", get(today::show))
        .route("/today/seen", post(today::seen))
        .route("/tray", get(tray::show))
        .route("/tray.csv", get(tray::csv))
        .route("/tray/send", post(tray::send))
        .route("/tray/withdraw", post(tray::withdraw))
        .route("/tray/edit", post(tray::edit))
        .route("/tray/remedy", post(tray::remedy))
        .route("/logbook", get(logbook::show))
        .route("/logbook.csv", get(logbook::csv))
        .route("/logbook.ics", get(logbook::calendar))
        .route("/logbook/how-right-we-were", get(score::show))
        .route("/logbook/how-right-we-were.csv", get(score::csv))
        .route("/logbook/{id}/undo", post(logbook::undo))
        .route("/logbook/own/{id}/undo", post(logbook::undo_own))
        .route("/logbook/{id}/again", post(logbook::again))
        .route("/logbook/looked", post(logbook::looked_at_untold))
        .route("/logbook/{id}/looked", post(logbook::looked))
        .route("/channels", get(channels::show).post(channels::connect))
        .route("/channels/{id}/fetch", post(channels::fetch))
        .route("/channels/{id}/remove", post(channels::remove))
        .route("/clock", post(channels::let_pass))
        .route("/fetching", get(channels::fetching))
        .route("/measure", get(measure::show).post(measure::choose_default))
        .route("/measure/campaigns/{id}", get(measure::campaign).post(measure::choose))
        .route("/spend", get(spend::show))
        .route("/spend.csv", get(spend::csv))
        .route("/spend/pace", get(pace::show))
        .route("/spend/pace.csv", get(pace::csv))
        .route("/spend/pace/working", get(pace_working::show))
        .route("/spend/pace/follow", post(pace::follow))
        .route("/spend/pace/month", post(pace::plan))
        .route("/spend/pace/tray", post(pace::take))
        .route("/views", post(views::save))
        .route("/views/remove", post(views::remove))
        .route("/spend/split", get(split::show))
        .route("/spend/split.csv", get(split::csv))
        .route("/working", get(working::show))
        .route("/targets", get(targets::show).post(targets::set_default))
        .route("/targets/lines", get(lines::show).post(lines::set))
        .route("/targets/purposes", post(targets::set_purposes))
        .route("/targets/{id}", get(targets::edit).post(targets::set_own))
        .route("/causes", get(causes::ranked))
        .route("/causes/campaigns/{id}", get(causes::campaign))
        .route("/causes/campaigns/{id}/tray", post(findings::take))
        .route("/causes/campaigns/{id}/seen", post(findings::seen))
        .route("/causes/campaigns/{id}/peers", get(peers::show).post(peers::set))
        .route("/causes/ad-groups/{id}", get(causes::ad_group))
        .route("/causes/items/{id}", get(causes::item))
        .route("/bids", get(bids::show))
        .route("/bids.csv", get(bids::csv))
        .route("/bids/edit", post(bids::edit))
        .route("/bids/adjustments", get(adjustments::show).post(adjustments::take))
        .route("/bids/estimate", get(estimate::show))
        .route("/bids/shared", get(shared::show))
        .route("/bids/strategies", get(strategies::list))
        .route("/bids/strategies/table", get(strategy_table::show).post(strategy_table::set))
        .route("/bids/campaigns/{id}/volume", get(volume::show))
        .route("/bids/campaigns/{id}/volume/tray", post(volume::take))
        .route("/bids/campaigns/{id}/volume/experiment", post(volume::experiment))
        .route("/bids/campaigns/{id}/steps", post(bids::steps))
        .route("/bids/campaigns/{id}/strategy", get(strategies::show).post(strategies::answer))
        .route("/bids/campaigns/{id}/strategy/tray", post(strategies::take))
        .route("/budgets", get(budgets::list).post(budgets::create))
        .route("/budgets/advice", post(advice::take))
        .route("/budgets/steps", post(budgets::step))
        .route("/budgets/new", get(budgets::choose))
        .route("/budgets/compare", get(budgets::compare))
        .route("/budgets/campaigns/{id}/flight", get(flight::show))
        .route("/budgets/campaigns/{id}/lift", post(flight::set_lift))
        .route("/budgets/campaigns/{id}/convert", post(flight::convert))
        .route("/budgets/campaigns/{id}/pool", get(pool::show).post(pool::take))
        .route("/budgets/campaigns/{id}/split", post(pool::take_split))
        .route("/budgets/campaigns/{id}/hours", get(hours::show).post(hours::set))
        .route("/budgets/courses/{id}/stop", post(flight::stop))
        .route("/budgets/campaigns/{id}/curve", get(curve::show))
        .route("/budgets/campaigns/{id}/experiment", post(curve::experiment))
        .route("/budgets/{id}", get(plan::show).post(plan::save))
        .route("/budgets/{id}/solve", post(plan::solve))
        .route("/budgets/{id}/working", post(plan::working::show))
        .route("/budgets/{id}/refresh", post(plan::refresh))
        .route("/budgets/{id}/tray", post(tray::plan))
        .route("/budgets/{id}/duplicate", post(budgets::duplicate))
        .route("/budgets/{id}/remove", post(budgets::remove))
        .route("/budgets/{id}/plan.csv", get(budgets::csv))
        .route("/budgets/{id}/plan.json", get(budgets::json))
        .route(
            "/reports",
            get(reports::list).post(reports::upload).layer(DefaultBodyLimit::disable()),
        )
        .route("/reports/{id}", get(reports::show).post(reports::start))
        .route("/reports/{id}/accept", post(reports::accept))
        .route("/reports/{id}/back", post(reports::columns))
        .route("/reports/{id}/drop", post(reports::drop_import))
        .route("/reports/{id}/undo", post(reports::undo))
        .route("/reports/{id}/errors.csv", get(reports::errors_csv))
        .merge(rule_pages());

    let pages = Router::new()
        .route("/", get(sign_in::home))
        .route("/sign-in", get(sign_in::show).post(sign_in::sign_in))
        .route("/sign-in/demo", post(sign_in::demo))
        .route("/sign-out", post(sign_in::sign_out))
        .nest("/accounts/{account}", account.layer(from_fn(one_account)))
        .layer(DefaultBodyLimit::max(limits::FORM))
        .layer(session::layer(app.db.clone(), app.https));

    pages
        .route("/assets/{*path}", get(assets::get))
        .route("/healthz", get(health::alive))
        .route("/readyz", get(health::ready))
        .fallback(error::no_such_page)
        .layer(
            ServiceBuilder::new()
                .layer(SetRequestIdLayer::x_request_id(MakeRequestUuid))
                .layer(TraceLayer::new_for_http().make_span_with(health::span))
                .layer(PropagateRequestIdLayer::x_request_id())
                .layer(from_fn(metrics::measure))
                .layer(from_fn_with_state(app.clone(), security::headers))
                .layer(from_fn_with_state(app.clone(), hosts::check))
                .layer(from_fn(error::for_programs))
                .layer(CatchPanicLayer::new())
                .layer(from_fn(limits::in_time))
                .layer(from_fn(to_its_end))
                .layer(CompressionLayer::new())
                .layer(CsrfLayer::new()),
        )
        .with_state(app)
}

/// The pages of rules.
fn rule_pages() -> Router<App> {
    Router::new()
        .route("/rules", get(rules::show).post(rules::begin::add))
        .route("/rules/stop", post(rules::stop))
        .route("/rules/new", get(rules::begin::show))
        .route("/rules/sets/{key}", get(rules::begin::set))
        .route("/rules/posture", get(rules::begin::posture))
        .route("/rules/file", post(rules::begin::import))
        .route("/rules/runs/{id}", get(rules::ran::show))
        .route("/rules/runs/{id}/run.csv", get(rules::ran::csv))
        .route("/rules/runs/{id}/undo", post(rules::ran::undo))
        .route("/rules/{id}", get(rules::rule::show).post(rules::rule::save))
        .route("/rules/{id}/rule.json", get(rules::rule::json))
        .route("/rules/{id}/try", post(rules::rule::try_out))
        .route("/rules/{id}/limits", post(rules::rule::set_limits))
        .route("/rules/{id}/switch", post(rules::rule::switch))
        .route("/rules/{id}/run", post(rules::rule::run))
        .route("/rules/{id}/rehearsal", get(rules::rehearsal::show).post(rules::rehearsal::apply))
}

/// What was sent is done to its end, even if the browser leaves: half of what belongs together would be worse than none.
async fn to_its_end(request: Request, next: Next) -> Response {
    if request.method().is_safe() {
        return next.run(request).await;
    }
    match tokio::spawn(next.run(request).in_current_span()).await {
        Ok(answer) => answer,
        Err(failed) => std::panic::resume_unwind(failed.into_panic()),
    }
}

/// Money is told in the coins of the account in the address.
async fn one_account(request: Request, next: Next) -> Response {
    numerals::of_one_account(next.run(request)).await
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use axum::body::Body;
    use tokio::sync::mpsc::unbounded_channel;
    use tokio::sync::{Notify, oneshot};
    use tower::ServiceExt;

    use super::*;

    /// The browser leaves while a form is being worked on; whether that is ended all the same.
    async fn ended_though_left(method: &str) -> bool {
        let (begun, mut has_begun) = unbounded_channel();
        let (ended, mut has_ended) = unbounded_channel();
        let go_on = Arc::new(Notify::new());
        let held = Arc::clone(&go_on);
        let work = move || async move {
            begun.send(()).unwrap();
            held.notified().await;
            ended.send(()).unwrap();
        };
        let router = Router::new().fallback(work).layer(from_fn(to_its_end));
        let request = Request::builder().method(method).uri("/").body(Body::empty()).unwrap();
        let (left, leaves) = oneshot::channel::<()>();
        let browser = tokio::spawn(async move {
            tokio::select! {
                _ = router.oneshot(request) => {}
                _ = leaves => {}
            }
        });
        has_begun.recv().await.unwrap();
        left.send(()).unwrap();
        browser.await.unwrap();
        go_on.notify_one();
        has_ended.recv().await.is_some()
    }

    #[tokio::test]
    async fn what_was_sent_is_done_though_the_browser_leaves() {
        assert!(ended_though_left("POST").await);
        assert!(!ended_though_left("GET").await, "a page that nobody reads is not made");
    }
}
