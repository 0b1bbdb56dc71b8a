//! Budgets: plans from the chosen campaigns and period, edited, solved, saved, compared.

use std::collections::HashMap;

use tiller_core::allocation::{
    Answer, Goal, Group, HeldBy, Limits, Line, Problem, Repair, Response, Solved, Total, Use,
    limit_costs, solve,
};
use tiller_core::verdict::HeldBy as Hold;
use tiller_core::{Currency, Target};
use tiller_store::people::Account;
use tiller_store::plans::{self, Plan};
use tiller_store::{CampaignId, PersonId, PgPool, PlanId};

use crate::book::{Book, Entry};
use crate::plan_file::{FORMAT, PlanFile};
use crate::{DeskError, entry};

/// No line moves by more than this unless the person says otherwise: more is a shock.
const DEFAULT_CHANGE: f64 = 0.2;
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

/// A plan of the chosen campaigns with the period's rates, its total what they spent.
pub fn draft(book: &Book, chosen: &[CampaignId]) -> Result<PlanFile, DeskError> {
    let fit = choices(book);
    let fit: Vec<&Entry> = fit
        .iter()
        .filter(|c| c.unfit.is_none() && chosen.contains(&c.entry.campaign.id))
        .map(|c| c.entry)
        .collect();
    if fit.is_empty() {
        return Err(DeskError::Invalid(
            "choose at least one campaign that has clicks in this period".into(),
        ));
    }
    let step = book.account.currency.parse::<Currency>().map_or(0.01, Currency::minor_unit);
    let lines: Vec<Line> = fit.iter().filter_map(|e| line(book, e)).collect();
    let mut groups: Vec<Group> = Vec::new();
    for line in &lines {
        if let Some(id) = line.group.as_ref().filter(|id| groups.iter().all(|g| g.id != **id)) {
            groups.push(Group { id: id.clone(), ..Group::default() });
        }
    }
    let spent: f64 = lines.iter().map(|l| l.current).sum();
    let by_value = fit.iter().all(|e| matches!(e.target, Some(Target::Roas(_))));
    Ok(PlanFile {
        format: FORMAT.into(),
        currency: book.account.currency.clone(),
        goal: if by_value { Goal::Value } else { Goal::Conversions },
        total: Total { amount: (spent / step).round() * step, spend: Use::All },
        step,
        days: book.period.window.days() as f64,
        lines,
        groups,
        limits: Limits { max_change: Some(DEFAULT_CHANGE), ..Limits::default() },
    })
}

/// What a campaign is called in plans: by its channel too where its name alone is not enough.
pub fn line_id(book: &Book, e: &Entry) -> String {
    let same_name = book.entries.iter().filter(|o| o.campaign.name == e.campaign.name).count() > 1;
    if same_name {
        format!("{} on {}", e.campaign.name, e.campaign.channel)
    } else {
        e.campaign.name.clone()
    }
}

fn line(book: &Book, e: &Entry) -> Option<Line> {
    let tally = e.tally(book.period.window);
    Some(Line {
        id: line_id(book, e),
        group: Some(e.campaign.channel.clone()),
        current: tally.spend.to_units(),
        value_per_conversion: Some(tally.aov().unwrap_or(0.0)),
        margin: None,
        cpc: tally.cpc().filter(|c| *c > 0.0),
        response: Response::Constant { cpc: tally.cpc().filter(|c| *c > 0.0)?, cvr: tally.cvr()? },
        floor: 0.0,
        ceiling: None,
    })
}

/// What the person typed into a plan, by field name.
pub type Fields = HashMap<String, String>;

/// An error at a field.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FieldError {
    /// The field's name.
    pub field: String,
    /// What to do.
    pub message: String,
}

