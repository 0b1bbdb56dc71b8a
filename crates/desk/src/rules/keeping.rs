//! The account's rules: written, switched, stopped, undone.

use chrono::{DateTime, NaiveDate, Utc};
use chrono_tz::Tz;
use tiller_core::ids::{PersonId, RuleId, RunId};
use tiller_core::rule::Rule;
use tiller_store::people::Account;
use tiller_store::rules as store;
pub use tiller_store::rules::{Action, Kept, Lately, Mail, Ran, RunState, Standing, Version};
use tiller_store::{PgPool, StoreError};

use super::sentence::{Naming, Sentence};
use crate::tray;
use crate::{DeskError, book::Book, logbook};

/// A rule as it is kept.
#[derive(Clone, Debug)]
pub struct RuleKept {
    /// Its row.
    pub row: Kept,
    /// What it looks at and does.
    pub rule: Rule,
}

impl RuleKept {
    fn read(row: Kept) -> Result<Self, DeskError> {
        let rule = serde_json::from_value(row.body.clone()).map_err(StoreError::from)?;
        Ok(Self { row, rule })
    }
}

/// An account's rules.
pub async fn list(db: &PgPool, account: &Account) -> Result<Vec<RuleKept>, DeskError> {
    store::list(db, account.id).await?.into_iter().map(RuleKept::read).collect()
}

/// One of them.
pub async fn one(db: &PgPool, account: &Account, id: RuleId) -> Result<RuleKept, DeskError> {
    let mine = list(db, account).await?.into_iter().find(|r| r.row.id == id);
    mine.ok_or(DeskError::NotFound("rule"))
}

/// The account's time zone.
pub fn zone(account: &Account) -> Tz {
    account.time_zone.parse().unwrap_or(Tz::UTC)
}

/// What sentences name.
pub fn naming(book: &Book) -> Naming {
    let campaigns = book.entries.iter().map(|e| (e.campaign.id, e.campaign.name.clone()));
    Naming { campaigns: campaigns.collect() }
}

fn known(rule: &Rule, naming: &Naming) -> Result<(), DeskError> {
    let known = |id: &tiller_core::ids::CampaignId| naming.campaigns.iter().any(|(c, _)| c == id);
    if rule.campaigns().iter().all(known) {
        Ok(())
    } else {
        Err(DeskError::Invalid("choose campaigns of this account".into()))
    }
}

/// Adds a rule, switched off.
pub async fn add(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    rule: &Rule,
    naming: &Naming,
) -> Result<RuleId, DeskError> {
    known(rule, naming)?;
    let told = Sentence::of(rule, naming).text();
    Ok(store::add(db, account.id, person, &tray::json(rule)?, &told).await?)
}

/// When a rule runs next, from the account's moment on.
pub async fn next_due(
    db: &PgPool,
    account: &Account,
    rule: &Rule,
) -> Result<Option<DateTime<Utc>>, DeskError> {
    let now = store::now(db, account.id).await?;
    Ok(rule.schedule.next(now, zone(account)))
}

/// Writes a rule's next version.
pub async fn save(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    was: &RuleKept,
    rule: &Rule,
    naming: &Naming,
) -> Result<(), DeskError> {
    known(rule, naming)?;
    if *rule == was.rule {
        return Ok(());
    }
    let told = Sentence::of(rule, naming).text();
    let next = next_due(db, account, rule).await?;
    let version = (was.row.id, was.row.version);
    let body = tray::json(rule)?;
    if store::save(db, account.id, person, version, (&body, &told), next).await? {
        Ok(())
    } else {
        Err(DeskError::Invalid(
            "somebody has changed this rule meanwhile; look at it again, then change what is still to be changed"
                .into(),
        ))
    }
}

/// Switches a rule on or off, or removes it.
pub async fn switch(
    db: &PgPool,
    account: &Account,
    id: RuleId,
    to: Standing,
) -> Result<(), DeskError> {
    let kept = one(db, account, id).await?;
    let next = match to {
        Standing::On => next_due(db, account, &kept.rule).await?,
        _ => None,
    };
    store::switch(db, account.id, id, to, next).await?;
    Ok(())
}

/// Stops all rules at once, on every server.
pub async fn stop_all(db: &PgPool, account: &Account, person: PersonId) -> Result<(), DeskError> {
    Ok(store::stop_all(db, account.id, person).await?)
}

