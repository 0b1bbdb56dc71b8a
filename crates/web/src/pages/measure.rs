//! Measure: what counts, whether it can be trusted, and how late it comes in.

use crate::paths::Paths;
use askama::Template;
use askama_web::WebTemplate;
use axum::extract::{Query, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use tiller_core::evidence::Interval;
use tiller_core::score::Kind;
use tiller_core::spot::Subject;
use tiller_core::{Price, Target};
use tiller_desk::book::Book;
use tiller_desk::measure::{Event, Lag, Preview, Side};
use tiller_desk::numerals::{self, count, counted, day, money, number, percent, signed, sum};
use tiller_desk::scores::words::caveat;
use tiller_desk::wording::{self, Words};
use tiller_desk::{CampaignId, DeskError, measure as desk, scores};

use crate::App;
use crate::chart::{AgeRow, RunOffChart, ages};
use crate::error::PageError;
use crate::extract::{Id, Member};
use crate::frame::{Frame, Station};
use crate::pages::spend::NoReports;
use crate::pages::{book, book_of_reports};
use crate::params::Params;
use crate::sent::{Fields, Sent};

/// How sure completed conversions are told.
const CONFIDENCE: f64 = 0.8;
/// Windows after the click that are offered, in days.
const WINDOWS: [i16; 3] = [1, 7, 30];

/// A campaign whose conversions can't be trusted.
pub struct Spoiled {
    name: String,
    href: String,
    choose: String,
    words: Vec<Words>,
    spend: String,
}

/// An event of the account.
pub struct EventRow {
    event: Event,
    conversions: String,
    value: String,
    chosen: bool,
}

/// What a campaign counts, and how it comes in.
pub struct CampaignRow {
    name: String,
    href: String,
    counts: String,
    own: bool,
    conversions: String,
    with_value: String,
    maturity: String,
    settled: String,
    to_come: String,
}

/// How late conversions come in.
pub struct LagView {
    chart: RunOffChart,
    ages: Vec<AgeRow>,
    words: Words,
}

#[derive(Template, WebTemplate)]
#[template(path = "measure.html")]
struct MeasurePage {
    frame: Frame,
    summary: Words,
    spoiled: Vec<Spoiled>,
    events: Vec<EventRow>,
    by_channel: bool,
    windows: Vec<(String, String, bool)>,
    lag: Option<LagView>,
    campaigns: Vec<CampaignRow>,
    /// How far such ranges have been off, where by more than chance.
    caveat: Option<String>,
    wrong: Option<String>,
}

fn summary(book: &Book, spoiled: &[desk::Spoiled]) -> Words {
    let spend: f64 = spoiled.iter().map(|s| s.spend).sum();
    let all = book.total(book.period.window).spend.to_units();
    match spoiled.len() {
        0 => Words::say("No campaign is known to count the wrong thing. ")
            .and("What stands below rests on what channels report."),
        n => Words::default()
            .harm(sum(spend))
            .and(format!(
                " of {} was spent by {} whose conversions can’t be trusted. Fix that first: until then, no other figure of theirs means much.",
                sum(all),
                counted(n as u64, "a campaign", "campaigns")
            )),
    }
}

/// `48 to 57`, in whole conversions.
fn range(i: Interval) -> String {
    format!("{} to {}", number(i.low, 0), number(i.high, 0))
}

fn lag_view(book: &Book, lag: &Lag) -> LagView {
    let run_off = &lag.account;
    let mut words = Words::default()
        .strong(percent(run_off.maturity(0)) + "%")
        .and(" of the conversions are reported on the day of the click. At least 95% are in after ")
        .strong(counted(run_off.settled_age() as u64, "day", "days"))
        .and(format!("; most campaigns are settled up to {}.", day(book.last_settled())));
    if let Some(open) = desk::open_days(book) {
        let c = lag.complete(None, open);
        let verb = if open.days() == 1 { "has" } else { "have" };
        words = words
            .and(format!(
                " The {} since then {verb} {} conversions so far and will bring about ",
                counted(open.days(), "day", "days"),
                count(c.reported)
            ))
            .strong(number(c.conversions, 0))
            .and(format!(" ({} with 80% confidence).", range(c.interval(CONFIDENCE))));
    }
    LagView { chart: RunOffChart::new(run_off), ages: ages(run_off), words }
}

fn campaign_row(
    book: &Book,
    lag: Option<&Lag>,
    base: &Paths,
    id: CampaignId,
    days: &Params,
) -> Option<CampaignRow> {
    let entry = book.entry(id).ok()?;
    let tally = entry.tally(book.period.window);
    if tally.is_empty() {
        return None;
    }
    let events = book.events.get(&id);
    let counted: Vec<&str> =
        events.into_iter().flatten().filter(|e| e.counts).map(|e| e.event.as_str()).collect();
    let run_off = lag.map(|l| l.of(id));
    let open = desk::open_days(book);
    Some(CampaignRow {
        name: entry.campaign.name.clone(),
        href: format!("{base}/measure/campaigns/{id}{days}"),
        counts: match (events, counted.is_empty()) {
            (None, _) => "what its report says".into(),
            (Some(_), true) => "nothing that came in".into(),
            _ => counted.join(", "),
        },
        own: entry.campaign.own_events,
        conversions: count(tally.conversions),
        with_value: if tally.value.get() > 0 {
            numerals::or_absent(tally.aov(), money)
        } else {
            numerals::ABSENT.into()
        },
        maturity: run_off.map_or(numerals::ABSENT.into(), |(r, _)| percent(r.maturity(0))),
        settled: run_off.map_or(numerals::ABSENT.into(), |(r, borrowed)| {
            let days = counted_days(r.settled_age());
            if borrowed { format!("{days}, the account’s") } else { days }
        }),
        to_come: lag.zip(open).map_or(numerals::ABSENT.into(), |(l, w)| {
            let c = l.complete(Some(id), w);
            format!("{} of {}", count(c.reported), range(c.interval(CONFIDENCE)))
        }),
    })
}

fn counted_days(n: usize) -> String {
    counted(n as u64, "day", "days")
}

async fn page(
    app: &App,
    member: &Member,
    params: &Params,
    book: &Book,
    wrong: Option<String>,
) -> Result<MeasurePage, PageError> {
    let frame = Frame::of_book(member, Station::Measure, params, book);
    let base = frame.base();
    let lag = Lag::of_account(&app.db, book.account.id, book.span.to()).await?;
    let spoiled = desk::spoiled(book);
    let choice = book.account.counted_events.as_ref();
    let events = desk::events(&app.db, book).await?;
    let window = book.account.click_window;
    let windows =
        std::iter::once((String::new(), "the channel’s own window".to_owned(), window.is_none()))
            .chain(WINDOWS.iter().map(|d| {
                (
                    d.to_string(),
                    format!(
                        "{} after the click",
                        counted(u64::from(d.unsigned_abs()), "day", "days")
                    ),
                    window == Some(*d),
                )
            }))
            .collect();
    Ok(MeasurePage {
        summary: summary(book, &spoiled),
        spoiled: spoiled
            .iter()
            .map(|s| Spoiled {
                name: s.entry.campaign.name.clone(),
                href: base.causes(Subject::Campaign(s.entry.campaign.id), &frame.days),
                choose: format!("{base}/measure/campaigns/{}{}", s.entry.campaign.id, frame.days),
                words: s
                    .findings
                    .iter()
                    .map(|f| wording::finding(f, s.entry.target.unwrap_or(Target::Cpa(Price(0.0)))))
                    .collect(),
                spend: sum(s.spend),
            })
            .collect(),
        events: events
            .iter()
            .map(|event| EventRow {
                conversions: count(event.conversions),
                value: if event.value > 0.0 { sum(event.value) } else { numerals::ABSENT.into() },
                chosen: choice.map_or(event.channel_counts, |c| c.contains(&event.name)),
                event: event.clone(),
            })
            .collect(),
        by_channel: choice.is_none(),
        windows,
        lag: lag.as_ref().map(|l| lag_view(book, l)),
        campaigns: book
            .entries
            .iter()
            .filter_map(|e| campaign_row(book, lag.as_deref(), &base, e.campaign.id, &frame.days))
            .collect(),
        caveat: caveat(scores::of_account(&app.db, book).await?.as_ref(), Kind::Completed),
        wrong,
        frame,
    })
}

/// The station.
pub async fn show(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<Response, PageError> {
    let Some(book) = book(&app.db, &member, &params).await? else {
        let frame = Frame::new(&member, Station::Measure, &params);
        let what = "what counts as a result, whether it can be trusted, and how late it comes in";
        return Ok(NoReports { frame, title: "Measure", what }.into_response());
    };
    Ok(page(&app, &member, &params, &book, None).await?.into_response())
}

fn chosen(fields: &Fields) -> Option<Vec<String>> {
    (fields.text("by") == "own").then(|| fields.values("event").map(str::to_owned).collect())
}

/// Sets what the account counts by default.
pub async fn choose_default(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let window = fields.text("click_window");
    let window = if window.is_empty() { None } else { Some(window.parse().unwrap_or(-1)) };
    match desk::choose_default(&app.db, &book, Some(sent.person()), chosen(fields), window).await {
        Ok(()) => Ok(sent.on_to("measure").into_response()),
        Err(DeskError::Invalid(wrong)) => {
            let page = page(app, member, params, &book, Some(wrong)).await?;
            Ok((StatusCode::UNPROCESSABLE_ENTITY, page).into_response())
        }
        Err(error) => Err(error.into()),
    }
}

/// A row of the comparison.
pub struct Compared {
    title: &'static str,
    before: String,
    after: String,
}

#[derive(Template, WebTemplate)]
#[template(path = "measure_campaign.html")]
struct ChoicePage {
    frame: Frame,
    name: String,
    campaign: CampaignId,
    events: Vec<(String, String, String, bool)>,
    own: bool,
    compared: Vec<Compared>,
    changed: bool,
    wrong: Option<String>,
}

fn cost(side: &Side, target: Option<Target>) -> String {
    match target {
        Some(Target::Roas(_)) => numerals::or_absent(side.tally.roas(), |r| number(r, 2)),
        _ => numerals::or_absent(side.tally.cpa(), money),
    }
}

fn compared(before: &Side, after: &Side, target: Option<Target>) -> Vec<Compared> {
    let row = |title, of: &dyn Fn(&Side) -> String| Compared {
        title,
        before: of(before),
        after: of(after),
    };
    let by_return = matches!(target, Some(Target::Roas(_)));
    vec![
        row("Counts", &|s| {
            if s.events.is_empty() { "nothing".into() } else { s.events.join(", ") }
        }),
        row("Conversions", &|s| count(s.tally.conversions)),
        row("Value", &|s| sum(s.tally.value.to_units())),
        row("CVR %", &|s| numerals::or_absent(s.tally.cvr(), percent)),
        row(if by_return { "ROAS" } else { "CPA" }, &|s| cost(s, target)),
        row("Excess", &|s| numerals::or_absent(s.excess, |e| signed(e, sum))),
    ]
}

async fn choice_page(
    app: &App,
    member: &Member,
    params: &Params,
    book: &Book,
    id: CampaignId,
    fields: &Fields,
    wrong: Option<String>,
) -> Result<ChoicePage, PageError> {
    let entry = book.entry(id)?;
    let asked = fields.get("by").is_some();
    let own = if asked { chosen(fields).is_some() } else { entry.campaign.own_events };
    let Preview { events, before, after } = if asked {
        desk::preview(&app.db, book, id, chosen(fields).as_deref()).await?
    } else {
        let now = desk::preview(&app.db, book, id, None).await?;
        Preview { after: now.before.clone(), ..now }
    };
    Ok(ChoicePage {
        frame: Frame::of_book(member, Station::Measure, params, book),
        name: entry.campaign.name.clone(),
        campaign: id,
        events: events
            .iter()
            .map(|e| {
                let value = if e.value.get() > 0 {
                    sum(e.value.to_units())
                } else {
                    numerals::ABSENT.into()
                };
                (e.event.clone(), count(e.conversions), value, after.events.contains(&e.event))
            })
            .collect(),
        own,
        changed: before.events != after.events,
        compared: compared(&before, &after, entry.target),
        wrong,
    })
}

/// What one campaign counts, and what another choice would show.
pub async fn campaign(
    member: Member,
    State(app): State<App>,
    Id(id): Id<CampaignId>,
    params: Params,
    Query(fields): Query<Fields>,
) -> Result<impl IntoResponse, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    choice_page(&app, &member, &params, &book, id, &fields, None).await
}

/// Sets what one campaign counts.
pub async fn choose(Id(id): Id<CampaignId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    match desk::choose(&app.db, &book, Some(sent.person()), id, chosen(fields)).await {
        Ok(()) => Ok(sent.on_to(&format!("measure/campaigns/{id}")).into_response()),
        Err(DeskError::Invalid(wrong)) => {
            let page = choice_page(app, member, params, &book, id, fields, Some(wrong)).await?;
            Ok((StatusCode::UNPROCESSABLE_ENTITY, page).into_response())
        }
        Err(error) => Err(error.into()),
    }
}
