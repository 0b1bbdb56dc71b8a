//! Bids: what each campaign pays for a click and what its target affords, and the next step.

use std::sync::Arc;

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Response};
use tiller_core::Tally;
use tiller_core::spot::Subject;
use tiller_desk::account::settings::Settings;
use tiller_desk::advice::{self, Cure};
use tiller_desk::bids::course;
use tiller_desk::bids::step::{self, Compared};
use tiller_desk::bids::toward::{self, Toward};
use tiller_desk::bids::{self as desk, Bids, Line, words};
use tiller_desk::book::Book;
use tiller_desk::causes;
use tiller_desk::figure::{Figure, Seen};
use tiller_desk::numerals::{self, money, number};
use tiller_desk::rows::Level;
use tiller_desk::tray::{self, Edit};
use tiller_desk::wording::{self, Words};
use tiller_desk::{CampaignId, DeskError, PgPool};
use tower_sessions::Session;

use crate::App;
use crate::chart::{Forms, PaidAndAfforded, Payer};
use crate::error::PageError;
use crate::extract::{Id, Member};
use crate::frame::{Frame, Station};
use crate::pages::click_prices::ClickPrices;
use crate::pages::columns::chosen;
use crate::pages::figures_table::{Cell, MOST_ROWS, Table, View, cells, key, parts_of, subject};
use crate::pages::remedy::Remedy;
use crate::pages::spend::NoReports;
use crate::pages::tray::{put, said};
use crate::pages::{book, book_of_reports, csv_file, plain};
use crate::params::Params;
use crate::sent::Sent;

/// The order in which the table stands first.
const ORDER: &str = "-cpc_over";

/// A row of the table.
pub struct BidLine {
    key: String,
    href: String,
    name: String,
    home: String,
    here: bool,
    drill: Option<(String, &'static str)>,
    bids_by: String,
    cells: Vec<Cell>,
    range: String,
    next: String,
    /// Whether the next step is a change of its own.
    leads: bool,
    limited_by: &'static str,
    note: String,
    spend: f64,
    conversions: f64,
    value: f64,
    excess: f64,
}

/// The campaign looked at.
pub struct Looked {
    name: String,
    href: String,
    strategy: String,
    volume: String,
    advice: Words,
    days: u64,
    figures: Vec<Compared>,
    note: &'static str,
    remedy: Option<Remedy>,
    /// Where several steps are put in the tray, what that button carries, and what it says.
    steps: Option<(String, String, String)>,
}

/// The ad group or item looked at.
pub struct LookedPart {
    name: String,
    href: String,
    headline: Words,
    advice: Option<Words>,
    prices: Option<ClickPrices>,
    remedy: Option<Remedy>,
}

#[derive(Template, WebTemplate)]
#[template(path = "bids.html")]
struct BidsPage {
    frame: Frame,
    lead: Words,
    picture: Option<Forms<PaidAndAfforded>>,
    looked: Option<Looked>,
    part: Option<LookedPart>,
    table: Table,
    lines: Vec<BidLine>,
    range_title: &'static str,
    csv: String,
    edits: Vec<(&'static str, &'static str)>,
    no_targets: bool,
}

/// The figures that the table shows unless somebody chose others.
fn usual(by_value: bool) -> impl Iterator<Item = &'static Figure> {
    let keys = ["target", if by_value { "roas" } else { "cpa" }, "cpc", "affordable", "cpc_over"];
    keys.into_iter().filter_map(Figure::of)
}

async fn columns(
    session: &Session,
    params: &Params,
    book: &Book,
    level: Level,
) -> Result<Vec<&'static Figure>, PageError> {
    chosen(session, params, "bids", book, level, usual(book.by_value())).await
}

