//! The logbook: what was changed and what came of it.

use crate::paths::Paths;
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Redirect, Response};
use tiller_core::Micros;
use tiller_core::change_effect::CameOfIt;
use tiller_desk::account::decisions::{self, Decision};
use tiller_desk::logbook::{Entry, Show};
use tiller_desk::look_backs::sums::{self, Group, Sums};
use tiller_desk::look_backs::words::{self, in_words};
use tiller_desk::numerals::{counted, day, full_day, signed, sum};
use tiller_desk::wording::Words;
use tiller_desk::{ChangeId, DecisionId, change_words, logbook as desk, measure, tray};

use crate::App;
use crate::error::PageError;
use crate::extract::{Editor, Id, Member};
use crate::frame::{Frame, Station};
use crate::pages::{book, csv_file, download};
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
    /// What came of it: in a word with its tone, and in money.
    came: Option<(&'static str, &'static str, String)>,
}

impl EntryLine {
    fn worse(&self) -> bool {
        self.entry.change.came_of_it == Some(CameOfIt::Worse)
    }
}

/// Changes that are added up, as they are shown.
pub struct GroupLine {
    title: String,
    changes: i64,
    came: [i64; 3],
    tone: &'static str,
    worth: String,
    range: String,
    shared: String,
}

/// Groups under a heading.
pub struct Groups {
    heading: &'static str,
    lines: Vec<GroupLine>,
}

fn tone(came: CameOfIt) -> &'static str {
    match came {
        CameOfIt::Worked => "gain",
        CameOfIt::Worse => "harm",
        CameOfIt::Untold => "",
    }
}

fn group_line(g: &Group) -> GroupLine {
    GroupLine {
        title: g.title.clone(),
        changes: g.changes,
        came: g.came,
        tone: g.worth.map_or("", |w| tone(w.came_of_it())),
        worth: g.worth.as_ref().map_or("–".into(), |w| signed(w.mid, sum)),
        range: g.worth.as_ref().map_or(String::new(), |w| {
            let range = w.range();
            format!("{} to {}", signed(range.low, sum), signed(range.high, sum))
        }),
        shared: match g.shared {
            0 => String::new(),
            n if n == g.changes => "all together with changes of other lines".into(),
            n => format!("{n} of them together with changes of other lines"),
        },
    }
}

