//! Changes as CSV, for channels without an interface: somebody makes them by hand.

use std::io::Write;

use tiller_core::text::cell;

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
    for mut change in changes {
        for text in [
            &mut change.channel,
            &mut change.campaign,
            &mut change.ad_group,
            &mut change.item,
            &mut change.from,
            &mut change.to,
            &mut change.reason,
        ] {
            *text = cell(text).into_owned();
        }
        writer.serialize(change).map_err(std::io::Error::from)?;
    }
    writer.flush()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_spreadsheet_would_run_is_marked() {
        let row = ChangeRow {
            channel: "Findle".into(),
            campaign: "=1+1".into(),
            ad_group: "-kits".into(),
            item: "@hive".into(),
            setting: "budget".into(),
            from: "-3.5".into(),
            to: "+10%".into(),
            value: "{}".into(),
            reason: "\tbecause".into(),
        };
        let mut file = Vec::new();
        write(&mut file, [row]).unwrap();
        let text = String::from_utf8(file).unwrap();
        assert_eq!(
            text.lines().nth(1).unwrap(),
            "Findle,'=1+1,'-kits,'@hive,budget,-3.5,'+10%,{},'\tbecause"
        );
    }
}
