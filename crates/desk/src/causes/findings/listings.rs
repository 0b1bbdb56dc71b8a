//! Listings: each product's bid follows what its own clicks bring.

use tiller_core::listing_bids::{self, Proposal};
use tiller_core::setting::{Setting, Strategy};
use tiller_core::{Price, Tally, Target, Window};
use tiller_store::facts::ItemTally;

use super::people::adds_words;
use super::{Found, Scene};
use crate::numerals::{conversions as counted, money, number, or_absent};
use crate::tray::proposal::Adds;
use tiller_core::spot::Subject;

/// A product sells seldom: its return is read from so many days.
const DAYS: u64 = 84;

/// The days that listings are looked at, up to the end of the period.
pub fn window(period: Window) -> Window {
    Window::ending(period.to(), period.days().max(DAYS))
}

pub(super) fn find(s: &Scene, items: &[ItemTally]) -> Vec<Found> {
    // Where a strategy makes the bids, a listing has none to move.
    let manual =
        s.settings.campaign(s.campaign()).is_some_and(|c| c.strategy == Strategy::ManualCpc);
    if !manual {
        return Vec::new();
    }
    let listed: Vec<&ItemTally> = items.iter().filter(|i| i.kind == "listing").collect();
    let parent: Tally = listed.iter().map(|i| i.tally).sum();
    let bid = |i: &ItemTally| {
        let spot = s.settings.spot(Subject::Item(i.item))?;
        Some(Price::from(s.settings.bid(spot)?))
    };
    let proposed: Vec<(&ItemTally, Price, Proposal)> = listed
        .into_iter()
        .filter_map(|i| {
            let bid = bid(i)?;
            Some((i, bid, listing_bids::propose(&parent, &i.tally, bid, s.rules)?))
        })
        .collect();
    // Of all of them at once: chance has as many tries as there are listings.
    let believed = listing_bids::believed(&proposed.iter().map(|p| p.2).collect::<Vec<_>>());
    let mut all: Vec<Found> = proposed
        .iter()
        .zip(believed)
        .filter(|(_, believed)| *believed)
        .map(|((i, bid, p), _)| one(s, i, *bid, p))
        .collect();
    all.sort_by(|a, b| b.excess.abs().total_cmp(&a.excess.abs()));
    all
}

fn one(s: &Scene, i: &ItemTally, bid: Price, p: &Proposal) -> Found {
    let to = Price((p.bid.units() * 100.0).round() / 100.0);
    let result = match s.target {
        Target::Cpa(_) => format!("CPA {}", or_absent(i.tally.cpa(), money)),
        Target::Roas(_) => format!("ROAS {}", or_absent(i.tally.roas(), |r| number(r, 1))),
    };
    let why = format!(
        "{result} from {} clicks and {} in {DAYS} days; a click costs {} and may cost {}",
        number(i.tally.clicks as f64, 0),
        counted(i.tally.conversions),
        or_absent(i.tally.cpc(), money),
        money(p.affordable)
    );
    let set = Setting::Bid(Some(to.micros()));
    let by = to / bid;
    let (spend, conversions) = (i.tally.spend.to_units(), i.tally.conversions);
    let days = DAYS.max(s.window.days()) as f64;
    let adds =
        Adds::of(spend * (by * by - 1.0) / days, conversions * (by - 1.0) / days, i.tally.aov());
    let effect = adds_words(&adds);
    Found {
        id: format!("bid:{}", i.item),
        what: i.name.clone(),
        proposals: s
            .propose(Subject::Item(i.item), set, &format!("{why}."), &effect)
            .map(|p| crate::tray::proposal::Proposal { adds, ..p })
            .into_iter()
            .collect(),
        why: format!("{why}; {effect}"),
        tally: Some(i.tally),
        excess: s.target.excess(&i.tally),
        advice: format!("bid {} instead of {}", money(to), money(bid)),
    }
}
