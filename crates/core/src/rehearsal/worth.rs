//! Money kept and conversions lost by what a rule would have done.

use std::collections::HashMap;

use chrono::NaiveDate;

use super::campaigns::{Campaigns, Instead};
use super::late::Late;
use super::{Act, Days, Found, Thing};
use crate::bid_volume::Range;
use crate::custom_rule::Action;
use crate::evidence::{Interval, normal_quantile};
use crate::ids::CampaignId;
use crate::metrics::Tally;
use crate::money::{Micros, Price};
use crate::window::Window;

/// Whether something was right to do, by what followed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// What followed cost more than it may.
    Right,
    /// What followed met the target.
    Mistake,
    /// Nothing followed, or there is no target to hold it against.
    Open,
}

/// What the next unit of money brings, of what the average one does, where a strategy spends it: the prior on a campaign's
/// elasticity, as far as it goes eight times of ten (maths 10).
const BENDS: Range = Range { mid: 0.7, around: Interval { low: 0.38, high: 1.0 } };
/// The same where bids are set by hand: more of the same auctions, until demand runs out (maths 10).
const STRAIGHT: Range = Range { mid: 1.0, around: Interval { low: 0.7, high: 1.0 } };
/// The same where nobody tells which.
const EITHER: Range = Range { mid: 0.85, around: Interval { low: 0.38, high: 1.0 } };

impl Thing {
    /// What the next unit of its campaign's money brings, of what the average one does.
    fn next(&self) -> Range {
        match self.by_hand {
            Some(true) => STRAIGHT,
            Some(false) => BENDS,
            None => EITHER,
        }
    }
}

/// What is left of the whole, of a share that stays.
fn less(stays: Range) -> Range {
    Range::exactly(1.0).minus(stays)
}

impl Act {
    pub(super) fn begun(day: NaiveDate, found: Found, from_to: Option<(Price, Price)>) -> Self {
        Self {
            day,
            found,
            from_to,
            followed: Tally::default(),
            kept: Range::NONE,
            lost: Range::NONE,
            lost_value: Range::NONE,
            outcome: Outcome::Open,
        }
    }

    /// Whether its worth is an estimate; otherwise it is what really followed.
    pub fn estimated(&self) -> bool {
        !matches!(self.found.action, Some(Action::Pause | Action::Exclude))
    }
}

/// The days that followed an act on a thing.
#[derive(Clone, Copy)]
pub(super) struct After<'a> {
    pub thing: &'a Thing,
    /// To the eve of the next act on it.
    pub window: Window,
    pub days: Days,
    pub late: &'a Late,
}

impl After<'_> {
    /// What was counted on those whose conversions are complete, with what is to come by their run-off.
    fn completed(&self) -> Option<Tally> {
        self.days
            .complete(self.window)
            .map(|w| self.late.completed(&self.thing.history, w, self.days.known))
    }

    /// With the conversions that are still to come: complete days by their run-off, the last ones as much by click as those.
    fn with_late(&self, followed: Tally) -> Tally {
        match self.completed().filter(|known| known.clicks > 0) {
            Some(known) => {
                let times = followed.clicks as f64 / known.clicks as f64;
                let value = Micros::from_units(known.value.to_units() * times);
                Tally { conversions: known.conversions * times, value, ..followed }
            }
            None => followed,
        }
    }

    /// Whether it was right to stop what went on like this, by its days that are complete; open of what was not stopped.
    pub(super) fn stopped_rightly(&self, act: &Act) -> Outcome {
        if !matches!(act.found.action, Some(Action::Pause | Action::Exclude)) {
            return Outcome::Open;
        }
        match (self.completed(), self.thing.target) {
            (Some(followed), Some(target)) if followed.spend.get() > 0 => {
                if target.excess(&followed) > 0.0 { Outcome::Right } else { Outcome::Mistake }
            }
            _ => Outcome::Open,
        }
    }
}

/// What an act does to its thing alone.
pub(super) struct Alone {
    /// Money that it frees, by day; below 0 it spends more.
    pub freed: Vec<(NaiveDate, Range)>,
    /// The share of its conversions that is lost with it.
    lost: Range,
    /// Conversions and their value that are likely to be lost, by complete day on which any came.
    pub gone_by_day: Vec<(NaiveDate, [f64; 2])>,
}

impl Alone {
    /// Of an act that stops its thing, or bids otherwise for it; none of any other.
    pub(super) fn of(act: &Act, after: &After) -> Option<Self> {
        let After { thing, window, days, late } = *after;
        let bid = match (act.found.action?, act.from_to) {
            (Action::Pause | Action::Exclude, _) => None,
            (Action::BidBy(_) | Action::BidTo(_) | Action::TargetBy(_), Some(from_to)) => {
                Some(from_to)
            }
            _ => return None,
        };
        // Shares of money and clicks that are gone at so many times the bid.
        let answer = |times: f64| {
            let (volume, cpc) = (thing.volume.volume(times), thing.volume.cpc(times));
            (less(volume.product(cpc)), less(volume))
        };
        // Bids stand for days: the answer is worked out where they change.
        let mut last: Option<(f64, (Range, Range))> = None;
        let mut at = |stood: Option<Micros>| match bid {
            None => (Range::exactly(1.0), Range::exactly(1.0)),
            Some((from, to)) => {
                let times = to / stood.map(Price::from).and_then(Price::positive).unwrap_or(from);
                match last {
                    Some((known, answer)) if known == times => answer,
                    _ => last.insert((times, answer(times))).1,
                }
            }
        };
        let mut came = late.by_day(&thing.history, days.complete(window), days.known).peekable();
        let (mut freed, mut lost, mut gone_by_day) = (Vec::new(), Mean::default(), Vec::new());
        for d in thing.history.days(window) {
            let (spend, clicks) = at(d.bid);
            freed.push((d.day, spend.times(d.spend.to_units())));
            lost.add(clicks, d.clicks);
            while let Some((day, each)) = came.next_if(|(day, _)| *day <= d.day) {
                gone_by_day.push((day, each.map(|x| x * clicks.mid)));
            }
        }
        Some(Self { freed, lost: lost.mean(), gone_by_day })
    }
}

