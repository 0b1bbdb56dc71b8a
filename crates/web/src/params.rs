//! The query of an address: filters, period, order. Every page holds its state there.

use std::collections::BTreeMap;
use std::str::FromStr;

use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use chrono::NaiveDate;
use tiller_desk::book::PeriodChoice;

use crate::error::PageError;
use crate::limits;

/// Parts of the query that say which days are looked at; links between stations keep them.
const PERIOD: [&str; 5] = ["from", "to", "against_from", "against_to", "alone"];

/// The query, with empty fields left out.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Params(BTreeMap<String, String>);

impl<S: Send + Sync> FromRequestParts<S> for Params {
    type Rejection = PageError;
    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, PageError> {
        let query = parts.uri.query().unwrap_or_default();
        limits::at_most("bytes of an address", query.len(), limits::QUERY)?;
        let params = Self::read(query);
        limits::at_most("fields of an address", params.0.len(), limits::PARAMS)?;
        params.0.iter().try_for_each(|(name, value)| limits::field(name, value))?;
        Ok(params)
    }
}

impl Params {
    /// Reads a query string; of a field that stands several times the values are joined by commas.
    pub fn read(query: &str) -> Self {
        let mut map: BTreeMap<String, String> = BTreeMap::new();
        for (name, value) in form_urlencoded::parse(query.as_bytes()).filter(|(_, v)| !v.is_empty())
        {
            let all = map.entry(name.into_owned()).or_default();
            if !all.is_empty() {
                all.push(',');
            }
            all.push_str(&value);
        }
        Self(map)
    }

    /// A field's text, or nothing.
    pub fn text(&self, name: &str) -> &str {
        self.0.get(name).map_or("", String::as_str)
    }

    /// A field that is a number or an id.
    pub fn number<T: FromStr>(&self, name: &str) -> Result<Option<T>, PageError> {
        let text = self.text(name);
        if text.is_empty() {
            return Ok(None);
        }
        text.parse().map(Some).map_err(|_| {
            PageError::Invalid(format!("‘{text}’ can’t be used as {name} in this address."))
        })
    }

    /// A field that is a day.
    pub fn date(&self, name: &str) -> Result<Option<NaiveDate>, PageError> {
        let text = self.text(name);
        if text.is_empty() {
            return Ok(None);
        }
        NaiveDate::from_str(text).map(Some).map_err(|_| {
            PageError::Invalid(format!("‘{text}’ is not a day; write it like 2026-11-09."))
        })
    }

    /// Which days are looked at.
    pub fn period(&self) -> Result<PeriodChoice, PageError> {
        Ok(PeriodChoice {
            from: self.date("from")?,
            to: self.date("to")?,
            against_from: self.date("against_from")?,
            against_to: self.date("against_to")?,
            alone: !self.text("alone").is_empty(),
        })
    }

    /// Only what says which days are looked at.
    pub fn only_period(&self) -> Self {
        Self(
            self.0
                .iter()
                .filter(|(k, _)| PERIOD.contains(&k.as_str()))
                .map(|(k, v)| (k.clone(), v.clone()))
                .collect(),
        )
    }

    /// With a field set; an empty value takes it out.
    pub fn with(&self, name: &str, value: impl ToString) -> Self {
        let mut map = self.0.clone();
        let value = value.to_string();
        if value.is_empty() {
            map.remove(name)
        } else {
            map.insert(name.to_owned(), value)
        };
        Self(map)
    }

    /// The fields, for hidden inputs of a form that sets `except` itself.
    pub fn others(&self, except: &[&str]) -> Vec<(&str, &str)> {
        self.0
            .iter()
            .filter(|(k, _)| !except.contains(&k.as_str()))
            .map(|(k, v)| (k.as_str(), v.as_str()))
            .collect()
    }
}

impl std::fmt::Display for Params {
    /// As a query string with its question mark, or nothing.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let text = form_urlencoded::Serializer::new(String::new()).extend_pairs(&self.0).finish();
        if text.is_empty() { Ok(()) } else { write!(f, "?{text}") }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_query_survives_and_can_be_changed() {
        let p = Params::read("from=2026-11-01&q=%C3%B8+a&sort=&cols=a&cols=b");
        assert_eq!((p.text("q"), p.text("cols"), p.text("sort")), ("ø a", "a,b", ""));
        assert_eq!(Params::read(p.to_string().trim_start_matches('?')), p);
        assert_eq!(p.with("q", "").with("cols", "").to_string(), "?from=2026-11-01");
        assert_eq!(p.only_period().to_string(), "?from=2026-11-01");
        assert!(Params::read("from=yesterday").period().is_err());
        assert_eq!(Params::default().to_string(), "");
    }
}
