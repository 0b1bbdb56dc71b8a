//! What is answered where.

use std::collections::VecDeque;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use axum::body::Body;
use axum::extract::{FromRequestParts, Path as InPath, Query, Request, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header, request::Parts};
use axum::middleware::{Next, from_fn_with_state};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use tiller_channel::wire::{
    Answer, Batch, ChannelInfo, Clock, Draft, Estimate, Problem, Refusal, ReportKind, Structure,
};
use utoipa::openapi::security::{Http, HttpAuthScheme, SecurityScheme};
use utoipa::{Modify, OpenApi, ToSchema};

use super::faults::Faults;
use super::journal::{Answered, Journal, JournalError, Line};
use super::reports::{Wanted, body};
use crate::sim::Unknown;
use crate::{Market, World};

/// Changes that one batch may hold.
const MOST_CHANGES: usize = 500;
/// Items of a campaign that an estimate looks at.
const MOST_ITEMS: usize = 1000;

struct Inner {
    market: Arc<Market>,
    journal: Journal,
    faults: Faults,
    /// When changes were made lately, by account and channel.
    lately: VecDeque<(Instant, usize, String)>,
}

/// A market that answers.
#[derive(Clone)]
pub struct Service(Arc<Mutex<Inner>>);

impl Service {
    /// A market at the end of its history, or where its journal left it.
    pub fn open(
        world: World,
        ends: NaiveDate,
        journal: Option<&Path>,
    ) -> Result<Self, JournalError> {
        let (mut journal, lines, path) = match journal {
            Some(path) => {
                let (journal, lines) = Journal::open(path)?;
                (journal, lines, path.to_owned())
            }
            None => (Journal::default(), Vec::new(), std::path::PathBuf::new()),
        };
        let seed = world.seed;
        let ends = match lines.first() {
            Some(Line::Begin { seed: theirs, ends }) if *theirs == seed => *ends,
            Some(_) => return Err(JournalError::OtherWorld { path }),
            None => ends,
        };
        let mut market = Market::begin(Arc::new(world), ends);
        if lines.is_empty() {
            let begin = Line::Begin { seed, ends: market.ends };
            journal.write(&begin).map_err(|error| JournalError::File { path, error })?;
        }
        for line in lines {
            match line {
                Line::Begin { .. } => {}
                Line::Pass { days } => market.pass(u64::from(days)),
                Line::Batch(batch) => {
                    let made = batch.answers.iter().filter(|a| a.refused.is_none());
                    for answer in made {
                        if let Some(change) = batch.changes.iter().find(|c| c.id == answer.id) {
                            market.change(batch.account, &batch.channel, change);
                        }
                    }
                    journal.remember(batch);
                }
            }
        }
        Ok(Self(Arc::new(Mutex::new(Inner {
            market: Arc::new(market),
            journal,
            faults: Faults::default(),
            lately: VecDeque::new(),
        }))))
    }

    /// The interface as a service.
    pub fn router(&self) -> Router {
        Router::new()
            .route("/v1/channels", get(channels))
            .route("/v1/channels/{channel}/structure", get(structure))
            .route("/v1/channels/{channel}/reports/{kind}", get(report))
            .route("/v1/channels/{channel}/changes", axum::routing::post(changes))
            .route("/v1/channels/{channel}/estimate", axum::routing::post(estimate))
            .route("/v1/clock", get(clock).post(pass))
            .layer(from_fn_with_state(self.clone(), spoil))
            .route("/v1/faults", get(faults).put(set_faults))
            .route("/v1/openapi.json", get(async || Json(openapi())))
            .fallback(async || {
                wrong(StatusCode::NOT_FOUND, "there is nothing here", "see /v1/openapi.json")
            })
            .with_state(self.clone())
    }

