//! The stand-in market on the command line.

use std::io::{Read, Write};
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;

use anyhow::Context;
use chrono::{Days, NaiveDate, Utc};
use clap::{Args, Subcommand, ValueEnum};
use tiller_core::bid_rule::Posture;
use tiller_core::break_even::{Measure, ProductLine};
use tiller_desk::PgPool;
use tiller_desk::numerals::{money, number, or_absent, percent};
use tiller_desk::rules::file::RulesFile;
use tiller_market::draw::draw;
use tiller_market::http::Service;
use tiller_market::sim::{AccountSim, Outcome, Policy, steer, truth};
use tiller_market::{Market, World};

use super::{BadInput, Database};
use crate::by_rule::{self, Ruled};
use crate::follow::{Levers, follow};
use crate::serve::interrupted;

/// Which world, and where its history ends.
#[derive(Debug, Args)]
pub struct Setting {
    /// A world file, or the name of a world that ships: `amberfold`, `thin_leads`, `large_shop`.
    #[arg(long, default_value = "amberfold")]
    world: String,
    /// Last day of the history; yesterday if left out.
    #[arg(long)]
    until: Option<NaiveDate>,
    /// Another seed than the world's own.
    #[arg(long)]
    seed: Option<u64>,
}

/// The stand-in market.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Answer the channels' open interface.
    Serve {
        #[command(flatten)]
        setting: Setting,
        /// Address to listen on.
        #[arg(long, default_value = "127.0.0.1")]
        host: IpAddr,
        /// Port to listen on.
        #[arg(long, default_value_t = 8470)]
        port: u16,
        /// Keep what was answered in this file, and go on from it.
        #[arg(long)]
        journal: Option<PathBuf>,
    },
    /// Print the report of an account's history as CSV.
    Report {
        #[command(flatten)]
        setting: Setting,
        /// The account's key in the world.
        #[arg(long)]
        account: String,
    },
    /// Print a world drawn at random, as a world file.
    Draw {
        /// Which one.
        #[arg(long)]
        seed: u64,
    },
    /// Print each campaign's real response, conversion rate, elasticities and lag.
    Truth {
        /// A world file, or the name of a world that ships.
        world: String,
        /// Only this account.
        #[arg(long)]
        account: Option<String>,
        /// Last day of the history; yesterday if left out.
        #[arg(long)]
        until: Option<NaiveDate>,
        /// Print it as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Run the accounts onward under a policy, and print what came of it.
    Steer {
        /// Who steers.
        #[arg(long, value_enum)]
        policy: PolicyArg,
        /// What of the advice is followed.
        #[arg(long, value_enum, default_value_t = Levers::Budgets)]
        levers: Levers,
        /// Which world, for how long.
        #[command(flatten)]
        onward: Onward,
        /// Print it as JSON.
        #[arg(long)]
        json: bool,
    },
    /// Run the accounts onward without anybody, and print as JSON what rules rehearsed on those days would have kept and lost.
    Rehearse {
        /// Which world, for how long.
        #[command(flatten)]
        onward: Onward,
    },
}

/// Days after a world's history, and what steers on them.
#[derive(Debug, Args)]
pub struct Onward {
    /// A world file, or the name of a world that ships.
    world: String,
    /// By which rules.
    #[command(flatten)]
    ruled: RuledArgs,
    /// Which database it makes an account of its own in.
    #[command(flatten)]
    database: Database,
    /// How many days.
    #[arg(long, default_value_t = 28)]
    days: u32,
    /// Another seed than the world's own.
    #[arg(long)]
    seed: Option<u64>,
    /// Last day of the history; yesterday if left out.
    #[arg(long)]
    until: Option<NaiveDate>,
}

impl Onward {
    fn setting(&self) -> anyhow::Result<Setting> {
        if !(1..=366).contains(&self.days) {
            return Err(BadInput("--days takes 1 to 366".into()).into());
        }
        Ok(Setting { world: self.world.clone(), until: self.until, seed: self.seed })
    }

    fn with_database<T>(
        &self,
        run: impl AsyncFnOnce(PgPool) -> anyhow::Result<T>,
    ) -> anyhow::Result<T> {
        super::server::tell(&self.database)?;
        super::server::block_on(async { run(super::server::connect(&self.database).await?).await })
    }
}

/// Who steers.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum PolicyArg {
    /// Nobody.
    Stay,
    /// This program's own advice, every week.
    Follow,
    /// One who knows every true response.
    Oracle,
    /// Rules, run when they are due.
    Rules,
}

/// By which rules.
#[derive(Debug, Default, Args)]
pub struct RuledArgs {
    /// A rules file, for steering by rules.
    #[arg(long)]
    rules: Option<PathBuf>,
    /// Thresholds by posture instead, for the items of `--campaign`: launch, hold or harvest.
    #[arg(long, requires = "campaign")]
    posture: Option<String>,
    /// The campaign whose items they are for.
    #[arg(long)]
    campaign: Option<String>,
    /// What one of them costs.
    #[arg(long, default_value_t = 1.0)]
    price: f64,
    /// Share of the price that is left before advertising.
    #[arg(long, default_value_t = 0.4)]
    margin: f64,
    /// Share of the price to keep.
    #[arg(long, default_value_t = 0.1)]
    keep: f64,
}

