//! What a rule would have done, day by day.

use chrono::{Days as Later, NaiveDate};
use rayon::prelude::*;

use super::campaigns::Freed;
use super::late::Late;
use super::worth::{After, Alone, Outcome, follow};
use super::{Act, Because, Days, Found, Rehearsal, Stage, Thing};
use crate::bid_rule::{self, Case, Thresholds, decide};
use crate::custom_rule::{Action, CustomRule, Known, Over, When};
use crate::history::History;
use crate::ids::CampaignId;
use crate::metrics::Tally;
use crate::money::Price;
use crate::rule::{BidRule, Body, Done, Rule};
use crate::target::Target;
use crate::window::{Window, last_settled};

/// Rounds that are looked at together.
const AT_ONCE: usize = 8;
/// Things that are looked at in one go.
const FEW: usize = 5000;

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
pub fn look(rule: &Body, stage: &Stage, by: NaiveDate, settle: u64) -> Vec<Found> {
    Eyes::of(&[rule]).looks(1, stage, &[by], settle).into_iter().flatten().flatten().collect()
}

/// Rules that look at the same of each thing, and differ in what they ask for.
enum Eyes<'a> {
    Bid { days: u64, rules: Vec<&'a BidRule> },
    Custom { when: &'a When, rules: Vec<&'a CustomRule<CampaignId>> },
    Nothing,
}

impl<'a> Eyes<'a> {
    fn of(rules: &[&'a Body]) -> Self {
        match rules.first() {
            Some(Body::Bid(first)) => {
                let bid = |rule: &&'a Body| match rule {
                    Body::Bid(of) => Some(of),
                    Body::Custom(_) => None,
                };
                let rules = rules.iter().filter_map(bid).collect();
                Self::Bid { days: first.window_days.into(), rules }
            }
            Some(Body::Custom(first)) => {
                let custom = |rule: &&'a Body| match rule {
                    Body::Custom(of) => Some(of),
                    Body::Bid(_) => None,
                };
                let rules = rules.iter().filter_map(custom).collect();
                Self::Custom { when: &first.when, rules }
            }
            None => Self::Nothing,
        }
    }

    /// Looks on several evenings: each thing's days are gone through once for all of them and all rules. What is found is
    /// told with the rule's and the evening's place; `first` is the first thing's.
    fn look(
        &self,
        things: &[Thing],
        first: usize,
        groups: &[History],
        evenings: &[NaiveDate],
        settle: u64,
        mut tell: impl FnMut(usize, usize, Found),
    ) {
        let mut held = Vec::new();
        for (n, thing) in (first..).zip(things) {
            if let Self::Bid { rules, .. } = self {
                held.clear();
                held.extend(rules.iter().map(|r| r.limits.at(thing.spot).complete().ok()));
            }
            for (e, by) in evenings.iter().enumerate() {
                let end = last_settled(*by, settle);
                match self {
                    Self::Bid { days, .. } => {
                        let known = thing.history.tally(Window::ending(end, *days), *by);
                        for (r, limits) in held.iter().enumerate() {
                            let found = limits.as_ref().and_then(|l| by_limits(l, n, known));
                            found.into_iter().for_each(|found| tell(r, e, found));
                        }
                    }
                    Self::Custom { when, rules } => {
                        let Some(group) = groups.get(thing.group) else { continue };
                        let longest = when.longest();
                        let seen = Seen { thing, group, end, by: *by, longest };
                        let known = seen.of(&thing.history, longest);
                        if known.is_empty() || !when.holds(&seen) {
                            continue;
                        }
                        for (r, rule) in rules.iter().enumerate() {
                            let lack = rule.evidence.lack(when, &seen);
                            let action = lack.is_none().then_some(rule.then);
                            let because = lack.map_or(Because::Holds, Because::Lacks);
                            tell(r, e, Found { thing: n, action, because, known });
                        }
                    }
                    Self::Nothing => {}
                }
            }
        }
    }

    /// The same of all things: by rule, by evening, in order of things.
    fn looks(
        &self,
        rules: usize,
        stage: &Stage,
        evenings: &[NaiveDate],
        settle: u64,
    ) -> Vec<Vec<Vec<Found>>> {
        let none = || vec![vec![Vec::new(); evenings.len()]; rules];
        let part = |(n, part): (usize, &[Thing])| {
            let (mut all, groups) = (none(), &stage.groups);
            self.look(part, n * FEW, groups, evenings, settle, |r, e, found| all[r][e].push(found));
            all
        };
        let joined = |mut all: Vec<Vec<Vec<Found>>>, part: Vec<Vec<Vec<Found>>>| {
            for (all, part) in all.iter_mut().flatten().zip(part.into_iter().flatten()) {
                all.extend(part);
            }
            all
        };
        stage.things.par_chunks(FEW).enumerate().map(part).reduce(none, joined)
    }
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

