//! Remedies: the change that does what an advice or a plan says, ready for the tray.

use tiller_channel::wire::{Budget, PlacesMode, Setting, Strategy};
use tiller_core::Micros;
use tiller_core::allocation::Solved;
use tiller_core::learning::SHOCK;
use tiller_core::verdict::{HeldBy, Verdict};

use crate::book::{Book, Judged, Subject};
use crate::budgets;
use crate::figures::{count, money, number, or_absent, percent, probability};
use crate::plan_file::PlanFile;
use crate::settings::{Settings, Spot};
use crate::tray::{Origin, Proposal};
use crate::wording::{self, TradeOff};

/// A line of a plan that differs by less than this from what is set is left as it is.
const WORTH_A_CHANGE: f64 = 0.01;

fn coins(units: f64) -> Micros {
    Micros::from_units((units * 100.0).round() / 100.0)
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
        Verdict::Bid | Verdict::Both => {
            let trade = trade?;
            let set = lower_bid(settings, spot, trade.halfway / judged.tally.cpc()?)?;
            let fewer = format!(
                "{} a conversion, and {} to {} of {} conversions in {} days",
                money(trade.cpa),
                number(trade.then.0, 0),
                number(trade.then.1, 0),
                count(trade.now),
                judged.window.days()
            );
            (set, fewer)
        }
        Verdict::OnTarget if d.held_by == HeldBy::Budget && spot.ad_group.is_none() => {
            (more_budget(settings, spot)?, "more conversions at about the present cost".into())
        }
        _ => return None,
    };
    let reasons: Vec<String> =
        wording::reasons(judged).iter().take(2).map(ToString::to_string).collect();
    Some(Proposal {
        subject,
        set,
        reason: format!("{} {}", wording::headline(d), reasons.join(" ")),
        evidence: evidence(judged),
        effect,
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
        ("CPA", or_absent(j.tally.cpa(), money)),
        ("CPC", or_absent(j.tally.cpc(), money)),
        ("CVR", or_absent(j.tally.cvr(), |x| percent(x) + "%")),
        ("Peers’ CVR", or_absent(peers.cvr(), |x| percent(x) + "%")),
        ("Affordable CPC", or_absent(d.affordable.map(|a| a.cautious), money)),
        ("Target", number(j.target.number(), 2)),
        ("Above target with a probability of", or_absent(d.p_over, probability)),
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

fn more_budget(settings: &Settings, spot: Spot) -> Option<Setting> {
    let Budget::Daily { amount } = settings.campaign(spot.campaign)?.budget? else { return None };
    let amount = coins(amount.to_units() * (1.0 + SHOCK));
    Some(Setting::Budget(Budget::Daily { amount }))
}

/// The daily budgets that a plan asks for, and the lines that can't be set with the reason.
pub fn of_plan(
    book: &Book,
    settings: &Settings,
    name: &str,
    file: &PlanFile,
    solved: &Solved,
) -> (Vec<Proposal>, Vec<String>) {
    let (mut proposals, mut left) = (Vec::new(), Vec::new());
    for (line, answer) in file.lines.iter().zip(&solved.lines) {
        let entry = book.entries.iter().find(|e| budgets::line_id(book, e) == line.id);
        let Some(entry) = entry else {
            left.push(format!("{} is no longer there", line.id));
            continue;
        };
        let subject = Subject::Campaign(entry.campaign.id);
        let a_day = answer.budget / file.days;
        let amount = match settings.campaign(entry.campaign.id).map(|c| c.budget) {
            None => {
                left.push(format!("{}: its channel is not connected", line.id));
                continue;
            }
            Some(Some(Budget::Daily { amount })) => amount.to_units(),
            Some(Some(Budget::Lifetime { .. })) => {
                left.push(format!("{} has a lifetime budget; set it by hand", line.id));
                continue;
            }
            Some(None) => {
                left.push(format!("{}: each of its ad groups has its own budget", line.id));
                continue;
            }
        };
        if (a_day - amount).abs() <= WORTH_A_CHANGE * amount {
            continue;
        }
        proposals.push(Proposal {
            subject,
            set: Setting::Budget(Budget::Daily { amount: coins(a_day).max(coins(0.01)) }),
            reason: format!("The plan ‘{name}’ gives it {} a day.", money(a_day)),
            evidence: vec![
                ("Spent a day in the plan’s period".into(), money(line.current / file.days)),
                ("Conversions a day in the plan".into(), number(answer.conversions / file.days, 2)),
                ("Marginal result of a unit of money".into(), number(answer.marginal, 4)),
            ],
            effect: format!(
                "{} conversions a day, if the plan’s rates hold",
                number(answer.conversions / file.days, 2)
            ),
            origin: Origin::Plan,
            undoes: None,
        });
    }
    (proposals, left)
}
