//! Rows of tables: every campaign, ad group or item of a period, against target and comparison period.

use std::collections::HashMap;

use tiller_core::affordable::{Affordable, affordable};
use tiller_core::allocation::Next;
use tiller_core::ids::{AdGroupId, CampaignId};
use tiller_core::{Tally, Target};
use tiller_store::PgPool;
use tiller_store::facts::ItemTally;

use crate::DeskError;
use crate::book::{self, Book, Entry, Judged, Period};
use crate::budgets::responses::next_of_account;
use tiller_core::spot::Subject;

/// What a row of the table is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Level {
    /// Campaigns.
    Campaigns,
    /// Ad groups.
    AdGroups,
    /// Keywords, listings, ads and audiences.
    Items,
}

impl Level {
    /// All levels with their words in addresses and their titles.
    pub const ALL: [(Self, &'static str, &'static str); 3] = [
        (Self::Campaigns, "campaigns", "Campaigns"),
        (Self::AdGroups, "ad-groups", "Ad groups"),
        (Self::Items, "items", "Items"),
    ];

    /// From the word in an address.
    pub fn read(word: &str) -> Self {
        Self::ALL.iter().find(|(_, w, _)| *w == word).map_or(Self::Campaigns, |(l, _, _)| *l)
    }
}

/// What is looked into.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Within {
    /// One campaign only.
    pub campaign: Option<CampaignId>,
    /// One ad group only.
    pub ad_group: Option<AdGroupId>,
}

/// One row.
#[derive(Clone, Debug)]
pub struct Row {
    /// What it is.
    pub subject: Subject,
    /// Its name.
    pub name: String,
    /// Where it belongs: the channel, or the campaign and ad group.
    pub home: String,
    /// The channel.
    pub channel: String,
    /// Its campaign.
    pub campaign: CampaignId,
    /// Whether it runs.
    pub status: Option<String>,
    /// What was counted.
    pub tally: Tally,
    /// What was counted in the comparison period.
    pub against: Option<Tally>,
    /// What a result may cost.
    pub target: Option<Target>,
    /// Whether the target is its own and not the account's.
    pub own_target: bool,
    /// The verdict, for campaigns.
    pub judged: Option<Judged>,
    /// Itself and its peers over the days that they are compared over: settled ones for campaigns; of parts, the
    /// others of their kind in the table are its peers.
    pub peers: Option<(Tally, Tally)>,
    /// What its campaign counted, for parts: the budget is shared among them.
    pub pool: Option<Tally>,
    /// What one more conversion would cost, for campaigns where more money buys any.
    pub next: Option<Next>,
    /// Of rows together: what lies above their own targets, and what under them.
    pub summed: Option<(f64, f64)>,
}

impl Row {
    /// What a click may cost, by its own conversion rate; none without a target, clicks and conversions.
    pub fn affordable(&self) -> Option<Affordable> {
        affordable(self.target?.as_cpa(self.tally.aov())?, self.tally.cvr()?)
    }

    /// Money above target; of rows together each by its own.
    pub fn excess(&self) -> Option<f64> {
        match self.summed {
            Some((above, under)) => Some(above + under),
            None => Some(self.target?.excess(&self.tally)),
        }
    }
}

/// All rows as one, against the account's target; none of none.
pub fn together(rows: &[Row], book: &Book) -> Option<Row> {
    let first = rows.first()?;
    let each: Vec<f64> = rows.iter().filter_map(Row::excess).collect();
    let sum = |of: fn(&f64) -> bool| each.iter().copied().filter(of).sum::<f64>();
    Some(Row {
        subject: first.subject,
        name: format!("all {}", rows.len()),
        home: String::new(),
        channel: "all channels".into(),
        campaign: first.campaign,
        status: None,
        tally: rows.iter().map(|r| r.tally).sum(),
        against: book.period.against.map(|_| rows.iter().filter_map(|r| r.against).sum()),
        target: book.account.target(),
        own_target: false,
        judged: None,
        peers: None,
        pool: None,
        next: None,
        summed: (!each.is_empty()).then(|| (sum(|x| *x > 0.0), sum(|x| *x <= 0.0))),
    })
}

/// The rows of a level; those with nothing counted in either period are left out.
pub async fn rows(
    db: &PgPool,
    book: &Book,
    level: Level,
    within: Within,
) -> Result<Vec<Row>, DeskError> {
    rows_over(db, book, level, within, book.period).await
}

/// The same over another period than the book's.
pub async fn rows_over(
    db: &PgPool,
    book: &Book,
    level: Level,
    within: Within,
    period: Period,
) -> Result<Vec<Row>, DeskError> {
    let mut rows = match level {
        Level::Campaigns => campaigns(book, period, &*next_of_account(db, book).await?),
        Level::AdGroups | Level::Items => parts(db, book, level, within, period).await?,
    };
    rows.retain(|r| !r.tally.is_empty() || r.against.is_some_and(|t| !t.is_empty()));
    Ok(rows)
}

