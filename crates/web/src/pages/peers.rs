//! Whom a campaign is compared with, chosen by hand.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::response::{IntoResponse, Redirect};
use tiller_core::spot::Subject;
use tiller_desk::account::decisions::{self, Own};
use tiller_desk::numerals::{count, or_absent, percent};
use tiller_desk::{CampaignId, wording};

use crate::App;
use crate::error::PageError;
use crate::extract::{Id, Member};
use crate::frame::{Frame, Station};
use crate::pages::book_of_reports;
use crate::params::Params;
use crate::sent::Sent;

/// A campaign that may be a peer.
pub struct Candidate {
    id: CampaignId,
    name: String,
    channel: String,
    purpose: &'static str,
    conversions: String,
    cvr: String,
    chosen: bool,
}

#[derive(Template, WebTemplate)]
#[template(path = "peers.html")]
struct PeersPage {
    frame: Frame,
    name: String,
    kind: String,
    now: String,
    back: String,
    action: String,
    candidates: Vec<Candidate>,
}

/// The campaigns of its kind, those that it is compared with now ticked.
pub async fn show(
    member: Member,
    State(app): State<App>,
    Id(id): Id<CampaignId>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    let book = book_of_reports(&app.db, &member, &params).await?;
    let entry = book.entry(id)?;
    let picked = book.chosen_peers.get(&id).map_or(&[][..], Vec::as_slice);
    let window = book.settled().unwrap_or(book.period.window);
    let frame = Frame::of_book(&member, Station::Causes, &params, &book);
    let candidates = book
        .entries
        .iter()
        .filter(|e| e.campaign.id != id && e.campaign.kind == entry.campaign.kind)
        .map(|e| {
            let tally = e.tally(window);
            Candidate {
                id: e.campaign.id,
                name: e.campaign.name.clone(),
                channel: e.campaign.channel.clone(),
                purpose: wording::purpose(e.purpose),
                conversions: count(tally.conversions),
                cvr: or_absent(tally.cvr(), percent),
                chosen: picked.contains(&e.campaign.id),
            }
        })
        .collect();
    let base = frame.base();
    Ok(PeersPage {
        name: entry.campaign.name.clone(),
        kind: entry.campaign.kind.clone(),
        now: book
            .judge(id)
            .map_or_else(|| "no peers".into(), |j| wording::peers(j.peers.0, &j.peers.1)),
        back: base.causes(Subject::Campaign(id), &frame.days),
        action: base.peers(id, &frame.days),
        candidates,
        frame,
    })
}

/// Chooses them; none goes back to those of its kind and purpose.
pub async fn set(Id(id): Id<CampaignId>, sent: Sent) -> Result<Redirect, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let book = book_of_reports(&app.db, member, params).await?;
    let entry = book.entry(id)?;
    let mut peers: Vec<CampaignId> = fields.ids("peer", CampaignId);
    peers.sort_unstable();
    peers.dedup();
    for peer in &peers {
        let peer = book.entry(*peer)?;
        if peer.campaign.kind != entry.campaign.kind || peer.campaign.id == entry.campaign.id {
            return Err(PageError::Invalid(format!(
                "{} is not of the same kind as {}, so it can’t be its peer.",
                peer.campaign.name, entry.campaign.name
            )));
        }
    }
    let (account, person) = (member.account.id, Some(sent.person()));
    decisions::decide(&app.db, account, person, Some(id), &Own::Peers(peers)).await?;
    Ok(sent.on_to(&format!("causes/campaigns/{id}")))
}
