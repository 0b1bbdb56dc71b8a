//! Axes: from values to coordinates, and round numbers to mark.

use super::at;

/// A linear axis from 0 upward.
#[derive(Clone, Copy, Debug)]
pub struct Scale {
    most: f64,
    zero: f64,
    length: f64,
}

/// A mark on an axis.
#[derive(Clone, Debug)]
pub struct Mark {
    /// Coordinate.
    pub at: f64,
    /// Its number.
    pub text: String,
}

impl Scale {
    /// An axis whose 0 stands at `zero` and whose `most` stands `length` above it.
    pub fn up(most: f64, zero: f64, length: f64) -> Self {
        Self { most: if most > 0.0 { most } else { 1.0 }, zero, length }
    }

    /// The coordinate of a value; what lies beyond the axis stands at its end.
    pub fn y(&self, value: f64) -> f64 {
        at(self.zero - (value / self.most).clamp(0.0, 1.0) * self.length)
    }

    /// Round numbers from 0 to the most, about so many.
    pub fn marks(&self, about: usize) -> Vec<Mark> {
        let raw = self.most / about as f64;
        let power = 10f64.powf(raw.log10().floor());
        let step =
            [1.0, 2.0, 5.0, 10.0].into_iter().map(|m| m * power).find(|s| *s >= raw).unwrap_or(raw);
        let decimals = if step >= 1.0 { 0 } else { (-step.log10()).ceil() as usize };
        (0..=(self.most / step) as usize)
            .map(|i| i as f64 * step)
            .map(|v| Mark { at: self.y(v), text: tiller_desk::numerals::number(v, decimals) })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn marks_are_round_and_within() {
        let scale = Scale::up(64.0, 200.0, 180.0);
        let texts: Vec<_> = scale.marks(3).into_iter().map(|m| m.text).collect();
        assert_eq!(texts, ["0", "50"]);
        assert_eq!(scale.y(0.0), 200.0);
        assert_eq!(scale.y(64.0), 20.0);
        assert_eq!(scale.y(1000.0), 20.0);
        assert_eq!(Scale::up(0.4, 10.0, 10.0).marks(4)[1].text, "0.1");
    }
}
