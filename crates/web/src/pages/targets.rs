//! Targets: what a result may cost, for the account and for campaigns.

use std::collections::HashMap;

use askama::Template;
use askama_web::WebTemplate;
use axum::Form;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use tiller_core::Target;
use tiller_desk::{CampaignId, accounts, entry};

use crate::App;
use crate::error::PageError;
use crate::extract::{Editor, Id, Member};
use crate::frame::{Frame, Station};
use crate::pages::book;
use crate::params::Params;

/// A form for one target.
#[derive(Template, WebTemplate)]
#[template(path = "targets.html")]
struct TargetsPage {
    frame: Frame,
    title: String,
    action: String,
    back: String,
    campaign: bool,
    cpa: String,
    roas: String,
    kind: &'static str,
    default: String,
    wrong: Option<String>,
    own: Vec<(String, String, String)>,
}

fn shown(target: Option<Target>) -> (&'static str, String, String) {
    let text = |x: f64| if x.fract() == 0.0 { format!("{x:.0}") } else { format!("{x}") };
    match target {
        Some(Target::Cpa(x)) => ("cpa", text(x), String::new()),
        Some(Target::Roas(x)) => ("roas", String::new(), text(x)),
        None => ("none", String::new(), String::new()),
    }
}

/// A target in words.
fn words(target: Option<Target>) -> String {
    match target {
        Some(Target::Cpa(x)) => format!("CPA {}", tiller_desk::figures::money(x)),
        Some(Target::Roas(x)) => format!("ROAS {}", tiller_desk::figures::number(x, 2)),
        None => "none".into(),
    }
}

fn read(form: &HashMap<String, String>) -> Result<Option<Target>, String> {
    let field = |name: &str| form.get(name).map_or("", String::as_str);
    let needed = |text: &str| {
        entry::amount(text, None)?
            .filter(|x| *x > 0.0)
            .ok_or_else(|| "write a number above 0, or choose no target".to_owned())
    };
    match field("kind") {
        "cpa" => Ok(Some(Target::Cpa(needed(field("cpa"))?))),
        "roas" => Ok(Some(Target::Roas(needed(field("roas"))?))),
        "none" => Ok(None),
        _ => Err("choose what kind of target it is".into()),
    }
}

async fn page(
    app: &App,
    member: &Member,
    params: &Params,
    campaign: Option<CampaignId>,
) -> Result<TargetsPage, PageError> {
    let frame = Frame::new(member, Station::Targets, params);
    let base = frame.base();
    let book = book(&app.pool, member, params).await?;
    let days = params.only_period();
    let entry = match (campaign, &book) {
        (Some(id), Some(book)) => Some(book.entry(id)?),
        (Some(_), None) => {
            return Err(PageError::NotFound("There is no such campaign in this account.".into()));
        }
        (None, _) => None,
    };
    let target = entry.map_or(member.account.target(), |e| e.campaign.own_target);
    let (kind, cpa, roas) = shown(target);
    let own = book.iter().flat_map(|b| &b.entries).filter(|e| e.campaign.own_target.is_some());
    let own = own
        .map(|e| {
            (
                e.campaign.name.clone(),
                words(e.target),
                format!("{base}/targets/{}{days}", e.campaign.id),
            )
        })
        .collect();
    Ok(TargetsPage {
        title: entry.map_or_else(
            || "Target of the account".to_owned(),
            |e| format!("Target of {}", e.campaign.name),
        ),
        action: campaign.map_or_else(
            || format!("{base}/targets{days}"),
            |id| format!("{base}/targets/{id}{days}"),
        ),
        back: format!("{base}/spend{days}"),
        campaign: campaign.is_some(),
        cpa,
        roas,
        kind,
        default: words(member.account.target()),
        wrong: None,
        own,
        frame,
    })
}

async fn refuse(
    app: &App,
    member: &Member,
    params: &Params,
    campaign: Option<CampaignId>,
    form: &HashMap<String, String>,
    wrong: String,
) -> Result<Response, PageError> {
    let mut page = page(app, member, params, campaign).await?;
    let field = |name: &str| form.get(name).cloned().unwrap_or_default();
    (page.cpa, page.roas, page.wrong) = (field("cpa"), field("roas"), Some(wrong));
    page.kind = match field("kind").as_str() {
        "cpa" => "cpa",
        "roas" => "roas",
        _ => "none",
    };
    Ok((StatusCode::UNPROCESSABLE_ENTITY, page).into_response())
}

/// The account's target.
pub async fn show(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    page(&app, &member, &params, None).await
}

/// A campaign's own target.
pub async fn edit(
    member: Member,
    State(app): State<App>,
    Id(id): Id,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    page(&app, &member, &params, Some(CampaignId(id))).await
}

/// Sets the account's target.
pub async fn set_default(
    Editor(member): Editor,
    State(app): State<App>,
    params: Params,
    Form(form): Form<HashMap<String, String>>,
) -> Result<Response, PageError> {
    match read(&form) {
        Ok(target) => accounts::set_default_target(&app.pool, member.account.id, target).await?,
        Err(wrong) => return refuse(&app, &member, &params, None, &form, wrong).await,
    }
    Ok(Redirect::to(&format!("/accounts/{}/spend{}", member.account.slug, params.only_period()))
        .into_response())
}

/// Sets a campaign's own target.
pub async fn set_own(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id,
    params: Params,
    Form(form): Form<HashMap<String, String>>,
) -> Result<Response, PageError> {
    match read(&form) {
        Ok(target) => {
            accounts::set_target(&app.pool, member.account.id, CampaignId(id), target).await?
        }
        Err(wrong) => {
            return refuse(&app, &member, &params, Some(CampaignId(id)), &form, wrong).await;
        }
    }
    Ok(Redirect::to(&format!("/accounts/{}/spend{}", member.account.slug, params.only_period()))
        .into_response())
}
