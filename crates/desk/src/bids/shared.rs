//! Strategies that several campaigns of a channel share, with who takes part, and who could.

use tiller_core::ids::CampaignId;

use super::{Bidding, Bids, Line};

/// A shared strategy.
#[derive(Debug)]
pub struct Shared<'a> {
    /// Its name, one of its kind at its channel.
    pub name: &'a str,
    /// The channel.
    pub channel: &'a str,
    /// How it bids.
    pub bidding: &'a Bidding,
    /// The campaigns that take part, the one that spends the most first.
    pub members: Vec<&'a Line>,
}

impl Shared<'_> {
    /// A campaign at which it can be changed: what is set there is set at all.
    pub fn at(&self) -> Option<CampaignId> {
        self.members.first().map(|l| l.row.campaign)
    }
}

/// An account's shared strategies, by channel and name.
pub fn of(bids: &Bids) -> Vec<Shared<'_>> {
    let mut all: Vec<Shared> = Vec::new();
    for line in &bids.lines {
        let Some(bidding) = &line.bidding else { continue };
        let Some(name) = bidding.shared.as_deref() else { continue };
        let channel = line.row.channel.as_str();
        match all.iter_mut().find(|s| s.name == name && s.channel == channel) {
            Some(shared) => shared.members.push(line),
            None => all.push(Shared { name, channel, bidding, members: vec![line] }),
        }
    }
    all.sort_by_key(|s| (s.channel, s.name));
    for shared in &mut all {
        shared.members.sort_by_key(|l| std::cmp::Reverse(l.row.tally.spend));
    }
    all
}

/// Campaigns with a strategy of their own that they could share or give up for a shared one, by channel and name.
pub fn could(bids: &Bids) -> Vec<&Line> {
    let own = |l: &&Line| {
        let shares = |b: &Bidding| b.shared.is_some() || !b.strategy.automatic();
        l.bidding.as_ref().is_some_and(|b| !shares(b))
    };
    let mut all: Vec<&Line> = bids.lines.iter().filter(own).collect();
    all.sort_by_key(|l| (l.row.channel.as_str(), l.row.name.as_str()));
    all
}
