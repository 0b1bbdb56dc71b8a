//! What a book is made of, as the database has it.

use std::collections::HashMap;
use std::sync::Arc;

use chrono::NaiveDate;
use tiller_core::Window;
use tiller_core::ids::CampaignId;
use tiller_core::window::earlier;
use tiller_store::late::{self, Late};
use tiller_store::people::Account;
use tiller_store::{PgPool, decisions, facts};

use super::{Entry, Parts, Period, PeriodChoice, rollups, touched};
use crate::DeskError;
use crate::kept::Stamp;

/// Days before the period that tell what was usual.
const HISTORY_DAYS: u64 = 90;

/// The first day that the book of a period reaches back to.
pub(super) fn first(period: Period) -> NaiveDate {
    let first = earlier(period.window.from(), HISTORY_DAYS);
    period.against.map_or(first, |a| first.min(a.from()))
}

/// The parts of books of what is known now, or of those of past days from one on; none without reports.
pub(super) async fn parts(
    db: &PgPool,
    account: &Account,
    choice: PeriodChoice,
    stamp: &Stamp,
    past: Option<NaiveDate>,
) -> Result<Option<Parts>, DeskError> {
    let Some(span) = facts::span(db, account.id).await? else { return Ok(None) };
    let earliest = past.and_then(|day| Window::new(span.from(), day.min(span.to())));
    let Some(period) = choice.resolve(earliest.or(Some(span)), account.settle_days())? else {
        return Ok(None);
    };
    let reach =
        Window::new(first(period), span.to().max(period.window.to())).unwrap_or(period.window);
    // Those of past days lie anywhere.
    let events = if past.is_some() { reach } else { period.window };
    let rollups = rollups::read(db, account, stamp, reach, events).await?;
    let entries = facts::campaigns(db, account.id)
        .await?
        .into_iter()
        .map(|campaign| Entry {
            target: campaign.own_target.or(account.target()),
            purpose: campaign
                .own_purpose
                .unwrap_or_else(|| rollups.guess(&account.name, &campaign)),
            days: rollups.days.get(&campaign.id).cloned().unwrap_or_default(),
            campaign,
        })
        .collect();
    let mut chosen_peers: HashMap<CampaignId, Vec<CampaignId>> = HashMap::new();
    for (campaign, peer) in decisions::peers(db, account.id).await? {
        chosen_peers.entry(campaign).or_default().push(peer);
    }
    let mut late: HashMap<CampaignId, Vec<Late>> = HashMap::new();
    let touched = match past {
        None => touched::load(db, account, span.to()).await?,
        Some(day) => {
            for l in late::after(db, account.id, reach, day).await? {
                late.entry(l.of.campaign).or_default().push(l);
            }
            touched::made(db, account, day).await?
        }
    };
    Ok(Some(Parts {
        account: account.clone(),
        span,
        entries,
        events: Arc::clone(&rollups.events),
        late,
        touched,
        chosen_peers,
    }))
}
