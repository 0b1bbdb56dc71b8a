//! A plan: its curves, limits and answer, renewed with every edit.

use std::collections::HashMap;

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use tiller_core::allocation::{
    Answer, Goal, HeldBy, Problem, Response as Curve, Solved, Use, at_totals, brings,
};
use tiller_desk::account::settings::Settings;
use tiller_desk::book::Book;
use tiller_desk::numerals::{self, count, money, number, percent, signed, sum};
use tiller_desk::plans::file::{self, PlanFile};
use tiller_desk::plans::{By, FieldError, Opened, THIN, Typed};
use tiller_desk::wording::Words;
use tiller_desk::{DeskError, PlanId, plans as desk};

use crate::App;
use crate::chart::{Axes, CurvePanel, Spot, Told, TotalCurve, totals};
use crate::error::PageError;
use crate::extract::{Fragment, Id, Member};
use crate::frame::{Frame, Station, span};
use crate::pages::book;
use crate::pages::budgets::{GOALS, counts, goal, optimal};
use crate::params::Params;
use crate::sent::{Fields, Sent};

/// A line of the editor.
pub struct LineView {
    index: usize,
    id: String,
    group: String,
    current: String,
    rates: String,
    thin: bool,
    shape: &'static str,
    elasticity: String,
    fixed: String,
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
    held: &'static str,
    why: String,
}

/// A group of lines with its limits.
pub struct GroupView {
    id: String,
    now: String,
    plan: String,
    floor: String,
    ceiling: String,
    wrong: Vec<String>,
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
    /// What its working is asked by.
    figure: &'static str,
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
    panels: Vec<CurvePanel>,
    axes: String,
    total_curve: Option<TotalCurve>,
    groupings: Vec<(&'static str, &'static str, bool)>,
    groups: Vec<GroupView>,
    for_tests: Option<String>,
    /// Where it takes the newest curves, if they have moved.
    refresh: Option<String>,
    lines: Vec<LineView>,
    /// What its lines are told to bring.
    results: &'static str,
    compared: Vec<Compared>,
    infeasible: Option<Infeasible>,
    warnings: Vec<String>,
    /// What its working is asked by, which limit, what it costs.
    costs: Vec<(String, String, String)>,
    next: Option<String>,
}

#[derive(Template, WebTemplate)]
#[template(path = "plan.html")]
struct PlanPage {
    frame: Frame,
    table: PlanTable,
}

/// One plan.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Id(id): Id,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    let opened = desk::open(&app.db, &member.account, PlanId(id)).await?;
    let file = opened.file.clone();
    page(&app, &member, &params, &opened, &file, &Typed::new(), Vec::new()).await
}

async fn page(
    app: &App,
    member: &Member,
    params: &Params,
    opened: &Opened,
    file: &PlanFile,
    fields: &Typed,
    errors: Vec<FieldError>,
) -> Result<PlanPage, PageError> {
    let book = book(&app.db, member, params).await?;
    let frame = match &book {
        Some(book) => Frame::of_book(member, Station::Budgets, params, book),
        None => Frame::new(member, Station::Budgets, params),
    };
    let newer = match &book {
        Some(book) => {
            let (_, known) = desk::known(&app.db, book).await?;
            let mut fresh = opened.file.clone();
            desk::refresh(&mut fresh, book, &known);
            desk::differs(&fresh, &opened.file)
        }
        None => false,
    };
    let others = others(app, member, opened.plan.id).await?;
    let scene = Scene { opened, file, fields, book: book.as_deref(), others: &others, newer };
    let table = table(&frame, &scene, errors);
    Ok(PlanPage { frame, table })
}

/// The account's other plans.
async fn others(app: &App, member: &Member, id: PlanId) -> Result<Vec<Opened>, PageError> {
    let all = desk::list(&app.db, &member.account).await?;
    Ok(all.into_iter().filter(|o| o.plan.id != id).take(MOST_OTHERS).collect())
}

/// Takes what was typed into a plan; lines are grouped anew if that was asked for.
pub(super) async fn take(
    app: &App,
    member: &Member,
    book: Option<&Book>,
    file: &mut PlanFile,
    fields: &Typed,
) -> Result<Vec<FieldError>, PageError> {
    let asked = fields.get("group_by").map(|w| grouping(w));
    if let (Some(by), Some(book)) = (asked, book)
        && by != desk::grouped_by(file, book)
    {
        let settings = Settings::open(&app.db, &member.account).await?;
        desk::group(file, book, Some(&settings), by);
    }
    Ok(desk::edit(file, fields))
}

