//! A campaign's week of hours (P6): what is set, what was counted, what that advises, in the account's clock or in
//! another.

use chrono::NaiveDate;
use chrono_tz::Tz;
use tiller_core::hours::{self as core, ALWAYS, Week};
use tiller_core::ids::{CampaignId, PersonId};
use tiller_core::setting::{Budget, Hours, Setting};
use tiller_core::week::WeekHour;
use tiller_core::{Tally, Window};
use tiller_store::{PgPool, splits};

use crate::account::settings::Settings;
use crate::book::Book;
use crate::tray::proposal::{Origin, Proposal};
use crate::{DeskError, tray};
use tiller_core::spot::Subject;

/// Settled days that hours are counted over: eight whole weeks.
const DAYS: u64 = 56;
/// Days ahead in which a change of clocks is told.
const AHEAD: u64 = 220;

/// A campaign's hours.
#[derive(Clone, Debug)]
pub struct View {
    /// The account's time zone.
    pub zone: Tz,
    /// The clock that the week is shown by.
    pub shown: Tz,
    /// Hours between the two now; whether they are whole.
    pub apart: (f64, bool),
    /// What is set, as that clock shows it this week.
    pub week: Week,
    /// What was counted by the same clock, with the money above target.
    pub counted: Vec<(WeekHour, Tally, Option<f64>)>,
    /// The days counted.
    pub window: Window,
    /// What the counts advise, by the same clock.
    pub advised: Option<Week>,
    /// Whether the channel takes no hours with the present budget.
    pub needs_lifetime: bool,
    /// Whether settings are known, so that hours can be sent.
    pub known: bool,
    /// The next day on which the account's clocks change: its hours, and those of them that run.
    pub clocks_change: Option<(NaiveDate, usize, usize)>,
}

fn zone(book: &Book) -> Tz {
    book.account.time_zone.parse().unwrap_or(Tz::UTC)
}

pub(crate) fn week_of(hours: Option<&Hours>) -> Week {
    hours.map_or(ALWAYS, |h| std::array::from_fn(|i| h.at(WeekHour::nth(i))))
}

/// A time zone by its name; the account's where none is named.
pub fn read_zone(book: &Book, name: Option<&str>) -> Result<Tz, DeskError> {
    match name.map(str::trim).filter(|n| !n.is_empty()) {
        None => Ok(zone(book)),
        Some(name) => name.parse().map_err(|_| {
            DeskError::Invalid(format!("‘{name}’ is no time zone; write it like Europe/Copenhagen"))
        }),
    }
}

/// The days that hours are judged by, up to a settled one.
pub(crate) fn window(last: NaiveDate) -> Window {
    Window::ending(last, DAYS)
}

/// Looks at a campaign's hours by a clock.
pub async fn view(
    db: &PgPool,
    book: &Book,
    campaign: CampaignId,
    shown: Tz,
) -> Result<View, DeskError> {
    let entry = book.entry(campaign)?;
    let settings = Settings::of_book(db, book).await?;
    let set = settings.campaign(campaign);
    let zone = zone(book);
    let today = book.span.to();
    let present = week_of(set.and_then(|s| s.hours.as_ref()));
    let window = window(book.last_settled());
    let counted = splits::week(db, book.account.id, Some(campaign), window).await?;
    let advised =
        entry.target.and_then(|t| core::advised(&present, &counted, entry.rules(t, window)));
    let seen = |week: &Week| core::seen_from(week, zone, shown, today);
    let lifetime = matches!(set.and_then(|s| s.budget), Some(Budget::Lifetime { .. }));
    let clocks_change = (1..AHEAD)
        .map(|n| tiller_core::window::later(today, n))
        .map(|day| (day, core::of_day(day, zone).len(), core::running(&present, day, zone)))
        .find(|(_, hours, _)| *hours != 24);
    Ok(View {
        zone,
        shown,
        apart: core::between(zone, shown, today).unwrap_or((0.0, true)),
        week: seen(&present),
        counted: moved(&counted, zone, shown, today)
            .into_iter()
            .map(|(at, t)| (at, t, entry.target.map(|target| target.excess(&t))))
            .collect(),
        window,
        advised: advised.as_ref().map(seen),
        needs_lifetime: !lifetime && settings.limits(campaign).hours_need_lifetime,
        known: set.is_some(),
        clocks_change,
    })
}

/// Counted hours by another clock.
fn moved(
    counted: &[(WeekHour, Tally)],
    zone: Tz,
    shown: Tz,
    today: NaiveDate,
) -> Vec<(WeekHour, Tally)> {
    let by = core::between(zone, shown, today).map_or(0.0, |(hours, _)| hours).floor() as i64;
    let mut all: Vec<_> = counted.iter().map(|(at, t)| (at.later(by), *t)).collect();
    all.sort_by_key(|(at, _)| *at);
    all
}

/// Puts a week of hours in the tray, as it was set by a clock.
pub async fn set(
    db: &PgPool,
    book: &Book,
    person: PersonId,
    campaign: CampaignId,
    week: &Week,
    shown: Tz,
    reason: &str,
) -> Result<usize, DeskError> {
    let view = view(db, book, campaign, shown).await?;
    if !view.apart.1 {
        return Err(DeskError::Invalid(
            "the two clocks are not whole hours apart; set the hours by the account’s clock".into(),
        ));
    }
    let there = core::seen_from(week, shown, view.zone, book.span.to());
    let always = there == ALWAYS;
    if view.needs_lifetime && !always {
        return Err(DeskError::Invalid(
            "this channel takes hours with a lifetime budget only; change the budget to one under Days and lifts first".into(),
        ));
    }
    let hours = if always {
        None
    } else {
        Some(Hours::new(there.to_vec()).map_err(|e| DeskError::Invalid(e.to_string()))?)
    };
    let proposal =
        Proposal::new(Subject::Campaign(campaign), Setting::Hours(hours), Origin::Hand, reason);
    tray::propose(db, &book.account, person, vec![proposal]).await
}
