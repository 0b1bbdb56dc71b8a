//! A rule's sentences as a page shows them: read, or open for filling in.

use tiller_desk::rules::sentence::{Ask, Piece, Sentence, Wrong};

/// A sentence that is read: words, some of them strong.
pub struct ReadLine {
    /// Each with whether it is one of those that can be changed.
    pub words: Vec<(String, bool)>,
}

/// A rule's sentences as they are read; what is not filled in is left out.
pub fn read_lines(sentence: &Sentence) -> Vec<ReadLine> {
    sentence.read().into_iter().map(|words| ReadLine { words }).collect()
}

/// A place in a sentence that opens.
pub struct Field {
    /// Its name.
    pub name: String,
    /// What it is.
    pub label: String,
    /// What stands there.
    pub shown: String,
    /// What is filled in, where something is typed.
    pub value: String,
    /// As wide as this many letters.
    pub width: usize,
    /// What can be chosen: value, text, whether it is.
    pub options: Vec<(String, String, bool)>,
    /// typed, one or many.
    pub kind: &'static str,
    /// What is wrong with it.
    pub wrong: String,
}

/// A piece of an open sentence.
pub enum Bit {
    /// Words.
    Text(String),
    /// A place.
    Field(Field),
}

/// An open sentence.
pub struct OpenLine {
    /// Its pieces.
    pub bits: Vec<Bit>,
    /// Whether it may be left empty.
    pub optional: bool,
}

/// A rule's sentences, open.
pub fn open_lines(sentence: &Sentence, wrong: &[Wrong]) -> Vec<OpenLine> {
    let line = |line: &tiller_desk::rules::sentence::Line| {
        let optional = !line.parts.is_empty();
        let mut bits: Vec<Bit> = line.lead.iter().map(|p| bit(p, wrong)).collect();
        for (n, part) in line.parts.iter().enumerate() {
            if n > 0 {
                bits.push(Bit::Text(", ".into()));
            }
            bits.extend(part.iter().map(|p| bit(p, wrong)));
        }
        if optional {
            bits.push(Bit::Text(".".into()));
        }
        OpenLine { bits, optional }
    };
    sentence.lines.iter().map(line).collect()
}

fn bit(piece: &Piece, wrong: &[Wrong]) -> Bit {
    let slot = match piece {
        Piece::Text(text) => return Bit::Text(text.clone()),
        Piece::Slot(slot) => slot,
    };
    let chosen = |options: &[(String, String)]| {
        let of = |(value, text): &(String, String)| {
            (value.clone(), text.clone(), slot.values.contains(value))
        };
        options.iter().map(of).collect()
    };
    let (kind, options) = match &slot.ask {
        Ask::Typed => ("typed", Vec::new()),
        Ask::One(options) => ("one", chosen(options)),
        Ask::Many(options) => ("many", chosen(options)),
    };
    let value = slot.values.first().cloned().unwrap_or_default();
    let why = wrong.iter().find(|w| w.slot == slot.name).map(|w| w.text.clone());
    Bit::Field(Field {
        name: slot.name.clone(),
        label: slot.label.clone(),
        shown: slot.shown.trim().to_owned(),
        width: value.chars().count().max(2),
        value,
        options,
        kind,
        wrong: why.unwrap_or_default(),
    })
}
