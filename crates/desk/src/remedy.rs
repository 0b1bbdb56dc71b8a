//! Remedies: the change that does what an advice or a plan says, ready for the tray.

use tiller_core::allocation::{Answer, HeldBy as Held, Solved};
use tiller_core::flight::{lifetime, ramp};
use tiller_core::ids::PersonId;
use tiller_core::learning::{SHOCK, shock};
use tiller_core::setting::{Budget, PlacesMode, Setting, Strategy};
use tiller_core::verdict::Verdict;
use tiller_core::{Micros, Target, Window};
use tiller_store::PgPool;

use crate::book::{Book, Entry, Judged, Subject};
use crate::budgets::{self, Opened, Worked};
use crate::figures::{count, counted, money, number, or_absent, percent, probability, target};
use crate::settings::{Settings, Spot};
use crate::tray::{self, Adds, Origin, Proposal};
use crate::wording::{self, TradeOff};
use crate::{DeskError, causes, courses};

/// A line of a plan that differs by less than this from what is set is left as it is.
const WORTH_A_CHANGE: f64 = 0.01;

fn coins(units: f64) -> Micros {
    Micros::from_units((units * 100.0).round() / 100.0)
}

/// The change that a campaign's verdict asks for.
pub fn of_campaign(settings: &Settings, entry: &Entry, judged: &Judged) -> Option<Proposal> {
    let days: Vec<_> = entry.days.iter().map(|d| (d.day, d.tally)).collect();
    let trade = causes::trade_off(judged, &days);
    of_verdict(settings, Subject::Campaign(entry.campaign.id), judged, trade)
}

/// The change that a verdict asks for; none where it asks for none, or none can be made there.
pub fn of_verdict(
    settings: &Settings,
    subject: Subject,
    judged: &Judged,
    trade: Option<TradeOff>,
) -> Option<Proposal> {
    let spot = settings.spot(subject)?;
    let d = &judged.diagnosis;
    let (set, effect) = match d.verdict {
        Verdict::Traffic => (only_in_its_places(settings, spot)?, cheaper_visitors(judged)),
        Verdict::Bid | Verdict::OrderValue | Verdict::Both => {
            let trade = trade?;
            let set = lower_bid(settings, spot, trade.halfway / judged.tally.cpc()?)?;
            let fewer = format!(
                "{} and {} in {}",
                trade.cost(),
                trade.volume(),
                counted(judged.window.days(), "day", "days")
            );
            (set, fewer)
        }
        _ => return None,
    };
    let days = judged.window.days() as f64;
    let adds = match trade {
        // The middle of what is likely, at the new price.
        Some(t) if d.verdict != Verdict::Traffic => {
            let then = f64::midpoint(t.then.0, t.then.1);
            let spend = then * t.cpa - judged.tally.spend.to_units();
            Adds::of(spend / days, (then - t.now) / days, judged.tally.aov())
        }
        _ => Adds::default(),
    };
    let reasons: Vec<String> =
        wording::reasons(judged).iter().take(2).map(ToString::to_string).collect();
    Some(Proposal {
        subject,
        set,
        reason: format!("{} {}", wording::headline(d), reasons.join(" ")),
        evidence: evidence(judged),
        effect,
        adds,
        origin: Origin::Causes,
        undoes: None,
    })
}

/// What a verdict rests on, as it stands.
fn evidence(j: &Judged) -> Vec<(String, String)> {
    let d = &j.diagnosis;
    let peers = &d.peers;
    [
        ("Settled days", format!("{} to {}", j.window.from(), j.window.to())),
        ("Spend", money(j.tally.spend.to_units())),
        ("Conversions", count(j.tally.conversions)),
        match j.target {
            Target::Cpa(_) => ("CPA", or_absent(j.tally.cpa(), money)),
            Target::Roas(_) => ("ROAS", or_absent(j.tally.roas(), |r| number(r, 2))),
        },
        ("CPC", or_absent(j.tally.cpc(), money)),
        ("CVR", or_absent(j.tally.cvr(), |x| percent(x) + "%")),
        ("Peers’ CVR", or_absent(peers.cvr(), |x| percent(x) + "%")),
        ("Affordable CPC", or_absent(d.affordable.map(|a| a.cautious), money)),
        ("Target", target(j.target)),
        (
            match j.target {
                Target::Cpa(_) => "Chance of being above target",
                Target::Roas(_) => "Chance of being below target",
            },
            or_absent(d.p_over, probability),
        ),
    ]
    .map(|(title, figure)| (title.to_owned(), figure))
    .into()
}

