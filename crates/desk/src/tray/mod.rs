//! The change tray: what has been decided and not yet sent, with checks.

pub mod proposal;
pub mod sending;

use std::collections::HashMap;

use chrono::NaiveDate;
use tiller_core::Micros;
use tiller_core::ids::{AdGroupId, CampaignId, ChangeId, ItemId, PersonId};
use tiller_core::learning::{self, Moved};
use tiller_core::setting::{Budget, Limits, Setting, Status, Strategy, Thing};
pub use tiller_store::changes::State;
use tiller_store::changes::{self, Change, NewChange, Which};
use tiller_store::facts;
use tiller_store::people::Account;
use tiller_store::{PgPool, StoreError};

use crate::account::connections;
use crate::account::settings::Settings;
use crate::book::quiet::quiet_at;
use crate::book::{PRESENT_DAYS, Touch, touched};
use crate::numerals::{full_day, money, number, typed_number};
use crate::tray::proposal::{Adds, Origin, Proposal};
use crate::{DeskError, change_words as words};
use tiller_core::spot::Spot;
use tiller_core::spot::Subject;

fn items_of(subjects: impl Iterator<Item = Subject>) -> Vec<ItemId> {
    subjects
        .filter_map(|s| match s {
            Subject::Item(id) => Some(id),
            _ => None,
        })
        .collect()
}

/// Why a budget's flight can't be set on a day, if so: its end is over, or it begins on a day that is over and not
/// with the flight that runs already.
fn past_flight(was: Option<&Setting>, set: &Setting, today: NaiveDate) -> Option<String> {
    let Setting::Budget(Budget::Lifetime { starts, ends, .. }) = set else { return None };
    let runs =
        matches!(was, Some(Setting::Budget(Budget::Lifetime { starts: s, .. })) if s == starts);
    if *ends < today {
        Some(format!(
            "its flight ends on {}, which is over, and the campaign would stop; choose a last day from {} on",
            full_day(*ends),
            full_day(today)
        ))
    } else if *starts < today && !runs {
        Some(format!(
            "its flight begins on {}, which is over; choose a first day from {} on",
            full_day(*starts),
            full_day(today)
        ))
    } else {
        None
    }
}

/// Puts proposals in the tray; tells how many are new there.
pub async fn propose(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    proposals: Vec<Proposal>,
) -> Result<usize, DeskError> {
    Ok(put(db, account, person, proposals).await?.len())
}

/// Puts proposals in the tray; tells which are new there.
pub(crate) async fn put(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    proposals: Vec<Proposal>,
) -> Result<Vec<ChangeId>, DeskError> {
    let new = ready(db, account, proposals).await?;
    Ok(changes::add(db, account.id, person, &new).await?)
}

/// What goes to the tray, with what is set now; what is set like that already is left out.
pub(crate) async fn ready(
    db: &PgPool,
    account: &Account,
    proposals: Vec<Proposal>,
) -> Result<Vec<NewChange>, DeskError> {
    let items = items_of(proposals.iter().map(|p| p.subject));
    let settings = Settings::load(db, account, &items).await?;
    let present = facts::present_spend(db, account.id, PRESENT_DAYS.into()).await?;
    let today = connections::today(db, account).await?;
    let mut new = Vec::with_capacity(proposals.len());
    for mut p in proposals {
        p.set = p.set.map_money(|m| account.coins(m));
        let spot = settings.spot(p.subject).ok_or_else(unconnected)?;
        let was = settings.present(spot, &p.set);
        if was.is_none() && !matches!(p.set, Setting::Keyword { .. }) {
            return Err(DeskError::Invalid(format!(
                "{} can’t be set on {}",
                words::title(&p.set).to_lowercase(),
                settings.names(spot).unwrap_or_default()
            )));
        }
        if was.as_ref() == Some(&p.set) {
            continue;
        }
        if let Some(past) = past_flight(was.as_ref(), &p.set, today) {
            let place = settings.names(spot).unwrap_or_default();
            return Err(DeskError::Invalid(format!("{place}: {past}")));
        }
        new.push(NewChange {
            campaign: spot.campaign,
            ad_group: spot.ad_group,
            item: spot.item,
            place: settings.names(spot).unwrap_or_default(),
            a_day: a_day(&settings, spot, was.as_ref(), &p.set).get(),
            spend_a_day: p
                .adds
                .spend
                .or_else(|| expected(*present.get(&spot.campaign)?, was.as_ref(), &p.set))
                .map(|units| Micros::from_units(units).get()),
            setting: p.set.word().to_owned(),
            was: was.map(|w| json(&w)).transpose()?,
            set_to: json(&p.set)?,
            reason: p.reason,
            evidence: json(&p.evidence)?,
            effect: p.effect,
            origin: p.origin.word(),
            undoes: p.undoes,
        });
    }
    Ok(new)
}

