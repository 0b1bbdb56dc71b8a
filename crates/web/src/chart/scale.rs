//! Axes: from values to coordinates, and round numbers to mark. Linear from 0, or of ratios.

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

/// An axis of ratios: as far from 1 to 2 as from 2 to 4.
#[derive(Clone, Copy, Debug)]
pub struct LogScale {
    low: f64,
    high: f64,
    from: f64,
    to: f64,
}

impl LogScale {
    /// An axis whose least value stands at `from` and whose greatest at `to`; both above 0.
    pub fn new((low, high): (f64, f64), from: f64, to: f64) -> Self {
        Self { low, high: high.max(low * 1.001), from, to }
    }

    /// The coordinate of a value; what lies beyond the axis stands at its end.
    pub fn at(&self, value: f64) -> f64 {
        let share = (value.max(1e-12) / self.low).ln() / (self.high / self.low).ln();
        at(self.from + share.clamp(0.0, 1.0) * (self.to - self.from))
    }

    /// Round numbers on it: 1, 2 and 5 times powers of ten, or the powers alone where those would be many.
    pub fn marks(&self) -> Vec<Mark> {
        let powers = (self.low.log10().floor() as i32)..=(self.high.log10().ceil() as i32);
        let of = |steps: &'static [f64]| {
            powers.clone().flat_map(move |p| steps.iter().map(move |s| (s * 10f64.powi(p), p)))
        };
        let within = |(v, _): &(f64, i32)| (self.low..=self.high).contains(v);
        let fine: Vec<_> = of(&[1.0, 2.0, 5.0]).filter(within).collect();
        let chosen = if fine.len() > 7 { of(&[1.0]).filter(within).collect() } else { fine };
        let text = |v, p: i32| tiller_desk::numerals::number(v, usize::try_from(-p).unwrap_or(0));
        chosen.into_iter().map(|(v, p)| Mark { at: self.at(v), text: text(v, p) }).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ratios_are_as_far_apart_anywhere() {
        let scale = LogScale::new((0.4, 6.4), 100.0, 500.0);
        assert_eq!((scale.at(0.4), scale.at(0.8), scale.at(6.4)), (100.0, 200.0, 500.0));
        assert_eq!((scale.at(0.0), scale.at(99.0)), (100.0, 500.0), "beyond it, at its end");
        let texts = |s: LogScale| s.marks().into_iter().map(|m| m.text).collect::<Vec<_>>();
        assert_eq!(texts(scale), ["0.5", "1", "2", "5"]);
        assert_eq!(texts(LogScale::new((0.02, 900.0), 0.0, 1.0)), ["0.1", "1", "10", "100"]);
    }

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
