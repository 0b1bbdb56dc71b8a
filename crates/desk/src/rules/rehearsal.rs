//! A rule rehearsed on the account's past, and what is to be said of it before it is switched on.

use std::collections::HashMap;

use chrono::{Days as Later, NaiveDate};
use tiller_core::bid_rule::Field;
use tiller_core::course::Lever as CourseLever;
use tiller_core::custom_rule::Lever;
use tiller_core::rehearsal::path::{Round, Sinking, path, sinking};
use tiller_core::rehearsal::{Days, Rehearsal, Sum, rehearse_beside, sum};
use tiller_core::rule::{Body, Pull, Rule};
use tiller_core::{Micros, Window};
use tiller_store::PgPool;
use tiller_store::people::Account;
use tiller_store::plans;
use tiller_store::rules::Standing;

use super::ground::{Ground, needed};
use super::keeping::RuleKept;
use super::things::Things;
use crate::numerals::{counted, listed, money, percent};
use crate::{DeskError, courses};

/// Weeks of rehearsal, unless others are asked for.
pub const USUAL_WEEKS: u64 = 12;
/// As long as a rehearsal may be.
pub const MOST_DAYS: u64 = 366;

/// What a rule would have done.
#[derive(Clone, Debug)]
pub struct Rehearsed {
    /// The days.
    pub days: Days,
    /// What it would have done.
    pub rehearsal: Rehearsal,
    /// What all of it comes to.
    pub sum: Sum,
    /// What it looked at.
    pub things: Things,
    /// Things that it would have stopped by mistake, had it asked for no evidence, and how many in all.
    pub without_evidence: Option<(usize, usize)>,
    /// Another threshold with which it would have made fewer mistakes.
    pub better: Option<Better>,
    /// Bids that would sink.
    pub sinking: Option<Sinking>,
    /// The bids of the thing that sinks, or else of the one that it touched most often, and what a click cost.
    pub path: Option<(usize, Vec<Round>)>,
}

/// Another threshold, and the rule with it.
#[derive(Clone, Debug)]
pub struct Better {
    /// What is asked for: `20 clicks`.
    pub with: String,
    /// Instead of: `10`.
    pub instead: String,
    /// Mistakes that are left.
    pub mistakes: usize,
    /// The rule with it.
    pub rule: Rule,
}

/// Rehearses a rule on the mornings from one day to another.
pub async fn rehearse(
    db: &PgPool,
    ground: &mut Ground,
    rule: &Rule,
    from: Option<NaiveDate>,
    to: Option<NaiveDate>,
) -> Result<Rehearsed, DeskError> {
    let (known, settle, first) = (ground.last_day(), ground.settle(), ground.book.span.from());
    let to = to.unwrap_or(known).min(known);
    let usual = to.checked_sub_days(Later::new(7 * USUAL_WEEKS)).unwrap_or(to);
    let from = from.unwrap_or(usual).max(first);
    let window = Window::new(from, to).filter(|w| w.days() <= MOST_DAYS).ok_or_else(|| {
        DeskError::Invalid(format!(
            "a rehearsal begins before it ends and is at most {MOST_DAYS} days long; reports go from {} to {}",
            crate::numerals::full_day(first),
            crate::numerals::full_day(known)
        ))
    })?;
    let days = Days { from, to, known, settle };
    let back = needed(rule, from.pred_opt().unwrap_or(from), settle, first);
    let read = Window::new(back.from(), known).unwrap_or(window);
    let mut things = ground.things(db, rule, read).await?;
    ground.with_settings(db, &mut things).await?;
    // The rule itself, and beside it only what others would have stopped.
    let free = without_evidence(rule);
    let strict = stricter(rule);
    let others: Vec<Rule> =
        free.iter().chain(strict.iter().map(|(_, _, rule)| rule)).cloned().collect();
    let (rehearsal, stops) = rehearse_beside(rule, &others, &things.stage, days);
    let mut stops = stops.into_iter();
    let free = free.and_then(|_| stops.next());
    let total = sum(&rehearsal.acts);
    let without_evidence = free.map(|(right, mistakes)| (mistakes, mistakes + right));
    // Fewer mistakes, and not by stopping nothing at all.
    let better = strict
        .into_iter()
        .zip(stops)
        .filter(|(_, (right, mistakes))| *mistakes < total.mistakes && 2 * right >= total.right)
        .min_by_key(|(_, (_, mistakes))| *mistakes)
        .map(|((with, instead, rule), (_, mistakes))| Better { with, instead, mistakes, rule });
    // From where bids stood when it would have begun, or from where they stand now.
    let eve = from.pred_opt().unwrap_or(from);
    let sinks = |by| sinking(rule, &things.stage.things, by, settle);
    let sinking = sinks(eve).or_else(|| sinks(days.known));
    let path = of_path(rule, &rehearsal, &things, days, sinking.map(|s| s.thing));
    Ok(Rehearsed { days, rehearsal, sum: total, things, without_evidence, better, sinking, path })
}

/// The same rule without the evidence that it asks for; none where it asks for none.
fn without_evidence(rule: &Rule) -> Option<Rule> {
    let mut free = rule.clone();
    match &mut free.body {
        Body::Custom(of) => of.evidence = tiller_core::custom_rule::Evidence::default(),
        Body::Bid(of) => of.limits.top.clicks = Some(1),
    }
    (free != *rule).then_some(free)
}

