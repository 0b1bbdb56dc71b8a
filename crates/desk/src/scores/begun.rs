//! What is said of what begins, by the figures of the evening before: what campaigns will bring at other budgets, and what
//! experiments will measure.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use tiller_core::Micros;
use tiller_core::Window;
use tiller_core::change_effect::spells::Change;
use tiller_core::ids::CampaignId;
use tiller_core::response::experiment::{self, will_measure, would_leave};
use tiller_core::response::regression::Prior;
use tiller_core::score::Kind;
use tiller_core::window::{earlier, later};
use tiller_store::PgPool;
use tiller_store::scores::{self as store, NewBudget, Said, Statement};

use super::LEVEL;
use super::evening::Evening;
use crate::DeskError;
use crate::book::Book;
use crate::courses::{Course, Kind as CourseKind, Lever};

/// What began longer ago is let be.
const LATELY: u64 = 7;

/// What begins on the day after an evening.
#[derive(Default)]
pub(super) struct Begun {
    budgets: Vec<NewBudget>,
    experiments: Vec<CampaignId>,
}

/// What has begun lately and has nothing said of it yet, by the evening before.
pub(super) async fn since(
    db: &PgPool,
    book: &Book,
    courses: &[Course],
    last_day: NaiveDate,
) -> Result<BTreeMap<NaiveDate, Begun>, DeskError> {
    let (account, since) = (book.account.id, earlier(last_day, LATELY));
    let mut all: BTreeMap<NaiveDate, Begun> = BTreeMap::new();
    let said = store::said(db, account, Kind::NewBudget, earlier(since, 1)).await?;
    for new in store::new_budgets(db, account, since).await? {
        let evening = earlier(new.from, 1);
        if new.from <= last_day && !said.contains(&(new.campaign, evening)) {
            all.entry(evening).or_default().budgets.push(new);
        }
    }
    let said = store::said(db, account, Kind::Measured, earlier(since, 1)).await?;
    for course in courses.iter().filter(|c| of_money(c)) {
        let Some(starts) = course.plan.starts.filter(|s| (since..=last_day).contains(s)) else {
            continue;
        };
        if !said.contains(&(course.campaign, earlier(starts, 1))) {
            all.entry(earlier(starts, 1)).or_default().experiments.push(course.campaign);
        }
    }
    Ok(all)
}

/// Whether a course is an experiment with a budget.
pub(super) fn of_money(course: &Course) -> bool {
    course.plan.kind == CourseKind::Experiment && course.plan.lever == Lever::Budget
}

/// What is said of it.
pub(super) fn statements(evening: &Evening, all: &Begun) -> Vec<Statement> {
    let budgets = all.budgets.iter().filter_map(|new| at_budget(evening, new));
    budgets.chain(all.experiments.iter().filter_map(|c| measured(evening, *c))).collect()
}

/// What a campaign will bring at another budget, in the days that the change is judged by.
fn at_budget(evening: &Evening, new: &NewBudget) -> Option<Statement> {
    let of = evening.spenders.iter().find(|l| l.campaign == new.campaign)?;
    let (from, look_back) = (new.from, new.look_back);
    let change = Change { of: (), from, look_back, watched_from: None, changes: 1 };
    let about = change.window(evening.book.account.settle_days())?;
    let a_day = of.spend + Micros::new(new.spend_a_day).to_units();
    (a_day > 0.0).then(|| evening.will_bring(Kind::NewBudget, of, a_day, about))?
}

/// What an experiment will measure of a campaign's elasticity.
fn measured(evening: &Evening, campaign: CampaignId) -> Option<Statement> {
    let of = evening.spenders.iter().find(|l| l.campaign == campaign)?;
    let (_, fitted) = evening.curves.of(campaign)?;
    let curve = &fitted.curve;
    let known = Prior { mean: curve.elasticity, deviation: curve.elasticity_error };
    let a_day = of.budget_response.response.at(of.spend);
    let leaves = would_leave(a_day, curve.dispersion, curve.follows);
    let about = Window::new(later(evening.day, 1), later(evening.day, experiment::DAYS))?;
    (a_day > 0.0).then(|| Statement {
        kind: Kind::Measured,
        campaign,
        said_on: evening.day,
        about,
        due: later(about.to(), evening.book.account.settle_days()),
        target: None,
        said: Said::Within(will_measure(known, leaves, LEVEL)),
    })
}
