//! A campaign's days: what its budget is a month, a budget by the day or over a flight, and lifts with their preview.

use crate::paths::Paths;
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use chrono::NaiveDate;
use tiller_core::Window;
use tiller_core::flight::{Lift, PerDay, preview};
use tiller_core::setting::Budget;
use tiller_desk::account::settings::Settings;
use tiller_desk::budgets::flight as desk;
use tiller_desk::courses::{self, Course};
use tiller_desk::numerals::{day, full_day, money, typed_number};
use tiller_desk::{CampaignId, CourseId, DeskError, change_words};

use crate::App;
use crate::error::PageError;
use crate::extract::{Editor, Id, Member};
use crate::frame::Frame;
use crate::pages::campaign_budget::{Head, Side, open};
use crate::pages::tray::{put, said};
use crate::params::Params;
use crate::sent::Sent;

/// Bars of a preview stand this high.
const HIGH: f64 = 90.0;

/// A day of a preview.
pub struct DayView {
    day: String,
    budget: String,
    x: f64,
    y: f64,
    height: f64,
    lifted: bool,
}

/// A lift as it was asked for.
pub struct LiftView {
    from: String,
    to: String,
    by: String,
    wrong: Option<String>,
    days: Vec<DayView>,
    total: String,
}

/// A course in a list.
pub struct CourseView {
    /// Its id.
    pub id: CourseId,
    /// What it is.
    pub title: &'static str,
    /// The campaign.
    pub campaign: String,
    /// Its page.
    pub href: String,
    /// How it stands.
    pub standing: String,
    /// Whether it can be stopped.
    pub open: bool,
}

impl CourseView {
    /// Of a course.
    pub fn new(course: &Course, campaign: &str, base: &Paths) -> Self {
        Self {
            id: course.id(),
            title: change_words::course(course.plan.kind),
            campaign: campaign.to_owned(),
            href: base.budget(course.campaign, "flight", &Params::default()),
            standing: course.standing(),
            open: course.plan.open(),
        }
    }
}

#[derive(Template, WebTemplate)]
#[template(path = "flight.html")]
struct FlightPage {
    frame: Frame,
    head: Head,
    budget: String,
    daily: bool,
    flight: Option<(String, String)>,
    lift: LiftView,
    courses: Vec<CourseView>,
}

fn lift(params: &Params) -> Result<Option<(Lift, Window)>, String> {
    let date = |name: &str| params.text(name).parse::<NaiveDate>().ok();
    let by = params.text("by").trim();
    if by.is_empty() && params.text("from_day").is_empty() {
        return Ok(None);
    }
    let dates = date("from_day")
        .zip(date("to_day"))
        .and_then(|(from, to)| Window::new(from, to))
        .ok_or("type the first and the last day; it ends no earlier than it begins")?;
    let by = if by.ends_with('%') {
        typed_number::share(by.trim_start_matches('+'))?.map(Lift::Part)
    } else {
        typed_number::amount(by, None)?.map(|more| Lift::Amount(PerDay(more)))
    };
    let by = by.ok_or("type by how much: an amount a day, or a share such as 50%")?;
    if by.applied(PerDay(1.0)) <= PerDay(1.0) {
        return Err("a lift raises the budget; type an amount above 0".into());
    }
    if dates.days() > 92 {
        return Err("a lift lasts 92 days at most; change the budget instead".into());
    }
    Ok(Some((by, dates)))
}

/// The page; a lift that is asked for in the address is shown day by day.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Id(id): Id<CampaignId>,
    params: Params,
) -> Result<Response, PageError> {
    let asked = lift(&params);
    page(&app, &member, id, &params, asked, None).await
}

