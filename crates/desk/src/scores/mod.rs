//! Keeping score (maths 19): what was said with a range or a probability, checked once its days are known.
//!
//! - `keep`: when statements are made and checked
//! - `evening`: what an evening's figures say
//! - `begun`: what is said of new budgets and experiments
//! - `came`: what came of it
//! - `words`: how right that was, in sentences

mod begun;
mod came;
mod evening;
pub(crate) mod keep;
pub mod words;

use std::collections::BTreeMap;
use std::sync::Arc;

use chrono::{Datelike, NaiveDate};
use tiller_core::score::{Brier, Chance, Held, Kind, Step, brier, reliability};
use tiller_core::window::earlier;
use tiller_store::PgPool;
pub use tiller_store::scores::Kept as Row;
use tiller_store::scores::list;

use crate::DeskError;
use crate::book::{Book, Period};
use crate::kept::Kept;

/// Statements of so many days count.
const DAYS: u64 = 366;
/// The confidence of ranges, as pages show them.
pub const LEVEL: f64 = 0.8;

/// How right what was said of an account was.
#[derive(Clone, Debug, Default)]
pub struct Score {
    /// Of each kind of range, those that have been checked.
    pub ranges: Vec<(Kind, Held)>,
    /// Probabilities against what came true, in ten steps.
    pub steps: Vec<Step>,
    /// The same in one figure, taken apart.
    pub brier: Option<Brier>,
    /// How many were worked out afterwards, from what had been reported by then.
    pub afterwards: usize,
    /// How many had come to nothing, since what they were about was changed.
    pub void: usize,
    /// How many wait, and the first day on which some of them can be checked.
    pub waiting: Option<(usize, NaiveDate)>,
}

impl Score {
    /// How many have been checked.
    pub fn checked(&self) -> usize {
        let ranges = self.ranges.iter().map(|(_, held)| held.said);
        ranges.chain(self.steps.iter().map(|s| s.times)).sum()
    }

    /// Ranges of a kind, if any have been checked.
    pub fn of(&self, kind: Kind) -> Option<&Held> {
        self.ranges.iter().find(|(k, _)| *k == kind).map(|(_, held)| held)
    }
}

static KEPT: Kept<(Period, ()), Score> = Kept::new(50);

/// Of an account.
pub async fn of_account(db: &PgPool, book: &Book) -> Result<Arc<Score>, DeskError> {
    book.keep(&KEPT, (), async || Ok(of_rows(&rows(db, book).await?))).await
}

/// All that was said in a year, with what came of it.
pub async fn rows(db: &PgPool, book: &Book) -> Result<Vec<Row>, DeskError> {
    Ok(list(db, book.account.id, earlier(book.span.to(), DAYS)).await?)
}

/// Of statements.
pub fn of_rows(rows: &[Row]) -> Score {
    let mut ranges: BTreeMap<Kind, BTreeMap<NaiveDate, (usize, usize)>> = BTreeMap::new();
    let mut chances = Vec::new();
    let mut score = Score::default();
    for row in rows {
        let Some(truth) = row.truth else {
            if row.void {
                score.void += 1;
            } else {
                let (n, first) = score.waiting.unwrap_or((0, row.due));
                score.waiting = Some((n + 1, first.min(row.due)));
            }
            continue;
        };
        score.afterwards += usize::from(row.kept_on > row.said_on);
        if let Some((low, high)) = row.low.zip(row.high) {
            let evening = ranges.entry(row.kind).or_default().entry(row.said_on).or_default();
            // What is told in whole coins or conversions may be off by less than one of either.
            let held = (low - 0.005..=high + 0.005).contains(&truth);
            *evening = (evening.0 + 1, evening.1 + usize::from(held));
        }
        if let Some(said) = row.probability {
            let evening = row.said_on.num_days_from_ce().into();
            chances.push(Chance { evening, said, came: truth > 0.5 });
        }
    }
    let held = |(kind, evenings): (Kind, BTreeMap<_, (usize, usize)>)| {
        let evenings: Vec<_> = evenings.into_values().collect();
        Some((kind, Held::of(LEVEL, &evenings)?))
    };
    score.ranges = ranges.into_iter().filter_map(held).collect();
    score.steps = reliability(&chances);
    score.brier = brier(&chances);
    score
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(d: u32) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, 11, d).unwrap()
    }

    fn row(kind: Kind, said: (Option<f64>, Option<(f64, f64)>), truth: Option<f64>) -> Row {
        Row {
            kind,
            campaign: "Jars".into(),
            said_on: day(9),
            kept_on: day(10),
            from: day(9),
            to: day(22),
            due: day(24),
            probability: said.0,
            low: said.1.map(|r| r.0),
            high: said.1.map(|r| r.1),
            truth,
            void: false,
        }
    }

    #[test]
    fn what_is_checked_counts_and_the_rest_waits() {
        let range = (None, Some((9.0, 12.0)));
        let rows = [
            row(Kind::Completed, range, Some(12.0)),
            row(Kind::Completed, range, Some(13.0)),
            row(Kind::Completed, range, None),
            Row { void: true, ..row(Kind::MonthSpend, range, None) },
            row(Kind::OverTarget, (Some(0.9), None), Some(1.0)),
        ];
        let score = of_rows(&rows);
        let held = score.of(Kind::Completed).unwrap();
        assert_eq!((held.said, held.held, score.of(Kind::MonthSpend)), (2, 1, None));
        assert_eq!((score.checked(), score.afterwards, score.void), (3, 3, 1));
        assert_eq!(score.waiting, Some((1, day(24))));
        assert_eq!(score.steps.iter().map(|s| (s.nth, s.came)).collect::<Vec<_>>(), [(9, 1)]);
    }
}
