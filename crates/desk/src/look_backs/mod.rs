//! What came of changes (L3): judged on their look-backs, beside campaigns of which nothing was changed on the same days.
//!
//! - `due`: what is judged when its day has come, and written down
//! - `sums`: what changes were worth together, by month, by hand, by kind, and how often chance alone says as much
//! - `words`: how it is said

pub(crate) mod due;
pub mod sums;
pub mod words;

use std::collections::{BTreeMap, HashMap};
use std::ops::RangeInclusive;

use chrono::NaiveDate;
use tiller_core::change_effect::spells::{Apart, Change, Spell, spells};
use tiller_core::change_effect::{Effect, Line, When, effect};
use tiller_core::ids::CampaignId;
use tiller_core::window::earlier;
use tiller_store::PgPool;
use tiller_store::look_backs::{Moved, moved};

use crate::DeskError;
use crate::book::{Book, Entry};

/// Changes of so many days are judged.
pub const DAYS: u64 = 366;
/// Nothing may have been changed for so long before in a campaign that others are held against.
const ALONE: u64 = 14;

/// An account's days, and what was changed in them.
pub(crate) struct Judge<'a> {
    book: &'a Book,
    /// What was changed, in order of days.
    pub moved: Vec<Moved>,
    /// Where each campaign's changes stand there.
    of_campaign: HashMap<CampaignId, Vec<usize>>,
    lines: HashMap<CampaignId, Line>,
}

impl<'a> Judge<'a> {
    /// Of an account.
    pub async fn of(db: &PgPool, book: &'a Book) -> Result<Self, DeskError> {
        let moved = moved(db, book.account.id, earlier(book.span.to(), DAYS)).await?;
        let lines =
            book.entries.iter().filter_map(|e| Some((e.campaign.id, line(book, e)?))).collect();
        let mut of_campaign: HashMap<CampaignId, Vec<usize>> = HashMap::new();
        for (n, m) in moved.iter().enumerate() {
            of_campaign.entry(m.campaign).or_default().push(n);
        }
        Ok(Self { book, moved, of_campaign, lines })
    }

    /// Each campaign's changes as they are to be judged; `of` tells whose they are, and leaves out what is not asked for.
    pub fn spells<K: Copy + Ord>(
        &self,
        apart: Apart,
        of: impl Fn(usize, &Moved) -> Option<K>,
    ) -> Vec<(CampaignId, Spell<K>)> {
        let mut by: BTreeMap<CampaignId, Vec<Change<K>>> = BTreeMap::new();
        for (n, m) in self.moved.iter().enumerate() {
            let Some(of) = of(n, m) else { continue };
            let (from, look_back, watched_from) = (m.from, m.look_back, m.watched_from);
            let change = Change { of, from, look_back, watched_from, changes: m.changes };
            by.entry(m.campaign).or_default().push(change);
        }
        let (settled, settle) = (self.book.last_settled(), self.book.account.settle_days());
        let of = |(campaign, changes): (CampaignId, Vec<Change<K>>)| {
            spells(&changes, apart, settled, settle).into_iter().map(move |s| (campaign, s))
        };
        by.into_iter().flat_map(of).collect()
    }

    /// What was changed of a campaign on these days.
    pub fn touched(
        &self,
        campaign: CampaignId,
        near: RangeInclusive<NaiveDate>,
    ) -> impl Iterator<Item = &Moved> {
        let all = self.of_campaign.get(&campaign).map_or(&[][..], Vec::as_slice);
        let first = all.partition_point(|n| self.moved[*n].from < *near.start());
        all[first..].iter().map(|n| &self.moved[*n]).take_while(move |m| m.from <= *near.end())
    }

    /// From two weeks before the first change to the last day that is judged.
    pub fn near<K>(spell: &Spell<K>) -> Option<RangeInclusive<NaiveDate>> {
        Some(earlier(spell.from, ALONE)..=*spell.judged.last()?)
    }

    /// What a spell of changes brought its campaign; none without a target, or where too little lies before it.
    pub fn effect<K>(&self, campaign: CampaignId, spell: &Spell<K>) -> Option<Effect> {
        let near = Self::near(spell)?;
        let place = |day| place(self.book, day);
        let when = When {
            since: spell.since.and_then(place).unwrap_or(0),
            changed: place(spell.from)?,
            judged: spell.judged.iter().filter_map(|d| place(*d)).collect(),
        };
        let others = self.lines.iter().filter(|(id, _)| {
            **id != campaign && self.touched(**id, near.clone()).next().is_none()
        });
        let others: Vec<&Line> = others.map(|(_, line)| line).collect();
        effect(self.lines.get(&campaign)?, &others, &when)
    }
}

fn place(book: &Book, day: NaiveDate) -> Option<usize> {
    usize::try_from((day - book.span.from()).num_days()).ok()
}

/// A campaign's days by what its results are worth; none without a target.
fn line(book: &Book, entry: &Entry) -> Option<Line> {
    let target = entry.target?;
    let days = usize::try_from(book.span.days()).ok()?;
    let mut line = Line { spend: vec![0.0; days], worth: vec![0.0; days] };
    for day in entry.days.iter() {
        if let Some(n) = place(book, day.day).filter(|n| *n < days) {
            line.spend[n] += day.tally.spend.to_units();
            line.worth[n] += target.allowed(&day.tally);
        }
    }
    Some(line)
}
