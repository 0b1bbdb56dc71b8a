//! The logbook: what was changed, when, by whom, why, from what to what, with what result.

use chrono::NaiveDate;
use icalendar::{Calendar, Component, Event, EventLike};
use tiller_core::ids::{ChangeId, PersonId};
use tiller_core::setting::Setting;
use tiller_store::changes::{self, Change, State, Which};
use tiller_store::people::Account;
use tiller_store::{PgPool, StoreError};

use crate::tray::proposal::{Adds, Origin, Proposal};
use crate::{DeskError, change_words as words, numerals, tray};
use tiller_core::spot::Subject;

/// An entry.
#[derive(Clone, Debug)]
pub struct Entry {
    /// The change.
    pub change: Change,
    /// What was set.
    pub was: Option<Setting>,
    /// What was to be set.
    pub set_to: Setting,
    /// Figures that it rested on, as they stood.
    pub evidence: Vec<(String, String)>,
}

impl Entry {
    /// What it is of.
    pub fn subject(&self) -> Subject {
        tray::spot(&self.change).subject()
    }

    /// Whether it was made.
    pub fn made(&self) -> bool {
        self.change.state == State::Made
    }

    /// Whether the channel refused it, and nobody has dismissed that yet.
    pub fn refused(&self) -> bool {
        !self.made() && self.change.looked_at.is_none()
    }

    /// Whether its look-back is due on a day.
    pub fn due(&self, today: NaiveDate) -> bool {
        self.made()
            && self.change.looked_at.is_none()
            && self.change.look_back.is_some_and(|d| d <= today)
    }

    /// Whether it can be taken back: it was made, and what stood before is known.
    pub fn undoable(&self) -> bool {
        self.made() && !self.change.undone && reverse(self.was.as_ref(), &self.set_to).is_some()
    }

    /// What it did, as a sentence without its end.
    pub fn sentence(&self) -> String {
        words::sentence(self.was.as_ref(), &self.set_to)
    }
}

/// Which entries.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Show {
    /// All.
    #[default]
    All,
    /// Those whose look-back is due.
    Due,
    /// Those that the channel refused.
    Refused,
    /// What was decided here and went to no channel: targets, purposes, months' budgets, what counts.
    Own,
}

impl Show {
    /// All of them, with the word in addresses and the title.
    pub const ALL: [(Self, &'static str, &'static str); 4] = [
        (Self::All, "", "All"),
        (Self::Due, "due", "Due for a look-back"),
        (Self::Refused, "refused", "Refused"),
        (Self::Own, "own", "Targets, purposes, months, what counts"),
    ];

    /// By its word.
    pub fn read(word: &str) -> Self {
        Self::ALL.iter().find(|(_, w, _)| *w == word).map_or(Self::All, |(s, _, _)| *s)
    }
}

/// The logbook, the newest first.
pub async fn entries(
    db: &PgPool,
    account: &Account,
    show: Show,
    search: &str,
    today: NaiveDate,
) -> Result<Vec<Entry>, DeskError> {
    let search = search.trim().to_lowercase();
    let found = |e: &Entry| {
        let text = [
            &e.change.place,
            &e.change.channel_name,
            &e.change.reason,
            e.change.author.as_ref().unwrap_or(&e.change.origin),
            &e.sentence(),
        ];
        search.is_empty() || text.iter().any(|t| t.to_lowercase().contains(&search))
    };
    let shown = |e: &Entry| match show {
        Show::All => true,
        Show::Due => e.due(today),
        Show::Refused => e.refused(),
        Show::Own => false,
    };
    let all = changes::list(db, account.id, Which::Logbook).await?;
    let entries = all.into_iter().map(entry).collect::<Result<Vec<_>, _>>()?;
    Ok(entries.into_iter().filter(|e| shown(e) && found(e)).collect())
}

fn entry(change: Change) -> Result<Entry, DeskError> {
    let (was, set_to) = tray::read(&change)?;
    let evidence = serde_json::from_value(change.evidence.clone()).map_err(StoreError::from)?;
    Ok(Entry { change, was, set_to, evidence })
}

