//! Whom a campaign, an ad group or an item is compared with: campaigns of its kind and purpose on its channel, on
//! all channels where those are too few, or those that somebody chose. Never another kind, never another purpose.

use tiller_core::ids::CampaignId;
use tiller_core::purpose::Purpose;
use tiller_core::{Micros, Tally, Target};

use super::entry::Completed;
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
    /// Conversions of that which are still to come, and their standard error.
    pub to_come: f64,
    pub error: f64,
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
            to_come: 0.0,
            error: 0.0,
            orders: None,
            channel: entry.campaign.channel.clone(),
            kind: entry.campaign.kind.clone(),
            purpose: entry.purpose,
            by_value: matches!(entry.target, Some(Target::Roas(_))),
        }
    }

    /// A part of a campaign with its share of what is still to come.
    pub fn complete(&mut self, whole: &Completed) {
        let so_far = whole.tally.conversions - whole.to_come;
        if so_far > 0.0 && whole.to_come > 0.0 {
            let more = whole.to_come / so_far;
            self.to_come = self.tally.conversions * more;
            self.error = whole.error * self.tally.conversions / so_far;
            self.tally.conversions += self.to_come;
            self.tally.value = Micros::from_units(self.tally.value.to_units() * (1.0 + more));
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
