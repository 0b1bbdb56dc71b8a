//! What a rule would have done, day by day.

use chrono::{Days as Later, NaiveDate};

use super::worth::{Campaigns, Freed, Outcome, follow, stopped_rightly};
use super::{Act, Because, Days, Found, Rehearsal, Thing};
use crate::bid_rule::{self, Case, Thresholds, decide};
use crate::custom_rule::{Action, CustomRule, Known, Over, Verdict};
use crate::history::History;
use crate::ids::CampaignId;
use crate::metrics::Tally;
use crate::money::Price;
use crate::rule::{BidRule, Body, Done, Rule};
use crate::target::Target;
use crate::window::{Window, last_settled};

/// Rounds that are looked at together.
const AT_ONCE: usize = 16;

/// What is known of a thing on an evening.
struct Seen<'a> {
    thing: &'a Thing,
    group: &'a History,
    end: NaiveDate,
    by: NaiveDate,
    /// The longest days that the rule counts.
    longest: Over,
}

impl Seen<'_> {
    fn of(&self, history: &History, over: Over) -> Tally {
        match over {
            Over::Days(n) => history.tally(Window::ending(self.end, n.into()), self.by),
            Over::Life => {
                let first = self.thing.history.first();
                let window = first.and_then(|first| Window::new(first, self.end));
                window.map(|w| history.tally(w, self.by)).unwrap_or_default()
            }
        }
    }
}

impl Known for Seen<'_> {
    fn last(&self, days: u16) -> Tally {
        self.of(&self.thing.history, Over::Days(days))
    }

    fn before(&self, days: u16) -> Tally {
        self.thing.history.tally(Window::ending(self.end, days.into()).before(), self.by)
    }

    fn life(&self) -> Tally {
        self.of(&self.thing.history, Over::Life)
    }

    fn peers(&self, over: Over) -> Tally {
        self.of(self.group, over) - self.of(&self.thing.history, over)
    }

    fn age(&self) -> u64 {
        let first = self.thing.history.first();
        first.and_then(|first| Window::new(first, self.end)).map_or(0, |w| w.days())
    }

    fn target(&self) -> Option<Target> {
        self.thing.target
    }

    fn dispersion(&self) -> f64 {
        self.thing.dispersion
    }

    /// As it was known then: what its like sold for, or else what is known now.
    fn aov(&self) -> Option<Price> {
        self.of(self.group, self.longest).aov().or(self.thing.aov)
    }
}

/// What a rule makes of each thing on the evening of a day, of those with anything counted in its window; what does not
/// concern it is left out.
pub fn look(
    rule: &Body,
    things: &[Thing],
    groups: &[History],
    by: NaiveDate,
    settle: u64,
) -> Vec<Found> {
    looks(rule, things, groups, &[by], settle).pop().unwrap_or_default()
}

/// The same on several evenings: each thing's days are gone through once for all of them.
fn looks(
    rule: &Body,
    things: &[Thing],
    groups: &[History],
    evenings: &[NaiveDate],
    settle: u64,
) -> Vec<Vec<Found>> {
    let mut all = vec![Vec::new(); evenings.len()];
    for (n, thing) in things.iter().enumerate() {
        let mut each = |look: &dyn Fn(NaiveDate, NaiveDate) -> Option<Found>| {
            for (found, by) in all.iter_mut().zip(evenings) {
                found.extend(look(last_settled(*by, settle), *by));
            }
        };
        match rule {
            Body::Bid(rule) => {
                let Ok(limits) = rule.limits.at(thing.spot).complete() else { continue };
                let days = rule.window_days.into();
                each(&|end, by| {
                    let known = thing.history.tally(Window::ending(end, days), by);
                    by_limits(&limits, n, known)
                });
            }
            Body::Custom(rule) => each(&|end, by| custom(rule, n, thing, groups, end, by)),
        }
    }
    all
}

/// What the table of thresholds says of what was counted.
pub fn of_table(rule: &BidRule, n: usize, thing: &Thing, known: Tally) -> Option<Found> {
    let limits = rule.limits.at(thing.spot).complete().ok()?;
    by_limits(&limits, n, known)
}

fn by_limits(limits: &Thresholds, n: usize, known: Tally) -> Option<Found> {
    if known.is_empty() {
        return None;
    }
    let decision = decide(limits, &known);
    let action = match decision.action {
        bid_rule::Action::Wait => None,
        bid_rule::Action::Pause => Some(Action::Pause),
        bid_rule::Action::Bid(bid) => Some(Action::BidTo(bid.into())),
    };
    Some(Found { thing: n, action, because: Because::Case(decision.case), known })
}