/// Solves what is typed, without saving: the answer to every edit. A repair's button makes its change first.
pub async fn solve(
    member: Member,
    State(app): State<App>,
    Id(id): Id,
    Fragment(fragment): Fragment,
    params: Params,
    fields: Fields,
) -> Result<Response, PageError> {
    let repair = fields.read::<usize>("repair");
    let mut fields = fields.map();
    let opened = desk::open(&app.db, &member.account, PlanId(id)).await?;
    let mut file = opened.file.clone();
    let book = book(&app.db, &member, &params).await?;
    let errors = take(&app, &member, book.as_deref(), &mut file, &fields).await?;
    if let Some(n) = repair
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
        let others = others(&app, &member, opened.plan.id).await?;
        let scene = Scene {
            opened: &opened,
            file: &file,
            fields: &fields,
            book: book.as_deref(),
            others: &others,
            newer: false,
        };
        return Ok(table(&frame, &scene, errors).into_response());
    }
    Ok(page(&app, &member, &params, &opened, &file, &fields, errors).await?.into_response())
}

/// Saves what is typed.
pub async fn save(Id(id): Id, sent: Sent) -> Result<Response, PageError> {
    keep(id, sent, false).await
}

/// Takes the newest curves, rates and present spends into the plan, and saves it with what is typed.
pub async fn refresh(Id(id): Id, sent: Sent) -> Result<Response, PageError> {
    keep(id, sent, true).await
}

