//! What rules tell: which were suspended, and what they were asked to tell of, on Today and by e-mail.

use chrono::NaiveDate;
use tiller_core::ids::{RuleId, RunId};
use tiller_core::rule::Rule;
use tiller_core::window::earlier;
use tiller_store::people::Account;
use tiller_store::rules::{self as store, Letter, RunState};
use tiller_store::{PgPool, StoreError};

use super::keeping::{Action, Standing};
use crate::DeskError;
use crate::mail::Mail;
use crate::numerals::counted;

/// What was told stays on Today for so many days.
const DAYS: u64 = 7;
/// So many things are named, the rest counted.
const NAMED: usize = 3;
/// So many lines stand in an e-mail.
const LINES: usize = 50;

/// What a run tells of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Told {
    /// The run.
    pub run: RunId,
    /// The rule's name.
    pub rule: String,
    /// The last day that was known.
    pub day: NaiveDate,
    /// The things, by name.
    pub things: Vec<String>,
}

/// A rule that was suspended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Suspended {
    /// The rule.
    pub rule: RuleId,
    /// Its name.
    pub name: String,
    /// Why.
    pub note: String,
}

/// What rules have to tell.
#[derive(Clone, Debug, Default)]
pub struct Tidings {
    /// Those that were suspended.
    pub suspended: Vec<Suspended>,
    /// What the others tell of, the latest first; of each rule the latest run that told anything.
    pub told: Vec<Told>,
}

impl Told {
    /// `2 things: Hive, Jar`.
    pub fn of(&self) -> String {
        let mut names: Vec<String> = self.things.iter().take(NAMED).cloned().collect();
        if self.things.len() > NAMED {
            names.push(format!("{} more", self.things.len() - NAMED));
        }
        // Names have commas of their own.
        format!("{}: {}", counted(self.things.len() as u64, "thing", "things"), names.join("; "))
    }
}

/// What an account's rules have to tell after a day is known.
pub async fn of_account(
    db: &PgPool,
    account: &Account,
    last_day: NaiveDate,
) -> Result<Tidings, DeskError> {
    let since = earlier(last_day, DAYS - 1);
    let mut tidings = Tidings::default();
    for t in store::tidings(db, account.id, since).await? {
        if t.state == Standing::Suspended {
            let (name, note) = (t.name.clone(), t.note);
            tidings.suspended.push(Suspended { rule: t.rule, name, note });
        }
        if let (Some(run), Some(day), Some(things)) = (t.run, t.day, t.things) {
            tidings.told.push(Told { run, rule: t.name, day, things });
        }
    }
    Ok(tidings)
}

/// The e-mail of a run; none where nobody is to be written to.
pub(crate) async fn mail(db: &PgPool, letter: &Letter) -> Result<Option<Mail>, DeskError> {
    let (Some(to), Some(name)) = (letter.to.clone(), letter.name.clone()) else { return Ok(None) };
    let rule: Rule = serde_json::from_value(letter.body.clone()).map_err(StoreError::from)?;
    let mut lines = vec![format!("{}, rule ‘{}’", letter.account_name, rule.name), String::new()];
    let subject = if letter.state == RunState::Skipped {
        lines.push(letter.note.clone());
        format!("‘{}’ was suspended", rule.name)
    } else {
        let actions = store::actions(db, letter.account, letter.run, 0, None).await?;
        let (told, made): (Vec<&Action>, _) = actions.iter().partition(|a| a.did == "tell");
        for action in told.iter().take(LINES) {
            lines.push(format!("{}: {}", action.place, action.reason));
        }
        if told.len() > LINES {
            lines.push(format!("… and {} more.", told.len() - LINES));
        }
        if !made.is_empty() {
            lines.push(String::new());
            lines
                .push(format!("It also made {}.", counted(made.len() as u64, "change", "changes")));
        }
        format!("‘{}’ tells of {}", rule.name, counted(told.len() as u64, "thing", "things"))
    };
    lines.push(String::new());
    lines.push(
        "You get this because you wrote the rule. Switch it off under Rules to get no more.".into(),
    );
    let id = format!("rule-run-{}-{}", letter.account, letter.run);
    Ok(Some(Mail { to: (to, name), subject, text: lines.join("\n"), id }))
}
