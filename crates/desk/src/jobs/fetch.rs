//! Fetches: the structure of a channel, then the report of the days that may still change, by jobs of which one at a
//! time has the word.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use chrono::{Days, NaiveDate};
use tiller_channel::connection::{ChannelError, Connection as _};
use tiller_channel::report::guess;
use tiller_channel::wire::{Campaign, ReportKind, Structure};
use tiller_core::Window;
use tiller_core::setting::{ItemKind, MatchType};
use tiller_core::text::{self, TextError};
use tiller_store::connections::{self, Connection, End, Sync};
use tiller_store::facts;
use tiller_store::fault::{self, Point};
use tiller_store::imports::{self, Sender};
use tiller_store::merge::Merged;
use tiller_store::people::{self, Account};
use tiller_store::structure::{self, Told, ToldCampaign, ToldChannel, ToldGroup, ToldItem};
use tiller_store::{Kind, PgPool, StoreError, partitions};
use tracing::Instrument;

use super::caught::caught;
use super::{after, staging};
use crate::DeskError;
use crate::account::channels::Channels;
use crate::measure::reading::{self, Counters};
use crate::measure::reports;

/// A job with a passing trouble is tried so often before it fails.
const ATTEMPTS: i32 = 5;
/// Conversions may come in so many days after a click, where a channel does not say.
const USUAL_WINDOW: i16 = 30;
/// Splits are fetched for so many days before the last, the first time; later with what may have changed.
const SPLIT_DAYS: u64 = 89;

/// Runs the next job in the queue; false if there is none.
pub async fn run_next(db: &PgPool, channels: &Channels) -> Result<bool, DeskError> {
    let Some((sync, connection)) = connections::claim(db).await? else { return Ok(false) };
    fault::at(Point::FetchClaimed);
    let work = async {
        tokio::select! {
            fetched = fetch_all(db, channels, &sync, &connection) => fetched,
            // In whatever step it is, and however slow the channel: it lives.
            lost = heartbeat(db, &sync) => Err(lost.into()),
        }
    };
    let job = tracing::info_span!("fetch", id = sync.id.0, account = connection.account.0);
    let fetched = caught(work).instrument(job).await;
    let ended = match fetched {
        Ok(to) => {
            let ended = connections::end(db, &sync, End::Done(to)).await;
            fault::at(Point::FetchEnded);
            ended
        }
        Err(Trouble::Store(StoreError::Lost)) => Err(StoreError::Lost),
        Err(trouble) => {
            tracing::warn!(channel = connection.channel_name, %trouble, "a fetch did not succeed");
            let text = trouble.to_string();
            let again = trouble.passing() && sync.attempts < ATTEMPTS;
            let end = if again {
                End::Again(&text, 2f64.powi(sync.attempts).min(60.0))
            } else {
                End::Failed(&text)
            };
            connections::end(db, &sync, end).await
        }
    };
    match ended {
        // Another worker has it: what it does counts.
        Err(StoreError::Lost) => {
            tracing::warn!(channel = connection.channel_name, "a fetch was taken over by another");
            Ok(true)
        }
        other => other.map(|()| true).map_err(DeskError::from),
    }
}

/// Tells every few seconds that a job lives; ends when another worker has it.
async fn heartbeat(db: &PgPool, sync: &Sync) -> StoreError {
    let mut tick = tokio::time::interval(Duration::from_secs(5));
    loop {
        tick.tick().await;
        // A database that is away for a moment is noticed by what is under way.
        if let Err(StoreError::Lost) = connections::alive(db, sync).await {
            return StoreError::Lost;
        }
    }
}

