//! A campaign's week of hours: each hour on, off or with a bid adjustment, beside what it cost and brought.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use chrono::Weekday;
use tiller_core::hours::{ALWAYS, Week, only};
use tiller_core::week::{DAYS, WeekHour};
use tiller_desk::budgets::hours as desk;
use tiller_desk::budgets::hours::View;
use tiller_desk::numerals::{conversions, full_day, money, number, or_absent, signed, sum};
use tiller_desk::wording::as_sentence;
use tiller_desk::{CampaignId, DeskError};

use crate::App;
use crate::error::PageError;
use crate::extract::{Id, Member};
use crate::frame::{Frame, span};
use crate::pages::book_of_reports;
use crate::pages::campaign_budget::{Head, Side, open};
use crate::pages::tray::{put, said};
use crate::params::Params;
use crate::sent::{Fields, Sent};

/// An hour.
pub struct Cell {
    name: String,
    label: String,
    value: String,
    tone: &'static str,
    figure: String,
    title: String,
}

/// A day's hours.
pub struct Row {
    day: Weekday,
    cells: Vec<Cell>,
    on: usize,
}

#[derive(Template, WebTemplate)]
#[template(path = "hours.html")]
struct HoursPage {
    frame: Frame,
    head: Head,
    lead: String,
    zone: String,
    shown: String,
    /// What was typed, where it is no time zone, and why.
    typed_zone: String,
    wrong: String,
    editable: bool,
    /// Whether its channel tells anything by the hour.
    counted: bool,
    notes: Vec<String>,
    /// None where neither what is set nor what it brought is known.
    rows: Vec<Row>,
    days: String,
    from: String,
    until: String,
    on_days: Vec<(usize, Weekday, bool)>,
    has_advice: bool,
    filled: &'static str,
}

/// What an hour's field shows.
fn text(hour: Option<i16>) -> String {
    match hour {
        None => "off".into(),
        Some(0) => String::new(),
        Some(p) => signed(f64::from(p), |x| number(x, 0)),
    }
}

/// Reads an hour's field.
fn read(text: &str) -> Result<Option<i16>, String> {
    let plain = text.trim().replace('−', "-");
    match plain.as_str() {
        "" | "on" | "0" => Ok(Some(0)),
        "off" | "-" | "–" | "x" => Ok(None),
        p => match p.trim_end_matches('%').parse::<i16>() {
            Ok(p) if (-90..=900).contains(&p) => Ok(Some(p)),
            _ => Err(format!(
                "‘{text}’ is neither empty, off, nor a change of the bid from −90 to +900"
            )),
        },
    }
}

fn field(at: WeekHour) -> String {
    format!("h{}-{}", at.weekday().number_from_monday(), at.hour())
}

/// An hour of the week in words: Mon 9:00.
fn name(at: WeekHour) -> String {
    format!("{} {}:00", at.weekday(), at.hour())
}

fn rows(view: &View, week: &Week) -> Vec<Row> {
    let cell = |at: WeekHour| {
        let counted = view.counted.iter().find(|(of, _, _)| *of == at);
        let (tone, figure, title) = match counted {
            Some((_, t, excess)) => (
                match excess {
                    Some(e) if *e > 0.0 => "is-over",
                    Some(_) => "is-room",
                    None => "",
                },
                excess.map_or_else(|| sum(t.spend.to_units()), |e| signed(e, sum)),
                format!(
                    "{}: spent {}, {}, CPA {}",
                    name(at),
                    money(t.spend.to_units()),
                    conversions(t.conversions),
                    or_absent(t.cpa(), money)
                ),
            ),
            None => ("", String::new(), format!("{}: nothing counted", name(at))),
        };
        Cell {
            name: field(at),
            label: name(at),
            value: text(week[at.index()]),
            tone,
            figure,
            title,
        }
    };
    DAYS.iter()
        .zip(week.chunks(24))
        .map(|(day, hours)| Row {
            day: *day,
            cells: (0..24).map(|h| cell(WeekHour::new(*day, h))).collect(),
            on: hours.iter().flatten().count(),
        })
        .collect()
}

