//! A channel that speaks the open interface over HTTP.

use std::sync::{Arc, OnceLock};
use std::time::Duration;

use async_trait::async_trait;
use backon::{ExponentialBuilder, Retryable};
use chrono::NaiveDate;
use futures::StreamExt;
use reqwest::{Client, Method, RequestBuilder, Response, StatusCode, Url, header};
use serde::Deserialize;
use serde::de::DeserializeOwned;

use super::reach::{LeadsInside, Reach};
use super::{ChannelError, Connection, Pieces, Sent};
use crate::wire::{
    Answer, Batch, Change, ChannelInfo, Clock, Draft, Estimate, Problem, ReportKind, Structure,
};

/// How long a channel is waited for.
#[derive(Clone, Copy, Debug)]
pub struct Patience {
    /// Until it is reached.
    pub connect: Duration,
    /// Until more of an answer comes.
    pub read: Duration,
    /// Until all of an answer has come, and of a report.
    pub whole: (Duration, Duration),
    /// How often a request is sent again after a passing trouble.
    pub retries: usize,
    /// Before the first of those; doubled each time, with jitter.
    pub pause: Duration,
    /// The longest `Retry-After` that is waited out; a longer one ends the request.
    pub longest: Duration,
}

impl Default for Patience {
    fn default() -> Self {
        Self {
            connect: Duration::from_secs(5),
            read: Duration::from_secs(30),
            whole: (Duration::from_mins(3), Duration::from_hours(1)),
            retries: 4,
            pause: Duration::from_millis(250),
            longest: Duration::from_secs(20),
        }
    }
}

/// A connection over HTTP.
#[derive(Clone, Debug)]
pub struct HttpConnection {
    client: Client,
    base: Url,
    channel: String,
    token: String,
    patience: Patience,
}

