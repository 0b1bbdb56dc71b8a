//! Steers a stand-in market by rules alone, run as a server would run them: every day what was reported is fetched, what
//! is due runs, and what it does is sent straight out.

use anyhow::Context;
use chrono::NaiveDate;
use tiller_channel::connection::Connection as _;
use tiller_core::bid_rule::Posture;
use tiller_core::break_even::ProductLine;
use tiller_core::rehearsal::sum;
use tiller_core::rule::{Rule, Send};
use tiller_desk::jobs::rules::run_all;
use tiller_desk::rules::file::RulesFile;
use tiller_desk::rules::ground::Ground;
use tiller_desk::rules::keeping::{self, Standing};
use tiller_desk::rules::report::RangeFile;
use tiller_desk::rules::{posture, rehearsal};
use tiller_desk::{Account, PgPool};
use tiller_market::World;
use tiller_market::sim::{Outcome, outcome};

use crate::follow::{Helm, fetch, queue};

/// By which rules.
#[derive(Clone, Debug)]
pub enum Ruled {
    /// Those of a file, in every account that has what it names.
    File(Box<RulesFile>),
    /// Thresholds by posture, for the items of a campaign.
    Posture {
        /// What is wanted.
        posture: Posture,
        /// The campaign.
        campaign: String,
        /// What it sells.
        line: ProductLine,
    },
}

/// Lives through so many days after the history by rules; what came of it, by account of the world.
pub async fn steer(
    db: &PgPool,
    world: World,
    until: NaiveDate,
    days: u32,
    ruled: &Ruled,
) -> anyhow::Result<Vec<Outcome>> {
    let helm = Helm::take(db, &world, until).await?;
    for account in &helm.accounts {
        tiller_store::rules::by_market_clock(db, account.id).await?;
        for rule in rules(db, account, ruled).await? {
            let book = Ground::load(db, account).await?.context("the account has no figures")?;
            let naming = keeping::naming(&book.book);
            let rule = Rule { send: Send::Straight, ..rule };
            let id = keeping::add(db, account, helm.person, &rule, &naming).await?;
            keeping::switch(db, account, id, Standing::On).await?;
        }
    }
    for _ in 0..days {
        helm.clock.pass(1).await?;
        for account in &helm.accounts {
            queue(db, account, None).await?;
        }
        fetch(db, &helm.channels).await?;
        run_all(db).await?;
        fetch(db, &helm.channels).await?;
    }
    helm.task.abort();
    let market = helm.service.market();
    Ok((0..world.accounts.len()).map(|i| outcome(&market, i, days)).collect())
}

/// Lives through so many days without anybody, then rehearses the rules on them: of each account the spend of those days,
/// and what the rules would have kept and lost together.
pub async fn rehearse(
    db: &PgPool,
    world: World,
    until: NaiveDate,
    days: u32,
    ruled: &Ruled,
) -> anyhow::Result<Vec<serde_json::Value>> {
    let helm = Helm::take(db, &world, until).await?;
    // A campaign that a rule names is named by what is known before.
    let mut about = Vec::new();
    for account in &helm.accounts {
        about.push(rules(db, account, ruled).await?);
    }
    helm.clock.pass(u16::try_from(days)?).await?;
    let mut all = Vec::new();
    for (i, (account, rules)) in helm.accounts.iter().zip(about).enumerate() {
        queue(db, account, None).await?;
        fetch(db, &helm.channels).await?;
        let account = tiller_desk::account::by_slug(db, &account.slug).await?;
        let mut ground = Ground::load(db, &account).await?.context("the account has no figures")?;
        // A run on the first of those days knows the one before.
        let from = until.checked_add_days(chrono::Days::new(2));
        let mut acts = Vec::new();
        for rule in &rules {
            let rehearsed = rehearsal::rehearse(db, &mut ground, rule, from, None).await?;
            acts.extend(rehearsed.rehearsal.acts);
        }
        let sum = sum(&acts);
        let stay = outcome(&helm.service.market(), i, days);
        all.push(serde_json::json!({
            "spend": stay.spend,
            "conversions": stay.due.conversions,
            "kept": RangeFile::from(sum.kept),
            "lost": RangeFile::from(sum.lost),
            "acts": acts.len(),
            "followed": {
                "spend": acts.iter().map(|a| a.followed.spend.to_units()).sum::<f64>(),
                "conversions": acts.iter().map(|a| a.followed.conversions).sum::<f64>(),
            },
        }));
    }
    helm.task.abort();
    Ok(all)
}

/// The rules for an account; none where it has nothing that they are about.
async fn rules(db: &PgPool, account: &Account, ruled: &Ruled) -> anyhow::Result<Vec<Rule>> {
    let ground = Ground::load(db, account).await?.context("the account has no figures")?;
    match ruled {
        Ruled::File(file) => Ok(file.rules(&ground.names(db).await?).unwrap_or_default()),
        Ruled::Posture { posture: wanted, campaign, line } => {
            let entry = ground.book.entries.iter().find(|e| e.campaign.name == *campaign);
            let Some(entry) = entry else { return Ok(Vec::new()) };
            let standing = posture::standing(db, &ground, entry.campaign.id).await?;
            let (setup, _) = posture::reasoned(account, *wanted, line, standing)?;
            Ok(vec![posture::rule("By posture", entry.campaign.id, &setup)])
        }
    }
}
