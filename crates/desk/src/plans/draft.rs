//! A plan of chosen campaigns, from what they can do with money now.

use tiller_core::allocation::{
    Answer, Goal, Limits, Line, Noise, Problem, Range, Response, Total, Use,
};
use tiller_core::flight::MONTH;
use tiller_core::ids::CampaignId;
use tiller_core::learning::SHOCK;
use tiller_core::{Currency, Target};
use tiller_store::PgPool;

use super::groups::{GroupBy, group};
use crate::account::settings::Settings;
use crate::book::{Book, Entry};
use crate::budgets::counted::Counted;
use crate::budgets::responses;
use crate::plans::file::{FORMAT, PlanFile};
use crate::{DeskError, advice};

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
) -> Result<(Settings, Vec<responses::Spender>), DeskError> {
    let known = advice::of_account(db, book).await?.known.clone();
    Ok((Settings::of_book(db, book).await?, known))
}

/// A plan of the chosen campaigns for a month, its total what they spend.
pub fn draft(
    book: &Book,
    known: &[responses::Spender],
    chosen: &[CampaignId],
) -> Result<PlanFile, DeskError> {
    let known: Vec<&responses::Spender> =
        known.iter().filter(|l| chosen.contains(&l.campaign)).collect();
    let all_fresh = known.iter().all(|l| l.fresh);
    let drafted = |known: &&responses::Spender| {
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
        noise: Some(noise(book, by_value, MONTH, &lines)),
        lines,
        groups: Vec::new(),
        limits: Limits { max_change: Some(SHOCK), ..Limits::default() },
        test_share: None,
    };
    group(&mut file, book, None, Some(GroupBy::Channel));
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

fn line(book: &Book, known: &responses::Spender) -> Option<Line> {
    let entry = book.entry(known.campaign).ok()?;
    let mut line = Line::new(line_id(book, entry), known.compared.response);
    learn(&mut line, known, MONTH);
    line.floor = ((known.least * MONTH).min(line.current) * 100.0).floor() / 100.0;
    // Nothing tells how much it could spend: it grows by what is no shock, and the plan learns from that.
    if line.capacity.is_none() && matches!(line.response, Response::Constant { .. }) {
        line.ceiling = Some(((1.0 + SHOCK) * line.current * 100.0).round() / 100.0);
    }
    Some(line)
}

/// Takes what is known of a campaign now into a plan's line.
fn learn(line: &mut Line, known: &responses::Spender, days: f64) {
    line.current = known.spend * days;
    line.value_per_conversion = Some(known.compared.worth.units());
    line.cpc = Some(known.cpc.units());
    line.response = known.compared.response;
    // What it spends now it can spend, whatever a few days of it say.
    line.capacity = known.budget_response.capacity.most.map(|most| most.max(known.spend));
    line.precision = Some(known.compared.precision);
}

/// Takes the newest curves, rates and present spends into a plan; its limits stay.
pub fn refresh(file: &mut PlanFile, book: &Book, known: &[responses::Spender]) {
    let days = file.days;
    file.noise = Some(noise(book, file.goal == Goal::Value, days, &file.lines));
    for line in &mut file.lines {
        let id = entry_of(book, &line.id).map(|e| e.campaign.id);
        if let Some(known) = known.iter().find(|k| Some(k.campaign) == id) {
            learn(line, known, days);
        }
    }
}

/// What a campaign will bring in so many days at so much a day, conversions or value, as a plan of it alone states that; with the
/// money, which is no more than it can spend.
pub fn at_money(
    book: &Book,
    known: &responses::Spender,
    a_day: f64,
    days: f64,
) -> Option<(f64, Range)> {
    let by_value = book.by_value();
    let mut line = line(book, known)?;
    learn(&mut line, known, days);
    let money = days * line.capacity.map_or(a_day, |most| a_day.min(most));
    (line.fixed, line.floor, line.ceiling) = (Some(money), 0.0, None);
    let problem = Problem {
        goal: if by_value { Goal::Value } else { Goal::Conversions },
        total: Total { amount: money, spend: Use::UpTo },
        step: 0.0,
        days,
        noise: Some(noise(book, by_value, days, std::slice::from_ref(&line))),
        lines: vec![line],
        groups: Vec::new(),
        limits: Limits::default(),
    };
    match problem.answer().ok()? {
        Answer::Optimal(solved) => Some((money, solved.outlook?.result)),
        Answer::Infeasible { .. } => None,
    }
}

/// What chance does to what a plan's campaigns count in so many days, conversions or value.
fn noise(book: &Book, by_value: bool, days: f64, lines: &[Line]) -> Noise {
    let planned = |e: &Entry| lines.iter().any(|l| l.id == line_id(book, e));
    let all = Counted::of_campaigns(book, by_value, planned);
    Noise { dispersion: all.dispersion() * all.each, drift: all.ahead(days).deviation }
}

/// Whether two states of one plan rest on different figures: more than 2% apart anywhere.
pub fn differs(a: &PlanFile, b: &PlanFile) -> bool {
    let apart = |x: f64, y: f64| (x - y).abs() > 0.02 * x.abs().max(y.abs()).max(1e-9);
    a.lines.iter().zip(&b.lines).any(|(x, y)| {
        let results = |l: &Line, days: f64| l.response.at(l.current.max(1.0) / days);
        apart(x.current, y.current) || apart(results(x, a.days), results(y, b.days))
    })
}
