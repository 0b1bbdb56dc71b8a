//! Whom a campaign, an ad group or an item is compared with: campaigns of its kind and purpose on its channel, on
//! all channels where those are too few, or those that somebody chose. Never another kind, never another purpose.

use tiller_core::ids::CampaignId;
use tiller_core::purpose::Purpose;
use tiller_core::{Tally, Target};

use super::{Entry, Subject};
use tiller_core::evidence::order_values::Orders;

/// Fewer peers than this are no benchmark: the circle is widened to all channels.
const LEAST: usize = 2;

/// Whom a thing is compared with.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PeerCircle {
    /// Its kind and purpose, on its channel.
    Channel(String, Purpose),
    /// Its kind and purpose, on all channels.
    All(Purpose),
    /// Campaigns that somebody chose.
    Chosen,
}

/// A thing among its likes.
#[derive(Clone, Debug)]
pub(super) struct Candidate {
    pub subject: Subject,
    pub campaign: CampaignId,
    pub tally: Tally,
    pub orders: Option<Orders>,
    channel: String,
    kind: String,
    purpose: Purpose,
    by_value: bool,
}

impl Candidate {
    /// A thing of a campaign, so far without anything counted.
    pub fn of(entry: &Entry, subject: Subject) -> Self {
        Self {
            subject,
            campaign: entry.campaign.id,
            tally: Tally::default(),
            orders: None,
            channel: entry.campaign.channel.clone(),
            kind: entry.campaign.kind.clone(),
            purpose: entry.purpose,
            by_value: matches!(entry.target, Some(Target::Roas(_))),
        }
    }

    fn like(&self, other: &Self) -> bool {
        (&self.kind, self.purpose, self.by_value) == (&other.kind, other.purpose, other.by_value)
    }
}

/// The peers of one among all, and the circle that they come from.
pub(super) fn of<'a>(
    one: &Candidate,
    chosen: &[CampaignId],
    all: &'a [Candidate],
) -> (Vec<&'a Candidate>, PeerCircle) {
    let others = || all.iter().filter(|c| c.subject != one.subject && c.tally.clicks > 0);
    if !chosen.is_empty() {
        return (others().filter(|c| chosen.contains(&c.campaign)).collect(), PeerCircle::Chosen);
    }
    let near: Vec<_> = others().filter(|c| c.like(one) && c.channel == one.channel).collect();
    if near.len() >= LEAST {
        return (near, PeerCircle::Channel(one.channel.clone(), one.purpose));
    }
    (others().filter(|c| c.like(one)).collect(), PeerCircle::All(one.purpose))
}

/// The orders of some things as one: the mean over all of them, and the mean of how far they vary.
pub(super) fn together<'a>(all: impl Iterator<Item = &'a Candidate> + Clone) -> Option<Orders> {
    let count: f64 = all.clone().filter_map(|c| c.orders).map(|o| o.count).sum();
    let mean = |of: fn(Orders) -> f64| {
        all.clone().filter_map(|c| c.orders).map(|o| o.count * of(o)).sum::<f64>() / count
    };
    (count > 0.0).then(|| Orders {
        count,
        mean: mean(|o| o.mean),
        variation: mean(|o| o.variation),
    })
}
