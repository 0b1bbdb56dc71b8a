//! What is to be known before changes are sent: each for itself, and all of them together.

use std::collections::{HashMap, HashSet};

use chrono::NaiveDate;
use tiller_core::Micros;
use tiller_core::ids::{AdGroupId, CampaignId, ItemId};
use tiller_core::learning::{self, Moved};
use tiller_core::setting::{Budget, Limits, Setting, Thing};
use tiller_core::spot::Spot;
use tiller_store::changes::{Change, State};
use tiller_store::facts::{self, Present};
use tiller_store::people::Account;
use tiller_store::{PgPool, StoreError};

use crate::account::connections;
use crate::account::settings::Settings;
use crate::book::quiet::quiet_at;
use crate::book::{PRESENT_DAYS, Touch, touched};
use crate::numerals::{full_day, money, number, sum};
use crate::tray::proposal::Origin;
use crate::{DeskError, change_words as words};

/// What is to be known before a change is sent.
#[derive(Clone, Debug, PartialEq)]
pub struct Check {
    /// It can't be sent like this.
    pub stops: bool,
    /// What is so, and what to do.
    pub text: String,
}

/// A change with its checks.
#[derive(Clone, Debug)]
pub struct Row {
    /// The change.
    pub change: Change,
    /// What was set.
    pub was: Option<Setting>,
    /// What shall be.
    pub set_to: Setting,
    /// Checks.
    pub checks: Vec<Check>,
    /// Whether its strategy will learn anew.
    pub learns_anew: bool,
    /// What the channel sets besides, where the strategy is shared.
    pub besides: Vec<Besides>,
}

/// What is set besides a change, on a campaign that shares the strategy or joins it.
#[derive(Clone, Debug, PartialEq)]
pub struct Besides {
    /// The campaign.
    pub campaign: CampaignId,
    /// Its name.
    pub name: String,
    /// What was set.
    pub was: Setting,
    /// What will be.
    pub set: Setting,
    /// Whether its strategy will learn anew.
    pub learns_anew: bool,
}

impl Besides {
    fn all(standing: &mut Settings, at: Spot, set: &Setting) -> Vec<Self> {
        let besides = standing.share(at, set);
        let read = |(campaign, was, set): (CampaignId, Setting, Setting)| Self {
            name: standing.names(Spot::of(campaign)).unwrap_or_default(),
            learns_anew: learning::restarts(
                automatic(standing, Spot::of(campaign), &set),
                words::moved(Some(&was), &set),
            ),
            campaign,
            was,
            set,
        };
        besides.into_iter().map(read).collect()
    }

    /// Where it goes: `from target CPA 52.00 to target CPA 44.00`.
    fn way(&self) -> String {
        format!("from {} to {}", words::in_full(&self.was), words::in_full(&self.set))
    }
}

/// Reads the settings of changes.
pub fn read(change: &Change) -> Result<(Option<Setting>, Setting), DeskError> {
    use serde::Deserialize;
    let was = change.was.as_ref().map(Setting::deserialize).transpose();
    let set_to = Setting::deserialize(&change.set_to);
    let both = was.and_then(|w| Ok((w, set_to?)));
    Ok(both.map_err(StoreError::from)?)
}

/// The spot of a change.
pub fn spot(change: &Change) -> Spot {
    Spot { campaign: change.campaign, ad_group: change.ad_group, item: change.item }
}

