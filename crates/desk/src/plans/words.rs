//! A plan in words: what it is, what holds each line, what is to be known about it.

use tiller_core::allocation::{Goal, HeldBy, Problem, Solved, brings};

use super::answer;
use super::file::PlanFile;
use super::worked::with_money_to_spare;
use crate::book::Book;
use crate::numerals::{self, count, money, number, probability, signed, sum};
use crate::wording::Words;

/// What there should be most of.
pub fn title(goal: Goal) -> &'static str {
    match goal {
        Goal::Conversions => "most conversions",
        Goal::Value => "most value",
        Goal::Clicks => "most clicks",
        Goal::Profit => "most profit",
        Goal::LeastSpend => "least spend for a number",
    }
}

/// What a goal counts, after a number.
pub fn unit(goal: Goal) -> &'static str {
    match goal {
        Goal::Conversions => "conversions",
        Goal::Value => "of value",
        Goal::Clicks => "clicks",
        Goal::Profit => "of profit",
        Goal::LeastSpend => "of spend",
    }
}

/// What the goal counts of a single line.
pub fn counts(of: Goal) -> &'static str {
    match of {
        Goal::LeastSpend => "conversions",
        Goal::Profit => "before its cost",
        of => unit(of),
    }
}

/// What the plan is; a typing error comes before whatever would follow from it.
pub fn headline(file: &PlanFile, solved: Option<&Solved>, wrong: usize) -> (Words, Words) {
    let present: f64 = file.lines.iter().map(|l| l.current).sum();
    if wrong > 0 {
        return (
            Words::say(match wrong {
                1 => "One entry can’t be used".to_owned(),
                n => format!("{n} entries can’t be used"),
            }),
            Words::say(format!(
                "{} marked below with what to type.{}",
                if wrong == 1 { "It is" } else { "They are" },
                if solved.is_some() {
                    " Until then the plan goes by what stood there before."
                } else {
                    ""
                }
            )),
        );
    }
    let Some(s) = solved else {
        return (
            Words::say("These limits can’t all be kept"),
            Words::say("Each contradiction is named below, with the changes that would end it."),
        );
    };
    let same = (s.totals.budget - present).abs() < 0.005 * present;
    let title = if same {
        format!("The same {}, reallocated", money(s.totals.budget))
    } else {
        format!("{} in place of {}", money(s.totals.budget), money(present))
    };
    let gained = s.objective - s.present;
    let word = unit(file.goal);
    let lead = Words::say("Along their curves ");
    let lead = match file.goal {
        Goal::LeastSpend => lead
            .strong(count(s.totals.conversions))
            .and(" conversions would take ")
            .strong(money(s.totals.budget)),
        _ if gained >= 0.0 => lead.and("it brings ").gain(format!("{} {word} more", about(gained))),
        _ => lead.and("it brings ").harm(format!("{} {word} less", about(-gained))),
    };
    let lead = match s.outlook {
        Some(o) => lead.and(format!(
            " (80% between {} and {}; any gain at all {})",
            signed(o.gain.low, about),
            signed(o.gain.high, about),
            probability(o.better)
        )),
        None => lead,
    };
    let lead = match file.goal {
        Goal::Value | Goal::Profit => match s.totals.roas().zip(s.current.roas()) {
            Some((plan, now)) => lead
                .and(" at a ROAS of ")
                .strong(number(plan, 2))
                .and(format!(" instead of {}", number(now, 2))),
            None => lead,
        },
        Goal::Conversions | Goal::Clicks | Goal::LeastSpend => {
            match s.totals.cpa().zip(s.current.cpa()) {
                Some((plan, now)) => lead
                    .and(" at ")
                    .strong(money(plan))
                    .and(format!(" a conversion instead of {}", money(now))),
                None => lead,
            }
        }
    };
    let moved = file
        .lines
        .iter()
        .zip(&s.lines)
        .filter(|(l, a)| (a.budget - l.current).abs() > 0.01 * l.current.max(1.0))
        .count();
    let moved = numerals::counted(moved as u64, "budget", "budgets");
    (Words::say(title), lead.and(format!("; {moved} moved.")))
}

/// What holds a line that gets all of it.
pub const ALL: &str = "what it can spend";

