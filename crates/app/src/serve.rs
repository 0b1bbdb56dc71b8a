//! The server: pages, workers, upkeep, and a shutdown that finishes what it began.

use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use tiller_desk::account::channels::Channels;
use tiller_desk::account::connections;
use tiller_desk::mail::Mailer;
use tiller_desk::{DeskError, PgPool, jobs};
use tiller_web::{App, DemoSignIn, Door, Queues, Wake};
use tokio::net::TcpListener;
use tokio::sync::Notify;

use crate::demo;
use crate::listen::{self, Limits};
use crate::settings::Settings;

/// Accounts whose channels are fetched at once: a slow one keeps few others waiting.
const FETCHES: usize = 4;
/// Connections to the database for workers, beside those for pages: an import holds three.
const FOR_WORKERS: u32 = 20;
/// A page's statement that takes longer is ended.
const LONGEST_STATEMENT: Duration = Duration::from_secs(20);
/// Queues are looked at this often, even if no bell rings.
const LOOK_EVERY: Duration = Duration::from_secs(2);

/// Runs until interrupted.
pub async fn run(settings: Settings) -> anyhow::Result<()> {
    let channels = settings.channels()?;
    let url = &settings.database_url;
    let db = tiller_store::connect(url, FOR_WORKERS, None)
        .await
        .context("no connection to the database")?;
    tiller_store::migrate(&db).await?;
    connections::seal_plain(&db, &channels).await?;
    let pages = tiller_store::connect(url, settings.connections, Some(LONGEST_STATEMENT)).await?;
    let address = SocketAddr::new(settings.host, settings.port);
    let listener = TcpListener::bind(address)
        .await
        .with_context(|| format!("{address} can’t be listened on; choose another --port"))?;
    let app = App {
        db: pages,
        channels: channels.clone(),
        demo: settings
            .demo
            .then(|| DemoSignIn { email: demo::EMAIL.into(), password: demo::PASSWORD.into() }),
        https: settings.https,
        wake: Wake::default(),
        queues: Queues::default(),
        hosts: Some(settings.host_names()),
        door: Door::default(),
    };
    let mailer = match (&settings.smtp, &settings.mail_from) {
        (None, _) => None,
        (Some(server), Some(from)) => Some(Mailer::new(server, from)?),
        (Some(_), None) => anyhow::bail!(
            "a mail server is set, but no address that e-mail comes from: set GOLD_TILLER_MAIL_FROM"
        ),
    };
    let (stop, stopped) = tokio::sync::watch::channel(false);
    let work = |name, bell: &Arc<Notify>, next: Next| {
        let (queues, with) = (app.queues.clone(), (db.clone(), channels.clone()));
        tokio::spawn(worker(name, with, Arc::clone(bell), queues, next, stopped.clone()))
    };
    let wake = &app.wake;
    let import = next(|db, _| async move { jobs::import::run_next(&db).await });
    let send = next(|db, channels| async move { jobs::send::run_next(&db, &channels).await });
    let rules = next(|db, _| async move { jobs::rules::run_next(&db).await });
    let mut workers = vec![
        work("imports", &wake.imports, import),
        work("changes", &wake.changes, send),
        work("rules", &wake.rules, rules),
    ];
    for _ in 0..FETCHES {
        let fetch = next(|db, channels| async move { jobs::fetch::run_next(&db, &channels).await });
        workers.push(work("fetches", &wake.fetches, fetch));
    }
    if let Some(mailer) = mailer {
        let post = move |db, _| {
            let mailer = mailer.clone();
            async move { jobs::mail::run_next(&db, &mailer).await }
        };
        workers.push(work("mail", &Arc::default(), next(post)));
    }
    if let Some(at) = settings.metrics {
        count(at).await?;
    }
    tokio::spawn(tiller_web::sweep_sessions(db.clone()));
    tokio::spawn(keep_up(db));
    tracing::info!(address = %listener.local_addr()?, "serving");
    let limits = Limits::default();
    let asked = async move {
        interrupted().await;
        tracing::info!("stopping");
        stop.send(true).ok();
        // Whoever asks twice does not want to wait.
        tokio::spawn(async {
            interrupted().await;
            std::process::exit(130);
        });
    };
    let mut workers = tokio::spawn(futures::future::join_all(workers));
    listen::serve(listener, tiller_web::router(app), limits, asked).await;
    // What is under way is finished, if it is soon; else it is taken up again from the start.
    tokio::select! {
        done = &mut workers => drop(done),
        () = tokio::time::sleep(limits.grace) => tracing::warn!("work under way was given up"),
    }
    tracing::info!("stopped");
    Ok(())
}