async fn keep(id: i64, sent: Sent, newest: bool) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = sent;
    let (app, member, params, fields) = (&app, &member, &params, &fields.map());
    let opened = desk::open(&app.db, &member.account, PlanId(id)).await?;
    let mut file = opened.file.clone();
    let book = book(&app.db, member, params).await?;
    let mut errors = take(app, member, book.as_deref(), &mut file, fields).await?;
    if let (true, Some(book)) = (newest, &book) {
        let (_, known) = desk::known(&app.db, book).await?;
        desk::refresh(&mut file, book, &known);
    }
    if errors.is_empty() {
        let name = fields.get("name").unwrap_or(&opened.plan.name);
        match desk::save(&app.db, &member.account, PlanId(id), name, &file).await {
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
    let page = page(app, member, params, &opened, &file, fields, errors).await?;
    Ok((StatusCode::UNPROCESSABLE_ENTITY, page).into_response())
}

fn typed(x: f64) -> String {
    let text = format!("{x:.6}");
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

fn typed_or_empty(x: Option<f64>) -> String {
    x.map_or(String::new(), typed)
}

fn typed_share(x: Option<f64>) -> String {
    x.map_or(String::new(), |x| format!("{}%", typed(x * 100.0)))
}

/// So many other plans stand on the chart of budget and result.
const MOST_OTHERS: usize = 4;
/// What lines can be grouped by: word, title.
const GROUPINGS: [(Option<By>, &str, &str); 3] = [
    (Some(By::Channel), "channel", "by channel"),
    (Some(By::Country), "country", "by country"),
    (None, "none", "not at all"),
];

fn grouping(word: &str) -> Option<By> {
    GROUPINGS.iter().find(|g| g.1 == word).and_then(|g| g.0)
}

/// What a view of a plan is made of.
struct Scene<'a> {
    opened: &'a Opened,
    file: &'a PlanFile,
    fields: &'a Typed,
    book: Option<&'a Book>,
    others: &'a [Opened],
    newer: bool,
}

fn table(frame: &Frame, scene: &Scene, errors: Vec<FieldError>) -> PlanTable {
    let Scene { opened, file, fields, book, others, newer } = *scene;
    let worked = if file.check().is_ok() { Some(desk::work(file)) } else { None };
    let solved = worked.as_ref().and_then(desk::Worked::solved);
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
    let answered = worked.as_ref().map(|w| &w.problem).zip(solved);
    let (headline, lead) = headline(file, solved, errors.len());
    let infeasible = worked.as_ref().and_then(|w| match &w.answer {
        Answer::Infeasible { conflicts, repairs } if errors.is_empty() => Some(Infeasible {
            conflicts: conflicts.iter().map(|c| file::conflict(c).1).collect(),
            repairs: repairs.iter().map(file::repair).enumerate().collect(),
        }),
        _ => None,
    });
    let word = goal(file.goal).1;
    let name = fields.get("name").cloned().unwrap_or_else(|| opened.plan.name.clone());
    let whys: Vec<String> = worked
        .as_ref()
        .zip(solved)
        .map_or(Vec::new(), |(w, s)| (0..file.lines.len()).map(|i| desk::why(w, s, i)).collect());
    let (panels, axes) = worked.as_ref().map_or((Vec::new(), String::new()), |w| {
        panels(frame, file, &w.problem, solved, book, &whys)
    });
    PlanTable {
        base: frame.base(),
        id: opened.plan.id,
        editor: frame.editor,
        unsaved: *file != opened.file || name != opened.plan.name,
        tray: (frame.editor && frame.connected && *file == opened.file)
            .then(|| format!("{}/budgets/{}/tray", frame.base(), opened.plan.id)),
        currency: file.currency.clone(),
        days: period(file, opened),
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
        panels,
        axes,
        total_curve: worked
            .as_ref()
            .zip(solved)
            .and_then(|(w, s)| total_curve(file, &w.problem, s, others)),
        groupings: GROUPINGS
            .iter()
            .map(|(by, word, title)| {
                (*word, *title, book.is_some_and(|b| desk::grouped_by(file, b) == *by))
            })
            .collect(),
        groups: (0..file.groups.len())
            .map(|g| group_view(file, g, solved, &errors, &shown))
            .collect(),
        for_tests: (file.for_tests() > 0.0).then(|| money(file.for_tests())),
        refresh: (newer && frame.editor)
            .then(|| format!("{}/budgets/{}/refresh", frame.base(), opened.plan.id)),
        lines: (0..file.lines.len())
            .map(|i| line_view(file, i, answered, whys.get(i), &errors, &shown))
            .collect(),
        results: match file.goal {
            Goal::Conversions | Goal::LeastSpend => "Conversions",
            Goal::Value => "Value",
            Goal::Clicks => "Clicks",
            Goal::Profit => "Value × margin",
        },
        compared: solved.map_or(Vec::new(), compared),
        infeasible,
        warnings: warnings(file, book, solved),
        costs: worked
            .as_ref()
            .map_or(Vec::new(), |w| w.costs.iter().enumerate().map(|c| cost(c, word)).collect()),
        next: solved.and_then(|s| s.next_1000).map(|x| {
            format!("{} {word}", signed(x, |x| number(x, if x.abs() < 10.0 { 2 } else { 0 })))
        }),
    }
}

fn period(file: &PlanFile, opened: &Opened) -> String {
    if desk::of_a_month(file) {
        format!("a month of 30.4 days, in {}", file.currency)
    } else {
        format!("{} days, rates of {}", number(file.days, 0), span(opened.plan.window))
    }
}

fn warnings(file: &PlanFile, book: Option<&Book>, solved: Option<&Solved>) -> Vec<String> {
    let mut warnings: Vec<String> = solved
        .map_or(Vec::new(), |s| s.warnings.iter().map(|w| file::warning(w).message).collect());
    if let Some((book, solved)) = book.zip(solved) {
        let spare = desk::with_money_to_spare(book, file, solved);
        if !spare.is_empty() {
            warnings.push(format!(
                "{} would get more, yet {} leave{} a fifth or more of the present budget unspent: a higher budget alone buys nothing there. Raise the bid or the target, or set a ceiling.",
                file::listed(&spare),
                if spare.len() == 1 { "it" } else { "they" },
                if spare.len() == 1 { "s" } else { "" }
            ));
        }
    }
    warnings
}

/// The curves table with the words on its axes.
fn panels(
    frame: &Frame,
    file: &PlanFile,
    problem: &Problem,
    solved: Option<&Solved>,
    book: Option<&Book>,
    whys: &[String],
) -> (Vec<CurvePanel>, String) {
    let budgets: Vec<f64> = (0..file.lines.len())
        .map(|i| solved.map_or(file.lines[i].current, |s| s.lines[i].budget))
        .collect();
    let axes = Axes::new(problem, &budgets);
    let budget = budget_text(file);
    let panel = |i: usize| {
        let line = &file.lines[i];
        let answer = solved.map(|s| &s.lines[i]);
        let more = answer.map(|a| brought_more(problem, i, a.budget));
        let campaign = book.and_then(|b| desk::entry_of(b, &line.id)).map(|e| e.campaign.id);
        let told = Told {
            href: campaign
                .map(|id| format!("{}/budgets/campaigns/{id}/curve{}", frame.base(), frame.days)),
            moved: (
                budget(line.current),
                answer.map_or(numerals::ABSENT.into(), |a| budget(a.budget)),
            ),
            more: more
                .filter(|m| m.abs() >= 0.05)
                .map_or(String::new(), |m| format!("{} {}", signed(m, about), counts(file.goal))),
            tone: more.map_or("quiet", tone),
            note: note(file, i, solved),
            why: whys.get(i).cloned().unwrap_or_default(),
        };
        CurvePanel::new(i, answer, &axes, told)
    };
    ((0..file.lines.len()).map(panel).collect(), axes.words(&file.currency))
}

/// What a line brings more at its planned money than at its present.
fn brought_more(problem: &Problem, i: usize, planned: f64) -> f64 {
    let now = brings(problem, i, problem.lines[i].current);
    let more = brings(problem, i, planned) - now;
    if more.abs() < BY_ROUNDING * now { 0.0 } else { more }
}

/// Less than this share is what rounding to the plan's step moves.
const BY_ROUNDING: f64 = 5e-4;

/// What holds a line, or else how well it is known: a panel has room for one of them.
fn note(file: &PlanFile, i: usize, solved: Option<&Solved>) -> String {
    let held = solved.map(|s| held(s.lines[i].held_by, by_change(file, i, s)));
    match held.filter(|h| *h != "nothing") {
        Some(ALL) => "gets all it can spend".to_owned(),
        Some(h) => format!("limited by {h}"),
        None => file.lines[i]
            .precision
            .filter(|p| p.covariance[1][1] > LEANS)
            .map_or(String::new(), |_| "curve known poorly".to_owned()),
    }
}

/// A curve whose form's variance is above this is hardly known beyond its channel's.
const LEANS: f64 = 0.014;

fn tone(x: f64) -> &'static str {
    if x >= 0.05 {
        "gain"
    } else if x <= -0.05 {
        "harm"
    } else {
        "quiet"
    }
}

