//! A campaign's next step, looked at closely: what it has now, and what it would have at the CPC that the step leads to.

use tiller_core::evidence::Interval;
use tiller_core::{Price, Target};

use super::Line;
use crate::book::{self, Book};
use crate::causes::trade_off;
use crate::numerals::{self, count, money, number};
use crate::{DeskError, wording};

/// A figure now and after the step.
#[derive(Clone, Debug, PartialEq)]
pub struct Compared {
    /// What it is.
    pub title: String,
    /// Now.
    pub now: String,
    /// After the step, between its bounds.
    pub then: String,
}

/// What a step leads to.
#[derive(Clone, Debug)]
pub struct Step {
    /// Days that the figures are of.
    pub days: u64,
    /// Its figures.
    pub figures: Vec<Compared>,
    /// Whether the campaign has been at such a CPC.
    pub seen: bool,
}

/// Looks at a campaign's next CPC; none where it has none, or where its days tell nothing of it.
pub fn of(book: &Book, line: &Line) -> Result<Option<Step>, DeskError> {
    let Some(judged) = line.row.judged.as_ref().filter(|_| line.next_cpc().is_some()) else {
        return Ok(None);
    };
    let entry = book.entry(line.row.campaign)?;
    let days: Vec<_> = entry.days.iter().map(|d| (d.day, d.tally)).collect();
    let settled: Vec<_> = days.iter().filter(|(d, _)| *d <= judged.window.to()).copied().collect();
    let known = trade_off(judged, &days).zip(book::elasticity(&settled));
    let (Some((trade, elasticity)), Some(cpc)) = (known, judged.tally.cpc()) else {
        return Ok(None);
    };
    let between = |i: Interval, text: &dyn Fn(f64) -> String| {
        if i.high.is_finite() {
            format!("{} to {}", text(i.low), text(i.high))
        } else {
            format!("{} or more", text(i.low))
        }
    };
    let row = |title: &str, now: String, then: String| Compared { title: title.into(), now, then };
    let mut figures = vec![
        row("CPC", money(cpc), money(trade.halfway)),
        row("Conversions", count(trade.now), between(trade.then, &|x| count(x.round()))),
    ];
    let measure = wording::measure(judged.target);
    match (judged.target, trade.roas) {
        (Target::Roas(_), Some(then)) => figures.push(row(
            measure,
            numerals::or_absent(judged.tally.roas(), |x| number(x, 2)),
            number(then, 2),
        )),
        _ => figures.push(row(
            measure,
            numerals::or_absent(judged.tally.cpa(), money),
            money(trade.cpa),
        )),
    }
    let (_, next) = elasticity.next_click();
    let conversion = |cpa: Price| {
        let times = |x: f64| if x.is_finite() { x * cpa.units() } else { f64::INFINITY };
        between(Interval { low: times(next.low), high: times(next.high) }, &|x| money(x))
    };
    if let Some(cpa) = judged.tally.cpa() {
        figures.push(row("Cost of the last conversion", conversion(cpa), conversion(trade.cpa)));
    }
    Ok(Some(Step { days: judged.window.days(), figures, seen: trade.seen }))
}
