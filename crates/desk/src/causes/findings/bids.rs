//! Bids that somebody has been setting from the averages that they caused.

use chrono::{Days, NaiveDate};
use tiller_core::bid_feedback::{Feedback, feedback, rounds};
use tiller_core::learning::SHOCK;
use tiller_core::setting::{Setting, Strategy};
use tiller_core::{Micros, Price, Tally, Window, affordable};
use tiller_store::facts::BidDay;

use super::people::adds_words;
use super::{Found, Scene};
use crate::numerals::{money, percent};
use crate::tray::proposal::{Adds, Proposal};
use tiller_core::spot::Subject;

/// Settled days that are looked through: twelve rounds of a week.
const DAYS: u64 = 84;
/// The items whose bids follow must carry so much of the spend.
const MOST: f64 = 0.5;
/// A rise below this share is not worth making.
const LEAST_RISE: f64 = 1.05;

/// A week of a campaign's bids.
#[derive(Clone, Copy, Debug)]
pub struct Week {
    /// Its first day.
    pub from: NaiveDate,
    /// The bid of a click, the mean over its items by clicks.
    pub bid: Price,
    /// What was counted.
    pub tally: Tally,
}

/// Bids that follow their own averages, and where that has led.
#[derive(Clone, Debug)]
pub struct Path {
    /// The weeks, the earliest first.
    pub weeks: Vec<Week>,
    /// CPC over bid.
    pub per_bid: f64,
    /// What was added to the averages.
    pub headroom: Price,
    /// The bid that it comes to rest at.
    pub rests_at: Price,
    /// The headroom that would have held the first CPC.
    pub steady: Price,
    /// Each item's bid, raised to what its clicks may cost.
    pub items: Vec<Found>,
}

/// The days that are looked at, up to the end of the period.
pub(super) fn window(period: Window) -> Window {
    Window::ending(period.to(), DAYS)
}

/// Whether bids of this campaign are set by hand, as far as is known.
pub(super) fn by_hand(s: &Scene) -> bool {
    s.settings.campaign(s.campaign()).is_none_or(|c| c.strategy == Strategy::ManualCpc)
}

/// `told` are findings of items that have a bid proposed by their own return already.
pub(super) fn find(s: &Scene, days: &[BidDay], told: &[Found]) -> Option<Path> {
    let mut falling: Vec<(&[BidDay], Feedback)> = Vec::new();
    for item in days.chunk_by(|a, b| a.item == b.item) {
        let path: Vec<_> = item.iter().map(|d| (d.day, d.bid, d.tally)).collect();
        falling.extend(feedback(&rounds(&path)).filter(|f| f.spiral).map(|f| (item, f)));
    }
    let spent = |days: &[BidDay]| days.iter().map(|d| d.tally.spend.to_units()).sum::<f64>();
    let theirs: f64 = falling.iter().map(|(item, _)| spent(item)).sum();
    if falling.is_empty() || theirs < MOST * spent(days) {
        return None;
    }
    // Of all items together, each by its spend.
    let mean = |of: fn(&Feedback) -> f64| {
        falling.iter().map(|(item, f)| of(f) * spent(item)).sum::<f64>() / theirs
    };
    let per_bid = mean(|f| f.per_bid);
    let weeks = weeks(falling.iter().flat_map(|(item, _)| *item), days);
    Some(Path {
        per_bid,
        headroom: Price(mean(|f| f.headroom.units())),
        rests_at: Price(mean(|f| f.rests_at.units())),
        steady: Price(mean(|f| f.steady.units())),
        items: falling
            .iter()
            .filter_map(|(item, f)| raise(s, item, f))
            .filter(|f| told.iter().all(|t| t.id != f.id))
            .collect(),
        weeks,
    })
}

/// The days of these items in weeks, counted back from the last.
fn weeks<'a>(items: impl Iterator<Item = &'a BidDay> + Clone, all: &[BidDay]) -> Vec<Week> {
    let Some(last) = all.iter().map(|d| d.day).max() else { return Vec::new() };
    let mut weeks: Vec<Week> = (0..DAYS / 7)
        .rev()
        .filter_map(|back| {
            let week = Window::ending(last - Days::new(7 * back), 7);
            let of_it = items.clone().filter(|d| week.contains(d.day));
            let (mut tally, mut bids) = (Tally::default(), 0.0);
            for d in of_it {
                tally += d.tally;
                bids += d.bid.map_or(0.0, Micros::to_units) * d.tally.clicks as f64;
            }
            (tally.clicks > 0).then(|| Week {
                from: week.from(),
                bid: Price(bids / tally.clicks as f64),
                tally,
            })
        })
        .collect();
    weeks.sort_by_key(|w| w.from);
    weeks
}

/// The bid whose clicks would cost what a conversion of this campaign affords, no higher than it began.
fn raise(s: &Scene, item: &[BidDay], f: &Feedback) -> Option<Found> {
    let (first, last) = (Price::from(item.first()?.bid?), item.last()?);
    let bid = Price::from(last.bid?);
    let cpa = s.target.as_cpa(s.tally.aov())?;
    let affordable = affordable::affordable(cpa, s.tally.cvr()?)?.cpc;
    let fair = first.min(affordable / f.per_bid);
    let to = Price((fair.min(bid * (1.0 + SHOCK)).units() * 100.0).floor() / 100.0);
    // Where the budget is the limit, more clicks are of no use.
    if to < bid * LEAST_RISE || !s.rules.raise {
        return None;
    }
    let why = format!(
        "set from its own average plus {} in {} rounds, it fell from {} to {}; a click costs {}% of the bid and may cost {}",
        money(f.headroom),
        f.rounds,
        money(first),
        money(bid),
        percent(f.per_bid),
        money(affordable)
    );
    let set = Setting::Bid(Some(to.micros()));
    let by = to / bid;
    let days = item.len() as f64;
    let tally: Tally = item.iter().map(|d| d.tally).sum();
    let clicks = tally.clicks as f64 / days;
    let more = clicks * (by - 1.0) * s.tally.cvr()?;
    let adds = Adds::of(tally.spend.to_units() / days * (by * by - 1.0), more, s.tally.aov());
    let effect = adds_words(&adds);
    let proposal = s
        .propose(Subject::Item(last.item), set, &format!("{why}."), &effect)
        .map(|p| Proposal { adds, ..p });
    Some(Found {
        id: format!("bid:{}", last.item),
        what: last.name.clone(),
        why,
        tally: None,
        excess: 0.0,
        advice: if fair > 1.01 * to {
            format!("bid {} instead of {}, a step toward {}", money(to), money(bid), money(fair))
        } else {
            format!("bid {} instead of {}", money(to), money(bid))
        },
        proposals: proposal.into_iter().collect(),
    })
}