fn unconnected() -> DeskError {
    DeskError::Invalid(
        "what is set there is not known, since its channel is not connected; connect the channel, or change it there by hand".into(),
    )
}

fn json(value: &impl serde::Serialize) -> Result<serde_json::Value, DeskError> {
    Ok(serde_json::to_value(value).map_err(StoreError::from)?)
}

/// Money that a change adds to a day's budgets.
fn a_day(settings: &Settings, spot: Spot, was: Option<&Setting>, set: &Setting) -> Micros {
    match (was, set) {
        (Some(Setting::Budget(a)), Setting::Budget(b)) => b.per_day() - a.per_day(),
        (Some(Setting::Status(a)), Setting::Status(b)) if spot.ad_group.is_none() => {
            let all = settings.campaign(spot.campaign).and_then(|c| c.budget);
            let budget = all.map_or(Micros::ZERO, Budget::per_day);
            match (*a == Status::Active, *b == Status::Active) {
                (true, false) => Micros::ZERO - budget,
                (false, true) => budget,
                _ => Micros::ZERO,
            }
        }
        _ => Micros::ZERO,
    }
}

/// What a change of a budget or a pause adds to what is spent, going by what its campaign spends now: a budget that
/// it does not use up buys nothing more.
fn expected(present: Micros, was: Option<&Setting>, set: &Setting) -> Option<f64> {
    let spend = present.to_units();
    match (was, set) {
        (Some(Setting::Budget(from)), Setting::Budget(to)) => {
            let (from, to) = (from.per_day().to_units(), to.per_day().to_units());
            let used_up = spend >= USED_UP * from;
            Some(if to < spend {
                to - spend
            } else if used_up {
                to - from
            } else {
                0.0
            })
        }
        (Some(Setting::Status(Status::Active)), Setting::Status(_)) => Some(-spend),
        _ => None,
    }
}

/// A budget of which so much is spent is used up.
const USED_UP: f64 = 0.95;

/// What can be set by hand on several things at once.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Edit {
    /// Their daily budgets.
    Budget,
    /// Their bids.
    Bid,
    /// The targets of their strategies.
    Target,
    /// The least a day that ad groups get of a pooled budget.
    Floor,
    /// The most a day that ad groups get of a pooled budget.
    Ceiling,
    /// Pause them.
    Pause,
    /// Let them run.
    Run,
}

impl Edit {
    /// All of them, with the word in forms and the title.
    pub const ALL: [(Self, &'static str, &'static str); 7] = [
        (Self::Budget, "budget", "daily budget"),
        (Self::Bid, "bid", "bid"),
        (Self::Target, "target", "target of the strategy"),
        (Self::Floor, "floor", "floor of the ad group"),
        (Self::Ceiling, "ceiling", "ceiling of the ad group"),
        (Self::Pause, "pause", "pause"),
        (Self::Run, "run", "resume"),
    ];

    /// By its word.
    pub fn read(word: &str) -> Option<Self> {
        Self::ALL.iter().find(|(_, w, _)| *w == word).map(|(e, _, _)| *e)
    }
}

/// Sets something by hand on several things: an amount, or `+10%` of what stands there.
pub async fn edit(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    subjects: &[Subject],
    edit: Edit,
    typed: &str,
    reason: &str,
) -> Result<usize, DeskError> {
    if subjects.is_empty() {
        return Err(DeskError::Invalid("choose at least one row first".into()));
    }
    let settings = Settings::load(db, account, &items_of(subjects.iter().copied())).await?;
    let reason = if reason.trim().is_empty() { "Set by hand." } else { reason.trim() };
    let mut proposals = Vec::with_capacity(subjects.len());
    for subject in subjects {
        let spot = settings.spot(*subject).ok_or_else(unconnected)?;
        let set = edited(&settings, spot, edit, typed).map_err(|why| {
            DeskError::Invalid(format!("{}: {why}", settings.names(spot).unwrap_or_default()))
        })?;
        proposals.push(Proposal {
            subject: *subject,
            set,
            reason: reason.to_owned(),
            evidence: Vec::new(),
            effect: String::new(),
            adds: Adds::default(),
            origin: Origin::Hand,
            undoes: None,
        });
    }
    propose(db, account, person, proposals).await
}