    /// Answers on a listener until the other future ends.
    pub async fn serve(
        &self,
        listener: tokio::net::TcpListener,
        until: impl Future<Output = ()> + Send + 'static,
    ) -> std::io::Result<()> {
        axum::serve(listener, self.router()).with_graceful_shutdown(until).await
    }

    /// Switches faults on or off.
    pub fn set_faults(&self, faults: Faults) {
        self.lock().faults = faults;
    }

    /// The market as it stands.
    pub fn market(&self) -> Arc<Market> {
        Arc::clone(&self.lock().market)
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A request that is not answered.
#[derive(Debug)]
struct Wrong(Problem);

fn wrong(status: StatusCode, title: &str, detail: impl Into<String>) -> Wrong {
    Wrong(Problem { status: status.as_u16(), title: title.to_owned(), detail: detail.into() })
}

impl IntoResponse for Wrong {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::BAD_REQUEST);
        let mut answer = (status, Json(self.0)).into_response();
        let kind = HeaderValue::from_static("application/problem+json");
        answer.headers_mut().insert(header::CONTENT_TYPE, kind);
        if status == StatusCode::UNAUTHORIZED {
            answer
                .headers_mut()
                .insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
        }
        answer
    }
}

/// The account that the bearer of a token may speak for.
struct Bearer(usize);

impl FromRequestParts<Service> for Bearer {
    type Rejection = Wrong;

    async fn from_request_parts(parts: &mut Parts, service: &Service) -> Result<Self, Wrong> {
        let token = parts
            .headers
            .get(header::AUTHORIZATION)
            .and_then(|v| v.to_str().ok())
            .and_then(|v| v.strip_prefix("Bearer "));
        let market = service.market();
        token.and_then(|t| market.account_of(t.trim())).map(|a| Self(a.index)).ok_or_else(|| {
            wrong(
                StatusCode::UNAUTHORIZED,
                "the token opens no account",
                "send the header Authorization: Bearer with the account’s token",
            )
        })
    }
}

/// A channel of the bearer's account, by its name in the address.
fn known(market: &Market, account: usize, channel: &str) -> Result<(), Wrong> {
    if market.channels(&market.accounts[account]).contains(&channel) {
        return Ok(());
    }
    Err(wrong(
        StatusCode::NOT_FOUND,
        "the account has no such channel",
        "GET /v1/channels lists its channels",
    ))
}

/// Faults that meet any request.
async fn spoil(State(service): State<Service>, request: Request, next: Next) -> Response {
    let (wait, spoiled) = {
        let mut inner = service.lock();
        let faults = &mut inner.faults;
        let wait = faults.latency_ms;
        let spoiled = if Faults::take(&mut faults.too_many) {
            Some((StatusCode::TOO_MANY_REQUESTS, Some(faults.retry_after)))
        } else if Faults::take(&mut faults.unavailable) {
            Some((StatusCode::SERVICE_UNAVAILABLE, None))
        } else {
            None
        };
        (wait, spoiled)
    };
    tokio::time::sleep(Duration::from_millis(wait.into())).await;
    let Some((status, after)) = spoiled else { return next.run(request).await };
    let mut answer =
        wrong(status, "spoiled, as asked for", "try again; PUT /v1/faults ends it").into_response();
    if let Some(seconds) = after {
        answer.headers_mut().insert(header::RETRY_AFTER, seconds.into());
    }
    answer
}

/// The channels of the account.
#[utoipa::path(get, path = "/v1/channels", security(("bearer" = [])),
    responses((status = 200, body = Vec<ChannelInfo>), (status = 401, body = Problem)))]
async fn channels(
    Bearer(account): Bearer,
    State(service): State<Service>,
) -> Json<Vec<ChannelInfo>> {
    let market = service.market();
    let names = market.channels(&market.accounts[account]);
    Json(names.into_iter().map(|n| market.channel(n)).collect())
}

