//! Many bids at once, toward what their targets afford.

use tiller_core::Price;
use tiller_core::affordable::halfway_bid;
use tiller_core::ids::PersonId;
use tiller_core::spot::Subject;
use tiller_store::PgPool;

use super::rows_of;
use crate::account::settings::Settings;
use crate::book::Book;
use crate::numerals::money;
use crate::rows::{Level, Row, Within};
use crate::tray::items_of;
use crate::tray::proposal::{Origin, Proposal, bid_times};
use crate::volume::{self, Volumes};
use crate::{DeskError, tray};

/// How far.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Toward {
    /// Halfway.
    Halfway,
    /// All the way.
    Affordable,
}
tiller_core::words!(Toward: Halfway "halfway", Affordable "affordable");

impl Toward {
    /// For people.
    pub fn title(self) -> &'static str {
        match self {
            Self::Halfway => "bid halfway to affordable",
            Self::Affordable => "bid to affordable",
        }
    }

    fn cpc(self, affordable: Price, paid: Price) -> Price {
        match self {
            Self::Halfway => halfway_bid(affordable, paid),
            Self::Affordable => affordable,
        }
    }
}

/// Sets bids (or what stands for them: a target, a ceiling) so that a click costs what is affordable, or halfway there.
/// One that can't be set keeps all from the tray.
pub async fn set(
    db: &PgPool,
    book: &Book,
    person: PersonId,
    subjects: &[Subject],
    toward: Toward,
    reason: &str,
) -> Result<usize, DeskError> {
    if subjects.is_empty() {
        return Err(DeskError::Invalid("choose at least one row first".into()));
    }
    let items = items_of(subjects.iter().copied());
    let settings = Settings::of_book(db, book).await?.with_items(db, &items).await?;
    let volumes = volume::of_account(db, book).await?;
    let mut proposals = Vec::with_capacity(subjects.len());
    for level in [Level::Campaigns, Level::AdGroups, Level::Items] {
        let of_level: Vec<Subject> =
            subjects.iter().copied().filter(|s| level_of(*s) == level).collect();
        if of_level.is_empty() {
            continue;
        }
        let rows = rows_of(db, book, level, Within::default()).await?;
        for subject in of_level {
            let row = rows.iter().find(|r| r.subject == subject);
            let row = row.ok_or(DeskError::NotFound("row with figures"))?;
            proposals.push(propose(&settings, &volumes, row, toward, reason)?);
        }
    }
    tray::propose(db, &book.account, person, proposals).await
}

fn level_of(subject: Subject) -> Level {
    match subject {
        Subject::Campaign(_) => Level::Campaigns,
        Subject::AdGroup(_) => Level::AdGroups,
        Subject::Item(_) => Level::Items,
    }
}

fn propose(
    settings: &Settings,
    volumes: &Volumes,
    row: &Row,
    toward: Toward,
    reason: &str,
) -> Result<Proposal, DeskError> {
    let refuse = |why: &str| DeskError::Invalid(format!("{}: {why}", row.name));
    let (paid, may) = row.tally.cpc().zip(row.affordable()).ok_or_else(|| {
        refuse("what a click may cost is not known: it needs a target, clicks and conversions")
    })?;
    let to = toward.cpc(may.cautious, paid);
    let spot = settings.spot(row.subject).ok_or_else(tray::unconnected)?;
    let times = volumes.get(row.campaign).bid_for(to / paid);
    let set = bid_times(settings, spot, times, Some(paid)).ok_or_else(|| {
        refuse("nothing sets its bid there: its strategy bids without a target or a highest bid")
    })?;
    let because = match reason.trim() {
        "" => format!("Set by hand: {}.", toward.title()),
        said => said.to_owned(),
    };
    Ok(Proposal::new(row.subject, set, Origin::Hand, because)
        .because("CPC", money(paid))
        .because("Affordable CPC", money(may.cautious))
        .because("CPC after the change", money(to)))
}
