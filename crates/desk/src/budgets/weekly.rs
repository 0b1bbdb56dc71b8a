//! The week's advice: the same money, better placed. What is kept the same is what will be *spent*, not the budgets
//! as they are written: a campaign that leaves half of its budget unspent has no money to give away. What all budgets
//! leave unspent may be spent too, where the next result surely enough meets the target.
//!
//! Only campaigns whose budget is the right thing to change take part; the others keep what they have.

use tiller_core::allocation::{
    Answer, Goal, Limits, Line as PlanLine, Outlook, Problem, Total, Totals, Use, marginal_at,
    solve,
};
use tiller_core::evidence::FEW;
use tiller_core::flight::ramp;
use tiller_core::ids::PersonId;
use tiller_core::learning::{self, SHOCK};
use tiller_core::response::budget_response::Evidence;
use tiller_core::setting::{Budget, Setting};
use tiller_core::{Micros, PerDay};
use tiller_store::PgPool;
use tiller_store::people::Account;

use crate::budgets::freed::Freed;
use crate::budgets::responses::Spender;
use crate::numerals::{money, number, sum};
use crate::tray::offer::{self, Offer};
use crate::tray::proposal::{Adds, Origin, Proposal};
use crate::wording::capital;
use crate::{DeskError, courses, tray};
use tiller_core::spot::Subject;

/// What a line keeps at least of what it spends, by how many standard deviations its money surely brings less than where it would
/// go: further down is for the next look, with what this cut has taught.
const KEPT: [(f64, f64); 3] = [(2.0, 0.1), (1.0, 0.25), (0.0, 0.5)];
/// A strategy that is cut below this share of what it spends may as well learn anew: little depends on it.
const SLIGHT: f64 = 0.5;
/// A campaign that spends less than this share of its budget gives no money where a cut as far as what it spends would set its
/// strategy learning again.
const USED: f64 = 0.5;
/// A budget may lie above the most that it could spend by this: days of more demand are then not cut off, and on others it costs
/// nothing.
const BEYOND: f64 = 1.25;
/// What it gets at most, in budgets of now. Common practice, no source: double at most.
const DOUBLED: f64 = 2.0;
/// Budgets are left as they are for a gain below this share of what comes of them.
const LEAST_GAIN: f64 = 0.005;
/// And for one that is less than this share of what chance alone moves in a month: nobody would ever see it.
const SEEN: f64 = 0.3;
/// And for one that is not at least so likely to be one.
const LIKELY: f64 = 0.8;
/// Days of that month.
const MONTH: f64 = 28.0;
/// How far each may give is looked at anew with what the others then take.
const LOOKS: usize = 2;
/// Steps of a search for a spend: to a millionth.
const HALVINGS: usize = 20;
/// A budget is moved for no less than this.
const WORTH_A_CHANGE: f64 = 0.03;

/// A budget to be moved.
#[derive(Clone, Debug)]
pub struct Move {
    /// The line.
    pub line: Spender,
    /// Its daily budget now.
    pub from: PerDay,
    /// Its new daily budget.
    pub to: PerDay,
    /// What it is expected to spend a day then.
    pub spend: f64,
    /// Steps that lead there where it is more than a step, the last of them `to`.
    pub steps: Vec<PerDay>,
    /// How it takes part.
    pub part: Part,
    /// Whether results are told by their value.
    by_value: bool,
}

impl Move {
    /// Conversions a day at what it spends, now and then.
    pub fn conversions(&self) -> (f64, f64) {
        let at = |spend: f64| self.line.compared.response.at(spend);
        (at(self.line.spend), at(self.spend))
    }

    /// What it adds a day.
    pub fn adds(&self) -> Adds {
        let (now, then) = self.conversions();
        Adds {
            spend: Some(self.spend - self.line.spend),
            conversions: Some(then - now),
            value: Some((then - now) * self.line.compared.worth.units()),
        }
    }

    /// Why, from what to what, and what comes of it, as sentences.
    pub fn sentence(&self) -> String {
        let (now, then) = self.conversions();
        let steps = match self.steps.len() {
            0 | 1 => String::new(),
            n => format!(" in {n} steps"),
        };
        format!(
            "{}. {} its daily budget from {} to {}{steps}: {} conversions a day instead of {}, for {} a day instead of {}.",
            capital(&self.because()),
            if self.to > self.from { "Raise" } else { "Lower" },
            money(self.from),
            money(self.to),
            number(then, 1),
            number(now, 1),
            money(self.spend),
            money(self.line.spend)
        )
    }