fn edited(settings: &Settings, spot: Spot, edit: Edit, typed: &str) -> Result<Setting, String> {
    let campaign = settings.campaign(spot.campaign).ok_or("its settings are not known")?;
    let amount = |base: Option<Micros>| -> Result<Micros, String> {
        let read = typed_number::amount(typed, base.map(Micros::to_units))?;
        let units = read.ok_or("type an amount, or a change such as +10%")?;
        let read = Micros::from_units(units);
        if read > Micros::ZERO && units < 1e9 {
            Ok(read)
        } else {
            Err("an amount above 0 is needed".into())
        }
    };
    let here = |kind: &Setting| settings.present(spot, kind);
    match edit {
        Edit::Pause => Ok(Setting::Status(Status::Paused)),
        Edit::Run => Ok(Setting::Status(Status::Active)),
        Edit::Budget => match here(&Setting::Budget(Budget::Daily { amount: Micros::ZERO })) {
            Some(Setting::Budget(Budget::Daily { amount: base })) => {
                Ok(Setting::Budget(Budget::Daily { amount: amount(Some(base))? }))
            }
            Some(Setting::Budget(Budget::Lifetime { amount: base, starts, ends })) => {
                Ok(Setting::Budget(Budget::Lifetime { amount: amount(Some(base))?, starts, ends }))
            }
            _ => Err("its budget is held elsewhere: by its campaign, or by its ad groups".into()),
        },
        Edit::Bid if campaign.strategy.automatic() => {
            Err("its strategy makes the bids; set the strategy’s target instead".into())
        }
        Edit::Bid => Ok(Setting::Bid(Some(amount(settings.bid(spot))?))),
        Edit::Target if spot.ad_group.is_some() => Err("targets are set on campaigns".into()),
        Edit::Target => match campaign.strategy {
            Strategy::TargetCpa { target } => {
                Ok(Setting::Strategy(Strategy::TargetCpa { target: amount(Some(target))? }))
            }
            Strategy::TargetRoas { target } => {
                let base = Micros::from_units(target);
                let target = amount(Some(base))?.to_units();
                Ok(Setting::Strategy(Strategy::TargetRoas { target }))
            }
            _ => Err("its strategy has no target".into()),
        },
        Edit::Floor | Edit::Ceiling => {
            let make = if edit == Edit::Floor { Setting::Floor } else { Setting::Ceiling };
            let Some(present) = here(&make(None)) else {
                return Err("floors and ceilings are set on ad groups".into());
            };
            if campaign.budget.is_none() {
                return Err(
                    "floors and ceilings divide a pooled budget; its campaign has none".into()
                );
            }
            let base = words::amount(&present).map(Micros::from_units);
            if typed.trim().is_empty() { Ok(make(None)) } else { Ok(make(Some(amount(base)?))) }
        }
    }
}

/// What is to be known before a change is sent.
#[derive(Clone, Debug, PartialEq)]
pub struct Check {
    /// It can't be sent like this.
    pub stops: bool,
    /// What is so, and what to do.
    pub text: String,
}

/// A change with its checks.
#[derive(Clone, Debug)]
pub struct Row {
    /// The change.
    pub change: Change,
    /// What was set.
    pub was: Option<Setting>,
    /// What shall be.
    pub set_to: Setting,
    /// Checks.
    pub checks: Vec<Check>,
    /// Whether its strategy will learn anew.
    pub learns_anew: bool,
}

/// Reads the settings of changes.
pub fn read(change: &Change) -> Result<(Option<Setting>, Setting), DeskError> {
    use serde::Deserialize;
    let was = change.was.as_ref().map(Setting::deserialize).transpose();
    let set_to = Setting::deserialize(&change.set_to);
    let both = was.and_then(|w| Ok((w, set_to?)));
    Ok(both.map_err(StoreError::from)?)
}

/// The spot of a change.
pub fn spot(change: &Change) -> Spot {
    Spot { campaign: change.campaign, ad_group: change.ad_group, item: change.item }
}