async fn one(db: &PgPool, account: &Account, id: ChangeId) -> Result<Entry, DeskError> {
    let found = changes::list(db, account.id, Which::One(id)).await?.pop();
    entry(found.ok_or(DeskError::NotFound("change"))?)
}

/// The setting that takes a change back.
fn reverse(was: Option<&Setting>, set_to: &Setting) -> Option<Setting> {
    match (was, set_to) {
        (Some(was), _) => Some(was.clone()),
        (None, Setting::Keyword { text, match_type, bid, present }) => Some(Setting::Keyword {
            text: text.clone(),
            match_type: *match_type,
            bid: *bid,
            present: !present,
        }),
        (None, _) => None,
    }
}

/// Puts the reverse of a change in the tray.
pub async fn undo(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    id: ChangeId,
) -> Result<(), DeskError> {
    let entry = one(db, account, id).await?;
    if !entry.made() {
        return Err(DeskError::Invalid(
            "the channel never made this change, so there is nothing to undo".into(),
        ));
    }
    let set = reverse(entry.was.as_ref(), &entry.set_to).ok_or_else(|| {
        DeskError::Invalid("what stood before is not known; set it by hand".into())
    })?;
    let c = &entry.change;
    let on = c
        .answered_at
        .map_or(String::new(), |t| format!(" of {}", numerals::full_day(t.date_naive())));
    let proposal = Proposal {
        subject: entry.subject(),
        set,
        reason: format!("Undoes the change{on}: {}.", entry.sentence()),
        evidence: Vec::new(),
        effect: String::new(),
        adds: Adds::default(),
        origin: Origin::Undo,
        undoes: Some(id),
    };
    match tray::propose(db, account, person, vec![proposal]).await? {
        0 => Err(DeskError::Invalid(
            "it has been undone already, or the same waits in the tray".into(),
        )),
        _ => Ok(()),
    }
}

/// Puts a refused change back in the tray.
pub async fn again(db: &PgPool, account: &Account, id: ChangeId) -> Result<(), DeskError> {
    match changes::again(db, account.id, &[id]).await? {
        0 => Err(DeskError::Invalid("only a change that was refused can be sent again".into())),
        _ => Ok(()),
    }
}

/// Somebody has looked back at a change, or dismissed a refused one.
pub async fn looked(db: &PgPool, account: &Account, id: ChangeId) -> Result<(), DeskError> {
    if changes::looked(db, account.id, id).await? {
        Ok(())
    } else {
        Err(DeskError::Invalid(
            "there is nothing to review: it has been reviewed or dismissed already".into(),
        ))
    }
}

/// The look-backs to come as a calendar (RFC 5545): one whole-day event each day that has any.
pub fn calendar(account: &Account, entries: &[Entry]) -> String {
    let mut days: std::collections::BTreeMap<NaiveDate, Vec<&Entry>> =
        std::collections::BTreeMap::new();
    for e in entries.iter().filter(|e| e.made() && e.change.looked_at.is_none()) {
        if let Some(day) = e.change.look_back {
            days.entry(day).or_default().push(e);
        }
    }
    let mut calendar = Calendar::new();
    calendar.name(&format!("Look-backs, {}", account.name));
    for (day, due) in days {
        let lines: Vec<String> =
            due.iter().map(|e| format!("{}: {}", e.change.place, e.sentence())).collect();
        let count = numerals::counted(due.len() as u64, "change", "changes");
        let event = Event::new()
            .uid(&format!("look-back-{}-{day}@gold-tiller", account.slug))
            .summary(&format!("Look back at {count}, {}", account.name))
            .description(&lines.join("\n"))
            .all_day(day)
            .done();
        calendar.push(event);
    }
    calendar.done().to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::Micros;
    use tiller_core::setting::MatchType;

    #[test]
    fn a_reverse_is_what_stood_before() {
        let bid = |units| Setting::Bid(Some(Micros::from_units(units)));
        assert_eq!(reverse(Some(&bid(1.0)), &bid(2.0)), Some(bid(1.0)));
        assert_eq!(reverse(None, &bid(2.0)), None);
        let keyword = |present| Setting::Keyword {
            text: "hive".into(),
            match_type: MatchType::Exact,
            bid: None,
            present,
        };
        assert_eq!(reverse(None, &keyword(true)), Some(keyword(false)));
    }
}
