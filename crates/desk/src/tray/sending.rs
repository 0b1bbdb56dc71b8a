//! Changes on their way to the channels: in batches, each made once however often it has to be sent.

use tiller_channel::change_file::{self, ChangeRow};
use tiller_core::ids::ChangeId;
use tiller_store::PgPool;
use tiller_store::changes::{self, Change, Find, HeldUp, State};
use tiller_store::people::Account;

use crate::tray::{self, Row};
use crate::{DeskError, change_words as words};

/// Sends changes: they leave the tray for batches that a worker carries. Nothing is sent while one of them
/// can't be sent as it is.
pub async fn send(db: &PgPool, account: &Account, ids: &[ChangeId]) -> Result<u64, DeskError> {
    let chosen: Vec<Change> = changes::list(db, account.id, &Find::tray())
        .await?
        .into_iter()
        .filter(|c| ids.contains(&c.id) && c.state == State::Waiting)
        .collect();
    if chosen.is_empty() {
        return Err(DeskError::Invalid("choose at least one change that waits".into()));
    }
    // Only what is sent now counts: of two that set the same thing, one may stay behind.
    let rows = tray::check::check(db, account, chosen).await?;
    if let Some((row, check)) =
        rows.iter().find_map(|r| r.checks.iter().find(|c| c.stops).map(|c| (r, c)))
    {
        return Err(DeskError::Invalid(format!(
            "nothing was sent. {}, {}: {}",
            row.change.place,
            words::title(&row.set_to).to_lowercase(),
            check.text
        )));
    }
    let ids: Vec<ChangeId> = rows.iter().map(|r| r.change.id).collect();
    Ok(changes::load(db, account.id, &ids).await?)
}

/// What is held up on its way, and whether its channel may have made it already.
pub async fn held_up(db: &PgPool, account: &Account) -> Result<Vec<String>, DeskError> {
    let sentence = |held: HeldUp| {
        let known = if held.asked {
            "It isn’t known yet whether the channel made these changes. The same request is sent again until it answers; they are made once."
        } else {
            "It is tried again by itself; nothing is lost or sent twice."
        };
        format!("Held up: {}. {known}", held.error)
    };
    Ok(changes::held_up(db, account.id).await?.into_iter().map(sentence).collect())
}

/// Changes as a file, for channels without an interface or for people who look at them elsewhere.
pub fn file(rows: &[Row]) -> std::io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    change_file::write(
        &mut bytes,
        rows.iter().map(|r| {
            let mut names = r.change.place.split(" › ").map(str::to_owned);
            ChangeRow {
                channel: r.change.channel_name.clone(),
                campaign: names.next().unwrap_or_default(),
                ad_group: names.next().unwrap_or_default(),
                item: names.next().unwrap_or_default(),
                setting: r.change.setting.clone(),
                from: r.was.as_ref().map(words::value).unwrap_or_default(),
                to: words::value(&r.set_to),
                value: r.change.set_to.to_string(),
                reason: r.change.reason.clone(),
            }
        }),
    )?;
    Ok(bytes)
}
