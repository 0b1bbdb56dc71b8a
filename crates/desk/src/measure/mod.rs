//! Measure: is the right thing counted, how late does it come in, and what would another choice show?

pub mod reading;
pub mod reports;

use std::collections::HashMap;
use std::sync::Arc;

use chrono::{Days, NaiveDate};
use tiller_core::ids::{AccountId, CampaignId, PersonId};
use tiller_core::lag::{Completed, LEAST_CONVERSIONS, Open, RunOff};
use tiller_core::tracking::Finding;
use tiller_core::window::later;
use tiller_core::{Tally, Target, Window};
use tiller_store::PgPool;
use tiller_store::facts::{self, Estimate};
use tiller_store::people::Account;
use tiller_store::scores;
use tiller_store::splits::{self, Aged, EventTally};

use crate::DeskError;
use crate::account::decisions::{self, Own};
use crate::book::{Book, Entry, Period};
use crate::kept::{Kept, Stamp};

/// Click days that a run-off is learned from.
const HISTORY: u64 = 120;
/// A day is never held to settle later than this, however slowly conversions run off.
pub(crate) const LATEST: usize = 30;

/// By the last day.
static KEPT: Kept<NaiveDate, Option<Arc<Lag>>> = Kept::new(20);

/// How conversions of an account and its campaigns run off.
#[derive(Clone, Debug)]
pub struct Lag {
    /// Last reported day.
    pub last_day: NaiveDate,
    /// Of all campaigns together.
    pub account: RunOff,
    campaigns: HashMap<CampaignId, (RunOff, HashMap<NaiveDate, f64>)>,
    /// All counted conversions by click day.
    reported: HashMap<NaiveDate, f64>,
}

/// Conversions with the days on which they were reported, for the lag as it was on many evenings.
pub(crate) struct AsReported(Vec<Aged>);

impl AsReported {
    /// For evenings from one to another.
    pub async fn load(
        db: &PgPool,
        account: AccountId,
        first: NaiveDate,
        last: NaiveDate,
    ) -> Result<Self, DeskError> {
        let from = Window::ending(first, HISTORY).from();
        let window = Window::new(from, last).unwrap_or(Window::ending(last, HISTORY));
        Ok(Self(splits::aged(db, account, window).await?))
    }

    /// Of an evening: what came in later was not known.
    pub fn lag(&self, evening: NaiveDate) -> Option<Lag> {
        let window = Window::ending(evening, HISTORY);
        let known =
            |r: &&Aged| window.contains(r.day) && later(r.day, age(r.age) as u64) <= evening;
        let rows: Vec<Aged> = self.0.iter().filter(known).copied().collect();
        Lag::learn(&rows, window)
    }
}

impl Lag {
    /// Learns it; none where reports do not tell when conversions were reported.
    pub async fn load(
        db: &PgPool,
        account: AccountId,
        last_day: NaiveDate,
    ) -> Result<Option<Self>, DeskError> {
        Ok(AsReported::load(db, account, last_day, last_day).await?.lag(last_day))
    }

    fn learn(rows: &[Aged], window: Window) -> Option<Self> {
        let length = rows.iter().map(|r| age(r.age)).max()?;
        let first = rows.iter().map(|r| r.day).min()?.max(window.from());
        let window = Window::new(first, window.to())?;
        let mut of: HashMap<CampaignId, Vec<Aged>> = HashMap::new();
        for row in rows {
            of.entry(row.campaign).or_default().push(*row);
        }
        let fit = |rows: &[Aged]| RunOff::fit(&triangle(rows, window, length), length);
        let campaigns =
            of.iter().filter_map(|(id, rows)| Some((*id, (fit(rows)?, by_day(rows))))).collect();
        Some(Self { last_day: window.to(), account: fit(rows)?, campaigns, reported: by_day(rows) })
    }

    /// The same, kept for as long as the account's figures do not change.
    pub async fn of_account(
        db: &PgPool,
        account: AccountId,
        last_day: NaiveDate,
    ) -> Result<Option<Arc<Self>>, DeskError> {
        let stamp = Stamp::read(db, account).await?.of_figures();
        let learn = async || Ok(Self::load(db, account, last_day).await?.map(Arc::new));
        Ok(KEPT.get(&stamp, last_day, learn).await?.as_ref().clone())
    }