/// Changes with their checks.
pub(crate) async fn check(
    db: &PgPool,
    account: &Account,
    all: Vec<Change>,
) -> Result<Vec<Row>, DeskError> {
    let items: Vec<ItemId> = all.iter().filter_map(|c| c.item).collect();
    let settings = Settings::of_account(db, account.id).await?.with_items(db, &items).await?;
    let read_all: Vec<(Option<Setting>, Setting)> =
        all.iter().map(read).collect::<Result<_, _>>()?;
    let today = connections::today(db, account).await?;
    let made = touched::made(db, account, today.pred_opt().unwrap_or(today)).await?;
    let present = facts::present(db, account.id, PRESENT_DAYS.into()).await?;
    // Changes are made in their order: what is shared by then counts.
    let mut standing = settings.of_campaigns();
    let shared: Vec<(Option<&str>, Vec<Besides>)> = all
        .iter()
        .zip(&read_all)
        .map(|(c, (_, set))| {
            let barred = standing.barred(spot(c), set);
            (barred, Besides::all(&mut standing, spot(c), set))
        })
        .collect();
    let together = Together::of(&all, &read_all, &shared);
    let of_bids = |(c, (_, set)): (&Change, &(Option<Setting>, Setting))| {
        (c.ad_group.is_none() && set.moves_bids()).then_some(c.campaign)
    };
    let bids: HashSet<CampaignId> = all.iter().zip(&read_all).filter_map(of_bids).collect();
    let checks: Vec<(Vec<Check>, bool)> = (0..all.len())
        .map(|i| {
            let (was, set) = &read_all[i];
            let at = spot(&all[i]);
            let mut found = Vec::new();
            let moved = words::moved(was.as_ref(), set);
            let automatic = automatic(&settings, at, set);
            let (barred, besides) = &shared[i];
            let itself = besides.iter().any(|b| b.campaign == at.campaign && b.learns_anew);
            let learns_anew = learning::restarts(automatic, moved) || itself;
            let learning = |campaign| learns(present.get(&campaign).copied().unwrap_or_default());
            if learns_anew {
                found.push(warn(learning(at.campaign)));
            }
            found.extend(barred.map(stop));
            for b in besides {
                let so = match b.campaign == at.campaign {
                    true => format!("joining takes it {}", b.way()),
                    false if b.learns_anew => {
                        format!("{} goes {} too: {}", b.name, b.way(), learning(b.campaign))
                    }
                    false => format!("{} goes {} too", b.name, b.way()),
                };
                found.push(warn(so));
            }
            // By hand, a budget moved together with the bid is its room, and no step of its own.
            let room = !automatic && bids.contains(&at.campaign);
            let at_once = match moved {
                Moved::Budget { .. } if room && at.ad_group.is_none() => None,
                Moved::Budget { from, to } if !automatic && at.ad_group.is_none() => {
                    let spend = present.get(&at.campaign).map_or(from, |p| p.spend.to_units());
                    learning::shock(learning::used(from, to, spend), to)
                }
                Moved::Budget { from, to } | Moved::Target { from, to } => learning::shock(from, to),
                _ => None,
            };
            // What reads 20% is no more than 20%: what is spent changes from day to day.
            let more = |by: &f64| by.is_finite() && (100.0 * by.abs()).round() > 100.0 * learning::SHOCK;
            if let Some(by) = at_once.filter(more) {
                found.push(warn(format!(
                    "{} at once is a shock; more than {}% is better done in steps",
                    words::by(by),
                    number(100.0 * learning::SHOCK, 0)
                )));
            }
            found.extend(past_flight(was.as_ref(), set, today).map(stop));
            let touches = made.get(&at.campaign).map_or(&[][..], Vec::as_slice);
            found.extend(too_soon(touches, &all[i], set));
            found.extend(limits(settings.limits(at.campaign), set));
            found.extend(floors(&settings, at, set, &together));
            if together.crossed(at, set, besides) {
                found.push(stop("another change in the tray sets the same thing; take one of them out"));
            }
            let now = settings.present(at, set);
            if all[i].state == State::Waiting && now.is_some() && now != *was {
                let now = now.as_ref().map(words::value).unwrap_or_default();
                found.push(stop(format!(
                    "it has been changed at the channel meanwhile and is {now} now; take this one out and decide again"
                )));
            }
            if settings.connection(at.campaign).is_none() {
                found.push(warn(
                    "its channel is not connected; it goes into a file, for somebody to set by hand",
                ));
            }
            (found, learns_anew)
        })
        .collect();
    Ok(all
        .into_iter()
        .zip(read_all)
        .zip(checks)
        .zip(shared.into_iter().map(|(_, besides)| besides))
        .map(|(((change, (was, set_to)), (checks, learns_anew)), besides)| Row {
            change,
            was,
            set_to,
            checks,
            learns_anew,
            besides,
        })
        .collect())
}

/// What it costs that a strategy begins to learn anew: days, and what is spent on them.
pub fn learns(present: Present) -> String {
    let days = learning::days_needed(present.conversions);
    let spent = present.spend.to_units() * days as f64;
    format!(
        "its strategy will be learning for about {days} days, during which it spends about {}; costs may swing until then",
        sum(spent)
    )
}

fn warn(text: impl Into<String>) -> Check {
    Check { stops: false, text: text.into() }
}

fn stop(text: impl Into<String>) -> Check {
    Check { stops: true, text: text.into() }
}

/// What was changed there and waits for its look-back. The steps of a course follow each other on purpose, and what is
/// taken back needs no look.
fn too_soon(touches: &[Touch], change: &Change, set: &Setting) -> Option<Check> {
    if change.undoes.is_some() || change.origin == Origin::Course.word() {
        return None;
    }
    let quiet = quiet_at(touches, spot(change), set)?;
    Some(warn(format!(
        "{}; changed again before that day, neither change can be judged by itself",
        quiet.sentence()
    )))
}

/// Whether the campaign will be bid for by a strategy when the change is in force.
fn automatic(settings: &Settings, at: Spot, set: &Setting) -> bool {
    match set {
        Setting::Strategy(s) => s.automatic(),
        _ => settings.campaign(at.campaign).is_some_and(|c| c.strategy.automatic()),
    }
}