/// What the changes of a year came to, and how much of that chance would say.
fn came_to(sums: &Sums) -> Words {
    let all = &sums.all;
    if all.changes == 0 {
        return Words::say(
            "No look-back has come due yet. A change is judged once its seven days have settled, against campaigns in which nothing was changed.",
        );
    }
    let judged =
        counted(all.changes.unsigned_abs(), "change has been judged", "changes have been judged");
    let words = Words::say(format!("In the last twelve months {judged}: "))
        .strong(words::verdicts(all.came));
    let words = match &all.worth {
        Some(worth) => words.and(format!(". Together they {}.", in_words(worth))),
        None => words.and("."),
    };
    let chance = sums.chance;
    match chance.tried {
        0 => words,
        n => words.and(format!(
            " Of {} in which nothing was changed, the same test says ‘worked’ of {} and ‘made it worse’ of {}.",
            counted(n as u64, "week of a campaign", "weeks of campaigns"),
            chance.worked,
            chance.worse
        )),
    }
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

impl OwnLine {
    /// Whether somebody who looks for this means it.
    fn has(&self, search: &str) -> bool {
        let text = format!("{} {} {} {}", self.place, self.title, self.set_to, self.author);
        text.to_lowercase().contains(&search.trim().to_lowercase())
    }
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

/// A part of the logbook.
pub struct Tab {
    pub title: &'static str,
    pub here: bool,
    pub href: String,
}

/// Its parts: entries by what is shown of them, and how right we were.
pub fn tabs(frame: &Frame, shown: Option<Show>, params: &Params) -> Vec<Tab> {
    let base = frame.base();
    let of = |(show, word, title): &(Show, &'static str, &'static str)| Tab {
        title,
        here: Some(*show) == shown,
        href: format!("{base}/logbook{}", params.with("show", word).with("after", "")),
    };
    let right = Tab {
        title: "How right we were",
        here: shown.is_none(),
        href: format!("{base}/logbook/how-right-we-were{}", frame.days),
    };
    Show::ALL.iter().map(of).chain([right]).collect()
}

#[derive(Template, WebTemplate)]
#[template(path = "logbook.html")]
struct LogbookPage {
    frame: Frame,
    lines: Vec<EntryLine>,
    own: Vec<OwnLine>,
    worth: Option<(Words, Vec<Groups>)>,
    /// Whether something is due that can't be told.
    untold: bool,
    tabs: Vec<Tab>,
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
        came: c
            .came_of_it
            .zip(words::came_to(c))
            .map(|(came, text)| (words::verdict(came), tone(came), text)),
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
        Show::All | Show::Due | Show::Refused | Show::Worth => Vec::new(),
    };
    let worth = match show {
        Show::Worth => worth(&app, &member, &params).await?,
        Show::All | Show::Due | Show::Refused | Show::Own => None,
    };
    let own: Vec<OwnLine> = own.iter().map(own_line).filter(|l| l.has(&search)).collect();
    let untold = |e: &Entry| e.due(today) && e.change.came_of_it == Some(CameOfIt::Untold);
    Ok(LogbookPage {
        own,
        worth,
        untold: show == Show::Due && page.entries.iter().any(untold),
        any: !page.entries.is_empty() || after.is_some() || show != Show::All || !search.is_empty(),
        older: page.more_after.map(|id| params.with("after", id)),
        newer: after.map(|_| params.with("after", "")),
        lines: page.entries.into_iter().map(|e| line(e, &base, today)).collect(),
        tabs: tabs(&frame, Some(show), &params),
        show: params.text("show").to_owned(),
        search,
        frame,
    })
}

/// What changes were worth together.
async fn worth(
    app: &App,
    member: &Member,
    params: &Params,
) -> Result<Option<(Words, Vec<Groups>)>, PageError> {
    let Some(book) = book(&app.db, member, params).await? else { return Ok(None) };
    let sums = sums::of_account(&app.db, &book).await?;
    let groups =
        |heading, of: &[Group]| Groups { heading, lines: of.iter().map(group_line).collect() };
    let all = if sums.all.changes == 0 {
        Vec::new()
    } else {
        vec![
            groups("By month", &sums.months),
            groups("By who decided", &sums.hands),
            groups("By where it came from", &sums.kinds),
        ]
    };
    Ok(Some((came_to(&sums), all)))
}

/// The entries that are seen, as CSV.
pub async fn csv(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    let show = Show::read(params.text("show"));
    if show == Show::Own {
        return own_csv(&app, &member, params.text("q")).await;
    }
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
        "came_of_it",
        "worth",
        "worth_low",
        "worth_high",
        "judged_with",
    ];
    let rows = entries.into_iter().map(|e| {
        let c = &e.change;
        let text = |d: Option<chrono::NaiveDate>| d.map_or(String::new(), |d| d.to_string());
        let money =
            |m: Option<i64>| m.map_or(String::new(), |m| Micros::new(m).to_units().to_string());
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
            c.came_of_it.map_or(String::new(), |came| came.word().to_owned()),
            money(c.came_to),
            money(c.came_low),
            money(c.came_high),
            c.came_of_it.map_or(String::new(), |_| c.judged_with.to_string()),
        ]
    });
    csv_file(&format!("logbook-{}.csv", member.account.slug), &header.map(str::to_owned), rows)
}

/// What was decided in the product itself, as CSV.
async fn own_csv(app: &App, member: &Member, search: &str) -> Result<Response, PageError> {
    let all = decisions::list(&app.db, &member.account).await?;
    let header = ["decided_at", "place", "author", "what", "from", "to", "undone"];
    let row = |d: &Decision| {
        let l = own_line(d);
        let row = [d.at.to_rfc3339(), l.place.clone(), l.author.clone(), l.title.to_owned()];
        let undone = l.undone.to_string();
        l.has(search).then(|| row.into_iter().chain([l.was, l.set_to, undone]).collect())
    };
    let header = header.map(str::to_owned);
    csv_file(&format!("decisions-{}.csv", member.account.slug), &header, all.iter().filter_map(row))
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

/// Somebody has looked at all that can't be told.
pub async fn looked_at_untold(sent: Sent) -> Result<Redirect, PageError> {
    let Sent { app, member, .. } = &sent;
    desk::looked_at_untold(&app.db, &member.account, member.standing.today).await?;
    Ok(sent.back("logbook"))
}

/// Somebody has looked back.
pub async fn looked(Id(id): Id<ChangeId>, sent: Sent) -> Result<Redirect, PageError> {
    let Sent { app, member, .. } = &sent;
    desk::looked(&app.db, &member.account, id).await?;
    Ok(sent.back("logbook"))
}
