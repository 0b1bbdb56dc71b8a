//! The command line. Exit codes: 0 done; 2 bad input or usage; 3 valid but impossible; 1 anything else.

mod files;
mod market;
mod rules;
mod server;

use std::net::IpAddr;
use std::path::PathBuf;
use std::process::ExitCode;

use chrono::NaiveDate;
use clap::{Args, CommandFactory, Parser, Subcommand, ValueEnum};
use clap_complete::Shell;

use crate::settings::Flags;

/// Allocate advertising budgets, judge campaigns, and see why one overspends.
#[derive(Debug, Parser)]
#[command(name = "gold-tiller", version, arg_required_else_help = true)]
pub struct Cli {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Serve the pages.
    Serve(Serve),
    /// Make the demo accounts, unless they are there.
    Demo(Demo),
    /// Import a report into an account.
    Import(Import),
    /// Solve a plan file; no database is needed.
    Allocate(Allocate),
    /// Judge one campaign of a report file; no database is needed.
    Diagnose(Diagnose),
    /// Tell of each campaign of a report what a click costs, what it may cost, and how to bid.
    Bids(Bids),
    /// Look at rules over a report file; no database is needed.
    #[command(subcommand)]
    Rules(Rules),
    /// The stand-in market.
    #[command(subcommand)]
    Market(market::Command),
    /// People who may sign in.
    #[command(subcommand)]
    User(User),
    /// Accounts.
    #[command(subcommand)]
    Account(Account),
    /// Write the JSON Schemas and Table Schemas of all formats into a folder.
    Formats {
        /// The folder.
        folder: PathBuf,
    },
    /// Print completions for a shell.
    Completions {
        /// The shell.
        shell: Shell,
    },
    /// Print the version.
    Version,
}

#[derive(Clone, Debug, Args)]
struct Database {
    /// PostgreSQL, as a URL.
    #[arg(long, env = "DATABASE_URL", hide_env_values = true)]
    database_url: Option<String>,
    /// A settings file in TOML.
    #[arg(long)]
    settings: Option<PathBuf>,
}

#[derive(Debug, Args)]
struct Serve {
    #[command(flatten)]
    database: Database,
    /// Address to listen on.
    #[arg(long)]
    host: Option<IpAddr>,
    /// Port to listen on.
    #[arg(long)]
    port: Option<u16>,
    /// Offer the demo analyst on the sign-in page.
    #[arg(long)]
    demo: bool,
}

#[derive(Debug, Args)]
struct Demo {
    #[command(flatten)]
    database: Database,
    /// Address of a stand-in market that answers: the accounts are connected to it. Without it the
    /// market's history is imported as reports.
    #[arg(long)]
    market: Option<String>,
    /// The market's world: a file, or the name of one that ships.
    #[arg(long, default_value = "amberfold")]
    world: String,
    /// Last day of the history; yesterday if left out.
    #[arg(long, conflicts_with = "market")]
    until: Option<NaiveDate>,
}

#[derive(Debug, Args)]
struct Import {
    #[command(flatten)]
    database: Database,
    /// The report, as CSV.
    report: PathBuf,
    /// The account's short name.
    #[arg(long)]
    account: String,
    /// The channel, where no column tells it.
    #[arg(long)]
    channel: Option<String>,
    /// The currency, where no column tells it.
    #[arg(long)]
    currency: Option<String>,
    /// Import the good rows of a file that has others.
    #[arg(long)]
    only_good: bool,
}

#[derive(Debug, Args)]
struct Allocate {
    /// The plan file, or - for standard input.
    plan: PathBuf,
    /// Print the answer as JSON.
    #[arg(long)]
    json: bool,
}

/// What a result may cost.
#[derive(Clone, Copy, Debug, Args)]
#[group(required = true, multiple = false)]
struct TargetArgs {
    /// What a conversion may cost.
    #[arg(long)]
    target_cpa: Option<f64>,
    /// What a unit of spend has to return.
    #[arg(long)]
    target_roas: Option<f64>,
}

#[derive(Debug, Args)]
struct Diagnose {
    /// The report, as CSV, or - for standard input.
    report: PathBuf,
    /// The campaign, by name.
    #[arg(long)]
    campaign: String,
    /// One of its ad groups, by name.
    #[arg(long)]
    ad_group: Option<String>,
    #[command(flatten)]
    target: TargetArgs,
    /// First day looked at.
    #[arg(long)]
    from: Option<NaiveDate>,
    /// Last day looked at.
    #[arg(long)]
    to: Option<NaiveDate>,
    /// When the campaign was launched.
    #[arg(long)]
    launched: Option<NaiveDate>,
    /// The report by segments, as CSV: whom it reached, by device, country, age, gender, income, placement, hour.
    #[arg(long)]
    segments: Option<PathBuf>,
    /// Print the answer as JSON.
    #[arg(long)]
    json: bool,
}