    /// Why it is moved, as a phrase: what a raise could spend, and that a cut's money brings more elsewhere.
    pub fn because(&self) -> String {
        match self {
            m if m.to > m.from => format!("{}; {}", m.capacity(), m.at_margin()),
            m if matches!(m.part, Part::Fixable(_)) => {
                "even halfway to its target, its money would bring less than elsewhere".into()
            }
            m => format!("{}: its money brings more elsewhere", m.last()),
        }
    }

    /// What one more result would cost where it is raised to.
    pub fn at_margin(&self) -> String {
        if self.by_value {
            let roas = number(self.brings_back(self.spend), 2);
            return format!("the next unit of spend there brings back {roas}");
        }
        format!("one more conversion there costs about {}", money(self.costs(self.spend)))
    }

    /// What its last result costs now.
    fn last(&self) -> String {
        if self.by_value {
            let roas = number(self.brings_back(self.line.spend), 2);
            return format!("its last unit of spend brings back {roas}");
        }
        format!("its last conversion costs about {}", money(self.costs(self.line.spend)))
    }

    /// What the next result costs at a spend a day.
    fn costs(&self, spend: f64) -> f64 {
        1.0 / self.line.compared.response.marginal(spend).max(1e-9)
    }

    /// The value of what the next unit of money brings.
    fn brings_back(&self, spend: f64) -> f64 {
        self.line.compared.response.marginal(spend) * self.line.compared.worth.units()
    }

    /// What it could spend a day, and how that is known.
    fn capacity(&self) -> String {
        let c = &self.line.budget_response.capacity;
        if let (Some(curve), None) = (self.line.spends_all(), c.most) {
            return format!(
                "its strategy spends any budget it is given; 1% more money brings {}% more",
                number(curve.elasticity, 2)
            );
        }
        match (c.most, c.evidence) {
            (Some(most), Evidence::LostAuctions) => {
                format!("judging by the auctions it missed, it could spend {} a day", money(most))
            }
            (Some(most), _) => {
                format!("on days when its budget was not the limit it spent {} a day", money(most))
            }
            (None, _) => format!(
                "nothing tells how much it could spend, so it moves by {}% at most",
                number(100.0 * SHOCK, 0)
            ),
        }
    }
}

/// How a line takes part.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Part {
    /// It may give and be given.
    Full,
    /// It is over its target: it may give.
    Gives,
    /// Something else is to be changed there first, which would make its money bring so many times as much: it gives
    /// only where even that would be less than elsewhere.
    Fixable(f64),
}

/// The week's advice on an account.
#[derive(Clone, Debug, Default)]
pub struct Week {
    /// The budgets worth moving; none where they are about right.
    pub moves: Vec<Move>,
    /// All campaigns that take part, a day, now and then.
    pub whole: Option<Whole>,
    /// Money a day that the account's budgets leave unspent.
    pub unspent: f64,
    /// Money a day that earlier moves freed and nobody took.
    pub back: f64,
}

impl Week {
    /// What it adds a day in money: revenue, or what so many more conversions cost now.
    pub fn worth(&self, by_value: bool) -> f64 {
        let Some(Whole { now, then, .. }) = self.whole.filter(|_| !self.moves.is_empty()) else {
            return 0.0;
        };
        let cost = now.cpa().unwrap_or(0.0);
        let revenue = then.value.zip(now.value).map(|(then, now)| then - now);
        revenue.filter(|_| by_value).unwrap_or((then.conversions - now.conversions) * cost)
    }

    /// Of the unspent money, what would be spent.
    pub fn spends_more(&self) -> f64 {
        self.moves.iter().map(|m| m.spend - m.line.spend).sum::<f64>().max(0.0)
    }

    /// `for the same spend`, or how much of what budgets leave unspent would be spent.
    pub fn for_what(&self) -> String {
        let more = self.spends_more();
        if more < LEAST_GAIN * self.whole.map_or(0.0, |w| w.now.budget) {
            return "for the same spend".into();
        }
        if self.unspent > 0.0 {
            let unspent = sum(self.unspent);
            return format!(
                "for {} a day more of the {unspent} that budgets leave unspent",
                sum(more)
            );
        }
        format!("for {} a day more, of {} that earlier moves freed", sum(more), sum(self.back))
    }

    /// Who gives because its verdict is against it.
    pub fn at_fault(&self) -> Vec<&str> {
        self.moves.iter().filter(|m| m.part != Part::Full).map(|m| m.line.name.as_str()).collect()
    }
}

/// The whole before and after, a day.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Whole {
    /// At what is spent now.
    pub now: Totals,
    /// At what would be.
    pub then: Totals,
    /// What the goal counts then, and how much more than now, 80%.
    pub outlook: Option<Outlook>,
}

