//! The change tray: what has been decided and not yet sent, with checks.

pub mod check;
pub mod edit;
pub mod offer;
pub mod proposal;
pub mod sending;

use std::collections::HashMap;

use chrono::NaiveDate;
use tiller_core::Micros;
use tiller_core::course::Kind;
use tiller_core::ids::{CampaignId, ChangeId, ItemId, PersonId};
use tiller_core::setting::{Budget, Setting, Status};
use tiller_core::spot::{Spot, Subject};
pub use tiller_store::changes::State;
use tiller_store::changes::{self, Author, Change, Find, NewChange};
use tiller_store::people::Account;
use tiller_store::{PgPool, StoreError, facts};

use crate::account::connections;
use crate::account::settings::Settings;
use crate::book::PRESENT_DAYS;
pub use crate::tray::check::{Check, Row, read, spot};
pub use crate::tray::edit::{Edit, edit};
use crate::tray::proposal::Proposal;
use crate::{DeskError, change_words as words};

pub(crate) fn items_of(subjects: impl Iterator<Item = Subject>) -> Vec<ItemId> {
    subjects
        .filter_map(|s| match s {
            Subject::Item(id) => Some(id),
            _ => None,
        })
        .collect()
}

/// Puts proposals in the tray, decided by a person; tells how many are new there.
pub async fn propose(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    proposals: Vec<Proposal>,
) -> Result<usize, DeskError> {
    let new = ready(db, account, proposals).await?;
    Ok(changes::add(db, account.id, Author::Person(person), &new).await?.len())
}

/// The tray, in order of arrival.
pub async fn rows(db: &PgPool, account: &Account) -> Result<Vec<Row>, DeskError> {
    check::check(db, account, changes::list(db, account.id, &Find::tray()).await?).await
}

/// What goes to the tray, with what is set now; what is set like that already is left out.
pub(crate) async fn ready(
    db: &PgPool,
    account: &Account,
    proposals: Vec<Proposal>,
) -> Result<Vec<NewChange>, DeskError> {
    let (now, proposals) = Now::of(db, account, proposals).await?;
    proposals.into_iter().filter_map(|p| now.ready(p).transpose()).collect()
}

/// Puts those proposals in the tray that can be set; tells how many are new there.
pub(crate) async fn propose_possible(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    proposals: Vec<Proposal>,
) -> Result<usize, DeskError> {
    let (now, proposals) = Now::of(db, account, proposals).await?;
    let mut new = Vec::with_capacity(proposals.len());
    for proposal in proposals {
        match now.ready(proposal) {
            Ok(change) => new.extend(change),
            Err(DeskError::Invalid(_)) => {}
            Err(other) => return Err(other),
        }
    }
    Ok(changes::add(db, account.id, Author::Person(person), &new).await?.len())
}

/// What proposals are held against.
struct Now<'a> {
    account: &'a Account,
    settings: Settings,
    present: HashMap<CampaignId, facts::Present>,
    today: NaiveDate,
}

impl<'a> Now<'a> {
    async fn of(
        db: &PgPool,
        account: &'a Account,
        proposals: Vec<Proposal>,
    ) -> Result<(Self, Vec<Proposal>), DeskError> {
        let items = items_of(proposals.iter().map(|p| p.subject));
        let settings = Settings::of_account(db, account.id).await?.with_items(db, &items).await?;
        let present = facts::present(db, account.id, PRESENT_DAYS.into()).await?;
        let today = connections::today(db, account).await?;
        let proposals = proposals.into_iter().flat_map(Proposal::apart).collect();
        Ok((Self { account, settings, present, today }, proposals))
    }

    /// A proposal with what is set now; none where it is set like that already.
    fn ready(&self, mut p: Proposal) -> Result<Option<NewChange>, DeskError> {
        let settings = &self.settings;
        p.set = p.set.map_money(|m| self.account.coins(m));
        let spot = settings.spot(p.subject).ok_or_else(unconnected)?;
        let was = settings.present(spot, &p.set);
        let place = settings.names(spot).unwrap_or_default();
        if was.is_none() && !matches!(p.set, Setting::Keyword { .. }) {
            let title = words::title(&p.set).to_lowercase();
            return Err(DeskError::Invalid(format!("{title} can’t be set on {place}")));
        }
        if was.as_ref() == Some(&p.set) {
            return Ok(None);
        }
        if let Some(why) = settings.barred(spot, &p.set) {
            return Err(DeskError::Invalid(format!("{place}: {why}")));
        }
        if let Some(past) = check::past_flight(was.as_ref(), &p.set, self.today) {
            return Err(DeskError::Invalid(format!("{place}: {past}")));
        }
        let present = || Some(self.present.get(&spot.campaign)?.spend);
        let spends = p.adds.spend.or_else(|| expected(present()?, was.as_ref(), &p.set));
        Ok(Some(NewChange {
            campaign: spot.campaign,
            ad_group: spot.ad_group,
            item: spot.item,
            place,
            a_day: a_day(settings, spot, was.as_ref(), &p.set).get(),
            spend_a_day: spends.map(|units| Micros::from_units(units).get()),
            setting: p.set.word().to_owned(),
            told: words::sentence(was.as_ref(), &p.set),
            was: was.map(|w| json(&w)).transpose()?,
            set_to: json(&p.set)?,
            reason: p.reason,
            evidence: json(&p.evidence)?,
            effect: p.effect,
            origin: p.origin.word(),
            undoes: p.undoes,
        }))
    }
}

pub(crate) fn unconnected() -> DeskError {
    DeskError::Invalid(
        "what is set there is not known, since its channel is not connected; connect the channel, or change it there by hand".into(),
    )
}

pub(crate) fn json(value: &impl serde::Serialize) -> Result<serde_json::Value, DeskError> {
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

/// Takes changes out of the tray; the courses whose steps they are stop.
pub async fn withdraw(db: &PgPool, account: &Account, ids: &[ChangeId]) -> Result<i64, DeskError> {
    Ok(changes::withdraw(db, account.id, ids, "its step was taken out of the tray").await?)
}

/// Who put a change in the tray.
pub fn author(change: &Change) -> String {
    hand(change.author.as_deref(), change.course, change.rule.as_deref())
}

/// Who decides: a person, a course or a rule.
pub(crate) fn hand(person: Option<&str>, course: Option<Kind>, rule: Option<&str>) -> String {
    match (person, course, rule) {
        (Some(name), _, _) => name.to_owned(),
        (None, Some(kind), _) => format!("the {}", words::course(kind)),
        (None, None, Some(rule)) => format!("the rule ‘{rule}’"),
        (None, None, None) => "somebody who has left".into(),
    }
}

/// What waits in the account.
pub async fn waiting(
    db: &PgPool,
    account: &Account,
    today: NaiveDate,
) -> Result<changes::Waiting, DeskError> {
    Ok(changes::waiting(db, account.id, today).await?)
}