/// The page.
pub async fn show(
    member: Member,
    State(app): State<App>,
    session: Session,
    params: Params,
) -> Result<Response, PageError> {
    let Some(book) = book(&app.db, &member, &params).await? else {
        let frame = Frame::new(&member, Station::Bids, &params);
        let what = "what each campaign pays for a click, and what its target affords";
        return Ok(NoReports { frame, title: "Bids", what }.into_response());
    };
    let view = View::of(&params)?;
    let columns = columns(&session, &params, &book, view.level).await?;
    let whole = desk::campaigns(&app.db, &book).await?;
    let frame = Frame::of_book(&member, Station::Bids, &params, &book)
        .with_causes(book.judge_all().iter().flatten());
    let lead = words::lead(&whole);
    let of = looked_at(&whole.lines, params.text("of"));
    let picture = picture(&whole.lines, of, &frame);
    let settings = Settings::of_book(&app.db, &book).await?;
    let part = looked_part(&app.db, &book, params.text("of"), &frame).await?;
    let looked = of.filter(|_| part.is_none()).map(|line| looked(&whole, &settings, line, &frame));
    let here = subject(params.text("of")).or(of.map(|l| l.row.subject));
    let (table, lines) = match view.level {
        Level::Campaigns => {
            let all = view.arrange(whole.lines.iter().collect(), |l| &l.row, ORDER);
            let rows = all.iter().map(|l| &l.row);
            let table = Table::new("bids", &view, &params, &columns, ORDER);
            let table = table.of_rows(&book, &view, rows, &params);
            (table, all.into_iter().take(MOST_ROWS).cloned().collect())
        }
        level => {
            let rows = desk::rows_of(&app.db, &book, level, view.within).await?;
            let rows = view.arrange(rows.iter().collect(), |r| *r, ORDER);
            let table = Table::new("bids", &view, &params, &columns, ORDER);
            let table = table.of_rows(&book, &view, rows.iter().copied(), &params);
            let shown = rows.into_iter().take(MOST_ROWS).cloned().collect();
            (table, desk::lines(&app.db, &book, shown).await?)
        }
    };
    let account = book.total(whole.window);
    let page = BidsPage {
        lead,
        picture,
        looked,
        part,
        lines: lines.iter().map(|l| line(l, &columns, &account, here, &frame)).collect(),
        range_title: if book.by_value() { "ROAS, 95%" } else { "CPA, 95%" },
        csv: format!("{}/bids.csv{params}", frame.base()),
        edits: if frame.editor && frame.connected { edits() } else { Vec::new() },
        no_targets: book.entries.iter().all(|e| e.target.is_none()),
        table,
        frame,
    };
    Ok(page.into_response())
}

/// The campaign that an address names; else the one with a next step that spends the most, else the one that spends
/// the most above target.
fn looked_at<'a>(lines: &'a [Line], of: &str) -> Option<&'a Line> {
    let named = subject(of).and_then(|s| lines.iter().find(|l| l.row.subject == s));
    let leads = || lines.iter().filter(|l| l.step.is_some());
    let excess = |l: &Line| l.row.excess().unwrap_or(f64::NEG_INFINITY);
    named
        .or_else(|| leads().max_by_key(|l| l.row.tally.spend))
        .or_else(|| lines.iter().max_by(|a, b| excess(a).total_cmp(&excess(b))))
}

fn picture(lines: &[Line], here: Option<&Line>, frame: &Frame) -> Option<Forms<PaidAndAfforded>> {
    let here = here.map(|l| l.row.subject);
    let payers: Vec<Payer> = lines
        .iter()
        .filter_map(|l| {
            Some(Payer {
                key: key(l.row.subject),
                href: format!(
                    "{}/bids{}",
                    frame.base(),
                    frame.params.with("of", key(l.row.subject))
                ),
                name: &l.row.name,
                paid: l.row.tally.cpc()?.positive()?,
                affords: l.row.affordable()?.cautious,
                spend: l.row.tally.spend.to_units(),
                next: l.step.map(|s| s.cpc),
                here: Some(l.row.subject) == here,
            })
        })
        .collect();
    Forms::of(|form| PaidAndAfforded::new(&payers, &frame.account.currency, form))
}