/// Everything of the account at a channel, with what is set.
#[utoipa::path(get, path = "/v1/channels/{channel}/structure", security(("bearer" = [])),
    params(("channel" = String, Path)),
    responses((status = 200, body = Structure), (status = 401, body = Problem), (status = 404, body = Problem)))]
async fn structure(
    Bearer(account): Bearer,
    State(service): State<Service>,
    InPath(channel): InPath<String>,
) -> Result<Json<Structure>, Wrong> {
    let market = service.market();
    known(&market, account, &channel)?;
    Ok(Json(market.structure(&market.accounts[account], &channel)))
}

#[derive(Debug, Deserialize)]
struct Span {
    /// First day.
    from: NaiveDate,
    /// Last day.
    to: NaiveDate,
}

/// A report of a channel as CSV, one of items, conversions, segments, terms, ads.
#[utoipa::path(get, path = "/v1/channels/{channel}/reports/{kind}", security(("bearer" = [])),
    params(("channel" = String, Path), ("kind" = ReportKind, Path),
        ("from" = NaiveDate, Query, description = "First day"), ("to" = NaiveDate, Query, description = "Last day")),
    responses((status = 200, content_type = "text/csv", body = String), (status = 400, body = Problem),
        (status = 401, body = Problem), (status = 404, body = Problem)))]
async fn report(
    Bearer(account): Bearer,
    State(service): State<Service>,
    InPath((channel, kind)): InPath<(String, String)>,
    span: Result<Query<Span>, axum::extract::rejection::QueryRejection>,
) -> Result<Response, Wrong> {
    let market = service.market();
    known(&market, account, &channel)?;
    let kind = ReportKind::ALL.into_iter().find(|k| k.word() == kind).ok_or_else(|| {
        let all = ReportKind::ALL.map(ReportKind::word).join(", ");
        wrong(StatusCode::NOT_FOUND, "there is no such report", format!("the reports are {all}"))
    })?;
    let bad = |detail: &str| wrong(StatusCode::BAD_REQUEST, "the days can’t be used", detail);
    let Query(span) = span.map_err(|_| bad("from and to are dates such as 2026-11-09"))?;
    if span.from > span.to || (span.to - span.from).num_days() > 1100 {
        return Err(bad("from comes before to, at most three years"));
    }
    let (cut, no_splits) = {
        let faults = &mut service.lock().faults;
        (Faults::take(&mut faults.cut_report), faults.no_splits)
    };
    let bare = no_splits && matches!(kind, ReportKind::Segments | ReportKind::Terms);
    let wanted = Wanted { account, channel, kind, from: span.from, to: span.to, cut, bare };
    let kind = [(header::CONTENT_TYPE, "text/csv; charset=utf-8")];
    Ok((kind, body(market, wanted)).into_response())
}

/// Makes changes, or says of each why not. A batch that comes again under its key is not made again.
#[utoipa::path(post, path = "/v1/channels/{channel}/changes", security(("bearer" = [])), request_body = Batch,
    params(("channel" = String, Path), ("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Vec<Answer>), (status = 400, body = Problem), (status = 401, body = Problem),
        (status = 404, body = Problem), (status = 409, body = Problem)))]