    /// A campaign's run-off, and whether it is borrowed from the account for want of conversions.
    pub fn of(&self, campaign: CampaignId) -> (&RunOff, bool) {
        match self.campaigns.get(&campaign) {
            Some((own, _)) if own.conversions >= LEAST_CONVERSIONS => (own, false),
            _ => (&self.account, true),
        }
    }

    /// Days after which most campaigns are settled: the middle one of those that tell, so that neither one
    /// that counts page views nor one that waits for weeks decides for all.
    pub fn settled_age(&self) -> usize {
        let own = self.campaigns.values().filter(|(own, _)| own.conversions >= LEAST_CONVERSIONS);
        let mut ages: Vec<usize> = own.map(|(own, _)| own.settled_age()).collect();
        ages.sort_unstable();
        ages.get(ages.len() / 2).copied().unwrap_or_else(|| self.account.settled_age())
    }

    /// Conversions that the click days of a window will have brought, of one campaign or of all.
    pub fn complete(&self, campaign: Option<CampaignId>, window: Window) -> Completed {
        let none = HashMap::new();
        let (run_off, reported) = match campaign {
            None => (&self.account, &self.reported),
            Some(id) => (self.of(id).0, self.campaigns.get(&id).map_or(&none, |(_, r)| r)),
        };
        let open: Vec<Open> = window
            .iter()
            .filter(|day| *day <= self.last_day)
            .map(|day| Open {
                age: (self.last_day - day).num_days().max(0).unsigned_abs() as usize,
                reported: reported.get(&day).copied().unwrap_or(0.0),
            })
            .collect();
        run_off.complete(&open)
    }

    /// What each campaign's open click days will have brought in the end, those with anything to go by.
    pub(crate) fn open(&self) -> Vec<(CampaignId, NaiveDate, Estimate)> {
        let days = |id: &CampaignId| {
            let id = *id;
            self.open_days(id).into_iter().map(move |(day, estimate)| (id, day, estimate))
        };
        self.campaigns.keys().flat_map(days).collect()
    }

    /// Of one campaign. Days share the error of what they are completed by: each carries so much of it that together they have the error
    /// of all of them.
    fn open_days(&self, id: CampaignId) -> Vec<(NaiveDate, Estimate)> {
        let ages = self.of(id).0.settled_age().min(LATEST) as u64;
        if ages == 0 {
            return Vec::new();
        }
        let open = Window::ending(self.last_day, ages);
        let each: Vec<(NaiveDate, Completed)> = open
            .iter()
            .map(|day| (day, self.complete(Some(id), Window::ending(day, 1))))
            .filter(|(_, c)| c.reported > 0.0)
            .collect();
        let apart = each.iter().map(|(_, c)| c.error.powi(2)).sum::<f64>().sqrt();
        let together = self.complete(Some(id), open).error;
        let shared = if apart > 0.0 { (together / apart).max(1.0) } else { 1.0 };
        let estimate = |c: Completed| Estimate { mean: c.conversions, error: c.error * shared };
        each.into_iter().map(|(day, c)| (day, estimate(c))).collect()
    }
}

fn age(days: i16) -> usize {
    usize::from(days.max(0).unsigned_abs())
}

fn by_day(rows: &[Aged]) -> HashMap<NaiveDate, f64> {
    let mut sums = HashMap::new();
    for row in rows {
        *sums.entry(row.day).or_default() += row.conversions;
    }
    sums
}

/// Click days in order, each with its conversions by the age that it has reached.
fn triangle(rows: &[Aged], window: Window, length: usize) -> Vec<Vec<f64>> {
    let mut days: Vec<Vec<f64>> = window
        .iter()
        .map(|day| {
            let reached = (window.to() - day).num_days().max(0).unsigned_abs() as usize;
            vec![0.0; reached.min(length) + 1]
        })
        .collect();
    for row in rows {
        let place = (row.day - window.from()).num_days();
        let cell = usize::try_from(place).ok().and_then(|p| days.get_mut(p));
        if let Some(cell) = cell.and_then(|d| d.get_mut(age(row.age))) {
            *cell += row.conversions;
        }
    }
    days
}

/// Writes down after how many days a click day of the account is settled now, and how those that are not will end.
pub(crate) async fn learn_lag(
    db: &PgPool,
    account: AccountId,
    last_day: NaiveDate,
) -> Result<(), DeskError> {
    if let Some(lag) = Lag::load(db, account, last_day).await? {
        let days = lag.settled_age().min(LATEST);
        splits::set_settle_days(db, account, i16::try_from(days).unwrap_or(2)).await?;
        facts::expect(db, account, &lag.open()).await?;
    }
    Ok(())
}