/// The tray, in order of arrival.
pub async fn rows(db: &PgPool, account: &Account) -> Result<Vec<Row>, DeskError> {
    check(db, account, changes::list(db, account.id, Which::Tray).await?).await
}

pub(crate) async fn check(
    db: &PgPool,
    account: &Account,
    all: Vec<Change>,
) -> Result<Vec<Row>, DeskError> {
    let items: Vec<ItemId> = all.iter().filter_map(|c| c.item).collect();
    let settings = Settings::load(db, account, &items).await?;
    let read_all: Vec<(Option<Setting>, Setting)> =
        all.iter().map(read).collect::<Result<_, _>>()?;
    let today = connections::today(db, account).await?;
    let made = touched::made(db, account, today.pred_opt().unwrap_or(today)).await?;
    let present = facts::present_spend(db, account.id, PRESENT_DAYS.into()).await?;
    let together = Together::of(&all, &read_all);
    let checks: Vec<(Vec<Check>, bool)> = (0..all.len())
        .map(|i| {
            let (was, set) = &read_all[i];
            let at = spot(&all[i]);
            let mut found = Vec::new();
            let moved = words::moved(was.as_ref(), set);
            let automatic = automatic(&settings, at, set);
            let learns_anew = learning::restarts(automatic, moved);
            if learns_anew {
                found.push(warn(format!(
                    "its strategy will go back to learning for about {} days, and costs may swing until then",
                    learning::DAYS
                )));
            }
            let at_once = match moved {
                Moved::Budget { from, to } if !automatic && at.ad_group.is_none() => {
                    let spend = present.get(&at.campaign).map_or(from, |s| s.to_units());
                    learning::shock(learning::used(from, to, spend), to)
                }
                Moved::Budget { from, to } | Moved::Target { from, to } => learning::shock(from, to),
                _ => None,
            };
            // What reads 20% is no more than 20%: what is spent changes from day to day.
            let more = |by: &f64| by.is_finite() && (100.0 * by.abs()).round() > 100.0 * learning::SHOCK;
            if let Some(by) = at_once.filter(more) {
                found.push(warn(format!(
                    "{} at once is a shock; more than {}% is better done in steps",
                    words::by(by),
                    number(100.0 * learning::SHOCK, 0)
                )));
            }
            found.extend(past_flight(was.as_ref(), set, today).map(stop));
            let touches = made.get(&at.campaign).map_or(&[][..], Vec::as_slice);
            found.extend(too_soon(touches, &all[i], set));
            found.extend(limits(settings.limits(at.campaign), set));
            found.extend(floors(&settings, at, set, &together));
            if together.things[&(at, set.thing())] > 1 {
                found.push(stop("another change in the tray sets the same thing; take one of them out"));
            }
            let now = settings.present(at, set);
            if all[i].state == State::Waiting && now.is_some() && now != *was {
                let now = now.as_ref().map(words::value).unwrap_or_default();
                found.push(stop(format!(
                    "it has been changed at the channel meanwhile and is {now} now; take this one out and decide again"
                )));
            }
            if settings.connection(at.campaign).is_none() {
                found.push(warn(
                    "its channel is not connected; it goes into a file, for somebody to set by hand",
                ));
            }
            (found, learns_anew)
        })
        .collect();
    Ok(all
        .into_iter()
        .zip(read_all)
        .zip(checks)
        .map(|((change, (was, set_to)), (checks, learns_anew))| Row {
            change,
            was,
            set_to,
            checks,
            learns_anew,
        })
        .collect())
}

fn warn(text: impl Into<String>) -> Check {
    Check { stops: false, text: text.into() }
}

fn stop(text: impl Into<String>) -> Check {
    Check { stops: true, text: text.into() }
}

/// What was changed there and waits for its look-back. The steps of a course follow each other on purpose, and what is
/// taken back needs no look.
fn too_soon(touches: &[Touch], change: &Change, set: &Setting) -> Option<Check> {
    if change.undoes.is_some() || change.origin == Origin::Course.word() {
        return None;
    }
    let quiet = quiet_at(touches, spot(change), set)?;
    Some(warn(format!(
        "{}; changed again before that day, neither change can be judged by itself",
        quiet.sentence()
    )))
}

/// Whether the campaign will be bid for by a strategy when the change is in force.
fn automatic(settings: &Settings, at: Spot, set: &Setting) -> bool {
    match set {
        Setting::Strategy(s) => s.automatic(),
        _ => settings.campaign(at.campaign).is_some_and(|c| c.strategy.automatic()),
    }
}

