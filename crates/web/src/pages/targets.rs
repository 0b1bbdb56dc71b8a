//! Targets and purposes: what a result may cost, for the account and for campaigns, and what each campaign is for.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use tiller_core::purpose::Purpose;
use tiller_core::{Price, Target};
use tiller_desk::account::decisions::{self, Chosen, Own};
use tiller_desk::bids::starting;
use tiller_desk::book::{Book, Entry};
use tiller_desk::numerals::{self, percent, typed_number};
use tiller_desk::{CampaignId, DeskError, wording};

use crate::App;
use crate::error::PageError;
use crate::extract::{Id, Member};
use crate::frame::{Frame, Station};
use crate::pages::book;
use crate::params::Params;
use crate::sent::{Fields, Sent};

/// A campaign with what it aims at and what it is for.
pub struct CampaignLine {
    id: CampaignId,
    name: String,
    channel: String,
    target: String,
    own: bool,
    /// The product line that it follows.
    follows: String,
    /// What it achieves.
    achieves: String,
    href: String,
    purpose: &'static str,
    guessed: bool,
}

/// A form for one target; of the account, with its campaigns.
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
    /// Names of the product lines, and the one that is followed.
    lines_there: Vec<String>,
    line: String,
    /// What it might start from, and whether its budget is large enough to learn: sentences.
    hints: Vec<String>,
    least: String,
    default: String,
    /// What is set now.
    before: Option<Target>,
    wrong: Option<String>,
    lines: Vec<CampaignLine>,
    purposes: Vec<(&'static str, &'static str)>,
}

fn shown(target: Option<Target>) -> (&'static str, String, String) {
    let text = |x: f64| if x.fract() == 0.0 { format!("{x:.0}") } else { format!("{x}") };
    match target {
        Some(Target::Cpa(cpa)) => ("cpa", text(cpa.units()), String::new()),
        Some(Target::Roas(x)) => ("roas", String::new(), text(x)),
        None => ("none", String::new(), String::new()),
    }
}

/// The target that a form tells. A number in a field says which kind is meant where no kind was chosen; in the
/// field of another kind than the chosen one it is an error, not lost, unless it only is what stood there (`before`).
fn read(form: &Fields, before: Option<Target>) -> Result<Chosen, String> {
    let field = |name: &str| form.get(name).map_or("", |text| text.trim());
    let number = |name: &str, label: &str, of: fn(f64) -> Target| {
        let read = typed_number::amount(field(name), None).map_err(|e| format!("{label}: {e}"))?;
        let target = read.and_then(|x| of(x).checked().ok());
        target.map(Some).ok_or_else(|| format!("{label}: type a number above 0"))
    };
    let (_, cpa, roas) = shown(before);
    let stood = |name: &str, typed: &str| typed == if name == "cpa" { &cpa } else { &roas };
    let other = |name: &str, label: &str, chosen: &str| match field(name) {
        "" => Ok(()),
        typed if stood(name, typed) => Ok(()),
        typed => Err(format!(
            "‘{typed}’ is in the field for {label}, but {chosen} is selected. Select {label}, or clear the field."
        )),
    };
    match field("kind") {
        "cpa" => {
            other("roas", "target ROAS", "target CPA")?;
            number("cpa", "Target CPA", |x| Target::Cpa(Price(x))).map(Chosen::Target)
        }
        "roas" => {
            other("cpa", "target CPA", "target ROAS")?;
            number("roas", "Target ROAS", Target::Roas).map(Chosen::Target)
        }
        "none" => {
            other("cpa", "target CPA", "no target of its own")?;
            other("roas", "target ROAS", "no target of its own")?;
            Ok(Chosen::Target(None))
        }
        "line" => {
            other("cpa", "target CPA", "a product line")?;
            other("roas", "target ROAS", "a product line")?;
            match field("line") {
                "" => Err("Select a product line.".into()),
                name => Ok(Chosen::Line(name.to_owned())),
            }
        }
        _ => Err("Select the kind of target.".into()),
    }
}

fn least_difference(form: &Fields) -> Result<Option<f64>, String> {
    let label = "Least difference";
    match form.get("least") {
        None => Ok(None),
        Some(text) => typed_number::share(text)
            .map_err(|e| format!("{label}: {e}"))?
            // `5` beside a percent sign of the label means 5%.
            .map(|x| if x > 0.5 && !text.contains('%') { x / 100.0 } else { x })
            .map(Some)
            .ok_or_else(|| format!("{label}: type a share such as 5%")),
    }
}

