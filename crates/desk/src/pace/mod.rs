//! Pace (S3): where the month's spend will end, for the account, each channel and each campaign, against the plan
//! that the month follows, and the daily budgets that would end it on plan.

mod words;
mod working;

use std::sync::Arc;
use tiller_core::evidence::Interval;

use chrono::{Months, NaiveDate};
use tiller_core::ids::{CampaignId, PersonId, PlanId};
use tiller_core::pace::{Forecast, LEAST_DAYS, Series, forecasts};
use tiller_core::setting::{Budget, Setting};
use tiller_core::{Micros, Window};
use tiller_store::PgPool;
use tiller_store::months::{self, Month, MonthBudget};

use crate::account::decisions::{self, Own};
use crate::account::settings::Settings;
use crate::book::quiet::{Quiet, quiet};
use crate::book::{Book, Entry, Period};
use crate::kept::Kept;
use crate::numerals::{money, sum};
use crate::plans::{self, Opened};
use crate::tray::offer::{self, Offer};
use crate::tray::proposal::{Adds, Origin, Proposal};
use crate::{DeskError, tray};
use tiller_core::spot::Subject;
pub use working::working;

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
    /// Whether the plan was typed for this month.
    pub typed: bool,
    /// What daily budgets are set, together.
    pub budget: Option<f64>,
    /// Why a campaign's budget is left alone for now.
    pub quiet: Option<Quiet>,
}