async fn changes(
    Bearer(account): Bearer,
    State(service): State<Service>,
    InPath(channel): InPath<String>,
    headers: HeaderMap,
    batch: Result<Json<Batch>, axum::extract::rejection::JsonRejection>,
) -> Result<Response, Wrong> {
    let bad = |detail: String| wrong(StatusCode::BAD_REQUEST, "the batch can’t be used", detail);
    let Json(batch) = batch.map_err(|e| bad(e.body_text()))?;
    let key = headers.get("idempotency-key").and_then(|v| v.to_str().ok()).unwrap_or_default();
    if key.is_empty() || key.len() > 200 {
        return Err(bad("send the header Idempotency-Key with 1 to 200 letters".into()));
    }
    if batch.changes.len() > MOST_CHANGES {
        return Err(bad(format!("at most {MOST_CHANGES} changes go into a batch")));
    }
    let mut inner = service.lock();
    known(&inner.market, account, &channel)?;
    let faults = &mut inner.faults;
    let lost = Faults::take(&mut faults.lost_answer);
    let garbled = Faults::take(&mut faults.garbled_answer);
    let short = Faults::take(&mut faults.short_answer);
    let mut answers = match inner.journal.answered(account, key) {
        Some(before) if before.changes == batch.changes && before.channel == channel => {
            before.answers.clone()
        }
        Some(_) => {
            return Err(wrong(
                StatusCode::CONFLICT,
                "the key was used for another batch",
                "take a new key for a new batch",
            ));
        }
        None => make(&mut inner, account, &channel, key, batch.changes)?,
    };
    if lost {
        // Made, but nobody learns of it: the connection breaks before the answer.
        let broken = Err::<String, _>(std::io::Error::other("cut, as asked for"));
        let body = futures::stream::once(std::future::ready(broken));
        return Ok(Body::from_stream(body).into_response());
    }
    if short {
        answers.pop();
    }
    if garbled {
        return Ok("<html>made, but not said, as asked for</html>".into_response());
    }
    Ok(Json(answers).into_response())
}

fn make(
    inner: &mut Inner,
    account: usize,
    channel: &str,
    key: &str,
    changes: Vec<tiller_channel::wire::Change>,
) -> Result<Vec<Answer>, Wrong> {
    let hour = Duration::from_hours(1);
    inner.lately.retain(|(at, _, _)| at.elapsed() < hour);
    let limit = inner.market.channel(channel).limits.changes_per_hour as usize;
    let half = Faults::take(&mut inner.faults.half_batch);
    let refused = |id: &str, why, message: &str| Answer {
        id: id.to_owned(),
        refused: Some(why),
        message: message.to_owned(),
    };
    let mut answers = Vec::with_capacity(changes.len());
    for (i, change) in changes.iter().enumerate() {
        let made = inner.lately.iter().filter(|(_, a, c)| *a == account && c == channel).count();
        let answer = if half && i >= changes.len().div_ceil(2) {
            refused(&change.id, Refusal::Unavailable, "the channel could not do it now; try again")
        } else if limit > 0 && made >= limit {
            let message = format!("{limit} changes an hour are the most; try again later");
            refused(&change.id, Refusal::TooMany, &message)
        } else {
            Arc::make_mut(&mut inner.market).change(account, channel, change)
        };
        if answer.refused.is_none() {
            inner.lately.push_back((Instant::now(), account, channel.to_owned()));
        }
        answers.push(answer);
    }
    let batch = Answered {
        account,
        channel: channel.to_owned(),
        key: key.to_owned(),
        changes,
        answers: answers.clone(),
    };
    keep(inner, Line::Batch(batch.clone()))?;
    inner.journal.remember(batch);
    Ok(answers)
}

fn keep(inner: &mut Inner, line: Line) -> Result<(), Wrong> {
    inner.journal.write(&line).map_err(|e| {
        wrong(StatusCode::INTERNAL_SERVER_ERROR, "the journal can’t be written", e.to_string())
    })
}

