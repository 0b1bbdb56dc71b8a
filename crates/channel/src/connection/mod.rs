//! Connections to channels: one trait, and what speaks it.
//!
//! - `http`: a channel that speaks the open interface
//! - `reach`: where it may be
//! - `rows`: its reports, row by row
//!
//! A channel without an interface is served by files: its reports are imported, its changes are written
//! out ([`crate::change_file`]).

mod http;
mod reach;
mod rows;

use std::time::Duration;

use async_trait::async_trait;
use bytes::Bytes;
use chrono::NaiveDate;
use futures::stream::BoxStream;

use crate::wire::{Answer, Batch, ChannelInfo, Draft, Estimate, ReportKind, Structure};

pub use http::{HttpConnection, Patience};
pub use reach::Reach;
pub use rows::rows;

/// Why a channel did not do what was asked.
#[derive(Debug, thiserror::Error)]
pub enum ChannelError {
    /// The address of the connection is none.
    #[error("‘{0}’ is not the address of an interface; it begins with http:// or https://")]
    Address(String),
    /// The address is inside this network.
    #[error(
        "{0} is not on the public internet, and this server may not reach it; whoever runs the server may list it in GOLD_TILLER_REACH"
    )]
    Inside(String),
    /// Nobody answers.
    #[error("the channel can’t be reached: {0}")]
    Unreachable(String),
    /// It took too long.
    #[error("the channel did not answer in time")]
    TimeOut,
    /// It asks to be left alone.
    #[error("the channel takes no more requests for now; it asks to wait {} seconds", .0.as_secs())]
    TooMany(Duration),
    /// It is in trouble itself.
    #[error("the channel is in trouble itself (status {0})")]
    Unavailable(u16),
    /// The token is not taken.
    #[error("the channel does not accept the token; enter it again")]
    Token,
    /// The token was sealed by another key.
    #[error("its token can’t be opened with this server’s key; enter the token again")]
    Sealed,
    /// It understood, and won’t.
    #[error("the channel refused: {title} ({detail})")]
    Refused {
        /// What it says.
        title: String,
        /// What it says should be done.
        detail: String,
    },
    /// The connection broke while the answer came in.
    #[error("the connection broke while the answer came in: {0}")]
    Cut(String),
    /// The answer has no end.
    #[error("the channel’s answer is larger than {} MB", .0 >> 20)]
    TooLarge(usize),
    /// The answer is not of the interface's form.
    #[error("the channel’s answer can’t be read: {0}")]
    Form(String),
}

impl ChannelError {
    /// Whether trying again later may help without anybody's doing.
    pub fn passing(&self) -> bool {
        matches!(
            self,
            Self::Unreachable(_)
                | Self::TimeOut
                | Self::TooMany(_)
                | Self::Unavailable(_)
                | Self::Cut(_)
        )
    }
}

/// What is known of a batch that was sent.
#[derive(Debug)]
pub enum Sent {
    /// What the channel says to each of its changes.
    Answered(Vec<Answer>),
    /// Nothing that can be relied on: it may have made them, or not. The same batch is to be sent again under the same key.
    Unknown(ChannelError),
    /// It made none of them.
    Refused(ChannelError),
}

impl Sent {
    /// What the channel says, where it does.
    pub fn answers(self) -> Result<Vec<Answer>, ChannelError> {
        match self {
            Self::Answered(answers) => Ok(answers),
            Self::Unknown(error) | Self::Refused(error) => Err(error),
        }
    }
}

/// A report as it comes in, in pieces.
pub type Pieces = BoxStream<'static, Result<Bytes, ChannelError>>;

/// A connection to an account at one channel.
#[async_trait]
pub trait Connection: Send + Sync {
    /// The channels that the token opens.
    async fn channels(&self) -> Result<Vec<ChannelInfo>, ChannelError>;
    /// What there is, and what is set.
    async fn structure(&self) -> Result<Structure, ChannelError>;
    /// A report as CSV.
    async fn report(
        &self,
        kind: ReportKind,
        from: NaiveDate,
        to: NaiveDate,
    ) -> Result<Pieces, ChannelError>;
    /// Makes changes. Under the same key the same batch is made once, however often it is sent.
    async fn send(&self, key: &str, batch: &Batch) -> Sent;
    /// What a campaign would do that doesn't exist yet.
    async fn estimate(&self, draft: &Draft) -> Result<Estimate, ChannelError>;
    /// On a stand-in market: lets days pass, and tells the last that is over.
    async fn pass(&self, days: u16) -> Result<NaiveDate, ChannelError>;
}
