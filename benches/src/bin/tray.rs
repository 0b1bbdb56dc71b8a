//! How long it takes to put ten thousand changes in the tray and to check them all.
//!
//! Usage: `tray DATABASE_URL ACCOUNT`   (an account whose channels are connected; the tray is empty again afterwards)

use std::time::Instant;

use anyhow::Context;
use tiller_core::setting::{MatchType, Setting};
use tiller_core::spot::Subject;
use tiller_desk::book::{Book, PeriodChoice};
use tiller_desk::tray::proposal::{Adds, Origin, Proposal};
use tiller_desk::{ChangeId, PersonId, account, tray};

const CHANGES: usize = 10_000;

#[tokio::main]
async fn main() -> anyhow::Result<()> {
    let mut given = std::env::args().skip(1);
    let mut next = || given.next().context("usage: tray DATABASE_URL ACCOUNT");
    let (url, slug) = (next()?, next()?);
    let db = tiller_store::connect(&url, 8, None).await?;
    let account = account::by_slug(&db, &slug).await?;
    let book = Book::load(&db, &account, PeriodChoice::default()).await?.context("no figures")?;
    let campaigns: Vec<_> = book.entries.iter().map(|e| e.campaign.id).collect();
    let proposals = (0..CHANGES)
        .map(|i| Proposal {
            subject: Subject::Campaign(campaigns[i % campaigns.len()]),
            set: Setting::Negative {
                text: format!("word {i}"),
                match_type: MatchType::Exact,
                present: true,
            },
            reason: "Searched in vain.".into(),
            evidence: Vec::new(),
            effect: String::new(),
            adds: Adds::default(),
            origin: Origin::Causes,
            undoes: None,
            along: Vec::new(),
        })
        .collect();
    let started = Instant::now();
    let put = tray::propose(&db, &account, PersonId(1), proposals).await?;
    println!("{put} changes put in the tray in {:.0} ms", 1e3 * started.elapsed().as_secs_f64());
    for round in ["first", "again", "again"] {
        let started = Instant::now();
        let rows = tray::rows(&db, &account).await?;
        println!(
            "{} read and checked in {:.0} ms, {round}",
            rows.len(),
            1e3 * started.elapsed().as_secs_f64()
        );
    }
    let rows = tray::rows(&db, &account).await?;
    let ids: Vec<ChangeId> = rows.iter().map(|r| r.change.id).collect();
    tray::withdraw(&db, &account, &ids).await?;
    Ok(())
}
