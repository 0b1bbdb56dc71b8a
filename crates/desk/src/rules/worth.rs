//! What a rule is worth so far: the look-backs of its changes, added up.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use chrono::NaiveDate;
use tiller_core::change_effect::spells::{Change, Spell, spells};
use tiller_core::change_effect::{Effect, Line, When, Worth, effect};
use tiller_core::ids::{CampaignId, RuleId};
use tiller_core::window::earlier;
use tiller_store::PgPool;
use tiller_store::rules::{Moved, moved};

use crate::DeskError;
use crate::book::{Book, Entry, Period};
use crate::kept::Kept;
use crate::numerals::{counted, day, sum};

/// Changes of so many days are added up.
const DAYS: u64 = 366;
/// Nothing else may have been changed for so long before.
const ALONE: u64 = 14;

/// What a rule is worth so far.
#[derive(Clone, Debug, Default)]
pub struct SoFar {
    /// What its look-backs come to, in money: results at their target less spend.
    pub worth: Worth,
    /// Changes that were judged.
    pub judged: i64,
    /// Those of them that were judged together with what other rules changed there.
    pub shared: i64,
    /// Changes whose look-back is to come.
    pub to_come: i64,
    /// Changes that can't be told apart from others of the same days, or have too little before or beside them.
    pub untold: i64,
    /// The next look-back.
    pub next: Option<NaiveDate>,
    /// What each spell of changes brought, of which some may be left out later.
    spells: BTreeMap<(CampaignId, NaiveDate), Brought>,
}

/// What a spell of changes to a campaign brought.
#[derive(Clone, Debug)]
struct Brought {
    effect: Effect,
    /// Whether other rules had a part in it.
    shared: bool,
}

/// What a rule is worth by the look-backs of a part of its changes.
#[derive(Clone, Debug)]
pub struct Watched {
    /// In money.
    pub worth: Worth,
    /// Whether other rules had a part in it.
    pub shared: bool,
}

impl SoFar {
    /// By the look-backs of what was changed from a day on.
    pub fn since(&self, day: NaiveDate) -> Watched {
        let of = || self.spells.iter().filter(|((_, from), _)| *from >= day).map(|(_, b)| b);
        Watched { worth: Worth::sum(of().map(|b| &b.effect)), shared: of().any(|b| b.shared) }
    }

    /// In a sentence without its end; none where nothing was changed.
    pub fn sentence(&self) -> Option<String> {
        if self.judged > 0 {
            let shared = match self.shared {
                0 => String::new(),
                n if n == self.judged => ", shared with other rules".into(),
                n => format!(", {n} of them shared with other rules"),
            };
            return Some(format!(
                "{} by {}{shared}",
                in_words(&self.worth),
                counted(self.judged.unsigned_abs(), "look-back", "look-backs")
            ));
        }
        match (self.next, self.untold) {
            (Some(next), _) => Some(format!("its first look-back is on {}", day(next))),
            (None, 0) => None,
            (None, _) => Some("what it changed can’t be told apart from other changes".into()),
        }
    }
}

/// `gained 120 (80% between −30 and 270)`.
pub fn in_words(worth: &Worth) -> String {
    let range = worth.range();
    let word = if worth.mid < 0.0 { "lost" } else { "gained" };
    let (low, high) =
        if worth.mid < 0.0 { (-range.high, -range.low) } else { (range.low, range.high) };
    let bound = |x: f64| if x < 0.0 { format!("−{}", sum(-x)) } else { sum(x) };
    format!("{word} {} (80% between {} and {})", sum(worth.mid.abs()), bound(low), bound(high))
}

/// What all rules of an account come to together; none before anything was judged.
pub fn together<'a>(of: impl IntoIterator<Item = &'a SoFar>) -> Option<String> {
    let all: BTreeMap<_, &Brought> = of.into_iter().flat_map(|s| &s.spells).collect();
    (!all.is_empty()).then(|| in_words(&Worth::sum(all.values().map(|b| &b.effect))))
}

