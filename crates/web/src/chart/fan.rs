//! The fan: a month's money so far, where it will end and how sure that is, and the plan.

use askama::Template;
use chrono::NaiveDate;
use tiller_core::Window;
use tiller_core::evidence::Interval;
use tiller_core::pace::Forecast;
use tiller_desk::numerals::{day, sum};

use super::scale::{Mark, Scale};
use super::{at, path};

const LEFT: f64 = 44.0;
const TOP: f64 = 16.0;
/// Room for the figures at the end.
const ENDS: f64 = 62.0;

/// The chart.
#[derive(Template)]
#[template(path = "chart/fan.html")]
pub struct Fan {
    width: f64,
    height: f64,
    right: f64,
    title: String,
    summary: String,
    outer: String,
    inner: String,
    spent: String,
    ahead: String,
    plan: Option<(String, Mark)>,
    end: Mark,
    marks: Vec<Mark>,
    days: Vec<Mark>,
}

impl Fan {
    /// Of a month with what was spent on its days so far.
    pub fn new(
        (width, height): (f64, f64),
        month: Window,
        to: NaiveDate,
        spend: &[(NaiveDate, f64)],
        forecast: &Forecast,
        plan: Option<f64>,
        currency: &str,
    ) -> Self {
        let (right, base) = (width - ENDS, height - 24.0);
        let length = month.days() as f64;
        let x = |d: NaiveDate| {
            at(LEFT + (right - LEFT) * ((d - month.from()).num_days() + 1) as f64 / length)
        };
        let (mid, Interval { low, high }) = forecast.end();
        let most = high.max(plan.unwrap_or(0.0));
        let scale = Scale::up(most * 1.06, base, base - TOP);
        let mut total = 0.0;
        let mut so_far = vec![(LEFT, scale.y(0.0))];
        for d in month.iter().take_while(|d| *d <= to) {
            total += spend.iter().filter(|(on, _)| *on == d).map(|(_, m)| m).sum::<f64>();
            so_far.push((x(d), scale.y(total)));
        }
        let now = (x(to), scale.y(total));
        let ahead = |of: &dyn Fn(&tiller_core::pace::Band) -> f64| {
            std::iter::once(now)
                .chain(forecast.ahead.iter().map(|b| (x(b.day), scale.y(of(b)))))
                .collect::<Vec<_>>()
        };
        let band = |low: Vec<(f64, f64)>, high: Vec<(f64, f64)>| {
            let mut outline = high;
            outline.extend(low.into_iter().rev());
            if outline.len() > 2 { path(&outline) + "Z" } else { String::new() }
        };
        let end_y = scale.y(mid);
        let marked = [0.0, 1.0 / 3.0, 2.0 / 3.0, 1.0].map(|share| {
            let on = month.from() + chrono::Days::new(((length - 1.0) * share).round() as u64);
            Mark { at: x(on), text: day(on) }
        });
        Self {
            title: format!("{}’s spend, {currency}", month.from().format("%B")),
            summary: format!(
                "{} spent up to {}; by {} about {}, with a probability of 80% between {} and {}{}.",
                sum(forecast.spent),
                day(to),
                day(month.to()),
                sum(mid),
                sum(low),
                sum(high),
                plan.map_or(String::new(), |p| format!("; the plan is {}", sum(p)))
            ),
            outer: band(ahead(&|b| b.outer.low), ahead(&|b| b.outer.high)),
            inner: band(ahead(&|b| b.inner.low), ahead(&|b| b.inner.high)),
            spent: path(&so_far),
            ahead: path(&ahead(&|b| b.mid)),
            plan: plan.map(|p| {
                let y = scale.y(p);
                let line = path(&[(LEFT, scale.y(0.0)), (right, y)]);
                (line, Mark { at: apart(y, end_y), text: sum(p) })
            }),
            end: Mark { at: end_y, text: sum(mid) },
            marks: scale.marks(4),
            days: marked.into(),
            width,
            height,
            right,
        }
    }
}

/// Two figures at a line's end never stand in each other.
fn apart(y: f64, other: f64) -> f64 {
    let gap = y - other;
    if gap.abs() >= 14.0 {
        y
    } else if gap >= 0.0 {
        at(other + 14.0)
    } else {
        at(other - 14.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::pace::forecast;

    #[test]
    fn figures_at_the_end_keep_apart() {
        assert_eq!(apart(100.0, 50.0), 100.0);
        assert_eq!(apart(100.0, 98.0), 112.0);
        assert_eq!(apart(96.0, 98.0), 84.0);
    }

    #[test]
    fn the_fan_opens_where_the_month_stands() {
        let day = |m, d| NaiveDate::from_ymd_opt(2026, m, d).unwrap();
        let (to, month) = (day(11, 10), Window::new(day(11, 1), day(11, 30)).unwrap());
        let spend: Vec<(NaiveDate, f64)> = day(9, 1)
            .iter_days()
            .take_while(|d| *d <= to)
            .enumerate()
            .map(|(i, d)| (d, 100.0 + 7.0 * (i % 5) as f64))
            .collect();
        let f = forecast(&spend, to, month).unwrap();
        let fan = Fan::new((450.0, 214.0), month, to, &spend, &f, Some(9000.0), "EUR");
        let end = fan.spent.rsplit('L').next().unwrap().to_owned();
        assert!(fan.ahead.starts_with(&format!("M{end}")) && fan.outer.contains(&end));
        assert!(fan.plan.unwrap().1.at < fan.end.at, "the plan is above");
        assert!(fan.summary.contains("the plan is 9"), "{}", fan.summary);
    }
}
