//! Charts: functions from data to SVG. Geometry here, marks in templates/chart/, colours by class.

use tiller_desk::numerals;

mod bid_path;
mod bridge;
mod curve_chart;
mod curves_table;
mod day_chart;
mod fan;
mod ladder;
mod paid_and_afforded;
mod reliability;
mod run_off;
mod scale;
mod spend_field;
mod total_curve;
mod volume_chart;
mod week_grid;

pub use bid_path::BidPath;
pub use bridge::BridgeChart;
pub use curve_chart::{CurveChart, DayPoint, ResidualChart, Stroke};
pub use curves_table::{Axes, CurvePanel, Told};
pub use day_chart::DayChart;
pub use fan::Fan;
pub use ladder::Ladder;
pub use paid_and_afforded::{PaidAndAfforded, Payer};
pub use reliability::Reliability;
pub use run_off::{AgeRow, RunOffChart, ages};
pub use spend_field::{FieldRow, SpendField};
pub use total_curve::{Spot, TotalCurve, totals};
pub use volume_chart::VolumeChart;
pub use week_grid::WeekGrid;

/// A coordinate, to a tenth: enough for the eye, short in the page.
fn at(x: f64) -> f64 {
    (x * 10.0).round() / 10.0
}

/// A line through points.
fn path(points: &[(f64, f64)]) -> String {
    let steps: Vec<String> = points.iter().map(|(x, y)| format!("{x} {y}")).collect();
    if steps.is_empty() { String::new() } else { format!("M{}", steps.join("L")) }
}

/// The form of a chart: as wide as the sheet, or for a narrow screen, where its text would be too small to read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// On a desk.
    Wide,
    /// In a hand.
    Narrow,
}

impl Form {
    /// The width of a chart that is so wide on a desk.
    fn width(self, wide: f64) -> f64 {
        match self {
            Self::Wide => wide,
            Self::Narrow => 400.0,
        }
    }

    /// What tells its ids from those of the other form.
    fn suffix(self) -> &'static str {
        match self {
            Self::Wide => "",
            Self::Narrow => "-narrow",
        }
    }
}

/// A chart in both forms; the style sheet shows one of them.
pub struct Forms<C> {
    /// As wide as the sheet.
    pub wide: C,
    narrow: C,
}

impl<C> Forms<C> {
    /// Both forms of a chart; none where there is nothing to draw.
    pub fn of(make: impl Fn(Form) -> Option<C>) -> Option<Self> {
        Some(Self { wide: make(Form::Wide)?, narrow: make(Form::Narrow)? })
    }
}

impl<C: std::fmt::Display> std::fmt::Display for Forms<C> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Self { wide, narrow } = self;
        write!(f, "<div class=\"wide-form\">{wide}</div><div class=\"narrow-form\">{narrow}</div>")
    }
}

/// A name cut to fit so many units at the charts' text size.
fn fit(name: &str, width: f64) -> String {
    let room = (width / UNIT) as usize;
    if room < 4 && name.chars().count() > room { String::new() } else { numerals::cut(name, room) }
}

/// What a character of the charts' text takes on average.
const UNIT: f64 = 5.8;

#[cfg(test)]
mod tests {
    #[test]
    fn names_are_cut_to_fit() {
        assert_eq!(super::fit("Spring", 100.0), "Spring");
        assert_eq!(super::fit("Spring courses, search", 70.0), "Spring…arch");
        assert_eq!(super::fit("Spring courses", 20.0), "");
    }
}
