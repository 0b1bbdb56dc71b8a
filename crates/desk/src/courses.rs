//! Courses: dated steps of a campaign's daily budget, or of what stands for its bid, decided once and then sent by
//! themselves: the step experiment, a budget lift, a ramp to where one step would be a shock.

use chrono::NaiveDate;
use tiller_core::course::{self as core, Latest, Move, Now, State, Step, Why};
pub use tiller_core::course::{Kind, Lever};
use tiller_core::flight::Lift;
use tiller_core::ids::{CampaignId, CourseId, PersonId};
use tiller_core::learning::SHOCK;
use tiller_core::response::experiment;
use tiller_core::setting::{Budget, Setting, Strategy};
use tiller_core::spot::Subject;
use tiller_core::window::later;
use tiller_core::{Micros, PerDay, Window};
use tiller_store::changes;
use tiller_store::courses::{self as store, Busy, Moved, New, Progress};
use tiller_store::people::Account;
use tiller_store::{PgPool, StoreError};

use crate::account::settings::Settings;
use crate::numerals::{money, number};
use crate::tray::proposal::{Adds, Origin, Proposal};
use crate::tray::{self, sending};
use crate::{DeskError, change_words as words};

/// Days between the steps of a ramp: three that show the last one was right; none of them sets a strategy learning again (common
/// practice, no source).
const RAMP_DAYS: u64 = 3;

/// A course as it stands.
#[derive(Clone, Debug)]
pub struct Course {
    row: store::Course,
    /// The campaign.
    pub campaign: CampaignId,
    /// Its steps, and how far it has come.
    pub plan: core::Course,
}

impl Course {
    fn read(row: store::Course) -> Result<Self, DeskError> {
        let steps: Vec<(u64, i64)> =
            serde_json::from_value(row.steps.clone()).map_err(StoreError::from)?;
        let plan = core::Course {
            kind: row.kind,
            lever: row.lever,
            steps: steps
                .into_iter()
                .map(|(after, m)| Step { after, amount: Micros::new(m) })
                .collect(),
            base: Micros::new(row.base),
            state: row.state,
            starts: row.starts,
            taken: usize::try_from(row.taken).unwrap_or(0),
        };
        Ok(Self { campaign: row.campaign, plan, row })
    }

    /// Its id.
    pub fn id(&self) -> CourseId {
        self.row.id
    }

    /// How it stands, in words.
    pub fn standing(&self) -> String {
        match self.plan.state {
            State::Waiting => "its first step waits in the tray".into(),
            State::Running => match self.plan.next_step() {
                Some((day, amount)) => {
                    let what = if self.plan.lever == Lever::Budget { " a day" } else { "" };
                    format!("{}{what} from {}", money(amount.to_units()), crate::numerals::day(day))
                }
                None => "its last step is being sent".into(),
            },
            State::Done => "done".into(),
            State::Stopped => format!("stopped: {}", self.row.note),
        }
    }

    fn latest(&self) -> Latest {
        match (self.row.latest_state, self.row.latest_from) {
            (Some(changes::State::Waiting | changes::State::Sending), _) => Latest::Open,
            (Some(changes::State::Made), Some(from)) => Latest::Made(from),
            (Some(changes::State::Refused), _) => Latest::Refused,
            _ => Latest::None,
        }
    }
}

/// The account's courses, those that go on first.
pub async fn list(db: &PgPool, account: &Account) -> Result<Vec<Course>, DeskError> {
    store::list(db, account.id).await?.into_iter().map(Course::read).collect()
}

fn json(steps: &[(u64, f64)]) -> Result<serde_json::Value, DeskError> {
    let steps: Vec<(u64, i64)> =
        steps.iter().map(|(after, x)| (*after, Micros::from_units(*x).get())).collect();
    Ok(serde_json::to_value(steps).map_err(StoreError::from)?)
}

/// The daily budget of a campaign that a course can move.
pub fn daily(settings: &Settings, campaign: CampaignId) -> Result<f64, DeskError> {
    match settings.campaign(campaign).map(|c| c.budget) {
        Some(Some(Budget::Daily { amount })) => Ok(amount.to_units()),
        None => Err(DeskError::Invalid(
            "its channel is not connected, so nothing can be sent there by itself; connect it first"
                .into(),
        )),
        Some(Some(Budget::Lifetime { .. })) => Err(DeskError::Invalid(
            "it has a lifetime budget; steps need a daily one, so change it to that first".into(),
        )),
        Some(None) => Err(DeskError::Invalid(
            "its ad groups have budgets of their own; steps need one of the campaign".into(),
        )),
    }
}

