//! What is uncertain about a figure. What was counted varies by more than chance alone lets it, as far as the days show:
//! evidence counts for that much less.
//!
//! A range of a count or a rate is of confidence: such ranges hold the true figure so often. What is believed of a response or a
//! target has a probability. Neither is said in the words of the other.

use tiller_core::Tally;
use tiller_core::evidence::{
    cost_per_conversion, lasting_dispersion, least_cost_without_conversions, poisson, two_shares,
    wilson,
};

use super::Seen;
use crate::book::Book;
use crate::numerals::{self, money, number as written, percent};

/// How often a range holds the true figure.
const CONFIDENCE: f64 = 0.95;
/// Differences that chance brings less often than this are more than chance.
const BY_CHANCE: f64 = 0.05;

/// How much more the days of a row's campaign differ than by chance, or of the account for rows together: what a day counted, and
/// of how many that was.
fn dispersion(s: &Seen, book: &Book, counted: impl Fn(&Tally) -> (f64, f64)) -> f64 {
    let days: Vec<Tally> = if s.row.summed.is_some() {
        book.settled_days().into_values().collect()
    } else {
        let entry = book.entry(s.row.campaign).ok();
        entry.map_or(Vec::new(), |e| e.days.iter().map(|d| d.tally).collect())
    };
    lasting_dispersion(&days.iter().map(counted).collect::<Vec<_>>())
}

fn of_clicks(s: &Seen, book: &Book) -> f64 {
    dispersion(s, book, |t| (t.conversions, t.clicks as f64))
}

fn of_money(s: &Seen, book: &Book) -> f64 {
    dispersion(s, book, |t| (t.conversions, t.spend.to_units()))
}

/// Said where days differ enough to matter.
fn uneven(phi: f64) -> String {
    if phi < 1.2 {
        return String::new();
    }
    format!(
        " Its days differ {} times as much as chance alone explains, so they count for that much less.",
        written(phi, 1)
    )
}

/// What of the days can still change.
pub(super) fn late(book: &Book) -> String {
    let settled = book.last_settled();
    match book.period.window {
        w if w.to() <= settled => "All of these days have settled.".into(),
        w if w.from() > settled => "Conversions of these days are still coming in.".into(),
        _ => {
            format!("Conversions of the days after {} are still coming in.", numerals::day(settled))
        }
    }
}

pub(super) fn marginal_doubt(s: &Seen) -> String {
    let Some(next) = s.row.next else { return String::new() };
    let (low, high) = (written(next.around.low, 2), written(next.around.high, 2));
    let range = if low == high {
        "Its bids don’t follow its budget, so a little more money buys at the same price."
            .to_owned()
    } else {
        format!("Between {low} and {high} times the mean with a probability of 80%.")
    };
    if next.leans {
        format!(
            "{range} Its own days say little of it, so this is what is typical for its channel."
        )
    } else {
        range
    }
}

pub(super) fn excess_doubt(s: &Seen, book: &Book) -> String {
    let over = s.row.judged.as_ref().and_then(|j| j.diagnosis.p_over);
    over.map_or(late(book), |p| {
        format!(
            "That the true cost is above target has a probability of {}, from the settled days.",
            numerals::probability(p)
        )
    })
}

/// How few orders a mean is of, and whether they are all in.
pub(super) fn order_doubt(s: &Seen, book: &Book) -> String {
    format!(
        "It is a mean of {}, whose values may differ widely. {}",
        numerals::conversions(s.now().conversions),
        late(book)
    )
}

/// The conversion rate is what is uncertain: the price moves with it.
pub(super) fn affordable_doubt(s: &Seen, book: &Book) -> String {
    let (t, phi) = (s.now(), of_clicks(s, book));
    let rate = wilson(t.conversions / phi, t.clicks as f64 / phi, CONFIDENCE);
    match rate.zip(s.row.affordable()) {
        Some((rate, may)) => {
            let at = |cvr: f64| money(may.cpc.units() * may.clicks_per_conversion * cvr);
            format!(
                "Its conversion rate alone makes it anything from {} to {} with 95% confidence (Wilson), before rounding up.{}",
                at(rate.low),
                at(rate.high),
                uneven(phi)
            )
        }
        None => "Nothing to compute it from yet.".into(),
    }
}

