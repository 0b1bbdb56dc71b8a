//! Commands that need the database.

use std::future::Future;
use std::io::Read;
use std::process::ExitCode;
use std::time::Duration;

use anyhow::Context;
use bytes::Bytes;
use chrono::{Days, Utc};
use tiller_desk::account::channels::Channels;
use tiller_desk::measure::reports;
use tiller_desk::report_file;
use tiller_desk::{PgPool, Role, account};
use tiller_store::people::{self, NewAccount};

use super::{Account, BadInput, Database, Demo, Import, RoleArg, Serve, User};
use crate::demo::Source;
use crate::settings::{Flags, Settings};
use crate::{demo as demo_data, serve as server};

fn start_logs(settings: &Settings) {
    let filter = tracing_subscriber::EnvFilter::new(&settings.log);
    let logs = tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr);
    if settings.json_logs { logs.json().init() } else { logs.init() }
}

/// Runs something that waits.
pub fn block_on<T>(work: impl Future<Output = anyhow::Result<T>>) -> anyhow::Result<T> {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build()?;
    let done = runtime.block_on(work);
    // A thread that still reads a file keeps nobody.
    runtime.shutdown_timeout(Duration::from_secs(1));
    done
}

/// What happens, told on the way as the settings ask.
pub fn tell(database: &Database) -> anyhow::Result<()> {
    start_logs(&Settings::load(database.settings.as_deref(), &database.flags())?);
    Ok(())
}

/// Connects and brings the schema up to date.
pub async fn connect(database: &Database) -> anyhow::Result<PgPool> {
    let settings = Settings::load(database.settings.as_deref(), &database.flags())?;
    let db = tiller_store::connect(&settings.database_url, 4, None)
        .await
        .context("no connection to the database")?;
    tiller_store::migrate(&db).await?;
    Ok(db)
}

pub fn serve(args: &Serve) -> anyhow::Result<ExitCode> {
    let flags =
        Flags { host: args.host, port: args.port, demo: args.demo, ..args.database.flags() };
    let settings = Settings::load(args.database.settings.as_deref(), &flags)?;
    start_logs(&settings);
    block_on(server::run(settings))?;
    Ok(ExitCode::SUCCESS)
}

pub fn demo(args: &Demo) -> anyhow::Result<ExitCode> {
    let yesterday =
        Utc::now().date_naive().checked_sub_days(Days::new(1)).context("no yesterday")?;
    block_on(async {
        let settings = Settings::load(args.database.settings.as_deref(), &args.database.flags())?;
        let db = connect(&args.database).await?;
        let history = Source::History(args.until.unwrap_or(yesterday));
        let channels = args.market.is_some().then(|| settings.channels()).transpose()?;
        // The demo's market is on this machine.
        let channels = channels.map(|c| Channels { reach: c.reach.and_this_machine(), ..c });
        let source = match (args.market.as_deref(), &channels) {
            (Some(address), Some(channels)) => Source::Market(address, channels),
            _ => history,
        };
        demo_data::load(&db, super::market::world(&args.world)?, source).await
    })?;
    println!("Sign in as {} with {}", demo_data::EMAIL, demo_data::PASSWORD);
    Ok(ExitCode::SUCCESS)
}

pub fn import(args: &Import) -> anyhow::Result<ExitCode> {
    use futures::StreamExt;
    block_on(async {
        let db = connect(&args.database).await?;
        let account = account::by_slug(&db, &args.account).await?;
        let mut file = std::fs::File::open(&args.report)
            .map_err(|e| BadInput(format!("{}: {e}", args.report.display())))?;
        let mut pieces = std::iter::from_fn(move || {
            let mut piece = vec![0; 1 << 20];
            match file.read(&mut piece) {
                Ok(0) => None,
                Ok(n) => {
                    piece.truncate(n);
                    Some(Ok(Bytes::from(piece)))
                }
                Err(error) => Some(Err(error)),
            }
        });
        let body = futures::stream::poll_fn(move |_| std::task::Poll::Ready(pieces.next())).boxed();
        let name =
            args.report.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
        let adjust = |m: &mut tiller_channel::report::Mapping| {
            m.channel = args.channel.clone().or(m.channel.take());
            m.currency = args.currency.clone().or(m.currency.take());
        };
        let import = tiller_desk::jobs::import::import_now(
            &db,
            &account,
            &name,
            body,
            adjust,
            args.only_good,
        )
        .await?;
        let errors = reports::errors(&db, &account, import.id, 20).await?;
        for e in &errors {
            let e = tiller_channel::report::RowError {
                line: e.line as u64,
                column: e.column.clone(),
                found: e.found.clone(),
                expected: e.expected.clone(),
            };
            eprintln!("{}", report_file::row_error(&e));
        }
        match import.state {
            reports::ImportState::Done => {
                println!(
                    "{} rows imported, {} errors left out",
                    import.rows_kept, import.error_count
                );
                Ok(ExitCode::SUCCESS)
            }
            reports::ImportState::Decide => {
                reports::drop_import(&db, &account, import.id).await?;
                Err(BadInput(format!(
                    "{} errors; nothing was imported. Correct the file, or add --only-good to leave those rows out",
                    import.error_count
                ))
                .into())
            }
            _ => {
                Err(BadInput(import.message.unwrap_or_else(|| "nothing was imported".into()))
                    .into())
            }
        }
    })
}

/// A password from standard input.
fn typed_password() -> anyhow::Result<String> {
    let mut password = String::new();
    std::io::stdin().read_line(&mut password).context("the password could not be read")?;
    Ok(password.trim_end_matches(['\r', '\n']).to_owned())
}

pub fn user(args: User) -> anyhow::Result<ExitCode> {
    block_on(async {
        match args {
            User::Add { database, email, name } => {
                let password = typed_password()?;
                let db = connect(&database).await?;
                account::add_person(&db, &email, &name, &password).await?;
                println!("{email} may sign in");
            }
            User::Password { database, email } => {
                let password = typed_password()?;
                let db = connect(&database).await?;
                account::set_password(&db, &email, &password).await?;
                println!("{email} signs in with the new password; all sessions have ended");
            }
            User::Join { database, email, account, role } => {
                let db = connect(&database).await?;
                let person = people::by_email(&db, &email).await?.ok_or_else(|| {
                    BadInput(format!("nobody has the address {email}; add them first"))
                })?;
                let account = account::by_slug(&db, &account).await?;
                let role = match role {
                    RoleArg::Viewer => Role::Viewer,
                    RoleArg::Analyst => Role::Analyst,
                    RoleArg::Admin => Role::Admin,
                };
                account::join(&db, account.id, person.id, role).await?;
                println!("{} is {} of {}", person.name, role.word(), account.name);
            }
        }
        Ok(ExitCode::SUCCESS)
    })
}

pub fn account(args: Account) -> anyhow::Result<ExitCode> {
    let Account::Add { database, slug, name, currency, time_zone } = args;
    block_on(async {
        let db = connect(&database).await?;
        account::add(
            &db,
            &NewAccount {
                slug: &slug,
                name: &name,
                currency: &currency.to_uppercase(),
                time_zone: &time_zone,
            },
        )
        .await?;
        println!("{name} was added");
        Ok(ExitCode::SUCCESS)
    })
}
