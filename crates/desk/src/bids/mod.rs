//! Bids: how each campaign, ad group and item bids, what a click may cost it, and where its bid should go.
//!
//! - `adjustments`: for people, places, devices, of all campaigns
//! - `advisor`: which strategy fits
//! - `against`: bid against volume
//! - `course`: steps toward what is affordable, with their look-backs
//! - `estimate`: what a campaign would bring that doesn't exist yet
//! - `file`: of a report file, for the command line
//! - `shared`: strategies that several campaigns share
//! - `starting`: a first target, and the budget that it needs
//! - `step`: one campaign's next step, now and then
//! - `toward`: many bids at once, halfway or all the way to what is affordable
//! - `typed_table`: the advisor's table as a form
//! - `words`: how that is said

pub mod adjustments;
pub mod advisor;
pub mod against;
pub mod course;
pub mod estimate;
pub mod file;
pub mod shared;
pub mod starting;
pub mod step;
pub mod toward;
pub mod typed_table;
pub mod words;

use std::collections::HashMap;
use std::sync::Arc;

use tiller_core::Price;
use tiller_core::evidence::{Interval, poisson};
use tiller_core::ids::CampaignId;
use tiller_core::learning::Learning;
use tiller_core::setting::{CampaignSettings, Strategy};
use tiller_core::spot::Subject;
use tiller_core::{Micros, Target, Window};
use tiller_store::PgPool;

use crate::account::settings::Settings;
use crate::advice::{self, Cure};
use crate::book::{Book, Period};
use crate::kept::Kept;
use crate::rows::{Level, Row, Within, rows_over};
use crate::tray::items_of;
use crate::tray::proposal::lower_from;
use crate::volume::Volumes;
use crate::{DeskError, learning};

/// Confidence of what a result costs.
const CONFIDENCE: f64 = 0.95;

/// How a thing bids, as its channel has it.
#[derive(Clone, Debug, PartialEq)]
pub struct Bidding {
    /// Its campaign's strategy.
    pub strategy: Strategy,
    /// The shared strategy that this is.
    pub shared: Option<String>,
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
    /// Where that leads its bids, if it moves them.
    pub step: Option<BidStep>,
}

/// A step of a campaign's bids.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct BidStep {
    /// Times what is bid now.
    pub times: f64,
    /// What a click costs then.
    pub cpc: Price,
}

impl BidStep {
    /// Of a change, from what stands for the bid now.
    fn of(settings: &Settings, volumes: &Volumes, row: &Row, cure: &Cure) -> Option<Self> {
        let Cure::Change(change) = cure else { return None };
        if !change.set.moves_bids() {
            return None;
        }
        let paid = volumes.paid(row.campaign, row.judged.as_ref()?)?;
        let (to, set) = (change.set.bid_level()?, settings.campaign(row.campaign)?);
        let from = set.bid_level().filter(|now| to > *now).or_else(|| lower_from(set, paid))?;
        let times = to / from;
        let cpc = paid * volumes.get(row.campaign).cpc(times).mid;
        Some(Self { times, cpc })
    }
}

/// An account's campaigns with their bids.
#[derive(Debug)]
pub struct Bids {
    /// The book.
    pub book: Arc<Book>,
    /// The settled days that they are looked at over.
    pub window: Window,
    /// How clicks answer to bids, campaign by campaign.
    pub volumes: Arc<Volumes>,
    /// Its campaigns, in no order.
    pub lines: Vec<Line>,
}

/// The days that bids are looked at over.
fn window(book: &Book) -> Window {
    book.settled().unwrap_or(book.period.window)
}

static KEPT: Kept<(Period, ()), Bids> = Kept::new(24);

/// An account's campaigns.
pub async fn campaigns(db: &PgPool, book: &Arc<Book>) -> Result<Arc<Bids>, DeskError> {
    let read = async || {
        let advised = advice::of_account(db, book).await?;
        let rows = rows_of(db, book, Level::Campaigns, Within::default()).await?;
        Ok(Bids {
            book: Arc::clone(book),
            window: window(book),
            volumes: Arc::clone(&advised.volumes),
            lines: lines(db, book, rows.to_vec()).await?,
        })
    };
    book.keep(&KEPT, (), read).await
}

/// Of a large account a level has tens of thousands: of few accounts at a time.
static ROWS: Kept<(Period, (Level, Within)), Vec<Row>> = Kept::new(4);

/// The rows of a level over the settled days.
pub async fn rows_of(
    db: &PgPool,
    book: &Book,
    level: Level,
    within: Within,
) -> Result<Arc<Vec<Row>>, DeskError> {
    let over = Period { window: window(book), against: None };
    book.keep(&ROWS, (level, within), || rows_over(db, book, level, within, over)).await
}

/// Rows with how they bid: of a large account those that a page shows, since each item's settings are read.
pub async fn lines(db: &PgPool, book: &Book, rows: Vec<Row>) -> Result<Vec<Line>, DeskError> {
    let items = items_of(rows.iter().map(|r| r.subject));
    let settings = Settings::of_book(db, book).await?.with_items(db, &items).await?;
    let learners = learning::of_account(db, book).await?;
    let advised = advice::of_account(db, book).await?;
    let over = window(book);
    let mut dispersions: HashMap<CampaignId, f64> = HashMap::new();
    let mut lines = Vec::with_capacity(rows.len());
    for row in rows {
        let entry = book.entry(row.campaign)?;
        let whole = matches!(row.subject, Subject::Campaign(_));
        let set = settings.campaign(row.campaign);
        let phi = row.target.map(|target| {
            let of = || entry.rules(target, over).dispersion;
            *dispersions.entry(row.campaign).or_insert_with(of)
        });
        let judged = row.judged.as_ref().filter(|_| whole);
        let cure = if whole { advised.cure(book, &settings, entry, judged) } else { None };
        let step = cure.as_ref().and_then(|c| BidStep::of(&settings, &advised.volumes, &row, c));
        lines.push(Line {
            bidding: set.map(|s| bidding(&settings, &row, s)),
            range: phi.and_then(|phi| range(&row, phi)),
            learning: learners.get(&row.campaign).copied().filter(|_| whole),
            cure,
            step,
            row,
        });
    }
    Ok(lines)
}

fn bidding(settings: &Settings, row: &Row, set: &CampaignSettings) -> Bidding {
    Bidding {
        strategy: set.strategy,
        shared: set.shared.clone(),
        bid: settings.spot(row.subject).and_then(|spot| settings.bid(spot)),
        floor: set.bid_floor,
        ceiling: set.bid_ceiling,
    }
}

/// The interval of a row's CPA or ROAS: of its count, where its campaign's days differ `phi` times as much as chance
/// alone would have them.
fn range(row: &Row, phi: f64) -> Option<Interval> {
    let target = row.target?;
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
