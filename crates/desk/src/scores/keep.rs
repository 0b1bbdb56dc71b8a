//! What an evening's figures say that can be checked later: kept once a fortnight, and checked when its days are known.

use std::collections::HashMap;

use chrono::{Datelike, NaiveDate};
use serde::{Deserialize, Serialize};
use tiller_core::Window;
use tiller_core::evidence::Interval;
use tiller_core::evidence::target::will_cost_more;
use tiller_core::ids::CampaignId;
use tiller_core::score::Kind;
use tiller_core::verdict::Early;
use tiller_core::window::{earlier, later};
use tiller_store::PgPool;
use tiller_store::look_backs::moved;
use tiller_store::people::Account;
use tiller_store::scores::{self as store, Due, Said, Statement};

use crate::DeskError;
use crate::account::settings::Settings;
use crate::book::{Book, Entry, Judged, PeriodChoice};
use crate::budgets::curves::Curves;
use crate::budgets::responses::{self, Spender};
use crate::measure::{LATEST, Lag};
use crate::pace::{self, Of};
use crate::plans::as_it_is;

/// Something is said each fortnight, of the days of the next one: so that no day is counted twice.
const EVERY: u64 = 14;
/// Days that have to lie before.
const BEFORE: u64 = 27;
/// Spends within these times of each other are alike enough that results go with them.
const ALIKE: std::ops::RangeInclusive<f64> = 0.5..=2.0;
/// The confidence of ranges, as pages show them.
pub const LEVEL: f64 = 0.8;

/// The money that a statement about results is about, in units of currency.
#[derive(Serialize, Deserialize)]
struct Money(f64);

/// Keeps what is to be said by a day, and checks what is due. Evenings that nobody kept are worked out from what had been reported
/// by then.
pub(crate) async fn score(
    db: &PgPool,
    account: &Account,
    last_day: NaiveDate,
) -> Result<(), DeskError> {
    let Some(book) = Book::load(db, account, PeriodChoice::default()).await? else {
        return Ok(());
    };
    let mut evening = match store::stated_until(db, account.id).await? {
        Some(last) => later(last, EVERY),
        None => later(book.span.from(), BEFORE).max(earlier(last_day, super::DAYS)),
    };
    while evening <= last_day {
        let statements = of_evening(db, account, evening).await?;
        store::keep(db, account.id, evening, last_day, &statements).await?;
        evening = later(evening, EVERY);
    }
    let due = store::due(db, account.id, last_day).await?;
    let Some(first) = due.iter().map(|d| d.from).min() else { return Ok(()) };
    // All the days that any of them is about.
    let all = PeriodChoice { from: Some(first), to: Some(last_day), ..PeriodChoice::default() };
    let Some(book) = Book::load(db, account, all).await? else { return Ok(()) };
    let found = check(db, &book, &due).await?;
    Ok(store::checked(db, account.id, &found).await?)
}

/// All that the figures of an evening say.
async fn of_evening(
    db: &PgPool,
    account: &Account,
    evening: NaiveDate,
) -> Result<Vec<Statement>, DeskError> {
    let that_day = Window::ending(evening, 1);
    let books = Book::of_past_days(db, account, PeriodChoice::default(), that_day).await?;
    let Some(mut book) = books.into_iter().next() else { return Ok(Vec::new()) };
    let mut all = Vec::new();
    if let Some(lag) = Lag::load(db, account.id, evening).await? {
        book.expect(&lag.open());
        all.extend(book.entries.iter().filter_map(|e| completed(e, &lag, evening)));
        all.extend(results(db, &book, &lag, evening).await?);
    }
    all.extend(
        book.entries
            .iter()
            .zip(book.judge_all())
            .filter_map(|(e, judged)| over_target(&book, e, judged.as_ref()?, evening)),
    );
    // One fortnight begins in the first two weeks of each month.
    if u64::from(evening.day()) <= EVERY
        && let Some(pace) = pace::of_account(db, &book).await?
    {
        let of = |row: &pace::Row| {
            let Of::Campaign(campaign) = row.of else { return None };
            let within = row.forecast.end().1;
            // What has no range is not forecast.
            (within.high > within.low).then_some(Statement {
                kind: Kind::MonthSpend,
                campaign,
                said_on: evening,
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

/// What each campaign will bring in the next fortnight at what it spends now, as a plan states it.
async fn results(
    db: &PgPool,
    book: &Book,
    lag: &Lag,
    evening: NaiveDate,
) -> Result<Vec<Statement>, DeskError> {
    let about = Window::new(later(evening, 1), later(evening, EVERY));
    let settings = Settings::of_book(db, book).await?;
    let curves = Curves::of_book(book, &[]);
    let known = responses::of_account(book, &settings, &curves);
    let of = |l: &Spender| {
        let about = about?;
        let within = as_it_is(book, l, EVERY as f64)?;
        Some(Statement {
            kind: Kind::Results,
            campaign: l.campaign,
            said_on: evening,
            about,
            due: later(about.to(), lag.account.length() as u64),
            target: serde_json::to_value(Money(l.spend * EVERY as f64)).ok(),
            said: Said::Within(Interval { low: within.low, high: within.high }),
        })
    };
    Ok(known.iter().filter(|l| !l.fresh).filter_map(of).collect())
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

/// What came; none where a campaign, its target or what it counts was changed meanwhile.
async fn check(
    db: &PgPool,
    book: &Book,
    due: &[Due],
) -> Result<Vec<(i64, Option<f64>)>, DeskError> {
    let first = due.iter().map(|d| d.said_on).min().unwrap_or(book.span.from());
    let mut changed: HashMap<CampaignId, Vec<NaiveDate>> = HashMap::new();
    for m in moved(db, book.account.id, first).await? {
        changed.entry(m.campaign).or_default().push(m.from);
    }
    let was_changed = |d: &Due| {
        let on = changed.get(&d.campaign).map_or(&[][..], Vec::as_slice);
        on.iter().any(|from| *from > d.said_on && *from <= d.to)
    };
    let came = |d: &Due| {
        let entry = book.entry(d.campaign).ok()?;
        let tally = entry.tally(Window::new(d.from, d.to)?);
        match d.kind {
            // What somebody changes now brings nothing to days gone by.
            Kind::Completed => Some(tally.conversions),
            _ if was_changed(d) => None,
            Kind::MonthSpend => Some(tally.spend.to_units()),
            Kind::Results => {
                let Money(stated) = serde_json::from_value(d.target.clone()?).ok()?;
                let spent = tally.spend.to_units() / stated;
                let all = if book.by_value() { tally.value.to_units() } else { tally.conversions };
                // A statement about other money than was spent can't be held against it.
                ALIKE.contains(&spent).then(|| all / spent)
            }
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