/// The highest budget that may be set.
fn highest(l: &Spender, budget: f64) -> f64 {
    match l.budget_response.capacity.most {
        Some(most) => (BEYOND * most).min(DOUBLED * budget),
        None if l.spends_all().is_some() => DOUBLED * budget,
        None => (1.0 + SHOCK) * budget,
    }
}

/// The least and the most that a line is expected to spend.
fn bounds(l: &Spender, budget: f64) -> (f64, f64) {
    let floor = l.least.min(l.spend);
    let ceiling = match highest(l, budget) {
        to if to > (1.0 + WORTH_A_CHANGE) * budget => {
            // What it leaves of its budget now it would leave of another one.
            let of = |budget| l.budget_response.capacity.expected(budget);
            of(to).min(l.spend * of(to) / of(budget))
        }
        // A budget that it does not use up moves nothing: more of it buys nothing.
        _ => l.spend,
    };
    (floor, ceiling.max(l.spend))
}

/// The least that a line is left, where its money would bring so much a unit elsewhere.
fn left(l: &Spender, by_value: bool, elsewhere: f64) -> f64 {
    let brings = l.compared.response.marginal(l.spend) * weight(l, by_value);
    let surely =
        (elsewhere / brings.max(f64::MIN_POSITIVE)).ln() / l.compared.deviation(l.spend).max(1e-9);
    let kept = match l {
        l if l.spend < USED * l.budget.unwrap_or(l.spend) && l.learns => 1.0,
        l if l.conversions < FEW => 1.0 - SHOCK,
        _ => KEPT.iter().find(|(from, _)| surely >= *from).map_or(1.0 - SHOCK, |(_, kept)| *kept),
    };
    (kept * l.spend).max(l.least.min(l.spend))
}

/// What a conversion counts for.
fn weight(l: &Spender, by_value: bool) -> f64 {
    if by_value { l.compared.worth.units() } else { 1.0 }
}

/// As far as a line may be raised, up to `most`, while `holds` of what it spends.
fn raised_while(l: &Spender, most: f64, holds: impl Fn(f64) -> bool) -> f64 {
    let (mut low, mut high) = (l.spend, most);
    if holds(most) {
        return most;
    }
    for _ in 0..HALVINGS {
        let middle = f64::midpoint(low, high);
        if holds(middle) { low = middle } else { high = middle }
    }
    low
}

fn problem(lines: &[Spender], by_value: bool, total: f64) -> Problem {
    let line = |(i, l): (usize, &Spender)| PlanLine {
        current: l.spend,
        value_per_conversion: Some(l.compared.worth.units()),
        precision: Some(l.compared.precision),
        ..PlanLine::new(i.to_string(), l.compared.response)
    };
    Problem {
        goal: if by_value { Goal::Value } else { Goal::Conversions },
        total: Total { amount: total, spend: Use::UpTo },
        step: 0.0,
        days: 1.0,
        noise: None,
        lines: lines.iter().enumerate().map(line).collect(),
        groups: Vec::new(),
        limits: Limits::default(),
    }
}

