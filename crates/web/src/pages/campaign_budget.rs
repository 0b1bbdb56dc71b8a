//! What the pages on one campaign's money have in common: its name, its money now, the way between them.

use std::sync::Arc;
use tiller_core::spot::Subject;

use askama::Template;
use askama_web::WebTemplate;
use tiller_desk::book::Book;
use tiller_desk::{CampaignId, PgPool};

use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::pages::book_of_reports;
use crate::params::Params;

/// A page on a campaign's money.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Side {
    /// Its response curve.
    Curve,
    /// Days, flights, lifts.
    Flight,
    /// Its ad groups.
    Pool,
    /// Its week of hours.
    Hours,
}

impl Side {
    const ALL: [(Self, &'static str, &'static str); 4] = [
        (Self::Curve, "curve", "Curve"),
        (Self::Flight, "flight", "Days and lifts"),
        (Self::Pool, "pool", "Ad groups"),
        (Self::Hours, "hours", "Hours"),
    ];
}

/// The head of such a page.
pub struct Head {
    /// The campaign's name.
    pub name: String,
    /// Its channel.
    pub channel: String,
    /// The list of all.
    pub all: String,
    /// Its causes.
    pub causes: String,
    /// Where its forms are sent.
    pub base: String,
    /// Title, link, whether it is this page.
    pub sides: Vec<(&'static str, String, bool)>,
}

/// A page of which nothing can be told.
#[derive(Template, WebTemplate)]
#[template(path = "campaign_untold.html")]
pub struct Untold {
    /// The page.
    pub frame: Frame,
    /// Its head.
    pub head: Head,
    /// Its name.
    pub title: &'static str,
    /// Why.
    pub lead: &'static str,
}

/// What each of these pages begins with.
pub async fn open(
    db: &PgPool,
    member: &Member,
    params: &Params,
    campaign: CampaignId,
    side: Side,
) -> Result<(Arc<Book>, Frame, Head), PageError> {
    let book = book_of_reports(db, member, params).await?;
    let frame = Frame::of_book(member, Station::Budgets, params, &book);
    let head = Head::new(&frame, &book, campaign, side)?;
    Ok((book, frame, head))
}

impl Head {
    /// Of a campaign of the account.
    fn new(
        frame: &Frame,
        book: &Book,
        campaign: CampaignId,
        side: Side,
    ) -> Result<Self, PageError> {
        let entry = book.entry(campaign)?;
        let base = frame.base();
        Ok(Self {
            name: entry.campaign.name.clone(),
            channel: entry.campaign.channel.clone(),
            all: format!("{}/budgets{}", frame.base(), frame.days),
            causes: frame.base().causes(Subject::Campaign(campaign), &frame.days),
            sides: Side::ALL
                .iter()
                .map(|(s, word, title)| {
                    (*title, base.budget(campaign, word, &frame.days), *s == side)
                })
                .collect(),
            base: format!("{base}/budgets/campaigns/{campaign}"),
        })
    }
}
