//! Today: the letter.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Redirect, Response};
use tiller_core::spot::Subject;
use tiller_core::verdict::Verdict;
use tiller_core::{Price, Tally};
use tiller_desk::account::settings::Settings;
use tiller_desk::alarms::{self, Alarm};
use tiller_desk::another_bid;
use tiller_desk::book::Book;
use tiller_desk::book::quiet::Quiet;
use tiller_desk::budgets::weekly::{Move, Week};
use tiller_desk::causes::remedy;
use tiller_desk::look_backs::words;
use tiller_desk::numerals::{conversions, counted, day, listed, money, number, percent, sum};
use tiller_desk::pace::{Miss, Of, Pace, Row};
use tiller_desk::rules::tidings::Tidings;
use tiller_desk::today::{self, Faulty, Letter, Visit, What};
use tiller_desk::wording::{self, Words};
use tower_sessions::Session;

use crate::App;
use crate::chart::Fan;
use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::pages::remedy::Remedy;
use crate::pages::{advice, book, pace};
use crate::params::Params;
use crate::paths::Paths;

/// Look-backs shown beside the letter.
const LOOK_BACKS_SHOWN: usize = 5;

/// Something worth doing.
pub struct Todo {
    worth: String,
    tone: &'static str,
    text: Words,
    name: String,
    href: String,
    /// What to put in the tray, if it can be put there at once.
    remedy: Option<Remedy>,
}

/// What stopped or broke.
pub struct AlarmLine {
    text: Words,
    quiet: String,
    step: &'static str,
    href: String,
    name: String,
}

/// A look-back to come.
pub struct LookBack {
    place: String,
    sentence: String,
    came: Option<String>,
    on: String,
    due: bool,
}

/// So many campaigns that leave the plan are named.
const OFF_PLAN_SHOWN: usize = 3;

#[derive(Template, WebTemplate)]
#[template(path = "today.html")]
struct TodayPage {
    frame: Frame,
    /// Whether this session has not been here before.
    new: bool,
    date: String,
    letter: Vec<Words>,
    alarms: Vec<AlarmLine>,
    todos: Vec<Todo>,
    pace: Option<(Fan, Words)>,
    off_plan: Vec<Words>,
    look_backs: Vec<LookBack>,
    tidings: Vec<Tiding>,
    reported: bool,
}

/// What a rule tells.
pub struct Tiding {
    text: Words,
    step: &'static str,
    href: String,
    name: String,
}

/// `/accounts/slug` leads to Today.
pub async fn home(member: Member) -> Redirect {
    Redirect::to(&member.path("today"))
}

/// The page.
pub async fn show(
    member: Member,
    State(app): State<App>,
    session: Session,
    params: Params,
) -> Result<Response, PageError> {
    let frame = Frame::new(&member, Station::Today, &params);
    let today = member.standing.today;
    let date = today.format("%A, %-d %B").to_string();
    let book = book(&app.db, &member, &params).await?;
    let known = known_visit(&session, &member).await?;
    let new = known.is_none();
    let Some(book) = book else {
        let page = TodayPage {
            frame,
            date,
            letter: Vec::new(),
            alarms: Vec::new(),
            todos: Vec::new(),
            pace: None,
            off_plan: Vec::new(),
            look_backs: Vec::new(),
            tidings: Vec::new(),
            reported: false,
            new,
        };
        return Ok(page.into_response());
    };
    let frame = Frame::of_book(&member, Station::Today, &params, &book)
        .with_causes(book.judge_all().iter().flatten());
    let settings = Settings::of_book(&app.db, &book).await?;
    let visit = match known {
        Some(visit) => visit,
        None => today::last_visit(&app.db, &member.account, member.person.id).await?,
    };
    let letter = today::letter(&app.db, &book, visit, today).await?;
    let base = frame.base();
    let todos = letter
        .deeds
        .iter()
        .map(|d| match &d.what {
            What::Campaign(f) => Todo {
                worth: sum(d.worth),
                tone: "harm",
                text: fault(f),
                name: f.name.clone(),
                href: base.causes(f.subject, &frame.days),
                remedy: remedy::of_verdict(&settings, f.subject, &f.judged, f.trade_off)
                    .filter(|_| frame.editor)
                    .map(|p| Remedy::change(f.subject, &p)),
            },
            What::Bid(p, name) => Todo {
                worth: sum(d.worth),
                tone: "gain",
                text: Words::default().strong(name.clone()).and(format!(
                    " {}: {}. Expect {}.",
                    another_bid::in_short(p),
                    p.aim(),
                    p.effect
                )),
                name: name.clone(),
                href: base.causes(p.subject, &frame.days),
                remedy: Some(Remedy::change(p.subject, p)).filter(|_| frame.editor),
            },
            What::Budgets(week) => Todo {
                worth: sum(d.worth),
                tone: "gain",
                text: budgets(week, &book),
                name: "the week’s budgets".into(),
                href: format!("{base}/budgets{}", frame.days),
                remedy: Some(Remedy::budgets(&week.moves)).filter(|_| frame.editor),
            },
        })
        .collect();
    let page = TodayPage {
        new,
        letter: paragraphs(&book, &letter),
        alarms: letter.alarms.iter().map(|a| alarm(&frame, a)).collect(),
        pace: letter.pace.as_deref().and_then(|p| month(&book, p)),
        off_plan: letter.pace.as_deref().map_or(Vec::new(), off_plan),
        look_backs: letter
            .look_backs
            .iter()
            .take(LOOK_BACKS_SHOWN)
            .map(|(on, e)| LookBack {
                place: e.change.place.clone(),
                sentence: e.sentence(),
                came: e
                    .change
                    .came_of_it
                    .zip(words::came_to(&e.change))
                    .map(|(came, text)| format!("{}: {text}", words::verdict(came))),
                on: day(*on),
                due: *on <= today,
            })
            .collect(),
        tidings: tidings(&letter.rules, &base),
        date,
        todos,
        reported: true,
        frame,
    };
    Ok(page.into_response())
}

