//! Budgets: plans from the chosen campaigns and period, edited, solved, saved, compared.

pub mod file;
pub mod moves;

use std::sync::Arc;

use std::collections::HashMap;

use tiller_core::allocation::{
    Answer, Goal, Group, HeldBy, Limits, Line, Problem, Repair, Response, Solved, Total, Use,
    limit_costs, marginal_at, solve,
};
use tiller_core::flight::MONTH;
use tiller_core::ids::{CampaignId, PersonId, PlanId};
use tiller_core::learning::SHOCK;
use tiller_core::verdict::HeldBy as Hold;
use tiller_core::{Currency, Target};
use tiller_store::PgPool;
use tiller_store::people::Account;
use tiller_store::plans::{self, Plan};

use crate::account::settings::Settings;
use crate::book::{Book, Entry};
use crate::budgets::responses;
use crate::numerals::{money, number, typed_number};
use crate::plans::file::{FORMAT, PlanFile, PlanFileError};
use crate::{DeskError, advice};

/// What a hand-drawn curve starts with (common practice, no source: returns diminish).
pub const DEFAULT_ELASTICITY: f64 = 0.7;
/// Fewer conversions than this are thin evidence for a rate.
pub const THIN: f64 = 10.0;

/// A saved plan, read.
#[derive(Clone, Debug)]
pub struct Opened {
    /// As saved.
    pub plan: Plan,
    /// Its body.
    pub file: PlanFile,
}

/// A campaign that may become a line.
#[derive(Clone, Debug)]
pub struct Choice<'a> {
    /// The campaign.
    pub entry: &'a Entry,
    /// Why it can't be planned, if so.
    pub unfit: Option<&'static str>,
}

/// Campaigns with the reason why some can't be planned.
pub fn choices(book: &Book) -> Vec<Choice<'_>> {
    let unfit = |e: &Entry| {
        let tally = e.tally(book.period.window);
        if tally.clicks == 0 {
            Some("no clicks in this period")
        } else if !book.findings(e).is_empty() {
            Some("its conversions can’t be trusted")
        } else {
            None
        }
    };
    book.entries.iter().map(|entry| Choice { entry, unfit: unfit(entry) }).collect()
}

/// What the account's campaigns can do with money, as plans need it.
pub async fn known(
    db: &PgPool,
    book: &Book,
) -> Result<(Arc<Settings>, Vec<responses::Line>), DeskError> {
    let known = advice::of_account(db, book).await?.known.clone();
    Ok((Settings::of_book(db, book).await?, known))
}

/// A plan of the chosen campaigns for a month, its total what they spend.
pub fn draft(
    book: &Book,
    known: &[responses::Line],
    chosen: &[CampaignId],
) -> Result<PlanFile, DeskError> {
    let known: Vec<&responses::Line> =
        known.iter().filter(|l| chosen.contains(&l.campaign)).collect();
    let all_fresh = known.iter().all(|l| l.fresh);
    let drafted = |known: &&responses::Line| {
        let mut line = line(book, known)?;
        // What has just been launched is left in peace, unless somebody decides otherwise.
        if known.fresh && !all_fresh {
            line.fixed = Some((line.current * 100.0).floor() / 100.0);
        }
        Some(line)
    };
    let lines: Vec<Line> = known.iter().filter_map(drafted).collect();
    if lines.is_empty() {
        return Err(DeskError::Invalid(
            "choose at least one campaign that has clicks in this period".into(),
        ));
    }
    let step = book.account.currency.parse::<Currency>().map_or(0.01, Currency::minor_unit);
    let present: f64 = lines.iter().map(|l| l.current).sum();
    let targets = chosen.iter().filter_map(|id| book.entry(*id).ok()).map(|e| e.target);
    let by_value = targets.clone().all(|t| matches!(t, Some(Target::Roas(_))));
    let mut file = PlanFile {
        format: FORMAT.into(),
        currency: book.account.currency.clone(),
        goal: if by_value { Goal::Value } else { Goal::Conversions },
        total: Total { amount: whole_below(present, step), spend: Use::All },
        step,
        days: MONTH,
        lines,
        groups: Vec::new(),
        limits: Limits { max_change: Some(SHOCK), ..Limits::default() },
        test_share: None,
    };
    group(&mut file, book, None, Some(By::Channel));
    file.check().map_err(|e| DeskError::Invalid(e.to_string()))?;
    Ok(file)
}

