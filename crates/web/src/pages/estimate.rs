//! The results estimate: what a campaign would bring that doesn't exist yet.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use tiller_core::evidence::Interval;
use tiller_core::results_estimate::{Guess, Results};
use tiller_core::setting::ItemKind;
use tiller_core::strategy::Kind;
use tiller_desk::bids::estimate::{self as desk, Asked, Estimated};
use tiller_desk::numerals::{self, count, counted, money, number, sum};
use tiller_desk::wording::{as_sentence, capital, list};
use tiller_desk::{DeskError, change_words};

use crate::App;
use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::pages::book_of_reports;
use crate::params::Params;

/// A figure from each side.
pub struct Figure {
    title: &'static str,
    own: String,
    told: String,
    together: String,
}

/// What was worked out.
pub struct Found {
    lead: String,
    figures: Vec<Figure>,
    notes: Vec<String>,
}

/// Those whom a channel tells apart by one thing.
pub struct People {
    dimension: &'static str,
    /// Whether some of them were chosen.
    chosen: bool,
    all: Vec<Choice>,
}

/// Something to choose: its value, what is shown, and whether it is chosen.
type Choice = (String, String, bool);

#[derive(Template, WebTemplate)]
#[template(path = "estimate.html")]
struct EstimatePage {
    frame: Frame,
    wrong: Option<String>,
    found: Option<Found>,
    channels: Vec<Choice>,
    kinds: Vec<Choice>,
    strategies: Vec<Choice>,
    people: Vec<People>,
    items: String,
    target: String,
    bid: String,
    budget: String,
}

fn range(i: Interval, text: &dyn Fn(f64) -> String) -> String {
    let (low, high) = (text(i.low), text(i.high));
    if low == high { low } else { format!("{low} to {high}") }
}

/// A budget of which so much is spent is used up.
const USED_UP: f64 = 0.95;

/// A count of a day: whole ones where there are many.
fn a_day(x: f64) -> String {
    if x >= 10.0 { count(x.round()) } else { number(x, if x >= 0.1 { 1 } else { 2 }) }
}

/// Reads a figure from results.
type Read = fn(&Results) -> Option<Guess>;
/// Says it.
type Text = fn(f64) -> String;

