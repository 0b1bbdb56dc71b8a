//! Sign in and out.

use std::net::SocketAddr;
use std::time::Instant;

use crate::paths::Paths;
use askama::Template;
use askama_web::WebTemplate;
use axum::Extension;
use axum::extract::{ConnectInfo, State};
use axum::response::{IntoResponse, Redirect, Response};
use tiller_desk::account::sign_in as desk;
use tower_sessions::Session;

use crate::App;
use crate::error::PageError;
use crate::extract::{PERSON, SignedIn, seen};
use crate::params::Params;
use crate::sent::Fields;

#[derive(Template, WebTemplate)]
#[template(path = "sign_in.html")]
struct SignInPage {
    email: String,
    next: String,
    wrong: bool,
    demo: bool,
}

/// What the form sends.
struct Credentials {
    email: String,
    password: String,
    next: String,
}

impl Credentials {
    fn of(fields: &Fields) -> Self {
        let text = |name| fields.text(name).to_owned();
        Self { email: text("email"), password: text("password"), next: text("next") }
    }
}

/// Only paths of our own: `//host` and `/\host` lead elsewhere.
fn own_path(next: &str) -> &str {
    let own = next.starts_with('/')
        && !next[1..].starts_with(['/', '\\'])
        && !next.contains(char::is_control);
    if own { next } else { "/" }
}

/// To the account that the person sees first.
pub async fn home(
    SignedIn { person }: SignedIn,
    State(app): State<App>,
) -> Result<Response, PageError> {
    let accounts = desk::accounts(&app.db, person.id).await?;
    match accounts.first() {
        Some((account, ..)) => Ok(Redirect::to(&Paths::of(account).page("today")).into_response()),
        None => Err(PageError::NotFound(
            "You are not a member of any account yet. Ask an admin to add you.".into(),
        )),
    }
}

/// The page.
pub async fn show(State(app): State<App>, params: Params) -> impl IntoResponse {
    SignInPage {
        email: String::new(),
        next: own_path(params.text("next")).to_owned(),
        wrong: false,
        demo: app.demo.is_some(),
    }
}

/// Checks address and password.
pub async fn sign_in(
    session: Session,
    State(app): State<App>,
    peer: Option<Extension<ConnectInfo<SocketAddr>>>,
    fields: Fields,
) -> Result<Response, PageError> {
    let form = Credentials::of(&fields);
    let from = peer.map(|Extension(ConnectInfo(address))| address.ip());
    if let Some(wait) = app.door.waits(&form.email, from, Instant::now()) {
        tracing::warn!(email = form.email, ?from, ?wait, "a sign-in has to wait");
        return Err(PageError::TooMany(wait));
    }
    let demo = app.demo.as_ref().filter(|d| d.email == form.email && d.password == form.password);
    let person = match demo {
        Some(demo) => desk::known(&app.db, &demo.email).await?,
        None => desk::sign_in(&app.db, &form.email, &form.password).await?,
    };
    match person {
        Some(person) => {
            app.door.right(&form.email);
            tracing::info!(person = person.id.0, ?from, "signed in");
            enter(&session, person.id, &form.next).await
        }
        None => {
            app.door.wrong(&form.email, from, Instant::now());
            tracing::warn!(email = form.email, ?from, "a sign-in was refused");
            let page = SignInPage {
                email: form.email,
                next: own_path(&form.next).to_owned(),
                wrong: true,
                demo: app.demo.is_some(),
            };
            Ok((axum::http::StatusCode::UNPROCESSABLE_ENTITY, page).into_response())
        }
    }
}

/// Signs the demo analyst in, in demo mode only.
pub async fn demo(
    session: Session,
    State(app): State<App>,
    fields: Fields,
) -> Result<Response, PageError> {
    let none = || PageError::NotFound("This server has no demo.".into());
    let demo = app.demo.as_ref().ok_or_else(none)?;
    let person = desk::known(&app.db, &demo.email).await?.ok_or_else(none)?;
    enter(&session, person.id, fields.text("next")).await
}

async fn enter(
    session: &Session,
    person: tiller_desk::PersonId,
    next: &str,
) -> Result<Response, PageError> {
    // A new id, so that one planted before signing in is worth nothing.
    session.cycle_id().await?;
    session.insert(PERSON, person).await?;
    seen(session).await?;
    Ok(Redirect::to(own_path(next)).into_response())
}

/// Ends the session.
pub async fn sign_out(session: Session) -> Result<Redirect, PageError> {
    session.flush().await?;
    Ok(Redirect::to("/sign-in"))
}

#[cfg(test)]
mod tests {
    #[test]
    fn only_own_paths_are_followed() {
        for (asked, taken) in [
            ("/accounts/a/spend?x=1", "/accounts/a/spend?x=1"),
            ("//evil.example", "/"),
            ("/\\evil.example", "/"),
            ("https://evil.example", "/"),
            ("", "/"),
            ("/a\tb", "/"),
            ("/\u{0}", "/"),
        ] {
            assert_eq!(super::own_path(asked), taken);
        }
    }
}
