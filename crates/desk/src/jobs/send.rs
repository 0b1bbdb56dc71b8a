//! Batches of changes on their way to the channels: each made once however often it has to be sent.

use std::collections::HashSet;

use chrono::{NaiveDate, Utc};
use serde::Deserialize;
use tiller_channel::connection::{ChannelError, Connection as _, Sent};
use tiller_channel::wire::{Answer, Batch as WireBatch, Change as WireChange};
use tiller_core::look_back;
use tiller_core::spot::Spot;
use tiller_store::changes::{self, Answered, Batch, Besides, Find, Outcome};
use tiller_store::connections::{self, Connection};
use tiller_store::fault::{self, Point};
use tiller_store::people::{self, Account};
use tiller_store::{PgPool, StoreError};
use tracing::Instrument;

use super::caught::caught;
use crate::account::channels::Channels;
use crate::account::settings::Settings;
use crate::tray::{self, Row};
use crate::{DeskError, change_words};

/// A batch that can't be delivered is tried again after so many seconds at most.
const LONGEST_PAUSE: f64 = 60.0;

/// Carries the next batch to its channel; false if there is none.
pub async fn run_next(db: &PgPool, channels: &Channels) -> Result<bool, DeskError> {
    let Some(batch) = changes::claim(db).await? else { return Ok(false) };
    fault::at(Point::BatchClaimed);
    let job = tracing::info_span!("batch", id = batch.id.0, account = batch.account.0);
    match caught(carry(db, channels, &batch)).instrument(job).await {
        Err(error @ DeskError::Broke(_)) => {
            changes::delay(db, &batch, &error.to_string(), pause(&batch)).await?;
        }
        other => other?,
    }
    Ok(true)
}

/// Seconds until a batch is tried again.
fn pause(batch: &Batch) -> f64 {
    2f64.powi(batch.attempts.min(10)).min(LONGEST_PAUSE)
}

/// Carries a batch to its channel and writes down what that says.
async fn carry(db: &PgPool, channels: &Channels, batch: &Batch) -> Result<(), DeskError> {
    let account =
        people::account(db, batch.account).await?.ok_or(DeskError::NotFound("account"))?;
    let load = changes::list(db, batch.account, &Find::batch(batch.id)).await?;
    let rows = tray::check::check(db, &account, load).await?;
    let connection = connections::list(db, batch.account)
        .await?
        .into_iter()
        .find(|c| c.channel == batch.channel);
    let Some(connection) = connection else {
        if batch.body.is_some() {
            let gone = "the channel was disconnected before it answered; connect it again";
            return Ok(changes::delay(db, batch, gone, pause(batch)).await?);
        }
        // Without an interface the batch is the file that somebody carries.
        let from = today(None);
        let answers = rows.iter().map(|r| made(r, from, account.settle_days())).collect();
        let outcome = outcome(db, &account, from, answers, &rows).await?;
        return Ok(changes::answered(db, batch, None, &outcome).await?);
    };
    let from = today(connection.last_day);
    let sent = deliver(db, channels, batch, &connection, &rows).await?;
    fault::at(Point::BatchAnswered);
    let answers = match sent {
        Sent::Answered(told) => answers(&rows, &told, from, account.settle_days()),
        Sent::Refused(error) if !unsettled(batch, &error) => {
            rows.iter().map(|r| refused(r, error.to_string())).collect()
        }
        Sent::Unknown(error) | Sent::Refused(error) => {
            tracing::warn!(channel = connection.channel_name, %error, "a batch was not delivered");
            return Ok(changes::delay(db, batch, &error.to_string(), pause(batch)).await?);
        }
    };
    // What was refused has set nothing besides.
    let made = |r: &Row| answers.iter().any(|a| a.id == r.change.id && a.refused.is_none());
    let made = rows.iter().filter(|r| made(r)).map(|r| r.change.clone()).collect();
    let made = tray::check::check(db, &account, made).await?;
    let outcome = outcome(db, &account, from, answers, &made).await?;
    changes::answered(db, batch, Some(connection.id), &outcome).await?;
    fault::at(Point::AnswerKept);
    Ok(())
}

/// The first day on which a change is in force: the one after the last that is over.
fn today(last_day: Option<NaiveDate>) -> NaiveDate {
    last_day.and_then(|d| d.succ_opt()).unwrap_or_else(|| Utc::now().date_naive())
}

fn made(row: &Row, from: NaiveDate, settle_days: u64) -> Answered {
    let look_back = Some(look_back::due(from, row.learns_anew, settle_days));
    Answered { id: row.change.id, refused: None, look_back }
}

