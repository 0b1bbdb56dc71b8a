//! Budget and result: the best result of every total, with the present and plans on it.

use askama::Template;
use tiller_core::allocation::AtTotal;
use tiller_desk::numerals::{number, sum};

use super::scale::{Mark, Scale};
use super::{at, fit, path};

const LEFT: f64 = 48.0;
const RIGHT: f64 = 366.0;
const TOP: f64 = 16.0;
const BASE: f64 = 196.0;
/// Standard errors to each side of an 80% interval.
const NORMAL_80: f64 = 1.2816;

/// A point beside the curve.
pub struct Spot {
    /// Money.
    pub total: f64,
    /// What the goal counts.
    pub result: f64,
    /// What it is.
    pub name: String,
}

/// A point as it is drawn.
pub struct Drawn {
    x: f64,
    y: f64,
    text: String,
    text_y: f64,
    anchor: &'static str,
    title: String,
}

/// The chart.
#[derive(Template)]
#[template(path = "chart/total_curve.html")]
pub struct TotalCurve {
    title: String,
    summary: String,
    band: String,
    curve: String,
    now: Option<Drawn>,
    plan: Drawn,
    others: Vec<Drawn>,
    result_marks: Vec<Mark>,
    money_marks: Vec<Mark>,
    value: f64,
    most: f64,
    unit: f64,
}

/// Totals that the chart asks for, around a plan's and the present.
pub fn totals(plan: f64, present: f64) -> Vec<f64> {
    let (low, high) = (0.3 * plan.min(present), 1.6 * plan.max(present));
    let step = (high - low) / 24.0;
    (0..=24).map(|i| low + step * f64::from(i)).collect()
}

impl TotalCurve {
    /// None where the limits leave fewer than two totals.
    pub fn new(
        points: &[AtTotal],
        unit: &str,
        now: Spot,
        plan: Spot,
        others: Vec<Spot>,
    ) -> Option<Self> {
        let (first, last) = (points.first()?, points.last()?);
        if points.len() < 2 || last.total <= first.total {
            return None;
        }
        let (low, high) = (first.total, last.total);
        let x =
            |money: f64| at(LEFT + (RIGHT - LEFT) * ((money - low) / (high - low)).clamp(0.0, 1.0));
        let top = points.iter().map(|p| p.result + NORMAL_80 * p.error).fold(0.0, f64::max);
        let results = Scale::up(top * 1.05, BASE, BASE - TOP);
        let along = |of: &dyn Fn(&AtTotal) -> f64| -> Vec<(f64, f64)> {
            points.iter().map(|p| (x(p.total), results.y(of(p)))).collect()
        };
        let mut outline = along(&|p| p.result + NORMAL_80 * p.error);
        outline.extend(along(&|p| p.result - NORMAL_80 * p.error).into_iter().rev());
        let figure = |r: f64| number(r, usize::from(r < 100.0));
        let draw = |s: &Spot, above: bool| {
            let (px, py) = (x(s.total), results.y(s.result));
            Drawn {
                x: px,
                y: py,
                text: format!("{} {}", fit(&s.name, 120.0), figure(s.result)),
                text_y: at(py + if above { -10.0 } else { 18.0 }),
                anchor: if px > f64::midpoint(LEFT, RIGHT) { "end" } else { "start" },
                title: format!("{}: {} for {}", s.name, figure(s.result), sum(s.total)),
            }
        };
        let within = |s: &&Spot| s.total >= low && s.total <= high;
        Some(Self {
            title: format!("{unit} by total budget"),
            summary: format!(
                "The best split of {} brings {}; of {} it brings {}.",
                sum(low),
                figure(first.result),
                sum(high),
                figure(last.result)
            ),
            band: path(&outline) + "Z",
            curve: path(&along(&|p| p.result)),
            now: Some(&now).filter(within).map(|s| draw(s, false)),
            plan: draw(&plan, true),
            others: others.iter().filter(within).map(|s| draw(s, false)).collect(),
            result_marks: results.marks(3),
            money_marks: round_between(low, high)
                .into_iter()
                .map(|m| Mark { at: x(m), text: sum(m) })
                .collect(),
            value: plan.total.round(),
            most: high.round(),
            unit: (high - low) / (RIGHT - LEFT),
        })
    }
}

/// Three or four round amounts between two.
fn round_between(low: f64, high: f64) -> Vec<f64> {
    let raw = (high - low) / 3.0;
    let power = 10f64.powf(raw.log10().floor());
    let step =
        [1.0, 2.0, 5.0, 10.0].into_iter().map(|m| m * power).find(|s| *s >= raw).unwrap_or(raw);
    let (first, last) = ((low / step).ceil() as i64, (high / step).floor() as i64);
    (first..=last).map(|i| i as f64 * step).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_plan_stands_on_its_curve() {
        let points: Vec<AtTotal> = totals(1000.0, 800.0)
            .into_iter()
            .map(|total| AtTotal { total, result: total.sqrt(), error: 1.0 })
            .collect();
        let spot = |total: f64, name: &str| Spot { total, result: total.sqrt(), name: name.into() };
        let chart = TotalCurve::new(
            &points,
            "Leads",
            spot(800.0, "now"),
            spot(1000.0, "plan"),
            vec![spot(9000.0, "far away")],
        )
        .unwrap();
        assert!(chart.others.is_empty() && chart.plan.x > chart.now.as_ref().unwrap().x);
        assert!(chart.plan.y < chart.now.unwrap().y);
        assert!(chart.band.ends_with('Z') && chart.curve.matches('L').count() == 24);
        let none = TotalCurve::new(
            &points[..1],
            "Leads",
            spot(800.0, "now"),
            spot(1.0, "plan"),
            Vec::new(),
        );
        assert!(none.is_none());
    }

    #[test]
    fn amounts_on_the_axis_are_round() {
        assert_eq!(round_between(240.0, 1600.0), [500.0, 1000.0, 1500.0]);
    }
}