impl RuledArgs {
    fn read(&self) -> anyhow::Result<Ruled> {
        if let Some(path) = &self.rules {
            let wrong = |e: &dyn std::fmt::Display| BadInput(format!("{}: {e}", path.display()));
            let text = std::fs::read_to_string(path).map_err(|e| wrong(&e))?;
            return Ok(Ruled::File(Box::new(RulesFile::read(&text).map_err(|e| wrong(&e))?)));
        }
        let word = self.posture.as_deref().unwrap_or_default();
        let posture = Posture::read(word).ok_or_else(|| {
            BadInput(
                "steering by rules takes --rules FILE, or --posture launch, hold or harvest".into(),
            )
        })?;
        let line = ProductLine {
            name: "What it sells".into(),
            price: self.price,
            margin: self.margin,
            keep: self.keep,
            measure: Measure::Acos,
        };
        Ok(Ruled::Posture { posture, campaign: self.campaign.clone().unwrap_or_default(), line })
    }
}

impl Setting {
    fn world(&self) -> anyhow::Result<World> {
        let mut world = world(&self.world)?;
        world.seed = self.seed.unwrap_or(world.seed);
        Ok(world)
    }

    fn until(&self) -> anyhow::Result<NaiveDate> {
        let yesterday = || Utc::now().date_naive().checked_sub_days(Days::new(1));
        self.until.or_else(yesterday).context("there is no yesterday")
    }

    fn market(&self) -> anyhow::Result<Market> {
        Ok(Market::begin(Arc::new(self.world()?), self.until()?))
    }
}

/// A world file, or a world that ships, by its name.
pub fn world(name: &str) -> anyhow::Result<World> {
    let text = match World::shipped(name) {
        Some(text) => text.to_owned(),
        None => read(Path::new(name))?,
    };
    Ok(World::parse(&text).map_err(|e| BadInput(e.to_string()))?)
}

fn read(path: &Path) -> anyhow::Result<String> {
    let mut text = String::new();
    super::files::open(path)?
        .read_to_string(&mut text)
        .map_err(|e| BadInput(format!("{}: {e}", path.display())))?;
    Ok(text)
}

fn account<'m>(market: &'m Market, key: &str) -> anyhow::Result<&'m AccountSim> {
    let found = market.account(key);
    Ok(found.ok_or_else(|| BadInput(format!("the world has no account ‘{key}’")))?)
}