/// What a campaign would do that doesn't exist yet: ranges, as far as the channel knows.
#[utoipa::path(post, path = "/v1/channels/{channel}/estimate", security(("bearer" = [])), request_body = Draft,
    params(("channel" = String, Path)),
    responses((status = 200, body = Estimate), (status = 400, body = Problem), (status = 401, body = Problem),
        (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn estimate(
    Bearer(account): Bearer,
    State(service): State<Service>,
    InPath(channel): InPath<String>,
    draft: Result<Json<Draft>, axum::extract::rejection::JsonRejection>,
) -> Result<Json<Estimate>, Wrong> {
    let bad = |detail: String| wrong(StatusCode::BAD_REQUEST, "the campaign can’t be read", detail);
    let Json(draft) = draft.map_err(|e| bad(e.body_text()))?;
    if draft.items.len() > MOST_ITEMS {
        return Err(bad(format!("at most {MOST_ITEMS} items are looked at")));
    }
    let market = service.market();
    known(&market, account, &channel)?;
    let done = tokio::task::spawn_blocking(move || {
        market.estimate(&market.accounts[account], &channel, &draft)
    });
    let told = done.await.map_err(|e| {
        wrong(StatusCode::INTERNAL_SERVER_ERROR, "nothing could be worked out", e.to_string())
    })?;
    told.map(Json).map_err(|why| {
        let detail = match why {
            Unknown::Kind => "the channel has no demand of this kind; choose another kind",
            Unknown::Value => {
                "a budget above 0 is needed, and a bid above 0 where it is set by hand"
            }
            Unknown::People => "the channel knows no such people; leave them out",
        };
        wrong(StatusCode::UNPROCESSABLE_ENTITY, "nothing can be said of it", detail)
    })
}

/// The market's date.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Today {
    /// Last day that is over.
    pub last_day: NaiveDate,
}

/// The last day that is over.
#[utoipa::path(get, path = "/v1/clock", security(("bearer" = [])), responses((status = 200, body = Today)))]
async fn clock(_: Bearer, State(service): State<Service>) -> Json<Today> {
    Json(Today { last_day: service.market().today })
}

/// Lets days pass, for all accounts.
#[utoipa::path(post, path = "/v1/clock", security(("bearer" = [])), request_body = Clock,
    responses((status = 200, body = Today), (status = 400, body = Problem)))]
async fn pass(
    _: Bearer,
    State(service): State<Service>,
    clock: Result<Json<Clock>, axum::extract::rejection::JsonRejection>,
) -> Result<Json<Today>, Wrong> {
    let bad = |detail: String| wrong(StatusCode::BAD_REQUEST, "the days can’t be used", detail);
    let Json(Clock { days }) = clock.map_err(|e| bad(e.body_text()))?;
    if !(1..=31).contains(&days) {
        return Err(bad("let 1 to 31 days pass at a time".into()));
    }
    let passed = tokio::task::spawn_blocking(move || {
        let mut inner = service.lock();
        keep(&mut inner, Line::Pass { days })?;
        Arc::make_mut(&mut inner.market).pass(days.into());
        Ok(Today { last_day: inner.market.today })
    });
    passed
        .await
        .map_err(|e| {
            wrong(StatusCode::INTERNAL_SERVER_ERROR, "the days could not pass", e.to_string())
        })?
        .map(Json)
}

/// The faults that are switched on.
#[utoipa::path(get, path = "/v1/faults", responses((status = 200, body = Faults)))]
async fn faults(State(service): State<Service>) -> Json<Faults> {
    Json(service.lock().faults)
}

/// Switches faults on or off.
#[utoipa::path(put, path = "/v1/faults", request_body = Faults, responses((status = 200, body = Faults)))]
async fn set_faults(State(service): State<Service>, Json(faults): Json<Faults>) -> Json<Faults> {
    service.set_faults(faults);
    Json(faults)
}

struct Token;

impl Modify for Token {
    fn modify(&self, openapi: &mut utoipa::openapi::OpenApi) {
        let components = openapi.components.get_or_insert_default();
        let scheme = SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer));
        components.add_security_scheme("bearer", scheme);
    }
}

#[derive(OpenApi)]
#[openapi(
    info(title = "Channel interface", version = "1", description = "What a desk and an ad channel say to each other. Money in JSON is an integer of millionths of the account's currency; in reports it is in units."),
    paths(channels, structure, report, changes, estimate, clock, pass, faults, set_faults),
    modifiers(&Token)
)]
struct Interface;

/// The `OpenAPI` document.
pub fn openapi() -> utoipa::openapi::OpenApi {
    Interface::openapi()
}