fn total_curve(
    file: &PlanFile,
    problem: &Problem,
    solved: &Solved,
    others: &[Opened],
) -> Option<TotalCurve> {
    let unit = match file.goal {
        Goal::Value => format!("Value, {}", file.currency),
        Goal::Profit => format!("Profit, {}", file.currency),
        Goal::Clicks => "Clicks".into(),
        Goal::Conversions | Goal::LeastSpend => "Conversions".into(),
    };
    let of = |s: &Solved| match file.goal {
        Goal::LeastSpend => (s.current.conversions, s.totals.conversions),
        _ => (s.present, s.objective),
    };
    let (present, planned) = of(solved);
    let now = Spot { total: solved.current.budget, result: present, name: "now".into() };
    let plan = Spot { total: solved.totals.budget, result: planned, name: "plan".into() };
    let others = others
        .iter()
        .filter(|o| o.file.goal == file.goal && o.file.days == file.days)
        .filter_map(|o| {
            let s = optimal(&o.file)?;
            Some(Spot { total: s.totals.budget, result: of(&s).1, name: o.plan.name.clone() })
        })
        .collect();
    let asked = totals(solved.totals.budget, solved.current.budget);
    TotalCurve::new(&at_totals(problem, &asked), &format!("{unit} a period"), now, plan, others)
}

fn group_view(
    file: &PlanFile,
    g: usize,
    solved: Option<&Solved>,
    errors: &HashMap<String, String>,
    shown: &dyn Fn(&str, String) -> String,
) -> GroupView {
    let group = &file.groups[g];
    let budget = budget_text(file);
    let members =
        || (0..file.lines.len()).filter(|i| file.lines[*i].group.as_ref() == Some(&group.id));
    let either = |money: Option<f64>, share: Option<f64>| match share {
        Some(_) => typed_share(share),
        None => typed_or_empty(money),
    };
    let (floor, ceiling) =
        (format!("group-floor:{}", group.id), format!("group-ceiling:{}", group.id));
    GroupView {
        id: group.id.clone(),
        now: budget(members().map(|i| file.lines[i].current).sum()),
        plan: solved.map_or(numerals::ABSENT.into(), |s| {
            budget(members().map(|i| s.lines[i].budget).sum())
        }),
        wrong: [&floor, &ceiling].iter().filter_map(|f| errors.get(*f).cloned()).collect(),
        floor: shown(&floor, either(group.floor, group.share_floor)),
        ceiling: shown(&ceiling, either(group.ceiling, group.share_ceiling)),
    }
}

