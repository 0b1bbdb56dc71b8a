//! Charts: functions from data to SVG. Geometry here, marks in templates/chart/, colours by class.

mod bridge;
mod curve_chart;
mod curves_table;
mod day_chart;
mod fan;
mod ladder;
mod run_off;
mod scale;
mod spend_field;
mod total_curve;
mod week_grid;

pub use bridge::BridgeChart;
pub use curve_chart::{CurveChart, DayPoint, Line as CurveLine, ResidualChart};
pub use curves_table::{Axes, CurvePanel, Told};
pub use day_chart::DayChart;
pub use fan::Fan;
pub use ladder::Ladder;
pub use run_off::{AgeRow, RunOffChart, ages};
pub use spend_field::{FieldRow, SpendField};
pub use total_curve::{Spot, TotalCurve, totals};
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

/// A name cut to fit so many units at the charts' text size.
fn fit(name: &str, width: f64) -> String {
    let room = (width / 6.6) as usize;
    if name.chars().count() <= room {
        name.to_owned()
    } else if room < 4 {
        String::new()
    } else {
        format!("{}…", name.chars().take(room - 1).collect::<String>().trim_end())
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn names_are_cut_to_fit() {
        assert_eq!(super::fit("Spring", 100.0), "Spring");
        assert_eq!(super::fit("Spring courses, search", 80.0), "Spring cour…");
        assert_eq!(super::fit("Spring courses", 20.0), "");
    }
}
