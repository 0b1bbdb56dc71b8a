//! Courses: dated steps of a campaign's daily budget, decided once and then sent by themselves: the step
//! experiment, a budget lift, a ramp to a budget that would be a shock at once.

use chrono::NaiveDate;
use tiller_core::flight::By;
use tiller_core::ids::{CampaignId, ChangeId, CourseId, PersonId};
use tiller_core::learning::SHOCK;
use tiller_core::response::experiment;
use tiller_core::setting::{Budget, Setting};
use tiller_core::window::later;
use tiller_core::{Micros, Window};
use tiller_store::changes::{self, Change, State, Which};
use tiller_store::courses::{self as store, Busy, New, Progress};
use tiller_store::people::Account;
use tiller_store::{PgPool, StoreError};

use crate::DeskError;
use crate::account::settings::Settings;
use crate::numerals::{money, number};
use crate::tray::proposal::{Adds, Origin, Proposal};
use crate::tray::{self, sending};
use tiller_core::spot::Subject;

/// Days between the steps of a ramp, by who makes the bids: what an automatic strategy needs at least to learn, or
/// three days that show the last step was right (common practice, no source).
fn ramp_days(by_strategy: bool) -> u64 {
    if by_strategy { 7 } else { 3 }
}

/// What a course is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Up and down in alternate weeks, to learn the curve.
    Experiment,
    /// Higher on some dates.
    Lift,
    /// To another budget in steps.
    Ramp,
}

impl Kind {
    const ALL: [(Self, &'static str, &'static str); 3] = [
        (Self::Experiment, "experiment", "step experiment"),
        (Self::Lift, "lift", "budget lift"),
        (Self::Ramp, "ramp", "ramp"),
    ];

    fn word(self) -> &'static str {
        Self::ALL.iter().find(|k| k.0 == self).map_or("", |k| k.1)
    }

    /// For people.
    pub fn title(self) -> &'static str {
        Self::ALL.iter().find(|k| k.0 == self).map_or("", |k| k.2)
    }
}

/// A course as it stands.
#[derive(Clone, Debug)]
pub struct Course {
    row: store::Course,
    /// The campaign.
    pub campaign: CampaignId,
    /// What it is for.
    pub kind: Kind,
    /// Days after the first, and the budget a day from then on.
    pub steps: Vec<(u64, Micros)>,
    /// What was set before.
    pub base: Micros,
}

impl Course {
    fn read(row: store::Course) -> Result<Self, DeskError> {
        let steps: Vec<(u64, i64)> =
            serde_json::from_value(row.steps.clone()).map_err(StoreError::from)?;
        let kind = Kind::ALL.iter().find(|k| k.1 == row.kind).map_or(Kind::Ramp, |k| k.0);
        Ok(Self {
            campaign: row.campaign,
            kind,
            steps: steps.into_iter().map(|(after, m)| (after, Micros::new(m))).collect(),
            base: Micros::new(row.base),
            row,
        })
    }

    /// Its id.
    pub fn id(&self) -> CourseId {
        self.row.id
    }

    /// Whether steps are still to come.
    pub fn open(&self) -> bool {
        matches!(self.row.state.as_str(), "waiting" | "running")
    }

    /// The first step's first day, once known.
    pub fn starts(&self) -> Option<NaiveDate> {
        self.row.starts
    }

    /// How it stands, in words.
    pub fn standing(&self) -> String {
        match self.row.state.as_str() {
            "waiting" => "its first step waits in the tray".into(),
            "running" => match self.next() {
                Some((day, amount)) => {
                    format!("{} a day from {}", money(amount.to_units()), crate::numerals::day(day))
                }
                None => "its last step is being sent".into(),
            },
            "done" => "done".into(),
            _ => format!("stopped: {}", self.row.note),
        }
    }

    fn taken(&self) -> usize {
        usize::try_from(self.row.taken).unwrap_or(0)
    }

    /// The next step with its day.
    fn next(&self) -> Option<(NaiveDate, Micros)> {
        let (after, amount) = self.steps.get(self.taken())?;
        Some((later(self.row.starts?, *after), *amount))
    }