/// Bids that cost so many times as much a click as now, by whatever sets them there.
fn lower_bid(settings: &Settings, spot: Spot, ratio: f64) -> Option<Setting> {
    let campaign = settings.campaign(spot.campaign)?;
    match campaign.strategy {
        Strategy::ManualCpc | Strategy::ManualCpm => {
            let bid = settings.bid(spot)?.to_units() * ratio;
            Some(Setting::Bid(Some(coins(bid))))
        }
        // Its ad groups and items have no targets of their own.
        _ if spot.ad_group.is_some() => None,
        Strategy::TargetCpa { target } => {
            let target = coins(target.to_units() * ratio);
            Some(Setting::Strategy(Strategy::TargetCpa { target }))
        }
        Strategy::TargetRoas { target } => {
            let target = (target / ratio * 100.0).round() / 100.0;
            Some(Setting::Strategy(Strategy::TargetRoas { target }))
        }
        Strategy::MostClicks | Strategy::MostConversions | Strategy::MostValue => {
            let ceiling = campaign.bid_ceiling?.to_units() * ratio;
            Some(Setting::BidCeiling(Some(coins(ceiling))))
        }
    }
}

fn only_in_its_places(settings: &Settings, spot: Spot) -> Option<Setting> {
    let places = settings.campaign(spot.campaign)?.places.as_ref()?;
    (places.mode == PlacesMode::Interested && spot.ad_group.is_none())
        .then_some(Setting::Places(PlacesMode::In))
}

fn cheaper_visitors(j: &Judged) -> String {
    match j.tally.cpc().zip(j.diagnosis.peers.cvr()) {
        Some((cpc, cvr)) => format!(
            "fewer visitors who convert better; at its peers’ rate a conversion would cost {}",
            money(cpc / cvr)
        ),
        None => "fewer visitors who convert better".into(),
    }
}

/// A budget that a plan asks for.
#[derive(Clone, Debug)]
pub struct Planned {
    /// The change to it.
    pub proposal: Proposal,
    /// Money a day now and then, where that is better done in steps.
    pub ramp: Option<(f64, f64)>,
}

/// The budgets that a solved plan asks for, and the lines that can't be set with the reason.
pub fn of_plan(
    book: &Book,
    settings: &Settings,
    name: &str,
    worked: &Worked,
    solved: &Solved,
) -> (Vec<Planned>, Vec<String>) {
    let (mut planned, mut left) = (Vec::new(), Vec::new());
    let days = worked.problem.days;
    for (i, (line, answer)) in worked.problem.lines.iter().zip(&solved.lines).enumerate() {
        let Some(entry) = budgets::entry_of(book, &line.id) else {
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
                (Budget::Daily { amount: to }, shocks.then(|| (now, to.to_units())))
            }
            Some(Budget::Lifetime { amount, starts, ends }) => {
                let Some(ahead) = book.span.to().succ_opt().and_then(|d| Window::new(d, ends))
                else {
                    left.push(format!("{}: its flight is over", line.id));
                    continue;
                };
                let so_far = Window::new(starts, book.span.to())
                    .map_or(0.0, |w| entry.tally(w).spend.to_units());
                let to = coins(so_far + lifetime(a_day, ahead));
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
        let why = budgets::why(worked, solved, i);
        let proposal = Proposal {
            subject: Subject::Campaign(entry.campaign.id),
            set: Setting::Budget(budget),
            reason: format!(
                "The plan ‘{name}’ gives it {} a day{}.",
                money(a_day),
                if why.is_empty() { String::new() } else { format!(": {why}") }
            ),
            evidence: vec![
                ("Spends a day".into(), money(line.current / days)),
                ("Conversions a day in the plan".into(), number(answer.conversions / days, 2)),
                ("Marginal result of a unit of money".into(), number(answer.marginal, 4)),
            ],
            effect: format!(
                "{} conversions a day instead of {}",
                number(answer.conversions / days, 2),
                number(budgets::present_conversions(line, days) / days, 2)
            ),
            adds: Adds::of(
                line.spent(answer.budget, days) / days - line.current / days,
                (answer.conversions - budgets::present_conversions(line, days)) / days,
                line.value_per_conversion,
            ),
            origin: Origin::Plan,
            undoes: None,
        };
        planned.push(Planned { proposal, ramp });
    }
    (planned, left)
}

/// Puts a saved plan's budgets in the tray, those that would be a shock as the first step of a ramp, and holds the
/// month against it. Tells how many changes are new there, and what was left as it is.
pub async fn plan_to_tray(
    pool: &PgPool,
    book: &Book,
    person: PersonId,
    opened: &Opened,
) -> Result<(usize, Vec<String>), DeskError> {
    let account = &book.account;
    let worked = budgets::work(&opened.file);
    let Answer::Optimal(solved) = &worked.answer else {
        return Err(DeskError::Invalid(
            "the plan’s limits contradict each other; fix them first".into(),
        ));
    };
    let settings = Settings::open(pool, account).await?;
    let (planned, mut left) = of_plan(book, &settings, &opened.plan.name, &worked, solved);
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
        match courses::ramp_to(pool, account, person, from, &steps, proposal, true).await {
            Ok(()) => count += 1,
            Err(DeskError::Invalid(why)) => {
                left.push(format!("{}: {why}", place.unwrap_or_default()))
            }
            Err(error) => return Err(error),
        }
    }
    count += tray::propose(pool, account, person, at_once).await?;
    budgets::hold_month(pool, account, Some(opened.plan.id)).await?;
    Ok((count, left))
}