/// Why a rule is suspended.
pub fn suspended(watched: &Watched) -> String {
    let worth = &watched.worth;
    format!(
        "Its look-backs cover {}: it {}.{} What it changed stays as it is until you undo it. Switch the rule on again and it is watched afresh.",
        counted(worth.days as u64, "day", "days"),
        in_words(worth),
        if watched.shared {
            " Other rules changed the same campaigns, so it may be their doing."
        } else {
            ""
        }
    )
}

static KEPT: Kept<(Period, ()), HashMap<RuleId, SoFar>> = Kept::new(50);

/// What each rule of an account is worth so far.
pub async fn of_account(
    db: &PgPool,
    book: &Book,
) -> Result<Arc<HashMap<RuleId, SoFar>>, DeskError> {
    let read = || async {
        let last = book.span.to();
        let since = earlier(last, DAYS);
        Ok(judge(book, &moved(db, book.account.id, since).await?))
    };
    book.keep(&KEPT, (), read).await
}

/// Judges what rules changed: by campaign, what follows closely as one, by whichever rule.
fn judge(book: &Book, moved: &[Moved]) -> HashMap<RuleId, SoFar> {
    let mut by: BTreeMap<CampaignId, Vec<Change>> = BTreeMap::new();
    for m in moved {
        let Some(rule) = m.rule else { continue };
        let (from, look_back, watched_from) = (m.from, m.look_back, m.watched_from);
        let change = Change { rule, from, look_back, watched_from, changes: m.changes };
        by.entry(m.campaign).or_default().push(change);
    }
    let lines: HashMap<CampaignId, Line> =
        book.entries.iter().filter_map(|e| Some((e.campaign.id, line(book, e)?))).collect();
    let mut all: HashMap<RuleId, SoFar> = HashMap::new();
    for (campaign, changes) in by {
        for spell in spells(&changes, book.last_settled(), book.account.settle_days()) {
            for (rule, changes, look_back) in &spell.to_come {
                let so_far = all.entry(*rule).or_default();
                so_far.to_come += changes;
                so_far.next = Some(so_far.next.map_or(*look_back, |n| n.min(*look_back)));
            }
            let brought = brought(book, moved, &lines, campaign, &spell);
            for (rule, changes) in spell.due {
                let so_far = all.entry(rule).or_default();
                match brought.clone() {
                    Some(brought) => {
                        so_far.judged += changes;
                        so_far.shared += if brought.shared { changes } else { 0 };
                        so_far.spells.insert((campaign, spell.from), brought);
                    }
                    None => so_far.untold += changes,
                }
            }
        }
    }
    for so_far in all.values_mut() {
        so_far.worth = Worth::sum(so_far.spells.values().map(|b| &b.effect));
    }
    all
}

/// What a spell of changes brought; none where somebody else changed something there too, or too little lies before or
/// beside it.
fn brought(
    book: &Book,
    moved: &[Moved],
    lines: &HashMap<CampaignId, Line>,
    campaign: CampaignId,
    spell: &Spell,
) -> Option<Brought> {
    let near = earlier(spell.from, ALONE)..=*spell.judged.last()?;
    let touched = |c: CampaignId, by_rules: bool| {
        let mut there = moved.iter().filter(|m| m.campaign == c && near.contains(&m.from));
        there.any(|m| by_rules || m.rule.is_none())
    };
    if touched(campaign, false) {
        return None;
    }
    let others: Vec<Line> = book
        .entries
        .iter()
        .filter(|e| e.campaign.id != campaign && !touched(e.campaign.id, true))
        .filter_map(|e| lines.get(&e.campaign.id).cloned())
        .collect();
    let judged = spell.judged.iter().filter_map(|d| place(book, *d)).collect();
    let when = When { changed: place(book, spell.from)?, judged };
    let effect = effect(lines.get(&campaign)?, &others, &when)?;
    Some(Brought { effect, shared: spell.shared })
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