fn refused(row: &Row, why: String) -> Answered {
    Answered { id: row.change.id, refused: Some(why), look_back: None }
}

/// What came of a batch, of which these changes were made.
async fn outcome(
    db: &PgPool,
    account: &Account,
    from_day: NaiveDate,
    answers: Vec<Answered>,
    made: &[Row],
) -> Result<Outcome, DeskError> {
    let items: Vec<_> = made.iter().filter_map(|r| r.change.item).collect();
    let mut settings = Settings::of_account(db, account.id).await?.with_items(db, &items).await?;
    let own = made.iter().map(|r| (tray::spot(&r.change), &r.set_to));
    let besides = made.iter().flat_map(|r| &r.besides).map(|b| (Spot::of(b.campaign), &b.set));
    // Told whole, as read a moment ago: what somebody else set at that moment is told by the fetch that follows.
    let mut spots = HashSet::new();
    for (spot, set) in own.chain(besides) {
        settings.put(spot, set);
        spots.insert(spot);
    }
    let standing = spots.into_iter().filter_map(|spot| settings.standing(spot).transpose());
    Ok(Outcome {
        from_day,
        answers,
        besides: self::besides(made, from_day, account.settle_days())?,
        standing: standing.collect::<Result<_, _>>()?,
    })
}

/// What the channel has set besides, where a strategy is shared.
fn besides(rows: &[Row], from: NaiveDate, settle_days: u64) -> Result<Vec<Besides>, DeskError> {
    let all = rows.iter().flat_map(|r| r.besides.iter().map(move |b| (r, b)));
    all.map(|(r, b)| {
        Ok(Besides {
            change: r.change.id,
            campaign: b.campaign,
            place: b.name.clone(),
            was: tray::json(&b.was)?,
            set_to: tray::json(&b.set)?,
            setting: b.set.word().to_owned(),
            reason: format!("Its strategy is shared; it was changed at {}.", r.change.place),
            look_back: look_back::due(from, b.learns_anew, settle_days),
            told: change_words::sentence(Some(&b.was), &b.set),
        })
    })
    .collect()
}

/// Whether a refusal leaves open what became of an earlier try: who is turned away at the door learns nothing of it.
fn unsettled(batch: &Batch, error: &ChannelError) -> bool {
    batch.body.is_some() && !matches!(error, ChannelError::Refused { .. })
}

/// Asks the channel for the batch: what it was asked for the first time, word for word.
async fn deliver(
    db: &PgPool,
    channels: &Channels,
    batch: &Batch,
    connection: &Connection,
    rows: &[Row],
) -> Result<Sent, DeskError> {
    let body = match &batch.body {
        Some(body) => WireBatch::deserialize(body).map_err(StoreError::from)?,
        None => {
            let body = wire(db, batch, rows).await?;
            changes::seal(db, batch, &tray::json(&body)?).await?;
            fault::at(Point::BatchSealed);
            body
        }
    };
    Ok(match channels.open(connection) {
        Ok(channel) => channel.send(&batch.key, &body).await,
        Err(error) => Sent::Refused(error),
    })
}

/// A batch as it goes over the wire, without what the channel no longer has.
async fn wire(db: &PgPool, batch: &Batch, rows: &[Row]) -> Result<WireBatch, DeskError> {
    let items: Vec<_> = rows.iter().filter_map(|r| r.change.item).collect();
    let settings = Settings::of_account(db, batch.account).await?.with_items(db, &items).await?;
    let change = |row: &Row| {
        Some(WireChange {
            id: row.change.id.to_string(),
            place: settings.keys(tray::spot(&row.change))?,
            was: row.was.clone(),
            set: row.set_to.clone(),
        })
    };
    Ok(WireBatch { changes: rows.iter().filter_map(change).collect() })
}

fn answers(rows: &[Row], told: &[Answer], from: NaiveDate, settle_days: u64) -> Vec<Answered> {
    let answer = |row: &Row| {
        let id = row.change.id.to_string();
        match told.iter().find(|a| a.id == id) {
            Some(a) if a.refused.is_none() => made(row, from, settle_days),
            Some(a) if a.message.trim().is_empty() => {
                refused(row, "the channel refused it and gave no reason".into())
            }
            Some(a) => refused(row, a.message.clone()),
            // It was not asked for.
            None => refused(row, "the channel no longer has it".into()),
        }
    };
    rows.iter().map(answer).collect()
}