fn limits(limits: Limits, set: &Setting) -> Option<Check> {
    let (amount, least, what) = match set {
        Setting::Bid(Some(m)) | Setting::BidFloor(Some(m)) | Setting::BidCeiling(Some(m)) => {
            (*m, limits.least_bid, "bid")
        }
        Setting::Keyword { bid: Some(m), .. } => (*m, limits.least_bid, "bid"),
        Setting::Budget(b) => (b.per_day(), limits.least_budget, "budget a day"),
        _ => return None,
    };
    (amount < least).then(|| {
        stop(format!("the channel’s least {what} is {}; set no less", money(least.to_units())))
    })
}

/// What all changes of a tray set together.
struct Together<'a> {
    /// How many set one thing.
    things: HashMap<(Spot, Thing<'a>), usize>,
    /// The budget a day of each campaign that gets another.
    budgets: HashMap<CampaignId, Micros>,
    /// The floor of each ad group that gets another.
    floors: HashMap<AdGroupId, Option<Micros>>,
}

impl<'a> Together<'a> {
    fn of(all: &[Change], read_all: &'a [(Option<Setting>, Setting)]) -> Self {
        let (mut things, mut budgets, mut floors) =
            (HashMap::new(), HashMap::new(), HashMap::new());
        for (c, (_, set)) in all.iter().zip(read_all) {
            *things.entry((spot(c), set.thing())).or_default() += 1;
            match (set, c.ad_group) {
                (Setting::Budget(b), None) => drop(budgets.insert(c.campaign, b.per_day())),
                (Setting::Floor(f), Some(group)) => drop(floors.entry(group).or_insert(*f)),
                _ => {}
            }
        }
        Self { things, budgets, floors }
    }
}

/// Floors within a pooled budget, as all of the tray would leave them.
fn floors(settings: &Settings, at: Spot, set: &Setting, together: &Together) -> Option<Check> {
    if !matches!(set, Setting::Floor(_) | Setting::Budget(_))
        || (at.ad_group.is_some() && matches!(set, Setting::Budget(_)))
    {
        return None;
    }
    let budget = together
        .budgets
        .get(&at.campaign)
        .copied()
        .or_else(|| settings.campaign(at.campaign)?.budget.map(Budget::per_day))?;
    let floor = |id: AdGroupId, present: Option<Micros>| {
        together.floors.get(&id).copied().unwrap_or(present).unwrap_or_default()
    };
    let sum: Micros = settings.ad_groups_of(at.campaign).map(|(id, g)| floor(id, g.floor)).sum();
    (sum > budget).then(|| {
        stop(format!(
            "the ad groups’ floors add up to {}, the budget is {} a day; lower a floor or raise the budget",
            money(sum.to_units()),
            money(budget.to_units())
        ))
    })
}

/// Takes changes out of the tray, and with a first step its course.
pub async fn withdraw(db: &PgPool, account: &Account, ids: &[ChangeId]) -> Result<i64, DeskError> {
    Ok(changes::withdraw(db, account.id, ids, "its first step was taken out of the tray").await?)
}

/// What waits in the account.
pub async fn waiting(
    db: &PgPool,
    account: &Account,
    today: NaiveDate,
) -> Result<changes::Waiting, DeskError> {
    Ok(changes::waiting(db, account.id, today).await?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flight_that_is_over_is_refused() {
        let day = |d| NaiveDate::from_ymd_opt(2026, 11, d).unwrap();
        let flight = |from, to| {
            let amount = Micros::from_units(140.0);
            Setting::Budget(Budget::Lifetime { amount, starts: day(from), ends: day(to) })
        };
        let today = day(10);
        assert!(
            past_flight(None, &flight(1, 9), today)
                .unwrap()
                .contains("last day from 10 Nov 2026 on")
        );
        assert!(
            past_flight(None, &flight(9, 20), today)
                .unwrap()
                .contains("first day from 10 Nov 2026 on")
        );
        assert_eq!(past_flight(None, &flight(10, 10), today), None);
        assert_eq!(
            past_flight(Some(&flight(1, 12)), &flight(1, 20), today),
            None,
            "it runs already"
        );
        assert!(past_flight(Some(&flight(1, 12)), &flight(1, 9), today).is_some());
    }
}
