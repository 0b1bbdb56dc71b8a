//! The week's advice: today's daily budgets, moved to where they bring the most, within the same total.

use tiller_channel::wire::{Budget, Setting};
use tiller_core::allocation::{Answer, Goal, Limits, Line as PlanLine, Problem, Total, Use, solve};
use tiller_core::learning::SHOCK;
use tiller_core::response::lever::Evidence;
use tiller_core::{Micros, Tally, Target};
use tiller_store::people::Account;
use tiller_store::{PersonId, PgPool};

use crate::DeskError;
use crate::book::{Book, Subject};
use crate::curves::Curves;
use crate::figures::{money, number};
use crate::levers::{self, Line};
use crate::settings::Settings;
use crate::tray::{self, Origin, Proposal};

/// Above what a campaign spends on average, so that its good days are not cut.
const ROOM: f64 = 1.15;
/// What a line keeps at least, so that it goes on telling what it is worth.
const KEPT: f64 = 0.1;
/// Where more than this share of all budgets is left unspent, a strategy that spends what it gets may double: more
/// would be a shock too, but money that nobody else can use pays for it.
const MUCH_UNSPENT: f64 = 0.1;
/// A budget is moved for no less than this.
const WORTH_A_CHANGE: f64 = 0.03;

/// A budget to be moved.
#[derive(Clone, Debug)]
pub struct Move {
    /// The line.
    pub line: Line,
    /// Its daily budget now.
    pub from: f64,
    /// Its new daily budget.
    pub to: f64,
}

impl Move {
    /// Conversions a day at its budget, now and then: money beyond what it can spend brings none.
    pub fn conversions(&self) -> (f64, f64) {
        let most = self.line.lever.capacity.most.unwrap_or(f64::INFINITY);
        let at = |budget: f64| self.line.lever.response.at(budget.min(most));
        (at(self.from), at(self.to))
    }

    /// What it could spend a day, and how that is known.
    pub fn capacity(&self) -> String {
        let c = &self.line.lever.capacity;
        if let (Some(curve), None) = (self.line.spends_all(), c.most) {
            return format!(
                "its strategy spends what it gets; 1% more money brings {}% more",
                number(curve.elasticity, 2)
            );
        }
        match (c.most, c.evidence) {
            (Some(most), Evidence::LostAuctions) => {
                format!("by the auctions it stood aside from it could spend {} a day", money(most))
            }
            (Some(most), _) => {
                format!("on days that its budget did not hold it spent {} a day", money(most))
            }
            (None, _) => format!(
                "nothing tells how much it could spend, so it moves by {}% at most",
                number(100.0 * SHOCK, 0)
            ),
        }
    }
}

/// The least and the most that a line may get in one week; `most` is how often its budget a strategy that spends
/// what it gets may have.
fn bounds(l: &Line, budget: f64, most: f64) -> (f64, f64) {
    let (mut floor, mut ceiling) = ((KEPT * budget).max(l.least), f64::INFINITY);
    if l.learns {
        let up = if l.spends_all().is_some() { most } else { 1.0 + SHOCK };
        (floor, ceiling) = (((1.0 - SHOCK) * budget).max(l.least), up * budget);
    }
    ceiling = match l.lever.capacity.most {
        Some(most) => ceiling.min(ROOM * most),
        // A strategy that spends what it gets has no end that could be known.
        None if l.spends_all().is_some() => ceiling,
        None => ceiling.min((1.0 + SHOCK) * budget),
    };
    // Where it can't be cut that far in one step, it keeps what the step leaves.
    (floor, ceiling.max(floor))
}

/// The best daily budgets of the lines within today's total, by line; none where no plan can be made. Where much is
/// left unspent, strategies that spend what they get may double, as long as the whole still meets its target.
pub fn budgets(lines: &[(Line, f64)], by_value: bool, target: Option<Target>) -> Option<Vec<f64>> {
    let total: f64 = lines.iter().map(|(_, budget)| budget).sum();
    let unspent: f64 = lines.iter().map(|(l, budget)| (budget - l.spend).max(0.0)).sum();
    if unspent > MUCH_UNSPENT * total {
        let doubled = split(lines, by_value, total, 2.0)?;
        if target.is_none_or(|t| t.excess(&expected(lines, &doubled)) <= 0.0) {
            return Some(doubled);
        }
    }
    split(lines, by_value, total, 1.0 + SHOCK)
}

/// What the lines bring a day with some budgets.
fn expected(lines: &[(Line, f64)], budgets: &[f64]) -> Tally {
    let mut sum = Tally::default();
    for ((l, _), budget) in lines.iter().zip(budgets) {
        let spend = l.lever.capacity.most.map_or(*budget, |most| budget.min(most));
        let conversions = l.lever.response.at(spend);
        sum += Tally {
            spend: Micros::from_units(spend),
            conversions,
            value: Micros::from_units(conversions * l.worth),
            ..Tally::default()
        };
    }
    sum
}

