//! Money kept and conversions lost by what a rule would have done.

use std::collections::{BTreeMap, HashMap};

use chrono::{Datelike, NaiveDate};

use super::late::Late;
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
    /// Whether it spent more than its budget: then the budget holds on average over a month (common practice, no source),
    /// and what is left over on one day is there on a later one.
    fn is_over(&self) -> bool {
        self.used.is_some_and(|used| used > OVER)
    }

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
/// So much of a day’s budget is more than a last dear click.
const OVER: f64 = 1.2;
/// What is lost for want of budget is told by shares of auctions, not of money: it may be so many times less or more.
const TOLD: (f64, f64) = (0.5, 1.5);

/// What the next unit of money brings, of what the average one does, where a strategy spends it: the prior on a campaign's
/// elasticity, as far as it goes eight times of ten (maths 10).
const BENDS: Range = Range { mid: 0.7, around: Interval { low: 0.38, high: 1.0 } };
/// The same where bids are set by hand: more of the same auctions, until demand runs out (maths 10).
const STRAIGHT: Range = Range { mid: 1.0, around: Interval { low: 0.7, high: 1.0 } };

/// What stopped things would have gone on to spend and to bring, all that a rule stopped together.
#[derive(Debug, Default)]
pub(super) struct Freed {
    /// Money, by campaign and day.
    money: HashMap<CampaignId, BTreeMap<NaiveDate, f64>>,
    /// What was counted of it on complete days.
    counted: HashMap<CampaignId, Tally>,
}

impl Freed {
    pub(super) fn add(&mut self, thing: &Thing, window: Window, days: Days, late: &Late) {
        let of = self.money.entry(thing.spot.campaign).or_default();
        for d in thing.history.days(window) {
            *of.entry(d.day).or_default() += d.spend.to_units();
        }
        if let Some(window) = complete(window, days) {
            let counted = self.counted.entry(thing.spot.campaign).or_default();
            *counted += late.completed(&thing.history, window, days.known);
        }
    }
}

/// What the rest of a campaign would have made of it.
#[derive(Debug, Default)]
pub(super) struct Instead {
    /// The share that nobody spends instead, by day.
    kept: BTreeMap<NaiveDate, Range>,
    /// Conversions and their value that a unit of money brings the rest.
    brings: (f64, f64),
}

fn same_month(a: NaiveDate, b: NaiveDate) -> bool {
    (a.year(), a.month()) == (b.year(), b.month())
}

impl Campaigns {
    /// A campaign's day.
    pub fn add(&mut self, campaign: CampaignId, day: NaiveDate, of: CampaignDay) {
        self.0.entry(campaign).or_default().insert(day, of);
    }

    /// What the rest of each campaign would have made of what was freed.
    pub(super) fn instead(
        &self,
        freed: &Freed,
        days: Days,
        late: &Late,
    ) -> HashMap<CampaignId, Instead> {
        let none = BTreeMap::new();
        let of_campaign = |(campaign, money): (&CampaignId, &BTreeMap<NaiveDate, f64>)| {
            let own = self.0.get(campaign).unwrap_or(&none);
            let stopped = freed.counted.get(campaign).copied().unwrap_or_default();
            (
                *campaign,
                Instead { kept: kept(own, money), brings: brings(own, stopped, days, late) },
            )
        };
        freed.money.iter().map(of_campaign).collect()
    }
}

/// The share of what stopped things did not spend that nobody spends instead. With a share *l* of its auctions lost for
/// want of budget, what a campaign goes on with would have spent *l* ÷ (1 − *l*) of its day's money more. Where no channel
/// tells *l*, it takes on a day on which the budget was used up what was free that day.
fn kept(
    own: &BTreeMap<NaiveDate, CampaignDay>,
    freed: &BTreeMap<NaiveDate, f64>,
) -> BTreeMap<NaiveDate, Range> {
    let carries = own.values().any(CampaignDay::is_over);
    let free: Vec<(NaiveDate, f64)> = freed.iter().map(|(d, x)| (*d, *x)).collect();
    let mut all = BTreeMap::new();
    for free in free.chunk_by(|a, b| carries && same_month(a.0, b.0)) {
        let (first, money) = (free[0].0, free.iter().map(|d| d.1).sum::<f64>());
        let until = |day: NaiveDate| if carries { same_month(day, first) } else { day == first };
        let mut wanted = [0.0; 3];
        for (day, of) in own.range(first..).take_while(|(day, _)| until(**day)) {
            let each = of.wanted(freed.get(day).copied().unwrap_or(0.0));
            wanted.iter_mut().zip(each).for_each(|(sum, x)| *sum += x);
        }
        let share = |wanted: f64| 1.0 - (wanted / money.max(1e-9)).min(1.0);
        let [low, mid, high] = wanted.map(share);
        let range = Range { mid, around: Interval { low, high } };
        all.extend(free.iter().map(|(day, _)| (*day, range)));
    }
    all
}

