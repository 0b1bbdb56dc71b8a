//! The click ladder: the clicks that one conversion takes, each rung priced at the CPC paid.

use askama::Template;
use tiller_core::Price;
use tiller_desk::numerals::{money, number};

use super::at;

const TOP: f64 = 16.0;
const BASE: f64 = 226.0;
/// More clicks than this are drawn in bundles.
const MOST_RUNGS: f64 = 12.0;

struct Rung {
    y: f64,
    price: String,
    caption: Option<(f64, String)>,
    bold: bool,
}

/// The chart.
#[derive(Template)]
#[template(path = "chart/ladder.html")]
pub struct Ladder {
    rungs: Vec<Rung>,
    target: f64,
    target_text: String,
    /// Where the two texts stand, kept apart.
    target_at: f64,
    cost_at: f64,
    cost_text: String,
    over: Option<(f64, f64)>,
    base: f64,
    top: f64,
    note: String,
    summary: String,
}

impl Ladder {
    /// For so many clicks per conversion at a CPC, against a target CPA.
    pub fn new(clicks: f64, cpc: Price, target: Price) -> Self {
        let (cpc, target) = (cpc.units(), target.units());
        let cost = clicks * cpc;
        let most = cost.max(target) * 1.04;
        let y = |money: f64| at(BASE - money / most * (BASE - TOP));
        let bundle = (clicks / MOST_RUNGS).ceil().max(1.0);
        let whole = (clicks / bundle + 1e-9).floor() as usize;
        let rung_height = bundle * cpc / most * (BASE - TOP);
        let caption = |i: usize| {
            if bundle > 1.0 {
                format!("{} clicks", number(bundle * (i + 1) as f64, 0))
            } else {
                format!("click {}", i + 1)
            }
        };
        let mut rungs: Vec<Rung> = (0..whole)
            .map(|i| {
                let price = (i + 1) as f64 * bundle * cpc;
                let middle = y(price - bundle * cpc / 2.0) + 4.0;
                Rung {
                    y: y(price),
                    price: money(price),
                    caption: (rung_height >= 15.0).then(|| (at(middle), caption(i))),
                    bold: true,
                }
            })
            .collect();
        let rest = clicks / bundle - whole as f64;
        if rest > 0.02 {
            let height = rest * rung_height;
            let middle = y(cost - rest * bundle * cpc / 2.0) + 4.0;
            let text = if bundle > 1.0 {
                String::new()
            } else {
                format!("{} of a click", number(rest, 2))
            };
            rungs.push(Rung {
                y: y(cost),
                price: String::new(),
                caption: (height >= 15.0).then_some((at(middle), text)),
                bold: false,
            });
        }
        // Prices that would stand on each other are left out, from below.
        let mut last = f64::INFINITY;
        for rung in &mut rungs {
            if last - rung.y < 13.0 { rung.price = String::new() } else { last = rung.y }
        }
        let (target_y, cost_y) = (y(target), y(cost));
        let apart = (target_y - cost_y).abs() > 14.0;
        let upper = if target_y < cost_y { (0.0, 16.0) } else { (16.0, 0.0) };
        let beside = |own: f64, shift: f64| {
            at(if apart { own + 4.0 } else { target_y.min(cost_y) - 2.0 + shift })
        };
        let over = (cost > target).then(|| (y(cost), at(y(target) - y(cost))));
        let summary = format!(
            "One conversion takes {} clicks at {} each, {} in all; the target of {} is used up after {} clicks.",
            number(clicks, 1),
            money(cpc),
            money(cost),
            money(target),
            number(target / cpc, 1)
        );
        Self {
            rungs,
            target: target_y,
            target_text: money(target),
            target_at: beside(target_y, upper.0),
            cost_at: beside(cost_y, upper.1),
            cost_text: money(cost),
            over,
            base: BASE,
            top: TOP,
            note: if bundle > 1.0 {
                format!("each rung {} clicks", number(bundle, 0))
            } else {
                String::new()
            },
            summary,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rungs_are_whole_clicks_and_the_rest() {
        let ladder = Ladder::new(3.5, Price(11.3), Price(30.0));
        assert_eq!(ladder.rungs.len(), 4);
        assert_eq!(ladder.rungs[0].price, "11.30");
        assert!(ladder.over.is_some());
        assert!(ladder.target_at > ladder.cost_at, "the target is used up below the cost");
        let many = Ladder::new(40.0, Price(0.5), Price(30.0));
        assert!(many.rungs.len() <= 13 && many.over.is_none());
        assert!(many.render().unwrap().contains("One conversion takes 40.0 clicks"));
    }
}
