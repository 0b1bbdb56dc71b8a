//! The demo: the invented accounts, made by the stand-in market and taken in by the same import as any report.

use std::sync::Arc;

use anyhow::Context;
use bytes::Bytes;
use chrono::NaiveDate;
use tiller_core::Target;
use tiller_desk::{PgPool, Role, accounts, reports};
use tiller_market::world::AMBERFOLD;
use tiller_market::{Market, World};
use tiller_store::people::{self, NewAccount};

/// The demo analyst's address; reserved for examples (RFC 2606).
pub const EMAIL: &str = "analyst@amberfold.example";
/// The demo analyst's password; no secret.
pub const PASSWORD: &str = "amberfold-demo";
const ANALYST: &str = "Demo analyst";

/// Makes the demo accounts with a history that ends on `last`; those that exist are left as they are.
pub async fn load(pool: &PgPool, last: NaiveDate) -> anyhow::Result<()> {
    let market = Market::begin(Arc::new(World::parse(AMBERFOLD)?), last);
    let person = accounts::save_person(pool, EMAIL, ANALYST, PASSWORD).await?;
    for account in &market.world.accounts {
        let slug = format!("amberfold-{}", account.key);
        let id = match people::account_by_slug(pool, &slug).await? {
            Some(there) => there.id,
            None => {
                let new = NewAccount {
                    slug: &slug,
                    name: &account.name,
                    currency: &account.currency,
                    time_zone: &account.time_zone,
                };
                accounts::add(pool, &new).await?
            }
        };
        accounts::join(pool, id, person, Role::Admin).await?;
        let there = accounts::by_slug(pool, &slug).await?;
        // Killed half-way, the account stands without its report: the import is one transaction.
        if !tiller_store::facts::campaigns(pool, id).await?.is_empty() {
            continue;
        }
        eprintln!("Making 150 days of {} …", account.name);
        let target = account.target_cpa.map(Target::Cpa).or(account.target_roas.map(Target::Roas));
        accounts::set_default_target(pool, id, target).await?;
        let sim = market.account(&account.key).context("the account is in its world")?;
        let file = market.history(sim)?;
        let body = futures::stream::iter([Ok::<_, std::io::Error>(Bytes::from(file))]);
        let name = format!("{slug}-{last}.csv");
        let import = reports::import_now(pool, &there, &name, body, |_| {}, false).await?;
        anyhow::ensure!(
            import.state == reports::ImportState::Done,
            "the demo report was not imported: {:?}",
            import.message
        );
    }
    Ok(())
}
