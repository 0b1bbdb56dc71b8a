//! Budgets: plans made, edited, solved, compared, taken away as files.

use std::collections::HashMap;

use askama::Template;
use askama_web::WebTemplate;
use axum::Form;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use tiller_core::allocation::{Answer, Goal, HeldBy, Response as Curve, Solved, Totals, Use};
use tiller_desk::book::Book;
use tiller_desk::budgets::{self as desk, FieldError, Fields, Opened, THIN};
use tiller_desk::figures::{self, count, money, number, percent, signed, sum};
use tiller_desk::plan_file::{self, PlanFile};
use tiller_desk::wording::Words;
use tiller_desk::{CampaignId, DeskError, PlanId};

use crate::App;
use crate::error::PageError;
use crate::extract::{Editor, Fragment, Id, Member};
use crate::frame::{Frame, Station, span};
use crate::pages::advice::{self, Advice};
use crate::pages::spend::NoReports;
use crate::pages::{book, book_of_reports, csv_file, download, plain};
use crate::params::Params;

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

/// A line of the editor.
pub struct LineView {
    index: usize,
    id: String,
    group: String,
    current: String,
    rates: String,
    thin: bool,
    power: bool,
    elasticity: String,
    floor: String,
    ceiling: String,
    wrong: Vec<String>,
    plan: Option<LinePlan>,
}

/// What the plan gives a line.
pub struct LinePlan {
    budget: String,
    change: String,
    results: String,
    results_change: String,
    results_tone: &'static str,
    marginal: String,
    held: &'static str,
}

/// A number of the whole that can be typed.
pub struct FieldView {
    name: &'static str,
    title: &'static str,
    value: String,
    wrong: Option<String>,
}

/// A figure of the whole, now and planned.
pub struct Compared {
    title: &'static str,
    now: String,
    plan: String,
    change: String,
    tone: &'static str,
}

/// A contradiction with its repairs.
pub struct Infeasible {
    conflicts: Vec<String>,
    repairs: Vec<(usize, String)>,
}

/// The part of the page that every edit renews.
#[derive(Template, WebTemplate)]
#[template(path = "plan_table.html")]
struct PlanTable {
    base: String,
    id: PlanId,
    editor: bool,
    unsaved: bool,
    /// Where its budgets are put in the tray, if they can be.
    tray: Option<String>,
    currency: String,
    days: String,
    headline: Words,
    lead: Words,
    name: String,
    name_wrong: Option<String>,
    goals: Vec<(&'static str, &'static str, bool)>,
    up_to: bool,
    fields: Vec<FieldView>,
    lines: Vec<LineView>,
    compared: Vec<Compared>,
    infeasible: Option<Infeasible>,
    warnings: Vec<String>,
    costs: Vec<(String, String)>,
    next: Option<String>,
}

