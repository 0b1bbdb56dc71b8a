//! Alarms: what stopped or broke and can't wait for a weekly look (S5), with its cause and where to act.

mod words;

pub use words::Page;

use std::collections::{HashMap, HashSet};

use chrono::{Datelike, Days, NaiveDate};
use tiller_channel::report::Status;
use tiller_channel::wire::{Budget, Pacing, Setting};
use tiller_core::alarm::{self, Jump, Noon, Stopped};
use tiller_core::flight::monthly_limit;
use tiller_core::{Target, Window};
use tiller_store::{CampaignId, PgPool, splits};

use crate::DeskError;
use crate::advice;
use crate::book::{Book, Entry};
use crate::connections::View;
use crate::settings::Settings;

/// Days before its end on which a flight is told of, and after it.
const FLIGHT_DAYS: i64 = 7;
/// A campaign that stopped longer ago than this is no news.
const STOPPED_DAYS: i64 = 14;
/// Days that tell whether money is gone by noon.
const NOON_DAYS: u64 = 3;
/// A month that runs out of money so few days before its end is none to be told of.
const FEW_DAYS: u32 = 3;
/// An alarm concerns at least this share of what the account spends.
const LEAST_SHARE: f64 = 0.01;
/// More of its auctions lost than this for want of bid is why a campaign stands still.
const MOST_AUCTIONS: f64 = 0.5;

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
    Cpc(f64, f64),
    /// Clicks a day.
    Clicks(f64, f64),
    /// The share of clicks that convert.
    Cvr(f64, f64),
    /// The value of an order.
    OrderValue(f64, f64),
}

