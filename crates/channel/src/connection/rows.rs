//! A report by rows, as its pieces come in; memory does not grow with its length.

use std::io;

use futures::{StreamExt, TryStreamExt};
use serde::de::DeserializeOwned;
use tokio::sync::mpsc;
use tokio_util::io::{StreamReader, SyncIoBridge};

use super::{ChannelError, Pieces};

/// Rows that are handed on at once.
const BATCH: usize = 5_000;

/// Reads a report's rows and hands them on in batches, in order. The last thing handed on is the error, if
/// there was one: then the report is not whole.
pub fn rows<T>(pieces: Pieces) -> mpsc::Receiver<Result<Vec<T>, ChannelError>>
where
    T: DeserializeOwned + Send + 'static,
{
    let (sender, receiver) = mpsc::channel(2);
    let bytes = StreamReader::new(pieces.map_err(io::Error::other).boxed());
    let reader = SyncIoBridge::new(bytes);
    tokio::task::spawn_blocking(move || {
        let mut batch = Vec::with_capacity(BATCH);
        let mut csv = csv::Reader::from_reader(reader);
        for row in csv.deserialize() {
            match row {
                Ok(row) => batch.push(row),
                Err(error) => {
                    sender.blocking_send(Err(trouble(&error))).ok();
                    return;
                }
            }
            if batch.len() == BATCH {
                let full = std::mem::replace(&mut batch, Vec::with_capacity(BATCH));
                if sender.blocking_send(Ok(full)).is_err() {
                    return;
                }
            }
        }
        sender.blocking_send(Ok(batch)).ok();
    });
    receiver
}

fn trouble(error: &csv::Error) -> ChannelError {
    match error.kind() {
        csv::ErrorKind::Io(e) => ChannelError::Cut(e.to_string()),
        _ => ChannelError::Form(error.to_string()),
    }
}