/// The numbers of the whole: field, label, what stands there.
fn whole_fields(file: &PlanFile) -> Vec<(&'static str, &'static str, String)> {
    let l = &file.limits;
    let valued = file.lines.iter().any(|l| l.value_per_conversion.is_some_and(|v| v > 0.0));
    let mut fields = vec![
        ("total", "Total", typed(file.total.amount)),
        ("max_change", "Move at most ±", typed_share(l.max_change)),
        ("max_cpa", "CPA at most", typed_or_empty(l.max_cpa)),
    ];
    if valued || l.min_roas.is_some() {
        fields.push(("min_roas", "ROAS at least", typed_or_empty(l.min_roas)));
    }
    fields.push(("min_conversions", "Conversions ≥", typed_or_empty(l.min_conversions)));
    fields.push(("test_share", "For tests", typed_share(file.test_share)));
    if file.goal == Goal::Profit {
        let margin = file.lines.first().and_then(|l| l.margin);
        fields.push(("margin", "Margin", typed_share(margin)));
    }
    fields
}

fn cost(
    (n, (name, held, gain)): (usize, &(String, HeldBy, f64)),
    word: &str,
) -> (String, String, String) {
    let what = match held {
        HeldBy::Floor => "Floor of",
        HeldBy::Ceiling => "Ceiling of",
        HeldBy::Fixed => "Amount set for",
        HeldBy::GroupFloor => "Floor of the group",
        HeldBy::GroupCeiling => "Ceiling of the group",
        HeldBy::Nothing | HeldBy::Capacity => "",
    };
    (
        format!("cost-{n}"),
        format!("{what} {name}"),
        format!("−{} {word}", number(*gain, if *gain < 10.0 { 2 } else { 0 })),
    )
}

/// What the plan is; a typing error comes before whatever would follow from it.
fn headline(file: &PlanFile, solved: Option<&Solved>, wrong: usize) -> (Words, Words) {
    let present: f64 = file.lines.iter().map(|l| l.current).sum();
    if wrong > 0 {
        return (
            Words::say(match wrong {
                1 => "One entry can’t be used".to_owned(),
                n => format!("{n} entries can’t be used"),
            }),
            Words::say(format!(
                "{} marked below with what to type.{}",
                if wrong == 1 { "It is" } else { "They are" },
                if solved.is_some() {
                    " Until then the plan goes by what stood there before."
                } else {
                    ""
                }
            )),
        );
    }
    let Some(s) = solved else {
        return (
            Words::say("These limits can’t all be kept"),
            Words::say("Each contradiction is named below, with the changes that would end it."),
        );
    };
    let same = (s.totals.budget - present).abs() < 0.005 * present;
    let title = if same {
        format!("The same {}, reallocated", money(s.totals.budget))
    } else {
        format!("{} in place of {}", money(s.totals.budget), money(present))
    };
    let gained = s.objective - s.present;
    let word = goal(file.goal).1;
    let lead = Words::say("Along their curves ");
    let lead = match file.goal {
        Goal::LeastSpend => lead
            .strong(count(s.totals.conversions))
            .and(" conversions would take ")
            .strong(money(s.totals.budget)),
        _ if gained >= 0.0 => lead.and("it brings ").gain(format!("{} {word} more", about(gained))),
        _ => lead.and("it brings ").harm(format!("{} {word} less", about(-gained))),
    };
    let lead = match s.outlook {
        Some(o) => lead.and(format!(
            " (80% between {} and {})",
            signed(o.gain.low, about),
            signed(o.gain.high, about)
        )),
        None => lead,
    };
    let lead = match file.goal {
        Goal::Value | Goal::Profit => match s.totals.roas().zip(s.current.roas()) {
            Some((plan, now)) => lead
                .and(" at a ROAS of ")
                .strong(number(plan, 2))
                .and(format!(" instead of {}", number(now, 2))),
            None => lead,
        },
        Goal::Conversions | Goal::Clicks | Goal::LeastSpend => {
            match s.totals.cpa().zip(s.current.cpa()) {
                Some((plan, now)) => lead
                    .and(" at ")
                    .strong(money(plan))
                    .and(format!(" a conversion instead of {}", money(now))),
                None => lead,
            }
        }
    };
    let moved = file
        .lines
        .iter()
        .zip(&s.lines)
        .filter(|(l, a)| (a.budget - l.current).abs() > 0.01 * l.current.max(1.0))
        .count();
    let moved = numerals::counted(moved as u64, "budget", "budgets");
    (Words::say(title), lead.and(format!("; {moved} moved.")))
}

