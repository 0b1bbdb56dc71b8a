//! The demo: the invented accounts, connected to the stand-in market or filled from its history.

use std::sync::Arc;

use anyhow::Context;
use bytes::Bytes;
use chrono::NaiveDate;
use tiller_core::Target;
use tiller_desk::account::channels::Channels;
use tiller_desk::account::{self, connections};
use tiller_desk::measure::reports;
use tiller_desk::{PgPool, Role};
use tiller_market::{Market, World};
use tiller_store::people::{self, NewAccount};

/// The demo analyst's address; reserved for examples (RFC 2606).
pub const EMAIL: &str = "analyst@amberfold.example";
/// What the sign-in page of a server with `--demo` takes for it; no secret, and no password anywhere else.
pub const PASSWORD: &str = "amberfold-demo";
const ANALYST: &str = "Demo analyst";

/// Where the demo's figures come from.
#[derive(Clone, Copy, Debug)]
pub enum Source<'a> {
    /// A stand-in market that answers at this address: accounts are connected to it.
    Market(&'a str, &'a Channels),
    /// The market's history up to a day, taken in by the same import as any report.
    History(NaiveDate),
}

/// Makes the accounts of a world; those that have figures keep them.
pub async fn load(db: &PgPool, world: World, source: Source<'_>) -> anyhow::Result<()> {
    let world = Arc::new(world);
    let person = account::person_without_password(db, EMAIL, ANALYST).await?;
    let mut history = None;
    for account in &world.accounts {
        let slug = format!("amberfold-{}", account.key);
        let id = match people::account_by_slug(db, &slug).await? {
            Some(there) => there.id,
            None => {
                let new = NewAccount {
                    slug: &slug,
                    name: &account.name,
                    currency: &account.currency,
                    time_zone: &account.time_zone,
                };
                let id = account::add(db, &new).await?;
                let target = Target::given(account.target_cpa, account.target_roas)?;
                account::set_default_target(db, id, target).await?;
                id
            }
        };
        account::join(db, id, person, Role::Admin).await?;
        let there = account::by_slug(db, &slug).await?;
        match source {
            Source::Market(address, channels) => {
                connect(db, channels, &there, address, &account.token).await?;
            }
            Source::History(last) => {
                // Killed half-way, the account stands without its report: the import is one transaction.
                if !tiller_store::facts::campaigns(db, id).await?.is_empty() {
                    continue;
                }
                eprintln!("Making {} days of {} …", world.days, account.name);
                let market = history.get_or_insert_with(|| Market::begin(Arc::clone(&world), last));
                let sim = market.account(&account.key).context("the account is in its world")?;
                let file = market.history(sim)?;
                let body = futures::stream::iter([Ok::<_, std::io::Error>(Bytes::from(file))]);
                let name = format!("{slug}-{last}.csv");
                let import =
                    tiller_desk::jobs::import::import_now(db, &there, &name, body, |_| {}, false)
                        .await?;
                anyhow::ensure!(
                    import.state == reports::ImportState::Done,
                    "the demo report was not imported: {:?}",
                    import.message
                );
            }
        }
    }
    if let Source::Market(_, channels) = source {
        eprintln!("Fetching from the market …");
        while tiller_desk::jobs::fetch::run_next(db, channels).await? {}
    }
    Ok(())
}

/// Connects an account that is not connected yet, and follows a market that moved to another port.
async fn connect(
    db: &PgPool,
    channels: &Channels,
    account: &tiller_desk::Account,
    address: &str,
    token: &str,
) -> anyhow::Result<()> {
    let there = connections::list(db, account).await?;
    if let Some(first) = there.first() {
        let before = &first.connection.base_url;
        if before != address {
            tiller_store::connections::move_address(db, before, address).await?;
        }
        return Ok(());
    }
    connections::connect(db, channels, account, address, token).await?;
    Ok(())
}