/// The best placement of what the lines spend, with the money that earlier moves `freed` for nothing, and of what budgets
/// leave unspent as far as lines can take it whose next result is `sure` to meet the target at what they would spend;
/// nothing where it is about right.
pub fn advise(
    lines: Vec<Spender>,
    (unspent, freed): (f64, &Freed),
    by_value: bool,
    part: impl Fn(&Spender) -> Part,
    sure: impl Fn(&Spender, f64) -> bool,
) -> Week {
    let lines: Vec<Spender> =
        lines.into_iter().filter(|l| l.budget.is_some() && l.spend > 0.0).collect();
    let spent: f64 = lines.iter().map(|l| l.spend).sum();
    let back = freed.free;
    let total = spent + back;
    let parts: Vec<Part> = lines.iter().map(&part).collect();
    let mut problem = problem(&lines, by_value, total);
    let mut surely = Vec::new();
    for ((of, l), part) in problem.lines.iter_mut().zip(&lines).zip(&parts) {
        let (floor, ceiling) = bounds(l, l.budget.unwrap_or(l.spend));
        // The same money better placed betters the whole, though the next result there may miss a target: what it brought
        // elsewhere cost more.
        let rises = *part == Part::Full;
        // Whom advice took money from may have it back, where it was taken for nothing.
        let taken = freed.gave(l.campaign);
        of.floor = if taken > 0.0 { l.spend } else { floor };
        of.ceiling = Some(if rises { ceiling.max(l.spend + taken) } else { l.spend + taken });
        let most = if l.learns { ceiling.min((1.0 + SHOCK) * l.spend) } else { ceiling };
        surely.push(raised_while(l, most, |spend| rises && unspent > 0.0 && sure(l, spend)));
    }
    let room: f64 = surely.iter().zip(&lines).map(|(s, l)| s - l.spend).sum();
    problem.total.amount += room.min(unspent.max(0.0));
    if unspent > 0.0 && room <= unspent {
        // There is enough for all who surely earn it: who is on target need not give, and nobody is given more than a
        // step beyond that.
        for (((of, l), part), surely) in
            problem.lines.iter_mut().zip(&lines).zip(&parts).zip(surely)
        {
            if *part == Part::Full {
                of.floor = l.spend;
                of.ceiling = of.ceiling.map(|c| c.min(surely.max((1.0 + SHOCK) * l.spend)));
            }
        }
    }
    for _ in 0..LOOKS {
        let Some(spends) = best(&lines, &problem) else { return Week::default() };
        let elsewhere = elsewhere(&lines, &problem, &spends);
        for (of, l) in problem.lines.iter_mut().zip(&lines) {
            of.floor = of.floor.max(left(l, by_value, elsewhere)).min(l.spend);
        }
    }
    let Some(spends) = placed(&lines, &parts, &mut problem) else { return Week::default() };
    let moved = worth_a_change(&lines, spends);
    for (of, spend) in problem.lines.iter_mut().zip(&moved) {
        of.fixed = Some(*spend);
    }
    let Answer::Optimal(then) = solve(&problem) else { return Week::default() };
    let whole = Some(Whole { now: then.current, then: then.totals, outlook: then.outlook });
    // Picking the best of many estimates flatters: to change nothing is as good where little is gained.
    let by_chance = 1.0 / (MONTH * then.totals.conversions).max(1.0).sqrt();
    let least = LEAST_GAIN.max(SEEN * by_chance);
    if then.outlook.is_some_and(|o| o.gain.mid < least * o.result.mid || o.better < LIKELY) {
        return Week { moves: Vec::new(), whole, unspent, back };
    }
    let a_move = |((l, part), spend): ((Spender, Part), f64)| {
        let comes_back = freed.gave(l.campaign);
        a_move(l, part, spend, comes_back, by_value)
    };
    let moves = lines.into_iter().zip(parts).zip(moved).filter_map(a_move).collect();
    Week { moves, whole, unspent, back }
}

/// The best spends within the bounds. What has a fix of its own keeps its money where that, once fixed, would bring as
/// much as where it would go, or where only little would be taken.
fn placed(lines: &[Spender], parts: &[Part], problem: &mut Problem) -> Option<Vec<f64>> {
    loop {
        let spends = best(lines, problem)?;
        let elsewhere = elsewhere(lines, problem, &spends);
        let keeps = |i: usize| {
            let Part::Fixable(times) = parts[i] else { return false };
            let (spend, now) = (spends[i], lines[i].spend);
            // Each is kept once: a solver's rounding is no cut.
            problem.lines[i].floor < now
                && spend < now
                && (spend > (1.0 - SHOCK) * now
                    || times * marginal_at(problem, i, now) >= elsewhere)
        };
        let kept: Vec<usize> = (0..lines.len()).filter(|i| keeps(*i)).collect();
        if kept.is_empty() {
            return Some(spends);
        }
        for i in kept {
            problem.lines[i].floor = lines[i].spend;
        }
    }
}

/// What another unit of money brings at least where any is raised to.
fn elsewhere(lines: &[Spender], problem: &Problem, spends: &[f64]) -> f64 {
    let raised = (0..lines.len()).filter(|i| spends[*i] > lines[*i].spend * (1.0 + 1e-9));
    raised.map(|i| marginal_at(problem, i, spends[i])).fold(f64::INFINITY, f64::min)
}

/// The best spends; what nobody can use stays where it is.
fn best(lines: &[Spender], problem: &Problem) -> Option<Vec<f64>> {
    let Answer::Optimal(best) = solve(problem) else { return None };
    let mut spends: Vec<f64> = best.lines.iter().map(|l| l.budget).collect();
    let mut left = problem.total.amount - spends.iter().sum::<f64>();
    for (spend, l) in spends.iter_mut().zip(lines) {
        let back = (l.spend - *spend).clamp(0.0, left.max(0.0));
        *spend += back;
        left -= back;
    }
    Some(spends)
}

