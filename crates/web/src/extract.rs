//! Who asks, and for which account: a handler that takes one of these can't forget to check.

use crate::paths::Paths;
use axum::extract::{FromRequestParts, OriginalUri, RawPathParams};
use axum::http::request::Parts;
use chrono::{NaiveDate, Utc};
use tiller_desk::account::connections::{self, Standing};
use tiller_desk::account::sign_in;
use tiller_desk::{Account, Person, PersonId, Role, numerals};
use tower_sessions::Session;

use crate::App;
use crate::error::PageError;

/// The session's key for the person.
pub const PERSON: &str = "person";
/// The session's key for the day of the last visit.
const SEEN: &str = "seen";

/// A visit a day keeps a session: it is written anew, and with it when it ends.
pub async fn seen(session: &Session) -> Result<(), PageError> {
    let today = Utc::now().date_naive();
    if session.get::<NaiveDate>(SEEN).await? != Some(today) {
        session.insert(SEEN, today).await?;
    }
    Ok(())
}

/// Somebody is signed in.
#[derive(Clone, Debug)]
pub struct SignedIn {
    /// Who.
    pub person: Person,
}

impl FromRequestParts<App> for SignedIn {
    type Rejection = PageError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, PageError> {
        let session = Session::from_request_parts(parts, app)
            .await
            .map_err(|(_, text)| PageError::Internal(text.into()))?;
        let id: Option<PersonId> = session.get(PERSON).await?;
        let person = match id {
            Some(id) => sign_in::person(&app.db, id).await?,
            None => None,
        };
        if person.is_some() {
            seen(&session).await?;
        }
        // The address as it was asked for: a nested router sees only its own part.
        let OriginalUri(uri) = OriginalUri::from_request_parts(parts, app)
            .await
            .unwrap_or_else(|never| match never {});
        let next = uri.path_and_query().map_or("/", |p| p.as_str()).to_owned();
        person.map(|person| Self { person }).ok_or(PageError::SignInFirst { next })
    }
}

/// A member of the account in the address.
#[derive(Clone, Debug)]
pub struct Member {
    /// Who asks.
    pub person: Person,
    /// The account.
    pub account: Account,
    /// What they may do in it.
    pub role: Role,
    /// The accounts that they may see.
    pub accounts: Vec<Account>,
    /// How the account stands.
    pub standing: Standing,
}

impl FromRequestParts<App> for Member {
    type Rejection = PageError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, PageError> {
        let SignedIn { person } = SignedIn::from_request_parts(parts, app).await?;
        let path = RawPathParams::from_request_parts(parts, app).await.map_err(|_| unreadable())?;
        let slug = path
            .iter()
            .find(|(name, _)| *name == "account")
            .map(|(_, slug)| slug.to_owned())
            .unwrap_or_default();
        let all = sign_in::accounts(&app.db, person.id).await?;
        let found = all.iter().find(|(a, ..)| a.slug == slug).cloned();
        // An account of others answers like one that does not exist.
        let (account, role, stamp) =
            found.ok_or_else(|| PageError::NotFound(format!("You have no account ‘{slug}’.")))?;
        if let Ok(currency) = account.currency.parse() {
            numerals::in_currency(currency);
        }
        let standing = connections::standing(&app.db, &account, &stamp).await?;
        let accounts = all.into_iter().map(|(a, ..)| a).collect();
        Ok(Self { person, account, role, accounts, standing })
    }
}

impl Member {
    /// Where the account's pages are.
    pub fn paths(&self) -> Paths {
        Paths::of(&self.account)
    }

    /// The address of a page of the account.
    pub fn path(&self, page: &str) -> String {
        self.paths().page(page)
    }
}

/// A member who may change things: an analyst or an admin.
#[derive(Clone, Debug)]
pub struct Editor(pub Member);

impl FromRequestParts<App> for Editor {
    type Rejection = PageError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, PageError> {
        let member = Member::from_request_parts(parts, app).await?;
        if member.role >= Role::Analyst { Ok(Self(member)) } else { Err(PageError::NotAllowed) }
    }
}

/// Whether htmx asks, for a fragment.
#[derive(Clone, Copy, Debug)]
pub struct Fragment(pub bool);

impl<S: Send + Sync> FromRequestParts<S> for Fragment {
    type Rejection = std::convert::Infallible;
    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Self::Rejection> {
        Ok(Self(parts.headers.contains_key("hx-request")))
    }
}

/// An address that is no text.
fn unreadable() -> PageError {
    PageError::NotFound("This address can’t be read. Check it for typing errors.".into())
}

/// The id of the thing in the address.
#[derive(Clone, Copy, Debug)]
pub struct Id<T>(pub T);

impl<T: From<i64>> FromRequestParts<App> for Id<T> {
    type Rejection = PageError;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, PageError> {
        let path = RawPathParams::from_request_parts(parts, app).await.map_err(|_| unreadable())?;
        let text = path.iter().find(|(name, _)| *name == "id").map_or("", |(_, text)| text);
        text.parse().map(|n: i64| Self(n.into())).map_err(|_| {
            PageError::NotFound(format!("‘{text}’ is not the number of anything here."))
        })
    }
}
