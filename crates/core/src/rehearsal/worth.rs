//! Money kept and conversions lost by what a rule would have done.

use std::collections::{BTreeMap, HashMap};

use chrono::{Datelike, NaiveDate};

use super::{Act, Days, Found, Thing};
use crate::bid_volume::Range;
use crate::custom_rule::Action;
use crate::evidence::{Interval, normal_quantile};
use crate::ids::CampaignId;
use crate::metrics::Tally;
use crate::money::{Micros, Price};
use crate::window::{Window, last_settled};

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

/// A campaign's day.
#[derive(Clone, Copy, Debug, Default)]
pub struct CampaignDay {
    /// The share of its budget that was spent, where that is known.
    pub used: Option<f64>,
    /// The share of its auctions that were lost because the budget was used up, where the channel tells.
    pub lost: Option<f64>,
    /// What was counted.
    pub counted: Tally,
}

impl CampaignDay {
    /// Money that what goes on would have spent more, had it had it: the most, what is likely, the least.
    fn wanted(&self, freed: f64) -> [f64; 3] {
        let used = self.used.unwrap_or(0.0);
        let Some(lost) = self.lost else {
            let from = |share: f64| if used >= share { freed } else { 0.0 };
            return [from(USED.1), from(USED.0), 0.0];
        };
        let others = (self.counted.spend.to_units() - freed).max(0.0);
        [TOLD.1, 1.0, TOLD.0].map(|times| {
            let lost = (lost * times).clamp(0.0, 0.99);
            others * lost / (1.0 - lost)
        })
    }
}

/// Each campaign's days.
#[derive(Clone, Debug, Default)]
pub struct Campaigns(HashMap<CampaignId, BTreeMap<NaiveDate, CampaignDay>>);

/// A budget is used up from this share on; below the other it surely is not.
const USED: (f64, f64) = (0.95, 0.8);
/// What is lost for want of budget is told by shares of auctions, not of money: it may be so many times less or more.
const TOLD: (f64, f64) = (0.5, 1.5);

/// Money that stopped things did not spend, all that a rule stopped together, by campaign and day.
pub(super) type Freed = HashMap<CampaignId, BTreeMap<NaiveDate, f64>>;

/// The share of it that nobody spends instead, by campaign and month.
pub(super) type Kept = HashMap<(CampaignId, Month), Range>;
type Month = (i32, u32);

fn month(day: NaiveDate) -> Month {
    (day.year(), day.month())
}

impl Campaigns {
    /// A campaign's day.
    pub fn add(&mut self, campaign: CampaignId, day: NaiveDate, of: CampaignDay) {
        self.0.entry(campaign).or_default().insert(day, of);
    }

    /// The share of what stopped things did not spend that nobody spends instead. A daily budget holds on average over a
    /// month (common practice, no source): what is left over on one day is there on a later one. With a share *l* of its
    /// auctions lost for want of budget, what a campaign goes on with would have spent *l* ÷ (1 − *l*) of its day's
    /// money more. Where no channel tells *l*, it takes on a day on which the budget was used up what was free that day.
    pub(super) fn kept(&self, freed: &Freed) -> Kept {
        let mut all = Kept::new();
        for (campaign, freed) in freed {
            let days: Vec<(&NaiveDate, &f64)> = freed.iter().collect();
            for days in days.chunk_by(|a, b| month(*a.0) == month(*b.0)) {
                let (first, free) = (*days[0].0, days.iter().map(|d| d.1).sum::<f64>());
                let mut wanted = [0.0; 3];
                for (day, of) in self.0.get(campaign).into_iter().flatten() {
                    if *day >= first && month(*day) == month(first) {
                        let each = of.wanted(freed.get(day).copied().unwrap_or(0.0));
                        wanted.iter_mut().zip(each).for_each(|(sum, x)| *sum += x);
                    }
                }
                let share = |wanted: f64| 1.0 - (wanted / free.max(1e-9)).min(1.0);
                let [low, mid, high] = wanted.map(share);
                let range = Range { mid, around: Interval { low, high } };
                all.insert((*campaign, month(first)), range);
            }
        }
        all
    }

    /// Conversions and value that a unit of money brings a campaign in a window, by its days that are complete.
    fn bring(&self, campaign: CampaignId, window: Window, days: Days) -> (f64, f64) {
        let Some(window) = complete(window, days) else { return (0.0, 0.0) };
        let days = self.0.get(&campaign).into_iter().flatten();
        let all: Tally = days.filter(|(d, _)| window.contains(**d)).map(|(_, of)| of.counted).sum();
        let spend = all.spend.to_units();
        if spend > 0.0 {
            (all.conversions / spend, all.value.to_units() / spend)
        } else {
            (0.0, 0.0)
        }
    }
}

const ALL: Range = Range { mid: 1.0, around: Interval { low: 1.0, high: 1.0 } };
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

