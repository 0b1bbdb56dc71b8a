//! Bids and what a click cost, round by round, and whether they sink.

use chrono::NaiveDate;

use super::{Act, Days, Rehearsal, Thing};
use crate::bid_rule::spiral::{Spiral, rests, sinks};
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
        let bought = thing.history.mean_bid(over).and_then(Price::positive).unwrap_or(stood);
        let cpc = thing.history.tally(over, by).cpc().map(|cpc| own * (cpc / bought));
        Some(Round { day: *day, bid: own, cpc })
    };
    rehearsal.rounds.iter().filter_map(round).collect()
}

/// Bids that would sink.
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
    /// The clicks of all of those in the window, and what they would be where each bid comes to rest.
    pub clicks: (f64, f64),
    /// The amount above the average click that would hold the clicks of all of them.
    pub holds: Price,
}

/// As little as this of the clicks being lost is no spiral.
const LOSS: f64 = 0.1;

/// Whether the bids that a rule sets by the average click sink: over all of its things, those that rise counted against
/// those that fall.
pub fn sinking(rule: &Rule, things: &[Thing], by: NaiveDate, settle: u64) -> Option<Sinking> {
    let Body::Bid(of) = &rule.body else { return None };
    let window = Window::ending(last_settled(by, settle), of.window_days.into());
    let all: Vec<_> =
        things.iter().enumerate().filter_map(|(n, t)| by_average(of, n, t, window, by)).collect();
    let clicks: f64 = all.iter().map(|one| one.counted.clicks as f64).sum();
    let at_rest = |one: &Average, more: f64| {
        let rest = rests(one.share, one.headroom + Price(more)).unwrap_or(one.bid).max(one.lowest);
        one.counted.clicks as f64 * things[one.thing].volume.volume(rest / one.bid).mid
    };
    let left = |more: f64| all.iter().map(|one| at_rest(one, more)).sum::<f64>();
    if left(0.0) > (1.0 - LOSS) * clicks {
        return None;
    }
    let sinks: Vec<_> = all.iter().filter_map(|one| one.spiral.map(|s| (one, s))).collect();
    let (first, spiral) = *sinks.iter().max_by_key(|(one, _)| one.counted.clicks)?;
    // As much more above the average click as brings the clicks back: more of it never brings fewer.
    let (mut low, mut high) = (0.0, first.bid.units().max(0.01) * 4.0);
    for _ in 0..40 {
        let mid = f64::midpoint(low, high);
        if left(mid) < clicks { low = mid } else { high = mid }
    }
    Some(Sinking {
        thing: first.thing,
        spiral,
        headroom: first.headroom,
        bid: first.bid,
        things: (sinks.len(), all.len()),
        clicks: (clicks, left(0.0)),
        holds: first.headroom + Price(high),
    })
}

/// A thing whose bid goes by its average click.
struct Average {
    thing: usize,
    counted: Tally,
    bid: Price,
    /// What a click costs of its bid.
    share: f64,
    headroom: Price,
    lowest: Price,
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
    let bid = thing.history.bid_on(by).map(Price::from).or(thing.bid)?.positive()?;
    let headroom = Price::from(limits.headroom);
    // What a click of the window costs, at the bid that stands now.
    let bought = thing.history.mean_bid(window).and_then(Price::positive).unwrap_or(bid);
    let cpc = counted.cpc().map(|cpc| bid * (cpc / bought));
    (thing.bids && found.by_average()).then(|| Average {
        thing: n,
        counted,
        bid,
        share: cpc.map_or(1.0, |cpc| cpc / bid),
        headroom,
        lowest: limits.lowest_bid.into(),
        spiral: cpc.and_then(|cpc| sinks(bid, cpc, headroom, limits.lowest_bid.into())),
    })
}
