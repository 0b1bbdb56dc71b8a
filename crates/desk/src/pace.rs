//! Pace (S3): where the month's spend will end, for the account, each channel and each campaign, against the plan
//! that the month is held against, and the daily budgets that would end it on plan.

use chrono::{Months, NaiveDate};
use tiller_channel::wire::{Budget, Setting};
use tiller_core::pace::{Forecast, LEVEL_DAYS, forecast, known_days};
use tiller_core::{Micros, Window};
use tiller_store::{CampaignId, PersonId, PgPool, PlanId};

use crate::DeskError;
use crate::book::{Book, Entry, Subject};
use crate::budgets::{self, Opened};
use crate::figures::{money, sum};
use crate::settings::Settings;
use crate::tray::{self, Adds, Origin, Proposal};

/// A needed budget is set where it differs by more than this from what is set.
const WORTH_A_CHANGE: f64 = 0.03;

/// What a row is about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Of {
    /// The whole account.
    Account,
    /// A channel.
    Channel(String),
    /// A campaign.
    Campaign(CampaignId),
}

/// A row.
#[derive(Clone, Debug)]
pub struct Row {
    /// What it is about.
    pub of: Of,
    /// Its name.
    pub name: String,
    /// The month so far and ahead.
    pub forecast: Forecast,
    /// The month's money by plan; absent where there is none.
    pub plan: Option<f64>,
    /// What daily budgets are set, together.
    pub budget: Option<f64>,
}

impl Row {
    /// Whether the interval no longer holds the plan: which way it misses it.
    pub fn misses(&self) -> Option<Miss> {
        let plan = self.plan?;
        let (low, high) = self.forecast.end().1;
        if low > plan {
            Some(Miss::Over)
        } else if high < plan {
            Some(Miss::Under)
        } else {
            None
        }
    }

    /// The daily budget that would end the month on plan.
    pub fn needed(&self) -> Option<f64> {
        self.forecast.needed(self.plan?)
    }
}

/// How a plan is missed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Miss {
    /// More will be spent.
    Over,
    /// Less will be spent.
    Under,
}

/// The month's pace.
#[derive(Clone, Debug)]
pub struct Pace {
    /// First to last day.
    pub month: Window,
    /// The last reported day.
    pub to: NaiveDate,
    /// The plan that the month is held against; none: the daily budgets.
    pub plan: Option<(PlanId, String)>,
    /// The account first, then channels, then campaigns.
    pub rows: Vec<Row>,
}

impl Pace {
    /// The row of something.
    pub fn row(&self, of: &Of) -> Option<&Row> {
        self.rows.iter().find(|r| r.of == *of)
    }
}

/// The month of the last reported day.
pub fn month_of(day: NaiveDate) -> Option<Window> {
    use chrono::Datelike;
    let first = day.with_day(1)?;
    Window::new(first, first.checked_add_months(Months::new(1))?.pred_opt()?)
}

/// How the month goes; none where too little has been reported.
pub async fn of_account(pool: &PgPool, book: &Book) -> Result<Option<Pace>, DeskError> {
    let plans = budgets::list(pool, &book.account).await?;
    let kept = plans.into_iter().find(|o| o.plan.kept);
    Ok(read(book, kept.as_ref()))
}

