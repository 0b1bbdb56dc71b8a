//! The logbook: what was changed, when, by whom, why, from what to what, with what result.

use chrono::{Days, NaiveDate};
use icalendar::{Calendar, Component, Event, EventLike};
use tiller_core::Window;
use tiller_core::ids::{CampaignId, ChangeId, PersonId, RunId};
use tiller_core::setting::Setting;
use tiller_store::changes::{self, Change, Find, State};
use tiller_store::people::Account;
use tiller_store::{PgPool, StoreError};

use crate::tray::proposal::{Origin, Proposal};
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

    /// Whether its look-back waits for somebody on a day.
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
    /// None: what they were worth together.
    Worth,
}

impl Show {
    /// All of them, with the word in addresses and the title.
    pub const ALL: [(Self, &'static str, &'static str); 5] = [
        (Self::All, "", "All"),
        (Self::Due, "due", "Due for a look-back"),
        (Self::Worth, "worth", "What came of them"),
        (Self::Refused, "refused", "Refused"),
        (Self::Own, "own", "Targets, purposes, months, what counts"),
    ];

    /// By its word.
    pub fn read(word: &str) -> Self {
        Self::ALL.iter().find(|(_, w, _)| *w == word).map_or(Self::All, |(s, _, _)| *s)
    }
}

/// So many entries stand on a page.
const PAGE: usize = 100;

/// A page of the logbook.
#[derive(Clone, Debug, Default)]
pub struct Page {
    /// Its entries, the latest first.
    pub entries: Vec<Entry>,
    /// The last of them, if others follow.
    pub more_after: Option<ChangeId>,
}

/// What is shown of the logbook, the latest first.
fn shown(show: Show, search: &str, today: NaiveDate) -> Option<Find<'_>> {
    let all = Find { words: search.trim(), ..Find::logbook() };
    match show {
        Show::All => Some(all),
        Show::Due => {
            Some(Find { states: &[State::Made], unseen: true, look_back_by: Some(today), ..all })
        }
        Show::Refused => Some(Find { states: &[State::Refused], unseen: true, ..all }),
        Show::Own | Show::Worth => None,
    }
}

async fn found(db: &PgPool, account: &Account, find: &Find<'_>) -> Result<Vec<Entry>, DeskError> {
    changes::list(db, account.id, find).await?.into_iter().map(entry).collect()
}

/// A page of it: what follows an entry, or the latest.
pub async fn page(
    db: &PgPool,
    account: &Account,
    show: Show,
    search: &str,
    after: Option<ChangeId>,
    today: NaiveDate,
) -> Result<Page, DeskError> {
    let Some(find) = shown(show, search, today) else { return Ok(Page::default()) };
    let find = Find { after, most: Some(PAGE as i64 + 1), ..find };
    let mut entries = found(db, account, &find).await?;
    let more = entries.len() > PAGE;
    entries.truncate(PAGE);
    let more_after = entries.last().filter(|_| more).map(|e| e.change.id);
    Ok(Page { entries, more_after })
}

/// All that is shown.
pub async fn all(
    db: &PgPool,
    account: &Account,
    show: Show,
    search: &str,
    today: NaiveDate,
) -> Result<Vec<Entry>, DeskError> {
    match shown(show, search, today) {
        Some(find) => found(db, account, &find).await,
        None => Ok(Vec::new()),
    }
}

/// What was answered within so many days of the last answer, the latest first.
pub async fn lately(db: &PgPool, account: &Account, days: u64) -> Result<Vec<Entry>, DeskError> {
    let latest = found(db, account, &Find { most: Some(1), ..Find::logbook() }).await?;
    let Some(at) = latest.first().and_then(|e| e.change.answered_at) else {
        return Ok(Vec::new());
    };
    let answered_after = at.checked_sub_days(Days::new(days));
    found(db, account, &Find { answered_after, ..Find::logbook() }).await
}

/// The look-backs that nobody has done yet, the first due first.
pub async fn look_backs(
    db: &PgPool,
    account: &Account,
) -> Result<Vec<(NaiveDate, Entry)>, DeskError> {
    let find = Find { states: &[State::Made], unseen: true, ..Find::logbook() };
    let mut all: Vec<(NaiveDate, Entry)> = found(db, account, &find)
        .await?
        .into_iter()
        .filter_map(|e| Some((e.change.look_back?, e)))
        .collect();
    all.sort_by_key(|(on, e)| (*on, e.change.id));
    Ok(all)
}

/// What was made of a campaign and came in force on one of these days.
pub async fn of_campaign(
    db: &PgPool,
    account: &Account,
    campaign: CampaignId,
    days: Window,
) -> Result<Vec<Entry>, DeskError> {
    let find = Find {
        states: &[State::Made],
        campaign: Some(campaign),
        in_force: Some(days),
        ..Find::logbook()
    };
    found(db, account, &find).await
}

fn entry(change: Change) -> Result<Entry, DeskError> {
    let (was, set_to) = tray::read(&change)?;
    let evidence = serde_json::from_value(change.evidence.clone()).map_err(StoreError::from)?;
    Ok(Entry { change, was, set_to, evidence })
}

async fn one(db: &PgPool, account: &Account, id: ChangeId) -> Result<Entry, DeskError> {
    let found = changes::list(db, account.id, &Find::one(id)).await?.pop();
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
    let proposal = undoing(&one(db, account, id).await?)?;
    match tray::propose(db, account, person, vec![proposal]).await? {
        0 => Err(DeskError::Invalid(
            "it has been undone already, or the same waits in the tray".into(),
        )),
        _ => Ok(()),
    }
}

/// Puts the reverse of each of a run's changes in the tray that can be taken back; tells how many.
pub(crate) async fn undo_run(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    run: RunId,
) -> Result<usize, DeskError> {
    let find = Find { states: &[State::Made], run: Some(run), ..Find::logbook() };
    let made = found(db, account, &find).await?;
    let proposals = made.iter().filter(|e| !e.change.undone).filter_map(|e| undoing(e).ok());
    tray::propose_possible(db, account, person, proposals.collect()).await
}

/// What takes a change back.
fn undoing(entry: &Entry) -> Result<Proposal, DeskError> {
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
    let reason = format!("Undoes the change{on}: {}.", entry.sentence());
    Ok(Proposal::new(entry.subject(), set, Origin::Undo, reason).undoing(c.id))
}

/// Puts a refused change back in the tray.
pub async fn again(db: &PgPool, account: &Account, id: ChangeId) -> Result<(), DeskError> {
    match changes::again(db, account.id, &[id]).await? {
        0 => Err(DeskError::Invalid("only a change that was refused can be sent again".into())),
        _ => Ok(()),
    }
}

/// Somebody has looked at all that is due and can't be told; tells how many.
pub async fn looked_at_untold(
    db: &PgPool,
    account: &Account,
    today: NaiveDate,
) -> Result<u64, DeskError> {
    Ok(tiller_store::look_backs::looked_at_untold(db, account.id, today).await?)
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
pub fn calendar(account: &Account, look_backs: &[(NaiveDate, Entry)]) -> String {
    let mut days: std::collections::BTreeMap<NaiveDate, Vec<&Entry>> =
        std::collections::BTreeMap::new();
    for (day, entry) in look_backs {
        days.entry(*day).or_default().push(entry);
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