/// An amount in whole units, or steps where it is small; never more than can be spent.
fn whole_below(amount: f64, step: f64) -> f64 {
    let unit = if amount >= 1000.0 { 1.0 } else { step };
    (amount / unit + 1e-9).floor() * unit
}

/// What a campaign is called in plans: by its channel too where its name alone is not enough (the database's
/// `campaign_label` says the same of saved ones).
pub fn line_id(book: &Book, e: &Entry) -> String {
    let same_name = book.entries.iter().filter(|o| o.campaign.name == e.campaign.name).count() > 1;
    if same_name {
        format!("{} on {}", e.campaign.name, e.campaign.channel)
    } else {
        e.campaign.name.clone()
    }
}

/// The campaign of a plan's line.
pub fn entry_of<'a>(book: &'a Book, id: &str) -> Option<&'a Entry> {
    book.entries.iter().find(|e| line_id(book, e) == id)
}

fn line(book: &Book, known: &responses::Line) -> Option<Line> {
    let entry = book.entry(known.campaign).ok()?;
    let mut line = Line::new(line_id(book, entry), known.lever.response);
    learn(&mut line, known, MONTH);
    line.floor = ((known.least * MONTH).min(line.current) * 100.0).floor() / 100.0;
    // Nothing tells how much it could spend: it grows by what is no shock, and the plan learns from that.
    if line.capacity.is_none() && matches!(line.response, Response::Constant { .. }) {
        line.ceiling = Some(((1.0 + SHOCK) * line.current * 100.0).round() / 100.0);
    }
    Some(line)
}

/// Takes what is known of a campaign now into a plan's line.
fn learn(line: &mut Line, known: &responses::Line, days: f64) {
    line.current = known.spend * days;
    line.value_per_conversion = Some(known.worth);
    line.cpc = Some(known.cpc);
    line.response = known.lever.response;
    // What it spends now it can spend, whatever a few days of it say.
    line.capacity = known.lever.capacity.most.map(|most| most.max(known.spend));
    line.precision = Some(known.lever.precision);
}

/// Takes the newest curves, rates and present spends into a plan; its limits stay.
pub fn refresh(file: &mut PlanFile, book: &Book, known: &[responses::Line]) {
    let days = file.days;
    for line in &mut file.lines {
        let id = entry_of(book, &line.id).map(|e| e.campaign.id);
        if let Some(known) = known.iter().find(|k| Some(k.campaign) == id) {
            learn(line, known, days);
        }
    }
}

/// What lines are grouped by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum By {
    /// Their channel.
    Channel,
    /// The country that they are meant for.
    Country,
}

/// Groups a plan's lines anew; the limits of groups of other names are lost.
pub fn group(file: &mut PlanFile, book: &Book, settings: Option<&Settings>, by: Option<By>) {
    let name = |e: &Entry| match by? {
        By::Channel => Some(e.campaign.channel.clone()),
        By::Country => {
            let places = settings?.campaign(e.campaign.id)?.places.as_ref();
            Some(match places.map_or(&[][..], |p| &p.targets) {
                [] => "everywhere".into(),
                [one] => one.clone(),
                [first, rest @ ..] => format!("{first} and {} more", rest.len()),
            })
        }
    };
    let mut groups: Vec<Group> = Vec::new();
    for line in &mut file.lines {
        line.group = entry_of(book, &line.id).and_then(name);
        if let Some(id) = line.group.as_ref().filter(|id| groups.iter().all(|g| g.id != **id)) {
            let before = file.groups.iter().find(|g| g.id == *id).cloned();
            groups.push(before.unwrap_or(Group { id: id.clone(), ..Group::default() }));
        }
    }
    file.groups = groups;
}

/// What a plan's lines are grouped by.
pub fn grouped_by(file: &PlanFile, book: &Book) -> Option<By> {
    let line = file.lines.iter().find(|l| l.group.is_some())?;
    let channel = entry_of(book, &line.id).map(|e| e.campaign.channel.as_str());
    if channel == line.group.as_deref() { Some(By::Channel) } else { Some(By::Country) }
}

/// Whether two states of one plan rest on different figures: more than 2% apart anywhere.
pub fn differs(a: &PlanFile, b: &PlanFile) -> bool {
    let apart = |x: f64, y: f64| (x - y).abs() > 0.02 * x.abs().max(y.abs()).max(1e-9);
    a.lines.iter().zip(&b.lines).any(|(x, y)| {
        let results = |l: &Line, days: f64| l.response.at(l.current.max(1.0) / days);
        apart(x.current, y.current) || apart(results(x, a.days), results(y, b.days))
    })
}

