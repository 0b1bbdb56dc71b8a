//! The logbook: what was changed and what came of it.

use crate::paths::Paths;
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use tiller_desk::account::decisions::{self, Decision};
use tiller_desk::logbook::{Entry, Show};
use tiller_desk::numerals::{day, full_day};
use tiller_desk::{ChangeId, DecisionId, change_words, logbook as desk, measure, tray};

use crate::App;
use crate::error::PageError;
use crate::extract::{Editor, Id, Member};
use crate::frame::{Frame, Station};
use crate::pages::{csv_file, download};
use crate::params::Params;
use crate::sent::Sent;

/// An entry as it is shown.
pub struct EntryLine {
    entry: Entry,
    when: String,
    href: String,
    title: &'static str,
    was: String,
    set_to: String,
    author: String,
    look_back: String,
    due: bool,
}

/// A decision as it is shown.
pub struct OwnLine {
    id: DecisionId,
    when: String,
    place: String,
    author: String,
    title: &'static str,
    was: String,
    set_to: String,
    undone: bool,
    undoes: bool,
}

fn own_line(d: &Decision) -> OwnLine {
    let of_campaign = d.campaign.is_some();
    OwnLine {
        id: d.id,
        when: full_day(d.at.date_naive()),
        place: d.name.clone().unwrap_or_else(|| "the account".into()),
        author: d.author.clone().unwrap_or_else(|| "set up with the account".into()),
        title: decisions::title(&d.set_to),
        was: decisions::value(&d.was, of_campaign),
        set_to: decisions::value(&d.set_to, of_campaign),
        undone: d.undone,
        undoes: d.undoes.is_some(),
    }
}

#[derive(Template, WebTemplate)]
#[template(path = "logbook.html")]
struct LogbookPage {
    frame: Frame,
    lines: Vec<EntryLine>,
    own: Vec<OwnLine>,
    shows: Vec<(&'static str, bool, Params)>,
    show: String,
    search: String,
    /// Where the entries before these stand.
    older: Option<Params>,
    /// Where the latest stand, if these are not they.
    newer: Option<Params>,
    any: bool,
}

fn line(entry: Entry, base: &Paths, today: chrono::NaiveDate) -> EntryLine {
    let c = &entry.change;
    EntryLine {
        when: c.from_day.map_or_else(
            || c.answered_at.map_or(String::new(), |t| day(t.date_naive())),
            |d| format!("from {}", day(d)),
        ),
        href: base.causes(entry.subject(), &Params::default()),
        title: change_words::title(&entry.set_to),
        was: entry.was.as_ref().map(change_words::value).unwrap_or_default(),
        set_to: change_words::value(&entry.set_to),
        author: tray::author(c),
        look_back: c.look_back.map(day).unwrap_or_default(),
        due: entry.due(today),
        entry,
    }
}

/// The page.
pub async fn show(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    let frame = Frame::new(&member, Station::Logbook, &params);
    let show = Show::read(params.text("show"));
    let search = params.text("q").to_owned();
    let today = member.standing.today;
    let after = params.text("after").parse().ok().map(ChangeId);
    let page = desk::page(&app.db, &member.account, show, &search, after, today).await?;
    let base = frame.base();
    let own = match show {
        Show::Own => decisions::list(&app.db, &member.account).await?,
        Show::All | Show::Due | Show::Refused => Vec::new(),
    };
    let own: Vec<OwnLine> = own
        .iter()
        .map(own_line)
        .filter(|l| {
            let text = format!("{} {} {} {}", l.place, l.title, l.set_to, l.author).to_lowercase();
            text.contains(&search.trim().to_lowercase())
        })
        .collect();
    Ok(LogbookPage {
        own,
        any: !page.entries.is_empty() || after.is_some() || show != Show::All || !search.is_empty(),
        older: page.more_after.map(|id| params.with("after", id)),
        newer: after.map(|_| params.with("after", "")),
        lines: page.entries.into_iter().map(|e| line(e, &base, today)).collect(),
        shows: Show::ALL
            .iter()
            .map(|(s, word, title)| {
                (*title, *s == show, params.with("show", word).with("after", ""))
            })
            .collect(),
        show: params.text("show").to_owned(),
        search,
        frame,
    })
}

/// The entries that are seen, as CSV.
pub async fn csv(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    let show = Show::read(params.text("show"));
    let entries =
        desk::all(&app.db, &member.account, show, params.text("q"), member.standing.today).await?;
    let header = [
        "answered_at",
        "from_day",
        "channel",
        "place",
        "setting",
        "from",
        "to",
        "author",
        "origin",
        "reason",
        "effect",
        "result",
        "answer",
        "look_back",
        "looked_back_at",
    ];
    let rows = entries.into_iter().map(|e| {
        let c = &e.change;
        let text = |d: Option<chrono::NaiveDate>| d.map_or(String::new(), |d| d.to_string());
        vec![
            c.answered_at.map_or(String::new(), |t| t.to_rfc3339()),
            text(c.from_day),
            c.channel_name.clone(),
            c.place.clone(),
            c.setting.clone(),
            e.was.as_ref().map(change_words::value).unwrap_or_default(),
            change_words::value(&e.set_to),
            tray::author(c),
            c.origin.clone(),
            c.reason.clone(),
            c.effect.clone(),
            c.state.word().to_owned(),
            c.answer.clone(),
            text(c.look_back),
            c.looked_at.map_or(String::new(), |t| t.to_rfc3339()),
        ]
    });
    csv_file(&format!("logbook-{}.csv", member.account.slug), &header.map(str::to_owned), rows)
}

/// The look-backs to come, as a calendar.
pub async fn calendar(member: Member, State(app): State<App>) -> Result<Response, PageError> {
    let look_backs = desk::look_backs(&app.db, &member.account).await?;
    let text = desk::calendar(&member.account, &look_backs);
    Ok(download(
        "text/calendar; charset=utf-8",
        &format!("look-backs-{}.ics", member.account.slug),
        text,
    ))
}

/// Puts the reverse in the tray.
pub async fn undo(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id<ChangeId>,
) -> Result<Redirect, PageError> {
    desk::undo(&app.db, &member.account, member.person.id, id).await?;
    Ok(Redirect::to(&member.path("tray")))
}

/// Sets again what stood before a decision.
pub async fn undo_own(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id<DecisionId>,
) -> Result<Redirect, PageError> {
    let own = decisions::undo(&app.db, &member.account, member.person.id, member.role, id).await?;
    if matches!(own, decisions::Own::Events(_) | decisions::Own::ClickWindow(_)) {
        measure::learn_lag_of(&app.db, &member.account).await?;
    }
    Ok(Redirect::to(&member.path("logbook?show=own")))
}

/// Puts a refused change back in the tray.
pub async fn again(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id<ChangeId>,
) -> Result<Redirect, PageError> {
    desk::again(&app.db, &member.account, id).await?;
    Ok(Redirect::to(&member.path("tray")))
}

/// Somebody has looked back.
pub async fn looked(Id(id): Id<ChangeId>, sent: Sent) -> Result<Redirect, PageError> {
    let Sent { app, member, .. } = &sent;
    desk::looked(&app.db, &member.account, id).await?;
    Ok(sent.back("logbook"))
}