pub(super) fn change_doubt(s: &Seen, book: &Book) -> String {
    let Some(before) = &s.row.against else { return String::new() };
    let (t, phi) = (s.now(), of_money(s, book));
    let a = (t.conversions / phi, t.spend.to_units());
    let b = (before.conversions / phi, before.spend.to_units());
    apart(
        two_shares(a.0, a.1, b.0, b.1),
        "Conversions for the money differ",
        "the difference in conversions for the money",
    )
}

pub(super) fn peers_doubt(s: &Seen, book: &Book) -> String {
    let Some((own, peers)) = &s.row.peers else { return String::new() };
    let phi = of_clicks(s, book);
    let a = (own.conversions / phi, own.clicks as f64);
    let b = (peers.conversions / phi, peers.clicks as f64);
    apart(
        two_shares(a.0, a.1, b.0, b.1),
        "Its clicks convert differently from its peers’",
        "how its clicks convert",
    )
}

/// Whether chance alone would often bring such a difference.
fn apart(by_chance: f64, differ: &str, difference: &str) -> String {
    let often = numerals::probability(by_chance);
    if by_chance < BY_CHANCE {
        format!(
            "{differ}, by more than chance explains: it alone would bring as much in {often} of cases."
        )
    } else {
        format!(
            "Chance alone could explain {difference}: it would bring as much in {often} of cases."
        )
    }
}

pub(super) fn count_range(s: &Seen, book: &Book) -> String {
    let (t, phi) = (s.now(), of_money(s, book));
    let i = poisson(t.conversions / phi, CONFIDENCE);
    format!(
        "With 95% confidence its days were due to bring {} to {} (exact Poisson).{} {}",
        written(phi * i.low, 1),
        written(phi * i.high, 1),
        uneven(phi),
        late(book)
    )
}

pub(super) fn click_range(s: &Seen, book: &Book) -> String {
    let t = s.now();
    let phi = dispersion(s, book, |t| (t.clicks as f64, t.impressions as f64));
    rate_range(t.clicks as f64, t.impressions as f64, phi)
}

pub(super) fn conversion_range(s: &Seen, book: &Book) -> String {
    let t = s.now();
    rate_range(t.conversions, t.clicks as f64, of_clicks(s, book))
}

fn rate_range(successes: f64, trials: f64, phi: f64) -> String {
    let range = wilson(successes / phi, trials / phi, CONFIDENCE);
    range.map_or("Nothing to compute it from yet.".into(), |i| {
        format!(
            "The true rate is {}% to {}% with 95% confidence (Wilson).{}",
            percent(i.low),
            percent(i.high),
            uneven(phi)
        )
    })
}

pub(super) fn cost_range(s: &Seen, book: &Book) -> String {
    let (t, phi) = (s.now(), of_money(s, book));
    let spend = t.spend.to_units() / phi;
    match cost_per_conversion(spend, t.conversions / phi, CONFIDENCE) {
        (low, Some(high)) => format!(
            "The true CPA is {} to {} with 95% confidence (exact Poisson).{} {}",
            money(low),
            money(high),
            uneven(phi),
            late(book)
        ),
        (_, None) => format!(
            "No conversion yet: the true CPA is at least {} with 95% confidence (rule of three).{}",
            money(least_cost_without_conversions(spend)),
            uneven(phi)
        ),
    }
}

pub(super) fn value_range(s: &Seen, book: &Book) -> String {
    let t = s.now();
    let (Some(roas), Some(order)) = (t.roas(), t.aov().and_then(tiller_core::Price::positive))
    else {
        return "No conversion yet.".into();
    };
    // Value in orders of the mean: that they are not alike is part of how much its days differ.
    let phi =
        dispersion(s, book, |t| (tiller_core::Price::from(t.value) / order, t.spend.to_units()));
    let i = poisson(t.conversions / phi, CONFIDENCE);
    let scale = |n: f64| written(roas * phi * n / t.conversions, 2);
    format!(
        "The true ROAS is {} to {} with 95% confidence, by its orders and how they differ.{} {}",
        scale(i.low),
        scale(i.high),
        uneven(phi),
        late(book)
    )
}
