//! The week grid: 7 × 24 hours, each with its money above or below target.

use askama::Template;
use tiller_core::Tally;
use tiller_core::week::{self, WeekHour};
use tiller_desk::numerals::{conversions, money, or_absent, signed, sum};

use super::Form;

const LEFT: f64 = 44.0;
const TOP: f64 = 20.0;
const HIGH: f64 = 24.0;

/// The chart.
#[derive(Template)]
#[template(path = "chart/week_grid.html")]
pub struct WeekGrid {
    summary: String,
    suffix: &'static str,
    size: (f64, f64),
    /// Width of a cell.
    cell: f64,
    cells: Vec<Cell>,
    across: Vec<(f64, String)>,
    down: Vec<(f64, String)>,
}

/// One hour of the week.
pub struct Cell {
    x: f64,
    y: f64,
    tone: &'static str,
    text: String,
    title: String,
}

impl WeekGrid {
    /// Of hours with what was counted and the money above target: days below each other, or on a narrow screen hours.
    pub fn new(hours_of_week: &[(WeekHour, Tally, Option<f64>)], form: Form) -> Self {
        let worst =
            hours_of_week.iter().max_by(|a, b| a.2.unwrap_or(0.0).total_cmp(&b.2.unwrap_or(0.0)));
        let days: Vec<String> = week::DAYS.iter().map(ToString::to_string).collect();
        let hours: Vec<String> = (0..24).map(|h: u8| h.to_string()).collect();
        let (across, down, cell) = match form {
            Form::Wide => (hours, days, 49.0),
            Form::Narrow => (days, hours, 50.0),
        };
        let place = |at: WeekHour| {
            let (day, hour) = (at.index() / 24, at.hour());
            let (i, j) = if form == Form::Wide { (hour, day) } else { (day, hour) };
            (LEFT + cell * i as f64, TOP + HIGH * j as f64)
        };
        Self {
            summary: match worst {
                Some((at, _, Some(excess))) if *excess > 0.0 => format!(
                    "Most money above target goes on {} from {}:00: {}.",
                    at.weekday(),
                    at.hour(),
                    sum(*excess)
                ),
                _ => "No hour stands above target.".into(),
            },
            cells: hours_of_week
                .iter()
                .map(|(at, t, excess)| {
                    let (x, y) = place(*at);
                    Cell {
                        x,
                        y,
                        tone: match excess {
                            Some(e) if *e > 0.0 => "over-wash",
                            Some(_) => "room",
                            None => "body",
                        },
                        text: excess.map_or_else(|| sum(t.spend.to_units()), |e| signed(e, sum)),
                        title: format!(
                            "{}, {}:00: spent {}, {}, CPA {}",
                            at.weekday(),
                            at.hour(),
                            money(t.spend.to_units()),
                            conversions(t.conversions),
                            or_absent(t.cpa(), money)
                        ),
                    }
                })
                .collect(),
            suffix: form.suffix(),
            size: (LEFT + cell * across.len() as f64, TOP + HIGH * down.len() as f64 + 4.0),
            cell,
            across: (0..)
                .zip(across)
                .map(|(i, t)| (LEFT + cell * (f64::from(i) + 0.5), t))
                .collect(),
            down: (0..).zip(down).map(|(j, t)| (TOP + HIGH * (f64::from(j) + 0.66), t)).collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_dearest_hour_is_named() {
        let hour = |nth, excess| (WeekHour::nth(nth), Tally::default(), Some(excess));
        let grid = WeekGrid::new(&[hour(3, -4.0), hour(62, 12.0)], Form::Wide);
        assert!(grid.summary.contains("Wed from 14:00"), "{}", grid.summary);
        assert_eq!(grid.cells.iter().map(|c| c.tone).collect::<Vec<_>>(), ["room", "over-wash"]);
        assert_eq!(WeekGrid::new(&[], Form::Narrow).summary, "No hour stands above target.");
    }
}