fn looked(bids: &Bids, settings: &Settings, line: &Line, frame: &Frame) -> Looked {
    let step = step::of(bids, line);
    let note = step.as_ref().map_or("", words::known);
    let (days, figures) = step.map_or((0, Vec::new()), |s| (s.days, s.figures));
    let of_campaign = |page: &str| {
        format!("{}/bids/campaigns/{}/{page}{}", frame.base(), line.row.campaign, frame.days)
    };
    Looked {
        name: line.row.name.clone(),
        href: frame.base().causes(line.row.subject, &frame.days),
        strategy: of_campaign("strategy"),
        volume: of_campaign("volume"),
        advice: words::advice(bids, line),
        days,
        figures,
        note,
        steps: course::of(bids, settings, line)
            .filter(|_| frame.editor)
            .map(|s| (of_campaign("steps"), s.offer(&line.row.name).button(), s.says())),
        remedy: line.cure.as_ref().filter(|_| frame.editor).and_then(|c| match c {
            Cure::Change(p) => Some(Remedy::change(line.row.subject, p)),
            Cure::Budget(_, all) => Some(Remedy::budgets(all)),
            Cure::Quiet(_) => None,
        }),
    }
}

/// The ad group or item that an address names, with what one conversion takes it and what a click may cost there.
async fn looked_part(
    db: &PgPool,
    book: &Book,
    of: &str,
    frame: &Frame,
) -> Result<Option<LookedPart>, PageError> {
    let Some(part) = subject(of).filter(|s| !matches!(s, Subject::Campaign(_))) else {
        return Ok(None);
    };
    let e = match causes::examine(db, book, part).await {
        Err(DeskError::NotFound(_)) => return Ok(None),
        e => e?,
    };
    let cure = advice::cure(db, book, part, &e).await?;
    Ok(Some(LookedPart {
        href: frame.base().causes(part, &frame.days),
        headline: e.judged.as_ref().map_or_else(
            || Words::say("It has no target, so what a click may cost is not known."),
            |j| wording::headline(&j.diagnosis),
        ),
        advice: e.judged.as_ref().map(|j| wording::advice(j, e.trade_off, e.meets.as_ref(), None)),
        prices: e.judged.as_ref().map(ClickPrices::of),
        remedy: cure.filter(|_| frame.editor).and_then(|c| match c {
            Cure::Change(p) => Some(Remedy::change(part, &p)),
            Cure::Budget(..) | Cure::Quiet(_) => None,
        }),
        name: e.name,
    }))
}

/// A figure in the unit of a row's target.
fn unit(line: &Line) -> fn(f64) -> String {
    match line.row.target {
        Some(tiller_core::Target::Roas(_)) => |x| number(x, 2),
        _ => money,
    }
}

/// What a row achieves of its target, as CPA or ROAS.
pub(super) fn achieved(line: &Line) -> String {
    let of = match line.row.target {
        Some(tiller_core::Target::Roas(_)) => line.row.tally.roas(),
        _ => line.row.tally.cpa().map(tiller_core::Price::units),
    };
    numerals::or_absent(of, unit(line))
}

/// Its interval.
pub(super) fn range(line: &Line) -> String {
    let text = unit(line);
    line.range.map_or(numerals::ABSENT.into(), |i| format!("{} to {}", text(i.low), text(i.high)))
}