fn custom(
    rule: &CustomRule<CampaignId>,
    n: usize,
    thing: &Thing,
    groups: &[History],
    end: NaiveDate,
    by: NaiveDate,
) -> Option<Found> {
    let longest = rule.when.longest();
    let seen = Seen { thing, group: groups.get(thing.group)?, end, by, longest };
    let known = seen.of(&thing.history, longest);
    if known.is_empty() {
        return None;
    }
    let found = |action, because| Some(Found { thing: n, action, because, known });
    match rule.judge(&seen) {
        Verdict::No => None,
        Verdict::Lacks(lack) => found(None, Because::Lacks(lack)),
        Verdict::Yes => found(Some(rule.then), Because::Holds),
    }
}

/// Where a thing stands in a rehearsal.
#[derive(Clone, Copy, Default)]
struct Standing {
    stopped: bool,
    /// What stands for its bid, once the rule has set it.
    bid: Option<Price>,
    budget: Option<Price>,
    /// The last morning on which it was touched.
    touched: Option<NaiveDate>,
    /// Whether it was ever stopped by the rule; whether its bid went up, and down.
    moved: (bool, bool),
}

/// Runs a rule over past days. It knows on each morning what had been reported the evening before; `campaigns` tells how
/// far each day's budget was used up.
pub fn rehearse(
    rule: &Rule,
    things: &[Thing],
    groups: &[History],
    days: Days,
    campaigns: &Campaigns,
) -> Rehearsal {
    let mut all = walk(rule, things, groups, days);
    let mut freed = Freed::new();
    each_until(&mut all.acts, things.len(), days, |act, window| {
        let thing = &things[act.found.thing];
        if !act.estimated() {
            for d in thing.history.days(window) {
                let of = freed.entry(thing.spot.campaign).or_default();
                *of.entry(d.day).or_default() += d.spend.to_units();
            }
        }
    });
    let kept = campaigns.kept(&freed);
    each_until(&mut all.acts, things.len(), days, |act, window| {
        follow(act, &things[act.found.thing], window, days, (campaigns, &kept));
    });
    all
}

/// How many things a rule would have stopped rightly, and how many by mistake: the same without what it all comes to.
pub fn stops(rule: &Rule, things: &[Thing], groups: &[History], days: Days) -> (usize, usize) {
    let (mut right, mut mistakes) = (0, 0);
    let mut all = walk(rule, things, groups, days);
    each_until(&mut all.acts, things.len(), days, |act, window| {
        match stopped_rightly(act, &things[act.found.thing], window, days) {
            Outcome::Right => right += 1,
            Outcome::Mistake => mistakes += 1,
            Outcome::Open => {}
        }
    });
    (right, mistakes)
}

/// The days that follow each act: to the eve of the next on the same thing.
fn each_until(acts: &mut [Act], things: usize, days: Days, mut f: impl FnMut(&mut Act, Window)) {
    let mut until = vec![days.known; things];
    for act in acts.iter_mut().rev() {
        let (thing, day) = (act.found.thing, act.day);
        if let Some(window) = Window::new(day, until[thing]) {
            f(act, window);
        }
        until[thing] = day.pred_opt().unwrap_or(day);
    }
}

/// Every morning, with what it would have done.
fn walk(rule: &Rule, things: &[Thing], groups: &[History], days: Days) -> Rehearsal {
    let mut all = Rehearsal::default();
    let mut standing = vec![Standing::default(); things.len()];
    let mornings = days.from.iter_days().take_while(|d| *d <= days.to);
    all.rounds = mornings.filter(|d| rule.schedule.runs_on(*d)).collect();
    let evenings: Vec<NaiveDate> = all.rounds.iter().filter_map(NaiveDate::pred_opt).collect();
    let looks = evenings.chunks(AT_ONCE).flat_map(|evenings| {
        let looks = looks(&rule.body, things, groups, evenings, days.settle);
        evenings.iter().copied().zip(looks)
    });
    for (by, looked) in looks {
        let day = by + Later::new(1);
        let mut would = Vec::new();
        for found in looked {
            all.looks += 1;
            let (thing, now) = (&things[found.thing], &standing[found.thing]);
            let rests =
                |touched: NaiveDate| touched + Later::new(rule.cool_down().max(1).into()) > day;
            if now.touched.is_some_and(rests) {
                continue;
            }
            let Some(action) = found.action else {
                all.waits += 1;
                continue;
            };
            let moved = moved(rule, action, thing, now, (day, days.settle));
            would.extend(moved.map(|moved| (found, moved)));
        }
        // Where not all may be done in a day, the most money comes first, as in a run.
        would.sort_by_key(|(found, _)| std::cmp::Reverse(found.known.spend));
        let mut done = Done::default();
        for (found, moved) in would {
            let pause = moved.action == Action::Pause;
            if !rule.daily.admits(&mut done, pause, moved.budget_added()) {
                continue;
            }
            let now = &mut standing[found.thing];
            let undoes = now.moved;
            match moved.way {
                Some(true) => now.moved.0 = true,
                Some(false) => now.moved.1 = true,
                None => {}
            }
            if now.moved == (true, true) && undoes != (true, true) {
                all.undone.push(found.thing);
            }
            now.touched = Some(day);
            (now.stopped, now.bid, now.budget) = (moved.stopped, moved.bid, moved.budget);
            let found = Found { action: Some(moved.action), ..found };
            all.acts.push(Act::begun(day, found, moved.from_to));
        }
    }
    all
}

