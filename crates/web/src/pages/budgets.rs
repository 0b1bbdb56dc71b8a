//! Budgets: plans made, edited, solved, compared, taken away as files.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use tiller_core::allocation::{Answer, Goal, Response as Curve, Solved, Totals};
use tiller_core::steps::Step;
use tiller_desk::advice::Advised;
use tiller_desk::book::Book;
use tiller_desk::budgets::responses;
use tiller_desk::numerals::{self, count, money, number, signed, sum};
use tiller_desk::plans::file::PlanFile;
use tiller_desk::plans::{Opened, answer, words};
use tiller_desk::{CampaignId, DeskError, PlanId, courses, plans as desk, steps};

use crate::App;
use crate::error::PageError;
use crate::extract::{Editor, Id, Member};
use crate::frame::{Frame, Station, span};
use crate::pages::advice::{self, Advice};
use crate::pages::flight::CourseView;
use crate::pages::spend::NoReports;
use crate::pages::tray::{put, said};
use crate::pages::{book, book_of_reports, csv_file, download, plain};
use crate::params::Params;
use crate::sent::Sent;

/// A plan in the list.
pub struct Listed {
    id: PlanId,
    href: String,
    name: String,
    goal: &'static str,
    total: String,
    gain: String,
    tone: &'static str,
    days: String,
    changed: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "budgets.html")]
struct BudgetsPage {
    advice: Option<Advice>,
    frame: Frame,
    plans: Vec<Listed>,
    campaigns: Vec<CampaignLine>,
    courses: Vec<CourseView>,
}

impl BudgetsPage {
    fn has_steps(&self) -> bool {
        self.campaigns.iter().any(|c| c.step.is_some())
    }
}

/// A campaign with its money.
pub struct CampaignLine {
    name: String,
    base: String,
    budget: String,
    spend: String,
    answers: String,
    step: Option<StepView>,
}

/// A step that three days speak for.
pub struct StepView {
    button: String,
    up: bool,
    to: String,
    told: String,
}

/// A campaign that may become a line.
pub struct Choice {
    id: CampaignId,
    name: String,
    channel: String,
    spend: String,
    conversions: String,
    unfit: &'static str,
}

#[derive(Template, WebTemplate)]
#[template(path = "budgets_new.html")]
struct NewPage {
    frame: Frame,
    choices: Vec<Choice>,
    name: String,
    wrong: Option<String>,
}

