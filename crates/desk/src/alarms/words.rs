//! What an alarm says: what is wrong and since when, its cause, and where to act.

use tiller_core::alarm::Jump;

use super::{Alarm, Moved, What, Why};
use crate::numerals::{counted, day, money, number, percent};
use crate::wording::{Words, capital};

impl Alarm {
    /// What is wrong, and why as far as is known.
    pub fn sentence(&self) -> Words {
        let words = Words::default().strong(self.name.clone());
        match self.what {
            What::Stopped(stop, why) => words.harm(" has spent nothing").and(format!(
                " since {}; {} a day was usual. {}",
                day(stop.since),
                money(stop.usual),
                cause(why)
            )),
            What::FlightEnds(ends) => words
                .harm(format!(" ends on {}", day(ends)))
                .and("; after that day it spends nothing."),
            What::FlightOver(ended) => words
                .harm(format!(" ended on {}", day(ended)))
                .and(" by its dates, and is still set to run."),
            What::Noon { gone, of, fast } => words
                .and(" had ")
                .harm("no money left at noon")
                .and(format!(" on {gone} of the last {}. ", counted(of as u64, "day", "days")))
                .and(if fast {
                    "It is paced to spend as fast as possible."
                } else {
                    "Its demand is larger than its budget."
                }),
            What::Spend(jump, moved) => {
                words.and(" spends ").harm(format!("{} a day", money(jump.now))).and(format!(
                    " instead of {}, beyond its usual ups and downs, {}: {}.",
                    money(jump.usual),
                    since(&jump),
                    reason(moved)
                ))
            }
            What::Cost(jump, ..) if jump.now.is_infinite() => words
                .harm(" had no conversion")
                .and(format!(" {}, though it spent as before.", since(&jump))),
            What::Cost(jump, moved, order) => {
                let (now, usual) = match order {
                    Some(order) => (
                        format!("a ROAS of {}", number(order / jump.now, 2)),
                        number(order / jump.usual, 2),
                    ),
                    None => (format!("{} a conversion", money(jump.now)), money(jump.usual)),
                };
                let words = words.and(if order.is_some() { " has " } else { " pays " }).harm(now);
                words.and(format!(
                    " {}; {usual} was usual. {}.",
                    since(&jump),
                    capital(&reason(moved))
                ))
            }
        }
    }

    /// Where to act, as a link's text; and the page it leads to.
    pub fn step(&self) -> (&'static str, Page) {
        match self.what {
            What::Stopped(_, Why::Paused) => ("resume it if that was not intended", Page::Spend),
            What::Stopped(_, Why::Month) => ("see what more money would bring", Page::Curve),
            What::Stopped(_, Why::Bid(_)) => ("see what its bid can buy", Page::Causes),
            What::Stopped(_, Why::Channel | Why::Unknown) => {
                ("check it at the channel: payment, refused ads, dates", Page::Channels)
            }
            What::Stopped(_, Why::Flight(_)) => ("give it more money, or let it end", Page::Flight),
            What::FlightEnds(_) | What::FlightOver(_) => {
                ("give it new dates, or let it end", Page::Flight)
            }
            What::Noon { fast: true, .. } => ("pace it evenly at the channel", Page::Hours),
            What::Noon { fast: false, .. } => ("see what more money would bring", Page::Curve),
            What::Cost(jump, ..) if jump.now.is_infinite() => {
                ("check that its conversions are counted", Page::Measure)
            }
            What::Spend(_, Moved::Budget(..)) => ("check its budget", Page::Flight),
            What::Spend(..) | What::Cost(..) => {
                ("see what moved before you change it", Page::Causes)
            }
        }
    }
}

/// A page on which one can act.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Page {
    /// The table of spend.
    Spend,
    /// The campaign's causes.
    Causes,
    /// The channels.
    Channels,
    /// What is counted.
    Measure,
    /// Days and lifts.
    Flight,
    /// The week of hours.
    Hours,
    /// The response curve.
    Curve,
}

fn cause(why: Why) -> String {
    match why {
        Why::Paused => "It was paused at its channel, not from here.".into(),
        Why::Bid(lost) => {
            format!("It lost {}% of its auctions because its bid was too low.", percent(lost))
        }
        Why::Month => {
            "It has spent all that a month may be charged, 30.4 times its daily budget.".into()
        }
        Why::Flight(ends) => {
            format!("Its lifetime budget is spent, and its flight goes on to {}.", day(ends))
        }
        Why::Channel => "All campaigns of this channel have stopped.".into(),
        Why::Unknown => "It is set to run, and nothing here tells why it does not.".into(),
    }
}

fn since(jump: &Jump) -> String {
    let settled = if jump.days == 7 { " settled" } else { "" };
    format!("in the {}{settled} days to {}", jump.days, day(jump.to))
}

fn reason(moved: Moved) -> String {
    match moved {
        Moved::Budget(from, to) => {
            format!(
                "its daily budget is {} instead of {}, and it was not changed from here",
                money(to),
                money(from)
            )
        }
        Moved::Cpc(from, to) => format!("a click costs {} instead of {}", money(to), money(from)),
        Moved::Clicks(from, to) => {
            format!("it gets {} clicks a day instead of {}", number(to, 0), number(from, 0))
        }
        Moved::Cvr(from, to) => {
            format!("{}% of its clicks convert instead of {}%", percent(to), percent(from))
        }
        Moved::OrderValue(from, to) => {
            format!("an order is worth {} instead of {}", money(to), money(from))
        }
    }
}