    /// Whether a day was one of its steps up or down, told by the budget that the channel says the day had: a step
    /// may have been taken late.
    pub fn side(&self, day: NaiveDate, budget: Option<Micros>) -> Option<bool> {
        let (starts, last) = (self.row.starts?, self.steps.last()?.0);
        let within = day >= starts && day < later(starts, 2 * last);
        let taken = self.steps.iter().take(self.taken()).map(|s| Some(s.1));
        let step = taken.into_iter().find(|amount| within && *amount == budget)??;
        (step != self.base).then_some(step > self.base)
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

fn step_to(campaign: CampaignId, amount: f64, reason: String, effect: String) -> Proposal {
    Proposal {
        subject: Subject::Campaign(campaign),
        set: Setting::Budget(Budget::Daily { amount: Micros::from_units(amount) }),
        reason,
        evidence: Vec::new(),
        effect,
        adds: Adds::default(),
        origin: Origin::Course,
        undoes: None,
    }
}

/// Steps as they can be set: what is set is compared with them later.
fn in_coins(account: &Account, steps: &[(u64, f64)]) -> Vec<(u64, f64)> {
    let coins = |x: f64| account.coins(Micros::from_units(x)).to_units();
    steps.iter().map(|(after, amount)| (*after, coins(*amount))).collect()
}

const BUSY: &str = "its budget is on a course already; stop that one first";

/// Puts the first step in the tray; the others follow by themselves once it has been made.
async fn begin(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    kind: Kind,
    base: f64,
    steps: &[(u64, f64)],
    first: Proposal,
) -> Result<(), DeskError> {
    let Subject::Campaign(campaign) = first.subject else {
        return Err(DeskError::NotFound("campaign"));
    };
    if list(db, account).await?.iter().any(|c| c.campaign == campaign && c.open()) {
        return Err(DeskError::Invalid(BUSY.into()));
    }
    let waits = || DeskError::Invalid("this budget waits in the tray already".into());
    let first = tray::ready(db, account, vec![first]).await?.pop().ok_or_else(waits)?;
    let new = New {
        campaign,
        kind: kind.word(),
        steps: json(&in_coins(account, steps))?,
        base: Micros::from_units(base).get(),
        starts: None,
        change: None,
    };
    match store::begin(db, account.id, person, new, &first).await? {
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
) -> Result<(), DeskError> {
    let settings = Settings::open(db, account).await?;
    let base = daily(&settings, campaign)?;
    let budgets = experiment::budgets(base);
    let steps: Vec<(u64, f64)> =
        (0..).step_by(experiment::STEP_DAYS as usize).zip(budgets.iter().copied()).collect();
    let first = step_to(
        campaign,
        budgets[0],
        format!(
            "A step experiment: {} and {} a day in alternate weeks, four weeks in all, then {} again. It shows what more money brings.",
            money(budgets[0]),
            money(budgets[1]),
            money(base)
        ),
        "about the same spend over the four weeks, and a curve that is known better".into(),
    );
    begin(db, account, person, Kind::Experiment, base, &steps, first).await
}

/// Puts the first step of a ramp in the tray; `first` is the change to the goal, with its reason, `budgets` the
/// steps that lead there.
pub(crate) async fn ramp_to(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    from: f64,
    budgets: &[f64],
    mut first: Proposal,
    by_strategy: bool,
) -> Result<(), DeskError> {
    let apart = ramp_days(by_strategy);
    let steps: Vec<(u64, f64)> =
        (0..).step_by(apart as usize).zip(budgets.iter().copied()).collect();
    let Some((_, amount)) = steps.first() else { return Ok(()) };
    first.set = Setting::Budget(Budget::Daily { amount: Micros::from_units(*amount) });
    // What is left unspent of a budget is no step down.
    let below = *amount < (1.0 - SHOCK) * from - 0.01;
    let counted = if below { ", counted from what it spends," } else { "," };
    first.reason = format!(
        "{} In {} steps of {}% at most{counted} {apart} days apart; the later ones are sent by themselves.",
        first.reason,
        steps.len(),
        number(100.0 * SHOCK, 0)
    );
    begin(db, account, person, Kind::Ramp, from, &steps, first).await
}

/// Sets a lift on dates: its steps are sent by themselves on their days.
pub async fn lift(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    campaign: CampaignId,
    by: By,
    dates: Window,
) -> Result<(), DeskError> {
    let settings = Settings::open(db, account).await?;
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
    let lifted = account.coins(Micros::from_units(by.applied(base))).to_units();
    if lifted <= base {
        return Err(DeskError::Invalid("a lift raises the budget; type an amount above 0".into()));
    }
    let new = New {
        campaign,
        kind: Kind::Lift.word(),
        steps: json(&[(0, lifted), (dates.days(), base)])?,
        base: Micros::from_units(base).get(),
        starts: Some(dates.from()),
        change: None,
    };
    store::add(db, account.id, person, &new)
        .await?
        .map(drop)
        .ok_or_else(|| DeskError::Invalid(BUSY.into()))
}

/// Stops a course: no further step is sent; the budget stays as it is. A first step that waits leaves the tray: it was
/// decided on as one of several.
pub async fn stop(db: &PgPool, account: &Account, id: CourseId) -> Result<(), DeskError> {
    let all = list(db, account).await?;
    let course = all.iter().find(|c| c.id() == id).ok_or(DeskError::NotFound("course"))?;
    let first = course.row.change.filter(|_| course.row.state == "waiting");
    if tray::withdraw(db, account, first.as_slice()).await? > 0 {
        return Ok(());
    }
    if course.open() {
        halt(db, account, course, "by hand; the budget stays as it was then").await?;
    }
    Ok(())
}

async fn halt(
    db: &PgPool,
    account: &Account,
    course: &Course,
    note: &str,
) -> Result<(), DeskError> {
    let to =
        Progress { state: "stopped", starts: course.row.starts, taken: course.row.taken, note };
    store::progress(db, account.id, &course.row, &to).await?;
    Ok(())
}

/// The first day on which a course that goes on is due its next step.
pub async fn next_due(db: &PgPool, account: &Account) -> Result<Option<NaiveDate>, DeskError> {
    let all = list(db, account).await?;
    Ok(all.iter().filter(|c| c.open()).filter_map(|c| Some(c.next()?.0)).min())
}

/// Takes the steps that are due. A campaign's next day is the one after the last that its channel has closed.
pub(crate) async fn advance(db: &PgPool, account: &Account) -> Result<(), DeskError> {
    let open: Vec<Course> = list(db, account).await?.into_iter().filter(Course::open).collect();
    if open.is_empty() {
        return Ok(());
    }
    let settings = Settings::open(db, account).await?;
    for course in open {
        if let Err(error) = advance_one(db, account, &settings, &course).await {
            match error {
                DeskError::Store(e) => return Err(e.into()),
                // What can't be sent stops the course, and says why.
                other => halt(db, account, &course, &other.to_string()).await?,
            }
        }
    }
    Ok(())
}

async fn advance_one(
    db: &PgPool,
    account: &Account,
    settings: &Settings,
    course: &Course,
) -> Result<(), DeskError> {
    let row = &course.row;
    let mut course = course.clone();
    if row.state == "waiting" {
        let to = match (row.change_state.as_deref(), row.change_from) {
            (Some("made"), from @ Some(_)) => {
                Progress { state: "running", starts: from, taken: 1, note: "" }
            }
            (Some("refused"), _) => {
                return halt(db, account, &course, "the channel refused its first step").await;
            }
            _ => return Ok(()),
        };
        if !store::progress(db, account.id, row, &to).await? {
            return Ok(());
        }
        course.row.state = to.state.into();
        course.row.starts = to.starts;
        course.row.taken = to.taken;
    }
    let next_day =
        settings.connection(course.campaign).and_then(|c| c.last_day).map(|d| later(d, 1));
    let Some((day, _)) = course.next() else { return Ok(()) };
    let Some(next_day) = next_day.filter(|n| *n >= day) else { return Ok(()) };
    let present = Micros::from_units(daily(settings, course.campaign)?);
    let taken = course.taken();
    let believed = if taken == 0 { course.base } else { course.steps[taken - 1].1 };
    if present != believed {
        let note = format!(
            "its budget was changed to {} meanwhile, and stays there",
            money(present.to_units())
        );
        return halt(db, account, &course, &note).await;
    }
    let starts = course.row.starts.unwrap_or(next_day);
    let (due, late) = match course.kind {
        // Where days were missed, the next step is taken all the same and those after it wait as long as before:
        // two at once would be the shock that the steps are there to avoid.
        Kind::Ramp => (taken, (next_day - day).num_days().unsigned_abs()),
        // What was to be higher on certain days is not made up for on others.
        Kind::Experiment | Kind::Lift => {
            let due = course.steps.iter().rposition(|(after, _)| later(starts, *after) <= next_day);
            (due.map_or(taken, |d| d.max(taken)), 0)
        }
    };
    let (_, amount) = course.steps[due];
    let last = due + 1 == course.steps.len();
    let to = Progress {
        state: if last { "done" } else { "running" },
        starts: course.row.starts.map(|s| later(s, late)),
        taken: i32::try_from(due + 1).unwrap_or(i32::MAX),
        note: "",
    };
    // First in the tray, then written down, then sent: whoever dies in between leaves a change that waits, and the
    // next finds it there; of two that come at once, one writes it down.
    if amount != present {
        let person = course.row.created_by.ok_or(DeskError::NotFound("person"))?;
        let reason =
            format!("Step {} of {} of the {}.", due + 1, course.steps.len(), course.kind.title());
        let proposal = step_to(course.campaign, amount.to_units(), reason, String::new());
        tray::put(db, account, person, vec![proposal]).await?;
    }
    if !store::progress(db, account.id, &course.row, &to).await? || amount == present {
        return Ok(());
    }
    let waits = changes::list(db, account.id, Which::Tray).await?;
    let mine = |c: &&Change| {
        c.campaign == course.campaign
            && c.origin == Origin::Course.word()
            && c.state == State::Waiting
    };
    let ids: Vec<ChangeId> = waits.iter().filter(mine).map(|c| c.id).collect();
    if let Err(error) = sending::send(db, account, &ids).await {
        course.row.state = to.state.into();
        course.row.taken = to.taken;
        return halt(db, account, &course, &error.to_string()).await;
    }
    Ok(())
}