/// A mean weighted by clicks; of days without any, the plain one.
#[derive(Default)]
struct Mean {
    sum: Option<Range>,
    weight: f64,
}

impl Mean {
    fn add(&mut self, of: Range, clicks: i64) {
        let weight = clicks.max(0) as f64 + 1e-9;
        let part = of.times(weight);
        self.sum = Some(self.sum.map_or(part, |sum| sum.plus(part)));
        self.weight += weight;
    }

    fn mean(&self) -> Range {
        self.sum.map_or(Range::NONE, |sum| sum.times(1.0 / self.weight))
    }
}

/// Works out what followed an act. What its thing would not have spent is kept but for what the others of its campaign
/// would have spent of it, for what a unit of money brings there.
pub(super) fn follow(
    act: &mut Act,
    alone: Option<&Alone>,
    after: &After,
    campaigns: &Campaigns,
    instead: &HashMap<CampaignId, Instead>,
) {
    let After { thing, window, days, .. } = *after;
    act.followed = thing.history.tally(window, days.known);
    act.outcome = after.stopped_rightly(act);
    let followed = after.with_late(act.followed);
    let (conversions, value) = (followed.conversions, followed.value.to_units());
    if let Some(alone) = alone {
        let instead = instead.get(&thing.spot.campaign);
        let (mut kept, mut moved) = (Range::NONE, Range::NONE);
        for (day, freed) in &alone.freed {
            let share = instead.and_then(|i| i.kept.get(day)).copied();
            let stays = share.unwrap_or(Range::exactly(1.0)).each_times(*freed);
            kept = kept.plus(stays);
            moved = moved.plus(freed.each_less(stays));
        }
        let brings = instead.map_or((0.0, 0.0), |i| i.brings);
        let got = moved.in_order().product(thing.next());
        act.kept = kept.in_order();
        act.lost = alone.lost.times(conversions).in_order().minus(got.times(brings.0));
        act.lost_value = alone.lost.times(value).in_order().minus(got.times(brings.1));
    }
    if let (Some(Action::BudgetBy(_) | Action::BudgetTo(_)), Some((_, to))) =
        (act.found.action, act.from_to)
    {
        let spend = followed.spend.to_units();
        let each = |x: f64| if spend > 0.0 { x / spend } else { 0.0 };
        act.kept = campaigns.under_budget(thing.spot.campaign, window, to.units());
        let results = act.kept.product(thing.next());
        act.lost = results.times(each(conversions));
        act.lost_value = results.times(each(value));
    }
}

/// What all that a rule would have done comes to.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Sum {
    /// Money kept.
    pub kept: Range,
    /// Conversions lost.
    pub lost: Range,
    /// Revenue lost.
    pub lost_value: Range,
    /// Things stopped rightly.
    pub right: usize,
    /// Things stopped that met the target afterwards.
    pub mistakes: usize,
    /// Things stopped of which that can't be told: too lately, without a target, or nothing was spent on them since.
    pub open: usize,
}

/// Adds up what acts are worth. Which things had the luck, good or bad, to be touched would be others in other weeks: as
/// much as any number of independent pieces differs, that is added.
pub fn sum<'a>(acts: impl IntoIterator<Item = &'a Act>) -> Sum {
    let mut all = Sum {
        kept: Range::NONE,
        lost: Range::NONE,
        lost_value: Range::NONE,
        right: 0,
        mistakes: 0,
        open: 0,
    };
    let mut luck = [0.0; 3];
    for act in acts {
        all.kept = all.kept.plus(act.kept);
        all.lost = all.lost.plus(act.lost);
        all.lost_value = all.lost_value.plus(act.lost_value);
        all.right += usize::from(act.outcome == Outcome::Right);
        all.mistakes += usize::from(act.outcome == Outcome::Mistake);
        for (sum, part) in luck.iter_mut().zip([act.kept, act.lost, act.lost_value]) {
            *sum += part.mid * part.mid;
        }
        if !act.estimated() {
            all.open += usize::from(act.outcome == Outcome::Open);
            // And what followed could have been another number of conversions.
            let (count, value) = (act.followed.conversions, act.followed.value.to_units());
            luck[1] += count;
            luck[2] += if count > 0.0 { value * value / count } else { 0.0 };
        }
    }
    let [kept, lost, value] = luck;
    Sum {
        kept: widened(all.kept, kept),
        lost: widened(all.lost, lost),
        lost_value: widened(all.lost_value, value),
        ..all
    }
}

/// A range with an independent variance added, eight times of ten; not across nothing for that.
fn widened(of: Range, variance: f64) -> Range {
    let reach = normal_quantile(0.9) * variance.sqrt();
    let Interval { low, high } = of.around;
    let (floor, ceiling) = (
        if low >= 0.0 { 0.0 } else { f64::NEG_INFINITY },
        if high <= 0.0 { 0.0 } else { f64::INFINITY },
    );
    let low = (of.mid - (of.mid - low).hypot(reach)).max(floor);
    let high = (of.mid + (high - of.mid).hypot(reach)).min(ceiling);
    Range { mid: of.mid, around: Interval { low, high } }
}
