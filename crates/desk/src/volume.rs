//! How each campaign's clicks answer to its bids: from the bids and targets that were set, pooled by kind.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use chrono::{Datelike, NaiveDate};
use tiller_core::bid_volume::{Day, Elasticity, PRIOR, believed, elasticity, of_kind, unmoved};
use tiller_core::ids::CampaignId;
use tiller_core::learning::STEP;
use tiller_core::setting::{CampaignSettings, Setting, Strategy};
use tiller_core::{Micros, Price, Share};
use tiller_store::PgPool;
use tiller_store::facts::CampaignDay;

use crate::DeskError;
use crate::account::settings::Settings;
use crate::book::{Book, Entry, Judged, Period};
use crate::kept::Kept;
use crate::made::{self, MadeChange};

/// A day that spends so much of its budget was ended by it.
const FULL: f64 = 0.95;
/// A share of auctions lost to the budget that says the same.
const AMONG_MANY: f64 = 0.05;
/// Days that tell how many auctions it loses.
const LATELY: usize = 28;

/// How campaigns' clicks answer to their bids.
#[derive(Clone, Debug, Default)]
pub struct Volumes {
    of: HashMap<CampaignId, Elasticity>,
    /// Whose strategies learn from what stands for their bids, and would learn anew.
    learns: HashSet<CampaignId>,
    /// What a click has cost since the bid was last moved, over what it cost in all settled days, of those whose bids were.
    since: HashMap<CampaignId, f64>,
}

static KEPT: Kept<(Period, ()), Volumes> = Kept::new(24);

/// Of an account's campaigns, from the settled days of its book.
pub async fn of_account(db: &PgPool, book: &Book) -> Result<Arc<Volumes>, DeskError> {
    let read = async || {
        let settings = Settings::of_book(db, book).await?;
        let mut changes: HashMap<CampaignId, Vec<MadeChange>> = HashMap::new();
        for change in made::after(db, &book.account, first_day(book)).await? {
            changes.entry(change.campaign).or_default().push(change);
        }
        let none = Vec::new();
        let volumes = Volumes::of(book, |e| {
            let set = settings.campaign(e.campaign.id);
            let own = changes.get(&e.campaign.id).unwrap_or(&none);
            days(e, until(book), |d| bid_on(set, own, d))
        });
        let learns = |id: &CampaignId| {
            settings.campaign(*id).is_some_and(|set| set.strategy.learns_its_target())
        };
        let ids = book.entries.iter().map(|e| e.campaign.id);
        Ok(Volumes { learns: ids.filter(learns).collect(), ..volumes })
    };
    book.keep(&KEPT, (), read).await
}

fn first_day(book: &Book) -> NaiveDate {
    let days = book.entries.iter().filter_map(|e| e.days.first()).map(|d| d.day);
    days.min().unwrap_or(book.span.from())
}

fn until(book: &Book) -> NaiveDate {
    book.settled().map_or(book.span.to(), |w| w.to())
}

/// What stood for the bid on a day, as a number that rises with it: the bid itself where it is set by hand, else the
/// strategy's target or highest bid.
fn bid_on(
    set: Option<&CampaignSettings>,
    changes: &[MadeChange],
    day: &CampaignDay,
) -> Option<f64> {
    let by_hand = || day.bid.map(Micros::to_units);
    let Some(set) = set else { return by_hand() };
    let moves: fn(&Setting) -> bool = match set.strategy {
        Strategy::ManualCpc | Strategy::ManualCpm => return by_hand(),
        Strategy::TargetCpa { .. } | Strategy::TargetRoas { .. } => {
            |s| matches!(s, Setting::Strategy(_))
        }
        Strategy::MostClicks | Strategy::MostConversions | Strategy::MostValue => {
            |s| matches!(s, Setting::BidCeiling(_))
        }
    };
    // From what is set now back to the day: what the next change after it found.
    let mut of_bids = changes.iter().filter(|c| moves(&c.set));
    match of_bids.clone().find(|c| c.from > day.day) {
        Some(change) => change.bid_before(),
        None => of_bids.next_back().map_or(set.bid_level(), |c| c.set.bid_level()),
    }
}

fn days(entry: &Entry, until: NaiveDate, bid: impl Fn(&CampaignDay) -> Option<f64>) -> Vec<Day> {
    let settled = entry.days.iter().filter(|d| d.day <= until);
    settled
        .map(|d| Day {
            weekday: d.day.weekday(),
            at: f64::from(d.day.num_days_from_ce()),
            clicks: d.tally.clicks,
            spend: d.tally.spend.to_units(),
            bid: bid(d),
            held: held(d),
        })
        .collect()
}

/// Whether its budget ended a day.
fn held(d: &CampaignDay) -> bool {
    d.budget.is_some_and(|b| b > Micros::ZERO && d.tally.spend.to_units() >= FULL * b.to_units())
        || d.lost_to_budget.is_some_and(|l| l.get() > AMONG_MANY)
}