/// What stands for a campaign's bid, as a number: the bid itself, its strategy's target or highest bid.
pub fn bid(settings: &Settings, campaign: CampaignId) -> Result<f64, DeskError> {
    let set = settings.campaign(campaign).ok_or_else(tray::unconnected)?;
    set.stands_for_bid().ok_or_else(|| {
        DeskError::Invalid(
            "nothing is set that its bids follow: each of its ad groups has its own bid, or its strategy has neither a target nor a highest bid".into(),
        )
    })
}

fn present(settings: &Settings, campaign: CampaignId, lever: Lever) -> Result<f64, DeskError> {
    match lever {
        Lever::Budget => daily(settings, campaign),
        Lever::Bid => bid(settings, campaign),
    }
}

/// The setting that moves what stands for a campaign's bid to a number.
pub fn bid_setting(
    settings: &Settings,
    campaign: CampaignId,
    number: f64,
) -> Result<Setting, DeskError> {
    setting(settings, campaign, Lever::Bid, number)
}

/// The setting that moves a lever to a number.
fn setting(
    settings: &Settings,
    campaign: CampaignId,
    lever: Lever,
    number: f64,
) -> Result<Setting, DeskError> {
    let money = Micros::from_units(number);
    let set = settings.campaign(campaign).ok_or_else(tray::unconnected)?;
    Ok(match (lever, set.strategy) {
        (Lever::Budget, _) => Setting::Budget(Budget::Daily { amount: money }),
        (Lever::Bid, Strategy::ManualCpc | Strategy::ManualCpm) => Setting::Bid(Some(money)),
        (Lever::Bid, Strategy::TargetCpa { .. }) => {
            Setting::Strategy(Strategy::TargetCpa { target: money })
        }
        (Lever::Bid, Strategy::TargetRoas { .. }) => {
            Setting::Strategy(Strategy::TargetRoas { target: number })
        }
        (Lever::Bid, Strategy::MostClicks | Strategy::MostConversions | Strategy::MostValue) => {
            Setting::BidCeiling(Some(money))
        }
    })
}

/// Steps as they can be set: what is set is compared with them later.
fn in_coins(account: &Account, steps: &[(u64, f64)]) -> Vec<(u64, f64)> {
    let coins = |x: f64| account.coins(Micros::from_units(x)).to_units();
    steps.iter().map(|(after, amount)| (*after, coins(*amount))).collect()
}

const BUSY: &str = "it is on a course already; stop that one first";

/// Puts the first step in the tray; the others follow by themselves once it has been made.
async fn begin(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    (kind, lever): (Kind, Lever),
    base: f64,
    steps: &[(u64, f64)],
    first: Proposal,
) -> Result<(), DeskError> {
    let Subject::Campaign(campaign) = first.subject else {
        return Err(DeskError::NotFound("campaign"));
    };
    if list(db, account).await?.iter().any(|c| c.campaign == campaign && c.plan.open()) {
        return Err(DeskError::Invalid(BUSY.into()));
    }
    let waits = || DeskError::Invalid("this waits in the tray already".into());
    let first = tray::ready(db, account, vec![first]).await?.pop().ok_or_else(waits)?;
    let new = New {
        campaign,
        kind,
        lever,
        steps: json(&in_coins(account, steps))?,
        base: Micros::from_units(base).get(),
        starts: None,
    };
    match store::begin(db, account.id, person, &new, &first).await? {
        Ok(_) => Ok(()),
        Err(Busy::Course) => Err(DeskError::Invalid(BUSY.into())),
        Err(Busy::Change) => Err(waits()),
    }
}

/// Puts a step experiment in the tray.
pub async fn experiment(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    campaign: CampaignId,
    lever: Lever,
) -> Result<(), DeskError> {
    let settings = Settings::of_account(db, account.id).await?;
    let base = present(&settings, campaign, lever)?;
    let steps = experiment::steps(base);
    let (up, down) = (steps[0].1, steps[1].1);
    let (unit, shows) = match lever {
        Lever::Budget => (" a day", "what more money brings"),
        Lever::Bid => ("", "how its clicks answer to its bids"),
    };
    let reason = format!(
        "A step experiment: a week at {}{unit}, two at {}, one at {} again, then {} as before. It shows {shows}.",
        money(up),
        money(down),
        money(up),
        money(base)
    );
    let set = setting(&settings, campaign, lever, up)?;
    let first = Proposal::new(Subject::Campaign(campaign), set, Origin::Hand, reason).expecting(
        "about the same spend over the four weeks, and an answer that is known better",
        Adds::default(),
    );
    begin(db, account, person, (Kind::Experiment, lever), base, &steps, first).await
}