/// A figure that is no more exact than this.
pub fn about(x: f64) -> String {
    number(x, usize::from(x.abs() < 20.0))
}

/// What holds a line.
pub fn held(held: HeldBy, shock: bool) -> &'static str {
    match held {
        HeldBy::Floor if shock => "limit on change",
        HeldBy::Ceiling if shock => "limit on change",
        HeldBy::Floor => "its floor",
        HeldBy::Ceiling => "its ceiling",
        HeldBy::Capacity => ALL,
        HeldBy::Fixed => "hand",
        HeldBy::GroupFloor => "its group’s floor",
        HeldBy::GroupCeiling => "its group’s ceiling",
        HeldBy::Nothing => "nothing",
    }
}

/// Budgets of a plan: whole units where the total is large.
pub fn budget_text(file: &PlanFile) -> fn(f64) -> String {
    if file.total.amount >= 5_000.0 { sum } else { money }
}

/// Whether the limit on change holds a line rather than its own floor or ceiling.
pub fn by_change(file: &PlanFile, i: usize, s: &Solved) -> bool {
    let (line, a) = (&file.lines[i], &s.lines[i]);
    file.limits.max_change.is_some_and(|x| {
        let (low, high) = (line.current * (1.0 - x), line.current * (1.0 + x));
        (a.held_by == HeldBy::Floor && line.floor < low)
            || (a.held_by == HeldBy::Ceiling && line.ceiling.is_none_or(|c| c > high))
    })
}

/// What a line brings more at its planned money than at its present.
pub fn brought_more(problem: &Problem, i: usize, planned: f64) -> f64 {
    let now = brings(problem, i, problem.lines[i].current);
    let more = brings(problem, i, planned) - now;
    if more.abs() < BY_ROUNDING * now { 0.0 } else { more }
}

/// Less than this share is what rounding to the plan's step moves.
pub const BY_ROUNDING: f64 = 5e-4;

/// What holds a line, or else how well it is known: a panel has room for one of them.
pub fn note(file: &PlanFile, i: usize, solved: Option<&Solved>) -> String {
    let held = solved.map(|s| held(s.lines[i].held_by, by_change(file, i, s)));
    match held.filter(|h| *h != "nothing") {
        Some(ALL) => "gets all it can spend".to_owned(),
        Some(h) => format!("limited by {h}"),
        None => file.lines[i]
            .precision
            .filter(|p| p.covariance[1][1] > LEANS)
            .map_or(String::new(), |_| "curve known poorly".to_owned()),
    }
}

/// A curve whose form's variance is above this is hardly known beyond its channel's.
pub const LEANS: f64 = 0.014;

/// What a limit costs: its figure, which limit, how much.
pub fn cost(
    (n, (name, held, gain)): (usize, &(String, HeldBy, f64)),
    word: &str,
) -> (String, String, String) {
    let what = match held {
        HeldBy::Floor => "Floor of",
        HeldBy::Ceiling => "Ceiling of",
        HeldBy::Fixed => "Amount set for",
        HeldBy::GroupFloor => "Floor of the group",
        HeldBy::GroupCeiling => "Ceiling of the group",
        HeldBy::Nothing | HeldBy::Capacity => "",
    };
    (
        format!("cost-{n}"),
        format!("{what} {name}"),
        format!("−{} {word}", number(*gain, if *gain < 10.0 { 2 } else { 0 })),
    )
}

/// What is to be known before the plan is followed.
pub fn warnings(file: &PlanFile, book: Option<&Book>, solved: Option<&Solved>) -> Vec<String> {
    let mut warnings: Vec<String> = solved
        .map_or(Vec::new(), |s| s.warnings.iter().map(|w| answer::warning(w).message).collect());
    if let Some((book, solved)) = book.zip(solved) {
        let spare = with_money_to_spare(book, file, solved);
        if !spare.is_empty() {
            warnings.push(format!(
                "{} would get more, yet {} leave{} a fifth or more of the present budget unspent: a higher budget alone buys nothing there. Raise the bid or the target, or set a ceiling.",
                numerals::listed(&spare),
                if spare.len() == 1 { "it" } else { "they" },
                if spare.len() == 1 { "s" } else { "" }
            ));
        }
    }
    warnings
}