/// Spends of which those that differ too little are left as they are. What they would have freed is taken off the
/// raises, and what they would have used off the cuts, so that the total is kept all the same.
fn worth_a_change(lines: &[Spender], mut spends: Vec<f64>) -> Vec<f64> {
    let total: f64 = spends.iter().sum();
    for _ in 0..2 {
        for (spend, l) in spends.iter_mut().zip(lines) {
            if (*spend / l.spend - 1.0).abs() < WORTH_A_CHANGE {
                *spend = l.spend;
            }
        }
        let over = spends.iter().sum::<f64>() - total;
        let too_far = |by: f64| by * over > 0.0;
        let moved: f64 =
            spends.iter().zip(lines).map(|(s, l)| s - l.spend).filter(|by| too_far(*by)).sum();
        for (spend, l) in spends.iter_mut().zip(lines) {
            let by = *spend - l.spend;
            if too_far(by) && moved != 0.0 {
                *spend -= by * (over / moved).clamp(-1.0, 1.0);
            }
        }
    }
    spends
}

fn a_move(line: Spender, part: Part, spend: f64, comes_back: f64, by_value: bool) -> Option<Move> {
    let from = line.budget?;
    if (spend / line.spend - 1.0).abs() < 1e-9 {
        return None;
    }
    // Where all that it surely has room for is given, the budget leaves it what it may have beyond.
    let all = spend > line.spend && spend >= bounds(&line, from).1 * (1.0 - 1e-9);
    let to = match spend {
        // What it had before is no more than it can spend.
        _ if comes_back > 0.0 && spend > line.spend => from.max(spend),
        _ if all => highest(&line, from),
        // What it leaves unspent of its budget it will leave of a higher one.
        more if more > line.spend => {
            (from.max(line.spend) * more / line.spend).min(highest(&line, from))
        }
        less => less,
    };
    let to = (to * 100.0).floor() / 100.0;
    // A cut of what is left unspent cuts nothing; a raise below what stands raises nothing.
    if (spend < line.spend && to >= from) || (spend > line.spend && to <= from) {
        return None;
    }
    let used = if line.learns { from } else { learning::used(from, to, line.spend) };
    // Where nobody has to learn, a cut is done at once, and a raise to what is known to be there too.
    let known = to < used || line.budget_response.capacity.most.is_some();
    let slight = to < SLIGHT * used || comes_back > 0.0;
    let far = (to / used - 1.0).abs() > SHOCK + 1e-9 && !slight && (line.learns || !known);
    let steps = if far { ramp(PerDay(used), PerDay(to), SHOCK) } else { vec![PerDay(to)] };
    Some(Move { line, from: PerDay(from), to: PerDay(to), spend, steps, part, by_value })
}

/// A move as it is offered.
pub fn offer(m: &Move) -> Offer<&Move> {
    Offer::new(m.line.campaign, &m.line.name, offer::says([&proposal(m)]), m)
}

/// Puts moves in the tray, those that are more than a step as courses; tells how many changes are new there, and
/// which campaigns could not be taken, with the reason.
pub async fn propose(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    moves: &[&Move],
) -> Result<(usize, Vec<String>), DeskError> {
    let (far, near): (Vec<&Move>, Vec<&Move>) =
        moves.iter().copied().partition(|m| m.steps.len() > 1);
    let near = near.into_iter().map(proposal).collect();
    let mut count = tray::propose(db, account, person, near).await?;
    let mut left = Vec::new();
    for m in far {
        let first = proposal(m);
        match courses::ramp_to(db, account, person, m.from, &m.steps, first).await {
            Ok(()) => count += 1,
            Err(DeskError::Invalid(why)) => left.push(format!("{}: {why}", m.line.name)),
            Err(error) => return Err(error),
        }
    }
    Ok((count, left))
}

/// The budget that a move sets in the end.
fn setting(m: &Move) -> Setting {
    Setting::Budget(Budget::Daily { amount: Micros::from_units(m.to.units()) })
}

