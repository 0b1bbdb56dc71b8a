//! The reports besides the one by items: splits of it, never added to it. Counts and money as in the
//! report by items; money in units of the account's currency.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use tiller_core::setting::{Dimension, ItemKind, MatchType};

/// Which report.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ReportKind {
    /// One row an item and day.
    Items,
    /// Conversions by event and by the days between click and report.
    Conversions,
    /// Ad groups by device, country, age, gender, income, placement, hour.
    Segments,
    /// Keywords by what was searched for.
    Terms,
    /// Ads by what they are made of, with the counts of films.
    Ads,
}

tiller_core::words!(ReportKind: Items "items", Conversions "conversions", Segments "segments", Terms "terms", Ads "ads");

/// Conversions of one item, click day, event and age.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ConversionRow {
    /// Day of the click.
    pub date: NaiveDate,
    /// Campaign, by name.
    pub campaign: String,
    /// Ad group, by name.
    pub ad_group: String,
    /// What the item is.
    pub kind: ItemKind,
    /// The item.
    pub item: String,
    /// Of a keyword.
    pub match_type: Option<MatchType>,
    /// The conversion event.
    pub event: String,
    /// Days between click and report.
    pub age_days: u16,
    /// How many.
    pub conversions: f64,
    /// Their value.
    pub value: f64,
    /// Whether the campaign counts this event.
    pub counted: bool,
}

/// One ad group's day, of some people.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SegmentRow {
    /// The day.
    pub date: NaiveDate,
    /// Campaign, by name.
    pub campaign: String,
    /// Ad group, by name.
    pub ad_group: String,
    /// What tells the people apart.
    pub dimension: Dimension,
    /// Which of them.
    pub segment: String,
    /// Times shown.
    pub impressions: u64,
    /// Times clicked.
    pub clicks: u64,
    /// Money paid.
    pub spend: f64,
    /// Results.
    pub conversions: f64,
    /// Their value.
    pub value: f64,
}

impl SegmentRow {
    /// Reads a file of such rows (the report by segments as a channel gives it); the error names its line.
    pub fn read_all(file: impl std::io::Read) -> Result<Vec<Self>, csv::Error> {
        csv::Reader::from_reader(file).into_deserialize().collect()
    }
}

/// One keyword's day, of one search term.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TermRow {
    /// The day.
    pub date: NaiveDate,
    /// Campaign, by name.
    pub campaign: String,
    /// Ad group, by name.
    pub ad_group: String,
    /// The keyword.
    pub item: String,
    /// How closely it is matched.
    pub match_type: MatchType,
    /// What was searched for.
    pub term: String,
    /// Times shown.
    pub impressions: u64,
    /// Times clicked.
    pub clicks: u64,
    /// Money paid.
    pub spend: f64,
    /// Results.
    pub conversions: f64,
    /// Their value.
    pub value: f64,
}

/// One ad's day.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AdRow {
    /// The day.
    pub date: NaiveDate,
    /// Campaign, by name.
    pub campaign: String,
    /// Ad group, by name.
    pub ad_group: String,
    /// The ad.
    pub item: String,
    /// Its picture or film.
    pub visual: String,
    /// Its text.
    pub text: String,
    /// Its headline.
    pub headline: String,
    /// Times shown.
    pub impressions: u64,
    /// Times clicked.
    pub clicks: u64,
    /// Money paid.
    pub spend: f64,
    /// Results.
    pub conversions: f64,
    /// Their value.
    pub value: f64,
    /// Of a film: views of three seconds or more.
    pub views_3s: Option<u64>,
    /// Of a film: views of a quarter or more.
    pub views_25: Option<u64>,
    /// Of a film: views of a half or more.
    pub views_50: Option<u64>,
    /// Of a film: views of three quarters or more.
    pub views_75: Option<u64>,
    /// Of a film: views to the end.
    pub views_100: Option<u64>,
    /// Of a film: seconds watched, all views together.
    pub watch_seconds: Option<f64>,
}
