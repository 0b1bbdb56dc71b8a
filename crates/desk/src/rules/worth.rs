//! What a rule is worth so far: the look-backs of its changes, added up.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use chrono::NaiveDate;
use tiller_core::change_effect::spells::Apart;
use tiller_core::change_effect::{Effect, Worth};
use tiller_core::ids::{CampaignId, RuleId};
use tiller_store::PgPool;

use crate::DeskError;
use crate::book::{Book, Period};
use crate::kept::Kept;
use crate::look_backs::Judge;
use crate::look_backs::words::in_words;
use crate::numerals::{counted, day};

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
    book.keep(&KEPT, (), || async { Ok(so_far(&Judge::of(db, book).await?)) }).await
}

/// Judges what rules changed: by campaign, what follows closely as one, by whichever rule.
fn so_far(judge: &Judge<'_>) -> HashMap<RuleId, SoFar> {
    let mut all: HashMap<RuleId, SoFar> = HashMap::new();
    for (campaign, spell) in judge.spells(Apart::Rest, |_, m| m.rule) {
        for (rule, changes, look_back) in &spell.to_come {
            let so_far = all.entry(*rule).or_default();
            so_far.to_come += changes;
            so_far.next = Some(so_far.next.map_or(*look_back, |n| n.min(*look_back)));
        }
        // Where somebody else changed something there too, it can't be told whose doing it was.
        let alone = Judge::near(&spell)
            .is_some_and(|near| judge.touched(campaign, near).all(|m| m.rule.is_some()));
        let effect = alone.then(|| judge.effect(campaign, &spell)).flatten();
        for (rule, changes) in spell.due {
            let so_far = all.entry(rule).or_default();
            match effect {
                Some(effect) => {
                    so_far.judged += changes;
                    so_far.shared += if spell.shared { changes } else { 0 };
                    let brought = Brought { effect, shared: spell.shared };
                    so_far.spells.insert((campaign, spell.from), brought);
                }
                None => so_far.untold += changes,
            }
        }
    }
    for so_far in all.values_mut() {
        so_far.worth = Worth::sum(so_far.spells.values().map(|b| &b.effect));
    }
    all
}
