//! The hours of a week in which a campaign runs, with their bids.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::week::WeekHour;

/// The hours of a week in which a campaign runs, from Monday 0:00 in the account's time zone.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(try_from = "Vec<Option<i16>>", into = "Vec<Option<i16>>")]
#[schema(value_type = Vec<Option<i16>>)]
pub struct Hours(Vec<Option<i16>>);

/// Why a week of hours can't be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum HoursError {
    /// Not a week.
    #[error("a week has 168 hours; {0} were given")]
    Length(usize),
    /// An adjustment out of bounds.
    #[error("an hour's adjustment lies between -90 and 900 percent; {0} was given")]
    Adjustment(i16),
    /// Nothing left.
    #[error("all hours are off; pause the campaign instead")]
    Never,
}

impl Hours {
    /// From the week's hours: none is off, else percent added to the bid.
    pub fn new(hours: Vec<Option<i16>>) -> Result<Self, HoursError> {
        if hours.len() != WeekHour::COUNT {
            return Err(HoursError::Length(hours.len()));
        }
        if let Some(wrong) = hours.iter().flatten().find(|p| !(-90..=900).contains(*p)) {
            return Err(HoursError::Adjustment(*wrong));
        }
        if hours.iter().all(Option::is_none) {
            return Err(HoursError::Never);
        }
        Ok(Self(hours))
    }

    /// On in some hours of the week, off otherwise.
    pub fn only(on: impl Fn(WeekHour) -> bool) -> Result<Self, HoursError> {
        Self::new(WeekHour::all().map(|h| on(h).then_some(0)).collect())
    }

    /// What holds in an hour of the week.
    pub fn at(&self, hour: WeekHour) -> Option<i16> {
        self.0[hour.index()]
    }

    /// How many hours of the week it runs.
    pub fn on(&self) -> usize {
        self.0.iter().flatten().count()
    }
}

impl TryFrom<Vec<Option<i16>>> for Hours {
    type Error = HoursError;
    fn try_from(hours: Vec<Option<i16>>) -> Result<Self, HoursError> {
        Self::new(hours)
    }
}

impl From<Hours> for Vec<Option<i16>> {
    fn from(hours: Hours) -> Self {
        hours.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::Weekday;

    #[test]
    fn a_week_is_whole_or_refused() {
        assert_eq!(Hours::new(vec![Some(0); 24]), Err(HoursError::Length(24)));
        assert_eq!(Hours::new(vec![None; 168]), Err(HoursError::Never));
        assert_eq!(Hours::new(vec![Some(-100); 168]), Err(HoursError::Adjustment(-100)));
        let office = Hours::only(|h| !h.at_weekend() && (9..17).contains(&h.hour())).unwrap();
        let at = |day| office.at(WeekHour::new(day, 9));
        assert_eq!((office.on(), at(Weekday::Mon), at(Weekday::Sat)), (40, Some(0), None));
    }
}