/// What the person typed into a plan, by field name.
pub type Typed = HashMap<String, String>;

/// An error at a field.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FieldError {
    /// The field's name.
    pub field: String,
    /// What to do.
    pub message: String,
}

/// Takes what was typed into the plan; every field that can't be read is named, the others are taken.
pub fn edit(file: &mut PlanFile, fields: &Typed) -> Vec<FieldError> {
    let mut errors = Vec::new();
    let (mut shares_wrong, mut shares_unread) = (Vec::new(), Vec::new());
    let mut read =
        |field: &str, base: Option<f64>, least: f64, set: &mut dyn FnMut(Option<f64>)| {
            let Some(text) = fields.get(field) else { return };
            match typed_number::amount(text, base) {
                Ok(Some(x)) if x < least || x > 1e12 => errors.push(FieldError {
                    field: field.into(),
                    message: if least > 0.0 {
                        "a number above 0 is needed".into()
                    } else {
                        "an amount of 0 or more is needed".into()
                    },
                }),
                Ok(x) => set(x),
                Err(message) => errors.push(FieldError { field: field.into(), message }),
            }
        };
    let step = file.step;
    let whole = |x: f64| if step > 0.0 { (x / step).round() * step } else { x };
    let total = file.total.amount;
    read("total", Some(total), 0.0, &mut |x| file.total.amount = x.map_or(total, whole));
    read("max_cpa", file.limits.max_cpa, 1e-9, &mut |x| file.limits.max_cpa = x);
    read("min_roas", file.limits.min_roas, 1e-9, &mut |x| file.limits.min_roas = x);
    read("min_conversions", file.limits.min_conversions, 0.0, &mut |x| {
        file.limits.min_conversions = x
    });
    for (i, line) in file.lines.iter_mut().enumerate() {
        let current = line.current;
        read(&format!("floor-{i}"), Some(current), 0.0, &mut |x| line.floor = x.unwrap_or(0.0));
        read(&format!("ceiling-{i}"), Some(current), 0.0, &mut |x| line.ceiling = x);
        let (floor, ceiling) = (line.floor, line.ceiling.unwrap_or(f64::INFINITY));
        // A handle is dragged within its brackets.
        let within = |x: f64| whole(x.clamp(floor, ceiling.max(floor)));
        read(&format!("fixed-{i}"), Some(current), 0.0, &mut |x| line.fixed = x.map(within));
    }
    for group in &mut file.groups {
        let present: f64 = file
            .lines
            .iter()
            .filter(|l| l.group.as_ref() == Some(&group.id))
            .map(|l| l.current)
            .sum();
        for (field, money, share) in [
            (format!("group-floor:{}", group.id), &mut group.floor, &mut group.share_floor),
            (format!("group-ceiling:{}", group.id), &mut group.ceiling, &mut group.share_ceiling),
        ] {
            // 20% is a share of the total, +20% is of what the group spends now.
            let text = fields.get(&field).map_or("", |t| t.trim());
            if text.ends_with('%') && !text.starts_with(['+', '-', '−']) {
                match typed_number::share(text) {
                    Ok(x) if x.is_none_or(|x| x <= 1.0) => (*money, *share) = (None, x),
                    Ok(_) => shares_wrong.push(field),
                    Err(message) => shares_unread.push(FieldError { field, message }),
                }
            } else {
                read(&field, Some(present), 0.0, &mut |x| (*money, *share) = (x, None));
            }
        }
    }
    errors.append(&mut shares_unread);
    errors.extend(
        shares_wrong.into_iter().map(|field| FieldError {
            field,
            message: "a share of the total is 100% at most".into(),
        }),
    );
    let mut share = |field: &str, most: f64, set: &mut dyn FnMut(Option<f64>)| {
        let Some(text) = fields.get(field) else { return };
        // A bare 20 is meant as 20%.
        let read = typed_number::share(text)
            .map(|x| x.map(|x| if x > most && !text.contains('%') { x / 100.0 } else { x }));
        match read {
            Ok(x) => set(x),
            Err(message) => errors.push(FieldError { field: field.into(), message }),
        }
    };
    share("max_change", 1.0, &mut |x| file.limits.max_change = x);
    share("test_share", 0.9, &mut |x| file.test_share = x);
    for (i, line) in file.lines.iter_mut().enumerate() {
        share(&format!("margin-{i}"), 1.0, &mut |x| line.margin = x);
    }
    share("margin", 1.0, &mut |x| file.lines.iter_mut().for_each(|l| l.margin = x));
    match fields.get("goal").map(String::as_str) {
        Some("value") => file.goal = Goal::Value,
        Some("clicks") => file.goal = Goal::Clicks,
        Some("profit") => file.goal = Goal::Profit,
        Some("least_spend") => file.goal = Goal::LeastSpend,
        Some("conversions") => file.goal = Goal::Conversions,
        _ => {}
    }
    match fields.get("use").map(String::as_str) {
        Some("up_to") => file.total.spend = Use::UpTo,
        Some("all") => file.total.spend = Use::All,
        _ => {}
    }
    let days = file.days;
    for (i, line) in file.lines.iter_mut().enumerate() {
        let typed = fields.get(&format!("elasticity-{i}")).map(|t| typed_number::amount(t, None));
        let shape = fields.get(&format!("shape-{i}")).map(String::as_str);
        let now = match line.response {
            Response::Power { elasticity, .. } => Some(elasticity),
            _ => None,
        };
        let elasticity = match (shape, typed) {
            (Some("power"), Some(Ok(Some(b)))) if b > 0.0 && b < 1.0 => Some(b),
            (Some("power"), None | Some(Ok(None))) => Some(now.unwrap_or(DEFAULT_ELASTICITY)),
            (Some("power"), Some(_)) => {
                errors.push(FieldError {
                    field: format!("elasticity-{i}"),
                    message: "an elasticity lies above 0 and below 1, such as 0.7".into(),
                });
                continue;
            }
            (Some("constant"), _) => None,
            // As it was fitted.
            _ => continue,
        };
        let same = match elasticity {
            // Shown to three places.
            Some(b) => now.is_some_and(|now| (now - b).abs() < 6e-4),
            None => matches!(line.response, Response::Constant { .. }),
        };
        if !same {
            line.response = through_present(line, days, elasticity);
            // A curve drawn by hand has no evidence.
            line.precision = None;
        }
    }
    if let Err(error) = file.check()
        && errors.is_empty()
    {
        errors.push(whole_error(&error));
    }
    errors
}

