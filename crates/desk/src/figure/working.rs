//! How figures are worked out: the numbers behind each, and what is uncertain about it.

use tiller_core::{Price, Tally, Target};

use super::{Figure, Seen, Unit};
use crate::book::Book;
use crate::numerals::{self, count, money, number as written, sum};

/// Numbers with their titles.
pub type Numbers = Vec<(&'static str, String)>;

/// A ratio of what was counted.
pub type Ratio = fn(&Tally) -> Option<f64>;

/// Cost per click, in units of currency.
pub fn cpc(t: &Tally) -> Option<f64> {
    t.cpc().map(Price::units)
}

/// Cost per acquisition, in units of currency.
pub fn cpa(t: &Tally) -> Option<f64> {
    t.cpa().map(Price::units)
}

/// What an order is worth, in units of currency.
pub fn aov(t: &Tally) -> Option<f64> {
    t.aov().map(Price::units)
}

/// A figure's working.
#[derive(Clone, Debug, PartialEq)]
pub struct Working {
    /// What it is, in full.
    pub title: &'static str,
    /// How it is computed.
    pub formula: &'static str,
    /// The numbers that it is computed of.
    pub numbers: Numbers,
    /// What comes out.
    pub result: String,
    /// What is uncertain about it.
    pub uncertain: String,
}

impl Figure {
    /// How it is worked out for a row; none where there is nothing to compute it of.
    pub fn working(&self, seen: &Seen, book: &Book) -> Option<Working> {
        let currency = &book.account.currency;
        Some(Working {
            title: self.name,
            formula: (self.formula)(seen),
            numbers: (self.numbers)(seen, book)?,
            result: numerals::or_absent((self.value)(seen), |x| self.unit.in_full(x, currency)),
            uncertain: (self.uncertain)(seen, book),
        })
    }
}

pub(super) const EXACT: &str =
    "Nothing: channels count it exactly, and a day is final when it is reported.";

pub(super) fn number(x: f64) -> String {
    count(x)
}

pub(super) fn paid(book: &Book, x: f64) -> String {
    Unit::Price.in_full(x, &book.account.currency)
}

/// What one more conversion costs, as times the mean one.
pub(super) fn marginal(s: &Seen, b: &Book) -> Option<Numbers> {
    let next = s.row.next?;
    let mean = if s.by_value() {
        ("ROAS", numerals::or_absent(s.now().roas(), |x| written(x, 2)))
    } else {
        ("CPA", numerals::or_absent(s.now().cpa(), |x| paid(b, x.units())))
    };
    Some(vec![mean, ("One more costs, times", written(next.costs, 2))])
}

pub(super) fn charged(s: &Seen, _: &Book) -> Option<Numbers> {
    let t = s.now();
    Some(vec![("Clicks", sum(t.clicks as f64)), ("CPC", numerals::or_absent(t.cpc(), money))])
}

pub(super) fn valued(s: &Seen, _: &Book) -> Option<Numbers> {
    let t = s.now();
    let each = ("Value each", numerals::or_absent(t.aov(), money));
    Some(vec![("Conversions", number(t.conversions)), each])
}

/// A row's own beside a whole: its spend, or what its results are told by.
pub(super) fn parts(
    s: &Seen,
    book: &Book,
    whole: &Tally,
    results: bool,
    title: &'static str,
) -> Option<Numbers> {
    let text = |t: &Tally| match (results, s.by_value()) {
        (false, _) => paid(book, t.spend.to_units()),
        (true, true) => paid(book, t.value.to_units()),
        (true, false) => count(t.conversions),
    };
    Some(vec![("Its own", text(s.now())), (title, text(whole))])
}

pub(super) fn compared(_: &Seen) -> &'static str {
    "its own ÷ its peers’ together − 1"
}

pub(super) fn beside(s: &Seen, of: Ratio, unit: Unit) -> Option<Numbers> {
    let (own, peers) = s.row.peers.as_ref()?;
    let text = |x: f64| {
        let text = unit.text(x);
        if unit == Unit::Percent { text + "%" } else { text }
    };
    Some(vec![
        ("Its own", numerals::or_absent(of(own), text)),
        ("Peers", numerals::or_absent(of(peers), text)),
        ("Peers’ clicks", sum(peers.clicks as f64)),
    ])
}

pub(super) fn changed(_: &Seen) -> &'static str {
    "now ÷ before − 1"
}

/// Now and in the period compared with.
pub(super) fn before(s: &Seen, book: &Book, of: Ratio) -> Option<Numbers> {
    let (before, window) = s.row.against.as_ref().zip(book.period.against)?;
    let then = numerals::or_absent(of(before), money);
    Some(vec![
        ("Now", numerals::or_absent(of(s.now()), money)),
        ("Before", format!("{then} ({})", numerals::span(window))),
    ])
}

pub(super) fn excess_formula(s: &Seen) -> &'static str {
    match s.row.target {
        _ if s.row.summed.is_some() => "sum of every campaign’s excess, each by its own target",
        Some(Target::Cpa(_)) => "spend − conversions × target CPA",
        Some(Target::Roas(_)) => "spend − value ÷ target ROAS",
        None => "needs a target",
    }
}

pub(super) fn excess_numbers(s: &Seen, book: &Book) -> Option<Numbers> {
    let paid = |x: f64| paid(book, x);
    if let Some((above, under)) = s.row.summed {
        return Some(vec![("Above target", paid(above)), ("Under target", paid(under))]);
    }
    let t = s.now();
    let spend = ("Spend", paid(t.spend.to_units()));
    Some(match s.row.target {
        Some(Target::Cpa(x)) => {
            vec![spend, ("Conversions", count(t.conversions)), ("Target CPA", paid(x.units()))]
        }
        Some(Target::Roas(x)) => {
            vec![spend, ("Value", paid(t.value.to_units())), ("Target ROAS", written(x, 2))]
        }
        None => vec![spend],
    })
}

pub(super) fn affordable_formula(s: &Seen) -> &'static str {
    if s.by_value() {
        "AOV ÷ target ROAS ÷ clicks a conversion takes, rounded up to a whole click"
    } else {
        "target CPA ÷ clicks a conversion takes, rounded up to a whole click"
    }
}

pub(super) fn affordable_numbers(s: &Seen, book: &Book) -> Option<Numbers> {
    let may = s.row.affordable()?;
    let clicks = ("Clicks a conversion takes", written(may.clicks_per_conversion, 2));
    let exact = ("Without rounding up", paid(book, may.cpc.units()));
    Some(match s.row.target? {
        Target::Cpa(x) => vec![("Target CPA", paid(book, x.units())), clicks, exact],
        Target::Roas(x) => {
            let order = ("AOV", paid(book, aov(s.now())?));
            vec![order, ("Target ROAS", written(x, 2)), clicks, exact]
        }
    })
}
