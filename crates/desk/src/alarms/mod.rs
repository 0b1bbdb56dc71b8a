//! Alarms: what stopped or broke and can't wait for a weekly look (S5), with its cause and where to act.

mod case;
mod words;

pub use words::Page;

use std::collections::HashMap;
use std::sync::Arc;
use tiller_core::Price;

use chrono::NaiveDate;
use tiller_core::Window;
use tiller_core::alarm::{Jump, Noon, Stopped};
use tiller_core::ids::CampaignId;
use tiller_store::{PgPool, splits};

use crate::DeskError;
use crate::account::connections::View;
use crate::account::settings::Settings;
use crate::book::quiet::Quiet;
use crate::book::{Book, Entry, Period};
use crate::kept::Kept;

use case::Case;

/// Days that tell whether money is gone by noon.
const NOON_DAYS: u64 = 3;

/// What is wrong.
#[derive(Clone, Debug, PartialEq)]
pub enum What {
    /// It spends nothing.
    Stopped(Stopped, Why),
    /// Its flight ends soon.
    FlightEnds(NaiveDate),
    /// Its flight is over, and it is still set to run.
    FlightOver(NaiveDate),
    /// Its money was gone at noon on so many of the last days, and whether it is spent as fast as possible.
    Noon {
        /// On so many days.
        gone: usize,
        /// Of so many.
        of: usize,
        /// Whether it is paced to be spent as fast as possible.
        fast: bool,
    },
    /// It spends otherwise than it did.
    Spend(Jump, Moved),
    /// Its conversions cost more than they did; the value of an order, where results are told by ROAS.
    Cost(Jump, Moved, Option<f64>),
}

/// Why a campaign stands still.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Why {
    /// It was paused at its channel.
    Paused,
    /// It loses this share of its auctions for want of bid.
    Bid(f64),
    /// The month has been charged all that it may be.
    Month,
    /// Its flight's sum is spent, with days left until this one.
    Flight(NaiveDate),
    /// All campaigns of its channel do.
    Channel,
    /// Nothing here tells.
    Unknown,
}

/// What moved most, from and to.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Moved {
    /// The daily budget.
    Budget(f64, f64),
    /// The price of a click.
    Cpc(Price, Price),
    /// Clicks a day.
    Clicks(f64, f64),
    /// The share of clicks that convert.
    Cvr(f64, f64),
    /// The value of an order.
    OrderValue(Price, Price),
}

impl Moved {
    fn ends(self) -> (f64, f64) {
        match self {
            Self::Budget(a, b) | Self::Clicks(a, b) | Self::Cvr(a, b) => (a, b),
            Self::Cpc(a, b) | Self::OrderValue(a, b) => (a.units(), b.units()),
        }
    }

    /// How far, as a logarithm.
    fn by(self) -> f64 {
        let (from, to) = self.ends();
        (to / from).ln()
    }
}

/// An alarm.
#[derive(Clone, Debug)]
pub struct Alarm {
    /// The campaign; none for a whole channel.
    pub campaign: Option<CampaignId>,
    /// Its name, or the channel's.
    pub name: String,
    /// What is wrong.
    pub what: What,
    /// Money a day that it concerns.
    pub worth: f64,
    /// What was changed there and is not to be judged yet.
    pub quiet: Option<Quiet>,
}

/// By the day.
static KEPT: Kept<(Period, NaiveDate), Vec<Alarm>> = Kept::new(24);

/// The alarms of an account today, the most money first.
pub async fn of_account(
    db: &PgPool,
    book: &Book,
    settings: &Settings,
    connections: &[View],
    today: NaiveDate,
) -> Result<Arc<Vec<Alarm>>, DeskError> {
    book.keep(&KEPT, today, || raise(db, book, settings, connections, today)).await
}

async fn raise(
    db: &PgPool,
    book: &Book,
    settings: &Settings,
    connections: &[View],
    today: NaiveDate,
) -> Result<Vec<Alarm>, DeskError> {
    let window = Window::ending(book.span.to(), NOON_DAYS);
    let mut noons: HashMap<CampaignId, Vec<Noon>> = HashMap::new();
    for (campaign, day, before, spend) in splits::before_noon(db, book.account.id, window).await? {
        let days = book.entry(campaign).map_or(&[][..], |e| &e.days[..]);
        let budget = days.iter().find(|d| d.day == day).and_then(|d| d.budget);
        noons.entry(campaign).or_default().push(Noon {
            before: before.to_units(),
            spend: spend.to_units(),
            budget: budget.map_or(0.0, tiller_core::Micros::to_units),
        });
    }
    let ends = reported(book, connections);
    let last = |e: &Entry| ends.get(e.campaign.channel.as_str()).copied();
    let mut all: Vec<Alarm> = book
        .entries
        .iter()
        .filter_map(|e| {
            let noon = noons.get(&e.campaign.id).map_or(&[][..], Vec::as_slice);
            Case::new(book, e, settings, last(e)?, today).alarm(noon)
        })
        .collect();
    whole_channels(book, &mut all);
    all.sort_by(|a, b| b.worth.total_cmp(&a.worth));
    Ok(all)
}

/// The last day that each channel told of: what has not been fetched is no standstill.
pub(crate) fn reported<'a>(book: &'a Book, connections: &[View]) -> HashMap<&'a str, NaiveDate> {
    let mut ends: HashMap<&str, NaiveDate> = HashMap::new();
    for e in &book.entries {
        if let Some(day) = e.days.iter().map(|d| d.day).max() {
            let end = ends.entry(&e.campaign.channel).or_insert(day);
            *end = (*end).max(day);
        }
    }
    for view in connections {
        let name = view.connection.channel_name.as_str();
        if let (Some(end), Some(to)) = (ends.get_mut(name), view.connection.fetched_to) {
            *end = to;
        }
    }
    ends
}

/// Where all campaigns of a channel that usually spend have stopped, that is one alarm.
fn whole_channels(book: &Book, all: &mut Vec<Alarm>) {
    let mut stopped: HashMap<&str, Vec<CampaignId>> = HashMap::new();
    for a in all.iter().filter(|a| matches!(a.what, What::Stopped(_, Why::Unknown | Why::Bid(_)))) {
        let entry = a.campaign.and_then(|id| book.entry(id).ok());
        if let (Some(e), Some(id)) = (entry, a.campaign) {
            stopped.entry(&e.campaign.channel).or_default().push(id);
        }
    }
    for (channel, ids) in stopped.into_iter().filter(|(_, ids)| ids.len() > 1) {
        let month = Window::ending(book.span.to(), 28);
        let spends = |e: &&Entry| e.campaign.channel == channel && e.tally(month).spend.get() > 0;
        if book.entries.iter().filter(spends).any(|e| !ids.contains(&e.campaign.id)) {
            continue;
        }
        let is_one = |a: &Alarm| a.campaign.is_some_and(|id| ids.contains(&id));
        let stops = all.iter().filter(|a| is_one(a)).filter_map(|a| match a.what {
            What::Stopped(stop, _) => Some(stop),
            _ => None,
        });
        let together =
            stops.reduce(|a, b| Stopped { since: a.since.max(b.since), usual: a.usual + b.usual });
        all.retain(|a| !is_one(a));
        all.extend(together.map(|stop| Alarm {
            campaign: None,
            name: channel.to_owned(),
            what: What::Stopped(stop, Why::Channel),
            worth: stop.usual,
            quiet: None,
        }));
    }
}
