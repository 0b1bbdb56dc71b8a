//! Which strategy fits each campaign: what is known of it, what the table says of that, and the change that it takes.

use std::collections::HashMap;

use chrono::NaiveDate;
use tiller_core::ids::{AccountId, CampaignId};
use tiller_core::setting::{Budget, CampaignSettings, Setting, Strategy};
use tiller_core::spot::Subject;
use tiller_core::strategy::{Aim, Facts, Kind, Row, Table, Values};
use tiller_core::{Micros, Price, Target, Window};
use tiller_store::PgPool;
use tiller_store::decisions::{self, Answered};
use tiller_store::facts::Present;

use crate::DeskError;
use crate::account::settings::Settings;
use crate::advice::{self, Advice};
use crate::book::quiet::Quiet;
use crate::book::{Book, Entry};
use crate::numerals::{count, counted, money, number};
use crate::tray::check;
use crate::tray::offer::{Offer, says};
use crate::tray::proposal::{Origin, Proposal, coins};

/// Days whose conversions tell whether a strategy has something to learn from.
const DAYS: u64 = 30;
/// Orders whose worth differs by less than this from the mean are alike.
const ALIKE: f64 = 0.05;

/// How a campaign's strategy stands to what the table says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fit {
    /// It is the first that the table names.
    First,
    /// The table names it, after another.
    Possible,
    /// The table does not name it.
    No,
}

/// A strategy that fits, with what it takes.
#[derive(Clone, Debug)]
pub struct Choice {
    /// The row that says so.
    pub row: Row,
    /// What would be set; nothing where it is set already.
    pub changes: Vec<Proposal>,
    /// What it costs that a strategy has to learn.
    pub learns: Option<String>,
}

impl Choice {
    /// Its button's offer.
    pub fn offer(&self, name: &str) -> Offer<Vec<Proposal>> {
        Offer::new(self.row.advice.word(), name, says(&self.changes), self.changes.clone())
    }
}

/// A campaign with what fits it.
#[derive(Clone, Debug)]
pub struct Fitted {
    /// The campaign.
    pub campaign: CampaignId,
    /// Its name.
    pub name: String,
    /// Its channel.
    pub channel: String,
    /// How it bids now.
    pub strategy: Strategy,
    /// What is known of it.
    pub facts: Facts,
    /// What was answered of it.
    pub answered: Answered,
    /// What fits, best first.
    pub choices: Vec<Choice>,
    /// How its strategy stands to that.
    pub fit: Fit,
    /// Why it is left alone for now, if it is.
    pub quiet: Option<Quiet>,
}

/// The account's table, and whether it is its own.
pub async fn table(db: &PgPool, account: AccountId) -> Result<(Table, bool), DeskError> {
    Ok(read(decisions::strategies(db, account).await?.0))
}

/// A table that no longer is whole, such as one of an earlier version, gives way to the shipped one.
fn read(own: Option<Vec<Row>>) -> (Table, bool) {
    match own.map(Table::new) {
        Some(Ok(table)) => (table, true),
        Some(Err(_)) | None => (Table::shipped(), false),
    }
}

/// The campaigns whose channels told how they bid, by name.
pub async fn of_account(db: &PgPool, book: &Book) -> Result<Vec<Fitted>, DeskError> {
    let (own, answers) = decisions::strategies(db, book.account.id).await?;
    let (table, _) = read(own);
    let settings = Settings::of_book(db, book).await?;
    let advised = advice::of_account(db, book).await?;
    let quiet = |e: &Entry| match advised.on(e, None) {
        Advice::Quiet(quiet) => Some(quiet),
        _ => None,
    };
    let of = |e: &Entry| {
        let set = settings.campaign(e.campaign.id)?;
        Some(Fitted { quiet: quiet(e), ..fitted(book, e, set, &table, &answers) })
    };
    Ok(book.entries.iter().filter_map(of).collect())
}