/// Takes what was typed into the plan; every field that can't be read is named, the others are taken.
pub fn edit(file: &mut PlanFile, fields: &Fields) -> Vec<FieldError> {
    let mut errors = Vec::new();
    let mut read =
        |field: &str, base: Option<f64>, least: f64, set: &mut dyn FnMut(Option<f64>)| {
            let Some(text) = fields.get(field) else { return };
            match entry::amount(text, base) {
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
    }
    let mut share = |field: &str, most: f64, set: &mut dyn FnMut(Option<f64>)| {
        let Some(text) = fields.get(field) else { return };
        // A bare 20 is meant as 20%.
        let read = entry::share(text)
            .map(|x| x.map(|x| if x > most && !text.contains('%') { x / 100.0 } else { x }));
        match read {
            Ok(x) => set(x),
            Err(message) => errors.push(FieldError { field: field.into(), message }),
        }
    };
    share("max_change", 1.0, &mut |x| file.limits.max_change = x);
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
        let elasticity = fields.get(&format!("elasticity-{i}")).map(|t| entry::amount(t, None));
        let shape = fields.get(&format!("shape-{i}")).map(String::as_str);
        match (shape, elasticity) {
            (Some("power"), Some(Ok(Some(b)))) if b > 0.0 && b < 1.0 => {
                line.response = through_present(line, days, Some(b))
            }
            (Some("power"), None | Some(Ok(None))) => {
                line.response = through_present(line, days, Some(DEFAULT_ELASTICITY))
            }
            (Some("power"), Some(_)) => errors.push(FieldError {
                field: format!("elasticity-{i}"),
                message: "an elasticity lies above 0 and below 1, such as 0.7".into(),
            }),
            (Some("constant"), _) => line.response = through_present(line, days, None),
            _ => {}
        }
    }
    if let Err(error) = file.check()
        && errors.is_empty()
    {
        errors.push(whole_error(&error));
    }
    errors
}

fn whole_error(error: &crate::plan_file::PlanFileError) -> FieldError {
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

/// Conversions of a line at its present spend.
pub fn present_conversions(line: &Line, days: f64) -> f64 {
    let day = line.current / days;
    days * match line.response {
        Response::Constant { cpc, cvr } => day / cpc * cvr,
        Response::Power { scale, elasticity } => scale * day.powf(elasticity),
        Response::Saturating { limit, half_at } => limit * day / (half_at + day),
    }
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

/// Lines that the plan raises although the campaign does not use the budget that it has.
pub fn with_money_to_spare(book: &Book, file: &PlanFile, solved: &Solved) -> Vec<String> {
    let spare = |id: &str| {
        book.entries.iter().any(|e| {
            let hold = e.hold(book.period.window);
            e.campaign.name == id
                && hold.used.is_some_and(|u| u < 0.8)
                && hold.held_by(None) == Hold::Neither
        })
    };
    let raised = file.lines.iter().zip(&solved.lines).filter(|(l, a)| a.budget > 1.02 * l.current);
    raised.filter(|(l, _)| spare(&l.id)).map(|(l, _)| l.id.clone()).collect()
}

/// Saves a new plan.
pub async fn add(
    pool: &PgPool,
    account: &Account,
    person: PersonId,
    name: &str,
    book: &Book,
    file: &PlanFile,
) -> Result<PlanId, DeskError> {
    Ok(plans::add(pool, account.id, person, &named(name)?, book.period.window, &body(file)?)
        .await?)
}

/// Saves changes to a plan.
pub async fn save(
    pool: &PgPool,
    account: &Account,
    id: PlanId,
    name: &str,
    file: &PlanFile,
) -> Result<(), DeskError> {
    if plans::update(pool, account.id, id, &named(name)?, &body(file)?).await? {
        Ok(())
    } else {
        Err(DeskError::NotFound("plan"))
    }
}

/// Saves a copy of a plan.
pub async fn duplicate(
    pool: &PgPool,
    account: &Account,
    person: PersonId,
    id: PlanId,
) -> Result<PlanId, DeskError> {
    let opened = open(pool, account, id).await?;
    let name = named(&format!("{}, copy", opened.plan.name))?;
    Ok(plans::add(pool, account.id, person, &name, opened.plan.window, &opened.plan.body).await?)
}

/// Removes a plan.
pub async fn remove(pool: &PgPool, account: &Account, id: PlanId) -> Result<(), DeskError> {
    Ok(plans::delete(pool, account.id, id).await?)
}

/// One plan.
pub async fn open(pool: &PgPool, account: &Account, id: PlanId) -> Result<Opened, DeskError> {
    let plan = plans::get(pool, account.id, id).await?.ok_or(DeskError::NotFound("plan"))?;
    let file = read(&plan)?;
    Ok(Opened { plan, file })
}

/// The account's plans.
pub async fn list(pool: &PgPool, account: &Account) -> Result<Vec<Opened>, DeskError> {
    plans::list(pool, account.id)
        .await?
        .into_iter()
        .map(|plan| Ok(Opened { file: read(&plan)?, plan }))
        .collect()
}

fn read(plan: &Plan) -> Result<PlanFile, DeskError> {
    Ok(serde_json::from_value(plan.body.clone()).map_err(tiller_store::StoreError::from)?)
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

    fn fields(pairs: &[(&str, &str)]) -> Fields {
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