fn proposal(m: &Move) -> Proposal {
    let l = &m.line;
    let (now, then) = m.conversions();
    let reason = if m.to > m.from {
        format!("Money brings more here: {}.", m.because())
    } else {
        format!("{}.", capital(&m.because()))
    };
    let effect = format!(
        "{} conversions a day instead of {}, for {} a day instead of {}",
        number(then, 2),
        number(now, 2),
        money(m.spend),
        money(l.spend)
    );
    Proposal::new(Subject::Campaign(l.campaign), setting(m), Origin::Week, reason)
        .because("Spends a day", money(l.spend))
        .because("Conversions a day at that", number(now, 2))
        .expecting(effect, m.adds())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::budgets::responses::Compared;
    use std::collections::HashMap;
    use tiller_core::Price;
    use tiller_core::ids::CampaignId;

    use tiller_core::allocation::{Precision, Response};
    use tiller_core::response::budget_response::{BudgetResponse, Capacity};

    fn line(budget: f64, spend: f64, most: Option<f64>, per_money: f64) -> Spender {
        let response = Response::Constant { cpc: 1.0, cvr: per_money };
        let precision = Precision::alone(budget, [[0.001, 0.0], [0.0, 0.0]], [budget; 2]);
        Spender {
            campaign: CampaignId(1),
            name: "Spender".into(),
            budget: Some(budget),
            least: 1.0,
            spend,
            conversions: 100.0,
            to_come_error: 0.0,
            bidding: None,
            learns: false,
            highest_bid: None,
            fresh: false,
            cpc: Price(1.0),
            budget_response: BudgetResponse {
                response,
                precision,
                capacity: Capacity { most, evidence: Evidence::LostAuctions },
                curve: None,
            },
            compared: Compared { response, precision, worth: Price(50.0) },
            worth: Price(50.0),
        }
    }

    fn of(lines: &[Spender]) -> Week {
        with(lines, |_| Part::Full)
    }

    fn spends(week: &Week) -> Vec<f64> {
        week.moves.iter().map(|m| m.spend).collect()
    }

    #[test]
    fn what_is_spent_stays_the_same() {
        // 40 of the second's 100 are unspent: they are no money that could go to the first.
        let week =
            of(&[line(100.0, 100.0, Some(180.0), 0.04), line(100.0, 60.0, Some(60.0), 0.02)]);
        let whole = week.whole.unwrap();
        assert!((whole.then.budget - whole.now.budget).abs() < 1e-6, "{whole:?}");
        assert!((spends(&week)[0] - 154.0).abs() < 1e-6, "{week:?}");
        assert!((spends(&week)[1] - 6.0).abs() < 1e-6, "a tenth is kept");
        assert!(whole.outlook.unwrap().gain.low > 0.0);
    }

    #[test]
    fn who_learns_and_leaves_half_unspent_gives_nothing() {
        let mut idle = line(100.0, 40.0, Some(40.0), 0.02);
        let lines = |idle: &Spender| [line(100.0, 100.0, Some(180.0), 0.04), idle.clone()];
        assert!((spends(&of(&lines(&idle)))[1] - 4.0).abs() < 1e-6);
        // A cut as far as that would set it learning anew.
        idle.learns = true;
        assert!(of(&lines(&idle)).moves.is_empty());
    }

    fn with(lines: &[Spender], part: impl Fn(&Spender) -> Part) -> Week {
        advise(lines.to_vec(), (0.0, &Freed::default()), false, part, |_, _| false)
    }

    /// One that brings 0.04 a unit and has room, one over its target, of which half is unspent.
    fn good_and_faulty() -> [Spender; 2] {
        let mut faulty = line(200.0, 80.0, Some(80.0), 0.02);
        faulty.name = "Faulty".into();
        [line(100.0, 100.0, Some(180.0), 0.04), faulty]
    }

    #[test]
    fn who_is_over_its_target_gives_what_it_spends() {
        let part = |l: &Spender| if l.name == "Faulty" { Part::Gives } else { Part::Full };
        let week = with(&good_and_faulty(), part);
        let down = &week.moves[1];
        // The first has room for all but a tenth of it, which stays.
        assert!((down.spend - 8.0).abs() < 1e-6, "{week:?}");
        assert_eq!((down.from, &down.steps[..]), (PerDay(200.0), &[PerDay(8.0)][..]));
        let mut learns = good_and_faulty();
        learns[1].learns = true;
        assert!(with(&learns, part).moves.is_empty(), "its budget is far from what it spends");
    }

    #[test]
    fn what_can_be_fixed_gives_only_where_that_would_not_be_enough() {
        let fixable = |times| {
            move |l: &Spender| if l.name == "Faulty" { Part::Fixable(times) } else { Part::Full }
        };
        let week = with(&good_and_faulty(), fixable(1.5));
        assert!(week.moves[1].because().contains("halfway"), "{week:?}");
        assert_eq!(week.at_fault(), ["Faulty"]);
        assert!(with(&good_and_faulty(), fixable(2.1)).moves.is_empty(), "as good as the other");
        // A tenth is no reason to put it off.
        let mut little = good_and_faulty();
        little[0].budget_response.capacity.most = Some(117.0);
        assert!(with(&little, fixable(1.5)).moves.is_empty());
    }

    #[test]
    fn what_a_week_is_worth_is_its_results_at_what_they_cost_now() {
        let part = |l: &Spender| if l.name == "Faulty" { Part::Gives } else { Part::Full };
        let week = with(&good_and_faulty(), part);
        let whole = week.whole.unwrap();
        // 100 and 80 are spent; a tenth of the 80 stays, the rest goes to where a unit brings 0.04 conversions.
        let more = 72.0 * (0.04 - good_and_faulty()[1].budget_response.response.at(80.0) / 80.0);
        assert!((whole.then.conversions - whole.now.conversions - more).abs() < 1e-6);
        let a_conversion = 180.0 / whole.now.conversions;
        assert!((week.worth(false) - more * a_conversion).abs() < 1e-6);
        let revenue = whole.then.value.unwrap() - whole.now.value.unwrap();
        assert!((week.worth(true) - revenue).abs() < 1e-9 && revenue > 0.0);
        assert!(Week { moves: Vec::new(), ..week }.worth(true).abs() < 1e-12, "nothing to move");
    }

    #[test]
    fn nothing_goes_beyond_capacity() {
        // A quarter more than 130 is allowed; 99% of the 130 are expected and taken from the other.
        let week =
            of(&[line(100.0, 100.0, Some(130.0), 0.04), line(100.0, 100.0, Some(100.0), 0.02)]);
        let (up, down) = (&week.moves[0], &week.moves[1]);
        assert!((up.to.units() - 162.5).abs() < 0.011, "{up:?}");
        assert!((up.spend - 128.7).abs() < 0.1 && up.spend < 130.0, "{up:?}");
        assert!((up.spend + down.to.units() - 200.0).abs() < 0.011, "{down:?}");
    }

    #[test]
    fn more_than_a_step_is_taken_in_steps() {
        let mut lines =
            [line(100.0, 100.0, Some(160.0), 0.04), line(100.0, 100.0, Some(100.0), 0.02)];
        // By hand, at once: nobody has to learn, and there is so much to be spent.
        let at_once = of(&lines).moves;
        assert!(at_once.iter().all(|m| m.steps == [m.to]), "{at_once:?}");
        lines[0].learns = true;
        let week = of(&lines);
        let (up, down) = (&week.moves[0], &week.moves[1]);
        assert_eq!((up.to, up.steps.len()), (PerDay(200.0), 4));
        assert!((up.spend - 158.4).abs() < 0.1 && down.steps.len() == 1, "{week:?}");
        lines[1].learns = true;
        lines[0].budget_response.capacity.most = Some(140.0);
        let both = of(&lines).moves;
        for m in &both {
            let from = std::iter::once(&m.from).chain(&m.steps);
            for (a, b) in from.zip(&m.steps) {
                assert!((b.units() / a.units() - 1.0).abs() <= SHOCK + 1e-3, "{:?}", m.steps);
            }
            assert_eq!(m.steps.last(), Some(&m.to));
        }
        // Nothing tells what it could spend: one step.
        let blind = of(&[line(100.0, 100.0, None, 0.04), line(100.0, 100.0, Some(100.0), 0.02)]);
        assert_eq!(blind.moves[0].to, PerDay(120.0));
    }

    #[test]
    fn unspent_money_is_no_room() {
        // It could spend 102, and may spend 120 already.
        let mut unspent = line(120.0, 100.0, Some(102.0), 0.04);
        unspent.budget_response.capacity.evidence = Evidence::FreeDays;
        let week = of(&[unspent, line(100.0, 100.0, Some(100.0), 0.02)]);
        assert!(week.moves.is_empty(), "{week:?}");
    }

    #[test]
    fn no_evidence_no_great_cut() {
        let mut thin = line(100.0, 100.0, Some(100.0), 0.001);
        thin.conversions = 2.0;
        let week = of(&[line(100.0, 100.0, Some(300.0), 0.04), thin]);
        assert!((spends(&week)[1] - 80.0).abs() < 1e-6, "{week:?}");
    }

    #[test]
    fn a_small_gain_is_not_worth_a_change() {
        let week =
            of(&[line(100.0, 100.0, Some(110.0), 0.0205), line(100.0, 100.0, Some(150.0), 0.02)]);
        assert!(week.moves.is_empty() && week.whole.is_some(), "{week:?}");
    }

    /// The same shares of better and worse, of few results and of many.
    #[test]
    fn a_gain_that_chance_hides_is_not_worth_a_change() {
        let of_rates = |scale: f64| {
            of(&[
                line(100.0, 100.0, Some(150.0), 0.024 * scale),
                line(100.0, 100.0, Some(150.0), 0.02 * scale),
            ])
        };
        assert!(!of_rates(1.0).moves.is_empty());
        assert!(of_rates(0.02).moves.is_empty(), "a conversion in eleven days");
    }

    #[test]
    fn what_is_not_known_is_in_the_interval() {
        let unsure = |rate| {
            let mut l = line(100.0, 100.0, Some(150.0), rate);
            l.compared.precision.covariance[0][0] = 0.2;
            l
        };
        let gain = of(&[unsure(0.025), unsure(0.02)]).whole.unwrap().outlook.unwrap().gain;
        assert!(gain.low < 0.0 && gain.mid > 0.0, "{gain:?}");
    }

    /// With so much left unspent, where all are sure to meet their target up to a spend.
    fn with_unspent(lines: &[Spender], unspent: f64, up_to: f64) -> Week {
        let sure = |_: &Spender, spend: f64| spend <= up_to;
        advise(lines.to_vec(), (unspent, &Freed::default()), false, |_| Part::Full, sure)
    }

    /// One that brings 0.04 a unit and has room for half as much again, and one that brings less.
    fn good_and_less_good() -> [Spender; 2] {
        [line(100.0, 100.0, Some(150.0), 0.04), line(100.0, 100.0, Some(100.0), 0.02)]
    }

    #[test]
    fn what_budgets_leave_unspent_goes_where_the_next_result_surely_meets_the_target() {
        // 99% of 150, and nobody has to give for it.
        let week = with_unspent(&good_and_less_good(), 60.0, 200.0);
        assert_eq!(week.moves.len(), 1, "{week:?}");
        assert!((week.spends_more() - 48.5).abs() < 0.1, "{week:?}");
        assert_eq!(week.for_what(), "for 48 a day more of the 60 that budgets leave unspent");
        // As far as it is sure, and no further than a step at the other's expense: nobody on target gives.
        let week = with_unspent(&good_and_less_good(), 60.0, 110.0);
        assert!((week.spends_more() - 10.0).abs() < 1e-4, "{week:?}");
        assert_eq!(week.moves.len(), 1, "{week:?}");
        // Too little for all that would surely earn it: the rest is taken where it brings less.
        let week = with_unspent(&good_and_less_good(), 20.0, 200.0);
        assert!((week.spends_more() - 20.0).abs() < 1e-6, "{week:?}");
        assert!((spends(&week)[1] - 71.5).abs() < 0.1, "{week:?}");
        // Nothing is sure: the same money, as if nothing were left.
        assert!(with_unspent(&good_and_less_good(), 60.0, 0.0).moves.is_empty());
        assert_eq!(of(&good_and_less_good()).for_what(), "for the same spend");
    }

    #[test]
    fn who_is_over_its_target_keeps_what_nobody_needs() {
        let sure = |l: &Spender, _: f64| l.name != "Faulty";
        let part = |l: &Spender| if l.name == "Faulty" { Part::Gives } else { Part::Full };
        let mut lines = good_and_faulty();
        lines[0].budget_response.capacity.most = Some(105.0);
        let week = advise(lines.to_vec(), (100.0, &Freed::default()), false, part, sure);
        assert!(
            week.moves.iter().all(|m| m.part == Part::Full),
            "nobody needs its money: {week:?}"
        );
    }

    /// 150 were taken from the second, which misses its target now, and the first can't spend them: it may have them back, at once.
    #[test]
    fn what_was_taken_for_nothing_may_come_back() {
        let mut lines = good_and_less_good();
        lines[0].budget_response.capacity.most = Some(100.0);
        (lines[1].campaign, lines[1].budget_response.capacity.most) = (CampaignId(2), Some(200.0));
        let week = |free: f64| {
            let freed = Freed { free, of: HashMap::from([(CampaignId(2), 150.0)]) };
            advise(lines.to_vec(), (0.0, &freed), false, |_| Part::Full, |_, _| false)
        };
        let back = week(200.0);
        assert!((spends(&back)[0] - 250.0).abs() < 1e-6, "{back:?}");
        assert_eq!((back.moves[0].to, back.moves[0].steps.len()), (PerDay(250.0), 1));
        assert!((spends(&week(30.0))[0] - 130.0).abs() < 1e-6, "no more than is free");
        assert!(week(0.0).moves.is_empty(), "nothing was freed for nothing");
    }

    #[test]
    fn a_strategy_that_learns_is_given_unspent_money_a_step_at_a_time() {
        let mut lines = good_and_less_good();
        lines[0].learns = true;
        let week = with_unspent(&lines, 60.0, 200.0);
        assert!((spends(&week)[0] - 120.0).abs() < 1e-6, "{week:?}");
        assert_eq!(week.moves.len(), 1, "{week:?}");
    }

    #[test]
    fn what_is_not_moved_is_not_given_away() {
        let lines = [line(100.0, 100.0, None, 0.02), line(50.0, 50.0, None, 0.02)];
        let kept = worth_a_change(&lines, vec![98.0, 52.0]);
        assert_eq!(kept, [100.0, 50.0]);
        // A raise of 2 that is none keeps 2 of the cut.
        let three = [lines[0].clone(), line(50.0, 50.0, None, 0.02), line(50.0, 50.0, None, 0.02)];
        let kept = worth_a_change(&three, vec![102.0, 60.0, 38.0]);
        assert_eq!(kept, [100.0, 60.0, 40.0]);
    }
}