/// What holds a line that gets all of it.
const ALL: &str = "what it can spend";

/// A figure that is no more exact than this.
pub(super) fn about(x: f64) -> String {
    number(x, usize::from(x.abs() < 20.0))
}

fn held(held: HeldBy, shock: bool) -> &'static str {
    match held {
        HeldBy::Floor if shock => "limit on change",
        HeldBy::Ceiling if shock => "limit on change",
        HeldBy::Floor => "its floor",
        HeldBy::Ceiling => "its ceiling",
        HeldBy::Capacity => ALL,
        HeldBy::Fixed => "hand",
        HeldBy::GroupFloor => "its group’s floor",
        HeldBy::GroupCeiling => "its group’s ceiling",
        HeldBy::Nothing => "nothing",
    }
}

/// Budgets of a plan: whole units where the total is large.
fn budget_text(file: &PlanFile) -> fn(f64) -> String {
    if file.total.amount >= 5_000.0 { sum } else { money }
}

/// Whether the limit on change holds a line rather than its own floor or ceiling.
fn by_change(file: &PlanFile, i: usize, s: &Solved) -> bool {
    let (line, a) = (&file.lines[i], &s.lines[i]);
    file.limits.max_change.is_some_and(|x| {
        let (low, high) = (line.current * (1.0 - x), line.current * (1.0 + x));
        (a.held_by == HeldBy::Floor && line.floor < low)
            || (a.held_by == HeldBy::Ceiling && line.ceiling.is_none_or(|c| c > high))
    })
}

fn line_view(
    file: &PlanFile,
    i: usize,
    answered: Option<(&Problem, &Solved)>,
    why: Option<&String>,
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
    let plan = answered.map(|(problem, s)| {
        let a = &s.lines[i];
        let more = brought_more(problem, i, a.budget);
        LinePlan {
            budget: budget(a.budget),
            change: signed(a.budget - line.current, budget),
            results: about(brings(problem, i, a.budget)),
            results_change: signed(more, about),
            results_tone: tone(more),
            // What its reason says already is not said twice.
            held: match a.held_by {
                HeldBy::Capacity | HeldBy::Fixed => "nothing",
                by => held(by, by_change(file, i, s)),
            },
            why: why.cloned().unwrap_or_default(),
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
        shape: match line.response {
            Curve::Power { .. } => "power",
            Curve::Saturating { .. } => "saturating",
            Curve::Constant { .. } => "constant",
        },
        fixed: shown(&field("fixed"), typed_or_empty(line.fixed)),
        elasticity: shown(
            &field("elasticity"),
            if let Curve::Power { elasticity, .. } = line.response {
                typed((elasticity * 1000.0).round() / 1000.0)
            } else {
                String::new()
            },
        ),
        floor: shown(
            &field("floor"),
            if line.floor > 0.0 { typed(line.floor) } else { String::new() },
        ),
        ceiling: shown(&field("ceiling"), typed_or_empty(line.ceiling)),
        wrong: ["floor", "ceiling", "fixed", "elasticity"]
            .iter()
            .filter_map(|n| errors.get(&field(n)).cloned())
            .collect(),
        plan,
    }
}

fn compared(s: &Solved) -> Vec<Compared> {
    let row = |title,
               figure,
               now: Option<f64>,
               plan: Option<f64>,
               text: &dyn Fn(f64) -> String,
               good: f64| {
        let change = now.zip(plan).map(|(n, p)| p - n);
        let tone = match change.map(|c| c * good) {
            Some(c) if c > 1e-9 => "gain",
            Some(c) if c < -1e-9 => "harm",
            _ => "quiet",
        };
        Compared {
            title,
            figure,
            now: numerals::or_absent(now, text),
            plan: numerals::or_absent(plan, text),
            change: numerals::or_absent(change, |c| signed(c, text)),
            tone,
        }
    };
    let (n, p) = (&s.current, &s.totals);
    let mut rows = vec![
        row("Budget", "", Some(n.budget), Some(p.budget), &money, 0.0),
        row("Conversions", "conversions", Some(n.conversions), Some(p.conversions), &count, 1.0),
        row("CPA", "cpa", n.cpa(), p.cpa(), &money, -1.0),
    ];
    if n.value.is_some_and(|v| v > 0.0) {
        rows.push(row("Value", "value", n.value, p.value, &money, 1.0));
        rows.push(row("ROAS", "roas", n.roas(), p.roas(), &|x| number(x, 2), 1.0));
    }
    rows
}
