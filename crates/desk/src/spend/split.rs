//! Spend split by whom it reached, when, and what it brought (S2).

use std::collections::BTreeMap;
use tiller_core::week::WeekHour;

use chrono::Datelike;
use tiller_core::ids::CampaignId;
use tiller_core::setting::Dimension;
use tiller_core::{Tally, Window};
use tiller_store::PgPool;
use tiller_store::splits;

use crate::DeskError;
use crate::book::{Book, Entry};
use tiller_core::spot::Subject;

/// What it is split by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SplitBy {
    /// By people or places.
    People(Dimension),
    /// By the day of the week.
    Weekday,
    /// By what was searched for.
    Term,
    /// By conversion event.
    Event,
}

impl SplitBy {
    /// All of them, with their words in addresses and their titles.
    pub const ALL: [(Self, &'static str, &'static str); 10] = [
        (Self::People(Dimension::Country), "country", "Country"),
        (Self::People(Dimension::Gender), "gender", "Gender"),
        (Self::People(Dimension::Age), "age", "Age"),
        (Self::People(Dimension::Income), "income", "Income"),
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
    /// The campaign that it is, where one part is looked at campaign by campaign.
    pub campaign: Option<CampaignId>,
    /// What was counted.
    pub tally: Tally,
    /// Money above the targets of the campaigns that spent it.
    pub excess: Option<f64>,
}

impl Row {
    /// As a row of Spend, for whatever is told of one there: against the campaign's target, or the account's.
    pub fn as_row(self, book: &Book, of: &Of) -> Result<crate::rows::Row, DeskError> {
        let campaign = self.campaign.or(of.campaign);
        let entry = match campaign {
            Some(id) => Some(book.entry(id)?),
            None => book.entries.first(),
        }
        .ok_or(DeskError::NotFound("campaign"))?;
        let target = campaign.map_or(book.account.target(), |_| entry.target);
        Ok(crate::rows::Row {
            subject: Subject::Campaign(entry.campaign.id),
            name: self.name,
            home: String::new(),
            channel: campaign.map_or("all channels".into(), |_| entry.campaign.channel.clone()),
            campaign: entry.campaign.id,
            status: None,
            tally: self.tally,
            against: None,
            target,
            own_target: campaign.is_some() && entry.campaign.own_target.is_some(),
            judged: None,
            peers: None,
            pool: None,
            next: None,
            summed: None,
        })
    }
}

/// What is split.
#[derive(Clone, Debug, Default)]
pub struct Of {
    /// One campaign only.
    pub campaign: Option<CampaignId>,
    /// One part only, by its name: then its rows are the campaigns.
    pub part: Option<String>,
}

/// Adds up parts, in the order of names; hours and weekdays in theirs.
struct Parts<'a> {
    book: &'a Book,
    part: Option<&'a str>,
    rows: BTreeMap<(u8, String), Row>,
}

impl Parts<'_> {
    /// `paid`: whether the money of the tally is known to be the part's.
    fn add(&mut self, order: u8, name: String, of: CampaignId, tally: Tally, paid: bool) {
        let Ok(entry) = self.book.entry(of) else { return };
        let (order, name, campaign) = match self.part {
            None => (order, name, None),
            Some(part) if part == name => (0, entry.campaign.name.clone(), Some(of)),
            Some(_) => return,
        };
        let row = self.rows.entry((order, name.clone())).or_insert(Row {
            name,
            campaign,
            tally: Tally::default(),
            excess: None,
        });
        row.tally += tally;
        if let Some(target) = entry.target.filter(|_| paid) {
            row.excess = Some(row.excess.unwrap_or(0.0) + target.excess(&tally));
        }
    }
}

