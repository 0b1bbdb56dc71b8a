//! New rules: written from a first sentence, ready-made and rehearsed, by posture, from a file.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use tiller_core::bid_rule::{Limits, Posture, Setup};
use tiller_core::ids::{CampaignId, RuleId};
use tiller_core::rule::{Body, Rule};
use tiller_desk::DeskError;
use tiller_desk::account::decisions;
use tiller_desk::numerals::{counted, money};
use tiller_desk::rules::file::RulesFile;
use tiller_desk::rules::ground::Ground;
use tiller_desk::rules::posture::{self as by_posture, Reasoned};
use tiller_desk::rules::rehearsal::{rehearse, times};
use tiller_desk::rules::sentence::Sentence;
use tiller_desk::rules::sets::{self, Set};
use tiller_desk::rules::{keeping, words};

use super::sentence::{ReadLine, read_lines};
use crate::App;
use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::pages::book_of_reports;
use crate::params::Params;
use crate::sent::Sent;

#[derive(Template, WebTemplate)]
#[template(path = "rule_new.html")]
struct NewPage {
    frame: Frame,
    sets: &'static [Set],
    campaigns: Vec<(CampaignId, String)>,
    lines: Vec<String>,
    wrong: String,
    text: String,
}

/// A rule of a set, with what it would have done.
pub struct Rehearsed {
    name: String,
    sentence: Vec<ReadLine>,
    said: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "rule_set.html")]
struct SetPage {
    frame: Frame,
    set: &'static Set,
    rules: Vec<Rehearsed>,
}

/// A threshold now and by posture.
pub struct Threshold {
    word: &'static str,
    title: &'static str,
    now: String,
    proposed: String,
    changes: bool,
    because: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "rule_posture.html")]
struct PosturePage {
    frame: Frame,
    /// The rule that it is for; none for a new one.
    rule: Option<(RuleId, String)>,
    campaign: CampaignId,
    name: String,
    line: String,
    posture: &'static str,
    /// Other postures: word and whether it is this one.
    postures: Vec<(&'static str, bool)>,
    lines: Vec<(String, bool)>,
    thresholds: Vec<Threshold>,
}

impl PosturePage {
    /// What is applied, by the words of its fields.
    fn values(&self) -> impl Iterator<Item = (&'static str, &String)> {
        self.thresholds.iter().map(|t| (t.word, &t.proposed))
    }
}

async fn new_page(
    member: &Member,
    app: &App,
    params: &Params,
    wrong: String,
    text: String,
) -> Result<Response, PageError> {
    let book = book_of_reports(&app.db, member, params).await?;
    let lines = decisions::lines(&app.db, member.account.id).await.map_err(DeskError::from)?;
    let status = if wrong.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    let page = NewPage {
        sets: sets::all(),
        campaigns: keeping::naming(&book).campaigns,
        lines: lines.all.into_iter().map(|l| l.name).collect(),
        wrong,
        text,
        frame: Frame::new(member, Station::Rules, params),
    };
    Ok((status, page).into_response())
}

/// The ways to begin.
pub async fn show(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    new_page(&member, &app, &params, String::new(), String::new()).await
}

fn of_key(key: &str) -> Result<&'static Set, PageError> {
    Set::of(key).ok_or_else(|| PageError::NotFound(format!("There is no ready-made set ‘{key}’.")))
}

/// A ready-made set with what it would have done here, before it is taken.
pub async fn set(
    member: Member,
    State(app): State<App>,
    Path(parts): Path<std::collections::HashMap<String, String>>,
    params: Params,
) -> Result<Response, PageError> {
    let set = of_key(parts.get("key").map_or("", String::as_str))?;
    let book = book_of_reports(&app.db, &member, &params).await?;
    let naming = keeping::naming(&book);
    let mut ground = Ground::of_book(&app.db, book).await?;
    let mut rules = Vec::new();
    for rule in set.rules() {
        let r = rehearse(&app.db, &mut ground, &rule, None, None).await?;
        let weeks =
            counted((r.days.to - r.days.from).num_days().unsigned_abs() / 7, "week", "weeks");
        let stops = r.sum.right + r.sum.mistakes;
        let pauses = match stops {
            0 => String::new(),
            n => format!(
                " {} of {} were right by what followed.",
                r.sum.right,
                counted(n as u64, "stop", "stops")
            ),
        };
        let kept = match r.rehearsal.acts.len() {
            0 => String::new(),
            _ => format!(", keeping {}", money(r.sum.kept.mid)),
        };
        rules.push(Rehearsed {
            sentence: read_lines(&Sentence::of(&rule, &naming)),
            said: format!(
                "In the last {weeks} it {}{kept}.{pauses}",
                times(r.rehearsal.acts.len())
            ),
            name: rule.name,
        });
    }
    let frame = Frame::new(&member, Station::Rules, &params);
    Ok(SetPage { frame, set, rules }.into_response())
}