/// What an action makes of a thing.
struct Moved {
    action: Action,
    stopped: bool,
    bid: Option<Price>,
    budget: Option<Price>,
    from_to: Option<(Price, Price)>,
    /// Whether it is more than before; none where that can't be said.
    way: Option<bool>,
}

impl Moved {
    /// Money that it adds to a day's budgets.
    fn budget_added(&self) -> f64 {
        match (self.action, self.from_to) {
            (Action::BudgetBy(_) | Action::BudgetTo(_), Some((from, to))) => (to - from).units(),
            _ => 0.0,
        }
    }
}

/// What an action does to a thing as it stands; none where that is so already, or can't be done.
fn moved(
    rule: &Rule,
    action: Action,
    thing: &Thing,
    now: &Standing,
    (day, settle): (NaiveDate, u64),
) -> Option<Moved> {
    let stood = || thing.history.bid_on(day.pred_opt()?).map(Price::from).and_then(Price::positive);
    let (bid, budget) = (now.bid.or_else(stood), now.budget.or(thing.budget));
    let same = Moved {
        action,
        stopped: now.stopped,
        bid: now.bid,
        budget: now.budget,
        from_to: None,
        way: None,
    };
    let to = |from: Price| match (&rule.body, action) {
        (Body::Custom(custom), _) => custom.moved(from),
        (Body::Bid(_), Action::BidTo(to)) => Some(to),
        (Body::Bid(_), _) => None,
    };
    // What a coin can't tell apart is no move.
    let part = |from: Price, to: Price| ((to / from) - 1.0).abs() >= 0.005;
    match action {
        // What it stopped, it leaves alone, unless it is to run again.
        Action::Pause if !now.stopped => Some(Moved { stopped: true, way: Some(false), ..same }),
        Action::Resume if now.stopped => Some(Moved { stopped: false, way: Some(true), ..same }),
        Action::Pause | Action::Resume => None,
        _ if now.stopped => None,
        Action::BidBy(_) | Action::BidTo(_) | Action::TargetBy(_) => {
            let from = bid.filter(|_| thing.bids)?;
            // A bid rule adds to what a click costs at the bid that it has set, not at the one that stood.
            let to = match (&rule.body, action) {
                (Body::Bid(_), Action::BidTo(to)) => {
                    at_own_bid(rule, thing, now, to, (day, settle))?
                }
                _ => to(from)?,
            };
            part(from, to).then_some(Moved {
                action: if let Action::BidTo(_) = action { Action::BidTo(to) } else { action },
                bid: Some(to),
                from_to: Some((from, to)),
                way: Some(to > from),
                ..same
            })
        }
        Action::BudgetBy(_) | Action::BudgetTo(_) => {
            let (from, to) = (budget?, to(budget?)?);
            part(from, to).then_some(Moved {
                budget: Some(to),
                from_to: Some((from, to)),
                way: Some(to > from),
                ..same
            })
        }
        Action::Exclude => Some(Moved { stopped: true, way: Some(false), ..same }),
        Action::Tell => Some(same),
    }
}

/// A bid that goes by the average click, where the rule has set the bid before: the click then costs as large a share of
/// that as it cost of the bid that stood.
fn at_own_bid(
    rule: &Rule,
    thing: &Thing,
    now: &Standing,
    to: Price,
    (day, settle): (NaiveDate, u64),
) -> Option<Price> {
    let Body::Bid(of) = &rule.body else { return Some(to) };
    let (end, days) = (last_settled(day.pred_opt()?, settle), of.window_days.into());
    let stood = thing.history.mean_bid(Window::ending(end, days)).and_then(Price::positive);
    let (Some(own), Some(stood)) = (now.bid, stood) else { return Some(to) };
    let limits = of.limits.at(thing.spot).complete().ok()?;
    let headroom = Price::from(limits.headroom);
    let lowest = Price::from(limits.lowest_bid);
    let pays = to > lowest && to > headroom;
    let share = (to - headroom) / stood;
    Some(if pays && share < 1.0 { (own * share + headroom).max(lowest) } else { to })
}

impl Found {
    /// Whether the row of the table that bids by the average click held.
    pub fn by_average(&self) -> bool {
        self.because == Because::Case(Case::Pays)
    }
}
