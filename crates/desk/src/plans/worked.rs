//! A plan solved: why each line gets what it gets, and what its limits cost.

use tiller_core::allocation::{
    Answer, HeldBy, Line, Problem, Repair, Solved, limit_costs, marginal_at, solve,
};
use tiller_core::flight::MONTH;
use tiller_core::verdict::LimitedBy;

use super::draft::line_id;
use crate::book::Book;
use crate::numerals::{money, number};
use crate::plans::file::PlanFile;

/// Whether a plan is in money of a month, on fitted curves.
pub fn of_a_month(file: &PlanFile) -> bool {
    (file.days - MONTH).abs() < 1e-9
}

/// Conversions of a line at its present spend.
pub fn present_conversions(line: &Line, days: f64) -> f64 {
    line.results(line.current, days)
}

/// A plan solved, with what its limits cost.
#[derive(Clone, Debug)]
pub struct Worked {
    /// What was solved.
    pub problem: Problem,
    /// The answer.
    pub answer: Answer,
    /// What each floor and ceiling that holds something costs: (name, which bound, of the goal).
    pub costs: Vec<(String, HeldBy, f64)>,
}

impl Worked {
    /// The plan, if its limits can be kept.
    pub fn solved(&self) -> Option<&Solved> {
        match &self.answer {
            Answer::Optimal(solved) => Some(solved),
            Answer::Infeasible { .. } => None,
        }
    }
}

/// Solves a checked plan.
pub fn work(file: &PlanFile) -> Worked {
    let problem = file.problem();
    let answer = solve(&problem);
    let costs = match &answer {
        Answer::Optimal(solved) => limit_costs(&problem, solved),
        Answer::Infeasible { .. } => Vec::new(),
    };
    Worked { problem, answer, costs }
}

/// Makes the change that a repair proposes.
pub fn mend(file: &mut PlanFile, repair: &Repair) {
    let mut problem = file.problem();
    repair.apply(&mut problem);
    file.set_problem(problem);
}

/// Why a line of a solved plan gets what it gets, in a sentence without an end.
pub fn why(worked: &Worked, solved: &Solved, i: usize) -> String {
    let (line, answer) = (&worked.problem.lines[i], &solved.lines[i]);
    let thousand = |x: f64| {
        let x = 1000.0 * x;
        number(x, if x.abs() < 10.0 { 2 } else { usize::from(x.abs() < 1000.0) })
    };
    // At the best split every line that nothing holds brings as much for the next unit.
    let free = solved.lines.iter().find(|l| l.held_by == HeldBy::Nothing).map(|l| l.marginal);
    let elsewhere = free.or_else(|| solved.next_1000.map(|x| x / 1000.0));
    let here = marginal_at(&worked.problem, i, line.current.max(0.01));
    let compared = || match elsewhere {
        Some(e) if (here / e - 1.0).abs() < 0.005 => {
            format!(
                "the last of the money goes here, where 1\u{202f}000 more bring {}",
                thousand(here)
            )
        }
        Some(e) => {
            format!("1\u{202f}000 more bring {} here, {} elsewhere", thousand(here), thousand(e))
        }
        None => String::new(),
    };
    match answer.held_by {
        HeldBy::Fixed => "set by hand".into(),
        HeldBy::Capacity => format!(
            "{} is all it can spend at its bid or target",
            money(line.capacity.unwrap_or(0.0) * worked.problem.days)
        ),
        HeldBy::Nothing => compared(),
        HeldBy::Floor | HeldBy::GroupFloor if answer.budget >= line.current => {
            "its floor asks for it".into()
        }
        HeldBy::Floor | HeldBy::GroupFloor | HeldBy::Ceiling | HeldBy::GroupCeiling => compared(),
    }
}

/// Lines that the plan raises although the campaign does not use the budget that it has.
pub fn with_money_to_spare(book: &Book, file: &PlanFile, solved: &Solved) -> Vec<String> {
    let spare = |id: &str| {
        book.entries.iter().any(|e| {
            let used = e.budget_use(book.period.window);
            line_id(book, e) == id
                && used.used.is_some_and(|u| u < 0.8)
                && used.limited_by(None) == LimitedBy::Neither
        })
    };
    let raised = file.lines.iter().zip(&solved.lines).filter(|(l, a)| a.budget > 1.02 * l.current);
    raised.filter(|(l, _)| spare(&l.id)).map(|(l, _)| l.id.clone()).collect()
}