fn figures(e: &Estimated) -> Vec<Figure> {
    let whole: Text = |x| count(x.round());
    let ratio: Text = |x| number(x, 2);
    let rows: [(&'static str, Read, Text); 9] = [
        ("People reached in four weeks", |r| r.reach, whole),
        ("Impressions a day", |r| r.impressions, whole),
        ("Clicks a day", |r| r.clicks, a_day),
        ("Spend a day", |r| r.spend, money),
        ("Conversions a day", |r| r.conversions, a_day),
        ("Value a day", |r| r.value, money),
        ("CPC", |r| r.cpc, money),
        ("CPA", |r| r.cpa, money),
        ("ROAS", |r| r.roas, ratio),
    ];
    let text = |r: Option<&Results>, read: Read, text: Text| {
        numerals::or_absent(r.and_then(read), |g| range(g.between(), &text))
    };
    rows.into_iter()
        .map(|(title, read, as_text)| Figure {
            title,
            own: text(Some(&e.own), read, as_text),
            told: text(e.told.as_ref(), read, as_text),
            together: text(Some(&e.together), read, as_text),
        })
        .filter(|f| f.together != numerals::ABSENT)
        .collect()
}

/// What comes of the money, in a sentence.
fn lead(e: &Estimated) -> String {
    let Some((conversions, cpa)) = e.together.conversions.zip(e.together.cpa) else {
        return "Nothing tells what its clicks would bring: no campaign of the account is like it."
            .into();
    };
    let spent = e.together.spend.map_or(e.budget, Guess::mid);
    let of = if spent < USED_UP * e.budget {
        format!("Of {} a day about {} would be spent, for", sum(e.budget), sum(spent))
    } else {
        format!("{} a day would bring", sum(e.budget))
    };
    format!(
        "{of} {} conversions at {} each.",
        range(conversions.between(), &a_day),
        range(cpa.between(), &|x| money(x))
    )
}

/// Where the bid lies, what more money would buy, and what all of it rests on.
fn notes(e: &Estimated) -> Vec<String> {
    let mut notes = Vec::new();
    if let Some(bids) = e.bids {
        let advised = format!("The channel advises bids of {}", range(bids, &|x| money(x)));
        notes.push(match e.bid {
            Some(bid) if bid < bids.low => format!(
                "{advised}; {} lies below: it would win less than a quarter of its auctions.",
                money(bid)
            ),
            Some(bid) if bid > bids.high => format!(
                "{advised}; {} lies above: it would win more than three quarters of its auctions, and pay for it.",
                money(bid)
            ),
            Some(bid) => format!("{advised}; {} lies within.", money(bid)),
            None => format!("{advised}."),
        });
    }
    if let Some(enough) = e.enough {
        let above = range(enough, &|x| sum(x));
        notes.push(if e.budget > enough.high {
            format!("It can’t spend all of its budget: more than {above} a day buys nothing.")
        } else {
            format!("A budget of more than {above} a day would buy nothing.")
        });
    }
    if let Some(why) = &e.silent {
        notes.push(format!("The channel says nothing of it: {why}."));
    }
    if e.differ {
        notes.push("The channel and your campaigns differ in what a click costs by more than either allows for; together the range holds both.".into());
    }
    notes.push(match e.similar.len() {
        0 => {
            "The account has no campaign of this kind with 30 clicks in these settled days.".into()
        }
        n => {
            let names: Vec<&str> = e.similar.iter().map(String::as_str).take(4).collect();
            let more = if n > names.len() {
                format!(" and {} more", n - names.len())
            } else {
                String::new()
            };
            let where_ = if e.elsewhere { ", some of them at other channels" } else { "" };
            format!(
                "It goes by {} of this kind{where_}: {}{more}.",
                counted(n as u64, "campaign", "campaigns"),
                list(&names)
            )
        }
    });
    notes.push("Each range holds what comes in about four of five cases. A strategy is taken as one that has learned; its first weeks are worse.".into());
    notes
}

fn choices<T>(all: &[T], word: fn(&T) -> (String, String), chosen: &str) -> Vec<Choice> {
    let choice = |one: &T| {
        let (value, title) = word(one);
        let on = value == chosen;
        (value, title, on)
    };
    all.iter().map(choice).collect()
}

/// The page.
pub async fn show(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let frame = Frame::of_book(&member, Station::Bids, &params, &book);
    let all = desk::channels(&app.db, &book).await?;
    let named = params.text("channel");
    let here = all.iter().find(|(c, _)| c == named).or(all.first());
    let channel = here.map(|(c, _)| c.as_str()).unwrap_or_default();
    let asked = Asked {
        channel,
        kind: params.text("kind"),
        items: params.text("items"),
        people: params.text("people"),
        strategy: params.text("strategy"),
        target: params.text("target"),
        bid: params.text("bid"),
        budget: params.text("budget"),
    };
    let (wrong, found) = if params.text("budget").is_empty() && asked.kind.is_empty() {
        (None, None)
    } else {
        match desk::estimate(&app.db, &app.channels, &book, &asked).await {
            Ok(e) => {
                let found = Found { lead: lead(&e), figures: figures(&e), notes: notes(&e) };
                (None, Some(found))
            }
            Err(DeskError::Invalid(why)) => (Some(as_sentence(&why)), None),
            Err(error) => return Err(error.into()),
        }
    };
    let chosen: Vec<&str> = asked.people.split(',').map(str::trim).collect();
    let mut people: Vec<People> = Vec::new();
    for known in here.map(|(_, known)| known.as_slice()).unwrap_or_default() {
        let Some(dimension) = tiller_core::setting::Dimension::read(&known.dimension) else {
            continue;
        };
        let value = format!("{}: {}", known.dimension, known.segment);
        let on = chosen.contains(&value.as_str());
        let choice = (value, known.segment.clone(), on);
        let dimension = dimension.word();
        match people.iter_mut().find(|p| p.dimension == dimension) {
            Some(of) => {
                of.chosen |= on;
                of.all.push(choice);
            }
            None => people.push(People { dimension, chosen: on, all: vec![choice] }),
        }
    }
    let status = if wrong.is_some() { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    let page = EstimatePage {
        wrong,
        found,
        channels: choices(&all, |(c, _)| (c.clone(), c.clone()), channel),
        kinds: choices(&ItemKind::ALL, |k| (k.word().into(), capital(k.word()) + "s"), asked.kind),
        strategies: choices(
            &Kind::ALL,
            |k| (k.word().into(), capital(change_words::kind(*k))),
            asked.strategy,
        ),
        people,
        items: asked.items.replace(',', "\n"),
        target: asked.target.to_owned(),
        bid: asked.bid.to_owned(),
        budget: asked.budget.to_owned(),
        frame,
    };
    Ok((status, page).into_response())
}
