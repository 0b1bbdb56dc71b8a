//! Axum routes, Askama templates, htmx fragments, charts and assets. A handler extracts, calls the desk
//! and renders. Never here: SQL, rules of the job.

mod assets;
mod chart;
mod door;
mod error;
mod extract;
mod frame;
mod hosts;
mod limits;
mod metrics;
mod pages;
mod params;
mod paths;
mod queues;
mod routes;
mod security;
mod sent;
mod session;

use std::sync::Arc;

use tiller_desk::PgPool;
use tiller_desk::account::channels::Channels;
use tokio::sync::Notify;

pub use door::Door;
pub use hosts::{Hosts, LOOPBACK};
pub use metrics::{install as install_metrics, router as metrics_router, sum_up as sum_up_metrics};
pub use queues::Queues;
pub use routes::router;
pub use session::sweep as sweep_sessions;

/// What every handler may use.
#[derive(Clone, Debug)]
pub struct App {
    /// The database.
    pub db: PgPool,
    /// How channels are reached.
    pub channels: Channels,
    /// Offered on the sign-in page in demo mode.
    pub demo: Option<DemoSignIn>,
    /// The names under which it may be asked for.
    pub hosts: Hosts,
    /// Who has tried to sign in too often.
    pub door: Door,
    /// Cookies are sent over HTTPS only.
    pub https: bool,
    /// Rung when there is work for a worker.
    pub wake: Wake,
    /// Whether the workers live.
    pub queues: Queues,
}

/// What wakes the workers.
#[derive(Clone, Debug, Default)]
pub struct Wake {
    /// An import has been queued.
    pub imports: Arc<Notify>,
    /// A fetch has been queued.
    pub fetches: Arc<Notify>,
    /// Changes have been sent.
    pub changes: Arc<Notify>,
    /// A run of a rule has been queued.
    pub rules: Arc<Notify>,
}

/// The demo analyst.
#[derive(Clone, Debug)]
pub struct DemoSignIn {
    /// Address.
    pub email: String,
    /// Password; the demo is no secret.
    pub password: String,
}
