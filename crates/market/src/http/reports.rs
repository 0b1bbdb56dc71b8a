//! Reports as streamed CSV: made on a thread of their own, a piece at a time.

use std::io::Write;
use std::sync::Arc;

use axum::body::{Body, Bytes};
use chrono::NaiveDate;
use tiller_channel::report::ReportWriter;
use tiller_channel::wire::ReportKind;
use tokio::sync::mpsc;

use crate::Market;

/// Pieces of about this size go out.
const PIECE: usize = 1 << 15;

/// What is asked for.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// Place of the account.
    pub account: usize,
    /// The channel.
    pub channel: String,
    /// Which report.
    pub kind: ReportKind,
    /// First day.
    pub from: NaiveDate,
    /// Last day.
    pub to: NaiveDate,
    /// The connection breaks after the first piece.
    pub cut: bool,
    /// It has no rows.
    pub bare: bool,
}

/// The body of a report.
pub fn body(market: Arc<Market>, wanted: Wanted) -> Body {
    let (sender, receiver) = mpsc::channel::<std::io::Result<Bytes>>(4);
    tokio::task::spawn_blocking(move || {
        let mut sink = Sink { buffer: Vec::with_capacity(PIECE), sender, cut: wanted.cut };
        let done = write(&market, &wanted, &mut sink).and_then(|()| sink.send());
        if let Err(error) = done {
            sink.sender.blocking_send(Err(error)).ok();
        }
    });
    Body::from_stream(futures::stream::unfold(receiver, |mut r| async move {
        r.recv().await.map(|piece| (piece, r))
    }))
}

struct Sink {
    buffer: Vec<u8>,
    sender: mpsc::Sender<std::io::Result<Bytes>>,
    cut: bool,
}

impl Sink {
    fn send(&mut self) -> std::io::Result<()> {
        let piece = Bytes::from(std::mem::take(&mut self.buffer));
        let gone = |_| std::io::Error::from(std::io::ErrorKind::BrokenPipe);
        self.sender.blocking_send(Ok(piece)).map_err(gone)?;
        if self.cut {
            return Err(std::io::Error::other("cut, as asked for"));
        }
        Ok(())
    }
}

impl Write for Sink {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.buffer.extend_from_slice(bytes);
        if self.buffer.len() >= PIECE {
            self.send()?;
        }
        Ok(bytes.len())
    }
    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

fn write(market: &Market, wanted: &Wanted, sink: &mut Sink) -> std::io::Result<()> {
    let Wanted { channel, from, to, .. } = wanted;
    let sim = &market.accounts[wanted.account];
    match wanted.kind {
        ReportKind::Items => {
            let currency = market.of_world(sim).currency.parse().map_err(std::io::Error::other)?;
            let mut writer = ReportWriter::new(sink, currency)?;
            for row in market.items(sim, Some(channel), *from, *to) {
                writer.write(&row)?;
            }
            writer.finish().map(|_| ())
        }
        _ if wanted.bare => Ok(()),
        ReportKind::Conversions => rows(sink, market.conversions(sim, channel, *from, *to)),
        ReportKind::Segments => rows(sink, market.segments(sim, channel, *from, *to)),
        ReportKind::Terms => rows(sink, market.terms(sim, channel, *from, *to)),
        ReportKind::Ads => rows(sink, market.ads(sim, channel, *from, *to)),
    }
}

fn rows(sink: &mut Sink, rows: impl Iterator<Item = impl serde::Serialize>) -> std::io::Result<()> {
    let mut writer = csv::Writer::from_writer(sink);
    for row in rows {
        writer.serialize(row).map_err(std::io::Error::from)?;
    }
    writer.flush()
}