fn line(
    l: &Line,
    columns: &[&'static Figure],
    account: &Tally,
    here: Option<Subject>,
    frame: &Frame,
) -> BidLine {
    let row = &l.row;
    BidLine {
        key: key(row.subject),
        href: format!("{}/bids{}", frame.base(), frame.params.with("of", key(row.subject))),
        name: row.name.clone(),
        home: row.home.clone(),
        here: here == Some(row.subject),
        drill: parts_of(row, "bids", frame),
        bids_by: l.bidding.as_ref().map_or("not told".into(), words::bids_by),
        cells: cells(row, columns, account, true, frame),
        range: range(l),
        next: words::next(l),
        leads: matches!(l.cure, Some(Cure::Change(_))),
        limited_by: words::limited_by(l),
        note: l.learning.as_ref().map(words::learning).unwrap_or_default(),
        spend: row.tally.spend.to_units(),
        conversions: row.tally.conversions,
        value: row.tally.value.to_units(),
        excess: row.excess().unwrap_or(0.0),
    }
}

/// The table as it is seen, as CSV: all rows, plain numbers.
pub async fn csv(
    member: Member,
    State(app): State<App>,
    session: Session,
    params: Params,
) -> Result<Response, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let view = View::of(&params)?;
    let columns = columns(&session, &params, &book, view.level).await?;
    let rows = desk::rows_of(&app.db, &book, view.level, view.within).await?;
    let rows = view.arrange(rows.iter().collect(), |r| *r, ORDER);
    let all = desk::lines(&app.db, &book, rows.into_iter().cloned().collect()).await?;
    let window = book.settled().unwrap_or(book.period.window);
    let account = book.total(window);
    let before = [
        "name",
        "belongs_to",
        "channel",
        "strategy",
        "strategy_target",
        "bid",
        "lowest_bid",
        "highest_bid",
    ];
    let after = ["low", "high", "next_step", "limited_by", "learning"];
    let header: Vec<String> = before
        .into_iter()
        .chain(columns.iter().map(|c| c.key))
        .chain(after)
        .map(str::to_owned)
        .collect();
    let lines = all.iter().map(|l| {
        let seen = Seen::of(&l.row, &account);
        let set = words::set(l.bidding.as_ref());
        let texts = [l.row.name.clone(), l.row.home.clone(), l.row.channel.clone()];
        let figures = columns.iter().map(|c| plain((c.value)(&seen)));
        let ends = [
            plain(l.range.map(|r| r.low)),
            plain(l.range.map(|r| r.high)),
            words::next(l).replace(numerals::ABSENT, ""),
            words::limited_by(l).replace(numerals::ABSENT, ""),
            l.learning.as_ref().map(words::learning).unwrap_or_default(),
        ];
        texts
            .into_iter()
            .chain([set.strategy.to_owned()])
            .chain([set.target, set.bid, set.lowest, set.highest].map(plain))
            .chain(figures)
            .chain(ends)
            .collect()
    });
    csv_file(&format!("bids-{}-{}.csv", member.account.slug, window.to()), &header, lines)
}

/// What can be set on several rows here.
fn edits() -> Vec<(&'static str, &'static str)> {
    let by_hand = [Edit::Bid, Edit::Target, Edit::LowestBid, Edit::HighestBid];
    Toward::ALL
        .iter()
        .map(|t| (t.word(), t.title()))
        .chain(by_hand.iter().map(|e| (e.word(), e.title())))
        .collect()
}

/// Sets bids on the chosen rows: by value, by %, or toward what is affordable.
pub async fn edit(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let chosen: Vec<Subject> = fields.values("on").filter_map(subject).collect();
    let (db, person, what) = (&app.db, sent.person(), fields.text("what"));
    let (how, reason) = (fields.text("how"), fields.text("reason"));
    let outcome = match (Toward::read(what), Edit::read(what)) {
        (Some(toward), _) => {
            let book: Arc<Book> = book_of_reports(db, member, params).await?;
            toward::set(db, &book, person, &chosen, toward, reason).await
        }
        (None, Some(edit)) => {
            tray::edit(db, &member.account, person, &chosen, edit, how, reason).await
        }
        (None, None) => return Err(PageError::Invalid("Choose what to set.".into())),
    };
    said(&sent, outcome.map(put)).await
}

/// Puts several steps of a campaign's bid in the tray.
pub async fn steps(Id(id): Id<CampaignId>, sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let bids = desk::campaigns(&app.db, &book).await?;
    let outcome = course::begin(&app.db, &bids, sent.person(), id, &fields.buttons()).await;
    said(&sent, outcome.map(|n| put(n) + " The later steps follow by themselves.")).await
}
