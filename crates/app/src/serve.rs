//! The server: pages, the import worker, upkeep, and a shutdown that finishes what it began.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use tiller_desk::{PgPool, reports};
use tiller_web::{App, DemoSignIn};
use tokio::net::TcpListener;
use tokio::sync::Notify;

use crate::demo;
use crate::settings::Settings;

/// Queued imports of other servers on the same database are noticed this often.
const LOOK_EVERY: Duration = Duration::from_secs(2);

/// Runs until interrupted.
pub async fn run(settings: Settings) -> anyhow::Result<()> {
    let pool = tiller_store::connect(&settings.database_url, settings.connections)
        .await
        .context("no connection to the database")?;
    tiller_store::migrate(&pool).await?;
    let address = SocketAddr::new(settings.host, settings.port);
    let listener = TcpListener::bind(address)
        .await
        .with_context(|| format!("{address} can’t be listened on; choose another --port"))?;
    let app = App {
        pool: pool.clone(),
        demo: settings
            .demo
            .then(|| DemoSignIn { email: demo::EMAIL.into(), password: demo::PASSWORD.into() }),
        https: settings.https,
        wake: Arc::new(Notify::new()),
        metrics: tiller_web::install_metrics(),
    };
    let (stop, stopped) = tokio::sync::watch::channel(false);
    let worker = tokio::spawn(import_worker(pool.clone(), Arc::clone(&app.wake), stopped));
    tokio::spawn(tiller_web::sweep_sessions(pool));
    tracing::info!(address = %listener.local_addr()?, "serving");
    axum::serve(listener, tiller_web::router(app)).with_graceful_shutdown(interrupted()).await?;
    stop.send(true).ok();
    // An import under way is finished; killed harder, it is taken up again from the start.
    worker.await?;
    tracing::info!("stopped");
    Ok(())
}

async fn import_worker(
    pool: PgPool,
    wake: Arc<Notify>,
    mut stopped: tokio::sync::watch::Receiver<bool>,
) {
    while !*stopped.borrow() {
        match reports::run_next(&pool).await {
            Ok(true) => continue,
            Ok(false) => {}
            Err(error) => tracing::error!(%error, "the import queue could not be read"),
        }
        tokio::select! {
            () = wake.notified() => {}
            () = tokio::time::sleep(LOOK_EVERY) => {}
            _ = stopped.changed() => {}
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