/// Lets them run again, from now on.
pub async fn let_run(db: &PgPool, account: &Account) -> Result<(), DeskError> {
    let now = store::now(db, account.id).await?;
    let next = |r: &RuleKept| (r.row.id, r.rule.schedule.next(now, zone(account)));
    let all: Vec<_> = list(db, account).await?.iter().map(next).collect();
    Ok(store::let_run(db, account.id, &all).await?)
}

/// Queues a run now.
pub async fn ask(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    id: RuleId,
) -> Result<RunId, DeskError> {
    one(db, account, id).await?;
    store::ask(db, account.id, id, person)
        .await?
        .ok_or_else(|| DeskError::Invalid("all rules are stopped; let them run again first".into()))
}

/// What became of undoing a run.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Undone {
    /// Changes that were taken out of the tray.
    pub withdrawn: i64,
    /// Changes whose reverse now waits in the tray.
    pub reversed: usize,
    /// Changes that are on their way, or can't be taken back.
    pub left: usize,
}

/// Takes a whole run back: what waits leaves the tray, of what was made the reverse is put there.
pub async fn undo(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    run: RunId,
) -> Result<Undone, DeskError> {
    use tiller_store::changes::State;
    let actions = store::actions(db, account.id, run, 0, None).await?;
    if actions.is_empty() {
        return Err(DeskError::Invalid(
            "this run changed nothing, so there is nothing to undo".into(),
        ));
    }
    let of = |state: State| {
        let mine = actions.iter().filter(move |a| a.state == Some(state) && !a.undone);
        mine.filter_map(|a| a.change).collect::<Vec<_>>()
    };
    let withdrawn = tray::withdraw(db, account, &of(State::Waiting)).await?;
    let reversed = logbook::undo_run(db, account, person, run).await?;
    let left = of(State::Made).len().saturating_sub(reversed) + of(State::Sending).len();
    Ok(Undone { withdrawn, reversed, left })
}

/// A rule's versions, the latest first.
pub async fn versions(
    db: &PgPool,
    account: &Account,
    id: RuleId,
) -> Result<Vec<Version>, DeskError> {
    Ok(store::versions(db, account.id, id).await?)
}

/// Runs of an account, or of one of its rules, the latest first.
pub async fn runs(
    db: &PgPool,
    account: &Account,
    rule: Option<RuleId>,
    most: i64,
) -> Result<Vec<Ran>, DeskError> {
    Ok(store::ran(db, account.id, rule, None, most).await?)
}

/// What a run did is shown so many at a time.
pub const SHOWN: i32 = 500;

/// One run, with the name that its rule had, and what it did after the first so many.
pub async fn run(
    db: &PgPool,
    account: &Account,
    id: RunId,
    after: i32,
) -> Result<(Ran, String, Vec<Action>), DeskError> {
    let run = store::ran(db, account.id, None, Some(id), 1).await?.pop();
    let run = run.ok_or(DeskError::NotFound("run"))?;
    let all = versions(db, account, run.rule).await?;
    let name = all.into_iter().find(|v| v.version == run.version);
    let name = name.and_then(|v| v.body.get("name")?.as_str().map(str::to_owned));
    let actions = store::actions(db, account.id, id, after, Some(SHOWN.into())).await?;
    Ok((run, name.unwrap_or_default(), actions))
}

/// All that a run did.
pub async fn actions(db: &PgPool, account: &Account, id: RunId) -> Result<Vec<Action>, DeskError> {
    Ok(store::actions(db, account.id, id, 0, None).await?)
}

/// Whether anything of a run can be taken back.
pub async fn undoable(db: &PgPool, account: &Account, id: RunId) -> Result<bool, DeskError> {
    Ok(store::undoable(db, account.id, id).await?)
}

/// What each of an account's rules has done since a day.
pub async fn lately(
    db: &PgPool,
    account: &Account,
    since: NaiveDate,
) -> Result<Vec<Lately>, DeskError> {
    Ok(store::lately(db, account.id, since).await?)
}

/// Since when all rules are stopped, and who stopped them.
pub async fn stopped(
    db: &PgPool,
    account: &Account,
) -> Result<Option<(DateTime<Utc>, Option<String>)>, DeskError> {
    Ok(store::stopped(db, account.id).await?)
}
