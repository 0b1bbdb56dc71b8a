//! An hour of the week.

use chrono::{DateTime, Datelike, TimeZone, Timelike, Weekday};

/// An hour of the week, counted from Monday 0:00.
///
/// ```
/// use chrono::Weekday;
/// use tiller_core::week::WeekHour;
/// let late = WeekHour::new(Weekday::Sun, 23);
/// assert_eq!((late.weekday(), late.hour(), late.index()), (Weekday::Sun, 23, 167));
/// assert_eq!(late.later(2), WeekHour::new(Weekday::Mon, 1));
/// assert_eq!(WeekHour::all().count(), WeekHour::COUNT);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct WeekHour(u8);

/// The days of a week, Monday first.
pub const DAYS: [Weekday; 7] = [
    Weekday::Mon,
    Weekday::Tue,
    Weekday::Wed,
    Weekday::Thu,
    Weekday::Fri,
    Weekday::Sat,
    Weekday::Sun,
];

impl WeekHour {
    /// So many there are.
    pub const COUNT: usize = 168;

    /// An hour of a day; hours beyond 23 begin the same day again.
    pub fn new(weekday: Weekday, hour: u32) -> Self {
        Self((weekday.num_days_from_monday() * 24 + hour % 24) as u8)
    }

    /// By its place in the week; places beyond it begin the week again.
    pub fn nth(index: usize) -> Self {
        Self((index % Self::COUNT) as u8)
    }

    /// The hour of the week at which a clock stands.
    pub fn of<Z: TimeZone>(time: &DateTime<Z>) -> Self {
        Self::new(time.weekday(), time.hour())
    }

    /// All of them, in order.
    pub fn all() -> impl Iterator<Item = Self> {
        (0..Self::COUNT).map(Self::nth)
    }

    /// Its place in the week.
    pub fn index(self) -> usize {
        self.0.into()
    }

    /// Its day.
    pub fn weekday(self) -> Weekday {
        DAYS[self.index() / 24]
    }

    /// Its hour of the day.
    pub fn hour(self) -> usize {
        self.index() % 24
    }

    /// Whether its day is a Saturday or a Sunday.
    pub fn at_weekend(self) -> bool {
        matches!(self.weekday(), Weekday::Sat | Weekday::Sun)
    }

    /// So many hours later, or earlier.
    pub fn later(self, hours: i64) -> Self {
        Self((i64::from(self.0) + hours).rem_euclid(Self::COUNT as i64) as u8)
    }
}