/// Runs a rule over past days. It knows on each morning what had been reported the evening before.
pub fn rehearse(rule: &Rule, stage: &Stage, days: Days) -> Rehearsal {
    rehearse_beside(rule, &[], stage, days).0
}

/// The same, with how many things others would have stopped rightly, and how many by mistake: the same rule with other
/// evidence or thresholds, looking at the same.
pub fn rehearse_beside(
    rule: &Rule,
    others: &[Rule],
    stage: &Stage,
    days: Days,
) -> (Rehearsal, Vec<(usize, usize)>) {
    let rules: Vec<&Rule> = std::iter::once(rule).chain(others).collect();
    let late = Late::of(&stage.groups, days.known);
    let mut all = walk(&rules, stage, days);
    let beside = all.split_off(1);
    let own = all.pop().unwrap_or_default();
    rayon::join(
        || followed(own, stage, days, &late),
        || beside.par_iter().map(|other| stops(other, stage, days, &late)).collect(),
    )
}

/// With what came of each act.
fn followed(mut all: Rehearsal, stage: &Stage, days: Days, late: &Late) -> Rehearsal {
    let windows = until_next(&all.acts, stage.things.len(), days);
    let thing = |act: &Act| &stage.things[act.found.thing];
    let after = |act: &Act, window: Option<Window>| {
        Some(After { thing: thing(act), window: window?, days, late })
    };
    let alone = |(act, window): (&Act, &Option<Window>)| Alone::of(act, &after(act, *window)?);
    let alone: Vec<Option<Alone>> = all.acts.par_iter().zip(&windows).map(alone).collect();
    let mut freed = Freed::default();
    for (act, alone) in all.acts.iter().zip(&alone) {
        alone.iter().for_each(|alone| freed.add(thing(act).spot.campaign, alone));
    }
    let instead = stage.campaigns.instead(&freed, days, late);
    all.acts.par_iter_mut().zip(&windows).zip(&alone).for_each(|((act, window), alone)| {
        if let Some(after) = after(act, *window) {
            follow(act, alone.as_ref(), &after, &stage.campaigns, &instead);
        }
    });
    all
}

/// How many things were stopped rightly, and how many by mistake.
fn stops(all: &Rehearsal, stage: &Stage, days: Days, late: &Late) -> (usize, usize) {
    let windows = until_next(&all.acts, stage.things.len(), days);
    let (mut right, mut mistakes) = (0, 0);
    for (act, window) in all.acts.iter().zip(windows) {
        let thing = &stage.things[act.found.thing];
        let after = window.map(|window| After { thing, window, days, late });
        match after.map(|after| after.stopped_rightly(act)) {
            Some(Outcome::Right) => right += 1,
            Some(Outcome::Mistake) => mistakes += 1,
            Some(Outcome::Open) | None => {}
        }
    }
    (right, mistakes)
}

/// The days that follow each act: to the eve of the next on the same thing.
fn until_next(acts: &[Act], things: usize, days: Days) -> Vec<Option<Window>> {
    let mut until = vec![days.known; things];
    let window = |act: &Act| {
        let last =
            std::mem::replace(&mut until[act.found.thing], act.day.pred_opt().unwrap_or(act.day));
        Window::new(act.day, last)
    };
    let mut windows: Vec<Option<Window>> = acts.iter().rev().map(window).collect();
    windows.reverse();
    windows
}

