//! Bids and what a click cost, round by round, and whether they sink.

use chrono::NaiveDate;

use super::{Act, Days, Rehearsal, Thing};
use crate::bid_rule::spiral::{Spiral, sinks};
use crate::metrics::Tally;
use crate::money::Price;
use crate::rule::{BidRule, Body, Rule};
use crate::window::{Window, last_settled};

/// A round of one thing's path.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Round {
    /// The morning.
    pub day: NaiveDate,
    /// The bid from then on.
    pub bid: Price,
    /// What a click would have cost, on average, as a share of that bid as large as it was of the bid that stood.
    pub cpc: Option<Price>,
}

/// The bids of one thing through a rehearsal; empty where no report tells what was bid.
pub fn path(rehearsal: &Rehearsal, n: usize, thing: &Thing, days: Days, window: u16) -> Vec<Round> {
    let mut bid = None;
    let acts = |day| rehearsal.acts.iter().find(move |a: &&Act| a.found.thing == n && a.day == day);
    let round = |day: &NaiveDate| {
        let by = day.pred_opt()?;
        let stood = thing.history.bid_on(by).map(Price::from).and_then(Price::positive)?;
        if let Some((_, to)) = acts(*day).and_then(|a| a.from_to) {
            bid = Some(to);
        }
        let own = bid.unwrap_or(stood);
        let over = Window::ending(last_settled(by, days.settle), window.into());
        let cpc = thing.history.tally(over, by).cpc().map(|cpc| own * (cpc / stood));
        Some(Round { day: *day, bid: own, cpc })
    };
    rehearsal.rounds.iter().filter_map(round).collect()
}

/// A campaign's bids that would sink.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Sinking {
    /// The thing that sinks with the most clicks.
    pub thing: usize,
    /// What of it.
    pub spiral: Spiral,
    /// The amount above the average click that it is set to.
    pub headroom: Price,
    /// Its bid now.
    pub bid: Price,
    /// Things that sink, of those whose bids go by the average click.
    pub things: (usize, usize),
    /// Their clicks in the window, and what is left of them where the bids rest.
    pub clicks: (f64, f64),
}

/// Whether the bids that a rule sets by the average click sink, over all of its things: none unless those that do have
/// most of the clicks.
pub fn sinking(rule: &Rule, things: &[Thing], by: NaiveDate, settle: u64) -> Option<Sinking> {
    let Body::Bid(of) = &rule.body else { return None };
    let window = Window::ending(last_settled(by, settle), of.window_days.into());
    let all: Vec<_> =
        things.iter().enumerate().filter_map(|(n, t)| by_average(of, n, t, window, by)).collect();
    let sinks: Vec<_> = all.iter().filter_map(|one| one.spiral.map(|s| (one, s))).collect();
    let clicks: f64 = sinks.iter().map(|(one, _)| one.counted.clicks as f64).sum();
    let of_all: f64 = all.iter().map(|one| one.counted.clicks as f64).sum();
    if 2.0 * clicks <= of_all {
        return None;
    }
    let (first, spiral) = *sinks.iter().max_by_key(|(one, _)| one.counted.clicks)?;
    let left = |(one, s): &(&Average, Spiral)| {
        one.counted.clicks as f64 * things[one.thing].volume.volume(s.rests / one.bid).mid
    };
    Some(Sinking {
        thing: first.thing,
        spiral,
        headroom: first.headroom,
        bid: first.bid,
        things: (sinks.len(), all.len()),
        clicks: (clicks, sinks.iter().map(left).sum()),
    })
}

/// A thing whose bid goes by its average click.
struct Average {
    thing: usize,
    counted: Tally,
    bid: Price,
    headroom: Price,
    spiral: Option<Spiral>,
}

fn by_average(
    rule: &BidRule,
    n: usize,
    thing: &Thing,
    window: Window,
    by: NaiveDate,
) -> Option<Average> {
    let counted = thing.history.tally(window, by);
    let found = super::rounds::of_table(rule, n, thing, counted)?;
    let limits = rule.limits.at(thing.spot).complete().ok()?;
    let bid = thing.history.bid_on(by).map(Price::from).or(thing.bid)?;
    let headroom = Price::from(limits.headroom);
    found.by_average().then(|| Average {
        thing: n,
        counted,
        bid,
        headroom,
        spiral: counted.cpc().and_then(|cpc| sinks(bid, cpc, headroom, limits.lowest_bid.into())),
    })
}
