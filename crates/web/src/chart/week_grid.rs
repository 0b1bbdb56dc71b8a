//! The week grid: 7 × 24 hours, each with its money above or below target.

use askama::Template;
use tiller_core::Tally;
use tiller_desk::figures::{count, money, or_absent, signed, sum};

const LEFT: f64 = 44.0;
const WIDE: f64 = 49.0;
const TOP: f64 = 20.0;
const HIGH: f64 = 24.0;
const DAYS: [&str; 7] = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

/// The chart.
#[derive(Template)]
#[template(path = "chart/week_grid.html")]
pub struct WeekGrid {
    summary: String,
    cells: Vec<Cell>,
    days: Vec<(f64, &'static str)>,
    hours: Vec<(f64, usize)>,
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
    /// Of hours with what was counted and the money above target.
    pub fn new(week: &[((u8, u8), Tally, Option<f64>)]) -> Self {
        let worst = week.iter().max_by(|a, b| a.2.unwrap_or(0.0).total_cmp(&b.2.unwrap_or(0.0)));
        let at = |day: u8, hour: u8| (LEFT + WIDE * f64::from(hour), TOP + HIGH * f64::from(day));
        let name = |day: u8| DAYS[usize::from(day.min(6))];
        Self {
            summary: match worst {
                Some(((day, hour), _, Some(excess))) if *excess > 0.0 => format!(
                    "Most money above target goes on {} from {hour}:00: {}.",
                    name(*day),
                    sum(*excess)
                ),
                _ => "No hour stands above target.".into(),
            },
            cells: week
                .iter()
                .map(|((day, hour), t, excess)| {
                    let (x, y) = at(*day, *hour);
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
                            "{}, {hour}:00: spent {}, {} conversions, CPA {}",
                            name(*day),
                            money(t.spend.to_units()),
                            count(t.conversions),
                            or_absent(t.cpa(), money)
                        ),
                    }
                })
                .collect(),
            days: (0..7u8).map(|d| (TOP + HIGH * (f64::from(d) + 0.66), name(d))).collect(),
            hours: (0..24).map(|h| (LEFT + WIDE * (h as f64 + 0.5), h)).collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_dearest_hour_is_named() {
        let hour = |day, hour, excess| ((day, hour), Tally::default(), Some(excess));
        let grid = WeekGrid::new(&[hour(0, 3, -4.0), hour(2, 14, 12.0)]);
        assert!(grid.summary.contains("Wed from 14:00"), "{}", grid.summary);
        assert_eq!(grid.cells.iter().map(|c| c.tone).collect::<Vec<_>>(), ["room", "over-wash"]);
        assert_eq!(WeekGrid::new(&[]).summary, "No hour stands above target.");
    }
}
