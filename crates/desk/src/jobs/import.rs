//! Imports: an uploaded file with agreed columns is read and merged, or comes back with the rows to decide about.

use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use bytes::Bytes;
use futures::Stream;
use tiller_channel::report::{Mapping, guess};
use tiller_store::fault::{self, Point};
use tiller_store::imports::{self, Import, Sender, State};
use tiller_store::merge::Merged;
use tiller_store::people::{self, Account};
use tiller_store::{Kind, PgPool, StoreError, facts};
use tracing::Instrument;

use super::after;
use super::caught::caught;
use crate::DeskError;
use crate::measure::reading::{self, Counters};
use crate::measure::reports;

/// What is said of a file that nobody has lived to read.
const TWICE: &str = "the server stopped twice while it read this file, so it is left alone: nothing was imported, and the file is kept. Try it in parts, or tell whoever runs this server";
/// A passing trouble is tried so often.
const ATTEMPTS: i32 = 6;

/// Runs the next import in the queue; false if there is none.
pub async fn run_next(db: &PgPool) -> Result<bool, DeskError> {
    let left = imports::quarantine(db, TWICE).await?;
    if left > 0 {
        tracing::error!(
            left,
            "imports were left alone, since the server stopped twice while it read them"
        );
    }
    let Some(import) = imports::claim(db).await? else {
        // Its rows are in; whoever read them died before the rest.
        let Some(left) = imports::claim_unfollowed(db).await? else { return Ok(false) };
        return after_figures(db, &left).await.map(|()| true);
    };
    fault::at(Point::ImportClaimed);
    let sample = imports::chunk(db, import.account, import.id, 0).await?.unwrap_or_default();
    let headers = guess(&sample).ok().map(|g| reports::source(&g.headers));
    let counters = Arc::new(Counters::default());
    let work = async {
        tokio::select! {
            outcome = reading::read(db, &import, &counters, headers.as_deref(), false) => outcome,
            never = report_progress(db, &import, &counters) => never,
        }
    };
    let job = tracing::info_span!("import", id = import.id.0, account = import.account.0);
    conclude(db, &import, work).instrument(job).await.map(|()| true)
}

/// Does an import's work and writes down what came of it.
async fn conclude(
    db: &PgPool,
    import: &Import,
    work: impl Future<Output = Result<Merged, DeskError>>,
) -> Result<(), DeskError> {
    let settled = match caught(work).await {
        Ok(Merged::Done) => {
            fault::at(Point::ImportMerged);
            return after_figures(db, import).await;
        }
        Ok(Merged::Decide(contents)) => {
            let errors = Some((contents.errors.as_slice(), contents.error_count));
            imports::conclude(db, import, State::Decide, None, errors).await
        }
        Err(DeskError::Store(StoreError::Lost)) => Err(StoreError::Lost),
        Err(DeskError::Store(error))
            if error.kind() == Kind::Passing && import.attempts < ATTEMPTS =>
        {
            tracing::warn!(%error, "an import is tried again");
            let pause = 2f64.powi(import.attempts).min(60.0);
            imports::again(db, import, "the database was busy; it is tried again", pause).await
        }
        Err(error) => {
            tracing::error!(%error, "import failed");
            let message = match &error {
                DeskError::Invalid(message) => message.clone(),
                other => format!(
                    "nothing was imported, and the file is kept: {other}. Go back to the columns to try again, or discard it"
                ),
            };
            imports::conclude(db, import, State::Failed, Some(&message), None).await
        }
    };
    match settled {
        // Another worker has it: what that one does counts.
        Err(StoreError::Lost) => Ok(()),
        other => other.map_err(DeskError::from),
    }
}

/// What follows from new figures: again later if the database was busy, and not for ever if it breaks on them.
async fn after_figures(db: &PgPool, import: &Import) -> Result<(), DeskError> {
    let account = people::account(db, import.account).await?;
    let (Some(account), Some(span)) = (account, facts::span(db, import.account).await?) else {
        return Ok(imports::follow(db, import, true).await?);
    };
    let work = async {
        tokio::select! {
            followed = after::new_figures(db, &account, None, span.to()) => followed,
            never = lives(db, import) => never,
        }
    };
    let followed = caught(work).await;
    fault::at(Point::ImportFollowed);
    let passing = |e: &DeskError| matches!(e, DeskError::Store(e) if e.kind() == Kind::Passing);
    if !followed.as_ref().is_err_and(passing) {
        imports::follow(db, import, true).await?;
    }
    followed
}

