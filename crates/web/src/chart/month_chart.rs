//! The month: money spent so far, dashed to its end at the pace of the last days, and what the budgets allow.

use askama::Template;
use tiller_core::Window;
use tiller_desk::book::Book;
use tiller_desk::figures::{day, sum};
use tiller_desk::today::Pace;

use super::at;
use super::scale::{Mark, Scale};

const LEFT: f64 = 44.0;
const RIGHT: f64 = 388.0;
const TOP: f64 = 16.0;
const BASE: f64 = 190.0;

/// The chart.
#[derive(Template)]
#[template(path = "chart/month_chart.html")]
pub struct MonthChart {
    title: String,
    summary: String,
    spent: String,
    ahead: String,
    budgets: Option<(String, Mark)>,
    end: Mark,
    marks: Vec<Mark>,
    days: Vec<Mark>,
}

impl MonthChart {
    /// Of a book's month.
    pub fn new(book: &Book, p: Pace) -> Self {
        let first = p.month.from();
        let days = p.month.days() as f64;
        let x = |n: f64| at(LEFT + (RIGHT - LEFT) * n / days);
        let most = p.projected.max(p.budgets.unwrap_or(0.0));
        let scale = Scale::up(most * 1.06, BASE, BASE - TOP);
        let mut total = 0.0;
        let mut spent = format!("M{} {}", x(0.0), scale.y(0.0));
        let mut done = 0.0;
        for d in first.iter_days().take_while(|d| *d <= p.to) {
            total += Window::new(d, d).map_or(0.0, |w| book.total(w).spend.to_units());
            done += 1.0;
            spent += " L";
            spent += &[x(done), scale.y(total)].map(|c| c.to_string()).join(" ");
        }
        let last = p.month.to();
        Self {
            title: format!("{}’s spend, {}", first.format("%B"), book.account.currency),
            summary: format!(
                "{} spent up to {}; {} by {} at the pace of the last seven days{}.",
                sum(p.spent),
                day(p.to),
                sum(p.projected),
                day(last),
                p.budgets
                    .map_or(String::new(), |b| format!("; the daily budgets allow {}", sum(b)))
            ),
            spent,
            ahead: format!("M{} {} L{} {}", x(done), scale.y(total), x(days), scale.y(p.projected)),
            budgets: p.budgets.map(|b| {
                let end = scale.y(b);
                (
                    format!("M{} {} L{} {}", x(0.0), scale.y(0.0), x(days), end),
                    Mark { at: apart(end, scale.y(p.projected)), text: sum(b) },
                )
            }),
            end: Mark { at: scale.y(p.projected), text: sum(p.projected) },
            marks: scale.marks(4),
            days: [1.0, days / 3.0, days * 2.0 / 3.0, days]
                .into_iter()
                .map(|n| {
                    let on = first + chrono::Days::new(n.round() as u64 - 1);
                    Mark { at: x(n - 0.5), text: day(on) }
                })
                .collect(),
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

    #[test]
    fn figures_at_the_end_keep_apart() {
        assert_eq!(apart(100.0, 50.0), 100.0);
        assert_eq!(apart(100.0, 98.0), 112.0);
        assert_eq!(apart(96.0, 98.0), 84.0);
    }
}
