//! What is wrong inside a campaign, each finding with its money and the change that mends it: people and
//! hours, search terms, listings, settings, and the day on which it broke.
//!
//! - `people`: segments that carry the excess
//! - `searches`: terms paid for in vain, and terms worth a keyword
//! - `listings`: bids that follow each product's own return
//! - `bids`: bids that follow their own averages
//! - `audit`: settings that cost money
//! - `broke`: when the cost of a conversion changed, and what moved first
//! - `gap`: what of the gap to the comparison period is other people

mod audit;
mod bids;
mod broke;
mod gap;
mod listings;
mod people;
mod searches;

use std::sync::Arc;

use tiller_core::ids::{CampaignId, PersonId, TermId};
use tiller_core::segments::Rules;
use tiller_core::setting::Setting;
use tiller_core::{Tally, Target, Window};
use tiller_store::people::Account;
use tiller_store::splits;
use tiller_store::{PgPool, facts};

use crate::account::settings::Settings;
use crate::book::{Book, Entry, Period, Touch, quiet};
use crate::budgets::hours;
use crate::kept::Kept;
use crate::tray::offer::{self, Offer};
use crate::tray::proposal::{Adds, Origin, Proposal};
use crate::{DeskError, tray};
use tiller_core::spot::Subject;

pub use bids::{Path as BidPath, Week as BidWeek};
pub use broke::{Broke, Factor};
pub use gap::Gap;
pub use listings::window as listing_window;
pub use people::Dimension;
pub use searches::Searches;

/// One thing that is wrong, or better done otherwise.
#[derive(Clone, Debug)]
pub struct Found {
    /// Tells it from the campaign's other findings, today and on the next look.
    pub id: String,
    /// What it is about: a segment, a word, a product, a setting.
    pub what: String,
    /// Why, with its numbers.
    pub why: String,
    /// What was counted for it, where that can be told apart.
    pub tally: Option<Tally>,
    /// Money above target that it concerns in the period, in units of currency.
    pub excess: f64,
    /// What to do, in words.
    pub advice: String,
    /// The changes that do it; none where the channel is not connected or they can't be made.
    pub proposals: Vec<Proposal>,
}

impl Found {
    /// The changes that do it, as they are offered.
    pub fn offer(&self) -> Option<Offer<&[Proposal]>> {
        let offer =
            || Offer::new(&self.id, &self.what, offer::says(&self.proposals), &self.proposals[..]);
        (!self.proposals.is_empty()).then(offer)
    }
}

/// All that was found in one campaign.
#[derive(Clone, Debug, Default)]
pub struct Findings {
    /// The days that were looked at.
    pub window: Option<Window>,
    /// Settings that cost money.
    pub audit: Vec<Found>,
    /// People and hours, in the order in which they are looked through.
    pub people: Vec<Dimension>,
    /// The hours of its week that are worth another bid, or none; offered on the page of hours and among the adjustments.
    pub week: Option<Found>,
    /// Search terms.
    pub searches: Searches,
    /// Listings whose bids should move.
    pub listings: Vec<Found>,
    /// Bids that somebody has been setting from their own averages.
    pub path: Option<BidPath>,
    /// The day on which its cost changed.
    pub broke: Option<Broke>,
    /// The gap to the comparison period, by segments.
    pub gap: Option<Gap>,
}

impl Findings {
    /// Every finding, wherever it stands.
    pub fn all(&self) -> impl Iterator<Item = &Found> {
        let people = self.people.iter().flat_map(|d| &d.rows).filter_map(|r| r.found.as_ref());
        let searches = self.searches.waste.iter().chain(&self.searches.promising);
        let raised = self.path.iter().flat_map(|p| &p.items);
        self.audit.iter().chain(people).chain(searches).chain(&self.listings).chain(raised)
    }
}

/// What the parts of the search share.
struct Scene<'a> {
    entry: &'a Entry,
    settings: &'a Settings,
    target: Target,
    window: Window,
    tally: Tally,
    /// Changes of the campaign that are not to be judged yet.
    touches: &'a [Touch],
    /// What holds for bids of all its parts.
    rules: Rules,
}

