//! What came of what was stated.

use std::collections::HashMap;

use chrono::NaiveDate;
use tiller_core::ids::CampaignId;
use tiller_core::score::Kind;
use tiller_core::window::later;
use tiller_core::{Window, course};
use tiller_store::PgPool;
use tiller_store::look_backs::{Moved, moved};
use tiller_store::scores::Due;

use super::begun::of_money;
use super::evening::Money;
use crate::book::Book;
use crate::budgets::curves::Curves;
use crate::{DeskError, courses};

/// Spends within these times of each other are alike enough that results go with them.
const ALIKE: std::ops::RangeInclusive<f64> = 0.5..=2.0;

/// What came; none where a campaign, its target or what it counts was changed meanwhile.
pub(super) async fn check(
    db: &PgPool,
    book: &Book,
    due: &[Due],
) -> Result<Vec<(i64, Option<f64>)>, DeskError> {
    let first = due.iter().map(|d| d.said_on).min().unwrap_or(book.span.from());
    let changed = Changed::of(moved(db, book.account.id, first).await?);
    let curves = Curves::load(db, &book.account).await?;
    let courses = courses::list(db, &book.account).await?;
    let came = |d: &Due| {
        let entry = book.entry(d.campaign).ok()?;
        let tally = entry.tally(Window::new(d.from, d.to)?);
        let results = || {
            let Money(stated) = serde_json::from_value(d.target.clone()?).ok()?;
            let spent = tally.spend.to_units() / stated;
            let all = if book.by_value() { tally.value.to_units() } else { tally.conversions };
            // A statement about other money than was spent can't be held against it.
            ALIKE.contains(&spent).then(|| all / spent)
        };
        match d.kind {
            // What somebody changes now brings nothing to days gone by.
            Kind::Completed => Some(tally.conversions),
            Kind::Measured => {
                let mut own = courses.iter().filter(|c| c.campaign == d.campaign && of_money(c));
                let over = own
                    .any(|c| c.plan.starts == Some(d.from) && c.plan.state == course::State::Done);
                let measured = curves.of(d.campaign)?.1.curve.measured?;
                (over && !changed.besides_experiments(d)).then_some(measured.mean)
            }
            // The change that it is about is none.
            Kind::NewBudget => (!changed.after(d, later(d.said_on, 1))).then(results)?,
            _ if changed.after(d, d.said_on) => None,
            Kind::MonthSpend => Some(tally.spend.to_units()),
            Kind::Results => results(),
            Kind::OverTarget => {
                let target = entry.target?;
                let same = serde_json::to_value(target).ok() == d.target;
                (same && tally.spend.to_units() > 0.0)
                    .then(|| f64::from(u8::from(target.excess(&tally) > 0.0)))
            }
        }
    };
    Ok(due.iter().map(|d| (d.id, came(d))).collect())
}

/// The days on which something of each campaign was changed.
struct Changed(HashMap<CampaignId, Vec<Moved>>);

impl Changed {
    fn of(all: Vec<Moved>) -> Self {
        let mut of: HashMap<CampaignId, Vec<Moved>> = HashMap::new();
        for m in all {
            of.entry(m.campaign).or_default().push(m);
        }
        Self(of)
    }

    fn any(&self, d: &Due, is: impl Fn(&Moved) -> bool) -> bool {
        let on = self.0.get(&d.campaign).map_or(&[][..], Vec::as_slice);
        on.iter().any(|m| m.from <= d.to && is(m))
    }

    /// Whether anything was changed after a day, and before those of a statement were over.
    fn after(&self, d: &Due, day: NaiveDate) -> bool {
        self.any(d, |m| m.from > day)
    }

    /// Whether anything but an experiment changed something after a statement.
    fn besides_experiments(&self, d: &Due) -> bool {
        self.any(d, |m| m.from > d.said_on && m.course != Some(course::Kind::Experiment))
    }
}
