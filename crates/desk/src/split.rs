//! Spend split by whom it reached, when, and what it brought (S2).

use std::collections::{BTreeMap, HashMap};

use chrono::Datelike;
use tiller_channel::wire::Dimension;
use tiller_core::{Tally, Window};
use tiller_store::splits::{self, Part};
use tiller_store::{CampaignId, PgPool};

use crate::DeskError;
use crate::book::Book;

/// What it is split by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum By {
    /// By people or places.
    People(Dimension),
    /// By the day of the week.
    Weekday,
    /// By what was searched for.
    Term,
    /// By conversion event.
    Event,
}

impl By {
    /// All of them, with their words in addresses and their titles.
    pub const ALL: [(Self, &'static str, &'static str); 9] = [
        (Self::People(Dimension::Country), "country", "Country"),
        (Self::People(Dimension::Gender), "gender", "Gender"),
        (Self::People(Dimension::Age), "age", "Age"),
        (Self::People(Dimension::Placement), "placement", "Placement"),
        (Self::People(Dimension::Device), "device", "Device"),
        (Self::People(Dimension::Hour), "hour", "Hour"),
        (Self::Weekday, "weekday", "Weekday"),
        (Self::Term, "term", "Search term"),
        (Self::Event, "event", "Event"),
    ];

    /// From the word in an address; the first if there is none.
    pub fn read(word: &str) -> (Self, &'static str, &'static str) {
        *Self::ALL.iter().find(|(_, w, _)| *w == word).unwrap_or(&Self::ALL[0])
    }
}

/// A part of the whole.
#[derive(Clone, Debug, PartialEq)]
pub struct Row {
    /// Its name.
    pub name: String,
    /// What was counted.
    pub tally: Tally,
    /// Money above the targets of the campaigns that spent it.
    pub excess: Option<f64>,
}

/// Splits a period's spend, of one campaign or of all; in the order of names, hours and weekdays in theirs.
pub async fn rows(
    pool: &PgPool,
    book: &Book,
    by: By,
    campaign: Option<CampaignId>,
) -> Result<Vec<Row>, DeskError> {
    let window = book.period.window;
    let targets: HashMap<CampaignId, _> =
        book.entries.iter().filter_map(|e| Some((e.campaign.id, e.target?))).collect();
    let mut all: BTreeMap<(u8, String), Row> = BTreeMap::new();
    let mut add = |order: u8, name: String, of: CampaignId, tally: Tally| {
        let row = all.entry((order, name.clone())).or_insert(Row {
            name,
            tally: Tally::default(),
            excess: None,
        });
        row.tally += tally;
        if let Some(target) = targets.get(&of) {
            row.excess = Some(row.excess.unwrap_or(0.0) + target.excess(&tally));
        }
    };
    match by {
        By::People(dimension) => {
            let part = Part { campaign, ad_group: None };
            let word = dimension.word();
            for s in splits::segments(pool, book.account.id, part, Some(word), window).await? {
                let (order, name) = match (dimension, s.segment.parse::<u8>()) {
                    (Dimension::Hour, Ok(hour)) => (hour, format!("{hour}:00")),
                    _ => (0, s.segment),
                };
                add(order, name, s.campaign, s.tally);
            }
        }
        By::Weekday => {
            for entry in book.entries.iter().filter(|e| campaign.is_none_or(|c| c == e.campaign.id))
            {
                for d in entry.days.iter().filter(|d| window.contains(d.day)) {
                    let order = d.day.weekday().num_days_from_monday() as u8;
                    add(order, d.day.format("%A").to_string(), entry.campaign.id, d.tally);
                }
            }
        }
        By::Term => {
            for t in splits::terms(pool, book.account.id, campaign, window).await? {
                add(0, t.text, t.campaign, t.tally);
            }
        }
        By::Event => {
            for e in splits::events(pool, book.account.id, window).await? {
                if e.counts && campaign.is_none_or(|c| c == e.campaign) {
                    let tally =
                        Tally { conversions: e.conversions, value: e.value, ..Tally::default() };
                    let row = all.entry((0, e.event.clone())).or_insert(Row {
                        name: e.event,
                        tally: Tally::default(),
                        excess: None,
                    });
                    row.tally += tally;
                }
            }
        }
    }
    Ok(all.into_values().collect())
}

/// The week, hour by hour: what was counted and the money above target; Monday first.
pub async fn week(
    pool: &PgPool,
    book: &Book,
    campaign: Option<CampaignId>,
) -> Result<Vec<((u8, u8), Tally, Option<f64>)>, DeskError> {
    let target = match campaign {
        Some(id) => book.entry(id)?.target,
        None => book.account.target(),
    };
    let window: Window = book.period.window;
    let part = Part { campaign, ad_group: None };
    let all = splits::week(pool, book.account.id, part, window).await?;
    Ok(all.into_iter().map(|(at, tally)| (at, tally, target.map(|t| t.excess(&tally)))).collect())
}
