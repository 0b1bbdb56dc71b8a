//! What an evening's figures say that can be checked later.

use chrono::{Datelike, NaiveDate};
use serde::{Deserialize, Serialize};
use tiller_core::Window;
use tiller_core::evidence::Interval;
use tiller_core::evidence::target::will_cost_more;
use tiller_core::score::Kind;
use tiller_core::verdict::Early;
use tiller_core::window::later;
use tiller_store::PgPool;
use tiller_store::people::Account;
use tiller_store::scores::{Said, Statement};

use super::LEVEL;
use crate::DeskError;
use crate::account::settings::Settings;
use crate::book::{Book, Entry, Judged, Past, PeriodChoice};
use crate::budgets::curves::Curves;
use crate::budgets::responses::{self, Spender};
use crate::courses::Course;
use crate::measure::{AsReported, LATEST, Lag};
use crate::pace::{self, Of};
use crate::plans::at_money;

/// Something is said each fortnight, of the days of the next one: so that no day is counted twice.
pub(super) const EVERY: u64 = 14;
/// Days that have to lie before.
pub(super) const BEFORE: u64 = 27;

/// The money that a statement about results is about, in units of currency.
#[derive(Serialize, Deserialize)]
pub(super) struct Money(pub f64);

/// The evenings of an account, read once.
pub(super) struct Evenings {
    account: Account,
    courses: Vec<Course>,
    past: Past,
    reported: AsReported,
}

impl Evenings {
    /// From one to another; none without reports.
    pub async fn of(
        db: &PgPool,
        account: &Account,
        courses: Vec<Course>,
        first: NaiveDate,
        last: NaiveDate,
    ) -> Result<Option<Self>, DeskError> {
        let past = Past::of_account(db, account, PeriodChoice::default(), first).await?;
        let Some(past) = past else { return Ok(None) };
        let reported = AsReported::load(db, account.id, first, last).await?;
        Ok(Some(Self { account: account.clone(), courses, past, reported }))
    }

    /// One of them; none before there were reports.
    pub async fn at(&self, db: &PgPool, day: NaiveDate) -> Result<Option<Evening>, DeskError> {
        let Some(mut book) = self.past.evening(day)? else { return Ok(None) };
        let lag = self.reported.lag(day);
        if let Some(lag) = &lag {
            book.expect(&lag.open());
        }
        let settings = Settings::of_account(db, self.account.id).await?;
        let curves = Curves::of_book(&book, &self.courses);
        let spenders = responses::of_account(&book, &settings, &curves);
        Ok(Some(Evening { day, book, lag, curves, spenders }))
    }
}

/// An evening, with what was known on it.
pub(super) struct Evening {
    /// The day.
    pub day: NaiveDate,
    /// Its figures.
    pub book: Book,
    /// How its conversions come in; none where reports don't tell.
    pub lag: Option<Lag>,
    /// What the money of each campaign brings, by its days up to then
    pub curves: Curves,
    /// and beside the others of its channel.
    pub spenders: Vec<Spender>,
}

impl Evening {
    /// All that its figures say.
    pub async fn statements(&self, db: &PgPool) -> Result<Vec<Statement>, DeskError> {
        let Self { day, book, lag, .. } = self;
        let mut all = Vec::new();
        if let Some(lag) = lag {
            all.extend(book.entries.iter().filter_map(|e| completed(e, lag, *day)));
            all.extend(self.spenders.iter().filter_map(|l| self.results(l)));
        }
        all.extend(
            book.entries
                .iter()
                .zip(book.judge_all())
                .filter_map(|(e, judged)| over_target(book, e, judged.as_ref()?, *day)),
        );
        // One fortnight begins in the first two weeks of each month.
        if u64::from(day.day()) <= EVERY
            && let Some(pace) = pace::of_account(db, book).await?
        {
            let of = |row: &pace::Row| {
                let Of::Campaign(campaign) = row.of else { return None };
                let within = row.forecast.end().1;
                // What has no range is not forecast.
                (within.high > within.low).then_some(Statement {
                    kind: Kind::MonthSpend,
                    campaign,
                    said_on: *day,
                    about: pace.month,
                    due: pace.month.to(),
                    target: None,
                    said: Said::Within(within),
                })
            };
            all.extend(pace.rows.iter().filter_map(of));
        }
        Ok(all)
    }

    /// What a campaign will bring in the next fortnight at what it spends now.
    fn results(&self, of: &Spender) -> Option<Statement> {
        let about = Window::new(later(self.day, 1), later(self.day, EVERY))?;
        self.will_bring(Kind::Results, of, of.spend, about)
    }

    /// What a campaign will bring in some days at so much a day, as a plan states it.
    pub fn will_bring(
        &self,
        kind: Kind,
        of: &Spender,
        a_day: f64,
        about: Window,
    ) -> Option<Statement> {
        if of.fresh {
            return None;
        }
        let (money, range) = at_money(&self.book, of, a_day, about.days() as f64)?;
        Some(Statement {
            kind,
            campaign: of.campaign,
            said_on: self.day,
            about,
            due: later(about.to(), self.lag.as_ref()?.account.length() as u64),
            target: serde_json::to_value(Money(money)).ok(),
            said: Said::Within(Interval { low: range.low, high: range.high }),
        })
    }
}

/// What a campaign's open days will have brought, once nothing more comes.
fn completed(entry: &Entry, lag: &Lag, evening: NaiveDate) -> Option<Statement> {
    let campaign = entry.campaign.id;
    let open = lag.of(campaign).0.settled_age().min(LATEST) as u64;
    if open == 0 {
        return None;
    }
    let about = Window::ending(evening, open);
    let ends = lag.complete(Some(campaign), about);
    // Of days without conversions nothing is said.
    (ends.reported > 0.0).then_some(Statement {
        kind: Kind::Completed,
        campaign,
        said_on: evening,
        about,
        due: later(evening, lag.account.length() as u64),
        target: None,
        said: Said::Within(ends.interval(LEVEL)),
    })
}

/// That the next fortnight costs more than the target, were as much spent as lately.
fn over_target(
    book: &Book,
    entry: &Entry,
    judged: &Judged,
    evening: NaiveDate,
) -> Option<Statement> {
    let untold = matches!(
        judged.diagnosis.early,
        Some(
            Early::Launched { .. }
                | Early::Changed { .. }
                | Early::LittleSpend { .. }
                | Early::Unsettled { .. }
        )
    );
    let target_cpa = judged.diagnosis.target_cpa?;
    if untold || !judged.findings.is_empty() {
        return None;
    }
    let spend = judged.tally.spend.to_units();
    let results = judged.results()?;
    let next = spend * EVERY as f64 / entry.reported(judged.window).max(1) as f64;
    let phi = judged.diagnosis.phi;
    let about = Window::new(later(evening, 1), later(evening, EVERY))?;
    Some(Statement {
        kind: Kind::OverTarget,
        campaign: entry.campaign.id,
        said_on: evening,
        about,
        due: later(about.to(), book.account.settle_days()),
        target: serde_json::to_value(judged.target).ok(),
        said: Said::Chance(will_cost_more(spend / phi, results / phi, target_cpa, next / phi)),
    })
}
