//! A report file as a book, without a database: for the command line.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io::Read;
use std::sync::Arc;

use chrono::NaiveDate;
use tiller_channel::report::{Column, Mapping, MappingError, Records, RowError, RowReader, guess};
use tiller_core::ids::{AccountId, CampaignId};
use tiller_core::purpose::{self, Clues};
use tiller_core::verdict::LEAST_DIFFERENCE;
use tiller_core::window::SETTLE_DAYS;
use tiller_core::{Currency, Micros, Share, Tally, Target, Window};
use tiller_store::facts::{Campaign, CampaignDay};
use tiller_store::people::Account;

use crate::book::{Book, Entry, Parts, Period};

/// What a report is looked at with.
#[derive(Clone, Debug)]
pub struct Asked {
    /// What a result may cost.
    pub target: Target,
    /// First day looked at.
    pub from: Option<NaiveDate>,
    /// Last day looked at.
    pub to: Option<NaiveDate>,
    /// When a campaign was launched, by its name.
    pub launched: Option<(String, NaiveDate)>,
}

/// Why a report could not be read, or says nothing of what is asked.
#[derive(Debug, thiserror::Error)]
pub enum ReportError {
    /// The file.
    #[error("the report could not be read: {0}")]
    Read(#[from] std::io::Error),
    /// Not a report.
    #[error(transparent)]
    Guess(#[from] tiller_channel::report::GuessError),
    /// Columns.
    #[error(transparent)]
    Mapping(#[from] MappingError),
    /// Rows with errors.
    #[error("{} rows can’t be read; the first: {}", .0.len(), .0.first().map(row_error).unwrap_or_default())]
    Rows(Vec<RowError>),
    /// Nothing of that name; the names that there are.
    #[error("the report has no {0} ‘{1}’; it has: {2}")]
    Unknown(&'static str, String, String),
    /// No days.
    #[error("the report has no settled days between these dates")]
    NoDays,
}

/// One error in a line.
pub fn row_error(e: &RowError) -> String {
    format!("line {}, {}: {} found; {} expected", e.line, e.column, e.found, e.expected)
}

/// A report in memory.
#[derive(Debug)]
pub struct Report {
    pub(crate) rows: Vec<Row>,
    currency: Currency,
}

#[derive(Debug)]
pub(crate) struct Row {
    pub day: NaiveDate,
    pub channel: String,
    pub campaign: String,
    pub ad_group: String,
    pub item: String,
    kind: &'static str,
    pub tally: Tally,
    budget: Option<Micros>,
    lost_to_bid: Option<Micros>,
    pub bid: Option<Micros>,
}

impl Report {
    /// Reads a report file of any dialect.
    pub fn read(mut file: impl Read) -> Result<Self, ReportError> {
        let mut bytes = Vec::new();
        file.read_to_end(&mut bytes)?;
        let guess = guess(&bytes[..bytes.len().min(100 << 10)])?;
        let mut mapping: Mapping = guess.mapping;
        if mapping.place(Column::Channel).is_none() {
            mapping.channel = Some("report".into());
        }
        mapping.check()?;
        let named =
            mapping.place(Column::Currency).and_then(|i| guess.rows.first()?.get(i)?.parse().ok());
        let currency: Currency = named.or_else(|| "EUR".parse().ok()).ok_or(ReportError::NoDays)?;
        let mut records = Records::new(&bytes[..], mapping.dialect.delimiter);
        records.next_record()?;
        let mut reader = RowReader::new(&mapping, currency);
        let (mut rows, mut errors) = (Vec::new(), Vec::new());
        while let Some(record) = records.next_record()? {
            match reader.read(&record) {
                Ok(r) => rows.push(Row {
                    day: r.date,
                    channel: r.channel.into_owned(),
                    campaign: r.campaign.into_owned(),
                    ad_group: r.ad_group.into_owned(),
                    item: r.item.into_owned(),
                    kind: r.kind.word(),
                    tally: Tally {
                        impressions: r.impressions,
                        clicks: r.clicks,
                        spend: r.spend,
                        conversions: r.conversions.to_units(),
                        value: r.value,
                    },
                    budget: r.budget,
                    lost_to_bid: r.lost_to_bid,
                    bid: r.bid,
                }),
                Err(e) => errors.extend(e),
            }
        }
        if errors.is_empty() { Ok(Self { rows, currency }) } else { Err(ReportError::Rows(errors)) }
    }

    /// The report as a book: each campaign against one target.
    pub fn book(&self, q: &Asked) -> Result<Book, ReportError> {
        let days = self.rows.iter().map(|r| r.day);
        let span = days
            .clone()
            .min()
            .zip(days.max())
            .and_then(|(a, b)| Window::new(a, b))
            .ok_or(ReportError::NoDays)?;
        let window = Window::new(q.from.unwrap_or(span.from()), q.to.unwrap_or(span.to()))
            .ok_or(ReportError::NoDays)?;
        let named: BTreeSet<(&str, &str)> =
            self.rows.iter().map(|r| (r.channel.as_str(), r.campaign.as_str())).collect();
        let ids: BTreeMap<(&str, &str), CampaignId> =
            named.into_iter().zip((1..).map(CampaignId)).collect();
        let mut campaigns: BTreeMap<(&str, &str), Gathered> = BTreeMap::new();
        for row in &self.rows {
            let (kinds, groups, days) = campaigns.entry((&row.channel, &row.campaign)).or_default();
            *kinds.entry(row.kind).or_default() += 1;
            groups.insert(&row.ad_group);
            let day = days.entry(row.day).or_insert(CampaignDay {
                campaign: ids[&(row.channel.as_str(), row.campaign.as_str())],
                day: row.day,
                tally: Tally::default(),
                budget: None,
                bid: None,
                lost_to_budget: None,
                lost_to_bid: None,
                expected: None,
            });
            day.tally += row.tally;
            day.budget = day.budget.max(row.budget);
            day.bid = day.bid.max(row.bid);
            let lost = row.lost_to_bid.and_then(|x| Share::new(x.to_units()));
            day.lost_to_bid = lost.or(day.lost_to_bid);
        }
        let entries = campaigns
            .into_iter()
            .map(|((channel, name), (kinds, groups, days))| {
                let launched = q.launched.as_ref().filter(|(of, _)| name.eq_ignore_ascii_case(of));
                let kind = kinds.into_iter().max_by_key(|(_, n)| *n).map_or("ad", |(k, _)| k);
                let first_day = launched.map(|(_, day)| *day).or(days.keys().next().copied());
                Entry {
                    campaign: Campaign {
                        id: ids[&(channel, name)],
                        name: name.to_owned(),
                        channel: channel.to_owned(),
                        kind: kind.to_owned(),
                        status: None,
                        own_target: None,
                        own_purpose: None,
                        own_events: false,
                        first_day,
                    },
                    target: Some(q.target),
                    purpose: purpose::guess(&Clues {
                        campaign: name,
                        kind,
                        ad_groups: &groups.into_iter().collect::<Vec<_>>(),
                        ..Clues::default()
                    }),
                    days: days.into_values().collect(),
                }
            })
            .collect();
        let (target_cpa, target_roas) = q.target.pair();
        let account = Account {
            id: AccountId(0),
            slug: "report".into(),
            name: "report".into(),
            currency: self.currency.to_string(),
            time_zone: "UTC".into(),
            target_cpa,
            target_roas,
            counted_events: None,
            click_window: None,
            settle_days: SETTLE_DAYS as i16,
            least_difference: LEAST_DIFFERENCE,
        };
        let parts = Parts {
            account,
            span,
            entries,
            events: Arc::default(),
            late: HashMap::new(),
            touched: HashMap::new(),
            chosen_peers: HashMap::new(),
        };
        Ok(Book::new(&parts, Period { window, against: None }, None))
    }
}

/// How many rows of each kind a campaign has, its ad groups, and its days.
type Gathered<'a> = (BTreeMap<&'a str, usize>, BTreeSet<&'a str>, BTreeMap<NaiveDate, CampaignDay>);

/// So many names are told, the rest counted.
const NAMED: usize = 20;

/// Some of the names that there are, for errors: names have commas of their own.
pub(crate) fn names<'a>(names: impl Iterator<Item = &'a String>) -> String {
    let all: Vec<String> = names.map(|name| format!("‘{name}’")).collect();
    match all.len().checked_sub(NAMED) {
        Some(more @ 1..) => format!("{} and {more} more", all[..NAMED].join(", ")),
        _ => all.join(", "),
    }
}
