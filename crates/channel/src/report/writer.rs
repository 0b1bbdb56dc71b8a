//! The product's own form of a report.

use std::io::Write;

use tiller_core::setting::{MatchType, Status};
use tiller_core::{Currency, Micros};

use super::column::Column;
use super::row::ReportRow;

/// The columns, in order.
pub const HEADER: &[Column] = Column::ALL;

/// Writes rows in the product's own form.
pub struct ReportWriter<W: Write> {
    inner: csv::Writer<W>,
    currency: Currency,
}

impl<W: Write> ReportWriter<W> {
    /// Writes the header.
    pub fn new(sink: W, currency: Currency) -> std::io::Result<Self> {
        let mut inner = csv::Writer::from_writer(sink);
        inner.write_record(HEADER.iter().map(|c| c.name())).map_err(std::io::Error::from)?;
        Ok(Self { inner, currency })
    }

    /// Writes one row.
    pub fn write(&mut self, row: &ReportRow) -> std::io::Result<()> {
        let money = |m: Option<Micros>| m.map(Micros::to_plain).unwrap_or_default();
        let record = [
            row.date.to_string(),
            row.channel.to_string(),
            row.campaign.to_string(),
            row.ad_group.to_string(),
            row.kind.word().to_owned(),
            row.item.to_string(),
            row.match_type.map(MatchType::word).unwrap_or_default().to_owned(),
            row.impressions.to_string(),
            row.clicks.to_string(),
            row.spend.to_plain(),
            row.conversions.to_plain(),
            row.value.to_plain(),
            self.currency.to_string(),
            money(row.bid),
            money(row.budget),
            money(row.target_cpa),
            money(row.target_roas),
            row.status.map(Status::word).unwrap_or_default().to_owned(),
            money(row.lost_to_budget),
            money(row.lost_to_bid),
        ];
        self.inner.write_record(&record).map_err(std::io::Error::from)
    }

    /// Writes out what is buffered.
    pub fn finish(self) -> std::io::Result<W> {
        self.inner.into_inner().map_err(csv::IntoInnerError::into_error)
    }
}
