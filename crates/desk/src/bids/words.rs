//! Bids in words.

use tiller_core::Micros;
use tiller_core::learning::Learning;
use tiller_core::setting::Strategy;
use tiller_core::strategy::Kind;
use tiller_core::verdict::LimitedBy;

use super::step::Step;
use super::{Bidding, Bids, Line};
use crate::advice::Cure;
use crate::causes::trade_off;
use crate::change_words;
use crate::numerals::{self, day, money, number, sum};
use crate::tray::proposal::Origin;
use crate::wording::{self, Words};

/// How it bids: `target CPA 52.00, shared as Leads`, `manual CPC 2.10`.
pub fn bids_by(b: &Bidding) -> String {
    let terms = terms(b);
    b.shared.as_ref().map_or_else(|| terms.clone(), |name| format!("{terms}, shared as {name}"))
}

/// Its strategy with what is set of it: `target CPA 52.00`, `manual CPC 2.10`, `most clicks, at most 1.50`.
pub fn terms(b: &Bidding) -> String {
    let units = |m: Micros| money(m.to_units());
    let kind = change_words::strategy_in_full(b.strategy);
    let by = match b.bid.filter(|_| !b.strategy.automatic()) {
        Some(bid) => format!("{kind} {}", units(bid)),
        None => kind,
    };
    match (b.floor, b.ceiling) {
        _ if !b.strategy.automatic() => by,
        (None, None) => by,
        (Some(low), None) => format!("{by}, at least {}", units(low)),
        (None, Some(high)) => format!("{by}, at most {}", units(high)),
        (Some(low), Some(high)) => format!("{by}, {} to {}", units(low), units(high)),
    }
}

/// How far a strategy has come with learning.
pub fn learning(l: &Learning) -> String {
    format!("learning, day {} of {}", l.day, l.of)
}

/// What limits it.
pub fn limited_by(line: &Line) -> &'static str {
    match line.row.judged.as_ref().map(|j| j.diagnosis.limited_by) {
        Some(LimitedBy::Budget) => "budget",
        Some(LimitedBy::Bid) => "bid",
        _ => numerals::ABSENT,
    }
}

/// Where the one advice leads, in a few words.
pub fn next(line: &Line) -> String {
    match &line.cure {
        Some(Cure::Change(p)) => p.aim(),
        Some(Cure::Budget(m, _)) => format!("daily budget {} to {}", money(m.from), money(m.to)),
        Some(Cure::Quiet(quiet)) => match quiet.until {
            Some(until) if quiet.unclear => format!("judged again on {}", day(until)),
            Some(until) => format!("look-back on {}", day(until)),
            None => "waits in the tray".into(),
        },
        None => numerals::ABSENT.into(),
    }
}