/// One campaign.
pub async fn of_campaign(db: &PgPool, book: &Book, id: CampaignId) -> Result<Fitted, DeskError> {
    book.entry(id)?;
    let mut all = of_account(db, book).await?;
    let place = all.iter().position(|f| f.campaign == id).ok_or_else(|| {
        DeskError::Invalid(
            "its channel has not told how it bids; connect the channel and fetch first".into(),
        )
    })?;
    Ok(all.swap_remove(place))
}

fn fitted(
    book: &Book,
    entry: &Entry,
    set: &CampaignSettings,
    table: &Table,
    answers: &HashMap<CampaignId, Answered>,
) -> Fitted {
    let answered = answers.get(&entry.campaign.id).copied().unwrap_or_default();
    let facts = facts(book, entry, set.budget, answered);
    let ranked = table.advise(&facts);
    let now = Kind::from(set.strategy);
    let fit = match ranked.iter().position(|r| r.advice == now) {
        Some(0) => Fit::First,
        Some(_) => Fit::Possible,
        None => Fit::No,
    };
    let choices = ranked
        .into_iter()
        .filter(|r| target_for(entry, r.advice, last_days(book)).is_some() || !has_target(r.advice))
        .map(|row| {
            let changes = changes(book, entry, set, row);
            let learns =
                (row.advice.automatic() && !changes.is_empty()).then(|| learns(book, entry));
            Choice { changes, learns, row: row.clone() }
        })
        .collect();
    Fitted {
        campaign: entry.campaign.id,
        name: entry.campaign.name.clone(),
        channel: entry.campaign.channel.clone(),
        strategy: set.strategy,
        facts,
        answered,
        choices,
        fit,
        quiet: None,
    }
}

/// The last settled days that tell what there is to learn from.
fn last_days(book: &Book) -> Window {
    Window::ending(book.last_settled(), DAYS)
}

/// What a campaign is run for, as far as its target tells.
pub fn aim_guessed(target: Option<Target>) -> Aim {
    match target {
        Some(Target::Roas(_)) => Aim::Sales,
        _ => Aim::Leads,
    }
}

/// What is known of a campaign.
pub(super) fn facts(
    book: &Book,
    entry: &Entry,
    budget: Option<Budget>,
    answered: Answered,
) -> Facts {
    let window = last_days(book);
    let tally = entry.tally(window);
    let first = entry.days.iter().find(|d| d.tally.conversions > 0.0).map(|d| d.day);
    let days = |from: NaiveDate| (window.to() - from).num_days().max(0) as f64 + 1.0;
    Facts {
        aim: answered.aim.unwrap_or_else(|| aim_guessed(entry.target)),
        values: values(entry, window),
        conversions: tally.conversions,
        history: first.map_or(0.0, days),
        flight: match budget {
            Some(Budget::Lifetime { starts, ends, .. }) => {
                Window::new(starts, ends).map_or(f64::INFINITY, |w| w.days() as f64)
            }
            _ => f64::INFINITY,
        },
        target_known: entry.target.is_some(),
        fears_runaway: answered.fears_runaway,
    }
}

/// Whether days' results differ in worth.
fn values(entry: &Entry, window: Window) -> Values {
    let all = entry.tally(window);
    let Some(mean) = all.aov().filter(|_| all.value.get() > 0) else { return Values::Absent };
    let off = |aov: Price| (aov / mean - 1.0).abs() > ALIKE;
    let mut days = entry.days.iter().filter(|d| window.contains(d.day));
    if days.any(|d| d.tally.aov().is_some_and(off)) { Values::Differ } else { Values::Alike }
}

fn has_target(kind: Kind) -> bool {
    matches!(kind, Kind::TargetCpa | Kind::TargetRoas)
}