#[derive(Debug, Args)]
struct Bids {
    /// The report, as CSV, or - for standard input.
    report: PathBuf,
    #[command(flatten)]
    target: TargetArgs,
    /// One campaign only, by name.
    #[arg(long)]
    campaign: Option<String>,
    /// Steps toward the affordable CPC, one a look-back.
    #[arg(long, default_value_t = 3, value_parser = clap::value_parser!(u8).range(1..=20))]
    look_backs: u8,
    /// First day looked at.
    #[arg(long)]
    from: Option<NaiveDate>,
    /// Last day looked at.
    #[arg(long)]
    to: Option<NaiveDate>,
    /// Print the answer as JSON.
    #[arg(long)]
    json: bool,
}

#[derive(Debug, Subcommand)]
enum Rules {
    /// Tell what the rules do about each item as of a day.
    Check {
        #[command(flatten)]
        over: RulesOver,
        /// The day whose evening it is; the report's last one unless given.
        #[arg(long)]
        as_of: Option<NaiveDate>,
    },
    /// Tell what the rules would have done on the report's days, and what came of that.
    Rehearse {
        #[command(flatten)]
        over: RulesOver,
        /// First morning.
        #[arg(long)]
        from: Option<NaiveDate>,
        /// Last morning.
        #[arg(long)]
        to: Option<NaiveDate>,
    },
}

#[derive(Debug, Args)]
#[command(mut_group("TargetArgs", |of| of.required(false)))]
struct RulesOver {
    /// The rules, as JSON.
    rules: PathBuf,
    /// The report, as CSV, or - for standard input.
    #[arg(long)]
    report: PathBuf,
    /// Needed where a rule compares with the target.
    #[command(flatten)]
    target: Option<TargetArgs>,
    /// Print the answer as JSON.
    #[arg(long)]
    json: bool,
}

#[derive(Debug, Subcommand)]
enum User {
    /// Add a person; the password is read from standard input.
    Add {
        #[command(flatten)]
        database: Database,
        /// E-mail address.
        email: String,
        /// Name.
        #[arg(long)]
        name: String,
    },
    /// Give a person another password, read from standard input; their sessions end.
    Password {
        #[command(flatten)]
        database: Database,
        /// E-mail address.
        email: String,
    },
    /// Make a person a member of an account, or change the role.
    Join {
        #[command(flatten)]
        database: Database,
        /// E-mail address.
        email: String,
        /// The account's short name.
        #[arg(long)]
        account: String,
        /// What they may do.
        #[arg(long, value_enum)]
        role: RoleArg,
    },
}

#[derive(Clone, Copy, Debug, ValueEnum)]
enum RoleArg {
    /// See everything.
    Viewer,
    /// Import, plan, set targets.
    Analyst,
    /// Decide who is a member.
    Admin,
}

#[derive(Debug, Subcommand)]
enum Account {
    /// Add an account.
    Add {
        #[command(flatten)]
        database: Database,
        /// Short name for addresses: small letters, digits and hyphens.
        slug: String,
        /// Name.
        #[arg(long)]
        name: String,
        /// ISO 4217 code.
        #[arg(long)]
        currency: String,
        /// IANA time zone.
        #[arg(long)]
        time_zone: String,
    },
}

impl Database {
    fn flags(&self) -> Flags {
        Flags { database_url: self.database_url.clone(), ..Flags::default() }
    }
}

/// Input that can't be used: exit code 2.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub struct BadInput(String);

/// The exit code of an error.
pub fn code_of(error: &anyhow::Error) -> ExitCode {
    let bad = error.downcast_ref::<BadInput>().is_some()
        || matches!(
            error.downcast_ref::<tiller_desk::DeskError>(),
            Some(tiller_desk::DeskError::Invalid(_) | tiller_desk::DeskError::NotFound(_))
        );
    ExitCode::from(if bad { 2 } else { 1 })
}

/// Carries out the command line.
pub fn run(cli: Cli) -> anyhow::Result<ExitCode> {
    match cli.command {
        Command::Allocate(args) => files::allocate(&args),
        Command::Diagnose(args) => files::diagnose(&args),
        Command::Bids(args) => files::bids(&args),
        Command::Rules(command) => rules::run(&command),
        Command::Market(command) => market::run(command),
        Command::Formats { folder } => files::formats(&folder),
        Command::Completions { shell } => {
            clap_complete::generate(
                shell,
                &mut Cli::command(),
                "gold-tiller",
                &mut std::io::stdout(),
            );
            Ok(ExitCode::SUCCESS)
        }
        Command::Version => {
            println!("gold-tiller {}", env!("CARGO_PKG_VERSION"));
            Ok(ExitCode::SUCCESS)
        }
        Command::Serve(args) => server::serve(&args),
        Command::Demo(args) => server::demo(&args),
        Command::Import(args) => server::import(&args),
        Command::User(args) => server::user(args),
        Command::Account(args) => server::account(args),
    }
}