/// A line in two plans.
pub struct BothLine {
    id: String,
    now: String,
    cells: Vec<(String, String, &'static str)>,
}

#[derive(Template, WebTemplate)]
#[template(path = "plan_compare.html")]
struct ComparePage {
    frame: Frame,
    names: Vec<(String, String)>,
    lines: Vec<BothLine>,
    totals: Vec<(&'static str, Vec<String>)>,
    choices: Vec<(PlanId, String, bool, bool)>,
}

/// The account's plans.
pub async fn list(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    let (frame, advised, book) = match book(&app.db, &member, &params).await? {
        Some(book) => {
            let frame = Frame::of_book(&member, Station::Budgets, &params, &book)
                .with_causes(book.judge_all().iter().flatten());
            let advised = tiller_desk::advice::of_account(&app.db, &book).await?;
            (frame, advised, book)
        }
        None => {
            let frame = Frame::new(&member, Station::Budgets, &params);
            return Ok(NoReports {
                frame,
                title: "Budgets",
                what: "plans: the same money, better placed",
            }
            .into_response());
        }
    };
    let plans = desk::list(&app.db, &member.account).await?;
    let listed = |o: &Opened| {
        let solved = optimal(&o.file);
        let gain = solved.as_ref().map(|s| s.objective - s.present);
        Listed {
            id: o.plan.id,
            href: format!("{}/budgets/{}{}", frame.base(), o.plan.id, frame.days),
            name: o.plan.name.clone(),
            goal: words::title(o.file.goal),
            total: money(o.file.total.amount),
            gain: gain.map_or("limits contradict each other".into(), |g| {
                format!("{} {}", signed(g, count), words::unit(o.file.goal))
            }),
            tone: if gain.is_some_and(|g| (g >= 0.0) != (o.file.goal == Goal::LeastSpend)) {
                "gain"
            } else {
                "harm"
            },
            days: if desk::of_a_month(&o.file) {
                format!("days to {}", numerals::day(o.plan.window.to()))
            } else {
                span(o.plan.window)
            },
            changed: o.plan.updated_at.format("%-d %b, %H:%M UTC").to_string(),
        }
    };
    let plans = plans.iter().map(listed).collect();
    let advice = advice::of(&advised, &book, &frame);
    let campaigns = campaign_lines(&book, &advised, &frame);
    let courses = courses::list(&app.db, &member.account)
        .await?
        .iter()
        .take(MOST_COURSES)
        .filter_map(|c| {
            let name = &book.entry(c.campaign).ok()?.campaign.name;
            Some(CourseView::new(c, name, &frame.base()))
        })
        .collect();
    Ok(BudgetsPage { plans, advice, campaigns, courses, frame }.into_response())
}

/// So many courses are listed.
const MOST_COURSES: usize = 12;

/// Every campaign that has spent lately, the most money first, with the step that its last days speak for.
fn campaign_lines(book: &Book, advised: &Advised, frame: &Frame) -> Vec<CampaignLine> {
    let steps = steps::of_account(book, advised);
    let mut lines: Vec<&responses::Spender> = advised.known.iter().collect();
    lines.sort_by(|a, b| b.spend.total_cmp(&a.spend));
    let line = |l: &&responses::Spender| CampaignLine {
        name: l.name.clone(),
        base: format!("{}/budgets/campaigns/{}", frame.base(), l.campaign),
        budget: numerals::or_absent(l.budget, money),
        spend: money(l.spend),
        answers: match (l.budget_response.response, l.budget_response.capacity.most) {
            (Curve::Constant { .. }, Some(most)) => {
                format!("straight, to {} a day", money(most.max(l.spend)))
            }
            (Curve::Constant { .. }, None) => "straight, its end not known".into(),
            (Curve::Power { elasticity, .. }, _) => {
                format!("+1% money, +{}% results", number(elasticity, 2))
            }
            (Curve::Saturating { half_at, .. }, _) => {
                format!("half of its limit at {} a day", money(half_at))
            }
        },
        step: steps.iter().find(|s| s.campaign == l.campaign).map(|s| StepView {
            button: s.offer().button(),
            up: s.advice.step == Step::Up,
            to: money(s.to(false)),
            told: s.told(),
        }),
    };
    lines.iter().map(line).collect()
}

/// Puts steps in the tray.
pub async fn step(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let double = fields.text("up_by") == "double";
    let outcome = steps::take(&app.db, &book, sent.person(), &fields.buttons(), double).await;
    said(&sent, outcome.map(put)).await
}

pub(super) fn optimal(file: &PlanFile) -> Option<Solved> {
    match file.problem().answer() {
        Ok(Answer::Optimal(solved)) => Some(solved),
        _ => None,
    }
}

fn new_page(
    member: &Member,
    params: &Params,
    book: &Book,
    name: String,
    wrong: Option<String>,
) -> NewPage {
    let choices = desk::choices(book)
        .into_iter()
        .map(|c| {
            let tally = c.entry.tally(book.period.window);
            Choice {
                id: c.entry.campaign.id,
                name: c.entry.campaign.name.clone(),
                channel: c.entry.campaign.channel.clone(),
                spend: sum(tally.spend.to_units()),
                conversions: count(tally.conversions),
                unfit: c.unfit.unwrap_or_default(),
            }
        })
        .collect();
    NewPage { frame: Frame::of_book(member, Station::Budgets, params, book), choices, name, wrong }
}

/// Which campaigns a new plan is about.
pub async fn choose(
    Editor(member): Editor,
    State(app): State<App>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let name = format!("Plan of {}", numerals::full_day(book.span.to()));
    Ok(new_page(&member, &params, &book, name, None))
}

/// Makes the plan.
pub async fn create(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let name = fields.text("name").to_owned();
    let chosen: Vec<CampaignId> = fields.ids("campaign", CampaignId);
    let (_, known) = desk::known(&app.db, &book).await?;
    let made = match desk::draft(&book, &known, &chosen) {
        Ok(file) => desk::add(&app.db, &member.account, sent.person(), &name, &book, &file).await,
        Err(error) => Err(error),
    };
    match made {
        Ok(id) => Ok(sent.on_to(&format!("budgets/{id}")).into_response()),
        Err(DeskError::Invalid(wrong)) => Ok((
            StatusCode::UNPROCESSABLE_ENTITY,
            new_page(member, params, &book, name, Some(wrong)),
        )
            .into_response()),
        Err(error) => Err(error.into()),
    }
}

/// Copies a plan.
pub async fn duplicate(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id<PlanId>,
) -> Result<Redirect, PageError> {
    let copy = desk::duplicate(&app.db, &member.account, member.person.id, id).await?;
    Ok(Redirect::to(&member.path(&format!("budgets/{copy}"))))
}

/// Removes a plan.
pub async fn remove(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id<PlanId>,
) -> Result<Redirect, PageError> {
    desk::remove(&app.db, &member.account, id).await?;
    Ok(Redirect::to(&member.path("budgets")))
}

/// The plan as CSV.
pub async fn csv(
    member: Member,
    State(app): State<App>,
    Id(id): Id<PlanId>,
) -> Result<Response, PageError> {
    let opened = desk::open(&app.db, &member.account, id).await?;
    let contradiction = || {
        PageError::Invalid("The limits of this plan contradict each other, so there are no budgets to export. Repair it first.".into())
    };
    let solved = optimal(&opened.file).ok_or_else(contradiction)?;
    let header = [
        "line",
        "group",
        "currency",
        "days",
        "present",
        "budget",
        "change",
        "present_conversions",
        "conversions",
        "value",
        "marginal",
        "held_by",
    ]
    .map(str::to_owned);
    let file = &opened.file;
    let rows = file.lines.iter().zip(&solved.lines).map(|(l, a)| {
        let present = desk::present_conversions(l, file.days);
        vec![
            l.id.clone(),
            l.group.clone().unwrap_or_default(),
            file.currency.clone(),
            plain(Some(file.days)),
            plain(Some(l.current)),
            plain(Some(a.budget)),
            plain(Some(a.budget - l.current)),
            plain(Some(present)),
            plain(Some(a.conversions)),
            plain(a.value),
            plain(Some(a.marginal)),
            answer::held_word(a.held_by).to_owned(),
        ]
    });
    csv_file(&format!("{}.csv", opened.plan.name), &header, rows)
}

/// The plan file, as `gold-tiller allocate` takes it.
pub async fn json(
    member: Member,
    State(app): State<App>,
    Id(id): Id<PlanId>,
) -> Result<Response, PageError> {
    let opened = desk::open(&app.db, &member.account, id).await?;
    let text = serde_json::to_string_pretty(&opened.file)
        .map_err(|e| PageError::Internal(e.to_string()))?;
    Ok(download("application/json", &format!("{}.json", opened.plan.name), text + "\n"))
}

/// Two plans side by side.
pub async fn compare(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    let all = desk::list(&app.db, &member.account).await?;
    let pick = |name: &str, otherwise: usize| -> Result<Option<&Opened>, PageError> {
        let id: Option<i64> = params.number(name)?;
        Ok(match id {
            Some(id) => all.iter().find(|o| o.plan.id.0 == id),
            None => all.get(otherwise),
        })
    };
    let chosen: Vec<&Opened> = [pick("a", 0)?, pick("b", 1)?].into_iter().flatten().collect();
    if chosen.len() < 2 {
        return Err(PageError::NotFound(
            "Two plans are needed to compare. Save another, or duplicate the one that you have."
                .into(),
        ));
    }
    let solved: Vec<Option<Solved>> = chosen.iter().map(|o| optimal(&o.file)).collect();
    let mut ids: Vec<(&str, f64)> = Vec::new();
    for line in chosen.iter().flat_map(|o| &o.file.lines) {
        if ids.iter().all(|(id, _)| *id != line.id) {
            ids.push((&line.id, line.current));
        }
    }
    let lines = ids
        .into_iter()
        .map(|(id, now)| {
            let cell = |(o, s): (&&Opened, &Option<Solved>)| {
                let place = o.file.lines.iter().position(|l| l.id == id);
                let answer = place.zip(s.as_ref()).map(|(i, s)| s.lines[i]);
                answer.map_or((numerals::ABSENT.into(), String::new(), "quiet"), |a| {
                    (money(a.budget), signed(a.budget - now, money), "quiet")
                })
            };
            BothLine {
                id: id.to_owned(),
                now: money(now),
                cells: chosen.iter().zip(&solved).map(cell).collect(),
            }
        })
        .collect();
    let total =
        |of: &dyn Fn(&Totals) -> Option<f64>, text: &dyn Fn(f64) -> String| -> Vec<String> {
            solved
                .iter()
                .map(|s| numerals::or_absent(s.as_ref().and_then(|s| of(&s.totals)), text))
                .collect()
        };
    let totals = vec![
        ("Budget", total(&|t| Some(t.budget), &money)),
        ("Conversions", total(&|t| Some(t.conversions), &count)),
        ("CPA", total(&Totals::cpa, &money)),
        ("Value", total(&|t| t.value, &money)),
        ("ROAS", total(&Totals::roas, &|x| number(x, 2))),
    ];
    let frame = Frame::new(&member, Station::Budgets, &params);
    let link = |o: &&Opened| {
        (o.plan.name.clone(), format!("{}/budgets/{}{}", frame.base(), o.plan.id, frame.days))
    };
    let choices = all
        .iter()
        .map(|o| {
            (
                o.plan.id,
                o.plan.name.clone(),
                o.plan.id == chosen[0].plan.id,
                o.plan.id == chosen[1].plan.id,
            )
        })
        .collect();
    Ok(ComparePage { names: chosen.iter().map(link).collect(), lines, totals, choices, frame }
        .into_response())
}