/// What tracking says of a campaign, with the money that it spoils.
#[derive(Clone, Debug)]
pub struct Spoiled<'a> {
    /// The campaign.
    pub entry: &'a Entry,
    /// What is wrong.
    pub findings: Vec<Finding>,
    /// Its spend in the period: money that nobody can judge.
    pub spend: f64,
}

/// Campaigns whose conversions can't be trusted, the most money first.
pub fn spoiled(book: &Book) -> Vec<Spoiled<'_>> {
    let mut all: Vec<Spoiled> = book
        .entries
        .iter()
        .map(|entry| Spoiled {
            entry,
            findings: book.findings(entry).to_vec(),
            spend: entry.tally(book.period.window).spend.to_units(),
        })
        .filter(|s| !s.findings.is_empty() && s.spend > 0.0)
        .collect();
    all.sort_by(|a, b| b.spend.total_cmp(&a.spend));
    all
}

/// An event of the account.
#[derive(Clone, Debug, PartialEq)]
pub struct Event {
    /// Its name.
    pub name: String,
    /// How many came in during the period.
    pub conversions: f64,
    /// Their value, in units of currency.
    pub value: f64,
    /// In how many campaigns.
    pub campaigns: usize,
    /// In how many of them it counts.
    pub counts_in: usize,
    /// Whether the channels count it of themselves.
    pub channel_counts: bool,
}

static EVENTS: Kept<(Period, ()), Vec<Event>> = Kept::new(24);

/// The account's events in the period, the most frequent first.
pub async fn events(db: &PgPool, book: &Book) -> Result<Arc<Vec<Event>>, DeskError> {
    book.keep(&EVENTS, (), || read_events(db, book)).await
}

async fn read_events(db: &PgPool, book: &Book) -> Result<Vec<Event>, DeskError> {
    let mut all: Vec<Event> = Vec::new();
    for e in splits::events(db, book.account.id, book.period.window).await? {
        let place = all.iter().position(|x| x.name == e.event).unwrap_or_else(|| {
            all.push(Event {
                name: e.event.clone(),
                conversions: 0.0,
                value: 0.0,
                campaigns: 0,
                counts_in: 0,
                channel_counts: false,
            });
            all.len() - 1
        });
        let event = &mut all[place];
        event.conversions += e.conversions;
        event.value += e.value.to_units();
        event.campaigns += 1;
        event.counts_in += usize::from(e.counts);
        event.channel_counts |= e.channel_counts;
    }
    all.sort_by(|a, b| b.conversions.total_cmp(&a.conversions).then_with(|| a.name.cmp(&b.name)));
    Ok(all)
}

/// A campaign's figures under a choice of events.
#[derive(Clone, Debug, PartialEq)]
pub struct Side {
    /// The events that count.
    pub events: Vec<String>,
    /// What was counted in the period.
    pub tally: Tally,
    /// Money above target.
    pub excess: Option<f64>,
}

/// What another choice would show, beside the present one.
#[derive(Clone, Debug)]
pub struct Preview {
    /// All events of the campaign in the period.
    pub events: Vec<EventTally>,
    /// As it counts now.
    pub before: Side,
    /// As it would.
    pub after: Side,
}

/// The events of one campaign, and its figures now and with other events counted; `chosen` is what would
/// count, none: what the account counts by default.
pub async fn preview(
    db: &PgPool,
    book: &Book,
    campaign: CampaignId,
    chosen: Option<&[String]>,
) -> Result<Preview, DeskError> {
    let entry = book.entry(campaign)?;
    let window = book.period.window;
    let mut events = splits::events(db, book.account.id, window).await?;
    events.retain(|e| e.campaign == campaign);
    let all = entry.tally(window);
    let after = |e: &EventTally| match (chosen, &book.account.counted_events) {
        (Some(chosen), _) => chosen.contains(&e.event),
        (None, Some(usual)) => usual.contains(&e.event),
        (None, None) => e.channel_counts,
    };
    let side = |counts: &dyn Fn(&EventTally) -> bool| {
        let counted: Vec<&EventTally> = events.iter().filter(|e| counts(e)).collect();
        let tally = Tally {
            conversions: counted.iter().map(|e| e.conversions).sum(),
            value: counted.iter().map(|e| e.value).fold(tiller_core::Micros::ZERO, |a, b| a + b),
            ..all
        };
        Side {
            events: counted.iter().map(|e| e.event.clone()).collect(),
            tally,
            excess: entry.target.map(|t: Target| t.excess(&tally)),
        }
    };
    let (before, after) = (side(&|e| e.counts), side(&after));
    Ok(Preview { events, before, after })
}