/// Who pays too much, what the next steps would free and cost, and who could buy more but for its budget.
pub fn lead(bids: &Bids) -> Words {
    let pays_more = |l: &&Line| {
        let both = l.row.tally.cpc().zip(l.row.affordable());
        both.is_some_and(|(paid, may)| paid > may.cautious)
    };
    let over = bids.lines.iter().filter(pays_more).count();
    let steps: Vec<_> = bids
        .lines
        .iter()
        .filter_map(|l| match &l.cure {
            Some(Cure::Change(p)) if l.step.is_some() && p.origin != Origin::Bids => Some(&p.adds),
            _ => None,
        })
        .collect();
    let mut words = match over {
        0 => Words::say("No campaign pays more for a click than its target affords."),
        1 => Words::say("One campaign pays more for a click than its target affords."),
        n => Words::say(format!("{n} campaigns pay more for a click than their targets afford.")),
    };
    let freed = -steps.iter().filter_map(|a| a.spend).sum::<f64>();
    let lost = -steps.iter().filter_map(|a| a.conversions).sum::<f64>();
    if freed > 0.0 {
        let (whose, frees, costs) = match steps.len() {
            1 => ("The next step of one of them".to_owned(), "frees", "costs"),
            n => (format!("The next steps of {n} of them"), "free", "cost"),
        };
        words = words
            .and(format!(" {whose} "))
            .gain(format!("{frees} about {} a day", sum(freed)))
            .and(format!(" and {costs} about {} conversions a day.", number(lost.max(0.0), 1)));
    }
    let adds = |l: &Line| match &l.cure {
        Some(Cure::Change(p)) if p.origin == Origin::Bids => p.adds.spend,
        _ => None,
    };
    let others: Vec<f64> = bids.lines.iter().filter_map(adds).collect();
    let such = |is: fn(f64) -> bool| others.iter().filter(|adds| is(**adds)).count();
    words = match such(|adds| adds > 0.0) {
        0 => words,
        1 => words.and(" One is on target and could buy more with a higher bid."),
        n => words.and(format!(" {n} are on target and could buy more with higher bids.")),
    };
    words = match such(|adds| adds < 0.0) {
        0 => words,
        1 => words.and(" One pays too much for its last conversions."),
        n => words.and(format!(" {n} pay too much for their last conversions.")),
    };
    words = match such(|adds| adds == 0.0) {
        0 => words,
        1 => words.and(" One is on target and would get more for the same money at a lower bid."),
        n => words.and(format!(
            " {n} are on target and would get more for the same money at lower bids."
        )),
    };
    let held = |l: &&Line| {
        let room = l.row.tally.cpc().zip(l.row.affordable()).is_some_and(|(p, a)| p < a.cautious);
        let by = l.row.judged.as_ref().map(|j| j.diagnosis.limited_by);
        room && by == Some(LimitedBy::Budget)
    };
    match bids.lines.iter().filter(held).count() {
        0 => words,
        1 => words.and(" One could afford a higher bid, but its budget stops it first."),
        n => {
            words.and(format!(" {n} could afford a higher bid, but their budgets stop them first."))
        }
    }
}

/// What a thing's bids are set to, for a file.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Set {
    /// The strategy's word; empty where the channel did not tell.
    pub strategy: &'static str,
    /// Its target, where it has one.
    pub target: Option<f64>,
    /// The bid in force.
    pub bid: Option<f64>,
    /// The least that the strategy bids.
    pub lowest: Option<f64>,
    /// The most.
    pub highest: Option<f64>,
}

/// What a thing's bids are set to.
pub fn set(b: Option<&Bidding>) -> Set {
    let Some(b) = b else { return Set::default() };
    let units = |m: Option<Micros>| m.map(Micros::to_units);
    Set {
        strategy: Kind::from(b.strategy).word(),
        target: match b.strategy {
            Strategy::TargetCpa { target } => Some(target.to_units()),
            Strategy::TargetRoas { target } => Some(target),
            _ => None,
        },
        bid: units(b.bid).filter(|_| !b.strategy.automatic()),
        lowest: units(b.floor),
        highest: units(b.ceiling),
    }
}

/// What is advised for a campaign, with its reason, as on every page.
pub fn advice(bids: &Bids, line: &Line) -> Words {
    let Some(judged) = &line.row.judged else {
        return Words::say("It has no target, so what a click may cost is not known.");
    };
    match &line.cure {
        Some(Cure::Budget(m, _)) => Words::say(m.sentence()),
        Some(Cure::Quiet(quiet)) => Words::say(quiet.advice()),
        Some(bid @ Cure::Change(_)) if bid.on_target().is_some() => {
            Words::say(bid.on_target().unwrap_or_default())
        }
        Some(Cure::Change(_)) | None => {
            let book = &bids.book;
            let meets = book.settled().and_then(|w| book.meets_target(w));
            let trade = trade_off(judged, &bids.volumes, line.row.campaign);
            wording::advice(judged, trade, meets.as_ref(), None)
        }
    }
}

/// How what a step does to clicks is known; nothing where its own bids have been there.
pub fn known(step: &Step) -> &'static str {
    match (step.moved, step.seen) {
        (true, true) => "",
        (true, false) => {
            "It has never bid so: what the step does to its clicks is read beyond the bids that it has had."
        }
        (false, _) => {
            "Its bids have not moved in these days: what the step does to its clicks is believed from other campaigns."
        }
    }
}