impl Scene<'_> {
    fn campaign(&self) -> CampaignId {
        self.entry.campaign.id
    }

    /// The change that a finding asks for, where its channel is connected and tells what is set now, and the place is
    /// not left alone after another change.
    fn propose(
        &self,
        subject: Subject,
        set: Setting,
        reason: &str,
        effect: &str,
    ) -> Option<Proposal> {
        let spot = self.settings.spot(subject)?;
        self.settings.connection(self.campaign())?;
        self.settings.present(spot, &set)?;
        if quiet::quiet_at(self.touches, spot, &set).is_some() {
            return None;
        }
        let days = format!("{} to {}", self.window.from(), self.window.to());
        Some(
            Proposal::new(subject, set, Origin::Causes, reason)
                .because("Settled days", days)
                .expecting(effect, Adds::default()),
        )
    }
}

/// By the campaign.
static KEPT: Kept<(Period, CampaignId), Findings> = Kept::new(200);

/// Looks through one campaign; nothing is found without a target or settled days, or where its conversions
/// can't be trusted.
pub async fn of_campaign(
    db: &PgPool,
    book: &Book,
    campaign: CampaignId,
) -> Result<Arc<Findings>, DeskError> {
    book.keep(&KEPT, campaign, || look_through(db, book, campaign)).await
}

async fn look_through(
    db: &PgPool,
    book: &Book,
    campaign: CampaignId,
) -> Result<Findings, DeskError> {
    let entry = book.entry(campaign)?;
    let Some((target, window)) = entry.target.zip(book.settled()) else {
        return Ok(Findings::default());
    };
    let broke = broke::find(db, book, entry).await?;
    if !book.findings(entry).is_empty() {
        return Ok(Findings { window: Some(window), broke, ..Findings::default() });
    }
    let account = book.account.id;
    let long = async {
        if entry.campaign.kind == "listing" {
            facts::items_of(db, account, campaign, listings::window(window), book.as_of).await
        } else {
            Ok(Vec::new())
        }
    };
    let before = async {
        match book.period.against {
            Some(against) => splits::segments_of(db, account, campaign, against).await,
            None => Ok(Vec::new()),
        }
    };
    let of_week = hours::window(window.to());
    let (items, long, split, before, terms, of_week) = tokio::try_join!(
        facts::items_of(db, account, campaign, window, book.as_of),
        long,
        splits::segments_of(db, account, campaign, window),
        before,
        splits::terms_of(db, account, campaign, window),
        splits::week(db, account, Some(campaign), of_week),
    )?;
    let ids: Vec<_> = items.iter().map(|i| i.item).collect();
    let settings = Settings::of_book(db, book).await?.with_items(db, &ids).await?;
    let tally = entry.tally(window);
    let scene = Scene {
        entry,
        settings: &settings,
        target,
        window,
        tally,
        touches: book.touched.get(&campaign).map_or(&[][..], Vec::as_slice),
        rules: entry.rules(target, window),
    };
    let listings = listings::find(&scene, &long);
    let path = if bids::by_hand(&scene) {
        let days = facts::bid_days(db, book.account.id, campaign, bids::window(window)).await?;
        bids::find(&scene, &days, &listings)
    } else {
        None
    };
    let people = people::find(&scene, &split, &of_week);
    let week = people::week(&scene, &of_week);
    let searches = searches::find(&scene, terms);
    Ok(Findings {
        window: Some(window),
        audit: audit::find(&scene, &items, &people, &searches),
        listings,
        path,
        people,
        week,
        searches,
        broke,
        gap: gap::find(&split, &before),
    })
}

/// Remembers that somebody has been through these search terms, so that the next look tells what is new.
pub async fn seen(db: &PgPool, account: &Account, terms: &[TermId]) -> Result<(), DeskError> {
    Ok(splits::terms_seen(db, account.id, terms).await?)
}

/// Puts the changes of chosen findings in the tray; tells how many.
pub async fn take(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    findings: &Findings,
    buttons: &[String],
) -> Result<usize, DeskError> {
    let offers = findings.all().filter_map(Found::offer).collect();
    let proposals: Vec<Proposal> =
        offer::taken(buttons, offers)?.into_iter().flatten().cloned().collect();
    if proposals.is_empty() {
        return Err(DeskError::Invalid(
            "choose findings with a change that can be made; then put them in the tray".into(),
        ));
    }
    tray::propose(db, account, person, proposals).await
}
