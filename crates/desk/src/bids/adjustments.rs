//! Adjustments for people, places, devices and hours, of all campaigns at once: what is in force, what is proposed on which
//! evidence, and what all of a campaign's come to together.

use std::collections::HashMap;

use tiller_core::ids::{CampaignId, PersonId};
use tiller_core::setting::{Adjustment, Dimension, Setting};
use tiller_store::PgPool;

use crate::account::settings::Settings;
use crate::book::Book;
use crate::causes::findings;
use crate::numerals::{number, signed};
use crate::tray::offer::{Offer, taken};
use crate::tray::proposal::Proposal;
use crate::{DeskError, change_words, tray};

/// As many campaigns are looked through, those that spend the most: each takes several queries the first time.
pub const MOST: usize = 40;
/// What all adjustments of a campaign may come to for one person: a tenth of the bid, and twice the bid.
const TOGETHER: (f64, f64) = (0.1, 2.0);

/// A proposed adjustment.
#[derive(Clone, Debug)]
pub struct Row {
    /// The campaign.
    pub campaign: CampaignId,
    /// Its name.
    pub name: String,
    /// Who: `country Sweden`, or `hours of the week`.
    pub who: String,
    /// What is in force.
    pub now: String,
    /// What is proposed.
    pub to: String,
    /// On which evidence.
    pub why: String,
    /// Money above target that it concerns.
    pub excess: f64,
    /// The change.
    pub change: Proposal,
}

impl Row {
    /// Its box's offer.
    pub fn offer(&self) -> Offer<Self> {
        let id = format!("{}-{}", self.campaign, self.who.replace(": ", " "));
        let says = tray::offer::says([&self.change]);
        Offer::new(id, &format!("{}, {}", self.name, self.who), says, self.clone())
    }
}

/// The proposals of an account's campaigns, the most money first, without what is left alone until its look-back; and how
/// many campaigns were not looked through.
pub async fn of_account(db: &PgPool, book: &Book) -> Result<(Vec<Row>, usize), DeskError> {
    let settings = Settings::of_book(db, book).await?;
    let window = super::window(book);
    let mut entries: Vec<_> =
        book.entries.iter().filter(|e| settings.connection(e.campaign.id).is_some()).collect();
    entries.sort_by_key(|e| std::cmp::Reverse(e.tally(window).spend));
    let left = entries.len().saturating_sub(MOST);
    let mut rows = Vec::new();
    for entry in entries.into_iter().take(MOST) {
        let id = entry.campaign.id;
        let found = findings::of_campaign(db, book, id).await?;
        let all = found.people.iter().flat_map(|d| &d.rows).filter_map(|r| r.found.as_ref());
        for f in all {
            for p in &f.proposals {
                let Setting::Adjustment(to) = &p.set else { continue };
                rows.push(Row {
                    campaign: id,
                    name: entry.campaign.name.clone(),
                    who: format!("{} {}", to.dimension.word(), to.segment),
                    now: percent(in_force(&settings, id, to)),
                    to: percent(to.percent),
                    why: f.why.clone(),
                    excess: f.excess,
                    change: p.clone(),
                });
            }
        }
        let hours = settings.campaign(id).and_then(|c| c.hours.clone());
        rows.extend(found.week.as_ref().and_then(|f| {
            Some(Row {
                campaign: id,
                name: entry.campaign.name.clone(),
                who: f.what.clone(),
                now: change_words::value(&Setting::Hours(hours)),
                to: f.advice.clone(),
                why: f.why.clone(),
                excess: f.excess,
                change: f.proposals.first()?.clone(),
            })
        }));
    }
    rows.sort_by(|a, b| b.excess.abs().total_cmp(&a.excess.abs()));
    Ok((rows, left))
}

/// An adjustment as it stands in the table.
fn percent(x: i16) -> String {
    match x {
        0 => "none".into(),
        -100 => "left out".into(),
        x => signed(f64::from(x), |x| number(x, 0)) + "%",
    }
}