/// Rules that were suspended, then what the others tell of.
fn tidings(of: &Tidings, base: &Paths) -> Vec<Tiding> {
    let suspended = of.suspended.iter().map(|s| Tiding {
        text: Words::default().strong(s.name.clone()).and(format!(" is suspended. {}", s.note)),
        step: "Look at the rule",
        href: format!("{base}/rules/{}", s.rule),
        name: s.name.clone(),
    });
    let told = of.told.iter().map(|t| Tiding {
        text: Words::default().strong(t.rule.clone()).and(format!(
            " tells of {}. Known up to {}.",
            t.of(),
            day(t.day)
        )),
        step: "See why",
        href: format!("{base}/rules/runs/{}", t.run),
        name: t.rule.clone(),
    });
    suspended.chain(told).collect()
}

fn alarm(frame: &Frame, a: &Alarm) -> AlarmLine {
    let (step, page) = a.step();
    let base = frame.base();
    let days = &frame.days;
    let href = match (page, a.campaign) {
        (alarms::Page::Causes, Some(id)) => base.causes(Subject::Campaign(id), days),
        (alarms::Page::Flight, Some(id)) => base.budget(id, "flight", days),
        (alarms::Page::Hours, Some(id)) => base.budget(id, "hours", days),
        (alarms::Page::Curve, Some(id)) => base.budget(id, "curve", days),
        (alarms::Page::Spend, _) => base.page("spend") + &days.to_string(),
        (alarms::Page::Measure, _) => base.page("measure") + &days.to_string(),
        _ => base.page("channels") + &days.to_string(),
    };
    AlarmLine {
        text: a.sentence(),
        quiet: a.quiet.as_ref().map_or_else(String::new, Quiet::sentence),
        step,
        href,
        name: a.name.clone(),
    }
}

/// Under this name a session knows the last visit before it: the letter stays the same while one goes to and fro.
fn visit_of(member: &Member) -> String {
    format!("visit-{}", member.account.id)
}

async fn known_visit(
    session: &Session,
    member: &Member,
) -> Result<Option<Option<Visit>>, PageError> {
    Ok(session.get(&visit_of(member)).await?)
}

/// The page has been shown, as it says itself: the next session's letter begins here.
pub async fn seen(
    member: Member,
    State(app): State<App>,
    session: Session,
    params: Params,
) -> Result<StatusCode, PageError> {
    if known_visit(&session, &member).await?.is_none() {
        let book = book(&app.db, &member, &params).await?;
        let (account, person) = (&member.account, member.person.id);
        let last = today::visit(&app.db, account, person, book.as_deref()).await?;
        session.insert(&visit_of(&member), last).await?;
    }
    Ok(StatusCode::NO_CONTENT)
}