fn campaigns(book: &Book, period: Period, next: &HashMap<CampaignId, Next>) -> Vec<Row> {
    book.entries
        .iter()
        .zip(book.judge_all().iter().cloned())
        .map(|(e, judged)| Row {
            subject: Subject::Campaign(e.campaign.id),
            name: e.campaign.name.clone(),
            home: e.campaign.channel.clone(),
            channel: e.campaign.channel.clone(),
            campaign: e.campaign.id,
            status: e.campaign.status.clone(),
            tally: e.tally(period.window),
            against: period.against.map(|w| e.tally(w)),
            target: e.target,
            own_target: e.campaign.own_target.is_some(),
            peers: judged.as_ref().map(|j| (j.tally, j.diagnosis.peers)),
            judged,
            pool: None,
            next: next.get(&e.campaign.id).copied(),
            summed: None,
        })
        .collect()
}

/// A campaign with what its parts share.
struct Home<'a> {
    entry: &'a Entry,
    pool: Tally,
}

async fn parts(
    db: &PgPool,
    book: &Book,
    level: Level,
    within: Within,
    period: Period,
) -> Result<Vec<Row>, DeskError> {
    if let Some(id) = within.campaign {
        book.entry(id)?;
    }
    let homes: HashMap<CampaignId, Home> = book
        .entries
        .iter()
        .map(|e| (e.campaign.id, Home { entry: e, pool: e.tally(period.window) }))
        .collect();
    let now = book::items(db, book, within.campaign, period.window).await?;
    let before = match period.against {
        Some(window) => Some(book::items(db, book, within.campaign, window).await?),
        None => None,
    };
    let chosen = |i: &&ItemTally| within.ad_group.is_none_or(|g| g == i.ad_group);
    let key = |i: &ItemTally| match level {
        Level::Items => i.item.0,
        _ => i.ad_group.0,
    };
    let mut rows: Vec<Row> = Vec::new();
    let mut places: HashMap<i64, usize> = HashMap::new();
    let both = now
        .iter()
        .map(|i| (i, true))
        .chain(before.iter().flat_map(|all| all.iter()).map(|i| (i, false)));
    for (item, is_now) in both.filter(|(i, _)| chosen(i)) {
        let place = match places.get(&key(item)) {
            Some(place) => *place,
            None => {
                let home = homes.get(&item.campaign).ok_or(DeskError::NotFound("campaign"))?;
                rows.push(part(home, level, item, before.is_some()));
                places.insert(key(item), rows.len() - 1);
                rows.len() - 1
            }
        };
        let row = &mut rows[place];
        if is_now {
            row.tally += item.tally;
        } else if let Some(against) = &mut row.against {
            *against += item.tally;
        }
    }
    beside_their_peers(&homes, &mut rows);
    Ok(rows)
}

fn part(home: &Home, level: Level, item: &ItemTally, compared: bool) -> Row {
    let entry = home.entry;
    let campaign = &entry.campaign.name;
    let named =
        |name: &str| if name.is_empty() { "(without a name)".to_owned() } else { name.to_owned() };
    let (subject, name, home_name) = match level {
        Level::Items => {
            let matched = if item.match_type.is_empty() {
                String::new()
            } else {
                format!(", {}", item.match_type)
            };
            let home = format!("{campaign} › {}", named(&item.ad_group_name));
            (Subject::Item(item.item), format!("{}{matched}", named(&item.name)), home)
        }
        _ => (Subject::AdGroup(item.ad_group), named(&item.ad_group_name), campaign.clone()),
    };
    Row {
        subject,
        name,
        home: home_name,
        channel: entry.campaign.channel.clone(),
        campaign: item.campaign,
        status: None,
        tally: Tally::default(),
        against: compared.then(Tally::default),
        target: entry.target,
        own_target: entry.campaign.own_target.is_some(),
        judged: None,
        peers: None,
        pool: Some(home.pool),
        next: None,
        summed: None,
    }
}

/// Sets parts beside the others of their kind on the same channel, with the same kind of target.
fn beside_their_peers(homes: &HashMap<CampaignId, Home>, rows: &mut [Row]) {
    let mut circles: HashMap<(&str, &str, bool), Vec<usize>> = HashMap::new();
    for (place, row) in rows.iter().enumerate() {
        let Some(home) = homes.get(&row.campaign) else { continue };
        let by_value = matches!(row.target, Some(Target::Roas(_)));
        let campaign = &home.entry.campaign;
        circles.entry((&campaign.channel, &campaign.kind, by_value)).or_default().push(place);
    }
    for circle in circles.values().filter(|c| c.len() > 1) {
        let all: Tally = circle.iter().map(|i| rows[*i].tally).sum();
        for place in circle {
            let own = rows[*place].tally;
            rows[*place].peers = Some((own, all - own));
        }
    }
}