/// The same rule with more evidence asked for: the words for it, and what it asks for now.
fn stricter(rule: &Rule) -> Vec<(String, String, Rule)> {
    let mut all = Vec::new();
    let mut with = |text: String, instead: String, change: &dyn Fn(&mut Body)| {
        let mut other = rule.clone();
        change(&mut other.body);
        all.push((text, instead, other));
    };
    match &rule.body {
        Body::Bid(of) => {
            let now = of.limits.top.clicks.unwrap_or(10);
            for n in [10, 15, 20].into_iter().filter(|n| *n > now) {
                with(format!("{n} clicks"), now.to_string(), &|body| {
                    if let Body::Bid(of) = body {
                        of.limits.top.clicks = Some(n);
                    }
                });
            }
            // More spend without a sale, as well: the other way to stop.
            if let Some(spend) = of.limits.top.spend_without_sale {
                let more = Micros::from_units(spend.to_units() * 2.0);
                with(
                    format!("20 clicks and {} without a sale", money(more)),
                    format!("{now} and {}", money(spend)),
                    &|body| {
                        if let Body::Bid(of) = body {
                            of.limits.top.clicks = Some(20);
                            of.limits.top.spend_without_sale = Some(more);
                        }
                    },
                );
            }
        }
        Body::Custom(of) => {
            let (clicks, sure) = (of.evidence.clicks, of.evidence.sure.unwrap_or(0.5));
            for n in [20, 40, 80].into_iter().filter(|n| *n > clicks) {
                let instead = if clicks == 0 { "none".into() } else { clicks.to_string() };
                with(format!("{n} clicks"), instead, &|body| {
                    if let Body::Custom(of) = body {
                        of.evidence.clicks = n;
                    }
                });
            }
            for p in [0.9, 0.95, 0.99].into_iter().filter(|p| *p > sure) {
                let instead = of.evidence.sure.map_or("none".into(), |p| percent(p) + "%");
                with(format!("{}% certainty", percent(p)), instead, &|body| {
                    if let Body::Custom(of) = body {
                        of.evidence.sure = Some(p);
                    }
                });
            }
        }
    }
    all
}

fn of_path(
    rule: &Rule,
    rehearsal: &Rehearsal,
    things: &Things,
    days: Days,
    sinks: Option<usize>,
) -> Option<(usize, Vec<Round>)> {
    let Body::Bid(of) = &rule.body else { return None };
    let mut touched: HashMap<usize, usize> = HashMap::new();
    for act in rehearsal.acts.iter().filter(|a| a.from_to.is_some()) {
        *touched.entry(act.found.thing).or_default() += 1;
    }
    let most = touched.into_iter().max_by_key(|(n, times)| (*times, std::cmp::Reverse(*n)));
    let thing = sinks.or(most.map(|(n, _)| n))?;
    let rounds = path(rehearsal, thing, &things.stage.things[thing], days, of.window_days);
    (rounds.len() > 1).then_some((thing, rounds))
}

/// What pulls at the same things as a rule: other rules that are on, courses, the plan that the month follows.
pub async fn pulls(
    db: &PgPool,
    account: &Account,
    ground: &Ground,
    rule: &Rule,
    kept: &[RuleKept],
    id: Option<tiller_core::ids::RuleId>,
) -> Result<Vec<String>, DeskError> {
    let mut all = Vec::new();
    for other in kept.iter().filter(|r| Some(r.row.id) != id && r.row.state == Standing::On) {
        if let Some(pull) = rule.pulls_at(&other.rule) {
            let name = &other.rule.name;
            all.push(match pull {
                Pull::Against => format!("It pulls against the rule ‘{name}’, which moves the same setting of the same things the other way."),
                Pull::Doubled => format!("The rule ‘{name}’ moves the same setting of the same things the same way: together they go twice as far."),
                Pull::Overwrites => format!("The rule ‘{name}’ moves the same setting of the same things: whichever runs last has its way."),
            });
        }
    }
    let about = |c| rule.campaigns().is_empty() || rule.campaigns().contains(&c);
    let name = |c| ground.book.entry(c).map(|e| e.campaign.name.clone()).unwrap_or_default();
    let on_course = |lever: CourseLever, all: &[courses::Course]| {
        let open =
            all.iter().filter(|c| c.plan.open() && c.plan.lever == lever && about(c.campaign));
        open.map(|c| name(c.campaign)).collect::<Vec<_>>()
    };
    let courses = courses::list(db, account).await?;
    for (lever, of, what) in
        [(Lever::Budget, CourseLever::Budget, "budget"), (Lever::Bid, CourseLever::Bid, "bid")]
    {
        let busy = if rule.moves_lever(lever) { on_course(of, &courses) } else { Vec::new() };
        if !busy.is_empty() {
            all.push(format!(
                "{} {} on a course that moves the {what}: the rule leaves {} alone until that is done.",
                listed(&busy),
                if busy.len() == 1 { "is" } else { "are" },
                if busy.len() == 1 { "it" } else { "them" },
            ));
        }
    }
    if rule.moves_lever(Lever::Budget)
        && let Some(plan) = plans::list(db, account.id).await?.into_iter().find(|p| p.followed)
    {
        let plan = plan.name;
        all.push(format!(
            "The month follows the plan ‘{plan}’, which sets the same budgets: the rule would pull at them between two looks."
        ));
    }
    if let Body::Bid(of) = &rule.body {
        let missing = Field::ALL.into_iter().find(|f| !of.limits.top.has(*f));
        if let Some(field) = missing {
            all.push(format!("It has no {} yet.", super::words::field(field)));
        }
    }
    Ok(all)
}

/// How often a rule would have acted, in words.
pub fn times(n: usize) -> String {
    match n {
        0 => "would have done nothing".into(),
        1 => "would have acted once".into(),
        n => format!("would have acted {}", counted(n as u64, "time", "times")),
    }
}