fn split(lines: &[(Line, f64)], by_value: bool, total: f64, most: f64) -> Option<Vec<f64>> {
    let plan_line = |(i, (l, budget)): (usize, &(Line, f64))| {
        let (floor, ceiling) = bounds(l, *budget, most);
        PlanLine {
            current: *budget,
            value_per_conversion: Some(l.worth),
            floor,
            ceiling: Some(ceiling),
            ..PlanLine::new(i.to_string(), l.lever.response)
        }
    };
    let problem = Problem {
        goal: if by_value { Goal::Value } else { Goal::Conversions },
        total: Total { amount: total, spend: Use::UpTo },
        step: 0.01,
        days: 1.0,
        lines: lines.iter().enumerate().map(plan_line).collect(),
        groups: Vec::new(),
        limits: Limits::default(),
    };
    let Answer::Optimal(solved) = solve(&problem) else { return None };
    let mut budgets: Vec<f64> = solved.lines.iter().map(|l| l.budget).collect();
    // What is left over goes back to those that would otherwise be cut for nothing.
    let mut left = total - budgets.iter().sum::<f64>();
    for (budget, (_, now)) in budgets.iter_mut().zip(lines) {
        let back = (now - *budget).clamp(0.0, left.max(0.0));
        *budget += back;
        left -= back;
    }
    Some(budgets.into_iter().map(|b| (b * 100.0).floor() / 100.0).collect())
}

/// The budgets worth moving this week.
pub async fn advise(pool: &PgPool, book: &Book) -> Result<Vec<Move>, DeskError> {
    let settings = Settings::load(pool, &book.account, &[]).await?;
    let curves = Curves::load(pool, &book.account).await?;
    // What has just been launched is left in peace.
    let lines: Vec<(Line, f64)> = levers::of_account(book, &settings, &curves)
        .into_iter()
        .filter(|l| !l.fresh)
        .filter_map(|l| l.budget.map(|budget| (l, budget)))
        .collect();
    let Some(budgets) = budgets(&lines, book.by_value(), book.account.target()) else {
        return Ok(Vec::new());
    };
    Ok(worth_a_change(
        lines.into_iter().zip(budgets).map(|((line, from), to)| Move { line, from, to }).collect(),
    ))
}

/// The moves that are worth one. What those left out would have freed is taken off the raises, so that the total is
/// kept all the same.
fn worth_a_change(mut moves: Vec<Move>) -> Vec<Move> {
    let is_worth_it = |m: &Move| (m.to / m.from - 1.0).abs() >= WORTH_A_CHANGE;
    moves.retain(is_worth_it);
    let over: f64 = moves.iter().map(|m| m.to - m.from).sum();
    let raised: f64 = moves.iter().map(|m| (m.to - m.from).max(0.0)).sum();
    if over > 0.0 {
        for m in moves.iter_mut().filter(|m| m.to > m.from) {
            m.to = ((m.from + (m.to - m.from) * (1.0 - over / raised)) * 100.0).floor() / 100.0;
        }
        moves.retain(is_worth_it);
    }
    moves
}

/// Puts the week's advice in the tray; tells how many changes are new there.
pub async fn propose(
    pool: &PgPool,
    account: &Account,
    person: PersonId,
    moves: &[Move],
) -> Result<usize, DeskError> {
    let proposals = moves.iter().map(proposal).collect();
    tray::propose(pool, account, person, proposals).await
}