fn whole_error(error: &PlanFileError) -> FieldError {
    let text = error.to_string();
    let field = if text.starts_with("limits.min_conversions") {
        "min_conversions"
    } else if text.contains(".margin") {
        "margin"
    } else {
        "total"
    };
    FieldError {
        field: field.into(),
        message: text.rsplit("; ").next().unwrap_or(&text).to_owned(),
    }
}

/// A response of another shape that brings as much at the present spend.
fn through_present(line: &Line, days: f64, elasticity: Option<f64>) -> Response {
    let per_day = line.current / days;
    let conversions = present_conversions(line, days) / days;
    match (elasticity, line.cost_per_click()) {
        (Some(elasticity), _) if per_day > 0.0 => {
            Response::Power { scale: conversions / per_day.powf(elasticity), elasticity }
        }
        (None, Some(cpc)) if per_day > 0.0 => {
            Response::Constant { cpc, cvr: conversions / (per_day / cpc) }
        }
        _ => line.response,
    }
}

/// Whether a plan is in money of a month, on fitted curves.
pub fn of_a_month(file: &PlanFile) -> bool {
    (file.days - MONTH).abs() < 1e-9
}

/// Conversions of a line at its present spend.
pub fn present_conversions(line: &Line, days: f64) -> f64 {
    line.results(line.current, days)
}

/// A plan solved, with what its limits cost.
#[derive(Clone, Debug)]
pub struct Worked {
    /// What was solved.
    pub problem: Problem,
    /// The answer.
    pub answer: Answer,
    /// What each floor and ceiling that holds something costs: (name, which bound, of the goal).
    pub costs: Vec<(String, HeldBy, f64)>,
}

impl Worked {
    /// The plan, if its limits can be kept.
    pub fn solved(&self) -> Option<&Solved> {
        match &self.answer {
            Answer::Optimal(solved) => Some(solved),
            Answer::Infeasible { .. } => None,
        }
    }
}