/// Tells every few seconds that whoever does what follows from an import lives.
async fn lives(db: &PgPool, import: &Import) -> Result<(), DeskError> {
    let mut tick = tokio::time::interval(Duration::from_secs(5));
    loop {
        tick.tick().await;
        imports::follow(db, import, false).await?;
    }
}

/// Writes down how far the import has come, for as long as it runs. An import that is this worker's no more finds that
/// out before it writes; here it may as well have ended a moment ago, with its work done.
async fn report_progress(
    db: &PgPool,
    import: &Import,
    counters: &Counters,
) -> Result<Merged, DeskError> {
    let mut tick = tokio::time::interval(Duration::from_millis(250));
    loop {
        tick.tick().await;
        let (bytes, rows) =
            (counters.bytes.load(Ordering::Relaxed), counters.rows.load(Ordering::Relaxed));
        match imports::progress(db, import, bytes, rows).await {
            Err(StoreError::Lost) => std::future::pending().await,
            told => told?,
        }
    }
}

/// Imports a whole file at once, without a page: for the command line and the demo.
pub async fn import_now<E: std::fmt::Display>(
    db: &PgPool,
    account: &Account,
    file_name: &str,
    body: impl Stream<Item = Result<Bytes, E>> + Unpin,
    adjust: impl FnOnce(&mut Mapping),
    only_good: bool,
) -> Result<Import, DeskError> {
    let id = reports::upload(db, account, Sender::Nobody, file_name, body).await?;
    let started = async {
        let mut mapping = reports::preview(db, account, id).await?.mapping;
        adjust(&mut mapping);
        reports::start(db, account, id, &mapping).await
    };
    if let Err(error) = started.await {
        reports::drop_import(db, account, id).await?;
        return Err(error);
    }
    loop {
        run_next(db).await?;
        let import = reports::get(db, account, id).await?;
        match import.state {
            State::Decide if only_good => reports::accept_good(db, account, id).await?,
            // Another worker took it: look again when that one has had time for it.
            State::Queued | State::Running => tokio::time::sleep(Duration::from_millis(100)).await,
            _ => return Ok(import),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_store::MIGRATIONS;
    use tiller_store::people::NewAccount;

    const FILE: &str = "Date,Channel,Campaign,Ad group,Keyword,Match type,Impressions,Clicks,Cost,Conversions\n\
                        2026-11-01,Findle,Names,All,hives,exact,100,10,5.00,1\n";

    /// An import that breaks is told of as failed, its file is kept, and the next attempt may do better.
    #[sqlx::test(migrator = "MIGRATIONS")]
    async fn an_import_that_breaks_can_be_tried_again(db: PgPool) {
        let new = NewAccount { slug: "a", name: "A", currency: "EUR", time_zone: "UTC" };
        people::add_account(&db, &new).await.unwrap();
        let account = people::account_by_slug(&db, "a").await.unwrap().unwrap();
        let body = futures::stream::iter([Ok::<_, std::io::Error>(Bytes::from(FILE))]);
        let id = reports::upload(&db, &account, Sender::Nobody, "report.csv", body).await.unwrap();
        let start = async || {
            let mapping = reports::preview(&db, &account, id).await.unwrap().mapping;
            reports::start(&db, &account, id, &mapping).await.unwrap();
        };
        start().await;
        let import = imports::claim(&db).await.unwrap().unwrap();
        conclude(&db, &import, async { panic!("index out of bounds") }).await.unwrap();
        let failed = reports::get(&db, &account, id).await.unwrap();
        assert_eq!(failed.state, State::Failed);
        let message = failed.message.unwrap();
        assert!(
            message.contains("the file is kept") && message.contains("out of bounds"),
            "{message}"
        );
        assert!(!run_next(&db).await.unwrap(), "nobody tries it unasked");
        reports::back(&db, &account, id).await.unwrap();
        start().await;
        assert!(run_next(&db).await.unwrap());
        assert_eq!(reports::get(&db, &account, id).await.unwrap().state, State::Done);
    }
}