/// Carries out one of them.
pub fn run(command: Command) -> anyhow::Result<ExitCode> {
    match command {
        Command::Serve { setting, host, port, journal } => {
            serve(&setting, SocketAddr::new(host, port), journal.as_deref())?;
        }
        Command::Report { setting, account: key } => {
            let market = setting.market()?;
            std::io::stdout().lock().write_all(&market.history(account(&market, &key)?)?)?;
        }
        Command::Draw { seed } => print!("{}", draw(seed)),
        Command::Truth { world, account: only, until, json } => {
            let market = Setting { world, until, seed: None }.market()?;
            print_truth(&market, only.as_deref(), json)?;
        }
        Command::Steer { policy, levers, onward, json } => {
            let setting = onward.setting()?;
            let (world, until) = (setting.world()?, setting.until()?);
            let outcomes = outcomes(world.clone(), until, (policy, levers), &onward)?;
            print_outcomes(&world, outcomes, json)?;
        }
        Command::Rehearse { onward } => {
            let setting = onward.setting()?;
            print_rehearsals(setting.world()?, setting.until()?, &onward)?;
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn serve(setting: &Setting, address: SocketAddr, journal: Option<&Path>) -> anyhow::Result<()> {
    let (world, until) = (setting.world()?, setting.until()?);
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build()?;
    runtime.block_on(async {
        // Listening comes first: who connects while the history is made is answered when it stands.
        let listener = tokio::net::TcpListener::bind(address)
            .await
            .with_context(|| format!("{address} can’t be listened on; choose another --port"))?;
        let service = Service::open(world, until, journal)?;
        eprintln!("The market answers on http://{}", listener.local_addr()?);
        Ok(service.serve(listener, interrupted()).await?)
    })
}

fn print_truth(market: &Market, only: Option<&str>, json: bool) -> anyhow::Result<()> {
    let mut out = std::io::stdout().lock();
    if let Some(key) = only {
        account(market, key)?;
    }
    let wanted = market
        .accounts
        .iter()
        .map(|sim| (&market.of_world(sim).key, sim))
        .filter(|(key, _)| only.is_none_or(|o| o == *key));
    let all: Vec<_> = wanted.map(|(key, sim)| (key, truth(market, sim))).collect();
    if json {
        let object: serde_json::Map<String, serde_json::Value> = all
            .iter()
            .map(|(key, t)| Ok((String::clone(key), serde_json::to_value(t)?)))
            .collect::<Result<_, serde_json::Error>>()?;
        serde_json::to_writer_pretty(&mut out, &object)?;
        return Ok(writeln!(out)?);
    }
    for (key, campaigns) in all {
        writeln!(out, "{key}: a day, over the coming four weeks")?;
        writeln!(
            out,
            "{:<34} {:>10} {:>10} {:>11} {:>11} {:>7} {:>10} {:>10} {:>10}",
            "campaign",
            "budget",
            "spend",
            "conversions",
            "value",
            "CVR %",
            "elasticity",
            "of the bid",
            "of the CPC"
        )?;
        for c in campaigns {
            writeln!(
                out,
                "{:<34} {:>10} {:>10} {:>11} {:>11} {:>7} {:>10} {:>10} {:>10}",
                c.campaign,
                money(c.budget),
                money(c.present.spend),
                number(c.present.conversions, 2),
                money(c.present.value),
                or_absent(c.cvr, percent),
                or_absent(c.elasticity, |x| number(x, 2)),
                or_absent(c.bid_elasticity, |x| number(x, 2)),
                or_absent(c.price_elasticity, |x| number(x, 2)),
            )?;
        }
    }
    Ok(())
}

/// What comes of each account under a policy.
fn outcomes(
    world: World,
    until: NaiveDate,
    (policy, levers): (PolicyArg, Levers),
    onward: &Onward,
) -> anyhow::Result<Vec<Outcome>> {
    let days = onward.days;
    let policy = match policy {
        PolicyArg::Stay => Policy::Stay,
        PolicyArg::Oracle => Policy::Oracle,
        PolicyArg::Follow => {
            return onward.with_database(async |db| follow(&db, world, until, days, levers).await);
        }
        PolicyArg::Rules => {
            let ruled = onward.ruled.read()?;
            return onward
                .with_database(async |db| by_rule::steer(&db, world, until, days, &ruled).await);
        }
    };
    let market = Market::begin(Arc::new(world), until);
    let levers = tiller_market::sim::Levers {
        budgets: levers != Levers::Bids,
        bids: levers != Levers::Budgets,
    };
    let of = |i| steer(market.clone(), i, policy, levers, days);
    Ok((0..market.accounts.len()).map(of).collect())
}

fn print_rehearsals(world: World, until: NaiveDate, onward: &Onward) -> anyhow::Result<()> {
    let ruled = onward.ruled.read()?;
    let keys: Vec<String> = world.accounts.iter().map(|a| a.key.clone()).collect();
    let all = onward.with_database(async |db| {
        by_rule::rehearse(&db, world, until, onward.days, &ruled).await
    })?;
    let mut out = std::io::stdout().lock();
    let object: serde_json::Map<String, serde_json::Value> = keys.into_iter().zip(all).collect();
    serde_json::to_writer_pretty(&mut out, &object)?;
    Ok(writeln!(out)?)
}

fn print_outcomes(world: &World, outcomes: Vec<Outcome>, json: bool) -> anyhow::Result<()> {
    let mut out = std::io::stdout().lock();
    let outcomes: Vec<_> = world.accounts.iter().zip(outcomes).collect();
    if json {
        let object: serde_json::Map<String, serde_json::Value> = outcomes
            .iter()
            .map(|(a, o)| {
                let mut of = serde_json::to_value(o)?;
                of["worth"] = worth(a, o).into();
                Ok((a.key.clone(), of))
            })
            .collect::<Result<_, serde_json::Error>>()?;
        serde_json::to_writer_pretty(&mut out, &object)?;
        return Ok(writeln!(out)?);
    }
    writeln!(
        out,
        "{:<20} {:>12} {:>12} {:>13} {:>10} {:>6} {:>13}",
        "account", "spend", "conversions", "value", "CPA", "ROAS", "over spend"
    )?;
    for (account, o) in outcomes {
        writeln!(
            out,
            "{:<20} {:>12} {:>12} {:>13} {:>10} {:>6} {:>13}",
            account.key,
            money(o.spend),
            number(o.conversions, 0),
            money(o.value),
            or_absent(o.cpa(), money),
            or_absent((o.value > 0.0).then(|| o.value / o.spend), |r| number(r, 2)),
            or_absent(worth(account, &o), money),
        )?;
    }
    Ok(())
}

/// What the results that were due are worth at an account's target, above what was spent.
fn worth(account: &tiller_market::world::Account, o: &Outcome) -> Option<f64> {
    let results = match (account.target_cpa, account.target_roas) {
        (Some(cpa), _) => o.due.conversions * cpa,
        (None, Some(roas)) => o.due.value / roas,
        (None, None) => return None,
    };
    Some(results - o.spend)
}
