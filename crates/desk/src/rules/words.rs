//! What a rule does, and why, in words.

use tiller_core::bid_rule::{Case, Ceiling, Field, Limits, Thresholds};
use tiller_core::custom_rule::{Action, Lack};
use tiller_core::rehearsal::{Because, Found};
use tiller_core::{Micros, Price, Tally};

use crate::numerals::{count, counted, money, number, or_absent, percent, probability};

/// A threshold as a column's title.
pub fn field(field: Field) -> &'static str {
    match field {
        Field::SpendWithoutSale => "spend without a sale",
        Field::Ceiling => "highest cost of a sale",
        Field::Headroom => "above the average click",
        Field::LowestBid => "lowest bid",
        Field::Clicks => "clicks before acting",
        Field::LeastCvr => "least CVR where it barely pays",
    }
}

/// The same, short.
pub fn column(field: Field) -> &'static str {
    match field {
        Field::SpendWithoutSale => "no sale after",
        Field::Ceiling => "a sale may cost",
        Field::Headroom => "above average",
        Field::LowestBid => "lowest bid",
        Field::Clicks => "clicks first",
        Field::LeastCvr => "least CVR",
    }
}

/// The most that sales may cost.
pub fn ceiling(ceiling: Ceiling) -> String {
    match ceiling {
        Ceiling::Acos(share) => percent(share) + "%",
        Ceiling::Cpa(price) => money(price),
    }
}

/// What it does.
pub fn action(action: Option<Action>) -> &'static str {
    match action {
        None => "wait",
        Some(Action::Pause) => "pause",
        Some(Action::Resume) => "resume",
        Some(Action::BidBy(_) | Action::BidTo(_)) => "bid",
        Some(Action::BudgetBy(_) | Action::BudgetTo(_)) => "budget",
        Some(Action::TargetBy(_)) => "target",
        Some(Action::Exclude) => "exclude",
        Some(Action::Tell) => "tell",
    }
}

/// What was counted, in a few words.
pub fn in_short(t: &Tally) -> String {
    let results = match t.conversions {
        x if x <= 0.0 => "no conversions".into(),
        x if (x - 1.0).abs() < 1e-9 => "1 conversion".into(),
        x => format!("{} conversions", count(x)),
    };
    format!(
        "{} spent, {}, {results}",
        money(t.spend),
        counted(t.clicks.unsigned_abs(), "click", "clicks")
    )
}

/// Why it does it, on the figures that it rests on.
pub fn because(found: &Found, limits: Option<&Thresholds>) -> String {
    match (found.because, limits) {
        (Because::Case(case), Some(limits)) => of_table(case, &found.known, limits),
        (Because::Lacks(lack), _) => format!("the condition holds, but {}", lacks(lack)),
        (Because::Case(_) | Because::Holds, _) => in_short(&found.known),
    }
}

fn of_table(case: Case, known: &Tally, limits: &Thresholds) -> String {
    let clicks = |n: i64| counted(n.unsigned_abs(), "click", "clicks");
    let cost = match limits.ceiling {
        Ceiling::Acos(_) => or_absent(known.acos(), |a| percent(a) + "% of its sales"),
        Ceiling::Cpa(_) => or_absent(known.cpa(), |a| money(a) + " a sale"),
    };
    let most = ceiling(limits.ceiling);
    let may = Price::of(limits.ceiling.allows(known), known.clicks as f64);
    match case {
        Case::SpentWithoutSale => format!(
            "{} spent without a sale, of {} allowed",
            money(known.spend),
            money(limits.spend_without_sale)
        ),
        Case::ClicksWithoutSale => format!("{} without a sale", clicks(known.clicks)),
        Case::TooFewClicks => format!("{} of {} clicks", known.clicks, limits.clicks),
        Case::OverCeiling
            if known.value.get() == 0 && matches!(limits.ceiling, Ceiling::Acos(_)) =>
        {
            "its sales brought no revenue".into()
        }
        Case::OverCeiling => {
            format!("costs {cost}, at most {most}: a click may cost {}", or_absent(may, money))
        }
        Case::UnderLowestBid => format!(
            "costs {cost}, at most {most}: a click may cost {}, below the lowest bid of {}",
            or_absent(may, money),
            money(limits.lowest_bid)
        ),
        Case::BarelyPays => format!(
            "costs {cost}, close to {most}, and {}% of its clicks convert, fewer than {}%",
            or_absent(known.cvr(), percent),
            percent(limits.least_cvr)
        ),
        Case::Pays => format!(
            "costs {cost}, at most {most}: the average click of {} and {} above it",
            or_absent(known.cpc(), money),
            money(limits.headroom)
        ),
    }
}

/// What is lacking.
pub fn lacks(lack: Lack) -> String {
    match lack {
        Lack::Clicks { has, needs } => format!("it has {has} of {needs} clicks"),
        Lack::Spend { has, needs: Some(needs) } => {
            format!("it has spent {} of {}", money(has), money(needs))
        }
        Lack::Spend { needs: None, .. } => "it has no target to measure its spend by".into(),
        Lack::Conversions { has, needs } => {
            format!("it has {} of {needs} conversions", number(has, 0))
        }
        Lack::Days { has, needs } => format!("it has {has} of {needs} settled days"),
        Lack::Sure { has, needs } => {
            format!(
                "that is {} likely, and the rule asks for {}",
                probability(has),
                probability(needs)
            )
        }
    }
}

/// A threshold as it is typed; empty where it is not set.
pub fn value(field: Field, limits: &Limits) -> String {
    let amount = |m: Option<Micros>| m.map(money).unwrap_or_default();
    match field {
        Field::SpendWithoutSale => amount(limits.spend_without_sale),
        Field::Ceiling => limits.ceiling.map(ceiling).unwrap_or_default(),
        Field::Headroom => amount(limits.headroom),
        Field::LowestBid => amount(limits.lowest_bid),
        Field::Clicks => limits.clicks.map(|n| n.to_string()).unwrap_or_default(),
        Field::LeastCvr => match limits.least_cvr {
            Some(q) if q > 0.0 => percent(q) + "%",
            Some(_) => "none".into(),
            None => String::new(),
        },
    }
}

/// What it would do, in a few words: `bid 0.53 → 0.61`.
pub fn would(looked: &super::run::Looked) -> String {
    use super::run::Held;
    use tiller_core::setting::Setting;
    let act = match (&looked.was, &looked.set) {
        (Some(Setting::Bid(Some(was))), Some(Setting::Bid(Some(set)))) => {
            format!("bid {} → {}", money(*was), money(*set))
        }
        (was, Some(set)) => crate::change_words::sentence(was.as_ref(), set),
        (_, None) => action(looked.found.action).to_owned(),
    };
    match &looked.held {
        None => act,
        Some(Held::Rests(until)) => format!("rests until {}", crate::numerals::day(*until)),
        Some(Held::Limits) => format!("{act}: held back by the day’s limits"),
        Some(Held::Already) => "as it should be".into(),
        Some(Held::Stopped) => "does not run".into(),
        Some(Held::CantBeSet(why)) => format!("nothing: {why}"),
        Some(Held::Course) => "nothing: a course moves it".into(),
    }
}
