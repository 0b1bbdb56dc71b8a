//! How right we were: what was stated, in ten steps, against the share of it that came true, with its interval.

use askama::Template;
use tiller_core::score::Step;
use tiller_desk::numerals::{counted, number};
use tiller_desk::scores::words::{off_step, share};

use super::at;
use super::scale::Mark;

const LEFT: f64 = 44.0;
const RIGHT: f64 = 380.0;
const TOP: f64 = 16.0;
const BASE: f64 = 352.0;

/// The chart.
#[derive(Template)]
#[template(path = "chart/reliability.html")]
pub struct Reliability {
    summary: String,
    /// Marks of both axes: along and up.
    along: Vec<Mark>,
    up: Vec<Mark>,
    steps: Vec<Drawn>,
}

/// A step.
pub struct Drawn {
    x: f64,
    y: f64,
    low: f64,
    high: f64,
    /// Whether it missed what was stated by more than chance.
    off: bool,
    text: String,
}

impl Reliability {
    /// Of the steps; none where nothing has been stated.
    pub fn new(steps: &[Step]) -> Option<Self> {
        let x = |share: f64| at(LEFT + share * (RIGHT - LEFT));
        let y = |share: f64| at(BASE - share * (BASE - TOP));
        let missed = steps.iter().filter(|s| s.off().is_some()).count();
        let drawn = |s: &Step| Drawn {
            x: x(s.said),
            y: y(s.share()),
            low: y(s.around.low),
            high: y(s.around.high),
            off: s.off().is_some(),
            text: format!(
                "Stated with {}, {}: {} of them came true, {} to {} with 95% confidence; {}",
                share(s.said),
                counted(s.times as u64, "time", "times"),
                share(s.share()),
                share(s.around.low),
                share(s.around.high),
                off_step(s)
            ),
        };
        let tenths = || (0..=5).map(|n| f64::from(n) / 5.0);
        let mark = |at: f64, of: f64| Mark { at, text: number(100.0 * of, 0) };
        (!steps.is_empty()).then(|| Self {
            summary: format!(
                "{}; off the diagonal by more than chance allows: {}.",
                counted(steps.len() as u64, "step", "steps"),
                if missed == 0 { "none".to_owned() } else { missed.to_string() }
            ),
            along: tenths().map(|s| mark(x(s), s)).collect(),
            up: tenths().map(|s| mark(y(s), s)).collect(),
            steps: steps.iter().map(drawn).collect(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::score::{Chance, reliability};

    #[test]
    fn what_comes_true_as_stated_lies_on_the_diagonal() {
        let said =
            |p, came: usize| (0..10).map(move |n| Chance { evening: 0, said: p, came: n < came });
        let chart = Reliability::new(&reliability(
            &said(0.25, 2).chain(said(0.5, 5)).chain(said(0.95, 2)).collect::<Vec<_>>(),
        ));
        let chart = chart.unwrap();
        let middle = &chart.steps[1];
        assert_eq!((middle.x - LEFT, middle.off), (BASE - middle.y, false));
        assert!(middle.high < middle.y && middle.y < middle.low, "up is less");
        assert!(
            chart.steps[2].off
                && chart
                    .summary
                    .contains("3 steps; off the diagonal by more than chance allows: 1."),
            "{}",
            chart.summary
        );
        assert!(Reliability::new(&[]).is_none());
    }
}
