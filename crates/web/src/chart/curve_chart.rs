//! A campaign's days with its response curve, and how far each day lies off it.

use askama::Template;
use chrono::NaiveDate;
use tiller_core::allocation::{CONFIDENCE, Precision, Response};
use tiller_desk::numerals::{day, money, number};

use super::scale::{Mark, Scale};
use super::{Form, at, path};

const LEFT: f64 = 44.0;
const WIDTH: f64 = 690.0;
/// Room at the right end.
const END: f64 = 30.0;
const TOP: f64 = 14.0;
const BASE: f64 = 262.0;
const POINTS: usize = 48;

/// A day of the campaign.
#[derive(Clone, Debug)]
pub struct DayPoint {
    /// The day.
    pub day: NaiveDate,
    /// Money.
    pub spend: f64,
    /// Conversions, told as on a mean weekday at today's level.
    pub conversions: f64,
    /// Standard deviations off the curve.
    pub off: f64,
    /// Whether an experiment had its budget up or down.
    pub experiment: Option<bool>,
}

/// What the curve is.
#[derive(Clone, Copy, Debug)]
pub struct Stroke {
    /// Conversions a day for money a day.
    pub response: Response,
    /// How well it is known.
    pub precision: Precision,
    /// The most that it can spend a day.
    pub capacity: Option<f64>,
    /// Its budget a day now.
    pub budget: Option<f64>,
}

/// A dot.
pub struct Dot {
    x: f64,
    y: f64,
    kind: &'static str,
    title: String,
}

/// The scatter with the curve.
#[derive(Template)]
#[template(path = "chart/curve_chart.html")]
pub struct CurveChart {
    right: f64,
    suffix: &'static str,
    summary: String,
    currency: String,
    dots: Vec<Dot>,
    band: String,
    curve: String,
    able: Option<Mark>,
    budget: Option<Mark>,
    money_marks: Vec<Mark>,
    result_marks: Vec<Mark>,
}

impl CurveChart {
    /// Of days and a curve.
    pub fn new(days: &[DayPoint], line: &Stroke, currency: &str, form: Form) -> Self {
        let right = form.width(WIDTH) - END;
        let seen = days.iter().map(|d| d.spend).fold(0.0, f64::max);
        let reach =
            [seen, line.budget.unwrap_or(0.0), line.capacity.unwrap_or(0.0).min(2.0 * seen)];
        let most = reach.into_iter().fold(0.0, f64::max).max(1e-6) * 1.12;
        let spent = |money: f64| line.capacity.map_or(money, |c| money.min(c));
        let at_money = |money: f64| line.response.at(spent(money));
        let bound =
            |money: f64| line.precision.interval(line.response, spent(money).max(1e-6), CONFIDENCE);
        let top = days.iter().map(|d| d.conversions).fold(at_money(most), f64::max);
        let results = Scale::up(top * 1.05, BASE, BASE - TOP);
        let x = |money: f64| at(LEFT + (right - LEFT) * (money / most).clamp(0.0, 1.0));
        let along = |of: &dyn Fn(f64) -> f64| -> Vec<(f64, f64)> {
            (0..=POINTS)
                .map(|i| most * (i as f64 / POINTS as f64).powf(1.5))
                .map(|m| (x(m), results.y(of(m))))
                .collect()
        };
        let mut outline = along(&|m| bound(m).high);
        outline.extend(along(&|m| bound(m).low).into_iter().rev());
        let dot = |d: &DayPoint| Dot {
            x: x(d.spend),
            y: results.y(d.conversions),
            kind: match d.experiment {
                Some(true) => "up",
                Some(false) => "down",
                None => "day",
            },
            title: format!(
                "{}: {} spent, {} conversions as on a mean weekday{}",
                day(d.day),
                money(d.spend),
                number(d.conversions, 1),
                match d.experiment {
                    Some(true) => ", an experiment’s week up",
                    Some(false) => ", an experiment’s week down",
                    None => "",
                }
            ),
        };
        // Money goes to the right: the marks of a scale that stands upright, turned.
        let across = Scale::up(most, LEFT, LEFT - right);
        Self {
            right,
            suffix: form.suffix(),
            summary: format!(
                "{} days; at {} a day the curve brings {} conversions, at {} it brings {}.",
                days.len(),
                money(seen / 2.0),
                number(at_money(seen / 2.0), 1),
                money(seen),
                number(at_money(seen), 1)
            ),
            currency: currency.to_owned(),
            dots: days.iter().map(dot).collect(),
            band: path(&outline) + "Z",
            curve: path(&along(&at_money)),
            able: line
                .capacity
                .filter(|c| *c <= most)
                .map(|c| Mark { at: x(c), text: format!("can spend {}", money(c)) }),
            budget: line
                .budget
                .filter(|b| *b <= most)
                .map(|b| Mark { at: x(b), text: format!("budget {}", money(b)) }),
            money_marks: across.marks(if form == Form::Wide { 5 } else { 3 }),
            result_marks: results.marks(4),
        }
    }
}