/// Adds what was chosen, switched off: a first sentence, a set, or thresholds by posture.
pub async fn add(sent: Sent) -> Result<Redirect, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let naming = keeping::naming(&book);
    let account = &member.account;
    let rules: Vec<Rule> = match fields.text("begin") {
        "set" => of_key(fields.text("set"))?.rules().collect(),
        "posture" => {
            let asked =
                Asked::read(fields.text("campaign"), fields.text("line"), fields.text("posture"))?;
            let (setup, _, name) = asked.setup(app, member, &book).await?;
            vec![by_posture::rule(
                &format!("{name}, {}", asked.posture.word()),
                asked.campaign,
                &setup,
            )]
        }
        _ => vec![sets::first_rule()],
    };
    let mut last = None;
    let several = rules.len() > 1;
    for rule in &rules {
        last = Some(keeping::add(&app.db, account, sent.person(), rule, &naming).await?);
    }
    Ok(match last {
        Some(id) if !several => sent.on_to(&format!("rules/{id}")),
        _ => sent.on_to("rules"),
    })
}

/// Adds the rules of a file, switched off.
pub async fn import(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let text = fields.text("rules");
    let book = book_of_reports(&app.db, member, params).await?;
    let naming = keeping::naming(&book);
    let ground = Ground::of_book(&app.db, book).await?;
    let names = ground.names(&app.db).await?;
    let account = &member.account;
    let read = RulesFile::read(text).and_then(|file| {
        if file.currency.eq_ignore_ascii_case(&account.currency) {
            file.rules(&names)
        } else {
            Err(tiller_desk::rules::file::RulesFileError::OtherCurrency {
                file: file.currency,
                account: account.currency.clone(),
            })
        }
    });
    match read {
        Ok(rules) => {
            for rule in &rules {
                keeping::add(&app.db, account, sent.person(), rule, &naming).await?;
            }
            Ok(sent.on_to("rules").into_response())
        }
        Err(why) => new_page(member, app, params, why.to_string(), text.to_owned()).await,
    }
}

/// A campaign, a product line and a posture.
struct Asked {
    campaign: CampaignId,
    line: String,
    posture: Posture,
}

impl Asked {
    fn read(campaign: &str, line: &str, posture: &str) -> Result<Self, PageError> {
        let campaign = campaign.parse().map(CampaignId).map_err(|_| {
            PageError::Invalid("Choose the campaign whose items the rule is for.".into())
        })?;
        let posture = Posture::read(posture).unwrap_or(Posture::Hold);
        Ok(Self { campaign, line: line.to_owned(), posture })
    }

    async fn setup(
        &self,
        app: &App,
        member: &Member,
        book: &std::sync::Arc<tiller_desk::book::Book>,
    ) -> Result<(Setup, Vec<Reasoned>, String), PageError> {
        let lines = decisions::lines(&app.db, member.account.id).await.map_err(DeskError::from)?;
        let line = lines.all.iter().find(|l| l.name == self.line).or(lines.all.first());
        let line = line.ok_or_else(|| {
            PageError::Invalid(
                "Thresholds by posture need a price and a margin: add a product line under Targets first.".into(),
            )
        })?;
        let name = book.entry(self.campaign)?.campaign.name.clone();
        let ground = Ground::of_book(&app.db, std::sync::Arc::clone(book)).await?;
        let standing = by_posture::standing(&app.db, &ground, self.campaign).await?;
        let (setup, reasons) = by_posture::reasoned(&member.account, self.posture, line, standing)?;
        Ok((setup, reasons, name))
    }
}

/// Thresholds by posture, each with its reason, beside those that a rule has now.
pub async fn posture(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let kept = match params.number::<i64>("rule")? {
        Some(id) => Some(keeping::one(&app.db, &member.account, RuleId(id)).await?),
        None => None,
    };
    let of_rule = kept.as_ref().and_then(|k| k.rule.campaigns().first().copied());
    let campaign = of_rule.map_or_else(|| params.text("campaign").to_owned(), |c| c.to_string());
    let asked = Asked::read(&campaign, params.text("line"), params.text("posture"))?;
    let (setup, reasons, name) = asked.setup(&app, &member, &book).await?;
    let now = kept.as_ref().map(|k| match &k.rule.body {
        Body::Bid(of) => of.limits.top,
        Body::Custom(_) => Limits::default(),
    });
    let proposed: Limits = setup.limits.into();
    let threshold = |r: &Reasoned| {
        let now = now.map(|l| words::value(r.field, &l)).unwrap_or_default();
        Threshold {
            word: r.field.word(),
            title: words::field(r.field),
            changes: kept.is_some() && now != words::value(r.field, &proposed),
            now,
            proposed: r.value.clone(),
            because: r.because.clone(),
        }
    };
    let lines = decisions::lines(&app.db, member.account.id).await.map_err(DeskError::from)?;
    let line = lines.all.iter().find(|l| l.name == asked.line).or(lines.all.first());
    let line = line.map(|l| l.name.clone()).unwrap_or_default();
    let page = PosturePage {
        rule: kept.as_ref().map(|k| (k.row.id, k.rule.name.clone())),
        campaign: asked.campaign,
        name,
        postures: Posture::ALL.iter().map(|p| (p.word(), *p == asked.posture)).collect(),
        posture: asked.posture.word(),
        lines: lines.all.iter().map(|l| (l.name.clone(), l.name == line)).collect(),
        line,
        thresholds: reasons.iter().map(threshold).collect(),
        frame: Frame::new(&member, Station::Rules, &params),
    };
    Ok(page.into_response())
}
