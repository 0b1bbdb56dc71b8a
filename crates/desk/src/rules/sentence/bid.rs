//! A bid rule in words.

use tiller_core::Micros;
use tiller_core::bid_rule::{Ceiling, Field};
use tiller_core::rule::{BidRule, Rule};

use super::shared::{when, within};
use super::{Line, Naming, amount, say, share, typed};
use crate::rules::words;

pub(super) fn lines(rule: &Rule, of: &BidRule, naming: &Naming) -> Vec<Line> {
    let top = of.limits.top;
    let money = |m: Option<Micros>| m.map(|m| amount(m.to_units())).unwrap_or_default();
    let field = |f: Field, value: String| typed(f.word(), words::field(f), value);
    let ceiling = match top.ceiling {
        Some(Ceiling::Acos(x)) => share(x),
        Some(Ceiling::Cpa(price)) => amount(price.units()),
        None => String::new(),
    };
    let per = match top.ceiling {
        Some(Ceiling::Cpa(_)) => " a sale",
        _ => " of its sales",
    };
    let mut lead = when(rule);
    lead.extend([
        say("for items of "),
        within(&of.within, naming),
        say(", over "),
        typed("window_days", "settled days that it looks at", of.window_days.to_string()),
        say(" settled days: pause what has spent "),
        field(Field::SpendWithoutSale, money(top.spend_without_sale)),
        say(" without a sale, or had "),
        field(Field::Clicks, top.clicks.map(|n| n.to_string()).unwrap_or_default()),
        say(" clicks without one; lower what costs more than "),
        field(Field::Ceiling, ceiling),
        say(format!("{per} to what it can afford; bid everything else ")),
        field(Field::Headroom, money(top.headroom)),
        say(" above its average click, never below "),
        field(Field::LowestBid, money(top.lowest_bid)),
        say("."),
    ]);
    let least = top.least_cvr.filter(|q| *q > 0.0).map(share).unwrap_or_default();
    let barely = Line {
        lead: vec![say("Pause what barely pays when fewer than ")],
        parts: vec![vec![field(Field::LeastCvr, least), say(" of its clicks convert")]],
    };
    vec![Line { lead, parts: vec![] }, barely]
}
