//! Money kept and conversions lost by what a rule would have done.

use std::collections::HashMap;

use chrono::NaiveDate;

use super::{Act, Found, Thing};
use crate::bid_volume::Range;
use crate::custom_rule::Action;
use crate::evidence::Interval;
use crate::ids::CampaignId;
use crate::metrics::Tally;
use crate::money::Price;
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

/// Each campaign's days: the share of its budget that was spent, where that is known, and what was counted.
#[derive(Clone, Debug, Default)]
pub struct Campaigns(HashMap<CampaignId, HashMap<NaiveDate, (Option<f64>, Tally)>>);

/// A budget is used up from this share on; below the other it surely is not.
const USED: (f64, f64) = (0.95, 0.8);

impl Campaigns {
    /// A campaign's day.
    pub fn add(&mut self, campaign: CampaignId, day: NaiveDate, used: Option<f64>, counted: Tally) {
        self.0.entry(campaign).or_default().insert(day, (used, counted));
    }

    fn used(&self, campaign: CampaignId, day: NaiveDate) -> f64 {
        let day = self.0.get(&campaign).and_then(|days| days.get(&day));
        day.and_then(|(used, _)| *used).unwrap_or(0.0)
    }

    /// Conversions and value that a unit of money brings a campaign in a window.
    fn bring(&self, campaign: CampaignId, window: Window) -> (f64, f64) {
        let days = self.0.get(&campaign).into_iter().flatten();
        let all: Tally = days.filter(|(d, _)| window.contains(**d)).map(|(_, (_, t))| *t).sum();
        let spend = all.spend.to_units();
        if spend > 0.0 {
            (all.conversions / spend, all.value.to_units() / spend)
        } else {
            (0.0, 0.0)
        }
    }
}

const NONE: Range = Range { mid: 0.0, around: Interval { low: 0.0, high: 0.0 } };

fn plus(a: Range, b: Range) -> Range {
    Range {
        mid: a.mid + b.mid,
        around: Interval { low: a.around.low + b.around.low, high: a.around.high + b.around.high },
    }
}

/// A factor that is 1 less another, which is somewhere in a range.
fn less(kept: Range) -> Range {
    let Interval { low, high } = kept.around;
    Range { mid: 1.0 - kept.mid, around: Interval { low: 1.0 - high, high: 1.0 - low } }
}

impl Act {
    pub(super) fn begun(day: NaiveDate, found: Found, from_to: Option<(Price, Price)>) -> Self {
        Self {
            day,
            found,
            from_to,
            followed: Tally::default(),
            kept: NONE,
            lost: NONE,
            lost_value: NONE,
            outcome: Outcome::Open,
        }
    }

    /// Whether its worth is an estimate; otherwise it is what really followed.
    pub fn estimated(&self) -> bool {
        !matches!(self.found.action, Some(Action::Pause | Action::Exclude))
    }
}

/// Works out what followed an act. What a stopped thing did not spend is kept, except on days on which its campaign's
/// budget was used up: then the others spent it, and got what a unit of money gets there.
pub(super) fn follow(
    act: &mut Act,
    thing: &Thing,
    window: Window,
    known: NaiveDate,
    campaigns: &Campaigns,
) {
    act.followed = thing.history.tally(window, known);
    let followed = act.followed;
    match (act.found.action, act.from_to) {
        (Some(Action::Pause | Action::Exclude), _) => {
            let (mut kept, mut moved) = (NONE, NONE);
            for d in thing.history.days(window) {
                let (spend, used) =
                    (d.spend.to_units(), campaigns.used(thing.spot.campaign, d.day));
                let part = |free: bool| if free { spend } else { 0.0 };
                let (mid, low) = (part(used < USED.0), part(used < USED.1));
                kept = plus(kept, Range { mid, around: Interval { low, high: spend } });
                let around = Interval { low: 0.0, high: spend - low };
                moved = plus(moved, Range { mid: spend - mid, around });
            }
            let (conversions, value) = campaigns.bring(thing.spot.campaign, window);
            let lost = |counted: f64, each: f64| {
                let got = moved.times(each);
                Range {
                    mid: counted - got.mid,
                    around: Interval {
                        low: counted - got.around.high,
                        high: counted - got.around.low,
                    },
                }
            };
            act.kept = kept;
            act.lost = lost(followed.conversions, conversions);
            act.lost_value = lost(followed.value.to_units(), value);
            act.outcome = outcome(thing, &followed);
        }
        (Some(Action::BidBy(_) | Action::BidTo(_) | Action::TargetBy(_)), Some((from, to))) => {
            let (mut kept, mut lost) = (NONE, NONE);
            for d in thing.history.days(window) {
                let stood = d.bid.map(Price::from).and_then(Price::positive).unwrap_or(from);
                let times = to / stood;
                let (volume, cpc) = (thing.volume.volume(times), thing.volume.cpc(times));
                let around = Interval {
                    low: volume.around.low * cpc.around.low,
                    high: volume.around.high * cpc.around.high,
                };
                let spend = Range { mid: volume.mid * cpc.mid, around };
                kept = plus(kept, less(spend).times(d.spend.to_units()));
                lost = plus(lost, less(volume).times(d.clicks as f64));
            }
            let per_click =
                |x: f64| if followed.clicks > 0 { x / followed.clicks as f64 } else { 0.0 };
            act.kept = kept;
            act.lost = lost.times(per_click(followed.conversions));
            act.lost_value = lost.times(per_click(followed.value.to_units()));
        }
        (Some(Action::BudgetBy(_) | Action::BudgetTo(_)), Some((from, to))) => {
            let (mut kept, mut results) = (NONE, NONE);
            let spend = followed.spend.to_units();
            for d in thing.history.days(window) {
                let spent = d.spend.to_units();
                let full = spent >= USED.0 * from.units();
                // Less is spent where there was more than it may; more only where the budget was what held it.
                let would = if to < from { spent.min(to.units()) } else { spent * (to / from) };
                let mid = if to < from || full { spent - would } else { 0.0 };
                let high = if to < from { mid } else { 0.0 };
                kept = plus(kept, Range { mid, around: Interval { low: mid, high } });
                // The next unit of money brings from none to as much as the average one (ours, no source: 0.7 of it).
                let around = Interval { low: mid.min(0.0), high: mid.max(0.0) };
                results = plus(results, Range { mid: mid * 0.7, around });
            }
            let each = |x: f64| if spend > 0.0 { x / spend } else { 0.0 };
            act.kept = kept;
            act.lost = results.times(each(followed.conversions));
            act.lost_value = results.times(each(followed.value.to_units()));
        }
        _ => {}
    }
}

/// Whether it was right to stop what went on like this.
fn outcome(thing: &Thing, followed: &Tally) -> Outcome {
    match thing.target {
        Some(target) if followed.spend.get() > 0 => {
            if target.excess(followed) > 0.0 {
                Outcome::Right
            } else {
                Outcome::Mistake
            }
        }
        _ => Outcome::Open,
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
}

/// Adds up what acts are worth.
pub fn sum<'a>(acts: impl IntoIterator<Item = &'a Act>) -> Sum {
    let none = Sum { kept: NONE, lost: NONE, lost_value: NONE, right: 0, mistakes: 0 };
    acts.into_iter().fold(none, |all, act| Sum {
        kept: plus(all.kept, act.kept),
        lost: plus(all.lost, act.lost),
        lost_value: plus(all.lost_value, act.lost_value),
        right: all.right + usize::from(act.outcome == Outcome::Right),
        mistakes: all.mistakes + usize::from(act.outcome == Outcome::Mistake),
    })
}
