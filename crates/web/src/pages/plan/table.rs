//! The part of a plan's page that every edit renews: its curves, limits and lines.

use crate::paths::Paths;
use std::collections::HashMap;

use askama::Template;
use askama_web::WebTemplate;
use tiller_core::allocation::{
    Answer, Goal, HeldBy, Problem, Response as Curve, Solved, Use, at_totals, brings,
};
use tiller_desk::bids::words::learning as learned;
use tiller_desk::book::Book;
use tiller_desk::numerals::{self, count, money, number, percent, signed};
use tiller_desk::plans::file::PlanFile;
use tiller_desk::plans::{FieldError, Opened, THIN, Typed, answer, moves, words};
use tiller_desk::tray::offer::Offer;
use tiller_desk::wording::Words;
use tiller_desk::{PlanId, plans as desk};

use super::{Beside, GROUPINGS};
use crate::chart::{Axes, CurvePanel, Spot, Told, TotalCurve, totals};
use crate::frame::{Frame, span};
use crate::pages::budgets::optimal;

/// A line of the editor.
pub struct LineView {
    index: usize,
    id: String,
    group: String,
    current: String,
    /// How far its strategy has come with learning, if it is.
    learning: String,
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
pub(super) struct PlanTable {
    base: Paths,
    id: PlanId,
    editor: bool,
    unsaved: bool,
    /// Where its budgets are put in the tray, if they can be, and what the button carries.
    tray: Option<(String, Vec<String>)>,
    currency: String,
    days: String,
    headline: Words,
    lead: Words,
    caveat: Option<String>,
    pub(super) name: String,
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

/// What a view of a plan is made of.
pub(super) struct Scene<'a> {
    pub opened: &'a Opened,
    pub file: &'a PlanFile,
    pub fields: &'a Typed,
    pub book: Option<&'a Book>,
    pub beside: &'a Beside,
    pub newer: bool,
}

pub(super) fn table(frame: &Frame, scene: &Scene, errors: Vec<FieldError>) -> PlanTable {
    let Scene { opened, file, fields, book, beside, newer } = *scene;
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
    let (headline, lead) = words::headline(file, solved, errors.len());
    let infeasible = worked.as_ref().and_then(|w| match &w.answer {
        Answer::Infeasible { conflicts, repairs } if errors.is_empty() => Some(Infeasible {
            conflicts: conflicts.iter().map(|c| answer::conflict(c).1).collect(),
            repairs: repairs.iter().map(answer::repair).enumerate().collect(),
        }),
        _ => None,
    });
    let word = words::unit(file.goal);
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
        tray: answered.filter(|_| frame.editor && frame.connected && *file == opened.file).map(
            |(problem, solved)| {
                let offers = moves::offers(problem, solved);
                let link = format!("{}/budgets/{}/tray", frame.base(), opened.plan.id);
                (link, offers.iter().map(Offer::button).collect())
            },
        ),
        currency: file.currency.clone(),
        days: period(file, opened),
        headline,
        lead,
        caveat: beside.caveat.clone(),
        name_wrong: errors.get("name").cloned(),
        name,
        goals: Goal::ALL.map(|g| (g.word(), words::title(g), g == file.goal)).to_vec(),
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
            .and_then(|(w, s)| total_curve(file, &w.problem, s, &beside.others)),
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
            .map(|i| {
                let campaign = book.and_then(|b| desk::entry_of(b, &file.lines[i].id));
                let learning = campaign.and_then(|e| beside.learners.get(&e.campaign.id));
                LineView {
                    learning: learning.map(learned).unwrap_or_default(),
                    ..line_view(file, i, answered, whys.get(i), &errors, &shown)
                }
            })
            .collect(),
        results: match file.goal {
            Goal::Conversions | Goal::LeastSpend => "Conversions",
            Goal::Value => "Value",
            Goal::Clicks => "Clicks",
            Goal::Profit => "Value × margin",
        },
        compared: solved.map_or(Vec::new(), compared),
        infeasible,
        warnings: words::warnings(file, book, solved),
        costs: worked.as_ref().map_or(Vec::new(), |w| {
            w.costs.iter().enumerate().map(|c| words::cost(c, word)).collect()
        }),
        next: solved.and_then(|s| s.next_1000).map(|x| {
            format!("{} {word}", signed(x, |x| number(x, if x.abs() < 10.0 { 2 } else { 0 })))
        }),
    }
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
    let budget = words::budget_text(file);
    let panel = |i: usize| {
        let line = &file.lines[i];
        let answer = solved.map(|s| &s.lines[i]);
        let more = answer.map(|a| words::brought_more(problem, i, a.budget));
        let campaign = book.and_then(|b| desk::entry_of(b, &line.id)).map(|e| e.campaign.id);
        let told = Told {
            href: campaign.map(|id| frame.base().budget(id, "curve", &frame.days)),
            moved: (
                budget(line.current),
                answer.map_or(numerals::ABSENT.into(), |a| budget(a.budget)),
            ),
            more: more.filter(|m| m.abs() >= 0.05).map_or(String::new(), |m| {
                format!("{} {}", signed(m, words::about), words::counts(file.goal))
            }),
            tone: more.map_or("quiet", tone),
            note: words::note(file, i, solved),
            why: whys.get(i).cloned().unwrap_or_default(),
        };
        CurvePanel::new(i, answer, &axes, told)
    };
    ((0..file.lines.len()).map(panel).collect(), axes.words(&file.currency))
}

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
    let budget = words::budget_text(file);
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
    let budget = words::budget_text(file);
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
        let more = words::brought_more(problem, i, a.budget);
        LinePlan {
            budget: budget(a.budget),
            change: signed(a.budget - line.current, budget),
            results: words::about(brings(problem, i, a.budget)),
            results_change: signed(more, words::about),
            results_tone: tone(more),
            // What its reason says already is not said twice.
            held: match a.held_by {
                HeldBy::Capacity | HeldBy::Fixed => "nothing",
                by => words::held(by, words::by_change(file, i, s)),
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
        learning: String::new(),
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
fn period(file: &PlanFile, opened: &Opened) -> String {
    if desk::of_a_month(file) {
        format!("a month of 30.4 days, in {}", file.currency)
    } else {
        format!("{} days, rates of {}", number(file.days, 0), span(opened.plan.window))
    }
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
