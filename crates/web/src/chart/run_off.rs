//! Run-off: what share of a click day's conversions has been reported, by the days since the click.

use askama::Template;
use tiller_core::lag::{RunOff, SETTLED};
use tiller_desk::numerals::{number, percent};

use super::at;
use super::scale::Mark;

const LEFT: f64 = 44.0;
const RIGHT: f64 = 430.0;
const TOP: f64 = 16.0;
const BASE: f64 = 190.0;
/// Ages are drawn up to where this share is in.
const DRAWN: f64 = 0.999;

/// The chart.
#[derive(Template)]
#[template(path = "chart/run_off.html")]
pub struct RunOffChart {
    summary: String,
    /// Steps whose days are not settled, dashed, and those that are.
    steps: Vec<Step>,
    line: f64,
    marks: Vec<Mark>,
    ages: Vec<Mark>,
}

/// One age.
pub struct Step {
    x: f64,
    y: f64,
    width: f64,
    height: f64,
    settled: bool,
    text: String,
}

/// A row of the table behind the chart.
pub struct AgeRow {
    /// Days since the click.
    pub age: usize,
    /// Share reported.
    pub maturity: String,
    /// What a count so far is multiplied with.
    pub factor: String,
}

/// The ages worth showing: up to where nearly everything is in.
fn shown(run_off: &RunOff) -> usize {
    let full = (0..=run_off.length()).find(|a| run_off.maturity(*a) >= DRAWN);
    full.unwrap_or(run_off.length()).clamp(3, 30)
}

impl RunOffChart {
    /// Of a run-off.
    pub fn new(run_off: &RunOff) -> Self {
        let last = shown(run_off);
        let wide = (RIGHT - LEFT) / (last + 1) as f64;
        let y = |share: f64| at(BASE - share.clamp(0.0, 1.0) * (BASE - TOP));
        let settled = run_off.settled_age();
        let steps = (0..=last)
            .map(|age| {
                let share = run_off.maturity(age);
                Step {
                    x: at(LEFT + wide * age as f64 + 1.0),
                    y: y(share),
                    width: at((wide - 2.0).max(1.0)),
                    height: at(BASE - y(share)),
                    settled: age >= settled,
                    text: format!("{age} days after the click: {}% reported", percent(share)),
                }
            })
            .collect();
        let every = (last / 8).max(1);
        Self {
            summary: format!(
                "{}% of the conversions are reported on the day of the click, {}% a day later; {settled} days after it at least 95% are in.",
                percent(run_off.maturity(0)),
                percent(run_off.maturity(1))
            ),
            steps,
            line: y(SETTLED),
            marks: [0.0, 0.25, 0.5, 0.75, 1.0]
                .map(|s| Mark { at: y(s), text: number(s * 100.0, 0) })
                .into(),
            ages: (0..=last)
                .step_by(every)
                .map(|a| Mark { at: at(LEFT + wide * (a as f64 + 0.5)), text: a.to_string() })
                .collect(),
        }
    }
}

/// The numbers behind the chart.
pub fn ages(run_off: &RunOff) -> Vec<AgeRow> {
    (0..=shown(run_off))
        .map(|age| AgeRow {
            age,
            maturity: percent(run_off.maturity(age)),
            factor: number(1.0 / run_off.maturity(age), 3),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_rise_to_the_whole_and_tell_what_is_settled() {
        let run_off = RunOff::fit(&vec![vec![6.0, 3.0, 1.0]; 9], 2).unwrap();
        let chart = RunOffChart::new(&run_off);
        assert!(chart.steps.windows(2).all(|s| s[1].y <= s[0].y));
        assert_eq!(chart.steps[0].height, at(0.6 * (BASE - TOP)));
        assert_eq!(
            chart.steps.iter().map(|s| s.settled).collect::<Vec<_>>(),
            [false, false, true, true]
        );
        assert_eq!(ages(&run_off)[1].factor, "1.111");
    }
}
