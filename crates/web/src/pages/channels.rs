//! Channels: connections, what they fetch, and the stand-in market's clock.

use askama::Template;
use askama_web::WebTemplate;
use axum::extract::State;
use axum::http::{HeaderName, StatusCode};
use axum::response::{Html, IntoResponse, Redirect, Response};
use tiller_desk::account::connections as desk;
use tiller_desk::account::connections::{JobState, View};
use tiller_desk::numerals::{full_day, number};
use tiller_desk::{ConnectionId, DeskError};

use crate::App;
use crate::error::PageError;
use crate::extract::{Editor, Id, Member};
use crate::frame::{Frame, Station};
use crate::params::Params;
use crate::sent::Sent;

/// A connection in the list.
pub struct ChannelLine {
    id: ConnectionId,
    channel: String,
    address: String,
    fetched: String,
    state: String,
    tone: &'static str,
    open: bool,
}

#[derive(Template, WebTemplate)]
#[template(path = "channels.html")]
struct ChannelsPage {
    frame: Frame,
    lines: Vec<ChannelLine>,
    address: String,
    wrong: Option<String>,
    open: bool,
}

fn line(v: View) -> ChannelLine {
    let c = v.connection;
    let job = v.job.as_ref();
    let open = job.is_some_and(|j| j.state.open());
    let (state, tone) = match job {
        None => ("nothing fetched yet".to_owned(), "quiet"),
        Some(j) => match (j.state, &j.error) {
            (JobState::Failed, error) => {
                (format!("not fetched: {}", error.as_deref().unwrap_or_default()), "harm")
            }
            (JobState::Done, _) => ("fetched".to_owned(), "gain"),
            (_, Some(error)) => (format!("tried again soon: {error}"), "harm"),
            (JobState::Running, None) if j.rows_read > 0 => {
                (format!("reading the report, {} rows", number(j.rows_read as f64, 0)), "quiet")
            }
            (JobState::Running, None) => (format!("fetching the {}", j.step), "quiet"),
            _ => ("waits for its turn".to_owned(), "quiet"),
        },
    };
    ChannelLine {
        id: c.id,
        channel: c.channel_name,
        address: c.base_url,
        fetched: c.fetched_to.map_or("–".into(), full_day),
        state,
        tone,
        open,
    }
}

async fn page(
    app: &App,
    member: &Member,
    params: &Params,
    address: String,
    wrong: Option<String>,
) -> Result<ChannelsPage, PageError> {
    let lines: Vec<ChannelLine> =
        desk::list(&app.db, &member.account).await?.into_iter().map(line).collect();
    Ok(ChannelsPage {
        frame: Frame::new(member, Station::Channels, params),
        open: lines.iter().any(|l| l.open),
        lines,
        address,
        wrong,
    })
}

/// The connections.
pub async fn show(
    member: Member,
    State(app): State<App>,
    params: Params,
) -> Result<impl IntoResponse, PageError> {
    page(&app, &member, &params, String::new(), None).await
}

/// Connects every channel that a token opens.
pub async fn connect(sent: Sent) -> Result<Response, PageError> {
    let Sent { app, member, params, fields, .. } = &sent;
    let (address, token) = (fields.text("address"), fields.text("token"));
    match desk::connect(&app.db, &app.channels, &member.account, address, token).await {
        Ok(_) => {
            app.wake.fetches.notify_one();
            Ok(Redirect::to(&member.path("channels")).into_response())
        }
        Err(DeskError::Invalid(message)) => {
            let page = page(app, member, params, address.to_owned(), Some(message)).await?;
            Ok((StatusCode::UNPROCESSABLE_ENTITY, page).into_response())
        }
        Err(error) => Err(error.into()),
    }
}

/// Fetches now.
pub async fn fetch(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id<ConnectionId>,
) -> Result<Redirect, PageError> {
    desk::fetch(&app.db, &member.account, id).await?;
    app.wake.fetches.notify_one();
    Ok(Redirect::to(&member.path("channels")))
}

/// Ends a connection.
pub async fn remove(
    Editor(member): Editor,
    State(app): State<App>,
    Id(id): Id<ConnectionId>,
) -> Result<Redirect, PageError> {
    desk::remove(&app.db, &member.account, id).await?;
    Ok(Redirect::to(&member.path("channels")))
}

/// Lets a day or a week pass at the stand-in market.
pub async fn let_pass(sent: Sent) -> Result<Redirect, PageError> {
    let Sent { app, member, fields, .. } = &sent;
    let days = fields.read("days").unwrap_or(0);
    desk::let_pass(&app.db, &app.channels, &member.account, days).await?;
    app.wake.fetches.notify_one();
    Ok(sent.back("today"))
}

/// Whether something is still being fetched: the page that asked is loaded anew when it has come in.
pub async fn fetching(member: Member) -> Response {
    if member.standing.fetching {
        let again = format!(
            r#"<span id="fetching" role="status" hx-get="{}" hx-trigger="load delay:700ms" hx-swap="outerHTML">fetching …</span>"#,
            member.path("fetching")
        );
        return Html(again).into_response();
    }
    ([(HeaderName::from_static("hx-refresh"), "true")], Html("")).into_response()
}