async fn page(
    app: &App,
    member: &Member,
    campaign: CampaignId,
    params: &Params,
    asked: Result<Option<(Lift, Window)>, String>,
    refused: Option<String>,
) -> Result<Response, PageError> {
    let (_, frame, head) = open(&app.db, member, params, campaign, Side::Flight).await?;
    let settings = Settings::of_account(&app.db, member.account.id).await?;
    let budget = settings.campaign(campaign).and_then(|c| c.budget);
    let a_day = budget.map(|b| PerDay::from(b.per_day()));
    let (wrong, asked) = match asked {
        Ok(asked) => (refused, asked),
        Err(why) => (Some(why), None),
    };
    let days =
        asked.zip(a_day).map_or(Vec::new(), |((by, dates), budget)| preview(budget, by, dates));
    let most = days.iter().map(|d| d.budget.units()).fold(1.0, f64::max);
    let wide = 640.0 / days.len().max(1) as f64;
    let more: f64 = days.iter().map(|d| d.budget.units() - a_day.map_or(0.0, PerDay::units)).sum();
    let view = LiftView {
        from: params.text("from_day").to_owned(),
        to: params.text("to_day").to_owned(),
        by: params.text("by").to_owned(),
        wrong,
        total: money(more),
        days: days
            .iter()
            .enumerate()
            .map(|(i, d)| DayView {
                day: day(d.day),
                budget: money(d.budget),
                x: (10.0 * wide * i as f64).round() / 10.0,
                height: (10.0 * HIGH * d.budget.units() / most).round() / 10.0,
                y: (10.0 * (HIGH * (1.0 - d.budget.units() / most) + 20.0)).round() / 10.0,
                lifted: d.lifted,
            })
            .collect(),
    };
    let courses = courses::list(&app.db, &member.account).await?;
    let status =
        if view.wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    let body = FlightPage {
        budget: match budget {
            Some(Budget::Daily { amount }) => {
                let a_day = amount.to_units();
                format!(
                    "{} a day. A day may run over, up to twice that; a month is never charged more than 30.4 times it, {}.",
                    money(a_day),
                    money(PerDay(a_day).a_month())
                )
            }
            Some(Budget::Lifetime { amount, starts, ends }) => format!(
                "{} from {} to {}: {} a day.",
                money(amount.to_units()),
                full_day(starts),
                full_day(ends),
                money(a_day.map_or(0.0, PerDay::units))
            ),
            None if frame.connected => {
                "It has no budget of its own: its ad groups have theirs.".into()
            }
            None => "Its budget is not known, since its channel is not connected.".into(),
        },
        daily: matches!(budget, Some(Budget::Daily { .. })),
        flight: match budget {
            Some(Budget::Lifetime { starts, ends, .. }) => Some((full_day(starts), full_day(ends))),
            _ => None,
        },
        lift: view,
        courses: courses
            .iter()
            .filter(|c| c.campaign == campaign)
            .map(|c| CourseView::new(c, &head.name, &frame.base()))
            .collect(),
        head,
        frame,
    };
    Ok((status, body).into_response())
}

/// Sets a lift on its dates.
pub async fn set_lift(Id(id): Id<CampaignId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let typed = fields.iter().fold(params.clone(), |p, (k, v)| p.with(k, v));
    let asked = lift(&typed);
    let outcome = match &asked {
        Ok(Some((by, dates))) => {
            let person = sent.person();
            courses::lift(&app.db, &member.account, person, id, *by, *dates).await
        }
        Ok(None) => Err(DeskError::Invalid("type its days, and by how much".into())),
        Err(why) => Err(DeskError::Invalid(why.clone())),
    };
    match outcome {
        Ok(()) => Ok(sent.on_to(&format!("budgets/campaigns/{id}/flight")).into_response()),
        Err(DeskError::Invalid(why)) => page(app, member, id, &typed, asked, Some(why)).await,
        Err(error) => Err(error.into()),
    }
}

/// Puts the budget, the other way round, in the tray.
pub async fn convert(Id(id): Id<CampaignId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, fields, .. } = &sent;
    let date = |name: &str| fields.read::<NaiveDate>(name);
    let flight = date("starts").zip(date("ends")).and_then(|(from, to)| Window::new(from, to));
    let outcome = desk::convert(&app.db, &member.account, sent.person(), id, flight).await;
    said(&sent, outcome.map(put)).await
}

/// Stops a course.
pub async fn stop(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id<CourseId>,
) -> Result<Redirect, PageError> {
    courses::stop(&app.db, &member.account, id).await?;
    Ok(Redirect::to(&member.path("budgets#courses")))
}
