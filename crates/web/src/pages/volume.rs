//! Bid against volume, on the page of one campaign.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use tiller_core::bid_volume::Range;
use tiller_desk::bids::against::{self as desk, Against};
use tiller_desk::bids::step::between;
use tiller_desk::book::Book;
use tiller_desk::courses::{self, Lever};
use tiller_desk::numerals::{self, count, money, number, sum};
use tiller_desk::wording::as_sentence;
use tiller_desk::{CampaignId, DeskError};

use crate::App;
use crate::chart::VolumeChart;
use crate::error::PageError;
use crate::extract::{Id, Member};
use crate::frame::{Frame, Station};
use crate::pages::book_of_reports;
use crate::pages::tray::{put, said};
use crate::params::Params;
use crate::sent::Sent;

/// A figure now and at the chosen bid.
pub struct Compared {
    title: &'static str,
    now: String,
    then: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "volume.html")]
struct VolumePage {
    frame: Frame,
    id: CampaignId,
    name: String,
    /// What was typed, or stands there.
    typed: String,
    wrong: Option<String>,
    seen: Option<Seen>,
}

/// What is shown where it can be.
struct Seen {
    lead: String,
    what: &'static str,
    set: String,
    days: u64,
    chart: VolumeChart,
    figures: Vec<Compared>,
    known: String,
    /// Whether what is chosen differs from what is set, and may be put in the tray.
    may: bool,
    /// Whether an experiment would tell what nothing tells yet.
    measure: bool,
}

fn seen(a: &Against, frame: &Frame) -> Seen {
    let (now, then) = (&a.now, &a.chosen);
    let whole = |x: f64| count(x.round());
    let row = |title, now: String, then: String| Compared { title, now, then };
    let cost = |r: Range| between(r, &|x| money(x));
    let next = |r: Option<Range>| numerals::or_absent(r, cost);
    Seen {
        lead: lead(a),
        what: a.what,
        set: number(a.set, 2),
        days: a.days,
        chart: VolumeChart::new(a),
        figures: vec![
            row("Clicks", whole(now.clicks.mid), between(then.clicks, &whole)),
            row("Spend", sum(now.spend.mid), between(then.spend, &|x| sum(x))),
            row("Conversions", count(now.conversions.mid), between(then.conversions, &whole)),
            row("CPC", cost(now.cpc.times(a.cpc)), cost(then.cpc.times(a.cpc))),
            row("CPA", numerals::or_absent(now.cpa, cost), numerals::or_absent(then.cpa, cost)),
            row("The next conversion", next(now.next), next(then.next)),
        ],
        known: known(a),
        may: frame.editor && frame.connected && (then.times - 1.0).abs() > 1e-6,
        measure: frame.editor && frame.connected && !a.moved,
    }
}

/// What one more conversion costs now, beside the mean one.
fn lead(a: &Against) -> String {
    match a.now.cpa.zip(a.now.next) {
        Some((cpa, next)) => format!(
            "At a {} of {} a conversion costs {}, and one more would cost {}: a higher bid is paid for every click.",
            a.what,
            number(a.set, 2),
            money(cpa.mid),
            between(next, &|x| money(x))
        ),
        None => {
            "It had no conversion in these settled days; clicks and spend can still be told.".into()
        }
    }
}

/// From what the answer is known, and how far it reaches.
fn known(a: &Against) -> String {
    let text = |times: f64| number(a.setting(times), 2);
    match a.seen.filter(|_| a.moved) {
        Some(s) => {
            let beyond = if s.contains(a.chosen.times) {
                ""
            } else {
                " What you look at lies beyond that: it is read on from there."
            };
            let (x, y) = (a.setting(s.low), a.setting(s.high));
            let (low, high) = if x <= y { (s.low, s.high) } else { (s.high, s.low) };
            format!(
                "From its own changes: its {} has been between {} and {} in these months.{beyond}",
                a.what,
                text(low),
                text(high)
            )
        }
        None => format!(
            "Its {} has not moved in these months, so this is what campaigns of its kind are believed to do, and as wide as that is. A change of its own would sharpen it.",
            a.what
        ),
    }
}

async fn page(
    app: &App,
    member: &Member,
    params: &Params,
    book: &Book,
    id: CampaignId,
    typed: &str,
) -> Result<VolumePage, PageError> {
    let frame = Frame::of_book(member, Station::Bids, params, book);
    let name = book.entry(id)?.campaign.name.clone();
    let (wrong, found) = match desk::of_campaign(&app.db, book, id, typed).await {
        Ok(found) => (None, Some(found)),
        Err(DeskError::Invalid(why)) => {
            (Some(as_sentence(&why)), desk::of_campaign(&app.db, book, id, "").await.ok())
        }
        Err(error) => return Err(error.into()),
    };
    let shown = found.as_ref().map(|a| format!("{:.2}", a.setting(a.chosen.times)));
    let typed = if wrong.is_some() { typed.to_owned() } else { shown.unwrap_or_default() };
    Ok(VolumePage { id, name, typed, wrong, seen: found.map(|a| seen(&a, &frame)), frame })
}

/// The page.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Id(id): Id<CampaignId>,
    params: Params,
) -> Result<Response, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let page = page(&app, &member, &params, &book, id, params.text("bid")).await?;
    let unread = page.wrong.is_some() && !params.text("bid").is_empty();
    let status = if unread { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    Ok((status, page).into_response())
}

/// Puts what was chosen in the tray.
pub async fn take(Id(id): Id<CampaignId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let outcome = desk::put(&app.db, &book, sent.person(), id, fields.text("bid")).await;
    said(&sent, outcome.map(put)).await
}

/// Puts a step experiment on its bid in the tray.
pub async fn experiment(Id(id): Id<CampaignId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, .. } = &sent;
    let (db, account, person) = (&app.db, &member.account, sent.person());
    let outcome = courses::experiment(db, account, person, id, Lever::Bid).await;
    let begun = |()| put(1) + " The others follow by themselves once it has been made.";
    said(&sent, outcome.map(begun)).await
}