/// `spent 5 480 and got 187 conversions at a CPA of 29.30`.
fn spent(words: Words, book: &Book, t: &Tally) -> Words {
    let words = words.and(" spent ").strong(sum(t.spend.to_units()));
    match (book.by_value(), t.roas(), t.cpa()) {
        (true, Some(roas), _) => words
            .and(" and brought in ")
            .strong(sum(t.value.to_units()))
            .and(" of revenue, a ROAS of ")
            .strong(number(roas, 2)),
        (false, _, Some(cpa)) => words
            .and(" and got ")
            .strong(conversions(t.conversions))
            .and(" at a CPA of ")
            .strong(money(cpa)),
        _ => words.and(" without a conversion"),
    }
}

fn paragraphs(book: &Book, l: &Letter) -> Vec<Words> {
    let mut letter = vec![beginning(book, l)];
    if let Some((week, now, before)) = &l.week {
        let words = Words::say(format!(
            "In the last seven settled days, {}, the account",
            crate::frame::span(*week)
        ));
        let words = spent(words, book, now).and(change(book, now, before));
        letter.push(words);
    }
    let judged: i64 = l.came.iter().sum();
    if judged > 0 {
        let judged = counted(judged.unsigned_abs(), "change was judged", "changes were judged");
        letter.push(
            Words::say(format!("In the last seven days {judged}: "))
                .strong(words::verdicts(l.came))
                .and("."),
        );
    }
    let mut waits = Vec::new();
    if l.waiting.due > 0 {
        waits.push(format!(
            "{} due for a look-back",
            counted(l.waiting.due.unsigned_abs(), "change is", "changes are")
        ));
    }
    if l.waiting.changes > 0 {
        waits.push(format!(
            "{} in the tray, not yet sent",
            counted(l.waiting.changes.unsigned_abs(), "change waits", "changes wait")
        ));
    }
    if !waits.is_empty() {
        letter.push(Words::default().strong(waits.join("; ")).and("."));
    }
    for v in &l.failed {
        let error = v.job.as_ref().and_then(|j| j.error.clone()).unwrap_or_default();
        letter.push(
            Words::default()
                .harm(format!("{} could not be fetched", v.connection.channel_name))
                .and(format!(
                    ": {error}. Its figures end on {}.",
                    v.connection.fetched_to.map_or_else(|| "no day yet".into(), day)
                )),
        );
    }
    if l.undecided > 0 {
        letter.push(Words::say(format!(
            "{} expensive so far, but it is too early to tell; leave {} alone.",
            counted(l.undecided as u64, "campaign looks", "campaigns look"),
            if l.undecided == 1 { "it" } else { "them" }
        )));
    }
    letter
}

fn beginning(book: &Book, l: &Letter) -> Words {
    let Some(since) = &l.since else {
        return Words::say(
            "This is your first visit. Below is what is most worth doing. From now on you will also see what has changed since your last visit.",
        );
    };
    let when = since.at.format("%A, %-d %B").to_string();
    let words = match since.days {
        None => Words::say(format!("Since your visit on {when} no new day has been reported.")),
        Some(days) => {
            let words = Words::say(format!(
                "Since your visit on {when}, {} reported; {}",
                counted(days.days(), "day was", "days were"),
                book.account.name
            ));
            spent(words, book, &since.tally).and(".")
        }
    };
    match (since.made, since.refused) {
        (0, 0) => words,
        (made, 0) => {
            words.and(format!(" {} made.", counted(made as u64, "change was", "changes were")))
        }
        (made, refused) => words
            .and(format!(" {} made, ", counted(made as u64, "change was", "changes were")))
            .harm(format!("{refused} refused"))
            .and("."),
    }
}

/// `, a CPA 4% lower than in the seven days before.`
fn change(book: &Book, now: &Tally, before: &Tally) -> String {
    let of = |t: &Tally| if book.by_value() { t.roas() } else { t.cpa().map(Price::units) };
    let what = if book.by_value() { "a ROAS" } else { "a CPA" };
    match of(now).zip(of(before)) {
        Some((a, b)) if (a / b - 1.0).abs() < 0.005 => ", as in the seven days before.".into(),
        Some((a, b)) => format!(
            ", {what} {}% {} than in the seven days before.",
            percent((a / b - 1.0).abs()),
            if a > b { "higher" } else { "lower" }
        ),
        None => ".".into(),
    }
}

