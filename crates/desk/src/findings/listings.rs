//! Listings: each product's bid follows what its own clicks bring.

use tiller_channel::wire::{Setting, Strategy};
use tiller_core::listing_bids;
use tiller_core::{Micros, Tally, Target, Window};
use tiller_store::facts::ItemTally;

use super::{Found, Scene};
use crate::book::Subject;
use crate::figures::{count, money, number, or_absent};

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
    let mut all: Vec<Found> = listed.into_iter().filter_map(|i| one(s, &parent, i)).collect();
    all.sort_by(|a, b| b.excess.abs().total_cmp(&a.excess.abs()));
    all
}

fn one(s: &Scene, parent: &Tally, i: &ItemTally) -> Option<Found> {
    let spot = s.settings.spot(Subject::Item(i.item))?;
    let bid = s.settings.bid(spot)?.to_units();
    let p = listing_bids::propose(parent, &i.tally, bid, s.target)?;
    let to = (p.bid * 100.0).round() / 100.0;
    let result = match s.target {
        Target::Cpa(_) => format!("CPA {}", or_absent(i.tally.cpa(), money)),
        Target::Roas(_) => format!("ROAS {}", or_absent(i.tally.roas(), |r| number(r, 1))),
    };
    let why = format!(
        "{result} from {} clicks and {} conversions in {DAYS} days; a click costs {} and may cost {}",
        number(i.tally.clicks as f64, 0),
        count(i.tally.conversions),
        or_absent(i.tally.cpc(), money),
        money(p.affordable)
    );
    let set = Setting::Bid(Some(Micros::from_units(to)));
    Some(Found {
        id: format!("bid:{}", i.item),
        what: i.name.clone(),
        proposals: s
            .propose(
                Subject::Item(i.item),
                set,
                &format!("{why}."),
                "halfway to what a click may cost",
            )
            .into_iter()
            .collect(),
        why,
        tally: Some(i.tally),
        excess: s.target.excess(&i.tally),
        advice: format!("bid {} instead of {}", money(to), money(bid)),
    })
}
