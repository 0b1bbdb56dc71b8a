//! Bids: how each campaign, ad group and item bids, what a click may cost it, and where its bid should go.
//!
//! - `advisor`: which strategy fits
//! - `against`: bid against volume
//! - `course`: steps toward what is affordable, with their look-backs
//! - `file`: of a report file, for the command line
//! - `starting`: a first target, and the budget that it needs
//! - `step`: one campaign's next step, now and then
//! - `toward`: many bids at once, halfway or all the way to what is affordable
//! - `typed_table`: the advisor's table as a form
//! - `words`: how that is said

pub mod advisor;
pub mod against;
pub mod course;
pub mod file;
pub mod starting;
pub mod step;
pub mod toward;
pub mod typed_table;
pub mod words;

use std::sync::Arc;

use tiller_core::Price;
use tiller_core::evidence::{Interval, poisson};
use tiller_core::ids::ItemId;
use tiller_core::learning::{Learning, SHOCK};
use tiller_core::setting::{CampaignSettings, Setting, Strategy};
use tiller_core::spot::Subject;
use tiller_core::{Micros, Target};
use tiller_store::PgPool;

use crate::account::settings::Settings;
use crate::advice::{self, Cure};
use crate::book::{Book, Entry};
use crate::rows::{Level, Row, Within, rows};
use crate::tray::proposal::Origin;
use crate::volume::Volumes;
use crate::{DeskError, learning};

/// Confidence of what a result costs.
const CONFIDENCE: f64 = 0.95;

/// How a thing bids, as its channel has it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Bidding {
    /// Its campaign's strategy.
    pub strategy: Strategy,
    /// The bid in force there; the one that it inherits, where it has none of its own.
    pub bid: Option<Micros>,
    /// The least that the strategy bids.
    pub floor: Option<Micros>,
    /// The most.
    pub ceiling: Option<Micros>,
}

/// A row of the station: settled days only, since what a click may cost follows from its conversions.
#[derive(Clone, Debug)]
pub struct Line {
    /// What was counted, against which target.
    pub row: Row,
    /// How it bids, where its channel told.
    pub bidding: Option<Bidding>,
    /// What a result costs it, or what its spend returns, with its interval.
    pub range: Option<Interval>,
    /// Whether its strategy is learning.
    pub learning: Option<Learning>,
    /// What the one advice asks for; of campaigns only.
    pub cure: Option<Cure>,
}

impl Line {
    /// The CPC that its next step leads to, where that is a step of its bids.
    pub fn next_cpc(&self) -> Option<Price> {
        let Some(Cure::Change(change)) = &self.cure else { return None };
        let bids =
            matches!(change.set, Setting::Bid(_) | Setting::Strategy(_) | Setting::BidCeiling(_));
        let judged = self.row.judged.as_ref().filter(|_| bids)?;
        if change.origin == Origin::Bids {
            return Some(judged.tally.cpc()? * (1.0 + SHOCK));
        }
        judged.diagnosis.halfway_bid
    }
}

/// An account's bids.
pub struct Bids {
    /// The book of the settled days.
    pub book: Arc<Book>,
    /// How clicks answer to bids, campaign by campaign.
    pub volumes: Arc<Volumes>,
    /// Its rows, in no order.
    pub lines: Vec<Line>,
}

/// The rows of a level. Items are of one campaign or many: only those whose settings are asked for have their bids
/// ([`with_items`]).
pub async fn of_account(
    db: &PgPool,
    book: &Arc<Book>,
    level: Level,
    within: Within,
) -> Result<Bids, DeskError> {
    let settings = Settings::of_book(db, book).await?;
    let learners = learning::of_account(db, book).await?;
    let advised = advice::of_account(db, book).await?;
    let settled = match book.settled() {
        Some(window) if window != book.period.window => Arc::new(book.of_settled_days()),
        _ => Arc::clone(book),
    };
    let mut lines = Vec::new();
    for row in rows(db, &settled, level, within).await? {
        let entry = book.entry(row.campaign)?;
        let whole = matches!(row.subject, Subject::Campaign(_));
        let set = settings.campaign(row.campaign);
        lines.push(Line {
            bidding: set.map(|s| bidding(&settings, &row, s)),
            range: range(&settled, entry, &row),
            learning: learners.get(&row.campaign).copied().filter(|_| whole),
            cure: if whole {
                advised.cure(book, &settings, entry, row.judged.as_ref())
            } else {
                None
            },
            row,
        });
    }
    Ok(Bids { book: settled, volumes: Arc::clone(&advised.volumes), lines })
}

/// Fills in the bids of the items among some lines: those that a page shows, not all of a large account.
pub async fn with_items(db: &PgPool, book: &Book, lines: &mut [Line]) -> Result<(), DeskError> {
    let ids: Vec<ItemId> = lines
        .iter()
        .filter_map(|l| match l.row.subject {
            Subject::Item(id) => Some(id),
            _ => None,
        })
        .collect();
    if ids.is_empty() {
        return Ok(());
    }
    let settings = Settings::of_book(db, book).await?.with_items(db, &ids).await?;
    for line in lines {
        line.bidding =
            settings.campaign(line.row.campaign).map(|set| bidding(&settings, &line.row, set));
    }
    Ok(())
}

fn bidding(settings: &Settings, row: &Row, set: &CampaignSettings) -> Bidding {
    Bidding {
        strategy: set.strategy,
        bid: settings.spot(row.subject).and_then(|spot| settings.bid(spot)),
        floor: set.bid_floor,
        ceiling: set.bid_ceiling,
    }
}

/// The interval of a row's CPA or ROAS: of its count, as much as its campaign's days differ by.
fn range(book: &Book, entry: &Entry, row: &Row) -> Option<Interval> {
    let target = row.target?;
    let phi = entry.rules(target, book.period.window).dispersion;
    let known = row.tally.conversions / phi;
    let counted = poisson(known, CONFIDENCE);
    if known <= 0.0 {
        return None;
    }
    let (least, most) = (counted.low / known, counted.high / known);
    Some(match target {
        Target::Cpa(_) => {
            let cpa = row.tally.cpa()?.units();
            Interval { low: cpa / most, high: cpa / least }
        }
        Target::Roas(_) => {
            let roas = row.tally.roas()?;
            Interval { low: roas * least, high: roas * most }
        }
    })
}