/// Solves a checked plan.
pub fn work(file: &PlanFile) -> Worked {
    let problem = file.problem();
    let answer = solve(&problem);
    let costs = match &answer {
        Answer::Optimal(solved) => limit_costs(&problem, solved),
        Answer::Infeasible { .. } => Vec::new(),
    };
    Worked { problem, answer, costs }
}

/// Makes the change that a repair proposes.
pub fn mend(file: &mut PlanFile, repair: &Repair) {
    let mut problem = file.problem();
    repair.apply(&mut problem);
    file.set_problem(problem);
}

/// Why a line of a solved plan gets what it gets, in a sentence without an end.
pub fn why(worked: &Worked, solved: &Solved, i: usize) -> String {
    let (line, answer) = (&worked.problem.lines[i], &solved.lines[i]);
    let thousand = |x: f64| {
        let x = 1000.0 * x;
        number(x, if x.abs() < 10.0 { 2 } else { usize::from(x.abs() < 1000.0) })
    };
    // At the best split every line that nothing holds brings as much for the next unit.
    let free = solved.lines.iter().find(|l| l.held_by == HeldBy::Nothing).map(|l| l.marginal);
    let elsewhere = free.or_else(|| solved.next_1000.map(|x| x / 1000.0));
    let here = marginal_at(&worked.problem, i, line.current.max(0.01));
    let compared = || match elsewhere {
        Some(e) if (here / e - 1.0).abs() < 0.005 => {
            format!(
                "the last of the money goes here, where 1\u{202f}000 more bring {}",
                thousand(here)
            )
        }
        Some(e) => {
            format!("1\u{202f}000 more bring {} here, {} elsewhere", thousand(here), thousand(e))
        }
        None => String::new(),
    };
    match answer.held_by {
        HeldBy::Fixed => "set by hand".into(),
        HeldBy::Capacity => format!(
            "{} is all it can spend at its bid or target",
            money(line.capacity.unwrap_or(0.0) * worked.problem.days)
        ),
        HeldBy::Nothing => compared(),
        HeldBy::Floor | HeldBy::GroupFloor if answer.budget >= line.current => {
            "its floor asks for it".into()
        }
        HeldBy::Floor | HeldBy::GroupFloor | HeldBy::Ceiling | HeldBy::GroupCeiling => compared(),
    }
}

/// Lines that the plan raises although the campaign does not use the budget that it has.
pub fn with_money_to_spare(book: &Book, file: &PlanFile, solved: &Solved) -> Vec<String> {
    let spare = |id: &str| {
        book.entries.iter().any(|e| {
            let hold = e.hold(book.period.window);
            line_id(book, e) == id
                && hold.used.is_some_and(|u| u < 0.8)
                && hold.held_by(None) == Hold::Neither
        })
    };
    let raised = file.lines.iter().zip(&solved.lines).filter(|(l, a)| a.budget > 1.02 * l.current);
    raised.filter(|(l, _)| spare(&l.id)).map(|(l, _)| l.id.clone()).collect()
}

/// Saves a new plan.
pub async fn add(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    name: &str,
    book: &Book,
    file: &PlanFile,
) -> Result<PlanId, DeskError> {
    Ok(plans::add(db, account.id, person, &named(name)?, book.period.window, &body(file)?).await?)
}

/// Saves changes to a plan.
pub async fn save(
    db: &PgPool,
    account: &Account,
    id: PlanId,
    name: &str,
    file: &PlanFile,
) -> Result<(), DeskError> {
    if plans::update(db, account.id, id, &named(name)?, &body(file)?).await? {
        Ok(())
    } else {
        Err(DeskError::NotFound("plan"))
    }
}

/// Saves a copy of a plan.
pub async fn duplicate(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    id: PlanId,
) -> Result<PlanId, DeskError> {
    let opened = open(db, account, id).await?;
    let name = named(&format!("{}, copy", opened.plan.name))?;
    Ok(plans::add(db, account.id, person, &name, opened.plan.window, &opened.plan.body).await?)
}

/// Holds the month against a plan, or against none.
pub async fn hold_month(
    db: &PgPool,
    account: &Account,
    id: Option<PlanId>,
) -> Result<(), DeskError> {
    if plans::keep(db, account.id, id).await? { Ok(()) } else { Err(DeskError::NotFound("plan")) }
}

