//! When the cost of a conversion changed, what moved first, and what the logbook says of those days.

use chrono::{Days, NaiveDate};
use tiller_core::change_point::break_of_days;
use tiller_core::window::later;
use tiller_core::{Price, Tally, Window};
use tiller_store::PgPool;

use crate::DeskError;
use crate::book::{Book, Entry};
use crate::logbook::{self, Entry as LogEntry};

/// Settled days that are looked through.
const DAYS: u64 = 56;
/// How likely chance may make so clear a break of the cost.
const SURE: f64 = 0.01;
/// And of what may have moved it.
const LIKELY: f64 = 0.05;
/// What moves it breaks no longer before.
const BEFORE: u64 = 7;
/// Logbook entries so many days around are shown.
const AROUND: u64 = 3;

/// Something that the cost is made of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Factor {
    /// How often it was shown.
    Impressions,
    /// How many of those clicked.
    Ctr,
    /// What a click cost.
    Cpc,
    /// How many clicks converted.
    Cvr,
}

impl Factor {
    const ALL: [Self; 4] = [Self::Impressions, Self::Ctr, Self::Cpc, Self::Cvr];

    /// Its name.
    pub fn title(self) -> &'static str {
        match self {
            Self::Impressions => "impressions",
            Self::Ctr => "the click-through rate",
            Self::Cpc => "the price of a click",
            Self::Cvr => "the conversion rate",
        }
    }

    /// Its value over some days.
    pub fn of(self, t: &Tally) -> Option<f64> {
        match self {
            Self::Impressions => Some(t.impressions as f64),
            Self::Ctr => t.ctr(),
            Self::Cpc => t.cpc().map(Price::units),
            Self::Cvr => t.cvr(),
        }
    }
}

/// A break.
#[derive(Clone, Debug)]
pub struct Broke {
    /// First day after it.
    pub on: NaiveDate,
    /// How likely chance alone breaks it so clearly.
    pub p: f64,
    /// The days before it.
    pub before: Tally,
    /// The days since.
    pub after: Tally,
    /// How many days with spend there are before it and since.
    pub days: (usize, usize),
    /// What moved, the earliest first, with its first day.
    pub moved: Vec<(Factor, NaiveDate)>,
    /// What was changed around that day.
    pub logged: Vec<LogEntry>,
}

pub(super) async fn find(
    db: &PgPool,
    book: &Book,
    entry: &Entry,
) -> Result<Option<Broke>, DeskError> {
    let Some(mut broke) = search(entry, Window::ending(book.last_settled(), DAYS)) else {
        return Ok(None);
    };
    let around = Window::ending(later(broke.on, AROUND), 2 * AROUND + 1);
    broke.logged = logbook::of_campaign(db, &book.account, entry.campaign.id, around).await?;
    Ok(Some(broke))
}

/// Searches settled days; the yield of a day's money, which exists on days without conversions too.
fn search(entry: &Entry, window: Window) -> Option<Broke> {
    let days: Vec<(NaiveDate, Tally)> = entry
        .days
        .iter()
        .filter(|d| window.contains(d.day) && d.tally.spend.get() > 0)
        .map(|d| (d.day, d.tally))
        .collect();
    let of = |value: &dyn Fn(&Tally) -> f64| {
        days.iter().map(|(day, t)| (*day, value(t))).collect::<Vec<_>>()
    };
    let per_money = of(&|t| t.conversions / t.spend.to_units());
    let found = break_of_days(&per_money).filter(|c| c.p <= SURE)?;
    let on = days[found.at].0;
    let sum = |days: &[(NaiveDate, Tally)]| days.iter().map(|(_, t)| *t).sum::<Tally>();
    let earliest = on.checked_sub_days(Days::new(BEFORE)).unwrap_or(on);
    let mut moved: Vec<(Factor, NaiveDate)> = Factor::ALL
        .into_iter()
        .filter_map(|factor| {
            let values = of(&|t| factor.of(t).unwrap_or(0.0));
            let c = break_of_days(&values).filter(|c| c.p <= LIKELY)?;
            let day = days[c.at].0;
            (day >= earliest && day <= on + Days::new(BEFORE)).then_some((factor, day))
        })
        .collect();
    moved.sort_by_key(|(_, day)| *day);
    Some(Broke {
        on,
        p: found.p,
        before: sum(&days[..found.at]),
        after: sum(&days[found.at..]),
        days: (found.at, days.len() - found.at),
        moved,
        logged: Vec::new(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::Micros;
    use tiller_core::ids::CampaignId;
    use tiller_store::facts::{Campaign, CampaignDay};

    fn day(n: u64) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, 9, 1).unwrap() + Days::new(n)
    }

    /// Fifty-six days of 100 clicks, more or less by the day, that convert at a rate.
    fn entry(rate: impl Fn(u64) -> f64) -> Entry {
        let days = (0..DAYS).map(|n| {
            let clicks = 100 + (n * 7 % 11) as i64;
            CampaignDay {
                campaign: CampaignId(1),
                day: day(n),
                tally: Tally {
                    impressions: clicks * 20 + (n * 5 % 13) as i64,
                    clicks,
                    spend: Micros::from_units(clicks as f64 * (2.0 + (n * 3 % 7) as f64 / 50.0)),
                    conversions: (clicks as f64 * rate(n)).round(),
                    ..Tally::default()
                },
                budget: None,
                bid: None,
                lost_to_budget: None,
                lost_to_bid: None,
                expected: None,
            }
        });
        Entry {
            campaign: Campaign {
                id: CampaignId(1),
                name: "Courses".into(),
                channel: "Findle".into(),
                kind: "keyword".into(),
                status: None,
                own_target: None,
                own_purpose: None,
                own_events: false,
                first_day: None,
            },
            target: None,
            purpose: tiller_core::purpose::Purpose::Generic,
            days: days.collect(),
        }
    }

    #[test]
    fn the_day_is_found_and_what_moved_is_named() {
        let window = Window::ending(day(DAYS - 1), DAYS);
        let broke = search(&entry(|n| if n < 40 { 0.10 } else { 0.05 }), window).unwrap();
        // By ranks, a low last day before the break is taken for the first after it.
        let near = |on: NaiveDate| (on - day(40)).num_days().abs() <= 2;
        assert!(near(broke.on), "{}", broke.on);
        assert_eq!(broke.days.0 as i64, (broke.on - day(0)).num_days());
        assert_eq!(broke.days.0 + broke.days.1, 56);
        assert!(matches!(broke.moved[..], [(Factor::Cvr, on)] if near(on)), "{:?}", broke.moved);
        assert!(broke.after.cpa() > broke.before.cpa().map(|c| 1.8 * c));
        assert!(search(&entry(|_| 0.10), window).is_none(), "nothing broke");
    }
}