impl HttpConnection {
    /// For an account at a channel: address of the interface, name of the channel, token of the account.
    pub fn new(
        base: &str,
        channel: &str,
        token: &str,
        patience: Patience,
        reach: &Reach,
    ) -> Result<Self, ChannelError> {
        // reqwest leaves the choice of the cryptography to the program; the database client uses the same.
        static RING: OnceLock<()> = OnceLock::new();
        RING.get_or_init(|| {
            rustls::crypto::ring::default_provider().install_default().ok();
        });
        let address = || ChannelError::Address(base.to_owned());
        let base: Url = base.parse().map_err(|_| address())?;
        if !matches!(base.scheme(), "http" | "https") || base.cannot_be_a_base() {
            return Err(address());
        }
        reach.check(&base)?;
        let client = Client::builder()
            .dns_resolver(Arc::new(reach.clone()))
            // Another would look names up for us, and reach what we may not.
            .no_proxy()
            .connect_timeout(patience.connect)
            .read_timeout(patience.read)
            // An address that leads elsewhere is another address.
            .redirect(reqwest::redirect::Policy::none())
            .user_agent(concat!("gold-tiller/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|e| ChannelError::Unreachable(e.to_string()))?;
        Ok(Self { client, base, channel: channel.to_owned(), token: token.to_owned(), patience })
    }

    fn request(&self, method: Method, path: &[&str]) -> Result<RequestBuilder, ChannelError> {
        let mut url = self.base.clone();
        url.path_segments_mut()
            .map_err(|()| ChannelError::Address(self.base.to_string()))?
            .pop_if_empty()
            .extend(path);
        Ok(self.client.request(method, url).bearer_auth(&self.token))
    }

    /// Sends a request, again after a passing trouble: only requests that may be made twice come here.
    async fn ask(&self, request: RequestBuilder) -> Result<Response, ChannelError> {
        let once = || async {
            let again = request
                .try_clone()
                .ok_or_else(|| ChannelError::Form("the request can’t be repeated".into()))?;
            judge(again.send().await.map_err(trouble)?).await
        };
        let pauses = ExponentialBuilder::default()
            .with_min_delay(self.patience.pause)
            .with_max_delay(self.patience.longest)
            .with_max_times(self.patience.retries)
            .with_jitter();
        let longest = self.patience.longest;
        once.retry(pauses)
            .when(ChannelError::passing)
            .adjust(move |error, pause| match error {
                ChannelError::TooMany(wait) if *wait > longest => None,
                ChannelError::TooMany(wait) => pause.map(|p| p.max(*wait)),
                _ => pause,
            })
            .notify(|error, pause| tracing::warn!(%error, ?pause, "the channel is asked again"))
            .await
    }

    async fn read<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T, ChannelError> {
        // An answer that breaks off is asked for again as a whole.
        for _ in 0..self.patience.retries {
            let again = request.try_clone().ok_or_else(no_copy)?;
            match whole(self.ask(again.timeout(self.patience.whole.0)).await?, LARGEST).await {
                Ok(bytes) => return form(&bytes),
                Err(error @ ChannelError::Cut(_)) => tracing::warn!(%error, "an answer broke off"),
                Err(error) => return Err(error),
            }
        }
        form(&whole(self.ask(request.timeout(self.patience.whole.0)).await?, LARGEST).await?)
    }
}

/// Bytes of an answer that is not a report: a structure of a hundred thousand items takes a third.
const LARGEST: usize = 64 << 20;
/// Letters of what a channel says that are shown.
const SAID: usize = 300;
/// Bytes of the reason of a refusal.
const REASON: usize = 64 << 10;

/// All of an answer, if it is not too large.
async fn whole(mut answer: Response, most: usize) -> Result<Vec<u8>, ChannelError> {
    let mut all = Vec::new();
    while let Some(piece) = answer.chunk().await.map_err(trouble)? {
        if all.len() + piece.len() > most {
            return Err(ChannelError::TooLarge(most));
        }
        all.extend_from_slice(&piece);
    }
    Ok(all)
}

/// What a channel says, as far as it is shown.
fn said(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(SAID).collect()
}

fn no_copy() -> ChannelError {
    ChannelError::Form("the request can’t be repeated".into())
}

fn form<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, ChannelError> {
    // Where, and nothing of what: whatever answers there may not be a channel.
    serde_json::from_slice(bytes).map_err(|e| {
        let what = if e.is_data() { "not of the interface’s form" } else { "not JSON" };
        ChannelError::Form(format!("{what}, line {}, column {}", e.line(), e.column()))
    })
}

/// What went wrong on the way.
fn trouble(error: reqwest::Error) -> ChannelError {
    if let Some(LeadsInside(host)) = inside(&error) {
        ChannelError::Inside(host.clone())
    } else if error.is_timeout() {
        ChannelError::TimeOut
    } else if error.is_body() || error.is_decode() {
        ChannelError::Cut(root(&error))
    } else {
        ChannelError::Unreachable(root(&error))
    }
}

/// Whether an error is that a name leads where a connection may not.
fn inside<'a>(error: &'a (dyn std::error::Error + 'static)) -> Option<&'a LeadsInside> {
    error.downcast_ref().or_else(|| inside(error.source()?))
}

/// The innermost reason: the outer ones repeat the address.
fn root(error: &dyn std::error::Error) -> String {
    error.source().map_or_else(|| error.to_string(), root)
}

/// What the channel says by its status.
async fn judge(answer: Response) -> Result<Response, ChannelError> {
    let status = answer.status();
    if status.is_success() {
        return Ok(answer);
    }
    Err(match status {
        StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN => ChannelError::Token,
        StatusCode::TOO_MANY_REQUESTS => {
            let seconds = answer
                .headers()
                .get(header::RETRY_AFTER)
                .and_then(|v| v.to_str().ok())
                .and_then(|v| v.trim().parse().ok());
            ChannelError::TooMany(Duration::from_secs(seconds.unwrap_or(1)))
        }
        s if s.is_server_error() => ChannelError::Unavailable(s.as_u16()),
        _ => {
            let told = whole(answer, REASON).await.ok();
            match told.and_then(|bytes| serde_json::from_slice::<Problem>(&bytes).ok()) {
                Some(p) => ChannelError::Refused { title: said(&p.title), detail: said(&p.detail) },
                None => ChannelError::Refused {
                    title: format!("status {}", status.as_u16()),
                    detail: String::new(),
                },
            }
        }
    })
}

#[derive(Deserialize)]
struct Today {
    last_day: NaiveDate,
}

#[async_trait]
impl Connection for HttpConnection {
    async fn channels(&self) -> Result<Vec<ChannelInfo>, ChannelError> {
        self.read(self.request(Method::GET, &["v1", "channels"])?).await
    }

    async fn structure(&self) -> Result<Structure, ChannelError> {
        let path = ["v1", "channels", &self.channel, "structure"];
        self.read(self.request(Method::GET, &path)?).await
    }

    async fn report(
        &self,
        kind: ReportKind,
        from: NaiveDate,
        to: NaiveDate,
    ) -> Result<Pieces, ChannelError> {
        let path = ["v1", "channels", &self.channel, "reports", kind.word()];
        let mut request = self.request(Method::GET, &path)?.build().map_err(trouble)?;
        request
            .url_mut()
            .query_pairs_mut()
            .append_pair("from", &from.to_string())
            .append_pair("to", &to.to_string());
        let request = RequestBuilder::from_parts(self.client.clone(), request);
        let request = request.timeout(self.patience.whole.1);
        let answer = self.ask(request).await?;
        Ok(answer.bytes_stream().map(|piece| piece.map_err(trouble)).boxed())
    }

    async fn send(&self, key: &str, batch: &Batch) -> Sent {
        let path = ["v1", "channels", &self.channel, "changes"];
        let request = match self.request(Method::POST, &path) {
            Ok(request) => request.header("Idempotency-Key", key).json(batch),
            Err(error) => return Sent::Refused(error),
        };
        match self.read::<Vec<Answer>>(request).await {
            Ok(answers) => {
                let answered = |c: &Change| answers.iter().any(|a| a.id == c.id);
                match batch.changes.iter().find(|c| !answered(c)) {
                    None => Sent::Answered(answers),
                    Some(c) => Sent::Unknown(ChannelError::Form(format!(
                        "it says nothing of change {}",
                        c.id
                    ))),
                }
            }
            // It took the batch, and nobody can read what it says.
            Err(error @ (ChannelError::Form(_) | ChannelError::TooLarge(_))) => {
                Sent::Unknown(error)
            }
            Err(error) if error.passing() => Sent::Unknown(error),
            Err(error) => Sent::Refused(error),
        }
    }

    async fn estimate(&self, draft: &Draft) -> Result<Estimate, ChannelError> {
        let path = ["v1", "channels", &self.channel, "estimate"];
        self.read(self.request(Method::POST, &path)?.json(draft)).await
    }

    async fn pass(&self, days: u16) -> Result<NaiveDate, ChannelError> {
        // Not asked again: the days might pass twice.
        let request = self.request(Method::POST, &["v1", "clock"])?.json(&Clock { days });
        let answer = judge(request.send().await.map_err(trouble)?).await?;
        let today: Today = form(&whole(answer, LARGEST).await?)?;
        Ok(today.last_day)
    }
}
