//! A form that somebody has sent: its fields, who sent it, and where the answer goes.

use std::collections::HashMap;

use axum::Form;
use axum::extract::{FromRequest, FromRequestParts, Request};
use axum::http::{Uri, header};
use axum::response::Redirect;
use tiller_desk::PersonId;

use crate::App;
use crate::error::PageError;
use crate::extract::{Editor, Fragment, Member};
use crate::limits;
use crate::params::Params;

/// The fields of a form, in the order of the page; several may have one name.
#[derive(Clone, Debug, Default, serde::Deserialize)]
#[serde(transparent)]
pub struct Fields(Vec<(String, String)>);

impl Fields {
    /// The first of a name.
    pub fn get(&self, name: &str) -> Option<&str> {
        self.0.iter().find(|(k, _)| k == name).map(|(_, v)| v.as_str())
    }

    /// The first of a name; empty without one.
    pub fn text(&self, name: &str) -> &str {
        self.get(name).unwrap_or_default()
    }

    /// The first of a name, read as something else.
    pub fn read<T: std::str::FromStr>(&self, name: &str) -> Option<T> {
        self.get(name)?.parse().ok()
    }

    /// All of a name.
    pub fn values<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a str> {
        self.0.iter().filter(move |(k, _)| k == name).map(|(_, v)| v.as_str())
    }

    /// The numbers among all of a name: things that boxes have chosen.
    pub fn ids<'a, T>(&'a self, name: &'a str, of: fn(i64) -> T) -> Vec<T> {
        self.values(name).filter_map(|v| v.parse().ok()).map(of).collect()
    }

    /// The offers that boxes have chosen, as their buttons carry them.
    pub fn buttons(&self) -> Vec<String> {
        self.values("take").map(str::to_owned).collect()
    }

    /// Every field with its value.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &str)> {
        self.0.iter().map(|(k, v)| (k.as_str(), v.as_str()))
    }

    /// Themselves, if all can be taken.
    fn checked(self) -> Result<Self, PageError> {
        limits::at_most("fields", self.0.len(), limits::FIELDS)?;
        self.0.iter().try_for_each(|(name, value)| limits::field(name, value))?;
        Ok(self)
    }

    /// By their names, where each has one of its own.
    pub fn map(self) -> HashMap<String, String> {
        self.0.into_iter().collect()
    }
}

impl<S: Send + Sync> FromRequest<S> for Fields {
    type Rejection = PageError;

    async fn from_request(request: Request, state: &S) -> Result<Self, PageError> {
        let Form(fields) = Form::from_request(request, state).await.map_err(|e| {
            PageError::Invalid(format!("What was sent could not be read as a form: {e}"))
        })?;
        Self(fields).checked()
    }
}

/// A form that an editor has sent.
pub struct Sent {
    /// The program.
    pub app: App,
    /// Who sent it, and to which account.
    pub member: Member,
    /// The fields of the address.
    pub params: Params,
    /// The fields of the form.
    pub fields: Fields,
    /// Whether htmx asks, for a fragment.
    pub fragment: bool,
    /// The page that it was sent from, if it is one of ours.
    from: Option<String>,
}

impl Sent {
    /// Who sent it.
    pub fn person(&self) -> PersonId {
        self.member.person.id
    }

    /// On to a page of the account, with the period that was looked at.
    pub fn on_to(&self, page: &str) -> Redirect {
        Redirect::to(&format!("{}{}", self.member.path(page), self.params.only_period()))
    }

    /// Back to the page that it was sent from, else to another of the account.
    pub fn back(&self, otherwise: &str) -> Redirect {
        let other = || self.member.path(otherwise);
        Redirect::to(&self.from.clone().unwrap_or_else(other))
    }
}

impl FromRequest<App> for Sent {
    type Rejection = PageError;

    async fn from_request(request: Request, app: &App) -> Result<Self, PageError> {
        let (mut parts, body) = request.into_parts();
        let Editor(member) = Editor::from_request_parts(&mut parts, app).await?;
        let params = Params::from_request_parts(&mut parts, app).await?;
        let Fragment(fragment) = Fragment::from_request_parts(&mut parts, app)
            .await
            .unwrap_or_else(|never| match never {});
        let from = parts.headers.get(header::REFERER).and_then(|v| v.to_str().ok());
        let from = from
            .and_then(|r| r.parse::<Uri>().ok())
            .and_then(|u| u.path_and_query().map(ToString::to_string))
            .filter(|p| p.starts_with("/accounts/"));
        let fields = if parts.headers.contains_key(header::CONTENT_TYPE) {
            Fields::from_request(Request::from_parts(parts, body), app).await?
        } else {
            Fields::default()
        };
        Ok(Self { app: app.clone(), member, params, fields, fragment, from })
    }
}

#[cfg(test)]
impl Fields {
    /// Fields as a form would send them.
    pub fn of(fields: &[(&str, &str)]) -> Self {
        Self(fields.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_are_read_by_their_names() {
        let all = [("take", "1"), ("name", "Week"), ("take", "x"), ("take", "3"), ("days", "7")];
        let fields = Fields::of(&all);
        assert_eq!((fields.text("name"), fields.text("none")), ("Week", ""));
        assert_eq!((fields.get("take"), fields.get("none")), (Some("1"), None));
        assert_eq!(fields.ids("take", |id| id), [1, 3], "what is no number chooses nothing");
        assert_eq!(fields.buttons(), ["1", "x", "3"]);
        assert_eq!((fields.read::<u16>("days"), fields.read::<u16>("name")), (Some(7), None));
        assert_eq!(fields.iter().next(), Some(("take", "1")));
        assert_eq!(fields.map()["name"], "Week");
    }
}
