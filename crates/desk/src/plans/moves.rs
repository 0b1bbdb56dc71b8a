//! A plan's daily budgets on their way to the tray.

use tiller_core::allocation::{Answer, HeldBy as Held, Line, LineAnswer, Problem, Solved};
use tiller_core::flight::ramp;
use tiller_core::ids::PersonId;
use tiller_core::learning::{SHOCK, shock};
use tiller_core::setting::{Budget, Setting};
use tiller_core::{PerDay, Price, Window};
use tiller_store::PgPool;

use crate::account::settings::Settings;
use crate::book::Book;
use crate::numerals::{money, number};
use crate::plans::{self, Opened, Worked};
use crate::tray::offer::{self, Offer};
use crate::tray::proposal::{Adds, Origin, Proposal, coins};
use crate::{DeskError, courses, tray};
use tiller_core::spot::Subject;

/// A line of a plan that differs by less than this from what is set is left as it is.
const WORTH_A_CHANGE: f64 = 0.01;

/// A budget that a plan asks for.
#[derive(Clone, Debug)]
pub struct Planned {
    /// The change to it.
    pub proposal: Proposal,
    /// Money a day now and then, where that is better done in steps.
    pub ramp: Option<(PerDay, PerDay)>,
}

/// The money a day that a plan gives each of its lines, as its page shows it, with the line's number.
pub fn offers(problem: &Problem, solved: &Solved) -> Vec<Offer<usize>> {
    let a_day = |answer: &LineAnswer| format!("{} a day", money(answer.budget / problem.days));
    let offer = |(i, (line, answer)): (usize, (&Line, &LineAnswer))| {
        Offer::new(&line.id, &line.id, a_day(answer), i)
    };
    problem.lines.iter().zip(&solved.lines).enumerate().map(offer).collect()
}

/// The budgets that these lines of a solved plan ask for, and the lines that can't be set with the reason.
fn of_plan(
    book: &Book,
    settings: &Settings,
    name: &str,
    worked: &Worked,
    solved: &Solved,
    lines: &[usize],
) -> (Vec<Planned>, Vec<String>) {
    let (mut planned, mut left) = (Vec::new(), Vec::new());
    let days = worked.problem.days;
    for &i in lines {
        let (line, answer) = (&worked.problem.lines[i], &solved.lines[i]);
        let Some(entry) = plans::entry_of(book, &line.id) else {
            left.push(format!("{} is no longer there", line.id));
            continue;
        };
        let Some(set) = settings.campaign(entry.campaign.id) else {
            left.push(format!("{}: its channel is not connected", line.id));
            continue;
        };
        let a_day = answer.budget / days;
        let (budget, ramp) = match set.budget {
            Some(Budget::Daily { amount }) => {
                let now = amount.to_units();
                // What it can't spend anyway need not be taken away.
                let enough = answer.held_by == Held::Capacity && now >= a_day;
                if enough || (a_day - now).abs() <= WORTH_A_CHANGE * now {
                    continue;
                }
                let least = settings.limits(entry.campaign.id).least_budget;
                let to = coins(a_day).max(least).max(coins(0.01));
                if to == amount {
                    continue;
                }
                let shocks = set.strategy.automatic() && shock(now, to.to_units()).is_some();
                (Budget::Daily { amount: to }, shocks.then(|| (PerDay(now), to.into())))
            }
            Some(Budget::Lifetime { amount, starts, ends }) => {
                let Some(ahead) = book.span.to().succ_opt().and_then(|d| Window::new(d, ends))
                else {
                    left.push(format!("{}: its flight is over", line.id));
                    continue;
                };
                let so_far = Window::new(starts, book.span.to())
                    .map_or(0.0, |w| entry.tally(w).spend.to_units());
                let to = coins(so_far + PerDay(a_day).over(ahead));
                if (to.to_units() / amount.to_units() - 1.0).abs() <= WORTH_A_CHANGE {
                    continue;
                }
                (Budget::Lifetime { amount: to, starts, ends }, None)
            }
            None => {
                left.push(format!("{}: each of its ad groups has its own budget", line.id));
                continue;
            }
        };
        let why = plans::why(worked, solved, i);
        let because = if why.is_empty() { String::new() } else { format!(": {why}") };
        let now = plans::present_conversions(line, days) / days;
        let then = answer.conversions / days;
        let proposal = Proposal::new(
            Subject::Campaign(entry.campaign.id),
            Setting::Budget(budget),
            Origin::Plan,
            format!("The plan ‘{name}’ gives it {} a day{because}.", money(a_day)),
        )
        .because("Spends a day", money(line.current / days))
        .because("Conversions a day in the plan", number(then, 2))
        .because("Marginal result of a unit of money", number(answer.marginal, 4))
        .expecting(
            format!("{} conversions a day instead of {}", number(then, 2), number(now, 2)),
            Adds::of(
                (line.spent(answer.budget, days) - line.current) / days,
                then - now,
                line.value_per_conversion.map(Price),
            ),
        );
        planned.push(Planned { proposal, ramp });
    }
    (planned, left)
}

/// Puts a saved plan's budgets in the tray as its page's `buttons` carry them, those that would be a shock as the first
/// step of a ramp, and holds the month against it. Tells how many changes are new there, and what was left as it is.
pub async fn to_tray(
    db: &PgPool,
    book: &Book,
    person: PersonId,
    opened: &Opened,
    buttons: &[String],
) -> Result<(usize, Vec<String>), DeskError> {
    let account = &book.account;
    let worked = plans::work(&opened.file);
    let Answer::Optimal(solved) = &worked.answer else {
        return Err(DeskError::Invalid(
            "the plan’s limits contradict each other; fix them first".into(),
        ));
    };
    let lines = offer::taken(buttons, offers(&worked.problem, solved))?;
    if lines.is_empty() {
        return Err(DeskError::Invalid("choose at least one line; then put it in the tray".into()));
    }
    let settings = Settings::of_account(db, account.id).await?;
    let (planned, mut left) = of_plan(book, &settings, &opened.plan.name, &worked, solved, &lines);
    if planned.is_empty() && !left.is_empty() {
        return Err(DeskError::Invalid(left.join("; ")));
    }
    let mut at_once = Vec::new();
    let mut count = 0;
    for Planned { proposal, ramp: far } in planned {
        let Some((from, to)) = far else {
            at_once.push(proposal);
            continue;
        };
        let place = settings.spot(proposal.subject).and_then(|s| settings.names(s));
        let steps = ramp(from, to, SHOCK);
        match courses::ramp_to(db, account, person, from, &steps, proposal).await {
            Ok(()) => count += 1,
            Err(DeskError::Invalid(why)) => {
                left.push(format!("{}: {why}", place.unwrap_or_default()))
            }
            Err(error) => return Err(error),
        }
    }
    count += tray::propose(db, account, person, at_once).await?;
    plans::follow(db, account, Some(opened.plan.id)).await?;
    Ok((count, left))
}
