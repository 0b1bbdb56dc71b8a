//! Today: what has changed since the last visit, what stopped or broke, what is due, what is most worth doing, the month's pace.

use std::sync::Arc;

use chrono::{DateTime, NaiveDate, Utc};
use tiller_core::ids::PersonId;
use tiller_core::verdict::Verdict;
use tiller_core::window::last_settled;
use tiller_core::{Tally, Window};
use tiller_store::PgPool;
use tiller_store::changes::{self, Waiting};
use tiller_store::look_backs;
use tiller_store::people::{self, Account};

use crate::account::connections::{self, View};
use crate::account::settings::Settings;
use crate::advice::{self, Advice, Advised};
use crate::alarms::{self, Alarm};
use crate::book::{Book, Entry, Judged, Period};
use crate::budgets::weekly::Week;
use crate::kept::Kept;
use crate::rules::tidings::{self, Tidings};
use crate::tray::proposal::Proposal;
use crate::wording::TradeOff;
use crate::{DeskError, causes, logbook, pace};
use tiller_core::spot::Subject;

/// So many things to do stand in the letter.
const WORTH_DOING: usize = 3;
/// A channel that has told nothing for so long is not waited for.
const SILENT_DAYS: i64 = 14;

/// Something worth doing.
#[derive(Clone, Debug)]
pub struct Deed {
    /// Money that it concerns in the settled period: overspent, spent blindly, or to be won.
    pub worth: f64,
    /// What it is.
    pub what: What,
}

/// What is worth doing.
#[derive(Clone, Debug)]
pub enum What {
    /// A campaign's own fault.
    Campaign(Box<Faulty>),
    /// The week's budgets: together, since what some get is what others give.
    Budgets(Week),
    /// A campaign on target that would get more with another bid.
    Bid(Box<Proposal>, String),
}

/// A campaign to be mended.
#[derive(Clone, Debug)]
pub struct Faulty {
    /// What it is.
    pub subject: Subject,
    /// Its name.
    pub name: String,
    /// Its verdict.
    pub judged: Judged,
    /// What the halfway bid would bring, where one is advised.
    pub trade_off: Option<TradeOff>,
}

/// What came since a visit.
#[derive(Clone, Debug)]
pub struct Since {
    /// When that was.
    pub at: DateTime<Utc>,
    /// Days that have been reported since.
    pub days: Option<Window>,
    /// What they counted.
    pub tally: Tally,
    /// Changes that channels have made since.
    pub made: i64,
    /// Changes that channels have refused since.
    pub refused: i64,
}

/// The letter.
#[derive(Clone, Debug)]
pub struct Letter {
    /// Since the last visit; none on the first.
    pub since: Option<Since>,
    /// The last seven settled days against the seven before.
    pub week: Option<(Window, Tally, Tally)>,
    /// Changes that are to be judged, the first due first.
    pub look_backs: Vec<(NaiveDate, logbook::Entry)>,
    /// What came of the changes whose look-back was in the last seven days: worked, made things worse, can't be told.
    pub came: [i64; 3],
    /// What waits.
    pub waiting: Waiting,
    /// Connections whose last fetch failed.
    pub failed: Vec<View>,
    /// What stopped or broke, the most money first.
    pub alarms: Arc<Vec<Alarm>>,
    /// Things worth doing, the most money first.
    pub deeds: Vec<Deed>,
    /// Campaigns that may be dear, but too early to tell: nothing is to be done there.
    pub undecided: usize,
    /// What rules have to tell.
    pub rules: Tidings,
    /// How the month goes.
    pub pace: Option<Arc<pace::Pace>>,
}

/// A member's last visit before this one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize)]
pub struct Visit {
    /// When that was.
    pub at: DateTime<Utc>,
    /// The last reported day then.
    pub day: Option<NaiveDate>,
}

/// A member's last visit.
pub async fn last_visit(
    db: &PgPool,
    account: &Account,
    person: PersonId,
) -> Result<Option<Visit>, DeskError> {
    let last = people::last_visit(db, account.id, person).await?;
    Ok(last.map(|(at, day)| Visit { at, day }))
}

/// A member's last visit; this one is written down in its place.
pub async fn visit(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    book: Option<&Book>,
) -> Result<Option<Visit>, DeskError> {
    let last = last_visit(db, account, person).await?;
    people::visit(db, account.id, person, book.map(|b| b.span.to())).await?;
    Ok(last)
}

/// By the visit before, and the day.
static KEPT: Kept<(Period, (Option<Visit>, NaiveDate)), Letter> = Kept::new(50);

/// The letter of a day to a member.
pub async fn letter(
    db: &PgPool,
    book: &Book,
    visit: Option<Visit>,
    today: NaiveDate,
) -> Result<Arc<Letter>, DeskError> {
    book.keep(&KEPT, (visit, today), || write(db, book, visit, today)).await
}

