//! Bid path: an item's bid and its average click, round by round, where the bid comes to rest, and what was paused.

use askama::Template;
use tiller_core::rehearsal::path::{Round, Sinking};
use tiller_desk::numerals::{day, money};

use super::scale::{Mark, Scale};
use super::{Form, at, path};

const LEFT: f64 = 52.0;
const TOP: f64 = 24.0;
const BOTTOM: f64 = 190.0;
/// Room for what stands at the end of lines.
const AFTER: f64 = 150.0;

/// A line across the chart with words at its end.
pub struct Across {
    y: f64,
    text_y: f64,
    text: String,
}

/// The chart.
#[derive(Template)]
#[template(path = "chart/bid_path.html")]
pub struct BidPath {
    form: &'static str,
    width: f64,
    right: f64,
    title: String,
    summary: String,
    marks: Vec<Mark>,
    days: Vec<Mark>,
    bid: String,
    cpc: String,
    cpc_end: Option<(f64, f64)>,
    rests: Option<Across>,
    holds: Option<Across>,
    /// Pauses: a square each.
    pauses: Vec<(f64, f64)>,
}

impl BidPath {
    /// Of rounds, with the pauses of all items on each of their days; none of one round.
    pub fn new(
        form: Form,
        item: &str,
        rounds: &[Round],
        sinks: Option<&Sinking>,
        paused: impl Fn(chrono::NaiveDate) -> usize,
    ) -> Option<Self> {
        let (first, last) = (rounds.first()?, rounds.last()?);
        if rounds.len() < 2 {
            return None;
        }
        let width = form.width(800.0);
        let right = width - if form == Form::Wide { AFTER } else { 16.0 };
        let bids = rounds.iter().map(|r| r.bid.units());
        let rest = sinks.map(|s| s.spiral.rests.units());
        let most = bids
            .chain(rest)
            .chain(rounds.iter().filter_map(|r| r.cpc.map(tiller_core::Price::units)));
        let scale = Scale::up(most.fold(0.0, f64::max) * 1.1, BOTTOM, BOTTOM - TOP);
        let span = (last.day - first.day).num_days().max(1) as f64;
        let x = |d: chrono::NaiveDate| {
            at(LEFT + (right - LEFT) * (d - first.day).num_days() as f64 / span)
        };
        // A bid stands until the next round: steps.
        let mut steps = Vec::new();
        for (n, r) in rounds.iter().enumerate() {
            if n > 0 {
                steps.push((x(r.day), scale.y(rounds[n - 1].bid.units())));
            }
            steps.push((x(r.day), scale.y(r.bid.units())));
        }
        let clicks: Vec<(f64, f64)> =
            rounds.iter().filter_map(|r| Some((x(r.day), scale.y(r.cpc?.units())))).collect();
        let across = |y: f64, text: String| Across { y, text_y: y + 4.0, text };
        // Two that end at one height stand under one another.
        let end = clicks.last().map(|(_, y)| *y);
        let apart = |line: Across| match end {
            Some(y) if (y - line.y).abs() < 14.0 => Across { text_y: y + 4.0 + 15.0, ..line },
            _ => line,
        };
        let squares = rounds.iter().flat_map(|r| {
            let y = scale.y(r.bid.units());
            (0..paused(r.day).min(6))
                .map(move |k| (at(x(r.day) - 4.0), at(y - 12.0 - 10.0 * k as f64)))
        });
        let about = (rounds.len() / 4).max(1);
        let labels = rounds.iter().step_by(about);
        let ends = sinks.map_or_else(
            || format!("ends at {}", money(last.bid)),
            |s| format!("would come to rest at {}", money(s.spiral.rests)),
        );
        Some(Self {
            form: form.suffix(),
            width,
            right,
            title: format!("Bid of {item}, round by round; squares: pauses of that day"),
            summary: format!(
                "From {} on {} the bid goes to {} on {}; it {ends}.",
                money(first.bid),
                day(first.day),
                money(last.bid),
                day(last.day)
            ),
            marks: scale.marks(4),
            days: labels.map(|r| Mark { at: x(r.day), text: day(r.day) }).collect(),
            bid: path(&steps),
            cpc_end: clicks.last().copied(),
            cpc: path(&clicks),
            rests: sinks.map(|s| {
                apart(across(
                    scale.y(s.spiral.rests.units()),
                    format!("rests at {}", money(s.spiral.rests)),
                ))
            }),
            holds: sinks.map(|s| {
                across(scale.y(s.bid.units()), format!("{} above holds it", money(s.spiral.holds)))
            }),
            pauses: squares.collect(),
        })
    }
}