/// The week; filled from what is set, from the counts' advice, or from office hours, as the address asks.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Id(id): Id<CampaignId>,
    params: Params,
) -> Result<Response, PageError> {
    let campaign = id;
    let (book, frame, head) = open(&app.db, &member, &params, campaign, Side::Hours).await?;
    let typed = params.text("zone").trim();
    let (shown, wrong) = match desk::read_zone(&book, Some(typed)) {
        Err(DeskError::Invalid(why)) => (desk::read_zone(&book, None)?, as_sentence(&why)),
        zone => (zone?, String::new()),
    };
    let view = desk::view(&app.db, &book, campaign, shown).await?;
    let hour = |name: &str, otherwise: usize| {
        params
            .text(name)
            .trim_end_matches(":00")
            .parse::<usize>()
            .ok()
            .filter(|h| *h <= 24)
            .unwrap_or(otherwise)
    };
    let (from, until) = (hour("open", 9), hour("close", 17));
    let on_days: [bool; 7] = std::array::from_fn(|d| {
        if params.text("open").is_empty() {
            d < 5
        } else {
            params.text(&format!("day-{d}")) == "on"
        }
    });
    let (week, filled) = match params.text("fill") {
        "advice" if view.advised.is_some() => (
            view.advised.unwrap_or(ALWAYS),
            "Filled from what the hours brought; nothing is sent yet.",
        ),
        "office" => (
            only(&view.week, &on_days, from, until),
            "Filled with the hours in which somebody answers; nothing is sent yet.",
        ),
        "always" => (ALWAYS, "Filled with every hour; nothing is sent yet."),
        _ => (view.week, ""),
    };
    let status = if wrong.is_empty() { StatusCode::OK } else { StatusCode::UNPROCESSABLE_ENTITY };
    let page = HoursPage {
        lead: lead(&view),
        typed_zone: if wrong.is_empty() { view.shown.to_string() } else { typed.to_owned() },
        wrong,
        notes: notes(&view),
        zone: view.zone.to_string(),
        shown: view.shown.to_string(),
        editable: frame.editor && view.known && view.apart.1,
        rows: if view.known || !view.counted.is_empty() { rows(&view, &week) } else { Vec::new() },
        counted: !view.counted.is_empty(),
        days: span(view.window),
        from: from.to_string(),
        until: until.to_string(),
        on_days: DAYS.iter().enumerate().map(|(d, name)| (d, *name, on_days[d])).collect(),
        has_advice: view.advised.is_some(),
        filled,
        head,
        frame,
    };
    Ok((status, page).into_response())
}

fn lead(view: &View) -> String {
    let on = view.week.iter().flatten().count();
    let over: f64 = view.counted.iter().filter_map(|c| c.2).filter(|e| *e > 0.0).sum();
    let set = match on {
        _ if !view.known => {
            "In which hours it runs is not known, since its channel is not connected".to_owned()
        }
        168 => "It runs at every hour".to_owned(),
        n => format!("It runs in {n} of 168 hours"),
    };
    let brought = match view.advised {
        Some(_) => "; some hours clearly bring less than others, and the advice below says which",
        None if view.counted.is_empty() => "; its channel reports nothing by the hour",
        None => "; no hour clearly differs from the others",
    };
    if over > 0.0 {
        format!(
            "{set}{brought}. {} was overspent in single hours, most of it by chance.",
            sum(over)
        )
    } else {
        format!("{set}{brought}.")
    }
}

fn notes(view: &View) -> Vec<String> {
    let mut notes = Vec::new();
    if view.needs_lifetime {
        notes.push("Its channel accepts hours only with a lifetime budget. Change the budget to a lifetime budget under Days and lifts first; until then you can look at the hours but not send them.".into());
    }
    let (apart, whole) = view.apart;
    if apart != 0.0 || !whole {
        notes.push(format!(
            "Shown in {} time, {} hours from the account’s time zone this week; the channel counts in the account’s{}.",
            view.shown,
            signed(apart, |x| number(x, if whole { 0 } else { 1 })),
            if whole { "" } else { ". The two are not whole hours apart, so hours can only be set in the account’s time zone" }
        ));
    }
    if let Some((day, hours, on)) = view.clocks_change.filter(|_| view.known) {
        notes.push(format!(
            "On {} clocks change in {}: the day has {hours} hours, and it runs in {on} of them.",
            full_day(day),
            view.zone
        ));
    }
    notes
}

/// Puts the week in the tray.
pub async fn set(Id(id): Id<CampaignId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let outcome = take(app, member, &book, id, fields).await;
    said(&sent, outcome.map(put)).await
}

async fn take(
    app: &App,
    member: &Member,
    book: &tiller_desk::book::Book,
    campaign: CampaignId,
    fields: &Fields,
) -> Result<usize, DeskError> {
    let shown = desk::read_zone(book, fields.get("zone"))?;
    let mut week = ALWAYS;
    for (at, hour) in WeekHour::all().zip(&mut week) {
        let typed = fields.text(&field(at));
        *hour = read(typed).map_err(|why| DeskError::Invalid(format!("{}: {why}", name(at))))?;
    }
    let reason = match fields.text("because").trim() {
        "" => "Hours set by hand.",
        because => because,
    };
    desk::set(&app.db, book, member.person.id, campaign, &week, shown, reason).await
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_hour_is_read_as_it_is_shown() {
        for hour in [None, Some(0), Some(25), Some(-90)] {
            assert_eq!(read(&text(hour)), Ok(hour));
        }
        assert_eq!(read("+20%"), Ok(Some(20)));
        assert!(read("-95").is_err() && read("noon").is_err());
    }
}