/// Days off the curve, in order.
#[derive(Template)]
#[template(path = "chart/residual_chart.html")]
pub struct ResidualChart {
    right: f64,
    suffix: &'static str,
    summary: String,
    dots: Vec<Dot>,
    days: Vec<Mark>,
}

impl ResidualChart {
    /// None without days.
    pub fn new(points: &[DayPoint], form: Form) -> Option<Self> {
        let right = form.width(WIDTH) - END;
        let (first, last) = (points.first()?.day, points.last()?.day);
        let length = (last - first).num_days().max(1) as f64;
        let x = |d: NaiveDate| at(LEFT + (right - LEFT) * (d - first).num_days() as f64 / length);
        let outside = points.iter().filter(|p| p.off.abs() > 2.0).count();
        let marks = [0.0, 1.0 / 3.0, 2.0 / 3.0, 1.0].map(|share| {
            let on = first + chrono::Days::new((length * share).round() as u64);
            Mark { at: x(on), text: day(on) }
        });
        Some(Self {
            right,
            suffix: form.suffix(),
            summary: format!(
                "{outside} of {} days lie more than two standard deviations off the curve; chance alone would bring about {}.",
                points.len(),
                number(0.045 * points.len() as f64, 0)
            ),
            dots: points
                .iter()
                .map(|p| Dot {
                    x: x(p.day),
                    y: at(56.0 - 13.0 * p.off.clamp(-3.6, 3.6)),
                    kind: if p.off.abs() > 2.0 { "far" } else { "day" },
                    title: format!("{}: {} standard deviations", day(p.day), number(p.off, 1)),
                })
                .collect(),
            days: marks.into(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn points() -> Vec<DayPoint> {
        let first = NaiveDate::from_ymd_opt(2026, 11, 1).unwrap();
        let point = |(i, day): (usize, NaiveDate)| DayPoint {
            day,
            spend: 50.0 + i as f64,
            conversions: 5.0,
            off: if i == 3 { -2.5 } else { 0.4 },
            experiment: (i > 6).then_some(i > 8),
        };
        first.iter_days().take(12).enumerate().map(point).collect()
    }

    #[test]
    fn days_stand_where_they_spent_and_money_beyond_what_can_be_spent_is_flat() {
        let line = Stroke {
            response: Response::Constant { cpc: 1.0, cvr: 0.1 },
            precision: Precision::alone(55.0, [[0.01, 0.0], [0.0, 0.0]], [50.0, 61.0]),
            capacity: Some(55.0),
            budget: Some(60.0),
        };
        let chart = CurveChart::new(&points(), &line, "EUR", Form::Wide);
        assert!(chart.dots.windows(2).all(|w| w[1].x > w[0].x));
        assert_eq!(chart.dots.iter().filter(|d| d.kind == "up").count(), 3);
        assert!(chart.able.unwrap().at < chart.budget.unwrap().at);
        let ends: Vec<&str> = chart.curve.rsplit('L').take(2).collect();
        assert_eq!(ends[0].split(' ').nth(1), ends[1].split(' ').nth(1), "flat at the end");
    }

    #[test]
    fn days_far_off_are_told_apart() {
        let chart = ResidualChart::new(&points(), Form::Wide).unwrap();
        assert_eq!(chart.dots.iter().filter(|d| d.kind == "far").count(), 1);
        assert!(chart.summary.starts_with("1 of 12 days"), "{}", chart.summary);
        assert!(ResidualChart::new(&[], Form::Wide).is_none());
    }
}
