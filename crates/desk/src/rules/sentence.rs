//! A rule as the sentence that it reads as: text, and places in it that open; read back, they give the rule again.

mod bid;
mod custom;
mod read;
mod shared;

pub use read::{Unread, Wrong, read, threshold};

use tiller_core::ids::CampaignId;
use tiller_core::rule::{Body, Rule};

/// How a place is filled.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Ask {
    /// Something is typed.
    Typed,
    /// One of these: value and text.
    One(Vec<(String, String)>),
    /// Any of these.
    Many(Vec<(String, String)>),
}

/// A place that opens.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Slot {
    /// Its name in forms.
    pub name: String,
    /// What it is, for those who don't see the sentence around it.
    pub label: String,
    /// What the sentence says there.
    pub shown: String,
    /// What is filled in.
    pub values: Vec<String>,
    /// How it is filled.
    pub ask: Ask,
}

/// A piece of a sentence.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Piece {
    /// Words.
    Text(String),
    /// A place.
    Slot(Slot),
}

/// One sentence of a rule: a beginning, then parts of which those that are not filled in are left out.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Line {
    /// What it begins with.
    pub lead: Vec<Piece>,
    /// Parts that may be empty; without any the line says nothing, unless it is all beginning.
    pub parts: Vec<Vec<Piece>>,
}

/// A rule's sentences.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sentence {
    /// In order.
    pub lines: Vec<Line>,
}

/// What sentences name: the account's campaigns, and what its results are measured in.
#[derive(Clone, Debug, Default)]
pub struct Naming {
    /// Campaigns by name.
    pub campaigns: Vec<(CampaignId, String)>,
}

impl Piece {
    fn is_filled(&self) -> bool {
        match self {
            Self::Text(_) => true,
            Self::Slot(slot) => slot.values.iter().any(|v| !v.is_empty()),
        }
    }

    fn text(&self) -> &str {
        match self {
            Self::Text(text) => text,
            Self::Slot(slot) => &slot.shown,
        }
    }
}

impl Line {
    /// As plain words; none where nothing is filled in.
    fn text(&self) -> Option<String> {
        Some(self.read()?.into_iter().map(|(text, _)| text).collect())
    }

    /// As words, each with whether it can be changed; none where nothing is filled in.
    fn read(&self) -> Option<Vec<(String, bool)>> {
        let words = |pieces: &[Piece]| {
            let word = |p: &Piece| (p.text().to_owned(), matches!(p, Piece::Slot(_)));
            pieces.iter().map(word).filter(|(text, _)| !text.is_empty()).collect::<Vec<_>>()
        };
        let mut all = words(&self.lead);
        if self.parts.is_empty() {
            return Some(all);
        }
        let filled = self.parts.iter().filter(|p| p.iter().all(Piece::is_filled));
        let parts: Vec<_> = filled.map(|p| words(p)).collect();
        let last = parts.len().checked_sub(1)?;
        for (n, part) in parts.into_iter().enumerate() {
            match n {
                0 => {}
                n if n == last => all.push((" and ".into(), false)),
                _ => all.push((", ".into(), false)),
            }
            all.extend(part);
        }
        all.push((".".into(), false));
        Some(all)
    }

    /// All of its pieces, in order.
    pub fn pieces(&self) -> impl Iterator<Item = &Piece> {
        self.lead.iter().chain(self.parts.iter().flatten())
    }
}

impl Sentence {
    /// The sentence of a rule.
    pub fn of(rule: &Rule, naming: &Naming) -> Self {
        let mut lines = match &rule.body {
            Body::Bid(of) => bid::lines(rule, of, naming),
            Body::Custom(of) => custom::lines(rule, of, naming),
        };
        lines.extend(shared::lines(rule));
        Self { lines }
    }

    /// As plain words.
    pub fn text(&self) -> String {
        self.lines.iter().filter_map(Line::text).collect::<Vec<_>>().join(" ")
    }

    /// Each sentence as words, with whether each can be changed.
    pub fn read(&self) -> Vec<Vec<(String, bool)>> {
        self.lines.iter().filter_map(Line::read).collect()
    }

    /// Fills its places with what was typed, readable or not.
    pub fn fill(&mut self, of: &dyn Fn(&str) -> Vec<String>) {
        let pieces = self
            .lines
            .iter_mut()
            .flat_map(|l| l.lead.iter_mut().chain(l.parts.iter_mut().flatten()));
        for piece in pieces {
            if let Piece::Slot(slot) = piece
                && slot.ask == Ask::Typed
            {
                slot.values = of(&slot.name);
                slot.shown = slot.values.first().cloned().unwrap_or_default();
            }
        }
    }

    /// Its places, in order.
    pub fn slots(&self) -> impl Iterator<Item = &Slot> {
        self.lines.iter().flat_map(Line::pieces).filter_map(|p| match p {
            Piece::Slot(slot) => Some(slot),
            Piece::Text(_) => None,
        })
    }
}

fn say(text: impl Into<String>) -> Piece {
    Piece::Text(text.into())
}

fn typed(name: impl Into<String>, label: impl Into<String>, value: String) -> Piece {
    let (name, label) = (name.into(), label.into());
    Piece::Slot(Slot { name, label, shown: value.clone(), values: vec![value], ask: Ask::Typed })
}

fn one(
    name: impl Into<String>,
    label: impl Into<String>,
    value: &str,
    options: Vec<(String, String)>,
) -> Piece {
    let shown = options.iter().find(|(v, _)| v == value).map_or(String::new(), |(_, t)| t.clone());
    let values = vec![value.to_owned()];
    Piece::Slot(Slot {
        name: name.into(),
        label: label.into(),
        shown,
        values,
        ask: Ask::One(options),
    })
}

fn options(all: &[(&str, &str)]) -> Vec<(String, String)> {
    all.iter().map(|(value, text)| ((*value).to_owned(), (*text).to_owned())).collect()
}

/// A number as it is typed: no more places than it has, no grouping.
fn plain(x: f64) -> String {
    let text = format!("{x:.4}");
    let text = text.trim_end_matches('0').trim_end_matches('.');
    if text.is_empty() { "0".into() } else { text.to_owned() }
}

/// Money as it is typed: whole, or in coins.
fn amount(x: f64) -> String {
    let coins = format!("{x:.2}");
    if (coins.parse::<f64>().unwrap_or(x) - x).abs() < 1e-9 { coins } else { plain(x) }
}

/// A share as it is typed: 12.5%.
fn share(x: f64) -> String {
    plain(x * 100.0) + "%"
}

#[cfg(test)]
mod tests;
