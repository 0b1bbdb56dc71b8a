//! Changes as CSV, for channels without an interface: somebody makes them by hand.

use std::io::Write;

/// A change as a person reads it.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
pub struct ChangeRow {
    /// Channel.
    pub channel: String,
    /// Campaign.
    pub campaign: String,
    /// Ad group; empty if the change is to the campaign.
    pub ad_group: String,
    /// Item; empty if the change is to the campaign or the ad group.
    pub item: String,
    /// What is set, in the interface's word.
    pub setting: String,
    /// What is set now, in words.
    pub from: String,
    /// What shall be set, in words.
    pub to: String,
    /// The same as JSON of the open interface.
    pub value: String,
    /// Why.
    pub reason: String,
}

/// Writes changes.
pub fn write<W: Write>(
    sink: W,
    changes: impl IntoIterator<Item = ChangeRow>,
) -> std::io::Result<()> {
    let mut writer = csv::Writer::from_writer(sink);
    for change in changes {
        writer.serialize(change).map_err(std::io::Error::from)?;
    }
    writer.flush()
}