/// Splits a period's spend.
pub async fn rows(db: &PgPool, book: &Book, by: SplitBy, of: &Of) -> Result<Vec<Row>, DeskError> {
    let (window, account) = (book.period.window, book.account.id);
    let chosen = |id: CampaignId| of.campaign.is_none_or(|c| c == id);
    let mut parts = Parts { book, part: of.part.as_deref(), rows: BTreeMap::new() };
    match by {
        SplitBy::People(dimension) => {
            return people(db, book, dimension, of).await;
        }
        SplitBy::Weekday => {
            for entry in book.entries.iter().filter(|e| chosen(e.campaign.id)) {
                for d in entry.days.iter().filter(|d| window.contains(d.day)) {
                    let order = d.day.weekday().num_days_from_monday() as u8;
                    let name = d.day.format("%A").to_string();
                    parts.add(order, name, entry.campaign.id, d.tally, true);
                }
            }
        }
        SplitBy::Term => {
            let all = match of.campaign {
                Some(id) => splits::terms_of(db, account, id, window)
                    .await?
                    .into_iter()
                    .map(|t| (t.text, t.campaign, t.tally))
                    .collect(),
                None => splits::terms(db, account, window).await?,
            };
            for (text, campaign, tally) in all {
                parts.add(0, text, campaign, tally, true);
            }
        }
        SplitBy::Event => {
            for e in splits::events(db, account, window).await? {
                if e.counts && chosen(e.campaign) {
                    let tally =
                        Tally { conversions: e.conversions, value: e.value, ..Tally::default() };
                    parts.add(0, e.event, e.campaign, tally, false);
                }
            }
        }
    }
    Ok(parts.rows.into_values().collect())
}

/// Where a segment stands, and its name.
fn named(dimension: Dimension, segment: String) -> (u8, String) {
    match (dimension, segment.parse::<u8>()) {
        (Dimension::Hour, Ok(hour)) => (hour, format!("{hour}:00")),
        _ => (0, segment),
    }
}

/// By people: of one campaign or one part from its campaigns, of the account from its rollup, where only
/// campaigns with targets of their own have to be looked at one by one.
async fn people(
    db: &PgPool,
    book: &Book,
    dimension: Dimension,
    of: &Of,
) -> Result<Vec<Row>, DeskError> {
    let (window, account, word) = (book.period.window, book.account.id, dimension.word());
    let mut parts = Parts { book, part: of.part.as_deref(), rows: BTreeMap::new() };
    let ids = |keep: &dyn Fn(&Entry) -> bool| -> Vec<CampaignId> {
        book.entries.iter().filter(|e| keep(e)).map(|e| e.campaign.id).collect()
    };
    if of.campaign.is_some() || of.part.is_some() {
        let chosen = ids(&|e| of.campaign.is_none_or(|c| c == e.campaign.id));
        // Hours have other names here than in the database.
        let segment = of.part.as_deref().map(|p| p.strip_suffix(":00").unwrap_or(p));
        for s in splits::segments_by(db, account, &chosen, word, segment, window).await? {
            let (order, name) = named(dimension, s.segment);
            parts.add(order, name, s.campaign, s.tally, true);
        }
        return Ok(parts.rows.into_values().collect());
    }
    let usual = book.account.target();
    for (segment, tally) in splits::segments(db, account, word, window).await? {
        let (order, name) = named(dimension, segment);
        let excess = usual.map(|t| t.excess(&tally));
        parts.rows.insert((order, name.clone()), Row { name, campaign: None, tally, excess });
    }
    let own = ids(&|e| e.campaign.own_target.is_some());
    if !own.is_empty() {
        for s in splits::segments_by(db, account, &own, word, None, window).await? {
            let (own, key) = (book.entry(s.campaign)?.target, named(dimension, s.segment));
            let (Some(own), Some(row)) = (own, parts.rows.get_mut(&key)) else { continue };
            let counted = usual.map_or(0.0, |t| t.excess(&s.tally));
            row.excess = Some(row.excess.unwrap_or(0.0) + own.excess(&s.tally) - counted);
        }
    }
    Ok(parts.rows.into_values().collect())
}

/// The week, hour by hour: what was counted and the money above target; Monday first.
pub async fn week(
    db: &PgPool,
    book: &Book,
    campaign: Option<CampaignId>,
) -> Result<Vec<(WeekHour, Tally, Option<f64>)>, DeskError> {
    let target = match campaign {
        Some(id) => book.entry(id)?.target,
        None => book.account.target(),
    };
    let window: Window = book.period.window;
    let all = splits::week(db, book.account.id, campaign, window).await?;
    Ok(all.into_iter().map(|(at, tally)| (at, tally, target.map(|t| t.excess(&tally)))).collect())
}