/// Changes what a campaign counts; none: it follows the account.
pub async fn choose(
    db: &PgPool,
    book: &Book,
    person: Option<PersonId>,
    campaign: CampaignId,
    events: Option<Vec<String>>,
) -> Result<(), DeskError> {
    book.entry(campaign)?;
    let own = Own::Events(events);
    decisions::decide(db, book.account.id, person, Some(campaign), &own).await?;
    scores::forget(db, book.account.id, Some(campaign)).await?;
    learn_lag(db, book.account.id, book.span.to()).await
}

/// Changes what the account counts by default, and how many days after a click.
pub async fn choose_default(
    db: &PgPool,
    book: &Book,
    person: Option<PersonId>,
    events: Option<Vec<String>>,
    click_window: Option<i16>,
) -> Result<(), DeskError> {
    for own in [Own::ClickWindow(click_window), Own::Events(events)] {
        decisions::decide(db, book.account.id, person, None, &own).await?;
    }
    scores::forget(db, book.account.id, None).await?;
    learn_lag(db, book.account.id, book.span.to()).await
}

/// Learns anew how conversions run off, after what counts was changed elsewhere.
pub async fn learn_lag_of(db: &PgPool, account: &Account) -> Result<(), DeskError> {
    scores::forget(db, account.id, None).await?;
    match facts::span(db, account.id).await? {
        Some(span) => learn_lag(db, account.id, span.to()).await,
        None => Ok(()),
    }
}

/// Days of the period that are not settled yet.
pub fn open_days(book: &Book) -> Option<Window> {
    let last = book.last_settled();
    let from = last.checked_add_days(Days::new(1))?;
    Window::new(from.max(book.span.from()), book.span.to())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(d: u32) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, 11, d).unwrap()
    }

    /// Twenty click days with 6, 3 and 1 conversions at ages 0, 1 and 2, as far as they have come.
    fn rows(campaign: i64, scale: f64) -> Vec<Aged> {
        let last = day(20);
        let mut all = Vec::new();
        for d in 1..=20 {
            for (age, n) in [(0, 6.0), (1, 3.0), (2, 1.0)] {
                if (last - day(d)).num_days() >= i64::from(age) {
                    let conversions = n * scale;
                    all.push(Aged {
                        campaign: CampaignId(campaign),
                        day: day(d),
                        age,
                        conversions,
                    });
                }
            }
        }
        all
    }

    /// Each open day carries so much of what days share that all of them together err as the run-off says.
    #[test]
    fn errors_of_open_days_add_up() {
        let mut all = rows(1, 1.0);
        // Not every day runs off alike.
        all.iter_mut()
            .filter(|r| r.age == 1 && r.day <= day(12))
            .for_each(|r| r.conversions *= 1.5);
        let lag = Lag::learn(&all, Window::ending(day(20), HISTORY)).unwrap();
        let open = lag.open_days(CampaignId(1));
        assert_eq!(open.len(), lag.of(CampaignId(1)).0.settled_age());
        let apart: f64 = open.iter().map(|(_, e)| e.error.powi(2)).sum::<f64>().sqrt();
        let days = Window::ending(day(20), open.len() as u64);
        let together = lag.complete(Some(CampaignId(1)), days).error;
        assert!(together > 0.0 && (apart - together).abs() < 1e-9, "{apart} {together}");
    }

    #[test]
    fn open_days_are_completed_and_thin_campaigns_borrow() {
        let mut all = rows(1, 1.0);
        all.extend(rows(2, 0.1));
        let window = Window::ending(day(20), HISTORY);
        let lag = Lag::learn(&all, window).unwrap();
        assert!((lag.account.maturity(0) - 0.6).abs() < 1e-12);
        assert_eq!((lag.account.settled_age(), lag.settled_age()), (2, 2));
        assert!(!lag.of(CampaignId(1)).1 && lag.of(CampaignId(2)).1);
        let last = Window::new(day(19), day(20)).unwrap();
        let one = lag.complete(Some(CampaignId(1)), last);
        assert!((one.reported - 15.0).abs() < 1e-9 && (one.conversions - 20.0).abs() < 1e-9);
        let both = lag.complete(None, last);
        assert!((both.conversions - 22.0).abs() < 1e-9);
        assert!(Lag::learn(&[], window).is_none());
    }
}
