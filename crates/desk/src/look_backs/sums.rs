//! What changes were worth together: of a month, of a person or rule, of a kind of advice; and how often chance alone says as
//! much.

use std::collections::BTreeMap;
use std::sync::Arc;

use chrono::NaiveDate;
use tiller_core::change_effect::spells::{Apart, Spell};
use tiller_core::change_effect::{CameOfIt, Chance, Effect, Worth};
use tiller_core::look_back::WINDOW_DAYS;
use tiller_core::window::{Window, earlier};
use tiller_store::PgPool;
use tiller_store::look_backs::Moved;

use super::Judge;
use crate::DeskError;
use crate::book::{Book, Period};
use crate::kept::Kept;
use crate::tray::{self, proposal::Origin};

/// So many campaigns are tried on days on which nothing was changed,
const TRIED: usize = 24;
/// in so many weeks each.
const WEEKS: u64 = 8;

/// Changes that are added up.
#[derive(Clone, Debug, Default)]
pub struct Group {
    /// What they have in common.
    pub title: String,
    /// How many were judged.
    pub changes: i64,
    /// Of those, how many worked, made things worse, can't be told.
    pub came: [i64; 3],
    /// What they were worth together; none where nothing can be told of any.
    pub worth: Option<Worth>,
    /// How many of them were judged together with changes of another group.
    pub shared: i64,
}

/// What an account's changes of a year were worth.
#[derive(Clone, Debug, Default)]
pub struct Sums {
    /// All of them.
    pub all: Group,
    /// By the month in which they came in force, the latest first.
    pub months: Vec<Group>,
    /// By who decided them.
    pub hands: Vec<Group>,
    /// By where they were decided.
    pub kinds: Vec<Group>,
    /// What would have been said of days on which nothing was changed.
    pub chance: Chance,
}

static KEPT: Kept<(Period, ()), Sums> = Kept::new(50);

/// Of an account.
pub async fn of_account(db: &PgPool, book: &Book) -> Result<Arc<Sums>, DeskError> {
    book.keep(&KEPT, (), || async { Ok(sums(&Judge::of(db, book).await?)) }).await
}

/// Changes that were judged together.
struct Judged {
    spell: Spell<usize>,
    effect: Option<Effect>,
    came: CameOfIt,
}

fn sums(judge: &Judge<'_>) -> Sums {
    let judged: Vec<Judged> = judge
        .spells(Apart::Days, |n, _| Some(n))
        .into_iter()
        .filter(|(_, spell)| !spell.due.is_empty())
        .map(|(campaign, spell)| {
            let effect = judge.effect(campaign, &spell);
            let came = effect.map_or(CameOfIt::Untold, |e| Worth::sum([&e]).came_of_it());
            Judged { spell, effect, came }
        })
        .collect();
    let by = |title: &dyn Fn(&Moved) -> String| groups(judge, &judged, title);
    let mut months = by(&|m| m.from.format("%Y-%m").to_string());
    months.reverse();
    for month in &mut months {
        let first = NaiveDate::parse_from_str(&format!("{}-01", month.title), "%Y-%m-%d");
        month.title = first.map(|d| d.format("%B %Y").to_string()).unwrap_or_default();
    }
    let all = by(&|_| String::new()).pop().unwrap_or_default();
    Sums { all, months, hands: by(&hand), kinds: by(&kind), chance: chance(judge) }
}

/// Who decided changes.
fn hand(m: &Moved) -> String {
    tray::hand(m.author.as_deref(), m.course, m.rule_name.as_deref())
}

/// Where they were decided.
fn kind(m: &Moved) -> String {
    let words = match Origin::read(&m.origin) {
        Some(Origin::Hand) | None => "set by hand",
        Some(Origin::Causes) => "remedies of Causes",
        Some(Origin::Plan) => "plans of the month",
        Some(Origin::Week) => "the week’s budgets",
        Some(Origin::Undo) => "taken back",
        Some(Origin::Course) => "steps of courses",
        Some(Origin::Bids) => "bids and strategies",
        Some(Origin::Rule) => "rules",
    };
    words.to_owned()
}

fn groups(judge: &Judge<'_>, judged: &[Judged], title: &dyn Fn(&Moved) -> String) -> Vec<Group> {
    let mut all: BTreeMap<String, (Group, Vec<Effect>)> = BTreeMap::new();
    for j in judged {
        let mut mine: BTreeMap<String, i64> = BTreeMap::new();
        for (n, changes) in &j.spell.due {
            *mine.entry(title(&judge.moved[*n])).or_default() += changes;
        }
        let shared = mine.len() > 1;
        for (title, changes) in mine {
            let (group, effects) = all.entry(title).or_default();
            group.changes += changes;
            group.came[j.came as usize] += changes;
            group.shared += if shared { changes } else { 0 };
            effects.extend(j.effect);
        }
    }
    let group = |(title, (group, effects)): (String, (Group, Vec<Effect>))| {
        let worth = (!effects.is_empty()).then(|| Worth::sum(&effects));
        Group { title, worth, ..group }
    };
    all.into_iter().map(group).collect()
}

/// The same asked of weeks in which nothing was changed.
fn chance(judge: &Judge<'_>) -> Chance {
    let mut chance = Chance::default();
    let last = judge.book.last_settled();
    let campaigns: Vec<_> = judge.book.entries.iter().filter(|e| e.target.is_some()).collect();
    let every = campaigns.len().div_ceil(TRIED).max(1);
    for week in 0..WEEKS {
        let judged = Window::ending(earlier(last, week * WINDOW_DAYS), WINDOW_DAYS);
        let spell = Spell::<()> {
            since: None,
            from: judged.from(),
            judged: judged.iter().collect(),
            due: BTreeMap::new(),
            to_come: Vec::new(),
            part: 0,
            shared: false,
        };
        let Some(near) = Judge::near(&spell) else { continue };
        for e in campaigns.iter().step_by(every) {
            let untouched = judge.touched(e.campaign.id, near.clone()).next().is_none();
            let effect = untouched.then(|| judge.effect(e.campaign.id, &spell)).flatten();
            if let Some(effect) = effect {
                chance.add(Worth::sum([&effect]).came_of_it());
            }
        }
    }
    chance
}