/// Every morning, with what each rule would have done.
fn walk(rules: &[&Rule], stage: &Stage, days: Days) -> Vec<Rehearsal> {
    let Some(first) = rules.first() else { return Vec::new() };
    let mornings = days.from.iter_days().take_while(|d| *d <= days.to);
    let rounds: Vec<NaiveDate> = mornings.filter(|d| first.schedule.runs_on(*d)).collect();
    let bodies: Vec<&Body> = rules.iter().map(|r| &r.body).collect();
    let eyes = Eyes::of(&bodies);
    let mut walks: Vec<Walk> = rules.iter().map(|rule| Walk::begun(rule, &rounds, stage)).collect();
    let evenings: Vec<NaiveDate> = rounds.iter().filter_map(NaiveDate::pred_opt).collect();
    for evenings in evenings.chunks(AT_ONCE) {
        let looks = eyes.looks(rules.len(), stage, evenings, days.settle);
        walks.par_iter_mut().zip(looks).for_each(|(walk, looks)| {
            for (by, looked) in evenings.iter().zip(looks) {
                walk.morning(*by, looked, days.settle);
            }
        });
    }
    walks.into_iter().map(|walk| walk.all).collect()
}

/// A rule on its way through the mornings.
struct Walk<'a> {
    rule: &'a Rule,
    stage: &'a Stage,
    all: Rehearsal,
    standing: Vec<Standing>,
}

impl<'a> Walk<'a> {
    fn begun(rule: &'a Rule, rounds: &[NaiveDate], stage: &'a Stage) -> Self {
        let all = Rehearsal { rounds: rounds.to_vec(), ..Rehearsal::default() };
        Self { rule, stage, all, standing: vec![Standing::default(); stage.things.len()] }
    }

    /// The morning after an evening, on what was found.
    fn morning(&mut self, by: NaiveDate, looked: Vec<Found>, settle: u64) {
        let Self { rule, stage, all, standing } = self;
        let day = by + Later::new(1);
        let rest = Later::new(rule.cool_down().max(1).into());
        let mut would = Vec::new();
        for found in looked {
            all.looks += 1;
            let now = &standing[found.thing];
            if now.touched.is_some_and(|touched| touched + rest > day) {
                continue;
            }
            let Some(action) = found.action else {
                all.waits += 1;
                continue;
            };
            let moved = moved(rule, action, (stage, found.thing), now, (day, settle));
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
    (stage, n): (&Stage, usize),
    now: &Standing,
    (day, settle): (NaiveDate, u64),
) -> Option<Moved> {
    let thing = &stage.things[n];
    let stood = || thing.history.bid_on(day.pred_opt()?).map(Price::from).and_then(Price::positive);
    let budget = || {
        let stood =
            day.pred_opt().and_then(|eve| stage.campaigns.budget_on(thing.spot.campaign, eve));
        now.budget.or(thing.budget.map(|set| stood.map_or(set, Price)))
    };
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
    match action {
        // What it stopped, it leaves alone, unless it is to run again.
        Action::Pause if !now.stopped => Some(Moved { stopped: true, way: Some(false), ..same }),
        Action::Resume if now.stopped => Some(Moved { stopped: false, way: Some(true), ..same }),
        Action::Pause | Action::Resume => None,
        _ if now.stopped => None,
        Action::BidBy(_) | Action::BidTo(_) | Action::TargetBy(_) => {
            let from = now.bid.or_else(stood).filter(|_| thing.bids)?;
            // A bid rule adds to what a click costs at the bid that it has set, not at the one that stood.
            let to = match (&rule.body, action) {
                (Body::Bid(_), Action::BidTo(to)) => {
                    at_own_bid(rule, thing, now, to, (day, settle))?
                }
                _ => to(from)?,
            };
            let to = stage.coins(to);
            (to != from).then_some(Moved {
                action: if let Action::BidTo(_) = action { Action::BidTo(to) } else { action },
                bid: Some(to),
                from_to: Some((from, to)),
                way: Some(to > from),
                ..same
            })
        }
        Action::BudgetBy(_) | Action::BudgetTo(_) => {
            let from = budget()?;
            let to = stage.coins(to(from)?);
            (to != from).then_some(Moved {
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