impl Row {
    /// Whether the plan lies outside of the interval: which way it misses it.
    pub fn misses(&self) -> Option<Miss> {
        let plan = self.plan?;
        let Interval { low, high } = self.forecast.end().1;
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
    /// The plan that the month follows.
    pub plan: Option<(PlanId, String)>,
    /// What somebody typed for the month; goes before the plan.
    pub typed: Vec<MonthBudget>,
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

static KEPT: Kept<(Period, ()), Option<Arc<Pace>>> = Kept::new(24);

/// How the month goes; none where too little has been reported.
pub async fn of_account(db: &PgPool, book: &Book) -> Result<Option<Arc<Pace>>, DeskError> {
    Ok(book.keep(&KEPT, (), || forecast(db, book)).await?.as_ref().clone())
}

async fn forecast(db: &PgPool, book: &Book) -> Result<Option<Arc<Pace>>, DeskError> {
    let plans = plans::list(db, &book.account).await?;
    let followed = plans.into_iter().find(|o| o.plan.followed);
    let Some(month) = month_of(book.span.to()).filter(|_| book.span.days() >= LEAST_DAYS) else {
        return Ok(None);
    };
    let typed = months::list(db, book.account.id, month.from()).await?;
    Ok(read(book, month, followed.as_ref(), typed).map(Arc::new))
}

fn read(
    book: &Book,
    month: Window,
    followed: Option<&Opened>,
    typed: Vec<MonthBudget>,
) -> Option<Pace> {
    let to = book.span.to();
    let solved = followed.and_then(|o| Some((o, plans::work(&o.file).solved()?.clone())));
    // A plan's money is of a mean month: by the day it is the same in each.
    let planned = |e: &Entry| {
        let (o, s) = solved.as_ref()?;
        let place = o.file.lines.iter().position(|l| plans::line_id(book, e) == l.id)?;
        Some(s.lines[place].budget / o.file.days * month.days() as f64)
    };
    let mut channels: Vec<&str> =
        book.entries.iter().map(|e| e.campaign.channel.as_str()).collect();
    channels.sort_unstable();
    channels.dedup();
    let running = |e: &Entry| e.campaign.status.as_deref() != Some("paused");
    let series: Vec<Series> = book
        .entries
        .iter()
        .map(|e| Series {
            spend: spend(e),
            // What is paused spends nothing until somebody starts it again.
            budget: if running(e) { e.budget() } else { Some(0.0) },
            parts_of: channels
                .iter()
                .position(|c| *c == e.campaign.channel)
                .map_or(vec![0], |i| vec![0, i + 1]),
        })
        .collect();
    let (each, wholes) = forecasts(&series, channels.len() + 1, to, month);
    let campaigns: Vec<(Row, &Entry)> = book
        .entries
        .iter()
        .zip(each)
        .filter_map(|(e, forecast)| {
            let row = Row {
                of: Of::Campaign(e.campaign.id),
                name: e.campaign.name.clone(),
                forecast: forecast?,
                plan: planned(e),
                typed: false,
                quiet: book.touched.get(&e.campaign.id).and_then(|t| quiet(t)),
                budget: e.budget().filter(|_| running(e)),
            };
            (row.forecast.end().0 > 0.0).then_some((row, e))
        })
        .collect();
    let typed_for = |channel: Option<&str>| {
        typed.iter().find(|b| b.channel.as_deref() == channel).map(|b| b.amount.to_units())
    };
    let together = |of: Of, name: &str, forecast: Option<Forecast>, typed: Option<f64>| {
        let mine: Vec<&Row> = campaigns
            .iter()
            .filter(|(_, e)| match &of {
                Of::Channel(channel) => e.campaign.channel == *channel,
                _ => true,
            })
            .map(|(row, _)| row)
            .collect();
        // What a plan leaves out takes what it will spend.
        let by_plan = mine
            .iter()
            .any(|r| r.plan.is_some())
            .then(|| mine.iter().map(|r| r.plan.unwrap_or(r.forecast.end().0)).sum());
        let budgets: Vec<f64> = mine.iter().filter_map(|r| r.budget).collect();
        let forecast = forecast.filter(|f| f.end().0 > 0.0)?;
        let budget = (!budgets.is_empty()).then(|| budgets.iter().sum());
        Some(Row {
            of,
            name: name.to_owned(),
            forecast,
            plan: typed.or(by_plan),
            typed: typed.is_some(),
            budget,
            quiet: None,
        })
    };
    let mut wholes = wholes.into_iter();
    let account = wholes.next().flatten();
    let by_channel: Vec<Row> = channels
        .iter()
        .zip(wholes)
        .filter_map(|(c, f)| together(Of::Channel((*c).to_owned()), c, f, typed_for(Some(c))))
        .collect();
    // Budgets typed for every channel are the account's as well.
    let of_channels = channels.iter().map(|c| typed_for(Some(c))).sum::<Option<f64>>();
    let whole = typed_for(None).or(of_channels);
    let rows = std::iter::once(together(Of::Account, &book.account.name, account, whole)?)
        .chain(by_channel)
        .chain(campaigns.into_iter().map(|(r, _)| r))
        .collect();
    let plan = solved.map(|(o, _)| (o.plan.id, o.plan.name.clone()));
    Some(Pace { month, to, plan, typed, rows })
}

/// Sets what the month of the last reported day is to spend, by channel (none: the account); empty is nothing.
pub async fn plan_month(
    db: &PgPool,
    book: &Book,
    person: PersonId,
    typed: &[(Option<String>, String)],
) -> Result<(), DeskError> {
    let month = month_of(book.span.to()).ok_or(DeskError::NotFound("month"))?;
    let mut budgets = Vec::new();
    for (channel, text) in typed {
        let of = channel.as_deref().unwrap_or("the account");
        let Some(amount) = crate::numerals::typed_number::amount(text, None)
            .map_err(|e| DeskError::Invalid(format!("the month’s budget of {of}: {e}")))?
        else {
            continue;
        };
        if !(0.01..1e10).contains(&amount) {
            return Err(DeskError::Invalid(format!(
                "the month’s budget of {of} has to be more than 0 and below 10 000 000 000; leave it empty for none"
            )));
        }
        budgets.push(MonthBudget { channel: channel.clone(), amount: Micros::from_units(amount) });
    }
    let whole = budgets.iter().find(|b| b.channel.is_none()).map(|b| b.amount.to_units());
    let parts: f64 =
        budgets.iter().filter(|b| b.channel.is_some()).map(|b| b.amount.to_units()).sum();
    if whole.is_some_and(|w| parts > w + 0.005) {
        return Err(DeskError::Invalid(format!(
            "the channels’ budgets come to {}, more than the account’s; raise the account’s or lower theirs",
            sum(parts)
        )));
    }
    budgets.sort_by(|a, b| a.channel.cmp(&b.channel));
    let own = Own::Month(Month { first: month.from(), budgets });
    decisions::decide(db, book.account.id, Some(person), None, &own).await?;
    Ok(())
}

/// What a campaign spent by day.
fn spend(e: &Entry) -> Vec<(NaiveDate, f64)> {
    e.days.iter().map(|d| (d.day, d.tally.spend.to_units())).collect()
}

/// The daily budgets that would end campaigns' month on plan, where that is missed and no other change waits for its
/// look-back there.
pub fn offers(pace: &Pace, settings: &Settings) -> Vec<Offer<Proposal>> {
    let mut offers = Vec::new();
    for row in &pace.rows {
        let Of::Campaign(id) = row.of else { continue };
        let off = row.misses().is_some() && row.quiet.is_none();
        let Some(needed) = row.needed().filter(|_| off) else { continue };
        let Some(Budget::Daily { amount }) = settings.campaign(id).and_then(|c| c.budget) else {
            continue;
        };
        let to = Micros::from_units((needed * 100.0).round() / 100.0);
        let same = (to.to_units() / amount.to_units() - 1.0).abs() < WORTH_A_CHANGE;
        if same || to <= Micros::ZERO {
            continue;
        }
        let (mid, Interval { low, high }) = row.forecast.end();
        let plan = sum(row.plan.unwrap_or(0.0));
        let reason = format!(
            "At this pace it ends the month at {} (80% between {} and {}); the plan is {plan}.",
            sum(mid),
            sum(low),
            sum(high)
        );
        let set = Setting::Budget(Budget::Daily { amount: to });
        let proposal = Proposal::new(Subject::Campaign(id), set, Origin::Plan, reason)
            .because("Spent so far", money(row.forecast.spent))
            .expecting(
                format!("about {plan} by the end of the month"),
                Adds { spend: Some(needed - row.forecast.level), ..Adds::default() },
            );
        offers.push(Offer::change(id, &row.name, proposal));
    }
    offers
}

/// Puts needed daily budgets in the tray.
pub async fn take(
    db: &PgPool,
    book: &Book,
    person: PersonId,
    buttons: &[String],
) -> Result<usize, DeskError> {
    let pace = of_account(db, book).await?.ok_or(DeskError::NotFound("month"))?;
    let settings = Settings::of_book(db, book).await?;
    let proposals = offer::taken(buttons, offers(&pace, &settings))?;
    if proposals.is_empty() {
        return Err(DeskError::Invalid(
            "choose at least one campaign whose daily budget is off and that is not waiting for its look-back; a budget that would have to be 0 is paused instead".into(),
        ));
    }
    tray::propose(db, &book.account, person, proposals).await
}
