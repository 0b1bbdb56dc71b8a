//! Shared strategies: who takes part, what each pays and achieves, changing one for all, joining and leaving.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::IntoResponse;
use tiller_core::spot::Subject;
use tiller_desk::bids::{self as desk, Line, shared, words};
use tiller_desk::numerals::{count, money, or_absent};
use tiller_desk::tray::Edit;

use crate::App;
use crate::error::PageError;
use crate::extract::Member;
use crate::frame::{Frame, Station};
use crate::pages::bids::{achieved, range};
use crate::pages::book_of_reports;
use crate::pages::figures_table::key;
use crate::params::Params;

/// A campaign that takes part, or could.
pub struct Campaign {
    key: String,
    name: String,
    channel: String,
    href: String,
    bids_by: String,
    target: String,
    achieved: String,
    range: String,
    conversions: String,
    paid: String,
    affords: String,
    note: String,
}

/// A shared strategy.
pub struct Strategy {
    name: String,
    channel: String,
    bids_by: String,
    /// The campaign at which it is set.
    at: String,
    /// What can be set for all.
    edits: Vec<(&'static str, &'static str)>,
    members: Vec<Campaign>,
}

#[derive(Template, WebTemplate)]
#[template(path = "shared.html")]
struct SharedPage {
    frame: Frame,
    strategies: Vec<Strategy>,
    could: Vec<Campaign>,
    title: &'static str,
    may: bool,
}

fn campaign(l: &Line, frame: &Frame) -> Campaign {
    let row = &l.row;
    Campaign {
        key: key(row.subject),
        name: row.name.clone(),
        channel: row.channel.clone(),
        href: frame.base().causes(row.subject, &frame.days),
        bids_by: l.bidding.as_ref().map(words::bids_by).unwrap_or_default(),
        target: tiller_desk::account::decisions::target_words(row.target, false),
        achieved: achieved(l),
        range: range(l),
        conversions: count(row.tally.conversions),
        paid: or_absent(row.tally.cpc().map(tiller_core::Price::units), money),
        affords: or_absent(row.affordable().map(|a| a.cautious.units()), money),
        note: l.learning.as_ref().map(words::learning).unwrap_or_default(),
    }
}

/// All of an account.
pub async fn show(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let bids = desk::campaigns(&app.db, &book).await?;
    let frame = Frame::of_book(&member, Station::Bids, &params, &book);
    let strategy = |s: shared::Shared| Strategy {
        name: s.name.to_owned(),
        channel: s.channel.to_owned(),
        bids_by: words::terms(s.bidding),
        at: s.at().map(|id| key(Subject::Campaign(id))).unwrap_or_default(),
        edits: [Edit::Target, Edit::LowestBid, Edit::HighestBid]
            .into_iter()
            .filter(|e| *e != Edit::Target || words::set(Some(s.bidding)).target.is_some())
            .map(|e| (e.word(), e.title()))
            .collect(),
        members: s.members.into_iter().map(|l| campaign(l, &frame)).collect(),
    };
    let strategies = shared::of(&bids).into_iter().map(strategy).collect();
    let could = shared::could(&bids).into_iter().map(|l| campaign(l, &frame)).collect();
    let title = if book.by_value() { "ROAS" } else { "CPA" };
    let may = frame.editor && frame.connected;
    Ok(SharedPage { strategies, could, title, may, frame })
}