fn limits(limits: Limits, set: &Setting) -> Option<Check> {
    let (amount, least, what) = match set {
        Setting::Bid(Some(m)) | Setting::BidFloor(Some(m)) | Setting::BidCeiling(Some(m)) => {
            (*m, limits.least_bid, "bid")
        }
        Setting::Keyword { bid: Some(m), .. } => (*m, limits.least_bid, "bid"),
        Setting::Budget(b) => (b.per_day(), limits.least_budget, "budget a day"),
        _ => return None,
    };
    (amount < least).then(|| {
        stop(format!("the channel’s least {what} is {}; set no less", money(least.to_units())))
    })
}

/// What all changes of a tray set together.
struct Together<'a> {
    /// How many set one thing.
    things: HashMap<(Spot, Thing<'a>), usize>,
    /// The budget a day of each campaign that gets another.
    budgets: HashMap<CampaignId, Micros>,
    /// The floor of each ad group that gets another.
    floors: HashMap<AdGroupId, Option<Micros>>,
}

impl<'a> Together<'a> {
    fn of(
        all: &[Change],
        read_all: &'a [(Option<Setting>, Setting)],
        shared: &'a [(Option<&str>, Vec<Besides>)],
    ) -> Self {
        let (mut things, mut budgets, mut floors) =
            (HashMap::new(), HashMap::new(), HashMap::new());
        for ((c, (_, set)), (_, besides)) in all.iter().zip(read_all).zip(shared) {
            *things.entry((spot(c), set.thing())).or_default() += 1;
            for b in besides {
                *things.entry((Spot::of(b.campaign), b.set.thing())).or_default() += 1;
            }
            match (set, c.ad_group) {
                (Setting::Budget(b), None) => drop(budgets.insert(c.campaign, b.per_day())),
                (Setting::Floor(f), Some(group)) => drop(floors.entry(group).or_insert(*f)),
                _ => {}
            }
        }
        Self { things, budgets, floors }
    }

    /// Whether another change sets the same as one, or as what that sets besides.
    fn crossed(&self, at: Spot, set: &Setting, besides: &[Besides]) -> bool {
        let often =
            |at: Spot, set: &Setting| self.things.get(&(at, set.thing())).is_some_and(|n| *n > 1);
        often(at, set) || besides.iter().any(|b| often(Spot::of(b.campaign), &b.set))
    }
}

/// Floors within a pooled budget, as all of the tray would leave them.
fn floors(settings: &Settings, at: Spot, set: &Setting, together: &Together) -> Option<Check> {
    if !matches!(set, Setting::Floor(_) | Setting::Budget(_))
        || (at.ad_group.is_some() && matches!(set, Setting::Budget(_)))
    {
        return None;
    }
    let budget = together
        .budgets
        .get(&at.campaign)
        .copied()
        .or_else(|| settings.campaign(at.campaign)?.budget.map(Budget::per_day))?;
    let floor = |id: AdGroupId, present: Option<Micros>| {
        together.floors.get(&id).copied().unwrap_or(present).unwrap_or_default()
    };
    let sum: Micros = settings.ad_groups_of(at.campaign).map(|(id, g)| floor(id, g.floor)).sum();
    (sum > budget).then(|| {
        stop(format!(
            "the ad groups’ floors add up to {}, the budget is {} a day; lower a floor or raise the budget",
            money(sum.to_units()),
            money(budget.to_units())
        ))
    })
}

/// Why a budget's flight can't be set on a day, if so: its end is over, or it begins on a day that is over and not
/// with the flight that runs already.
pub(super) fn past_flight(
    was: Option<&Setting>,
    set: &Setting,
    today: NaiveDate,
) -> Option<String> {
    let Setting::Budget(Budget::Lifetime { starts, ends, .. }) = set else { return None };
    let runs =
        matches!(was, Some(Setting::Budget(Budget::Lifetime { starts: s, .. })) if s == starts);
    if *ends < today {
        Some(format!(
            "its flight ends on {}, which is over, and the campaign would stop; choose a last day from {} on",
            full_day(*ends),
            full_day(today)
        ))
    } else if *starts < today && !runs {
        Some(format!(
            "its flight begins on {}, which is over; choose a first day from {} on",
            full_day(*starts),
            full_day(today)
        ))
    } else {
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flight_that_is_over_is_refused() {
        let day = |d| NaiveDate::from_ymd_opt(2026, 11, d).unwrap();
        let flight = |from, to| {
            let amount = Micros::from_units(140.0);
            Setting::Budget(Budget::Lifetime { amount, starts: day(from), ends: day(to) })
        };
        let today = day(10);
        assert!(
            past_flight(None, &flight(1, 9), today)
                .unwrap()
                .contains("last day from 10 Nov 2026 on")
        );
        assert!(
            past_flight(None, &flight(9, 20), today)
                .unwrap()
                .contains("first day from 10 Nov 2026 on")
        );
        assert_eq!(past_flight(None, &flight(10, 10), today), None);
        assert_eq!(
            past_flight(Some(&flight(1, 12)), &flight(1, 20), today),
            None,
            "it runs already"
        );
        assert!(past_flight(Some(&flight(1, 12)), &flight(1, 9), today).is_some());
    }
}
