//! A campaign's next step, looked at closely: what it has now, and what it would have at the CPC that the step leads to.

use tiller_core::Target;
use tiller_core::bid_volume::{AtBid, Range, at_bid};
use tiller_core::evidence::Interval;

use super::{BidStep, Bids, Line};
use crate::numerals::{self, count, money, number};
use crate::wording;

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
    /// Whether its bids have moved: else what the step does is estimated from others.
    pub moved: bool,
    /// Whether it has been at such a bid.
    pub seen: bool,
}

/// Looks at a campaign's next CPC; none where it has none.
pub fn of(bids: &Bids, line: &Line) -> Option<Step> {
    let BidStep { times, .. } = line.step?;
    let judged = line.row.judged.as_ref()?;
    let tally = &judged.tally;
    let cpc = tally.cpc()?;
    let paid = bids.volumes.paid(line.row.campaign, judged)?.units();
    let elasticity = bids.volumes.get(line.row.campaign);
    let (clicks, spend) = (tally.clicks as f64, tally.spend.to_units());
    let at = |times| at_bid(&elasticity, clicks, spend, tally.conversions, times);
    let (now, then) = (at(1.0), at(times));
    let row = |title: &str, now: String, then: String| Compared { title: title.into(), now, then };
    let results = |r: Range| between(r, &|x| count(x.round()));
    let next = |a: &AtBid| numerals::or_absent(a.next, |r| between(r, &|x| money(x)));
    let cost = match judged.target {
        Target::Roas(_) => {
            let roas = |x: Option<f64>| numerals::or_absent(x, |x| number(x, 2));
            // A higher price is a lower return.
            let Interval { low, high } = then.cpc.around;
            let after = |x: f64| format!("{} to {}", number(x / high, 2), number(x / low, 2));
            (roas(tally.roas()), numerals::or_absent(tally.roas(), after))
        }
        Target::Cpa(_) => {
            let cost = |cpa: Option<Range>| numerals::or_absent(cpa, |r| between(r, &|x| money(x)));
            (cost(now.cpa), cost(then.cpa))
        }
    };
    let figures = vec![
        row("CPC", money(cpc), between(then.cpc.times(paid), &|x| money(x))),
        row("Conversions", count(tally.conversions), results(then.conversions)),
        row(wording::measure(judged.target), cost.0, cost.1),
        row("The next conversion", next(&now), next(&then)),
    ];
    let seen = elasticity.has_seen(times);
    Some(Step { days: judged.window.days(), figures, moved: elasticity.moved, seen })
}

/// An interval in words; one without an end as its beginning, and one that is a point as that.
pub fn between(r: Range, text: &dyn Fn(f64) -> String) -> String {
    let (low, high) = (text(r.around.low), text(r.around.high));
    if !r.around.high.is_finite() {
        format!("{low} or more")
    } else if low == high {
        low
    } else {
        format!("{low} to {high}")
    }
}