/// Works out what followed an act. What a stopped thing did not spend is kept but for what the others of its campaign
/// would have spent of it, for what a unit of money brings there.
pub(super) fn follow(
    act: &mut Act,
    thing: &Thing,
    window: Window,
    days: Days,
    (campaigns, shares): (&Campaigns, &Kept),
) {
    act.followed = thing.history.tally(window, days.known);
    act.outcome = stopped_rightly(act, thing, window, days);
    let followed = with_late(act.followed, thing, window, days);
    match (act.found.action, act.from_to) {
        (Some(Action::Pause | Action::Exclude), _) => {
            let (mut kept, mut moved) = (NONE, NONE);
            for d in thing.history.days(window) {
                let (spend, of) = (d.spend.to_units(), (thing.spot.campaign, month(d.day)));
                let share = shares.get(&of).copied().unwrap_or(ALL);
                kept = plus(kept, share.times(spend));
                moved = plus(moved, less(share).times(spend));
            }
            let (conversions, value) = campaigns.bring(thing.spot.campaign, window, days);
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
        }
        (Some(Action::BidBy(_) | Action::BidTo(_) | Action::TargetBy(_)), Some((from, to))) => {
            let (mut kept, mut lost) = (NONE, NONE);
            let answer = |times: f64| {
                let (volume, cpc) = (thing.volume.volume(times), thing.volume.cpc(times));
                let around = Interval {
                    low: volume.around.low * cpc.around.low,
                    high: volume.around.high * cpc.around.high,
                };
                (volume, Range { mid: volume.mid * cpc.mid, around })
            };
            // Bids stand for days: the answer is worked out where they change.
            let mut last: Option<(f64, (Range, Range))> = None;
            for d in thing.history.days(window) {
                let stood = d.bid.map(Price::from).and_then(Price::positive).unwrap_or(from);
                let times = to / stood;
                let (_, (volume, spend)) = match last {
                    Some(known) if known.0 == times => known,
                    _ => *last.insert((times, answer(times))),
                };
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

/// The days of a window whose conversions are complete.
fn complete(window: Window, days: Days) -> Option<Window> {
    Window::new(window.from(), window.to().min(last_settled(days.known, days.settle)))
}

/// With the conversions that are still to come: the last days bring as much by click as those that are complete.
fn with_late(followed: Tally, thing: &Thing, window: Window, days: Days) -> Tally {
    let known = complete(window, days).map(|w| thing.history.tally(w, days.known));
    match known.filter(|known| known.clicks > 0) {
        Some(known) => {
            let times = followed.clicks as f64 / known.clicks as f64;
            let value = Micros::from_units(known.value.to_units() * times);
            Tally { conversions: known.conversions * times, value, ..followed }
        }
        None => followed,
    }
}

/// Whether it was right to stop what went on like this, by its days that are complete; open of what was not stopped.
pub(super) fn stopped_rightly(act: &Act, thing: &Thing, window: Window, days: Days) -> Outcome {
    if !matches!(act.found.action, Some(Action::Pause | Action::Exclude)) {
        return Outcome::Open;
    }
    let Some(window) = complete(window, days) else { return Outcome::Open };
    let followed = thing.history.tally(window, days.known);
    match thing.target {
        Some(target) if followed.spend.get() > 0 => {
            if target.excess(&followed) > 0.0 {
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
    /// Things stopped of which that can't be told: too lately, without a target, or nothing was spent on them since.
    pub open: usize,
}

/// Adds up what acts are worth. What a stopped thing went on to do is known; which things had bad luck enough to be
/// stopped would be others in other weeks: as much as any number of independent pieces differs, that is added.
pub fn sum<'a>(acts: impl IntoIterator<Item = &'a Act>) -> Sum {
    let mut all = Sum { kept: NONE, lost: NONE, lost_value: NONE, right: 0, mistakes: 0, open: 0 };
    let mut luck = [0.0; 3];
    for act in acts {
        all.kept = plus(all.kept, act.kept);
        all.lost = plus(all.lost, act.lost);
        all.lost_value = plus(all.lost_value, act.lost_value);
        all.right += usize::from(act.outcome == Outcome::Right);
        all.mistakes += usize::from(act.outcome == Outcome::Mistake);
        if !act.estimated() {
            all.open += usize::from(act.outcome == Outcome::Open);
            for (sum, part) in luck.iter_mut().zip([act.kept, act.lost, act.lost_value]) {
                *sum += part.mid * part.mid;
            }
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

/// A range with an independent variance added, eight times of ten; not below nothing for that.
fn widened(of: Range, variance: f64) -> Range {
    let reach = normal_quantile(0.9) * variance.sqrt();
    let low = (of.mid - (of.mid - of.around.low).hypot(reach)).max(of.around.low.min(0.0));
    let high = of.mid + (of.around.high - of.mid).hypot(reach);
    Range { mid: of.mid, around: Interval { low, high } }
}
