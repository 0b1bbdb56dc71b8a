//! Connections to channels, and how an account stands with them; the market's days may pass.

use chrono::{NaiveDate, Utc};
use chrono_tz::Tz;
use tiller_channel::connection::{ChannelError, Connection as _, HttpConnection, Patience};
use tiller_core::ids::ConnectionId;
use tiller_store::PgPool;
use tiller_store::changes;
pub use tiller_store::connections::State as JobState;
use tiller_store::connections::{self, Connection, Sync};
use tiller_store::people::Account;

use super::channels::Channels;
use crate::DeskError;
use crate::kept::{Kept, Stamp};

pub use tiller_store::changes::Waiting;
pub use tiller_store::connections::{Connection as ChannelConnection, Sync as SyncJob};

impl From<ChannelError> for DeskError {
    fn from(error: ChannelError) -> Self {
        Self::Invalid(error.to_string())
    }
}

/// Connects an account to every channel that a token opens at an address; tells their names.
pub async fn connect(
    db: &PgPool,
    channels: &Channels,
    account: &Account,
    base_url: &str,
    token: &str,
) -> Result<Vec<String>, DeskError> {
    let (base_url, token) = (base_url.trim().trim_end_matches('/'), token.trim());
    if token.is_empty() {
        return Err(DeskError::Invalid("enter the token that the channel gave you".into()));
    }
    let patience = Patience { retries: 1, ..Patience::default() };
    let at = |channel| HttpConnection::new(base_url, channel, token, patience, &channels.reach);
    let found = at("")?.channels().await?;
    let Some(first) = found.first() else {
        return Err(DeskError::Invalid(
            "this token opens no channel; ask the channel for another".into(),
        ));
    };
    let told = at(&first.name)?.structure().await?;
    if told.currency != account.currency {
        return Err(DeskError::Invalid(format!(
            "this token opens an account in {}; this account is in {}. Connect it to an account in {}",
            told.currency, account.currency, told.currency
        )));
    }
    let mut names = Vec::new();
    for channel in found {
        let sealed = channels.key.seal(account.id, token);
        let id = connections::save(db, account.id, &channel.name, base_url, &sealed).await?;
        connections::queue(db, account.id, id).await?;
        names.push(channel.name);
    }
    Ok(names)
}

/// Seals the tokens that stand plain, from before there were seals.
pub async fn seal_plain(db: &PgPool, channels: &Channels) -> Result<(), DeskError> {
    for (account, id, token) in connections::plain(db).await? {
        connections::sealed(db, account, id, &channels.key.seal(account, &token)).await?;
    }
    Ok(())
}

/// A connection with its latest job.
#[derive(Clone, Debug)]
pub struct View {
    /// The connection.
    pub connection: Connection,
    /// Its latest job.
    pub job: Option<Sync>,
}

/// The account's connections.
pub async fn list(db: &PgPool, account: &Account) -> Result<Vec<View>, DeskError> {
    let mut jobs = connections::latest_jobs(db, account.id).await?;
    let view = |connection: Connection| {
        let place = jobs.iter().position(|j| j.connection == connection.id);
        View { job: place.map(|p| jobs.swap_remove(p)), connection }
    };
    Ok(connections::list(db, account.id).await?.into_iter().map(view).collect())
}

/// Queues a job; none is added while one is open.
pub async fn fetch(db: &PgPool, account: &Account, id: ConnectionId) -> Result<(), DeskError> {
    one(db, account, id).await?;
    connections::queue(db, account.id, id).await?;
    Ok(())
}

/// Ends a connection; what was fetched stays.
pub async fn remove(db: &PgPool, account: &Account, id: ConnectionId) -> Result<(), DeskError> {
    one(db, account, id).await?;
    Ok(connections::remove(db, account.id, id).await?)
}

async fn one(db: &PgPool, account: &Account, id: ConnectionId) -> Result<Connection, DeskError> {
    let all = connections::list(db, account.id).await?;
    all.into_iter().find(|c| c.id == id).ok_or(DeskError::NotFound("connection"))
}

/// How an account stands, for the frame of every page.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Standing {
    /// Whether any channel is connected.
    pub connected: bool,
    /// Whether anything is being fetched, or waits for it.
    pub fetching: bool,
    /// The last day that is over at the channels.
    pub last_day: Option<NaiveDate>,
    /// The day that it is: the one after, or by the calendar where no channel is connected.
    pub today: NaiveDate,
    /// What waits.
    pub waiting: Waiting,
}

static VIEWS: Kept<(), Vec<View>> = Kept::new(50);
/// By the day.
static WAITING: Kept<NaiveDate, Waiting> = Kept::new(50);

/// How an account stands in a state.
pub async fn standing(
    db: &PgPool,
    account: &Account,
    stamp: &Stamp,
) -> Result<Standing, DeskError> {
    let all = VIEWS.get(stamp, (), || list(db, account)).await?;
    let last_day = all.iter().filter_map(|v| v.connection.last_day).max();
    let today = last_day.and_then(|d| d.succ_opt()).unwrap_or_else(|| calendar_day(account));
    let open = |v: &View| v.job.as_ref().is_some_and(|j| j.state.open());
    let count = async || Ok(changes::waiting(db, account.id, today).await?);
    Ok(Standing {
        connected: !all.is_empty(),
        fetching: all.iter().any(open),
        last_day,
        today,
        waiting: *WAITING.get(stamp, today, count).await?,
    })
}

/// The day that it is for an account.
pub async fn today(db: &PgPool, account: &Account) -> Result<NaiveDate, DeskError> {
    Ok(standing(db, account, &Stamp::read(db, account.id).await?).await?.today)
}

/// The day that it is where the account is.
fn calendar_day(account: &Account) -> NaiveDate {
    let zone: Tz = account.time_zone.parse().unwrap_or(Tz::UTC);
    Utc::now().with_timezone(&zone).date_naive()
}

/// Lets days pass at the stand-in market, and queues jobs for all that are connected to it.
pub async fn let_pass(
    db: &PgPool,
    channels: &Channels,
    account: &Account,
    days: u16,
) -> Result<NaiveDate, DeskError> {
    if !(1..=31).contains(&days) {
        return Err(DeskError::Invalid("let 1 to 31 days pass at a time".into()));
    }
    let all = connections::list(db, account.id).await?;
    let first = all.first().ok_or_else(|| {
        DeskError::Invalid("no channel is connected, so there is no clock to move".into())
    })?;
    let day = channels.open(first)?.pass(days).await?;
    for (account, id) in connections::at_address(db, &first.base_url).await? {
        tiller_store::rules::by_market_clock(db, account).await?;
        connections::queue(db, account, id).await?;
    }
    Ok(day)
}