fn in_force(settings: &Settings, id: CampaignId, like: &Adjustment) -> i16 {
    let all = settings.campaign(id).map_or(&[][..], |c| &c.adjustments);
    let same = |a: &&Adjustment| a.dimension == like.dimension && a.segment == like.segment;
    all.iter().find(same).map_or(0, |a| a.percent)
}

/// Puts the chosen ones in the tray, unless all of a campaign's together would go too far for anybody.
pub async fn take(
    db: &PgPool,
    book: &Book,
    person: PersonId,
    buttons: &[String],
) -> Result<usize, DeskError> {
    let (rows, _) = of_account(db, book).await?;
    let offers = rows.iter().map(Row::offer).collect();
    let chosen = taken(buttons, offers)?;
    if chosen.is_empty() {
        return Err(DeskError::Invalid("choose at least one adjustment first".into()));
    }
    let settings = Settings::of_book(db, book).await?;
    let mut of: HashMap<CampaignId, Vec<&Row>> = HashMap::new();
    for row in &chosen {
        of.entry(row.campaign).or_default().push(row);
    }
    for (id, rows) in of {
        let set = settings.campaign(id).map_or(&[][..], |c| &c.adjustments);
        let new = rows.iter().filter_map(|r| match &r.change.set {
            Setting::Adjustment(a) => Some(a),
            _ => None,
        });
        let (low, high) = together(set, &new.collect::<Vec<_>>());
        if low < TOGETHER.0 || high > TOGETHER.1 {
            let percent = |x: f64| ((x - 1.0) * 100.0).round();
            return Err(DeskError::Invalid(format!(
                "{}: with those in force they would come to {:+}% for some people and {:+}% for others; keep all together between {:+}% and {:+}%, and take fewer at once",
                rows[0].name,
                percent(low),
                percent(high),
                percent(TOGETHER.0),
                percent(TOGETHER.1)
            )));
        }
    }
    let changes = chosen.into_iter().map(|r| r.change).collect();
    tray::propose(db, &book.account, person, changes).await
}

/// The least and the most that adjustments come to for one person: of each dimension one, those who are left out aside.
fn together(in_force: &[Adjustment], new: &[&Adjustment]) -> (f64, f64) {
    let mut all: HashMap<(Dimension, &str), i16> = HashMap::new();
    for a in in_force.iter().chain(new.iter().copied()) {
        all.insert((a.dimension, &a.segment), a.percent);
    }
    let mut of: HashMap<Dimension, (f64, f64)> = HashMap::new();
    for ((dimension, _), percent) in all.into_iter().filter(|(_, p)| *p > -100) {
        let by = 1.0 + f64::from(percent) / 100.0;
        let (low, high) = of.entry(dimension).or_insert((1.0, 1.0));
        (*low, *high) = (low.min(by), high.max(by));
    }
    of.values().fold((1.0, 1.0), |(a, b), (low, high)| (a * low, b * high))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(dimension: Dimension, segment: &str, percent: i16) -> Adjustment {
        Adjustment { dimension, segment: segment.into(), percent }
    }

    /// By hand: 1.3 × 1.2 for a woman on a phone, 0.5 × 0.8 for a man at a desk; who is left out counts for nobody.
    #[test]
    fn adjustments_multiply_across_dimensions() {
        let set = [
            of(Dimension::Gender, "female", 30),
            of(Dimension::Gender, "male", -50),
            of(Dimension::Country, "Sweden", -100),
        ];
        let (phone, desk) =
            (of(Dimension::Device, "mobile", 20), of(Dimension::Device, "desktop", -20));
        let (low, high) = together(&set, &[&phone, &desk]);
        assert!((low - 0.4).abs() < 1e-12 && (high - 1.56).abs() < 1e-12, "{low} {high}");
        // A new one takes the place of the one in force, and does not come on top.
        let less = of(Dimension::Gender, "female", 10);
        assert!((together(&set, &[&less]).1 - 1.1).abs() < 1e-12);
        assert_eq!(together(&[], &[]), (1.0, 1.0));
    }
}