#[derive(Debug, thiserror::Error)]
pub(super) enum Trouble {
    #[error(transparent)]
    Channel(#[from] ChannelError),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("{0}")]
    Report(String),
}

impl Trouble {
    fn passing(&self) -> bool {
        match self {
            Self::Channel(e) => e.passing(),
            Self::Store(e) => e.kind() == Kind::Passing,
            Self::Report(_) => false,
        }
    }
}

impl From<DeskError> for Trouble {
    fn from(error: DeskError) -> Self {
        match error {
            DeskError::Store(e) => Self::Store(e),
            other => Self::Report(other.to_string()),
        }
    }
}

/// Structure first, then the report of the days that may still change.
async fn fetch_all(
    db: &PgPool,
    channels: &Channels,
    sync: &Sync,
    c: &Connection,
) -> Result<NaiveDate, Trouble> {
    connections::progress(db, sync, "structure", 0, 0).await?;
    connections::drop_half_done(db, c.account, c.id).await?;
    let channel = channels.open(c)?;
    let told = channel.structure().await?;
    structure::save(db, c, &told_channel(&told)?).await?;
    fault::at(Point::StructureKept);
    let from = match c.fetched_to {
        Some(to) => {
            let open = c.window_days.unwrap_or(USUAL_WINDOW).max(0).unsigned_abs();
            let changing = told.last_day.checked_sub_days(Days::new(open.into()));
            changing.unwrap_or(to).min(to).max(told.first_day)
        }
        None => told.first_day,
    };
    connections::progress(db, sync, "report", 0, 0).await?;
    let account = account(db, c).await?;
    let name = format!("{}, fetched", c.channel_name);
    let pieces = channel.report(ReportKind::Items, from, told.last_day).await?;
    let id =
        arriving(db, sync, reports::upload(db, &account, Sender::Connection(c.id), &name, pieces))
            .await?;
    let counters = Arc::new(Counters::default());
    let split_from = match c.splits_to {
        Some(_) => from,
        None => told
            .last_day
            .checked_sub_days(Days::new(SPLIT_DAYS))
            .unwrap_or(from)
            .max(told.first_day),
    };
    let to_last =
        |from| Window::new(from, told.last_day).unwrap_or(Window::ending(told.last_day, 1));
    partitions::ensure(db, to_last(split_from).iter()).await?;
    staging::stage(db, sync, c, &channel, id, to_last(from), to_last(split_from)).await?;
    fault::at(Point::AllStaged);
    connections::progress(db, sync, "merge", 0, 0).await?;
    let merged = tokio::select! {
        merged = merge(db, &account, id, &counters) => merged?,
        never = beat(db, sync, "merge", &counters) => never?,
    };
    if let Merged::Decide(contents) = merged {
        let first = contents.errors.first().map_or(String::new(), |e| {
            format!(
                "; the first in line {}: {} is ‘{}’, expected {}",
                e.line, e.column, e.found, e.expected
            )
        });
        let count = contents.error_count;
        return Err(Trouble::Report(format!("the channel’s report has {count} errors{first}")));
    }
    fault::at(Point::FetchMerged);
    connections::forget_replaced(db, c.account, c.id).await?;
    fault::at(Point::ReplacedForgotten);
    if c.splits_to.is_none() {
        facts::learn_sizes(db).await?;
    }
    after::new_figures(db, &account, Some(c.id), told.last_day).await?;
    fault::at(Point::FetchFollowed);
    Ok(told.last_day)
}

/// Waits for a report to arrive. That it broke off is the channel's trouble, and passes.
async fn arriving<T>(
    db: &PgPool,
    sync: &Sync,
    upload: impl Future<Output = Result<T, DeskError>>,
) -> Result<T, Trouble> {
    let counters = Counters::default();
    let done = tokio::select! {
        done = upload => done,
        never = beat(db, sync, "report", &counters) => return never,
    };
    done.map_err(|e| match e {
        DeskError::BrokeOff(message) => Trouble::Channel(ChannelError::Cut(message)),
        other => other.into(),
    })
}

/// Tells that the job lives, for as long as it does.
async fn beat<T>(db: &PgPool, sync: &Sync, step: &str, c: &Counters) -> Result<T, Trouble> {
    let mut tick = tokio::time::interval(Duration::from_millis(500));
    loop {
        tick.tick().await;
        let (bytes, rows) = (c.bytes.load(Ordering::Relaxed), c.rows.load(Ordering::Relaxed));
        connections::progress(db, sync, step, bytes, rows).await?;
    }
}

async fn merge(
    db: &PgPool,
    account: &Account,
    id: tiller_core::ids::ImportId,
    counters: &Arc<Counters>,
) -> Result<Merged, Trouble> {
    let sample = imports::chunk(db, account.id, id, 0).await?.unwrap_or_default();
    let mapping = guess(&sample).map_err(|e| Trouble::Report(e.to_string()))?.mapping;
    mapping.check().map_err(|e| Trouble::Report(format!("the channel’s report: {e}")))?;
    let json = serde_json::to_value(&mapping).map_err(StoreError::from)?;
    let import = imports::run_now(db, account.id, id, &json)
        .await?
        .ok_or_else(|| Trouble::Report("the fetched report is gone".into()))?;
    Ok(reading::read(db, &import, counters, None, true).await?)
}

async fn account(db: &PgPool, c: &Connection) -> Result<Account, Trouble> {
    people::account(db, c.account)
        .await?
        .ok_or_else(|| Trouble::Report("the account is gone".into()))
}

fn told_channel(s: &Structure) -> Result<ToldChannel, Trouble> {
    let mut names: Vec<&str> = s.campaigns.iter().map(|c| c.name.as_str()).collect();
    names.sort_unstable();
    if let Some([twice, ..]) = names.windows(2).find(|w| w[0] == w[1]) {
        return Err(Trouble::Report(format!(
            "two campaigns are named ‘{twice}’; reports can’t tell them apart. Rename one at the channel"
        )));
    }
    let days = Window::new(s.first_day, s.last_day)
        .ok_or_else(|| ChannelError::Form("its last day comes before its first".into()))?;
    Ok(ToldChannel {
        limits: json(&s.channel.limits)?,
        days,
        window_days: s.window_days.try_into().unwrap_or(USUAL_WINDOW),
        campaigns: s.campaigns.iter().map(told_campaign).collect::<Result<_, _>>()?,
    })
}

/// A thing as a channel tells of it: its name without what can't be kept.
fn told(key: &str, name: &str, settings: &impl serde::Serialize) -> Result<Told, Trouble> {
    let name = name.replace(|c: char| c.is_control() && !c.is_whitespace(), "\u{fffd}");
    let wrong = |what: &str, of: &str, e: TextError| {
        let begins: String = of.chars().take(40).collect();
        Trouble::Report(format!("the channel’s {what} ‘{begins}…’ can’t be kept: {e}"))
    };
    text::lines(&name, text::NAME).map_err(|e| wrong("name", &name, e))?;
    text::line(key, text::KEY).map_err(|e| wrong("key", key, e))?;
    Ok(Told { key: key.to_owned(), name, settings: json(settings)? })
}

fn told_campaign(c: &Campaign) -> Result<ToldCampaign, Trouble> {
    let kinds: Vec<ItemKind> = c.ad_groups.iter().flat_map(|g| &g.items).map(|i| i.kind).collect();
    let most = kinds.iter().max_by_key(|k| kinds.iter().filter(|o| o == k).count());
    Ok(ToldCampaign {
        told: told(&c.key, &c.name, &c.settings)?,
        kind: most.copied().unwrap_or(ItemKind::Ad).word(),
        status: c.settings.status.word(),
        ad_groups: c
            .ad_groups
            .iter()
            .map(|g| {
                Ok(ToldGroup {
                    told: told(&g.key, &g.name, &g.settings)?,
                    items: g
                        .items
                        .iter()
                        .map(|i| {
                            Ok(ToldItem {
                                told: told(&i.key, &i.name, &i.settings)?,
                                kind: i.kind.word(),
                                match_type: i.match_type.map_or("", MatchType::word),
                            })
                        })
                        .collect::<Result<_, Trouble>>()?,
                })
            })
            .collect::<Result<_, Trouble>>()?,
    })
}

fn json(value: &impl serde::Serialize) -> Result<serde_json::Value, Trouble> {
    Ok(serde_json::to_value(value).map_err(StoreError::from)?)
}