async fn write(
    db: &PgPool,
    book: &Book,
    visit: Option<Visit>,
    today: NaiveDate,
) -> Result<Letter, DeskError> {
    let account = &book.account;
    let since = match visit {
        None => None,
        Some(Visit { at, day }) => {
            let days = day.and_then(|d| Window::new(d.succ_opt()?, book.span.to()));
            let tally = days.map(|d| book.total(d)).unwrap_or_default();
            let (made, refused) = changes::answered_since(db, account.id, at).await?;
            Some(Since { at, days, tally, made, refused })
        }
    };
    let channels = connections::list(db, account).await?;
    // A week that not all channels have told of yet is no week to compare with.
    let told = alarms::reported(book, &channels);
    let lately = told.values().filter(|d| (book.span.to() - **d).num_days() < SILENT_DAYS);
    let told = lately.min().copied().unwrap_or(book.span.to());
    let week = Window::ending(last_settled(told, account.settle_days()), 7);
    let week = (week.from() >= book.span.from())
        .then(|| (week, book.total(week), book.total(week.before())));
    let settings = Settings::of_book(db, book).await?;
    let alarms = alarms::of_account(db, book, &settings, &channels, today).await?;
    let failed = channels
        .into_iter()
        .filter(|v| v.job.as_ref().is_some_and(|j| j.error.is_some()))
        .collect();
    let advised = advice::of_account(db, book).await?;
    let (deeds, undecided) = deeds(book, &advised);
    Ok(Letter {
        look_backs: logbook::look_backs(db, account).await?,
        came: look_backs::came(db, account.id, Window::ending(today, 7)).await?,
        since,
        week,
        waiting: changes::waiting(db, account.id, today).await?,
        failed,
        alarms,
        deeds,
        undecided,
        rules: tidings::of_account(db, account, book.span.to()).await?,
        pace: pace::of_account(db, book).await?,
    })
}

/// What is most worth doing, and how many campaigns are too early to tell.
pub fn deeds(book: &Book, advised: &Advised) -> (Vec<Deed>, usize) {
    let ranked = causes::ranked(book);
    let undecided = ranked.iter().filter(|(e, j)| left_alone(advised, e, j)).count();
    let mut deeds: Vec<Deed> = budgets(book, advised).into_iter().collect();
    deeds.extend(ranked.iter().filter_map(|(e, j)| another_bid(advised, e, j)));
    deeds.extend(ranked.into_iter().filter_map(|(e, j)| faulty(advised, e, j)));
    deeds.sort_by(|a, b| b.worth.total_cmp(&a.worth));
    deeds.truncate(WORTH_DOING);
    (deeds, undecided)
}

/// Whether a campaign may be dear, but nothing is to be done there before it is sure.
fn left_alone(advised: &Advised, entry: &Entry, judged: &Judged) -> bool {
    let undecided = judged.diagnosis.verdict == Verdict::TooEarly && judged.diagnosis.excess > 0.0;
    let something =
        || matches!(advised.on(entry, Some(judged)), Advice::Bid(_) | Advice::Budget(_));
    undecided && !something()
}

/// The week's budgets with what they bring in money over the period.
fn budgets(book: &Book, advised: &Advised) -> Option<Deed> {
    let worth = advised.week.worth(book.by_value()) * book.settled()?.days() as f64;
    (worth > 0.0).then(|| Deed { worth, what: What::Budgets(advised.week.clone()) })
}

/// Another bid, with what its results are worth at the target beyond what they cost.
fn another_bid(advised: &Advised, entry: &Entry, judged: &Judged) -> Option<Deed> {
    let Advice::Bid(p) = advised.on(entry, Some(judged)) else { return None };
    let (spend, conversions) = p.adds.spend.zip(p.adds.conversions)?;
    let worth = conversions * judged.diagnosis.target_cpa?.units() - spend;
    let worth = worth * judged.window.days() as f64;
    let what = What::Bid(Box::new(p.clone()), entry.campaign.name.clone());
    (worth > 0.0).then_some(Deed { worth, what })
}

fn faulty(advised: &Advised, entry: &Entry, judged: Judged) -> Option<Deed> {
    let d = &judged.diagnosis;
    let Advice::Verdict(_) = advised.on(entry, Some(&judged)) else { return None };
    let worth = match d.verdict {
        Verdict::TooEarly => return None,
        // Whatever it spends is spent blindly.
        Verdict::Measurement => judged.tally.spend.to_units(),
        _ => d.excess,
    };
    let what = What::Campaign(Box::new(Faulty {
        subject: Subject::Campaign(entry.campaign.id),
        name: entry.campaign.name.clone(),
        trade_off: causes::trade_off(&judged, &advised.volumes, entry.campaign.id),
        judged,
    }));
    Some(Deed { worth, what })
}