#[derive(Template, WebTemplate)]
#[template(path = "plan.html")]
struct PlanPage {
    frame: Frame,
    table: PlanTable,
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

const GOALS: [(Goal, &str, &str, &str); 5] = [
    (Goal::Conversions, "conversions", "most conversions", "conversions"),
    (Goal::Value, "value", "most value", "of value"),
    (Goal::Clicks, "clicks", "most clicks", "clicks"),
    (Goal::Profit, "profit", "most profit", "of profit"),
    (Goal::LeastSpend, "least_spend", "least spend for a number", "of spend"),
];

fn goal(goal: Goal) -> (&'static str, &'static str) {
    GOALS.iter().find(|g| g.0 == goal).map_or(("", ""), |g| (g.2, g.3))
}

/// The account's plans.
pub async fn list(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    let (frame, advice) = match book(&app.pool, &member, &params).await? {
        Some(book) => {
            let frame = Frame::of_book(&member, Station::Budgets, &params, &book)
                .with_causes(book.judge_all().iter().flatten());
            let advice = advice::of(&app.pool, &book, &frame).await?;
            (frame, advice)
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
    let plans = desk::list(&app.pool, &member.account).await?;
    let listed = |o: &Opened| {
        let solved = optimal(&o.file);
        let gain = solved.as_ref().map(|s| gain(o.file.goal, s));
        Listed {
            id: o.plan.id,
            href: format!("{}/budgets/{}{}", frame.base(), o.plan.id, frame.days),
            name: o.plan.name.clone(),
            goal: goal(o.file.goal).0,
            total: money(o.file.total.amount),
            gain: gain.map_or("limits contradict each other".into(), |g| {
                format!("{} {}", signed(g, count), goal(o.file.goal).1)
            }),
            tone: if gain.is_some_and(|g| g >= 0.0) { "gain" } else { "harm" },
            days: span(o.plan.window),
            changed: o.plan.updated_at.format("%-d %b, %H:%M UTC").to_string(),
        }
    };
    let plans = plans.iter().map(listed).collect();
    Ok(BudgetsPage { plans, advice, frame }.into_response())
}

fn optimal(file: &PlanFile) -> Option<Solved> {
    match file.problem().answer() {
        Ok(Answer::Optimal(solved)) => Some(solved),
        _ => None,
    }
}

fn of_goal(goal: Goal, t: &Totals, objective: f64) -> f64 {
    match goal {
        Goal::Conversions => t.conversions,
        Goal::Value => t.value.unwrap_or(0.0),
        Goal::Clicks => t.clicks.unwrap_or(0.0),
        Goal::LeastSpend => t.budget,
        Goal::Profit => objective,
    }
}

/// What the plan brings more of the goal than the present.
fn gain(goal: Goal, s: &Solved) -> f64 {
    match goal {
        // The present profit needs each line's margin; the value gained is told instead.
        Goal::Profit => s.totals.value.unwrap_or(0.0) - s.current.value.unwrap_or(0.0),
        _ => of_goal(goal, &s.totals, s.objective) - of_goal(goal, &s.current, 0.0),
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
    let book = book_of_reports(&app.pool, &member, &params).await?;
    let name = format!("Plan of {}", figures::full_day(book.span.to()));
    Ok(new_page(&member, &params, &book, name, None))
}

/// Makes the plan.
pub async fn create(
    Editor(member): Editor,
    State(app): State<App>,
    params: Params,
    Form(form): Form<Vec<(String, String)>>,
) -> Result<Response, PageError> {
    let book = book_of_reports(&app.pool, &member, &params).await?;
    let name = form.iter().find(|(k, _)| k == "name").map_or(String::new(), |(_, v)| v.clone());
    let chosen: Vec<CampaignId> = form
        .iter()
        .filter(|(k, _)| k == "campaign")
        .filter_map(|(_, v)| v.parse().ok().map(CampaignId))
        .collect();
    let made = match desk::draft(&book, &chosen) {
        Ok(file) => {
            desk::add(&app.pool, &member.account, member.person.id, &name, &book, &file).await
        }
        Err(error) => Err(error),
    };
    match made {
        Ok(id) => Ok(Redirect::to(&format!(
            "/accounts/{}/budgets/{id}{}",
            member.account.slug,
            params.only_period()
        ))
        .into_response()),
        Err(DeskError::Invalid(wrong)) => Ok((
            StatusCode::UNPROCESSABLE_ENTITY,
            new_page(&member, &params, &book, name, Some(wrong)),
        )
            .into_response()),
        Err(error) => Err(error.into()),
    }
}

/// One plan.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Id(id): Id,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    let opened = desk::open(&app.pool, &member.account, PlanId(id)).await?;
    page(&app, &member, &params, &opened, &opened.file.clone(), &Fields::new(), Vec::new()).await
}

async fn page(
    app: &App,
    member: &Member,
    params: &Params,
    opened: &Opened,
    file: &PlanFile,
    fields: &Fields,
    errors: Vec<FieldError>,
) -> Result<PlanPage, PageError> {
    let book = book(&app.pool, member, params).await?;
    let frame = match &book {
        Some(book) => Frame::of_book(member, Station::Budgets, params, book),
        None => Frame::new(member, Station::Budgets, params),
    };
    let table = table(&frame, opened, file, fields, errors, book.as_ref());
    Ok(PlanPage { frame, table })
}

/// Solves what is typed, without saving: the answer to every edit. A repair's button makes its change first.
pub async fn solve(
    member: Member,
    State(app): State<App>,
    Id(id): Id,
    Fragment(fragment): Fragment,
    params: Params,
    Form(mut fields): Form<Fields>,
) -> Result<Response, PageError> {
    let opened = desk::open(&app.pool, &member.account, PlanId(id)).await?;
    let mut file = opened.file.clone();
    let errors = desk::edit(&mut file, &fields);
    if let Some(n) = fields.get("repair").and_then(|n| n.parse::<usize>().ok())
        && errors.is_empty()
    {
        if let Answer::Infeasible { repairs, .. } = desk::work(&file).answer
            && let Some(repair) = repairs.get(n)
        {
            desk::mend(&mut file, repair);
        }
        // What the repair changed is shown in its place, not what was typed before.
        fields.retain(|name, _| name == "name");
    }
    if fragment {
        let frame = Frame::new(&member, Station::Budgets, &params);
        let book = book(&app.pool, &member, &params).await?;
        return Ok(table(&frame, &opened, &file, &fields, errors, book.as_ref()).into_response());
    }
    Ok(page(&app, &member, &params, &opened, &file, &fields, errors).await?.into_response())
}

/// Saves what is typed.
pub async fn save(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id,
    params: Params,
    Form(fields): Form<Fields>,
) -> Result<Response, PageError> {
    let opened = desk::open(&app.pool, &member.account, PlanId(id)).await?;
    let mut file = opened.file.clone();
    let mut errors = desk::edit(&mut file, &fields);
    if errors.is_empty() {
        let name = fields.get("name").unwrap_or(&opened.plan.name);
        match desk::save(&app.pool, &member.account, PlanId(id), name, &file).await {
            Ok(()) => {
                return Ok(Redirect::to(&format!(
                    "/accounts/{}/budgets/{id}{}",
                    member.account.slug,
                    params.only_period()
                ))
                .into_response());
            }
            Err(DeskError::Invalid(message)) => {
                errors.push(FieldError { field: "name".into(), message })
            }
            Err(error) => return Err(error.into()),
        }
    }
    let page = page(&app, &member, &params, &opened, &file, &fields, errors).await?;
    Ok((StatusCode::UNPROCESSABLE_ENTITY, page).into_response())
}

/// Copies a plan.
pub async fn duplicate(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id,
) -> Result<Redirect, PageError> {
    let copy = desk::duplicate(&app.pool, &member.account, member.person.id, PlanId(id)).await?;
    Ok(Redirect::to(&format!("/accounts/{}/budgets/{copy}", member.account.slug)))
}

/// Removes a plan.
pub async fn remove(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id,
) -> Result<Redirect, PageError> {
    desk::remove(&app.pool, &member.account, PlanId(id)).await?;
    Ok(Redirect::to(&format!("/accounts/{}/budgets", member.account.slug)))
}

fn typed(x: f64) -> String {
    let text = format!("{x:.6}");
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

fn typed_or_empty(x: Option<f64>) -> String {
    x.map_or(String::new(), typed)
}

fn table(
    frame: &Frame,
    opened: &Opened,
    file: &PlanFile,
    fields: &Fields,
    errors: Vec<FieldError>,
    book: Option<&Book>,
) -> PlanTable {
    let worked = if file.check().is_ok() { Some(desk::work(file)) } else { None };
    let solved = worked.as_ref().and_then(|w| match &w.answer {
        Answer::Optimal(s) => Some(s),
        Answer::Infeasible { .. } => None,
    });
    let errors: HashMap<String, String> =
        errors.into_iter().map(|e| (e.field, e.message)).collect();
    // What could not be read stands as it was typed; the rest as it was understood.
    let shown = |field: &str, understood: String| {
        if errors.contains_key(field) {
            fields.get(field).cloned().unwrap_or(understood)
        } else {
            understood
        }
    };
    let (headline, lead) = headline(file, solved);
    let infeasible = worked.as_ref().and_then(|w| match &w.answer {
        Answer::Infeasible { conflicts, repairs } => Some(Infeasible {
            conflicts: conflicts.iter().map(|c| plan_file::conflict(c).1).collect(),
            repairs: repairs.iter().map(plan_file::repair).enumerate().collect(),
        }),
        Answer::Optimal(_) => None,
    });
    let mut warnings: Vec<String> = solved
        .map_or(Vec::new(), |s| s.warnings.iter().map(|w| plan_file::warning(w).message).collect());
    if let Some((book, solved)) = book.zip(solved) {
        let spare = desk::with_money_to_spare(book, file, solved);
        if !spare.is_empty() {
            warnings.push(format!(
                "{} would get more, yet {} leave{} a fifth or more of the present budget unspent: a higher budget alone buys nothing there. Raise the bid or the target, or set a ceiling.",
                plan_file::listed(&spare),
                if spare.len() == 1 { "it" } else { "they" },
                if spare.len() == 1 { "s" } else { "" }
            ));
        }
    }
    let word = goal(file.goal).1;
    let name = fields.get("name").cloned().unwrap_or_else(|| opened.plan.name.clone());
    PlanTable {
        base: frame.base(),
        id: opened.plan.id,
        editor: frame.editor,
        unsaved: *file != opened.file || name != opened.plan.name,
        tray: (frame.editor && frame.connected && *file == opened.file)
            .then(|| format!("{}/budgets/{}/tray", frame.base(), opened.plan.id)),
        currency: file.currency.clone(),
        days: format!("{} days, rates of {}", number(file.days, 0), span(opened.plan.window)),
        headline,
        lead,
        name_wrong: errors.get("name").cloned(),
        name,
        goals: GOALS.iter().map(|(g, word, title, _)| (*word, *title, *g == file.goal)).collect(),
        up_to: file.total.spend == Use::UpTo,
        fields: whole_fields(file)
            .into_iter()
            .map(|(name, title, value)| FieldView {
                name,
                title,
                value: shown(name, value),
                wrong: errors.get(name).cloned(),
            })
            .collect(),
        lines: (0..file.lines.len()).map(|i| line_view(file, i, solved, &errors, &shown)).collect(),
        compared: solved.map_or(Vec::new(), compared),
        infeasible,
        warnings,
        costs: worked
            .as_ref()
            .map_or(Vec::new(), |w| w.costs.iter().map(|c| cost(c, word)).collect()),
        next: solved.and_then(|s| s.next_1000).map(|x| {
            format!("{} {word}", signed(x, |x| number(x, if x.abs() < 10.0 { 2 } else { 0 })))
        }),
    }
}

/// The numbers of the whole: field, label, what stands there.
fn whole_fields(file: &PlanFile) -> [(&'static str, &'static str, String); 6] {
    let l = &file.limits;
    let share = |x: Option<f64>| x.map_or(String::new(), |x| format!("{}%", typed(x * 100.0)));
    [
        ("total", "Total", typed(file.total.amount)),
        ("max_change", "Move at most ±", share(l.max_change)),
        ("max_cpa", "CPA at most", typed_or_empty(l.max_cpa)),
        ("min_roas", "ROAS at least", typed_or_empty(l.min_roas)),
        ("min_conversions", "Conversions at least", typed_or_empty(l.min_conversions)),
        ("margin", "Margin", share(file.lines.first().and_then(|l| l.margin))),
    ]
}

fn cost((name, held, gain): &(String, HeldBy, f64), word: &str) -> (String, String) {
    let what = match held {
        HeldBy::Floor => "Floor of",
        HeldBy::Ceiling => "Ceiling of",
        HeldBy::GroupFloor => "Floor of the group",
        HeldBy::GroupCeiling => "Ceiling of the group",
        HeldBy::Nothing => "",
    };
    (
        format!("{what} {name}"),
        format!("−{} {word}", number(*gain, if *gain < 10.0 { 2 } else { 0 })),
    )
}

fn headline(file: &PlanFile, solved: Option<&Solved>) -> (Words, Words) {
    let present: f64 = file.lines.iter().map(|l| l.current).sum();
    let Some(s) = solved else {
        return (
            Words::say("These limits can’t all be kept"),
            Words::say("Each contradiction is named below, with the changes that would end it."),
        );
    };
    let same = (s.totals.budget - present).abs() < 0.005 * present;
    let title = if same {
        format!("The same {}, placed anew", money(s.totals.budget))
    } else {
        format!("{} in place of {}", money(s.totals.budget), money(present))
    };
    let gained = gain(file.goal, s);
    let word = match file.goal {
        Goal::Profit => "of value",
        g => goal(g).1,
    };
    let lead = Words::say("At these rates ");
    let lead = match file.goal {
        Goal::LeastSpend => lead
            .strong(count(s.totals.conversions))
            .and(" conversions would take ")
            .strong(money(s.totals.budget)),
        _ if gained >= 0.0 => lead.and("it brings ").gain(format!("{} {word} more", count(gained))),
        _ => lead.and("it brings ").harm(format!("{} {word} less", count(-gained))),
    };
    let each = s.totals.cpa().zip(s.current.cpa());
    let lead = each.map_or(lead.clone(), |(plan, now)| {
        lead.and(" at ").strong(money(plan)).and(format!(" a conversion instead of {}", money(now)))
    });
    let moved = file
        .lines
        .iter()
        .zip(&s.lines)
        .filter(|(l, a)| (a.budget - l.current).abs() > 0.01 * l.current.max(1.0))
        .count();
    (
        Words::say(title),
        lead.and(format!(
            ". {} move.",
            figures::counted(moved as u64, "budget", "budgets").replace("1 budget", "One budget")
        )),
    )
}

fn held(held: HeldBy, shock: bool) -> &'static str {
    match held {
        HeldBy::Floor if shock => "limit on change",
        HeldBy::Ceiling if shock => "limit on change",
        HeldBy::Floor => "its floor",
        HeldBy::Ceiling => "its ceiling",
        HeldBy::GroupFloor => "its group’s floor",
        HeldBy::GroupCeiling => "its group’s ceiling",
        HeldBy::Nothing => "nothing",
    }
}

/// Budgets of a plan: whole units where the total is large.
fn budget_text(file: &PlanFile) -> fn(f64) -> String {
    if file.total.amount >= 5_000.0 { sum } else { money }
}

fn line_view(
    file: &PlanFile,
    i: usize,
    solved: Option<&Solved>,
    errors: &HashMap<String, String>,
    shown: &dyn Fn(&str, String) -> String,
) -> LineView {
    let line = &file.lines[i];
    let conversions = desk::present_conversions(line, file.days);
    let budget = budget_text(file);
    let rates = match line.response {
        Curve::Constant { cpc, cvr } => format!("CPC {} · CVR {}%", money(cpc), percent(cvr)),
        Curve::Power { elasticity, .. } => {
            format!("+1% money, +{}% results", number(elasticity, 2))
        }
        Curve::Saturating { half_at, .. } => {
            format!("half of its limit at {} a day", money(half_at))
        }
    };
    let plan = solved.map(|s| {
        let a = &s.lines[i];
        let shock = file.limits.max_change.is_some_and(|x| {
            let (low, high) = (line.current * (1.0 - x), line.current * (1.0 + x));
            (a.held_by == HeldBy::Floor && line.floor < low)
                || (a.held_by == HeldBy::Ceiling && line.ceiling.is_none_or(|c| c > high))
        });
        let tone = |x: f64| {
            if x > 0.005 {
                "gain"
            } else if x < -0.005 {
                "harm"
            } else {
                "quiet"
            }
        };
        LinePlan {
            budget: budget(a.budget),
            change: signed(a.budget - line.current, budget),
            results: count(a.conversions),
            results_change: signed(a.conversions - conversions, |x| number(x, 1)),
            results_tone: tone(a.conversions - conversions),
            marginal: number(1000.0 * a.marginal, if a.marginal.abs() < 0.01 { 2 } else { 1 }),
            held: held(a.held_by, shock),
        }
    });
    let field = |name: &str| format!("{name}-{i}");
    LineView {
        index: i,
        id: line.id.clone(),
        group: line.group.clone().unwrap_or_default(),
        current: budget(line.current),
        rates,
        thin: conversions < THIN,
        power: matches!(line.response, Curve::Power { .. }),
        elasticity: shown(
            &field("elasticity"),
            if let Curve::Power { elasticity, .. } = line.response {
                typed(elasticity)
            } else {
                String::new()
            },
        ),
        floor: shown(
            &field("floor"),
            if line.floor > 0.0 { typed(line.floor) } else { String::new() },
        ),
        ceiling: shown(&field("ceiling"), typed_or_empty(line.ceiling)),
        wrong: ["floor", "ceiling", "elasticity"]
            .iter()
            .filter_map(|n| errors.get(&field(n)).cloned())
            .collect(),
        plan,
    }
}

fn compared(s: &Solved) -> Vec<Compared> {
    let row =
        |title, now: Option<f64>, plan: Option<f64>, text: &dyn Fn(f64) -> String, good: f64| {
            let change = now.zip(plan).map(|(n, p)| p - n);
            let tone = match change.map(|c| c * good) {
                Some(c) if c > 1e-9 => "gain",
                Some(c) if c < -1e-9 => "harm",
                _ => "quiet",
            };
            Compared {
                title,
                now: figures::or_absent(now, text),
                plan: figures::or_absent(plan, text),
                change: figures::or_absent(change, |c| signed(c, text)),
                tone,
            }
        };
    let (n, p) = (&s.current, &s.totals);
    let mut rows = vec![
        row("Budget", Some(n.budget), Some(p.budget), &money, 0.0),
        row("Conversions", Some(n.conversions), Some(p.conversions), &count, 1.0),
        row("CPA", n.cpa(), p.cpa(), &money, -1.0),
    ];
    if n.value.is_some_and(|v| v > 0.0) {
        rows.push(row("Value", n.value, p.value, &money, 1.0));
        rows.push(row("ROAS", n.roas(), p.roas(), &|x| number(x, 2), 1.0));
    }
    rows
}

/// The plan as CSV.
pub async fn csv(
    member: Member,
    State(app): State<App>,
    Id(id): Id,
) -> Result<Response, PageError> {
    let opened = desk::open(&app.pool, &member.account, PlanId(id)).await?;
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
            plan_file::held_word(a.held_by).to_owned(),
        ]
    });
    csv_file(&format!("{}.csv", opened.plan.name), &header, rows)
}

/// The plan file, as `gold-tiller allocate` takes it.
pub async fn json(
    member: Member,
    State(app): State<App>,
    Id(id): Id,
) -> Result<Response, PageError> {
    let opened = desk::open(&app.pool, &member.account, PlanId(id)).await?;
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
    let all = desk::list(&app.pool, &member.account).await?;
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
                answer.map_or((figures::ABSENT.into(), String::new(), "quiet"), |a| {
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
                .map(|s| figures::or_absent(s.as_ref().and_then(|s| of(&s.totals)), text))
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
