//! One campaign, looked at for what can't wait: its flight first, then whether it spends at all, then how much and at
//! what cost. Each answers for those after it.

use std::collections::HashSet;
use tiller_core::{PerDay, Price};

use chrono::{Datelike, Days, NaiveDate};
use tiller_core::alarm::{self, Jump, Noon};
use tiller_core::ids::CampaignId;
use tiller_core::look_back::WINDOW_DAYS;
use tiller_core::setting::{Budget, CampaignSettings, Pacing, Setting, Status};
use tiller_core::{Micros, Target, Window};

use super::{Alarm, Moved, What, Why};
use crate::account::settings::Settings;
use crate::book::quiet::{Quiet, quiet};
use crate::book::{Book, Entry, Touch};

/// Days before its end on which a flight is told of, and after it.
const FLIGHT_DAYS: i64 = 7;
/// A campaign that stopped longer ago than this is no news. Who paused it here is known at least as long: until the
/// look-back.
const STOPPED_DAYS: i64 = WINDOW_DAYS as i64;
/// A month that runs out of money so few days before its end is none to be told of.
const FEW_DAYS: u32 = 3;
/// An alarm concerns at least this share of what the account spends.
const LEAST_SHARE: f64 = 0.01;
/// More of its auctions lost than this for want of bid is why a campaign stands still.
const MOST_AUCTIONS: f64 = 0.5;
/// A sum of which this much is spent is used up.
const USED_UP: f64 = 0.99;

/// What there is to know of a campaign.
pub(super) struct Case<'a> {
    book: &'a Book,
    entry: &'a Entry,
    set: Option<&'a CampaignSettings>,
    flight: Option<Flight>,
    touches: &'a [Touch],
    quiet: Option<Quiet>,
    /// Whether it is set to run, here and at its channel.
    runs: bool,
    /// The usual value of an order, where it is told by its ROAS.
    order: Option<f64>,
    days: Vec<alarm::Day>,
    /// Days on which its month had been charged nearly all that it may be.
    limited: HashSet<NaiveDate>,
    /// The last day that its channel told of.
    last: NaiveDate,
    today: NaiveDate,
}

/// What a look found: an alarm, or that all is well and nothing after it can be asked.
type Found = Option<Option<Alarm>>;

impl<'a> Case<'a> {
    pub(super) fn new(
        book: &'a Book,
        entry: &'a Entry,
        settings: &'a Settings,
        last: NaiveDate,
        today: NaiveDate,
    ) -> Self {
        let id = entry.campaign.id;
        let set = settings.campaign(id);
        let touches = book.touched.get(&id).map_or(&[][..], Vec::as_slice);
        let order = order_value(entry);
        Self {
            book,
            entry,
            set,
            flight: Flight::of(settings, id),
            touches,
            quiet: quiet(touches),
            runs: set.is_none_or(|s| s.status == Status::Active)
                && entry.campaign.status.as_deref().is_none_or(|s| s == "active"),
            order,
            days: days(entry, order),
            limited: limited(entry),
            last,
            today,
        }
    }

    /// What is wrong with it, if anything is.
    pub(super) fn alarm(&self, noon: &[Noon]) -> Option<Alarm> {
        self.flight()
            .or_else(|| self.stopped())
            .or_else(|| (!self.runs).then_some(None))
            .or_else(|| self.noon(noon).map(Some))
            // What was changed on purpose is judged on its look-back, not before.
            .or_else(|| self.quiet.as_ref().is_some_and(|q| q.until.is_some()).then_some(None))
            .or_else(|| self.spend().map(Some))
            .or_else(|| self.cost().map(Some))
            .flatten()
    }

    fn told(&self, what: What, worth: f64) -> Alarm {
        Alarm {
            campaign: Some(self.entry.campaign.id),
            name: self.entry.campaign.name.clone(),
            what,
            worth,
            quiet: self.quiet.clone(),
        }
    }

    fn spend_a_day(&self) -> f64 {
        self.entry.tally(Window::ending(self.last, 7)).spend.to_units() / 7.0
    }

    fn flight(&self) -> Found {
        let flight = self.flight.filter(|_| self.runs)?;
        // A new budget that waits says that somebody has thought of it.
        let cared_for =
            self.touches.iter().any(|t| t.waits() && matches!(t.set_to, Setting::Budget(_)));
        let left = (flight.ends - self.today).num_days();
        if (-FLIGHT_DAYS..0).contains(&left) {
            return Some(Some(self.told(What::FlightOver(flight.ends), self.spend_a_day())));
        }
        if (0..FLIGHT_DAYS).contains(&left) && !cared_for {
            return Some(Some(self.told(What::FlightEnds(flight.ends), self.spend_a_day())));
        }
        (left < 0 || flight.starts > self.last).then_some(None)
    }

