//! The journal: every batch and every passing day that was answered, one JSON object a line, written
//! before the answer goes out. A market that starts again lives through it once more.

use std::collections::HashMap;
use std::fs::{File, OpenOptions};
use std::io::{BufRead, BufReader, Seek, Write};
use std::path::{Path, PathBuf};

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use tiller_channel::wire::{Answer, Change};

/// One line.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Line {
    /// The first: which world, and where its history ends.
    Begin {
        /// Seed of the world.
        seed: u64,
        /// Last day of the history.
        ends: NaiveDate,
    },
    /// Days passed.
    Pass {
        /// How many.
        days: u16,
    },
    /// A batch was answered.
    Batch(Answered),
}

/// A batch with its answers.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Answered {
    /// Place of the account.
    pub account: usize,
    /// The channel.
    pub channel: String,
    /// The sender's idempotency key.
    pub key: String,
    /// What was asked.
    pub changes: Vec<Change>,
    /// What was answered.
    pub answers: Vec<Answer>,
}

/// Why a journal can't be used.
#[derive(Debug, thiserror::Error)]
pub enum JournalError {
    /// The file.
    #[error("the market’s journal {path} can’t be used: {error}")]
    File {
        /// Which.
        path: PathBuf,
        /// Why.
        error: std::io::Error,
    },
    /// Its contents.
    #[error(
        "line {line} of the market’s journal {path} can’t be read; remove the file to begin anew"
    )]
    Line {
        /// Which.
        path: PathBuf,
        /// Where.
        line: usize,
    },
    /// Another world.
    #[error("the market’s journal {path} belongs to another world; remove it, or choose another")]
    OtherWorld {
        /// Which.
        path: PathBuf,
    },
}

/// An open journal; none is kept without a file.
#[derive(Debug, Default)]
pub struct Journal {
    file: Option<File>,
    answered: HashMap<(usize, String), Answered>,
}

impl Journal {
    /// Opens a journal, and tells what it holds; a last line that was cut by a kill was never answered.
    pub fn open(path: &Path) -> Result<(Self, Vec<Line>), JournalError> {
        let failed = |error| JournalError::File { path: path.to_owned(), error };
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder).map_err(failed)?;
        }
        let mut file =
            OpenOptions::new().read(true).append(true).create(true).open(path).map_err(failed)?;
        let (mut lines, mut whole) = (Vec::new(), 0u64);
        let mut reader = BufReader::new(&file);
        let mut text = String::new();
        loop {
            text.clear();
            let read = reader.read_line(&mut text).map_err(failed)?;
            if read == 0 || !text.ends_with('\n') {
                break;
            }
            whole += read as u64;
            lines.push(serde_json::from_str(&text).map_err(|_| JournalError::Line {
                path: path.to_owned(),
                line: lines.len() + 1,
            })?);
        }
        drop(reader);
        file.set_len(whole).map_err(failed)?;
        file.seek(std::io::SeekFrom::End(0)).map_err(failed)?;
        Ok((Self { file: Some(file), answered: HashMap::new() }, lines))
    }

    /// Writes a line down for good.
    pub fn write(&mut self, line: &Line) -> std::io::Result<()> {
        let Some(file) = &mut self.file else { return Ok(()) };
        let mut text = serde_json::to_vec(line)?;
        text.push(b'\n');
        file.write_all(&text)?;
        file.sync_data()
    }

    /// Remembers an answered batch, so that it is answered alike when it comes again.
    pub fn remember(&mut self, batch: Answered) {
        self.answered.insert((batch.account, batch.key.clone()), batch);
    }

    /// The batch that was answered under a key.
    pub fn answered(&self, account: usize, key: &str) -> Option<&Answered> {
        self.answered.get(&(account, key.to_owned()))
    }
}
