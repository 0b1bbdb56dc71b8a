//! How long rules take over a large account: looking at all items, a run with its changes in the tray, a rehearsal.
//!
//! Usage: `rules DATABASE_URL ACCOUNT`   (the account of `benches/large-account`; nothing is left behind)

use std::time::Instant;

use anyhow::Context;
use chrono::Days;
use tiller_core::Micros;
use tiller_core::Window;
use tiller_core::bid_rule::{Ceiling, Limits, Thresholds};
use tiller_core::rule::Body;
use tiller_core::window::last_settled;
use tiller_desk::rules::ground::Ground;
use tiller_desk::rules::keeping::{self, Standing};
use tiller_desk::rules::rehearsal::rehearse;
use tiller_desk::rules::run::look_now;
use tiller_desk::rules::sets::bid_rule;
use tiller_desk::{ChangeId, PersonId, account, jobs, tray};

#[tokio::main]
async fn main() -> anyhow::Result<()> {
    let mut given = std::env::args().skip(1);
    let mut next = || given.next().context("usage: rules DATABASE_URL ACCOUNT");
    let (url, slug) = (next()?, next()?);
    let db = tiller_store::connect(&url, 8, None).await?;
    let account = account::by_slug(&db, &slug).await?;
    let units = Micros::from_units;
    let limits: Limits = Thresholds {
        spend_without_sale: units(30.0),
        ceiling: Ceiling::Acos(0.25),
        headroom: units(0.16),
        lowest_bid: units(0.1),
        clicks: 10,
        least_cvr: 0.0,
    }
    .into();
    let rule = bid_rule("All items", vec![], limits);
    let since = |t: Instant| 1e3 * t.elapsed().as_secs_f64();
    let mut ground = Ground::load(&db, &account).await?.context("no figures")?;
    let by = ground.last_day();
    let Body::Bid(of) = &rule.body else { anyhow::bail!("a bid rule") };
    let window = Window::ending(last_settled(by, ground.settle()), of.window_days.into());
    for round in 1..=3 {
        let started = Instant::now();
        let rows = tiller_store::rules::counted(&db, account.id, &[], window, by).await?;
        let plain = since(started);
        let started = Instant::now();
        let look = look_now(&db, &mut ground, &rule, None).await?;
        let looked = since(started);
        println!(
            "round {round}: plain SELECT of {} items {plain:.0} ms; with what the rule makes of each {looked:.0} ms ({:.2} times); {} to touch",
            rows.len(),
            looked / plain,
            look.acts()
        );
    }
    let naming = keeping::naming(&ground.book);
    let id = keeping::add(&db, &account, PersonId(1), &rule, &naming).await?;
    keeping::ask(&db, &account, PersonId(1), id).await?;
    let started = Instant::now();
    jobs::rules::run_all(&db).await?;
    let ran = since(started);
    let rows = tray::rows(&db, &account).await?;
    println!("a run with {} changes in the tray: {ran:.0} ms", rows.len());
    let ids: Vec<ChangeId> = rows.iter().map(|r| r.change.id).collect();
    tray::withdraw(&db, &account, &ids).await?;
    keeping::switch(&db, &account, id, Standing::Removed).await?;
    for round in 1..=2 {
        let started = Instant::now();
        let from = by.checked_sub_days(Days::new(89));
        let r = rehearse(&db, &mut ground, &rule, from, None).await?;
        println!(
            "round {round}: rehearsal of 90 days over {} items, {} rounds, {} acts: {:.0} ms",
            r.things.stage.things.len(),
            r.rehearsal.rounds.len(),
            r.rehearsal.acts.len(),
            since(started)
        );
    }
    Ok(())
}