/// Days between two steps of a bid: time for one to be looked back on before the next (common practice, no source).
pub const BID_STEP_DAYS: u64 = 14;

/// Puts the first of several steps of what stands for a campaign's bid in the tray; `first` is the change to it, with
/// its reason, `numbers` are the steps.
pub async fn bid_steps(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    numbers: &[f64],
    first: Proposal,
) -> Result<(), DeskError> {
    let Subject::Campaign(campaign) = first.subject else {
        return Err(DeskError::NotFound("campaign"));
    };
    let settings = Settings::of_account(db, account.id).await?;
    let base = bid(&settings, campaign)?;
    let steps: Vec<(u64, f64)> =
        (0..).step_by(BID_STEP_DAYS as usize).zip(numbers.iter().copied()).collect();
    begin(db, account, person, (Kind::Ramp, Lever::Bid), base, &steps, first).await
}

/// Puts the first step of a ramp in the tray; `first` is the change to the goal, with its reason, `budgets` the
/// steps that lead there.
pub(crate) async fn ramp_to(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    from: PerDay,
    budgets: &[PerDay],
    mut first: Proposal,
) -> Result<(), DeskError> {
    let steps: Vec<(u64, f64)> =
        (0..).step_by(RAMP_DAYS as usize).zip(budgets.iter().map(|b| b.units())).collect();
    let Some((_, amount)) = steps.first() else { return Ok(()) };
    first.set = Setting::Budget(Budget::Daily { amount: Micros::from_units(*amount) });
    // What is left unspent of a budget is no step down.
    let below = *amount < (1.0 - SHOCK) * from.units() - 0.01;
    let counted = if below { ", counted from what it spends," } else { "," };
    first.reason = format!(
        "{} In {} steps of {}% at most{counted} {RAMP_DAYS} days apart; the later ones are sent by themselves.",
        first.reason,
        steps.len(),
        number(100.0 * SHOCK, 0)
    );
    begin(db, account, person, (Kind::Ramp, Lever::Budget), from.units(), &steps, first).await
}

/// Sets a lift on dates: its steps are sent by themselves on their days.
pub async fn lift(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    campaign: CampaignId,
    by: Lift,
    dates: Window,
) -> Result<(), DeskError> {
    let settings = Settings::of_account(db, account.id).await?;
    let base = daily(&settings, campaign)?;
    let next = settings.connection(campaign).and_then(|c| c.last_day).map(|d| later(d, 1));
    if next.is_some_and(|next| dates.from() < next) {
        return Err(DeskError::Invalid(format!(
            "a lift can begin on {} at the earliest",
            next.map_or(String::new(), crate::numerals::full_day)
        )));
    }
    if dates.days() > 92 {
        return Err(DeskError::Invalid(
            "a lift lasts 92 days at most; change the budget instead".into(),
        ));
    }
    let lifted = account.coins(Micros::from_units(by.applied(PerDay(base)).units())).to_units();
    if lifted <= base {
        return Err(DeskError::Invalid("a lift raises the budget; type an amount above 0".into()));
    }
    let new = New {
        campaign,
        kind: Kind::Lift,
        lever: Lever::Budget,
        steps: json(&[(0, lifted), (dates.days(), base)])?,
        base: Micros::from_units(base).get(),
        starts: Some(dates.from()),
    };
    store::add(db, account.id, person, &new)
        .await?
        .map(drop)
        .ok_or_else(|| DeskError::Invalid(BUSY.into()))
}

/// Stops a course: no further step is sent; the budget stays as it is. A step that waits leaves the tray: it was
/// decided on as one of several.
pub async fn stop(db: &PgPool, account: &Account, id: CourseId) -> Result<(), DeskError> {
    let all = list(db, account).await?;
    let course = all.iter().find(|c| c.id() == id).ok_or(DeskError::NotFound("course"))?;
    if !course.plan.open() {
        return Ok(());
    }
    if tray::withdraw(db, account, course.row.latest.as_slice()).await? > 0 {
        return Ok(());
    }
    halt(db, account, course, "by hand; what it had set stays as it was then").await
}

