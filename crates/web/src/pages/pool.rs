//! A campaign's ad groups: shares of the money and of the results, fair tests, floors and ceilings, and a split by
//! audience.

use std::collections::HashMap;
use tiller_core::spot::Subject;

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use tiller_core::pool::Conflict;
use tiller_desk::budgets::pool as desk;
use tiller_desk::budgets::pool::{Group, Part, Pool};
use tiller_desk::numerals::{count, money, or_absent, percent, probability, sum};
use tiller_desk::tray::offer;
use tiller_desk::wording::Words;
use tiller_desk::{AdGroupId, CampaignId, DeskError};

use crate::App;
use crate::error::PageError;
use crate::extract::{Id, Member};
use crate::frame::{Frame, span};
use crate::pages::book_of_reports;
use crate::pages::campaign_budget::{Head, Side, Untold, open};
use crate::pages::tray::{put, said};
use crate::params::Params;
use crate::sent::Sent;

/// An ad group as a row.
pub struct GroupLine {
    id: AdGroupId,
    /// What its box carries, where anything is advised.
    button: Option<String>,
    name: String,
    href: String,
    spend: String,
    conversions: String,
    cpa: String,
    money_share: f64,
    money: String,
    result_share: f64,
    results: String,
    best: String,
    tested: &'static str,
    limits: String,
    advice: Option<String>,
    size: String,
    part: Option<String>,
}

#[derive(Template, WebTemplate)]
#[template(path = "pool.html")]
struct PoolPage {
    frame: Frame,
    head: Head,
    lead: Words,
    days: String,
    conflict: Option<String>,
    lines: Vec<GroupLine>,
    pooled: bool,
    least: String,
    wrong: Option<String>,
    split: bool,
}

fn lead(pool: &Pool) -> Words {
    let best = pool
        .groups
        .iter()
        .filter_map(|g| Some((g, g.standing?)))
        .max_by(|a, b| a.1.best.total_cmp(&b.1.best));
    let untested = pool.groups.iter().filter(|g| g.standing.is_some_and(|s| !s.tested)).count();
    let Some(budget) = pool.budget else {
        return Words::say(
            "Each of its ad groups has a budget of its own; none takes from another.",
        );
    };
    let words = Words::say("Its ad groups share ").strong(format!("{} a day", money(budget)));
    let words = match best {
        Some((g, s)) if s.won => words.and(". ").strong(g.name.clone()).and(format!(
            " brings the most for its money, with a probability of {}",
            probability(s.best)
        )),
        Some((g, s)) => words
            .and(". Which is best is not decided: ")
            .strong(g.name.clone())
            .and(format!(" leads with a probability of {}", probability(s.best))),
        None => words,
    };
    match untested {
        0 => words.and("."),
        n => words.and(format!(
            "; {n} of {} have not had a fair test, which takes {} each.",
            pool.groups.len(),
            money(tiller_core::pool::FAIR_TARGETS * pool.target)
        )),
    }
}

fn line(
    pool: &Pool,
    g: &Group,
    frame: &Frame,
    params: &Params,
    parts: &[Part],
    buttons: &HashMap<String, String>,
) -> GroupLine {
    let total = pool.total();
    let share = |x: f64, of: f64| if of > 0.0 { x / of } else { 0.0 };
    let (money_share, result_share) = (
        share(g.tally.spend.to_units(), total.spend.to_units()),
        share(g.tally.conversions, total.conversions),
    );
    let limits: Vec<String> = [
        g.own.map(|b| format!("{} a day", money(b))),
        g.floor.map(|f| format!("at least {}", money(f))),
        g.ceiling.map(|c| format!("at most {}", money(c))),
    ]
    .into_iter()
    .flatten()
    .collect();
    GroupLine {
        id: g.id,
        button: buttons.get(&g.id.to_string()).cloned(),
        name: g.name.clone(),
        href: frame.base().causes(Subject::AdGroup(g.id), &frame.days),
        spend: sum(g.tally.spend.to_units()),
        conversions: count(g.tally.conversions),
        cpa: or_absent(g.tally.cpa(), money),
        money_share: (1000.0 * money_share).round() / 10.0,
        money: percent(money_share),
        result_share: (1000.0 * result_share).round() / 10.0,
        results: percent(result_share),
        best: g.standing.map_or("–".into(), |s| probability(s.best)),
        tested: match g.standing {
            Some(s) if s.tested => "yes",
            Some(_) => "not yet",
            None => "–",
        },
        limits: limits.join(", "),
        advice: desk::advice(pool, g),
        size: params.text(&format!("size-{}", g.id)).to_owned(),
        part: parts.iter().find(|p| p.id == g.id).map(|p| money(p.a_day)),
    }
}

/// The page; a split that is asked for in the address is shown.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Id(id): Id<CampaignId>,
    params: Params,
) -> Result<Response, PageError> {
    let campaign = id;
    let (book, frame, head) = open(&app.db, &member, &params, campaign, Side::Pool).await?;
    let Some(pool) = desk::view(&app.db, &book, campaign).await? else {
        return Ok(Untold {
            lead: "What is set on its ad groups is not known, since its channel is not connected.",
            title: "Ad groups",
            head,
            frame,
        }
        .into_response());
    };
    let asked = !params.others(&["from", "to", "against_from", "against_to", "alone"]).is_empty();
    let sizes = |id: AdGroupId| Some(params.text(&format!("size-{id}")).to_owned());
    let (parts, wrong) = match asked
        .then(|| desk::by_audience(&member.account, &pool, &sizes, params.text("least")))
    {
        Some(Ok(parts)) => (parts, None),
        Some(Err(DeskError::Invalid(why))) => (Vec::new(), Some(why)),
        Some(Err(error)) => return Err(error.into()),
        None => (Vec::new(), None),
    };
    let buttons = offer::buttons(&desk::offers(&pool));
    Ok(PoolPage {
        lead: lead(&pool),
        days: span(pool.window),
        conflict: pool.conflict.map(|c| match c {
            Conflict::FloorsOver(by) => format!(
                "Its floors add up to {} more than the pooled budget. Lower one, or raise the budget.",
                money(by)
            ),
            Conflict::CeilingsUnder(by) => format!(
                "Its ceilings add up to {} less than the pooled budget: so much a day can’t be spent. Raise one, or lower the budget.",
                money(by)
            ),
        }),
        lines: pool.groups.iter().map(|g| line(&pool, g, &frame, &params, &parts, &buttons)).collect(),
        pooled: pool.budget.is_some(),
        least: params.text("least").to_owned(),
        wrong,
        split: !parts.is_empty(),
        head,
        frame,
    }
    .into_response())
}

/// Puts the advice on chosen ad groups in the tray.
pub async fn take(Id(id): Id<CampaignId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let outcome = desk::take(&app.db, &book, sent.person(), id, &fields.buttons()).await;
    said(&sent, outcome.map(put)).await
}

/// Puts a split by audience in the tray.
pub async fn take_split(Id(id): Id<CampaignId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let pool = desk::view(&app.db, &book, id).await?;
    let pool = pool.ok_or(DeskError::NotFound("campaign"))?;
    let typed = |name: &str| fields.get(name).map(str::to_owned);
    let sizes = |id: AdGroupId| typed(&format!("size-{id}"));
    let parts =
        desk::by_audience(&member.account, &pool, &sizes, &typed("least").unwrap_or_default());
    let outcome = match parts {
        Ok(parts) => desk::take_split(&app.db, &book, sent.person(), &pool, &parts).await,
        Err(error) => Err(error),
    };
    said(&sent, outcome.map(put)).await
}