/// Serves what the program counts of itself.
async fn count(at: SocketAddr) -> anyhow::Result<()> {
    let recorded = tiller_web::install_metrics().context("the metrics are recorded already")?;
    tokio::spawn(tiller_web::sum_up_metrics(recorded.clone()));
    let listener = TcpListener::bind(at).await.with_context(|| {
        format!("{at} can’t be listened on; choose another address for metrics")
    })?;
    let router = tiller_web::metrics_router(recorded);
    tokio::spawn(listen::serve(listener, router, Limits::default(), std::future::pending()));
    Ok(())
}

/// Does the next piece of work of a queue; false if there is none.
type Next = Arc<
    dyn Fn(PgPool, Channels) -> Pin<Box<dyn Future<Output = Result<bool, DeskError>> + Send>>
        + Send
        + Sync,
>;

fn next<F>(of: impl Fn(PgPool, Channels) -> F + Send + Sync + 'static) -> Next
where
    F: Future<Output = Result<bool, DeskError>> + Send + 'static,
{
    Arc::new(move |db, channels| Box::pin(of(db, channels)))
}

/// Works a queue off whenever its bell rings, and looks now and then by itself: other servers on the same
/// database queue work too, and what failed waits for its time.
async fn worker(
    name: &'static str,
    (db, channels): (PgPool, Channels),
    bell: Arc<Notify>,
    queues: Queues,
    next: Next,
    mut stopped: tokio::sync::watch::Receiver<bool>,
) {
    while !*stopped.borrow() {
        queues.alive(name);
        // A task of its own: a piece of work that panics takes nothing else with it. Its claim runs out, and it is
        // taken up again.
        let mut work = tokio::spawn(next(db.clone(), channels.clone()));
        let done = loop {
            tokio::select! {
                done = &mut work => break done,
                () = tokio::time::sleep(LOOK_EVERY) => queues.alive(name),
            }
        };
        match done {
            Ok(Ok(true)) => continue,
            Ok(Ok(false)) => queues.worked(name),
            Ok(Err(error)) => {
                tracing::error!(%error, queue = name, "the queue could not be worked off");
                queues.failed(name);
            }
            Err(panic) => {
                tracing::error!(%panic, queue = name, "a piece of work panicked");
                queues.failed(name);
            }
        }
        tokio::select! {
            () = bell.notified() => {}
            () = tokio::time::sleep(LOOK_EVERY) => {}
            _ = stopped.changed() => {}
        }
    }
}

/// Removes uploads that nobody goes on with and makes room for the days to come, every hour.
async fn keep_up(db: PgPool) {
    let mut tick = tokio::time::interval(Duration::from_hours(1));
    loop {
        tick.tick().await;
        match tiller_store::imports::sweep(&db).await {
            Ok(0) => {}
            Ok(gone) => tracing::info!(gone, "abandoned uploads were removed"),
            Err(error) => tracing::warn!(%error, "abandoned uploads could not be removed"),
        }
        if let Err(error) = tiller_store::partitions::ahead(&db).await {
            tracing::warn!(%error, "no room could be made for the days to come");
        }
    }
}

/// Ends when somebody asks the program to end.
pub async fn interrupted() {
    let ctrl_c = async {
        tokio::signal::ctrl_c().await.ok();
    };
    #[cfg(unix)]
    let terminate = async {
        if let Ok(mut signal) =
            tokio::signal::unix::signal(tokio::signal::unix::SignalKind::terminate())
        {
            signal.recv().await;
        }
    };
    #[cfg(not(unix))]
    let terminate = std::future::pending::<()>();
    tokio::select! {
        () = ctrl_c => {}
        () = terminate => {}
    }
}