fn proposal(m: &Move) -> Proposal {
    let l = &m.line;
    let capacity = m.capacity();
    let (now, then) = m.conversions();
    Proposal {
        subject: Subject::Campaign(l.campaign),
        set: Setting::Budget(Budget::Daily { amount: Micros::from_units(m.to) }),
        reason: format!(
            "Within the same total, money brings more {}: {capacity}.",
            if m.to > m.from { "here" } else { "elsewhere" }
        ),
        evidence: vec![
            ("Spends a day".into(), money(l.spend)),
            ("Conversions a day at its budget".into(), number(now, 2)),
        ],
        effect: format!("{} conversions a day instead of {}", number(then, 2), number(now, 2)),
        origin: Origin::Plan,
        undoes: None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::allocation::{Precision, Response};
    use tiller_core::response::lever::{Capacity, Lever};
    use tiller_store::CampaignId;

    fn line(budget: f64, most: Option<f64>, per_money: f64, learns: bool) -> (Line, f64) {
        let line = Line {
            campaign: CampaignId(1),
            name: "Line".into(),
            budget: Some(budget),
            least: 1.0,
            spend: budget,
            bidding: None,
            learns,
            fresh: false,
            cpc: 1.0,
            lever: Lever {
                response: Response::Constant { cpc: 1.0, cvr: per_money },
                precision: Precision {
                    reference: budget,
                    covariance: [[0.01, 0.0], [0.0, 0.0]],
                    observed: [budget; 2],
                },
                capacity: Capacity { most, evidence: Evidence::LostAuctions },
                curve: None,
            },
            worth: 50.0,
        };
        (line, budget)
    }

    #[test]
    fn money_goes_where_it_brings_more_up_to_what_can_be_spent() {
        // The first brings twice as much and could spend 150; the second has nothing to add.
        let lines = [line(100.0, Some(150.0), 0.04, false), line(100.0, Some(100.0), 0.02, false)];
        let b = budgets(&lines, false, None).unwrap();
        assert!((b[0] - 150.0 * ROOM).abs() < 0.02 && (b[0] + b[1] - 200.0).abs() < 0.03, "{b:?}");
    }

    #[test]
    fn a_strategy_that_learns_is_moved_in_steps() {
        let lines = [line(100.0, Some(300.0), 0.04, true), line(100.0, Some(100.0), 0.02, true)];
        assert_eq!(budgets(&lines, true, None).unwrap(), [120.0, 80.0]);
        let blind = [line(100.0, None, 0.04, false), line(100.0, Some(100.0), 0.02, false)];
        assert_eq!(budgets(&blind, false, None).unwrap()[0], 120.0);
    }

    /// By hand: 2 of 100 would have come from a cut too small to be made; the two raises give it up, as they got it.
    #[test]
    fn what_is_not_moved_is_not_given_away() {
        let to = |from: f64, to: f64| Move { line: line(from, None, 0.02, false).0, from, to };
        let moves =
            worth_a_change(vec![to(100.0, 98.0), to(50.0, 60.0), to(50.0, 62.0), to(80.0, 60.0)]);
        let budgets: Vec<f64> = moves.iter().map(|m| m.to).collect();
        assert_eq!(budgets, [59.09, 60.90, 60.0]);
        assert!(worth_a_change(vec![to(100.0, 90.0), to(90.0, 100.0)]).len() == 2);
        assert!(worth_a_change(vec![to(100.0, 98.0), to(50.0, 52.0)]).is_empty());
    }

    /// A strategy that spends what it gets doubles where much is left unspent, and not where the whole would then
    /// miss its target.
    #[test]
    fn money_that_nobody_uses_goes_to_whoever_spends_it() {
        let (mut idle, budget) = line(200.0, Some(40.0), 0.02, false);
        idle.spend = 40.0;
        let bent = |budget: f64| {
            let (mut l, b) = line(budget, None, 0.04, true);
            let days: Vec<tiller_core::response::Day> = (0..60)
                .map(|i| tiller_core::response::Day {
                    weekday: i % 7,
                    at: i as f64,
                    spend: 40.0 + (i % 9) as f64,
                    conversions: (40.0 + (i % 9) as f64).powf(0.6),
                })
                .collect();
            l.lever.curve = tiller_core::response::fit(&days, tiller_core::response::BELIEF);
            l.lever.response = Response::Power { scale: 0.3, elasticity: 0.6 };
            (l, b)
        };
        let lines = [(idle, budget), bent(40.0)];
        assert_eq!(budgets(&lines, false, None).unwrap()[1], 80.0);
        // What bends because its audience has seen enough is no such strategy.
        let mut tired = lines.clone();
        tired[1].0.bidding = Some(tiller_core::response::lever::Bidding::Saturates);
        assert_eq!(budgets(&tired, false, None).unwrap()[1], 48.0);
        assert_eq!(budgets(&lines, false, Some(Target::Cpa(100.0))).unwrap()[1], 80.0);
        assert_eq!(budgets(&lines, false, Some(Target::Cpa(20.0))).unwrap()[1], 48.0);
        let busy = [line(200.0, Some(400.0), 0.001, false), bent(40.0)];
        assert_eq!(budgets(&busy, false, None).unwrap()[1], 48.0, "nothing is left unspent");
    }

    #[test]
    fn a_channels_least_budget_is_kept() {
        let (mut poor, budget) = line(3.0, Some(3.0), 0.001, false);
        poor.least = 1.0;
        let lines = [(poor, budget), line(100.0, Some(300.0), 0.05, false)];
        assert!(budgets(&lines, false, None).unwrap()[0] >= 1.0);
    }

    #[test]
    fn nothing_is_cut_for_nothing() {
        let lines = [line(100.0, Some(100.0), 0.04, false), line(100.0, Some(40.0), 0.02, false)];
        let b = budgets(&lines, false, None).unwrap();
        // 40 of the second's 100 can be spent, and nobody needs the rest: it is left where it is.
        assert!((b[0] - 115.0).abs() < 0.02 && (b[1] - 85.0).abs() < 0.02, "{b:?}");
    }
}