/// Share of the auctions that it could have bid in that a campaign lost for want of bid lately, where its channel tells.
fn lost(entry: &Entry, until: NaiveDate) -> Option<Share> {
    let lately = entry.days.iter().filter(|d| d.day <= until).rev().take(LATELY);
    Share::mean(lately.filter_map(|d| {
        let entered = 1.0 - d.lost_to_budget.map_or(0.0, Share::get);
        Share::new((d.lost_to_bid?.get() / entered.max(f64::MIN_POSITIVE)).min(1.0))
    }))
}

/// Days that a click's price is known by.
const KNOWN: usize = 5;

/// What a click has cost on the last days that had one bid; none where no other bid went before, or the days are few.
fn since(days: &[Day]) -> Option<Price> {
    let set: Vec<&Day> = days.iter().filter(|d| d.bid.is_some()).collect();
    let last = set.last()?.bid;
    let run = set.iter().rev().take_while(|d| d.bid == last).count();
    if run < KNOWN || run == set.len() {
        return None;
    }
    let lately = &set[set.len() - run..];
    let spend: f64 = lately.iter().map(|d| d.spend).sum();
    let clicks: i64 = lately.iter().map(|d| d.clicks).sum();
    (clicks > 0).then(|| Price(spend / clicks as f64))
}

impl Volumes {
    /// From each campaign's days: first each by itself, then with what its kind is like.
    pub fn of(book: &Book, days: impl Fn(&Entry) -> Vec<Day>) -> Self {
        let until = until(book);
        let with_lost = |e| (e, days(e), lost(e, until));
        let all: Vec<(&Entry, Vec<Day>, Option<Share>)> =
            book.entries.iter().map(with_lost).collect();
        let window = book.settled();
        let paid = |(e, days, _): &(&Entry, Vec<Day>, _)| {
            Some((e.campaign.id, since(days)? / e.tally(window?).cpc()?.positive()?))
        };
        let since = all.iter().filter_map(paid).collect();
        let mut kinds: HashMap<&str, Vec<(CampaignId, Elasticity)>> = HashMap::new();
        for (e, days, lost) in &all {
            if let Some(alone) = elasticity(days, believed(*lost), *lost) {
                kinds.entry(&e.campaign.kind).or_default().push((e.campaign.id, alone));
            }
        }
        let fit = |(e, days, lost): (&Entry, Vec<Day>, Option<Share>)| {
            let kind = kinds.get(e.campaign.kind.as_str()).map_or(&[][..], Vec::as_slice);
            let others: Vec<Elasticity> =
                kind.iter().filter(|(id, _)| *id != e.campaign.id).map(|(_, x)| *x).collect();
            Some((e.campaign.id, elasticity(&days, of_kind(&others, believed(lost)), lost)?))
        };
        let of = all.into_iter().filter_map(fit).collect();
        Self { of, learns: HashSet::new(), since }
    }

    /// Of the days of a book alone, without settings: bids as reports tell them.
    pub fn of_days(book: &Book) -> Self {
        Self::of(book, |e| days(e, until(book), |d| d.bid.map(Micros::to_units)))
    }

    /// A campaign's; what is believed of any, where nothing is known of it.
    pub fn get(&self, campaign: CampaignId) -> Elasticity {
        self.of.get(&campaign).copied().unwrap_or_else(|| unmoved(PRIOR))
    }

    /// What a click costs a campaign, or a part of it, with its present bid: else a step would be measured from bids that
    /// are no longer set.
    pub fn paid(&self, campaign: CampaignId, j: &Judged) -> Option<Price> {
        Some(j.tally.cpc()? * self.since.get(&campaign).copied().unwrap_or(1.0))
    }

    /// Times the bid that a step toward so many times its CPC sets: for a strategy with a target never so far that it would
    /// learn anew.
    pub fn step(&self, campaign: CampaignId, cpc: f64) -> f64 {
        let times = self.get(campaign).bid_for(cpc);
        if self.learns.contains(&campaign) { times.max(1.0 - STEP) } else { times }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(i: i32, bid: Option<f64>, cpc: f64) -> Day {
        let weekday = tiller_core::week::DAYS[i as usize % 7];
        Day { weekday, at: f64::from(i), clicks: 10, spend: 10.0 * cpc, bid, held: false }
    }

    /// By hand: 2.00 a click before, 1.50 on the days that have the present bid.
    #[test]
    fn a_click_is_priced_by_the_present_bid() {
        let days = |after: i32| -> Vec<Day> {
            let before = (0..20).map(|i| day(i, Some(3.0), 2.0));
            before.chain((20..20 + after).map(|i| day(i, Some(2.4), 1.5))).collect()
        };
        assert_eq!(since(&days(9)), Some(Price(1.5)));
        assert_eq!(since(&days(4)), None, "four days tell little");
        assert_eq!(since(&days(0)), None, "its bid never moved");
        assert_eq!(since(&[]), None);
        // A day without a known bid is no other bid.
        let mut untold = days(9);
        untold.push(day(29, None, 9.0));
        assert_eq!(since(&untold), Some(Price(1.5)));
    }
}
