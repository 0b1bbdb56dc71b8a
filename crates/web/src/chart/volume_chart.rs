//! Bid against volume: results and what they cost over the bid, with the marker that says where one looks.

use askama::Template;
use tiller_core::Target;
use tiller_core::bid_volume::{AtBid, Range};
use tiller_desk::bids::against::{Against, REACH};
use tiller_desk::numerals::{money, number};

use super::scale::{Mark, Scale};
use super::{at, path};

const LEFT: f64 = 52.0;
const RIGHT: f64 = 690.0;
/// Top and bottom of the two panels.
const RESULTS: (f64, f64) = (22.0, 176.0);
const COSTS: (f64, f64) = (212.0, 366.0);

/// The chart.
#[derive(Template)]
#[template(path = "chart/volume_chart.html")]
pub struct VolumeChart {
    summary: String,
    what: &'static str,
    result_marks: Vec<Mark>,
    cost_marks: Vec<Mark>,
    bid_marks: Vec<Mark>,
    results_band: String,
    results: String,
    costs: String,
    next_band: String,
    next: String,
    target: Option<f64>,
    now: f64,
    /// From and to where it has bid.
    seen: Option<(f64, f64)>,
    chosen: f64,
    /// Of the handle: what it stands for, and how it moves.
    value: String,
    least: String,
    most: String,
    unit: f64,
    step: f64,
}

impl VolumeChart {
    /// Of a campaign.
    pub fn new(a: &Against) -> Self {
        let x = |times: f64| {
            let share = (times - REACH.0) / (REACH.1 - REACH.0);
            at(LEFT + (RIGHT - LEFT) * share.clamp(0.0, 1.0))
        };
        let most = a.points.iter().map(|p| p.conversions.around.high).fold(0.0, f64::max);
        let results = Scale::up(most * 1.05, RESULTS.1, RESULTS.1 - RESULTS.0);
        // Twice what the dearest mean is, so that a band without an end does not flatten all else.
        let dearest = a.points.iter().filter_map(|p| p.cpa).map(|r| r.mid).fold(0.0, f64::max);
        let cap = dearest * 2.2;
        let costs = Scale::up(cap, COSTS.1, COSTS.1 - COSTS.0);
        let line = |y: &dyn Fn(&AtBid) -> Option<f64>| {
            let points: Vec<_> =
                a.points.iter().filter_map(|p| Some((x(p.times), y(p)?))).collect();
            path(&points)
        };
        let band = |of: &dyn Fn(&AtBid) -> Option<Range>, scale: &Scale| {
            let edge = |p: &AtBid, high: bool| {
                let around = of(p)?.around;
                Some((x(p.times), scale.y(if high { around.high } else { around.low })))
            };
            let mut points: Vec<_> = a.points.iter().filter_map(|p| edge(p, true)).collect();
            points.extend(a.points.iter().rev().filter_map(|p| edge(p, false)));
            if points.is_empty() { String::new() } else { path(&points) + "Z" }
        };
        let marks = [0.5, 0.75, 1.0, 1.25, 1.5, 1.75];
        let step = if a.set >= 20.0 { 0.1 } else { 0.01 };
        let text = |times: f64| number(a.setting(times), 2);
        Self {
            summary: summary(a),
            what: a.what,
            result_marks: results.marks(4),
            cost_marks: costs.marks(4),
            bid_marks: marks.iter().map(|m| Mark { at: x(*m), text: text(*m) }).collect(),
            results_band: band(&|p| Some(p.conversions), &results),
            results: line(&|p| Some(results.y(p.conversions.mid))),
            costs: line(&|p| Some(costs.y(p.cpa?.mid))),
            next_band: band(&|p| p.next, &costs),
            next: line(&|p| Some(costs.y(p.next?.mid))),
            target: match a.target {
                Some(Target::Cpa(cpa)) if cpa.units() < cap => Some(costs.y(cpa.units())),
                _ => None,
            },
            now: x(1.0),
            seen: a.seen.filter(|_| a.moved).map(|s| (x(s.low), x(s.high))),
            chosen: x(a.chosen.times),
            value: format!("{:.2}", a.setting(a.chosen.times)),
            least: format!("{:.2}", a.setting(REACH.0).min(a.setting(REACH.1))),
            most: format!("{:.2}", a.setting(REACH.0).max(a.setting(REACH.1))),
            // A return asked for falls to the right, as nearly as a straight line can say.
            unit: if a.inverse { -1.0 } else { 1.0 } * a.set * (REACH.1 - REACH.0) / (RIGHT - LEFT),
            step,
        }
    }
}

fn summary(a: &Against) -> String {
    let c = &a.chosen;
    let results = |r: Range| format!("{} to {}", number(r.around.low, 0), number(r.around.high, 0));
    format!(
        "At a {} of {} it has {} conversions in {} days; at {} it would have {}, at a CPA of {}.",
        a.what,
        number(a.set, 2),
        number(a.now.conversions.mid, 0),
        a.days,
        number(a.setting(c.times), 2),
        results(c.conversions),
        c.cpa.map_or("–".into(), |r| money(r.mid))
    )
}