fn fault(f: &Faulty) -> Words {
    let j = &f.judged;
    let period = format!("in {}", counted(j.window.days(), "settled day", "settled days"));
    let words = Words::default();
    let overspent = || words.clone().and(format!("overspent {period} by ")).strong(f.name.clone());
    match j.diagnosis.verdict {
        Verdict::Measurement => words
            .and(format!("was spent {period} by "))
            .strong(f.name.clone())
            .and(", whose conversions can’t be trusted. Fix the tracking first."),
        Verdict::Traffic if j.diagnosis.leans.is_none() => overspent().and(format!(
            ": its visitors convert at {}%, its peers’ at {}%.",
            tiller_desk::numerals::or_absent(j.tally.cvr(), percent),
            tiller_desk::numerals::or_absent(j.diagnosis.peers.cvr(), percent)
        )),
        _ => match (j.tally.cpc(), j.diagnosis.affordable, f.trade_off) {
            (Some(cpc), Some(a), Some(t)) if j.diagnosis.faults.bid => overspent().and(format!(
                ": it {}: {} where the target affords {}. The next step leads to {}.",
                wording::short(&j.diagnosis),
                money(cpc),
                money(a.cautious),
                money(t.cpc)
            )),
            _ => overspent().and(format!(": it {}.", wording::short(&j.diagnosis))),
        },
    }
}

/// The week's budgets: what they bring together, and where most of the money goes.
fn budgets(week: &Week, book: &Book) -> Words {
    let what = if book.by_value() { "extra revenue" } else { "worth of extra results" };
    let moved = counted(week.moves.len() as u64, "daily budget", "daily budgets");
    let words = Words::say(format!("{what} a month: move {moved} {}", week.for_what()));
    let by = |m: &&Move| m.spend - m.line.spend;
    let most = week.moves.iter().max_by(|a, b| by(a).total_cmp(&by(b)));
    let least = week.moves.iter().min_by(|a, b| by(a).total_cmp(&by(b)));
    let words = match least.zip(most) {
        Some((from, to)) if by(&from) < 0.0 && by(&to) > 0.0 => words
            .and(", most of it from ")
            .strong(from.line.name.clone())
            .and(" to ")
            .strong(to.line.name.clone())
            .and(format!(" ({})", to.at_margin())),
        _ => words,
    };
    let gain = advice::gain(week, book.by_value());
    let words = words.and(gain.map_or_else(|| ".".into(), |gain| format!(": {gain}.")));
    match week.at_fault().as_slice() {
        [] => words,
        [one] => words.and(format!(" {one} misses its target and gives money up.")),
        names => {
            let names: Vec<String> = names.iter().map(|n| (*n).to_owned()).collect();
            words.and(format!(" Missing their targets, these give money up: {}.", listed(&names)))
        }
    }
}

/// The month's fan with a sentence.
fn month(book: &Book, pace: &Pace) -> Option<(Fan, Words)> {
    let row = pace.row(&Of::Account)?;
    Some((pace::fan(book, pace, row, (450.0, 214.0)), pace.sentence(row)))
}

/// Campaigns and channels whose plan lies outside of its interval, the most money first.
fn off_plan(pace: &Pace) -> Vec<Words> {
    // Only a plan that somebody chose raises an alarm: budgets are left unspent every day.
    if pace.plan.is_none() {
        return Vec::new();
    }
    let mut off: Vec<(f64, &Row, Miss)> = pace
        .rows
        .iter()
        .filter(|r| matches!(r.of, Of::Campaign(_)))
        .filter_map(|r| Some(((r.forecast.end().0 - r.plan?).abs(), r, r.misses()?)))
        .collect();
    off.sort_by(|a, b| b.0.total_cmp(&a.0));
    off.iter()
        .take(OFF_PLAN_SHOWN)
        .map(|(by, r, miss)| match miss {
            Miss::Over => Words::say("")
                .strong(r.name.clone())
                .and(" will spend ")
                .harm(format!("{} more", sum(*by)))
                .and(" than the plan gives it"),
            Miss::Under => Words::say("")
                .strong(r.name.clone())
                .and(format!(" will leave {} of the plan unspent", sum(*by))),
        })
        .collect()
}