    fn stopped(&self) -> Found {
        let stop = alarm::stopped(&self.days, self.last)?;
        let old = (self.last - stop.since).num_days() >= STOPPED_DAYS;
        let ended = self.entry.campaign.status.as_deref() == Some("ended");
        let why = self.why(stop.since);
        // A month's last days without money are as agreed.
        let month_ends = why == Why::Month && days_left(self.last) < FEW_DAYS;
        let told = !(old || ended || month_ends || self.paused_here());
        Some(told.then(|| self.told(What::Stopped(stop, why), stop.usual)))
    }

    fn paused_here(&self) -> bool {
        self.touches.iter().any(|t| {
            t.spot.ad_group.is_none()
                && matches!(&t.set_to, Setting::Status(s) if *s != Status::Active)
        })
    }

    fn why(&self, since: NaiveDate) -> Why {
        if self.limited.contains(&since) {
            return Why::Month;
        }
        if !self.runs {
            return Why::Paused;
        }
        if let Some(flight) = self.flight.filter(|f| f.used_up(self.entry)) {
            return Why::Flight(flight.ends);
        }
        let lately = self.last.checked_sub_days(Days::new(2)).unwrap_or(self.last);
        let days = self.entry.days.iter().filter(|d| d.day >= lately);
        let lost = days.filter_map(|d| Some(d.lost_to_bid?.get())).reduce(f64::max);
        lost.filter(|l| *l >= MOST_AUCTIONS).map_or(Why::Unknown, Why::Bid)
    }

    fn noon(&self, noon: &[Noon]) -> Option<Alarm> {
        let gone = alarm::gone_by_noon(noon)?;
        let fast = self.set.is_some_and(|s| s.pacing == Pacing::Fast);
        Some(self.told(What::Noon { gone, of: noon.len(), fast }, self.spend_a_day()))
    }

    fn spend(&self) -> Option<Alarm> {
        let free: Vec<alarm::Day> =
            self.days.iter().filter(|d| !self.limited.contains(&d.day)).copied().collect();
        let jump = alarm::spend_jump(&free, self.last)?;
        let by = (jump.now - jump.usual).abs();
        (by * jump.days as f64 >= self.least(&jump))
            .then(|| self.told(What::Spend(jump, moved_spend(self.entry, &jump)), by))
    }

    fn cost(&self) -> Option<Alarm> {
        let jump = alarm::cost_jump(&self.days, self.book.last_settled().min(self.last))?;
        let spent = self.entry.tally(Window::ending(jump.to, jump.days)).spend.to_units();
        let lost = spent * (1.0 - jump.usual / jump.now);
        let what = What::Cost(jump, moved_cost(self.entry, &jump, self.order), self.order);
        (lost >= self.least(&jump) && lost >= jump.usual)
            .then(|| self.told(what, lost / jump.days as f64))
    }

    /// The least money in a jump's days that is worth an alarm.
    fn least(&self, jump: &Jump) -> f64 {
        let account = self.book.total(Window::ending(jump.to, jump.days));
        LEAST_SHARE * account.spend.to_units()
    }
}

/// All of a campaign's money, where it is set for certain days.
#[derive(Clone, Copy)]
struct Flight {
    starts: NaiveDate,
    ends: NaiveDate,
    sum: Micros,
}

impl Flight {
    fn of(settings: &Settings, id: CampaignId) -> Option<Self> {
        let flight = |b: Budget| match b {
            Budget::Lifetime { amount: sum, starts, ends } => Some(Self { starts, ends, sum }),
            Budget::Daily { .. } => None,
        };
        match settings.campaign(id)?.budget {
            Some(budget) => flight(budget),
            None => {
                let groups = settings.ad_groups_of(id).filter(|(_, g)| g.status == Status::Active);
                let all: Option<Vec<Self>> = groups.map(|(_, g)| flight(g.budget?)).collect();
                all?.into_iter().reduce(|a, b| Self {
                    starts: a.starts.min(b.starts),
                    ends: a.ends.max(b.ends),
                    sum: a.sum + b.sum,
                })
            }
        }
    }

    fn used_up(self, entry: &Entry) -> bool {
        let Some(days) = Window::new(self.starts, self.ends) else { return false };
        entry.tally(days).spend.to_units() >= USED_UP * self.sum.to_units()
    }
}

fn days(entry: &Entry, order: Option<f64>) -> Vec<alarm::Day> {
    let day = |d: &tiller_store::facts::CampaignDay| alarm::Day {
        day: d.day,
        spend: d.tally.spend.to_units(),
        clicks: d.tally.clicks as f64,
        results: match order {
            Some(order) => d.tally.value.to_units() / order,
            None => d.expected.map_or(d.tally.conversions, |e| e.mean),
        },
    };
    entry.days.iter().map(day).collect()
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
            highest = highest.max(d.budget.map_or(0.0, Micros::to_units));
            highest > 0.0 && spent >= USED_UP * PerDay(highest).a_month()
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
    all.aov()?.positive().map(Price::units)
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
            .filter_map(|d| d.budget.map(Micros::to_units))
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