async fn halt(
    db: &PgPool,
    account: &Account,
    course: &Course,
    note: &str,
) -> Result<(), DeskError> {
    let row = &course.row;
    let to = Progress { state: State::Stopped, starts: row.starts, taken: row.taken, note };
    store::progress(db, account.id, row, &to, None).await?;
    Ok(())
}

/// A step that will be taken by itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Due {
    /// On which day.
    pub day: NaiveDate,
    /// Of which campaign.
    pub campaign: CampaignId,
}

/// The next step of each of the account's open courses.
pub async fn due(db: &PgPool, account: &Account) -> Result<Vec<Due>, DeskError> {
    let all = list(db, account).await?;
    let open = all.iter().filter(|c| c.plan.open());
    let step = |c: &Course| Some(Due { day: c.plan.next_step()?.0, campaign: c.campaign });
    Ok(open.filter_map(step).collect())
}

/// Takes the steps that are due, and sends what courses have put in the tray: also what somebody left there who died
/// before sending it.
pub(crate) async fn advance(db: &PgPool, account: &Account) -> Result<(), DeskError> {
    take_steps(db, account).await?;
    send_steps(db, account).await
}

/// Puts the steps that are due in the tray; `advance` sends them.
pub async fn take_steps(db: &PgPool, account: &Account) -> Result<(), DeskError> {
    let refused = |c: &Course| c.plan.state == State::Done && c.latest() == Latest::Refused;
    let all = list(db, account).await?;
    let moving: Vec<Course> = all.into_iter().filter(|c| c.plan.open() || refused(c)).collect();
    if moving.is_empty() {
        return Ok(());
    }
    let settings = Settings::of_account(db, account.id).await?;
    for course in moving {
        match take_step(db, account, &settings, &course).await {
            // What can't be set stops the course, and says why.
            Err(DeskError::Invalid(why)) => halt(db, account, &course, &why).await?,
            other => other?,
        }
    }
    Ok(())
}

async fn take_step(
    db: &PgPool,
    account: &Account,
    settings: &Settings,
    course: &Course,
) -> Result<(), DeskError> {
    let next_day =
        settings.connection(course.campaign).and_then(|c| c.last_day).map(|d| later(d, 1));
    let lever = course.plan.lever;
    let present = present(settings, course.campaign, lever).map(Micros::from_units);
    let now = Now { latest: course.latest(), next_day, present: present.as_ref().ok().copied() };
    let (to, set) = match course.plan.next_move(&now) {
        Move::Wait => return Ok(()),
        Move::Stop(Why::Refused) => {
            return halt(db, account, course, "the channel refused a step of it").await;
        }
        Move::Stop(Why::Changed(now)) => {
            let now = money(now.to_units());
            let what = if lever == Lever::Budget { "budget" } else { "bid" };
            let note = format!("its {what} was changed to {now} meanwhile, and stays there");
            return halt(db, account, course, &note).await;
        }
        Move::Stop(Why::Gone) => return present.map(drop),
        Move::Go { to, set } => (to, set),
    };
    let step = match set {
        None => None,
        Some(amount) => {
            let reason = format!(
                "Step {} of {} of the {}.",
                to.taken,
                to.steps.len(),
                words::course(course.plan.kind)
            );
            let set = setting(settings, course.campaign, lever, amount.to_units())?;
            let of = Subject::Campaign(course.campaign);
            let step = Proposal::new(of, set, Origin::Course, reason);
            tray::ready(db, account, vec![step]).await?.pop()
        }
    };
    let to = Progress {
        state: to.state,
        starts: to.starts,
        taken: i32::try_from(to.taken).unwrap_or(i32::MAX),
        note: "",
    };
    match store::progress(db, account.id, &course.row, &to, step.as_ref()).await? {
        Moved::Done | Moved::Meanwhile => Ok(()),
        Moved::Waits => {
            Err(DeskError::Invalid("the same waits in the tray already, put there by hand".into()))
        }
    }
}

/// Sends each for itself: one that can't be sent stops its own course only.
async fn send_steps(db: &PgPool, account: &Account) -> Result<(), DeskError> {
    for id in store::unsent(db, account.id).await? {
        match sending::send(db, account, &[id]).await {
            Err(DeskError::Invalid(why)) => {
                changes::withdraw(db, account.id, &[id], &why).await?;
            }
            other => drop(other?),
        }
    }
    Ok(())
}