impl Moved {
    fn ends(self) -> (f64, f64) {
        match self {
            Self::Budget(a, b)
            | Self::Cpc(a, b)
            | Self::Clicks(a, b)
            | Self::Cvr(a, b)
            | Self::OrderValue(a, b) => (a, b),
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
    pub quiet: Option<advice::Quiet>,
}

/// The alarms of an account today, the most money first.
pub async fn of_account(
    pool: &PgPool,
    book: &Book,
    settings: &Settings,
    connections: &[View],
    today: NaiveDate,
) -> Result<Vec<Alarm>, DeskError> {
    let window = Window::ending(book.span.to(), NOON_DAYS);
    let mut noons: HashMap<CampaignId, Vec<Noon>> = HashMap::new();
    for (campaign, day, before, spend) in splits::before_noon(pool, book.account.id, window).await?
    {
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
            of_campaign(book, e, settings, noon, last(e)?, today)
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

fn of_campaign(
    book: &Book,
    entry: &Entry,
    settings: &Settings,
    noon: &[Noon],
    last: NaiveDate,
    today: NaiveDate,
) -> Option<Alarm> {
    let id = entry.campaign.id;
    let touches = book.touched.get(&id).map_or(&[][..], Vec::as_slice);
    let quiet = advice::quiet(touches);
    let set = settings.campaign(id);
    let paused_here = touches.iter().any(|t| {
        t.spot.ad_group.is_none() && matches!(&t.set_to, Setting::Status(s) if *s != Status::Active)
    });
    let runs = set.is_none_or(|s| s.status == Status::Active)
        && entry.campaign.status.as_deref().is_none_or(|s| s == "active");
    let order = order_value(entry);
    let days: Vec<alarm::Day> = entry
        .days
        .iter()
        .map(|d| alarm::Day {
            day: d.day,
            spend: d.tally.spend.to_units(),
            clicks: d.tally.clicks as f64,
            results: match order {
                Some(order) => d.tally.value.to_units() / order,
                None => d.expected.map_or(d.tally.conversions, |e| e.mean),
            },
        })
        .collect();
    let limited = limited(entry);
    let a_day = |e: &Entry| e.tally(Window::ending(last, 7)).spend.to_units() / 7.0;
    let alarm = |what: What, worth: f64| Alarm {
        campaign: Some(id),
        name: entry.campaign.name.clone(),
        what,
        worth,
        quiet: quiet.clone(),
    };
    if let Some(ends) = flight_end(settings, id).filter(|_| runs) {
        // A new budget that waits says that somebody has thought of it.
        let cared_for = touches.iter().any(|t| t.waits() && matches!(t.set_to, Setting::Budget(_)));
        let left = (ends - today).num_days();
        if (-FLIGHT_DAYS..0).contains(&left) {
            return Some(alarm(What::FlightOver(ends), a_day(entry)));
        }
        if (0..FLIGHT_DAYS).contains(&left) && !cared_for {
            return Some(alarm(What::FlightEnds(ends), a_day(entry)));
        }
        if left < 0 {
            return None;
        }
    }
    if let Some(stop) = alarm::stopped(&days, last) {
        let old = (last - stop.since).num_days() >= STOPPED_DAYS;
        let told = !old && !paused_here && entry.campaign.status.as_deref() != Some("ended");
        // A month's last days without money are as agreed.
        let why = if limited.contains(&stop.since) { Why::Month } else { why(entry, runs, last) };
        let ends = why == Why::Month && days_left(last) < FEW_DAYS;
        return (told && !ends).then(|| alarm(What::Stopped(stop, why), stop.usual));
    }
    if !runs {
        return None;
    }
    if let Some(gone) = alarm::gone_by_noon(noon) {
        let fast = set.is_some_and(|s| s.pacing == Pacing::Fast);
        return Some(alarm(What::Noon { gone, of: noon.len(), fast }, a_day(entry)));
    }
    // What was changed on purpose is judged on its look-back, not before.
    if quiet.as_ref().is_some_and(|q| q.until.is_some()) {
        return None;
    }
    let account = |days: u64, to| book.total(Window::ending(to, days)).spend.to_units();
    let free: Vec<alarm::Day> =
        days.iter().filter(|d| !limited.contains(&d.day)).copied().collect();
    let jump = alarm::spend_jump(&free, last)
        .filter(|j| (j.now - j.usual).abs() * j.days as f64 >= LEAST_SHARE * account(j.days, j.to));
    if let Some(jump) = jump {
        return Some(alarm(
            What::Spend(jump, moved_spend(entry, &jump)),
            (jump.now - jump.usual).abs(),
        ));
    }
    let jump = alarm::cost_jump(&days, book.last_settled().min(last))?;
    let spent = entry.tally(Window::ending(jump.to, jump.days)).spend.to_units();
    let lost = spent * (1.0 - jump.usual / jump.now);
    let counts = lost >= LEAST_SHARE * account(jump.days, jump.to) && lost >= jump.usual;
    counts.then(|| {
        alarm(What::Cost(jump, moved_cost(entry, &jump, order), order), lost / jump.days as f64)
    })
}

/// Days on which the month had been charged nearly all it may be: 30.4 times its highest daily budget (common practice,
/// no source).
fn limited(entry: &Entry) -> HashSet<NaiveDate> {
    let (mut month, mut spent, mut highest) = ((0, 0), 0.0, 0.0f64);
    let mut days: Vec<_> = entry.days.iter().collect();
    days.sort_by_key(|d| d.day);
    days.into_iter()
        .filter(|d| {
            if month != (d.day.year(), d.day.month()) {
                (month, spent, highest) = ((d.day.year(), d.day.month()), 0.0, 0.0);
            }
            spent += d.tally.spend.to_units();
            highest = highest.max(d.budget.map_or(0.0, tiller_core::Micros::to_units));
            highest > 0.0 && spent >= 0.99 * monthly_limit(highest)
        })
        .map(|d| d.day)
        .collect()
}

/// Days of its month after a day.
fn days_left(day: NaiveDate) -> u32 {
    u32::from(day.num_days_in_month()).saturating_sub(day.day())
}

/// The usual value of an order, where the campaign is told by its ROAS.
fn order_value(entry: &Entry) -> Option<f64> {
    let Some(Target::Roas(_)) = entry.target else { return None };
    let all: tiller_core::Tally = entry.days.iter().map(|d| d.tally).sum();
    all.aov().filter(|a| *a > 0.0)
}

/// The last day of its money, where all of it is set for a flight.
fn flight_end(settings: &Settings, id: CampaignId) -> Option<NaiveDate> {
    let end = |b: Budget| match b {
        Budget::Lifetime { ends, .. } => Some(ends),
        Budget::Daily { .. } => None,
    };
    match settings.campaign(id)?.budget {
        Some(budget) => end(budget),
        None => {
            let groups = settings.ad_groups_of(id).filter(|(_, g)| g.status == Status::Active);
            let ends: Option<Vec<NaiveDate>> = groups.map(|(_, g)| end(g.budget?)).collect();
            ends?.into_iter().max()
        }
    }
}

fn why(entry: &Entry, runs: bool, last: NaiveDate) -> Why {
    if !runs {
        return Why::Paused;
    }
    let lately = last.checked_sub_days(Days::new(2)).unwrap_or(last);
    let lost = entry
        .days
        .iter()
        .filter(|d| d.day >= lately)
        .filter_map(|d| d.lost_to_bid)
        .reduce(f64::max);
    lost.filter(|l| *l >= MOST_AUCTIONS).map_or(Why::Unknown, Why::Bid)
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

/// The jump's days, and the four weeks before them.
fn before_and_since(jump: &Jump) -> (Window, Window) {
    let now = Window::ending(jump.to, jump.days);
    let before = now.from().pred_opt().unwrap_or(now.from());
    (Window::ending(before, 28), now)
}

fn most(of: impl IntoIterator<Item = Option<Moved>>) -> Option<Moved> {
    of.into_iter().flatten().max_by(|a, b| a.by().abs().total_cmp(&b.by().abs()))
}

fn moved_spend(entry: &Entry, jump: &Jump) -> Moved {
    let (before, now) = before_and_since(jump);
    let budget = |w: Window| {
        let all: Vec<f64> = entry
            .days
            .iter()
            .filter(|d| w.contains(d.day))
            .filter_map(|d| d.budget.map(tiller_core::Micros::to_units))
            .collect();
        (!all.is_empty()).then(|| all.iter().sum::<f64>() / all.len() as f64)
    };
    // Another budget explains another spend before anything else does.
    let budgets = budget(before).zip(budget(now)).map(|(a, b)| Moved::Budget(a, b));
    if let Some(moved) =
        budgets.filter(|m| m.by() * (jump.now / jump.usual).ln() > 0.0 && m.by().abs() > 0.1)
    {
        return moved;
    }
    let (a, b) = (entry.tally(before), entry.tally(now));
    let days = |w: Window| entry.reported(w).max(1) as f64;
    let clicks = Moved::Clicks(a.clicks as f64 / days(before), b.clicks as f64 / days(now));
    most([Some(clicks), a.cpc().zip(b.cpc()).map(|(a, b)| Moved::Cpc(a, b))]).unwrap_or(clicks)
}

fn moved_cost(entry: &Entry, jump: &Jump, order: Option<f64>) -> Moved {
    let (before, now) = before_and_since(jump);
    let (a, b) = (entry.tally(before), entry.tally(now));
    let cvr = Moved::Cvr(a.cvr().unwrap_or(0.0), b.cvr().unwrap_or(0.0));
    // No conversion at all is no logarithm, and the whole reason.
    if b.conversions <= 0.0 {
        return cvr;
    }
    let worse = |m: Moved| if matches!(m, Moved::Cpc(..)) { m.by() > 0.0 } else { m.by() < 0.0 };
    let cpc = a.cpc().zip(b.cpc()).map(|(a, b)| Moved::Cpc(a, b));
    let aov = order.and(a.aov().zip(b.aov()).map(|(a, b)| Moved::OrderValue(a, b)));
    most([Some(cvr), cpc, aov].map(|m| m.filter(|m| worse(*m)))).unwrap_or(cvr)
}
