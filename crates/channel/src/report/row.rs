//! A record read into a row of the report, or the errors in it.

use std::borrow::Cow;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use tiller_core::setting::{ItemKind, MatchType, Status};
use tiller_core::text::{self, TextError};
use tiller_core::{Currency, Micros};

use super::column::Column;
use super::dialect::Dialect;
use super::reader::Record;

/// One item's day. Money in the currency of the row.
#[derive(Clone, Debug, PartialEq)]
pub struct ReportRow<'a> {
    /// The day, in the account's time zone.
    pub date: NaiveDate,
    /// Channel; the file's own where it has no such column.
    pub channel: Cow<'a, str>,
    /// Campaign.
    pub campaign: Cow<'a, str>,
    /// Ad group; empty where the report has none.
    pub ad_group: Cow<'a, str>,
    /// What the item is.
    pub kind: ItemKind,
    /// The item; empty where the report has none.
    pub item: Cow<'a, str>,
    /// Of a keyword.
    pub match_type: Option<MatchType>,
    /// Times shown.
    pub impressions: i64,
    /// Times clicked.
    pub clicks: i64,
    /// Money paid.
    pub spend: Micros,
    /// Results, in millionths: credit may be shared.
    pub conversions: Micros,
    /// Revenue.
    pub value: Micros,
    /// Bid in force.
    pub bid: Option<Micros>,
    /// Daily budget of the campaign.
    pub budget: Option<Micros>,
    /// Target set at the channel.
    pub target_cpa: Option<Micros>,
    /// Target set at the channel.
    pub target_roas: Option<Micros>,
    /// Whether the campaign runs.
    pub status: Option<Status>,
    /// Share of the campaign's auctions from which it stood aside for want of budget, 0 to 1.
    pub lost_to_budget: Option<Micros>,
    /// Share of the campaign's auctions that it lost for want of bid, 0 to 1.
    pub lost_to_bid: Option<Micros>,
}

/// Which field of a file means which column.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mapping {
    /// For each field of the file its column; none is passed over.
    pub columns: Vec<Option<Column>>,
    /// How numbers and dates are written.
    pub dialect: Dialect,
    /// The channel of all rows, where the file has no such column.
    pub channel: Option<String>,
    /// The currency of all rows, where the file has no such column.
    pub currency: Option<String>,
}

/// Why a mapping can't be used.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum MappingError {
    /// Needed columns are missing.
    #[error("no column of the file is chosen for {}; choose one for each", .0.join(", "))]
    Missing(Vec<&'static str>),
    /// Two fields are one column.
    #[error("two columns of the file are chosen for {0}; choose one of them")]
    Twice(&'static str),
    /// What was typed for all rows can't be kept.
    #[error("what is set as {0} can’t be used: {1}")]
    Text(&'static str, TextError),
    /// Rows tell no channel.
    #[error("the file has no channel column; name the channel that the report is from")]
    NoChannel,
}

impl Mapping {
    /// Whether every needed column is there, once.
    pub fn check(&self) -> Result<(), MappingError> {
        let times = |column| self.columns.iter().filter(|c| **c == Some(column)).count();
        if let Some(twice) = Column::ALL.iter().find(|c| times(**c) > 1) {
            return Err(MappingError::Twice(twice.title()));
        }
        let missing = Column::ALL.iter().filter(|c| c.required() && times(**c) == 0);
        let missing: Vec<&str> = missing.map(|c| c.title()).collect();
        if !missing.is_empty() {
            return Err(MappingError::Missing(missing));
        }
        for (what, typed) in [("channel", &self.channel), ("currency", &self.currency)] {
            let typed = typed.as_deref().unwrap_or_default();
            text::line(typed, text::NAME).map_err(|e| MappingError::Text(what, e))?;
        }
        let named = self.channel.as_ref().is_some_and(|c| !c.trim().is_empty());
        if self.place(Column::Channel).is_none() && !named {
            return Err(MappingError::NoChannel);
        }
        Ok(())
    }

    /// The field that holds a column.
    pub fn place(&self, column: Column) -> Option<usize> {
        self.columns.iter().position(|c| *c == Some(column))
    }
}

/// A value that can't be read, with its place.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RowError {
    /// Line of the file, from 1.
    pub line: u64,
    /// Column of the report.
    pub column: String,
    /// What stands there.
    pub found: String,
    /// What is allowed.
    pub expected: String,
}

/// Reads records of one file; holds the places of its columns.
pub struct RowReader<'m> {
    mapping: &'m Mapping,
    currency: Currency,
    places: [Option<usize>; Column::ALL.len()],
    buffer: String,
}