/// What a campaign achieves over the settled days, in the measure of its target.
fn achieves(book: Option<&Book>, e: &Entry) -> String {
    let tally = book.and_then(Book::settled).map(|w| e.tally(w)).unwrap_or_default();
    match e.target {
        Some(Target::Roas(_)) => numerals::or_absent(tally.roas(), |x| numerals::number(x, 2)),
        _ => numerals::or_absent(tally.cpa(), numerals::money),
    }
}

async fn page(
    app: &App,
    member: &Member,
    params: &Params,
    campaign: Option<CampaignId>,
) -> Result<TargetsPage, PageError> {
    let frame = Frame::new(member, Station::Bids, params);
    let base = frame.base();
    let book = book(&app.db, member, params).await?;
    let days = params.only_period();
    let entry = match (campaign, &book) {
        (Some(id), Some(book)) => Some(book.entry(id)?),
        (Some(_), None) => {
            return Err(PageError::NotFound("There is no such campaign in this account.".into()));
        }
        (None, _) => None,
    };
    let target = entry.map_or(member.account.target(), |e| e.campaign.own_target);
    let there = decisions::lines(&app.db, member.account.id).await.map_err(DeskError::from)?;
    let line = match campaign {
        None => there.account.clone(),
        Some(id) => there.campaigns.get(&id).cloned(),
    };
    let (kind, cpa, roas) = match &line {
        Some(_) => ("line", String::new(), String::new()),
        None => shown(target),
    };
    let hints = match (entry, &book) {
        (Some(entry), Some(book)) => starting::hints(&app.db, book, entry).await?,
        _ => Vec::new(),
    };
    let lines = book
        .iter()
        .flat_map(|b| &b.entries)
        .map(|e| CampaignLine {
            id: e.campaign.id,
            name: e.campaign.name.clone(),
            channel: e.campaign.channel.clone(),
            target: decisions::target_words(e.target, false),
            own: e.campaign.own_target.is_some(),
            follows: there.campaigns.get(&e.campaign.id).cloned().unwrap_or_default(),
            achieves: achieves(book.as_deref(), e),
            href: format!("{base}/targets/{}{days}", e.campaign.id),
            purpose: wording::purpose(e.purpose),
            guessed: e.campaign.own_purpose.is_none(),
        })
        .collect();
    Ok(TargetsPage {
        title: entry.map_or_else(
            || "Targets and purposes".to_owned(),
            |e| format!("Target of {}", e.campaign.name),
        ),
        action: campaign.map_or_else(
            || format!("{base}/targets{days}"),
            |id| format!("{base}/targets/{id}{days}"),
        ),
        back: campaign
            .map_or_else(|| format!("{base}/spend{days}"), |_| format!("{base}/targets{days}")),
        campaign: campaign.is_some(),
        cpa,
        roas,
        kind,
        lines_there: there.all.iter().map(|l| l.name.clone()).collect(),
        line: line.unwrap_or_default(),
        hints,
        least: percent(member.account.least_difference) + "%",
        default: decisions::target_words(member.account.target(), false),
        before: target,
        wrong: None,
        lines,
        purposes: Purpose::ALL.iter().map(|p| (p.word(), wording::purpose(*p))).collect(),
        frame,
    })
}

async fn refuse(
    app: &App,
    member: &Member,
    params: &Params,
    campaign: Option<CampaignId>,
    form: &Fields,
    wrong: String,
) -> Result<Response, PageError> {
    let mut page = page(app, member, params, campaign).await?;
    let field = |name: &str| form.text(name).to_owned();
    (page.cpa, page.roas, page.wrong) = (field("cpa"), field("roas"), Some(wrong));
    if let Some(least) = form.get("least") {
        least.clone_into(&mut page.least);
    }
    page.line = field("line");
    page.kind = match field("kind").as_str() {
        "cpa" => "cpa",
        "roas" => "roas",
        "line" => "line",
        _ => "none",
    };
    Ok((StatusCode::UNPROCESSABLE_ENTITY, page).into_response())
}