/// What a strategy would start from: what the campaign achieves, where that misses its target (a target far from what
/// is so would starve it while it learns), else the target.
fn target_for(entry: &Entry, kind: Kind, window: Window) -> Option<(Strategy, String)> {
    let tally = entry.tally(window);
    match kind {
        Kind::TargetCpa => {
            let wanted = entry.target?.as_cpa(tally.aov())?;
            let start = tally.cpa().filter(|cpa| *cpa > wanted);
            let why = start.map_or_else(
                || format!("its target of {}", money(wanted)),
                |cpa| {
                    format!(
                        "what a conversion costs it now, {}, and not yet {}",
                        money(cpa),
                        money(wanted)
                    )
                },
            );
            let target = coins(start.unwrap_or(wanted).units());
            Some((Strategy::TargetCpa { target }, why))
        }
        Kind::TargetRoas => {
            let wanted = match entry.target? {
                Target::Roas(x) => x,
                Target::Cpa(cpa) => tally.aov()? / cpa,
            };
            let start = tally.roas().filter(|roas| *roas < wanted && *roas > 0.0);
            let why = start.map_or_else(
                || format!("its target of {}", number(wanted, 2)),
                |x| {
                    format!(
                        "what it returns now, {}, and not yet {}",
                        number(x, 2),
                        number(wanted, 2)
                    )
                },
            );
            let target = (start.unwrap_or(wanted) * 100.0).round() / 100.0;
            Some((Strategy::TargetRoas { target }, why))
        }
        _ => None,
    }
}

/// The changes to a strategy; none to the one that is set. Bids by hand begin with what is paid now.
fn changes(book: &Book, entry: &Entry, set: &CampaignSettings, row: &Row) -> Vec<Proposal> {
    let tally = entry.tally(last_days(book));
    let paid = |price: Option<f64>| price.filter(|_| set.bid.is_none()).map(coins);
    let (strategy, from, bid) = match row.advice {
        now if now == Kind::from(set.strategy) => return Vec::new(),
        Kind::ManualCpc => (Strategy::ManualCpc, None, paid(tally.cpc().map(Price::units))),
        Kind::ManualCpm => (Strategy::ManualCpm, None, paid(tally.cpm().map(Price::units))),
        Kind::MostClicks => (Strategy::MostClicks, None, None),
        Kind::MostConversions => (Strategy::MostConversions, None, None),
        Kind::MostValue => (Strategy::MostValue, None, None),
        kind @ (Kind::TargetCpa | Kind::TargetRoas) => {
            match target_for(entry, kind, last_days(book)) {
                Some((strategy, why)) => (strategy, Some(why), None),
                None => return Vec::new(),
            }
        }
    };
    let reason = match from {
        Some(from) => format!("{} It starts from {from}.", row.because),
        None => row.because.clone(),
    };
    let subject = Subject::Campaign(entry.campaign.id);
    let propose = |set: Setting, reason: String| {
        Proposal::new(subject, set, Origin::Bids, reason)
            .because("Conversions in 30 settled days", count(tally.conversions))
            .because("Would change it", row.would_change.clone())
    };
    let bid = bid.map(|b| {
        propose(Setting::Bid(Some(b)), "What it pays now: bids by hand begin there.".into())
    });
    [Some(propose(Setting::Strategy(strategy), reason)), bid].into_iter().flatten().collect()
}

fn learns(book: &Book, entry: &Entry) -> String {
    let tally = entry.tally(last_days(book));
    let a_day = |x: f64| x / DAYS as f64;
    check::learns(Present {
        spend: Micros::from_units(a_day(tally.spend.to_units())),
        conversions: a_day(tally.conversions),
    })
}

/// What is known, in words, for a reader to check.
pub fn known(f: &Facts) -> Vec<(&'static str, String)> {
    let values = match f.values {
        Values::Absent => "not counted",
        Values::Alike => "counted, and alike",
        Values::Differ => "counted, and they differ",
    };
    let days = |d: f64| counted(d as u64, "day", "days");
    vec![
        ("Conversions in 30 settled days", count(f.conversions)),
        (
            "Since its first conversion",
            if f.history > 0.0 { days(f.history) } else { "none yet".into() },
        ),
        ("Values", values.into()),
        ("Runs", if f.flight.is_finite() { days(f.flight) } else { "without an end".into() }),
        ("Target", if f.target_known { "known" } else { "not known" }.into()),
    ]
}
