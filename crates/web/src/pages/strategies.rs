//! Which bid strategy fits: all campaigns at once, one campaign with what fits it best first.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use tiller_core::strategy::Aim;
use tiller_desk::account::decisions::{self, Own};
use tiller_desk::bids::advisor::{self as desk, Choice, Fit, Fitted};
use tiller_desk::numerals::{count, counted};
use tiller_desk::tray::offer;
use tiller_desk::wording::{Words, capital};
use tiller_desk::{CampaignId, DeskError, change_words, tray};

use crate::App;
use crate::error::PageError;
use crate::extract::{Id, Member};
use crate::frame::{Frame, Station};
use crate::pages::book_of_reports;
use crate::pages::tray::{put, said};
use crate::params::Params;
use crate::sent::Sent;

/// A campaign with its strategy.
pub struct Line {
    name: String,
    channel: String,
    href: String,
    now: String,
    conversions: String,
    best: &'static str,
    fit: &'static str,
    because: String,
    note: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "strategies.html")]
struct StrategiesPage {
    frame: Frame,
    lead: Words,
    lines: Vec<Line>,
}

/// A strategy that fits.
pub struct Ranked {
    name: String,
    because: String,
    would_change: String,
    learns: Option<String>,
    /// What its button carries and says; none where it is set already.
    button: Option<(String, String)>,
}

#[derive(Template, WebTemplate)]
#[template(path = "strategy.html")]
struct StrategyPage {
    frame: Frame,
    id: CampaignId,
    name: String,
    lead: Words,
    known: Vec<(&'static str, String)>,
    /// Its aim: the word, what is shown, and whether that is it.
    aims: Vec<(&'static str, String, bool)>,
    fears: bool,
    target: String,
    ranked: Vec<Ranked>,
    quiet: Option<String>,
    may: bool,
}

fn set(f: &Fitted) -> String {
    change_words::strategy_in_full(f.strategy)
}

fn fit(fit: Fit) -> &'static str {
    match fit {
        Fit::First => "fits",
        Fit::Possible => "fits too",
        Fit::No => "no longer fits",
    }
}

fn best(f: &Fitted) -> &'static str {
    f.choices.first().map_or("", |c| change_words::kind(c.row.advice))
}

/// All campaigns; those whose strategy does not fit first.
pub async fn list(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let mut all = desk::of_account(&app.db, &book).await?;
    all.sort_by_key(|f| match f.fit {
        Fit::No => 0,
        Fit::Possible => 1,
        Fit::First => 2,
    });
    let frame = Frame::of_book(&member, Station::Bids, &params, &book);
    let lead = lead(&all);
    let line = |f: &Fitted| Line {
        name: f.name.clone(),
        channel: f.channel.clone(),
        href: format!("{}/bids/campaigns/{}/strategy{}", frame.base(), f.campaign, frame.days),
        now: set(f),
        conversions: count(f.facts.conversions),
        best: best(f),
        fit: fit(f.fit),
        because: f.choices.first().map(|c| c.row.because.clone()).unwrap_or_default(),
        note: f.quiet.as_ref().map(tiller_desk::book::quiet::Quiet::sentence).unwrap_or_default(),
    };
    Ok(StrategiesPage { lead, lines: all.iter().map(line).collect(), frame })
}

fn lead(all: &[Fitted]) -> Words {
    let of = |fit: Fit| all.iter().filter(|f| f.fit == fit).count();
    let (bad, other) = (of(Fit::No), of(Fit::Possible));
    let words = match bad {
        0 => Words::say("No strategy is out of place."),
        1 => Words::default().strong("One campaign").and(" has a strategy that no longer fits."),
        n => Words::default()
            .strong(format!("{n} campaigns"))
            .and(" have strategies that no longer fit."),
    };
    match other {
        0 => words,
        n => words.and(format!(
            " For {} the table names another first; change one at a time, and look back before the next.",
            counted(n as u64, "campaign", "campaigns")
        )),
    }
}

/// One campaign.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Id(id): Id<CampaignId>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let f = desk::of_campaign(&app.db, &book, id).await?;
    let frame = Frame::of_book(&member, Station::Bids, &params, &book);
    let entry = book.entry(id)?;
    let guessed = desk::aim_guessed(entry.target);
    let aims = std::iter::once(("", format!("as its target tells: {}", guessed.word())))
        .chain(Aim::ALL.iter().map(|a| (a.word(), a.word().to_owned())))
        .map(|(word, text)| {
            let on = f.answered.aim.map_or("", Aim::word) == word;
            (word, text, on)
        })
        .collect();
    let lead = Words::say("It bids by ").strong(set(&f)).and(match f.fit {
        Fit::First => "; nothing fits it better.".to_owned(),
        Fit::Possible => format!(", which fits; the table names {} first.", best(&f)),
        Fit::No => format!(", which no longer fits; {} does.", best(&f)),
    });
    let ranked = f.choices.iter().map(|c| ranked(c, &f.name)).collect();
    Ok(StrategyPage {
        id,
        lead,
        known: desk::known(&f.facts),
        aims,
        fears: f.answered.fears_runaway,
        target: decisions::target_words(entry.target, false),
        ranked,
        quiet: f.quiet.as_ref().map(tiller_desk::book::quiet::Quiet::sentence),
        may: frame.editor && frame.connected,
        name: f.name,
        frame,
    })
}

fn ranked(c: &Choice, name: &str) -> Ranked {
    let aims: Vec<String> = c.changes.iter().map(|p| change_words::aim(&p.set)).collect();
    Ranked {
        name: capital(change_words::kind(c.row.advice)),
        because: c.changes.first().map_or(c.row.because.clone(), |p| p.reason.clone()),
        would_change: c.row.would_change.clone(),
        learns: c.learns.as_deref().map(capital),
        button: (!aims.is_empty()).then(|| (c.offer(name).button(), aims.join("; "))),
    }
}

/// Takes down what figures can't tell: its aim, and whether spend that runs away is feared.
pub async fn answer(Id(id): Id<CampaignId>, sent: Sent) -> Result<Redirect, PageError> {
    let Sent { app, member, fields, .. } = &sent;
    let aim = match fields.text("aim") {
        "" => None,
        word => Some(Aim::read(word).ok_or_else(|| {
            PageError::Invalid(format!("‘{word}’ is no aim; choose {}.", Aim::ALLOWED))
        })?),
    };
    for own in [Own::Aim(aim), Own::FearsRunaway(fields.get("fears").is_some())] {
        let (account, person) = (member.account.id, Some(sent.person()));
        decisions::decide(&app.db, account, person, Some(id), &own).await?;
    }
    Ok(sent.on_to(&format!("bids/campaigns/{id}/strategy")))
}

/// Puts a strategy in the tray, as its button carries it.
pub async fn take(Id(id): Id<CampaignId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let f = desk::of_campaign(&app.db, &book, id).await?;
    let offers = f.choices.iter().map(|c| c.offer(&f.name)).collect();
    let outcome = match (f.quiet, offer::taken(&fields.buttons(), offers)) {
        (Some(quiet), _) => Err(DeskError::Invalid(quiet.sentence())),
        (None, Ok(chosen)) if chosen.is_empty() => {
            Err(DeskError::Invalid("choose a strategy; then put it in the tray".into()))
        }
        (None, Ok(chosen)) => {
            let all = chosen.into_iter().flatten().collect();
            tray::propose(&app.db, &member.account, sent.person(), all).await.map(put)
        }
        (None, Err(error)) => Err(error),
    };
    said(&sent, outcome).await
}