/// Removes a plan.
pub async fn remove(db: &PgPool, account: &Account, id: PlanId) -> Result<(), DeskError> {
    Ok(plans::delete(db, account.id, id).await?)
}

/// One plan.
pub async fn open(db: &PgPool, account: &Account, id: PlanId) -> Result<Opened, DeskError> {
    let plan = plans::get(db, account.id, id).await?.ok_or(DeskError::NotFound("plan"))?;
    let file = read(&plan)?;
    Ok(Opened { plan, file })
}

/// The account's plans.
pub async fn list(db: &PgPool, account: &Account) -> Result<Vec<Opened>, DeskError> {
    plans::list(db, account.id)
        .await?
        .into_iter()
        .map(|plan| Ok(Opened { file: read(&plan)?, plan }))
        .collect()
}

/// A saved plan, with its campaigns by their names of now.
fn read(plan: &Plan) -> Result<PlanFile, DeskError> {
    let mut file: PlanFile =
        serde_json::from_value(plan.body.clone()).map_err(tiller_store::StoreError::from)?;
    for line in &mut file.lines {
        if let Some(name) = plan.renamed.get(&line.id) {
            line.id.clone_from(name);
        }
    }
    Ok(file)
}

fn body(file: &PlanFile) -> Result<serde_json::Value, DeskError> {
    Ok(serde_json::to_value(file).map_err(tiller_store::StoreError::from)?)
}

fn named(name: &str) -> Result<String, DeskError> {
    let name = name.trim();
    match name.chars().count() {
        0 => Err(DeskError::Invalid("give the plan a name".into())),
        1..=120 => Ok(name.to_owned()),
        _ => Err(DeskError::Invalid("a name has at most 120 characters; shorten it".into())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file() -> PlanFile {
        let text = r#"{"format":"gold-tiller/plan@1","currency":"EUR","goal":"conversions","total":{"amount":1000,"use":"all"},"days":10,
            "lines":[{"id":"a","current":600,"cpc":2,"response":{"kind":"constant","cpc":2,"cvr":0.05}},
                     {"id":"b","current":400,"cpc":1,"response":{"kind":"constant","cpc":1,"cvr":0.02}}]}"#;
        PlanFile::read(text).unwrap()
    }

    fn fields(pairs: &[(&str, &str)]) -> Typed {
        pairs.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect()
    }

    #[test]
    fn what_is_typed_is_taken() {
        let mut f = file();
        let errors = edit(
            &mut f,
            &fields(&[
                ("total", "+10%"),
                ("floor-0", "50%"),
                ("ceiling-1", "1.250,50"),
                ("max_change", "20"),
                ("use", "up_to"),
            ]),
        );
        assert!(errors.is_empty(), "{errors:?}");
        assert_eq!((f.total.amount, f.total.spend), (1100.0, Use::UpTo));
        assert_eq!(
            (f.lines[0].floor, f.lines[1].ceiling, f.limits.max_change),
            (300.0, Some(1250.5), Some(0.2))
        );
    }

    #[test]
    fn a_curve_passes_through_the_present() {
        let mut f = file();
        assert!(edit(&mut f, &fields(&[("shape-0", "power"), ("elasticity-0", "0,6")])).is_empty());
        assert!((present_conversions(&f.lines[0], f.days) - 15.0).abs() < 1e-9);
        assert!(matches!(f.lines[0].response, Response::Power { elasticity: 0.6, .. }));
        assert!(edit(&mut f, &fields(&[("shape-0", "constant")])).is_empty());
        assert!(
            matches!(f.lines[0].response, Response::Constant { cpc: 2.0, cvr } if (cvr - 0.05).abs() < 1e-12)
        );
    }

    #[test]
    fn errors_stand_at_their_fields_and_the_rest_is_kept() {
        let mut f = file();
        let errors = edit(
            &mut f,
            &fields(&[
                ("total", "much"),
                ("floor-0", "-3"),
                ("floor-1", "10"),
                ("shape-1", "power"),
                ("elasticity-1", "2"),
            ]),
        );
        let names: Vec<_> = errors.iter().map(|e| e.field.as_str()).collect();
        assert_eq!(names, ["total", "floor-0", "elasticity-1"]);
        assert_eq!((f.total.amount, f.lines[1].floor), (1000.0, 10.0));
        let least = edit(&mut file(), &fields(&[("goal", "least_spend")]));
        assert_eq!(least[0].field, "min_conversions");
    }
}