/// The account's target, and its campaigns'.
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
    Id(id): Id<CampaignId>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    page(&app, &member, &params, Some(id)).await
}

/// Sets the account's target.
pub async fn set_default(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    set(app, member, params, None, fields).await
}

/// Sets a campaign's own target.
pub async fn set_own(Id(id): Id<CampaignId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    set(app, member, params, Some(id), fields).await
}

async fn set(
    app: &App,
    member: &Member,
    params: &Params,
    campaign: Option<CampaignId>,
    form: &Fields,
) -> Result<Response, PageError> {
    // A campaign of another account is not found; the form is refused before anything is set.
    let before = page(app, member, params, campaign).await?.before;
    let read = read(form, before).and_then(|target| Ok((target, least_difference(form)?)));
    let (target, least) = match read {
        Ok(read) => read,
        Err(wrong) => return refuse(app, member, params, campaign, form, wrong).await,
    };
    let (account, person) = (member.account.id, member.person.id);
    let set = async || {
        decisions::set_target(&app.db, account, person, campaign, &target).await?;
        if let Some(least) = least.filter(|_| campaign.is_none()) {
            let own = Own::LeastDifference(least);
            decisions::decide(&app.db, account, Some(person), campaign, &own).await?;
        }
        Ok(())
    };
    match set().await {
        Ok(()) => {}
        Err(DeskError::Invalid(wrong)) => {
            return refuse(app, member, params, campaign, form, wrong).await;
        }
        Err(error) => return Err(PageError::from(error)),
    }
    Ok(Redirect::to(&format!("{}{}", member.path("targets"), params.only_period())).into_response())
}

/// Sets the purpose of several campaigns at once; an empty one goes back to the guess.
pub async fn set_purposes(sent: Sent) -> Result<Redirect, PageError> {
    let Sent { app, member, fields, .. } = &sent;
    let word = fields.text("purpose");
    let own = Own::Purpose((!word.is_empty()).then(|| word.to_owned()));
    let ids: Vec<CampaignId> = fields.ids("campaign", CampaignId);
    if ids.is_empty() {
        return Err(PageError::Invalid("Select at least one campaign, then a purpose.".into()));
    }
    for id in ids {
        let (account, person) = (member.account.id, Some(sent.person()));
        decisions::decide(&app.db, account, person, Some(id), &own).await?;
    }
    Ok(sent.on_to("targets"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::Price;

    fn form(fields: &[(&str, &str)]) -> Fields {
        Fields::of(fields)
    }

    #[test]
    fn a_number_in_the_wrong_field_is_said() {
        assert_eq!(
            read(&form(&[("kind", "cpa"), ("cpa", "30")]), None),
            Ok(Chosen::Target(Some(Target::Cpa(Price(30.0)))))
        );
        assert_eq!(read(&form(&[("kind", "none")]), None), Ok(Chosen::Target(None)));
        let line = form(&[("kind", "line"), ("line", "Kits")]);
        assert_eq!(read(&line, None), Ok(Chosen::Line("Kits".into())));
        assert!(read(&form(&[("kind", "line")]), None).is_err());
        let lost = read(&form(&[("kind", "none"), ("cpa", "30")]), None).unwrap_err();
        assert!(lost.contains("‘30’") && lost.contains("target CPA"), "{lost}");
        assert!(read(&form(&[("kind", "roas"), ("cpa", "30")]), None).is_err());
        assert!(read(&form(&[("kind", "cpa"), ("cpa", "-3")]), None).is_err());
    }

    #[test]
    fn what_stood_in_a_field_is_no_answer() {
        let form = form(&[("kind", "none"), ("roas", "12")]);
        assert_eq!(read(&form, Some(Target::Roas(12.0))), Ok(Chosen::Target(None)));
        assert!(read(&form, Some(Target::Roas(11.0))).is_err());
    }

    #[test]
    fn a_share_is_read_with_and_without_its_sign() {
        let least = |text| least_difference(&form(&[("least", text)])).unwrap();
        assert_eq!((least("5%"), least("5"), least("0.1")), (Some(0.05), Some(0.05), Some(0.1)));
        assert!(least_difference(&form(&[("least", "much")])).is_err());
        assert_eq!(least_difference(&form(&[])), Ok(None));
    }
}