fn read(book: &Book, kept: Option<&Opened>) -> Option<Pace> {
    let to = book.span.to();
    let month = month_of(to)?;
    if (book.span.days() as i64) < LEVEL_DAYS {
        return None;
    }
    let solved = kept.and_then(|o| Some((o, budgets::work(&o.file).solved()?.clone())));
    // A plan's money is of a mean month: by the day it is the same in each.
    let planned = |e: &Entry| {
        let (o, s) = solved.as_ref()?;
        let place = o.file.lines.iter().position(|l| budgets::line_id(book, e) == l.id)?;
        Some(s.lines[place].budget / o.file.days * month.days() as f64)
    };
    let campaigns: Vec<(Row, &Entry)> = book
        .entries
        .iter()
        .filter_map(|e| {
            let spend = spend(e);
            let running = e.campaign.status.as_deref() != Some("paused");
            let budget = e.budget().filter(|_| running);
            let row = Row {
                of: Of::Campaign(e.campaign.id),
                name: e.campaign.name.clone(),
                forecast: forecast(&spend, to, month)?,
                plan: planned(e).or_else(|| by_budgets(e, month, to, budget)),
                budget,
            };
            (row.forecast.end().0 > 0.0).then_some((row, e))
        })
        .collect();
    let together = |of: Of, name: &str, of_it: &dyn Fn(&Entry) -> bool| {
        let mine: Vec<&(Row, &Entry)> = campaigns.iter().filter(|(_, e)| of_it(e)).collect();
        // What has just begun would lower the level of the rest: it is forecast by itself.
        let (old, young): (Vec<&(Row, &Entry)>, Vec<_>) =
            mine.iter().copied().partition(|(_, e)| known_days(&spend(e), to) >= LEVEL_DAYS);
        let settled: Vec<(NaiveDate, f64)> = old.iter().flat_map(|(_, e)| spend(e)).collect();
        let forecast = young
            .into_iter()
            .map(|(row, _)| row.forecast.clone())
            .fold(forecast(&settled, to, month), |all, new| {
                Some(all.map_or(new.clone(), |a| a.plus(&new)))
            });
        let plans: Vec<f64> = mine.iter().filter_map(|(r, _)| r.plan).collect();
        let budgets: Vec<f64> = mine.iter().filter_map(|(r, _)| r.budget).collect();
        let total = |xs: &[f64]| (!xs.is_empty()).then(|| xs.iter().sum());
        Some(Row {
            of,
            name: name.to_owned(),
            forecast: forecast?,
            plan: total(&plans),
            budget: total(&budgets),
        })
    };
    let mut channels: Vec<&str> =
        campaigns.iter().map(|(_, e)| e.campaign.channel.as_str()).collect();
    channels.sort_unstable();
    channels.dedup();
    let account = together(Of::Account, &book.account.name, &|_| true)?;
    let by_channel: Vec<Row> = channels
        .iter()
        .filter_map(|c| together(Of::Channel((*c).to_owned()), c, &|e| e.campaign.channel == *c))
        .collect();
    let rows = std::iter::once(account)
        .chain(by_channel)
        .chain(campaigns.into_iter().map(|(r, _)| r))
        .collect();
    Some(Pace { month, to, plan: solved.map(|(o, _)| (o.plan.id, o.plan.name.clone())), rows })
}

/// What a campaign spent by day.
fn spend(e: &Entry) -> Vec<(NaiveDate, f64)> {
    e.days.iter().map(|d| (d.day, d.tally.spend.to_units())).collect()
}

/// The month by its daily budgets: those of the days so far, the present one for the rest.
fn by_budgets(e: &Entry, month: Window, to: NaiveDate, now: Option<f64>) -> Option<f64> {
    let left = (month.to() - to).num_days() as f64;
    let so_far = e.days.iter().filter(|d| month.contains(d.day) && d.day <= to);
    let passed: f64 = so_far.filter_map(|d| d.budget).map(Micros::to_units).sum();
    now.map(|budget| passed + budget * left)
}

/// Puts the daily budgets that would end some campaigns' month on plan in the tray.
pub async fn take(
    pool: &PgPool,
    book: &Book,
    person: PersonId,
    chosen: &[CampaignId],
) -> Result<usize, DeskError> {
    let pace = of_account(pool, book).await?.ok_or(DeskError::NotFound("month"))?;
    let settings = Settings::load(pool, &book.account, &[]).await?;
    let mut proposals = Vec::new();
    for row in &pace.rows {
        let Of::Campaign(id) = row.of else { continue };
        let Some(needed) = row.needed().filter(|_| chosen.contains(&id)) else { continue };
        let Some(Budget::Daily { amount }) = settings.campaign(id).and_then(|c| c.budget) else {
            continue;
        };
        let to = Micros::from_units((needed * 100.0).round() / 100.0);
        let same = (to.to_units() / amount.to_units() - 1.0).abs() < WORTH_A_CHANGE;
        if same || to <= Micros::ZERO {
            continue;
        }
        let (mid, (low, high)) = row.forecast.end();
        proposals.push(Proposal {
            subject: Subject::Campaign(id),
            set: Setting::Budget(Budget::Daily { amount: to }),
            reason: format!(
                "At its pace it ends the month at {} (80% between {} and {}); the plan is {}.",
                sum(mid),
                sum(low),
                sum(high),
                sum(row.plan.unwrap_or(0.0))
            ),
            evidence: vec![("Spent so far".into(), money(row.forecast.spent))],
            effect: format!("about {} by the end of the month", sum(row.plan.unwrap_or(0.0))),
            adds: Adds::default(),
            origin: Origin::Plan,
            undoes: None,
        });
    }
    if proposals.is_empty() {
        return Err(DeskError::Invalid(
            "choose at least one campaign whose daily budget is off; a budget that would have to be 0 is paused instead".into(),
        ));
    }
    tray::propose(pool, &book.account, person, proposals).await
}
