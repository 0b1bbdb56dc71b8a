//! What the pages on one campaign's money have in common: its name, its money now, the way between them.

use tiller_desk::CampaignId;
use tiller_desk::book::Book;

use crate::error::PageError;
use crate::frame::Frame;

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

impl Head {
    /// Of a campaign of the account.
    pub fn new(
        frame: &Frame,
        book: &Book,
        campaign: CampaignId,
        side: Side,
    ) -> Result<Self, PageError> {
        let entry = book.entry(campaign)?;
        let base = format!("{}/budgets/campaigns/{campaign}", frame.base());
        Ok(Self {
            name: entry.campaign.name.clone(),
            channel: entry.campaign.channel.clone(),
            all: format!("{}/budgets{}", frame.base(), frame.days),
            causes: format!("{}/causes/campaigns/{campaign}{}", frame.base(), frame.days),
            sides: Side::ALL
                .iter()
                .map(|(s, word, title)| {
                    (*title, format!("{base}/{word}{}", frame.days), *s == side)
                })
                .collect(),
            base,
        })
    }
}
