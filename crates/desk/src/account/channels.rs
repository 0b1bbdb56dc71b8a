//! How this server gets at channels: where it may go, and the key that opens the tokens it keeps.

pub use tiller_channel::connection::Reach;
use tiller_channel::connection::{ChannelError, HttpConnection, Patience};
use tiller_store::connections::Connection;

pub use super::seal::Key;

/// What every request to a channel goes by.
#[derive(Clone, Debug)]
pub struct Channels {
    /// Where connections may lead.
    pub reach: Reach,
    /// Seals and opens tokens.
    pub key: Key,
}

impl Channels {
    /// For a program that has a stand-in market beside it and forgets its database: this machine, and a key of the moment.
    pub fn practice() -> Self {
        Self { reach: Reach::default().and_this_machine(), key: Key::drawn() }
    }

    /// The open interface of a connection.
    pub(crate) fn open(&self, c: &Connection) -> Result<HttpConnection, ChannelError> {
        let token = self.key.open(c.account, &c.sealed).ok_or(ChannelError::Sealed)?;
        HttpConnection::new(&c.base_url, &c.channel_name, &token, Patience::default(), &self.reach)
    }
}
