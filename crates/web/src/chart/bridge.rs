//! The CPA bridge: from the peers' CPA to the campaign's, factor by factor.

use askama::Template;
use tiller_core::bridge::Bridge;
use tiller_desk::figures::{money, signed};

use super::at;
use super::scale::{Mark, Scale};

const WIDTH: f64 = 760.0;
const TOP: f64 = 26.0;
const BASE: f64 = 186.0;
const LEFT: f64 = 44.0;
const BOX: f64 = 120.0;

struct Step {
    x: f64,
    middle: f64,
    y: f64,
    height: f64,
    class: &'static str,
    hatched: bool,
    amount: String,
    amount_class: &'static str,
    caption: String,
    join: Option<f64>,
}

/// The chart.
#[derive(Template)]
#[template(path = "chart/bridge.html")]
pub struct BridgeChart {
    steps: Vec<Step>,
    marks: Vec<Mark>,
    target: Option<f64>,
    summary: String,
    box_width: f64,
    join_width: f64,
}

impl BridgeChart {
    /// The bridge with captions for its four boxes, and the target where there is one.
    pub fn new(b: &Bridge, captions: [String; 4], target: Option<f64>) -> Self {
        let middle = b.from + b.cpc;
        let most = [b.from, middle, b.to, target.unwrap_or(0.0)].into_iter().fold(0.0, f64::max);
        let scale = Scale::up(most * 1.1, BASE, BASE - TOP);
        let gap = (WIDTH - LEFT - 4.0 * BOX) / 3.0;
        let spans = [(0.0, b.from), (b.from, middle), (middle, b.to), (0.0, b.to)];
        let steps = spans
            .into_iter()
            .zip(captions)
            .enumerate()
            .map(|(i, ((from, to), caption))| {
                let effect = i == 1 || i == 2;
                let (low, high) = (f64::min(from, to), f64::max(from, to));
                let x = LEFT + i as f64 * (BOX + gap);
                let (class, hatched, amount_class) = match (i, to > from) {
                    (0, _) => ("peer-box", false, "bold"),
                    (3, _) => ("body", false, "bold"),
                    (_, true) => ("over over-wash", true, "harm-text"),
                    _ => ("gain-box", false, "gain-text"),
                };
                Step {
                    x: at(x),
                    middle: at(x + BOX / 2.0),
                    y: scale.y(high),
                    height: at((scale.y(low) - scale.y(high)).max(1.0)),
                    class,
                    hatched,
                    amount: if effect { signed(to - from, money) } else { money(to) },
                    amount_class,
                    caption,
                    join: (i < 3).then(|| scale.y(to)),
                }
            })
            .collect();
        let summary = format!(
            "From the peers’ CPA of {} to {}: the price of a click adds {}, the conversion rate {}.",
            money(b.from),
            money(b.to),
            signed(b.cpc, money),
            signed(b.cvr, money)
        );
        Self {
            steps,
            marks: scale.marks(3),
            target: target.map(|t| scale.y(t)),
            summary,
            box_width: BOX,
            join_width: at(gap),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_steps_join() {
        let b = Bridge { from: 27.56, cpc: 19.90, cvr: -7.91, to: 39.55 };
        let chart = BridgeChart::new(&b, ["a", "b", "c", "d"].map(String::from), Some(30.0));
        let s = &chart.steps;
        assert_eq!(s[0].y, at(s[1].y + s[1].height), "the first step stands on the peers' CPA");
        assert_eq!(s[1].y, s[2].y);
        assert_eq!(s[3].y, at(s[2].y + s[2].height));
        assert!(s[1].hatched && !s[2].hatched);
        assert!(chart.render().unwrap().contains("+19.90"));
    }
}