/// Conversions and value that a unit of money brings what goes on of a campaign, by the complete days of a rehearsal.
fn brings(
    own: &BTreeMap<NaiveDate, CampaignDay>,
    stopped: Tally,
    days: Days,
    late: &Late,
) -> (f64, f64) {
    let window = Window::new(days.from, days.known).and_then(|whole| complete(whole, days));
    let (mut spend, mut conversions, mut value) = (0.0, 0.0, 0.0);
    for (day, of) in own.iter().filter(|(day, _)| window.is_some_and(|w| w.contains(**day))) {
        let reported = late.reported(*day, days.known);
        spend += of.counted.spend.to_units();
        conversions += of.counted.conversions / reported;
        value += of.counted.value.to_units() / reported;
    }
    let spend = spend - stopped.spend.to_units();
    let each = |all: f64, stopped: f64| {
        if spend > 0.0 { (all - stopped).max(0.0) / spend } else { 0.0 }
    };
    (each(conversions, stopped.conversions), each(value, stopped.value.to_units()))
}

const ALL: Range = Range { mid: 1.0, around: Interval { low: 1.0, high: 1.0 } };
const NONE: Range = Range { mid: 0.0, around: Interval { low: 0.0, high: 0.0 } };

fn plus(a: Range, b: Range) -> Range {
    Range {
        mid: a.mid + b.mid,
        around: Interval { low: a.around.low + b.around.low, high: a.around.high + b.around.high },
    }
}

/// One amount, none of it below nothing, so many times as much.
fn product(a: Range, b: Range) -> Range {
    let (a_in, b_in) = (a.around, b.around);
    let around = Interval { low: a_in.low * b_in.low, high: a_in.high * b_in.high };
    Range { mid: a.mid * b.mid, around }
}

/// With its lower bound first, though it is below nothing.
fn in_order(of: Range) -> Range {
    let Interval { low, high } = of.around;
    Range { around: Interval { low: low.min(high), high: low.max(high) }, ..of }
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
    (instead, late): (&HashMap<CampaignId, Instead>, &Late),
) {
    act.followed = thing.history.tally(window, days.known);
    act.outcome = stopped_rightly(act, thing, window, days);
    let followed = with_late(act.followed, thing, window, days, late);
    match (act.found.action, act.from_to) {
        (Some(Action::Pause | Action::Exclude), _) => {
            let (mut kept, mut moved) = (NONE, NONE);
            let own = instead.get(&thing.spot.campaign);
            for d in thing.history.days(window) {
                let spend = d.spend.to_units();
                let share = own.and_then(|own| own.kept.get(&d.day)).copied().unwrap_or(ALL);
                kept = plus(kept, share.times(spend));
                moved = plus(moved, less(share).times(spend));
            }
            let (conversions, value) = own.map_or((0.0, 0.0), |own| own.brings);
            let next = if thing.bids { STRAIGHT } else { BENDS };
            let lost = |counted: f64, each: f64| {
                let got = product(moved, next).times(each);
                let around =
                    Interval { low: counted - got.around.high, high: counted - got.around.low };
                Range { mid: counted - got.mid, around }
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
                results = plus(results, in_order(BENDS.times(mid)));
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

/// With the conversions that are still to come: complete days by their run-off, the last ones as much by click as those.
fn with_late(followed: Tally, thing: &Thing, window: Window, days: Days, late: &Late) -> Tally {
    let known = complete(window, days).map(|w| late.completed(&thing.history, w, days.known));
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

/// A range with an independent variance added, eight times of ten; not below nothing for that.
fn widened(of: Range, variance: f64) -> Range {
    let reach = normal_quantile(0.9) * variance.sqrt();
    let low = (of.mid - (of.mid - of.around.low).hypot(reach)).max(of.around.low.min(0.0));
    let high = of.mid + (of.around.high - of.mid).hypot(reach);
    Range { mid: of.mid, around: Interval { low, high } }
}