const COUNT: &str = "a whole number of 0 or more, below 10 000 000 000";
const AMOUNT: &str = "an amount of 0 or more with at most six decimals, below 10 000 000 000";
/// In millionths: hundreds of rows of the largest amount still add up to a number that fits.
const TOO_LARGE: i64 = 10_000_000_000 * 1_000_000;

impl<'m> RowReader<'m> {
    /// For a checked mapping and an account of the given currency.
    pub fn new(mapping: &'m Mapping, currency: Currency) -> Self {
        let mut places = [None; Column::ALL.len()];
        for (place, &column) in places.iter_mut().zip(Column::ALL) {
            *place = mapping.place(column);
        }
        Self { mapping, currency, places, buffer: String::new() }
    }

    /// The row, or every error in it.
    pub fn read<'r>(&mut self, record: &Record<'r>) -> Result<ReportRow<'r>, Vec<RowError>> {
        let mut errors = Vec::new();
        let row = self.read_into(record, &mut errors);
        if errors.is_empty() { Ok(row) } else { Err(errors) }
    }

    fn field<'r>(&self, record: &Record<'r>, column: Column) -> Option<Cow<'r, str>> {
        self.places[column as usize].map(|i| record.field(i)).filter(|text| !text.is_empty())
    }

    fn read_into<'r>(&mut self, record: &Record<'r>, errors: &mut Vec<RowError>) -> ReportRow<'r> {
        let mut wrong = |column: Column, found: &str, expected: &str| {
            errors.push(RowError {
                line: record.line,
                column: column.name().to_owned(),
                found: if found.is_empty() {
                    "nothing".into()
                } else {
                    // What is no text can't be kept, nor shown.
                    let plain = |c: char| if c.is_control() { '\u{fffd}' } else { c };
                    found.chars().take(80).map(plain).collect()
                },
                expected: expected.to_owned(),
            });
        };
        let text = self.field(record, Column::Date).unwrap_or_default();
        let date = self.mapping.dialect.date(&text);
        if date.is_none() {
            wrong(
                Column::Date,
                &text,
                &format!("a date such as {}", self.mapping.dialect.date_order.example()),
            );
        }
        let mut name = |column| {
            let text = self.field(record, column).unwrap_or_default();
            match text::lines(&text, text::NAME) {
                Ok(()) => {}
                Err(TextError::Long(_)) => wrong(column, &text, "at most 500 bytes"),
                Err(TextError::Control(_)) => wrong(column, &text, "plain text"),
            }
            text
        };
        let (campaign, ad_group, item) =
            (name(Column::Campaign), name(Column::AdGroup), name(Column::Item));
        let channel = match name(Column::Channel) {
            own if own.is_empty() => Cow::Owned(self.mapping.channel.clone().unwrap_or_default()),
            own => own,
        };
        if campaign.is_empty() {
            wrong(Column::Campaign, "", "the name of a campaign");
        }
        if channel.is_empty() {
            wrong(Column::Channel, "", "the name of a channel");
        }
        let currency = self.field(record, Column::Currency);
        let currency = currency.as_deref().or(self.mapping.currency.as_deref());
        if let Some(found) = currency.filter(|c| !c.eq_ignore_ascii_case(self.currency.code())) {
            wrong(Column::Currency, found, &format!("{}, the account's currency", self.currency));
        }
        macro_rules! word {
            ($type:ident, $column:ident) => {
                self.field(record, Column::$column).and_then(|text| {
                    let read = $type::read(&text);
                    if read.is_none() {
                        wrong(Column::$column, &text, $type::ALLOWED);
                    }
                    read
                })
            };
        }
        let kind = word!(ItemKind, Kind);
        let match_type = word!(MatchType, MatchType);
        let status = word!(Status, Status);
        let mut number = |column: Column, whole: bool, expected: &str| -> Option<Micros> {
            let place = self.places[column as usize]?;
            let text = record.field(place);
            if text.is_empty() {
                return None;
            }
            let plain = self.mapping.dialect.plain_number(&text, &mut self.buffer);
            let read = plain.and_then(|p| Micros::parse(p).ok());
            let read = read.filter(|m| (0..TOO_LARGE).contains(&m.get()));
            let read = read.filter(|m| !whole || m.get() % 1_000_000 == 0);
            if read.is_none() {
                wrong(column, &text, expected);
            }
            read
        };
        let impressions = number(Column::Impressions, true, COUNT).unwrap_or_default();
        let clicks = number(Column::Clicks, true, COUNT).unwrap_or_default();
        ReportRow {
            date: date.unwrap_or_default(),
            channel,
            campaign,
            ad_group,
            kind: kind.unwrap_or(if match_type.is_some() {
                ItemKind::Keyword
            } else {
                ItemKind::Ad
            }),
            item,
            match_type,
            impressions: impressions.get() / 1_000_000,
            clicks: clicks.get() / 1_000_000,
            spend: number(Column::Spend, false, AMOUNT).unwrap_or_default(),
            conversions: number(Column::Conversions, false, AMOUNT).unwrap_or_default(),
            value: number(Column::Value, false, AMOUNT).unwrap_or_default(),
            bid: number(Column::Bid, false, AMOUNT),
            budget: number(Column::Budget, false, AMOUNT),
            target_cpa: number(Column::TargetCpa, false, AMOUNT),
            target_roas: number(Column::TargetRoas, false, AMOUNT),
            status,
            lost_to_budget: number(Column::LostToBudget, false, AMOUNT),
            lost_to_bid: number(Column::LostToBid, false, AMOUNT),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::reader::Records;
    use super::*;

    const HEADER: &[Column] = Column::ALL;

    fn own() -> Mapping {
        Mapping {
            columns: HEADER.iter().copied().map(Some).collect(),
            dialect: Dialect::default(),
            channel: None,
            currency: None,
        }
    }

    /// What becomes of one line in the product's own form, with one field changed.
    fn with(column: Column, text: &str) -> Result<Micros, Vec<(String, String)>> {
        let good = "2026-11-09,Findle,Hives,Kits,keyword,hive kit,exact,100,3,4.5,1,85,EUR,1.2,90,,4,active,0.1,";
        let mut fields: Vec<&str> = good.split(',').collect();
        fields[column as usize] = text;
        let line = fields.join(",") + "\n";
        let mapping = own();
        let mut records = Records::new(line.as_bytes(), ',');
        let record = records.next_record().unwrap().unwrap();
        let mut reader = RowReader::new(&mapping, "EUR".parse().unwrap());
        let spend = |row: ReportRow| row.spend;
        reader
            .read(&record)
            .map(spend)
            .map_err(|errors| errors.into_iter().map(|e| (e.column, e.expected)).collect())
    }

    #[test]
    fn a_good_row_is_read_whole() {
        let line = "2026-11-09,Findle,Hives,Kits,keyword,hive kit,exact,100,3,4.5,1.25,85,eur,1.2,90,,4,Active,0.12,0.3\n";
        let mapping = own();
        let mut records = Records::new(line.as_bytes(), ',');
        let record = records.next_record().unwrap().unwrap();
        let row = RowReader::new(&mapping, "EUR".parse().unwrap()).read(&record).unwrap();
        assert_eq!(row.date, NaiveDate::from_ymd_opt(2026, 11, 9).unwrap());
        assert_eq!((row.kind, row.match_type), (ItemKind::Keyword, Some(MatchType::Exact)));
        assert_eq!((row.impressions, row.clicks), (100, 3));
        assert_eq!(row.conversions, Micros::new(1_250_000));
        assert_eq!(
            (row.bid, row.budget),
            (Some(Micros::new(1_200_000)), Some(Micros::new(90_000_000)))
        );
        assert_eq!((row.target_cpa, row.target_roas), (None, Some(Micros::new(4_000_000))));
        assert_eq!(row.status, Some(Status::Active));
    }

    #[test]
    fn every_column_says_what_it_expects() {
        for (column, text, expected) in [
            (Column::Date, "2026-02-30", "a date such as 2026-11-09"),
            (Column::Date, "9999-12-31", "a date such as 2026-11-09"),
            (Column::Date, "", "a date such as 2026-11-09"),
            (Column::Channel, "", "the name of a channel"),
            (Column::Campaign, " ", "the name of a campaign"),
            (Column::Kind, "banner", "one of keyword listing ad audience"),
            (Column::MatchType, "near", "one of exact phrase broad"),
            (Column::Impressions, "1.5", COUNT),
            (Column::Clicks, "-1", COUNT),
            (Column::Clicks, "three", COUNT),
            (Column::Spend, "1.2345678", AMOUNT),
            (Column::Conversions, "-0.5", AMOUNT),
            (Column::Value, "85 EUR", AMOUNT),
            (Column::Spend, "9000000000000", AMOUNT),
            (Column::Clicks, "10000000000", COUNT),
            (Column::Currency, "NOK", "EUR, the account's currency"),
            (Column::Budget, "much", AMOUNT),
            (Column::Status, "asleep", "one of active paused ended"),
        ] {
            let errors = with(column, text).unwrap_err();
            assert_eq!(
                errors,
                [(column.name().to_owned(), expected.to_owned())],
                "{column} {text}"
            );
        }
    }

    #[test]
    fn a_nul_is_told_and_kept_out() {
        let mapping = own();
        let line = "2026-\0,Findle,Hi\0ves,,,,,1,1,1,,,,,,,,,,\n";
        let mut records = Records::new(line.as_bytes(), ',');
        let record = records.next_record().unwrap().unwrap();
        let errors = RowReader::new(&mapping, "EUR".parse().unwrap()).read(&record).unwrap_err();
        assert_eq!(errors.len(), 2);
        assert!(errors.iter().all(|e| !e.found.contains('\0')), "{errors:?}");
    }

    #[test]
    fn empty_numbers_are_nothing_and_optional_words_may_be_left_out() {
        for column in [
            Column::Impressions,
            Column::Value,
            Column::Bid,
            Column::Status,
            Column::MatchType,
            Column::Currency,
        ] {
            assert!(with(column, "").is_ok(), "{column}");
        }
        assert_eq!(with(Column::Spend, "").unwrap(), Micros::ZERO);
        assert_eq!(with(Column::Spend, "0.000001").unwrap(), Micros::new(1));
    }

    #[test]
    fn all_errors_of_a_row_are_told_at_once() {
        let mapping = own();
        let mut records = Records::new(&b"soon,,,,,,,x,y,z\n"[..], ',');
        let record = records.next_record().unwrap().unwrap();
        let errors = RowReader::new(&mapping, "EUR".parse().unwrap()).read(&record).unwrap_err();
        let columns: Vec<&str> = errors.iter().map(|e| e.column.as_str()).collect();
        assert_eq!(columns, ["date", "campaign", "channel", "impressions", "clicks", "spend"]);
        assert!(errors.iter().all(|e| e.line == 1));
        assert_eq!(errors[1].found, "nothing");
    }

    #[test]
    fn a_mapping_needs_each_needed_column_once() {
        let mut mapping = own();
        mapping.check().unwrap();
        mapping.columns[0] = None;
        assert_eq!(mapping.check(), Err(MappingError::Missing(vec!["Date"])));
        mapping.columns[0] = Some(Column::Spend);
        assert_eq!(mapping.check(), Err(MappingError::Twice("Spend")));
        mapping = own();
        (mapping.columns[0], mapping.columns[8]) = (None, None);
        let both = MappingError::Missing(vec!["Date", "Clicks"]);
        assert_eq!(mapping.check(), Err(both));
        mapping = own();
        mapping.columns.push(Some(Column::Clicks));
        assert_eq!(mapping.check(), Err(MappingError::Twice("Clicks")));
        mapping = own();
        mapping.columns[1] = None;
        assert_eq!(mapping.check(), Err(MappingError::NoChannel));
        for (typed, error) in [
            ("x".repeat(5000), TextError::Long(500)),
            ("Fin\0dle".to_owned(), TextError::Control('\0')),
        ] {
            mapping.channel = Some(typed);
            assert_eq!(mapping.check(), Err(MappingError::Text("channel", error)));
        }
        mapping.channel = Some("Findle".into());
        mapping.check().unwrap();
    }
}
