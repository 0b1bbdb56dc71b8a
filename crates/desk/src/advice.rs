//! One advice for each campaign, the same on every page: from the station that limits it. What was changed is left
//! alone until its look-back, and what waits in the tray is not advised again.

use std::collections::HashMap;
use std::sync::Arc;

use chrono::NaiveDate;
use tiller_core::Target;
use tiller_core::ids::CampaignId;
use tiller_core::setting::Setting;
use tiller_core::verdict::{Early, Verdict};
use tiller_store::PgPool;

use crate::book::{Book, Entry, Judged, Period, Touch};
use crate::curves::Curves;
use crate::figures::day;
use crate::kept::Kept;
use crate::rebalance::{self, Move, Part, Week};
use crate::settings::{Settings, Spot};
use crate::{DeskError, change_words, levers, remedy};

/// Why nothing is advised at a place for now.
#[derive(Clone, Debug, PartialEq)]
pub struct Quiet {
    /// What was changed, or waits: `Daily budget from 50.00 to 60.00`.
    pub what: String,
    /// The look-back; none while it waits in the tray.
    pub until: Option<NaiveDate>,
    /// Whether it took another change back.
    pub undone: bool,
}

impl Quiet {
    fn of(touch: &Touch) -> Self {
        Self {
            what: change_words::sentence(touch.was.as_ref(), &touch.set_to),
            until: touch.until.filter(|_| !touch.waits()),
            undone: touch.undoes,
        }
    }

    /// What was changed, and until when that is left alone.
    pub fn sentence(&self) -> String {
        match self.until {
            Some(until) => format!("{}; look-back on {}", self.what, day(until)),
            None => format!("{} waits in the tray", self.what),
        }
    }
}

/// Whether a change is so small in reach that it only speaks for settings of its own kind: one word more or less,
/// one segment's bid.
fn narrow(set: &Setting) -> bool {
    matches!(set, Setting::Negative { .. } | Setting::Keyword { .. } | Setting::Adjustment(_))
}

/// Why a setting at a spot is left alone, if it is: something there, above it, or of the same narrow kind was
/// changed and is not to be judged yet.
pub fn quiet_at(touches: &[Touch], spot: Spot, set: &Setting) -> Option<Quiet> {
    let above = |t: &Touch| {
        t.spot.campaign == spot.campaign
            && (t.spot.ad_group.is_none() || t.spot.ad_group == spot.ad_group)
            && (t.spot.item.is_none() || t.spot.item == spot.item)
    };
    let concerns = |t: &Touch| {
        if narrow(&t.set_to) {
            t.spot == spot && t.set_to.same_thing(set)
        } else {
            // One item's bid is no reason to leave its campaign's negative keywords alone.
            above(t) && !(narrow(set) && t.waits())
        }
    };
    touches.iter().rev().find(|t| concerns(t)).map(Quiet::of)
}

/// Why a campaign as a whole is left alone, if it is.
pub fn quiet(touches: &[Touch]) -> Option<Quiet> {
    let whole = |t: &&Touch| t.spot.ad_group.is_none() && !narrow(&t.set_to);
    let shock = crate::book::shock(touches);
    let parts = |t: &&Touch| shock.is_some_and(|(from, _)| t.from == Some(from));
    touches.iter().rev().find(|t| whole(t) || parts(t)).map(Quiet::of)
}

/// The one advice for a campaign.
#[derive(Clone, Debug)]
pub enum Advice<'a> {
    /// It was changed, or a change waits.
    Quiet(Quiet),
    /// Its tracking, its targeting, its bid: what its verdict says.
    Verdict(&'a Judged),
    /// Another budget.
    Budget(&'a Move),
    /// Nothing.
    Nothing,
}

/// The advice for an account.
#[derive(Clone, Debug)]
pub struct Advised {
    /// Budgets to be moved, of campaigns whose budget is what to change.
    pub week: Week,
    /// What money can do, campaign by campaign.
    pub known: Vec<levers::Line>,
    quiet: HashMap<CampaignId, Quiet>,
}

static KEPT: Kept<(Period, ()), Advised> = Kept::new(24);

/// Reconciles what the stations say of an account's campaigns.
pub async fn of_account(pool: &PgPool, book: &Book) -> Result<Arc<Advised>, DeskError> {
    let reconcile = async || {
        let settings = Settings::of_book(pool, book).await?;
        let curves = Curves::load(pool, &book.account).await?;
        Ok(Advised::of(book, &settings, &curves))
    };
    book.keep(&KEPT, (), reconcile).await
}

impl Advised {
    /// From what has been loaded.
    pub fn of(book: &Book, settings: &Settings, curves: &Curves) -> Self {
        let known = levers::of_account(book, settings, curves);
        let quiet: HashMap<CampaignId, Quiet> =
            book.touched.iter().filter_map(|(id, t)| Some((*id, quiet(t)?))).collect();
        let faulty: HashMap<CampaignId, (&Entry, &Judged)> = book
            .entries
            .iter()
            .zip(book.judge_all())
            .filter_map(|(e, j)| Some((e.campaign.id, (e, j.as_ref().filter(|j| faulty(j))?))))
            .collect();
        let part = |l: &levers::Line| match faulty.get(&l.campaign) {
            None => Part::Full,
            Some((e, j)) if remedy::of_campaign(settings, e, j).is_some() => {
                Part::Fixable(halfway_fixed(j))
            }
            // Nothing can be set there: the budget is what is left.
            Some(_) => Part::Gives,
        };
        let waits = |id: CampaignId| {
            let verdict = faulty.get(&id).map(|(_, j)| j.diagnosis.verdict);
            matches!(verdict, Some(Verdict::TooEarly | Verdict::Measurement))
        };
        let lines = known
            .iter()
            .filter(|l| !l.fresh && !waits(l.campaign) && !quiet.contains_key(&l.campaign))
            .cloned()
            .collect();
        let week = rebalance::advise(lines, book.by_value(), rebalance::targets(book), part);
        Self { week, known, quiet }
    }

    /// The one advice for a campaign with its verdict.
    pub fn on<'a>(&'a self, entry: &Entry, judged: Option<&'a Judged>) -> Advice<'a> {
        let id = entry.campaign.id;
        if let Some(quiet) = self.quiet.get(&id) {
            return Advice::Quiet(quiet.clone());
        }
        let judged = judged.filter(|j| faulty(j));
        let moved = self.week.moves.iter().find(|m| m.line.campaign == id);
        match (judged, moved) {
            (_, Some(m)) => Advice::Budget(m),
            (Some(judged), None) => Advice::Verdict(judged),
            (None, None) => Advice::Nothing,
        }
    }

    /// Why a campaign is left alone, if it is.
    pub fn quiet(&self, campaign: CampaignId) -> Option<&Quiet> {
        self.quiet.get(&campaign)
    }
}

/// How many times as much a campaign's money would bring, were it halfway to its target: what one step of a remedy is
/// for.
fn halfway_fixed(j: &Judged) -> f64 {
    let cost = match j.target {
        Target::Cpa(target) => j.tally.cpa().map(|cpa| cpa / target),
        Target::Roas(target) => j.tally.roas().filter(|r| *r > 0.0).map(|roas| target / roas),
    };
    // No result at all can't be fixed by a share.
    cost.map_or(1.0, |over| 2.0 * over / (over + 1.0)).max(1.0)
}

/// Whether its verdict asks for something before its budget does; a launch or a shock asks for patience.
fn faulty(j: &Judged) -> bool {
    match j.diagnosis.verdict {
        Verdict::OnTarget => false,
        Verdict::TooEarly => {
            matches!(j.diagnosis.early, Some(Early::Launched { .. } | Early::Changed { .. }))
        }
        Verdict::Bid
        | Verdict::Traffic
        | Verdict::OrderValue
        | Verdict::Both
        | Verdict::Measurement => true,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::Micros;
    use tiller_core::ids::{AdGroupId, ItemId};
    use tiller_core::setting::{Budget, MatchType};

    fn spot(ad_group: Option<i64>, item: Option<i64>) -> Spot {
        Spot { campaign: CampaignId(1), ad_group: ad_group.map(AdGroupId), item: item.map(ItemId) }
    }

    fn budget(units: f64) -> Setting {
        Setting::Budget(Budget::Daily { amount: Micros::from_units(units) })
    }

    fn bid(units: f64) -> Setting {
        Setting::Bid(Some(Micros::from_units(units)))
    }

    fn word(text: &str) -> Setting {
        Setting::Negative { text: text.into(), match_type: MatchType::Exact, present: true }
    }

    fn touch(spot: Spot, set_to: Setting) -> Touch {
        let day = |d| NaiveDate::from_ymd_opt(2026, 11, d);
        let was = if matches!(set_to, Setting::Bid(_)) { bid(1.1) } else { budget(50.0) };
        Touch::made(spot, Some(was), set_to, day(10).unwrap(), day(19).unwrap())
    }

    #[test]
    fn a_changed_spot_and_what_is_below_it_are_left_alone() {
        let whole = [touch(spot(None, None), budget(60.0))];
        let quiet_for = |t: &[Touch], at, set: &Setting| quiet_at(t, at, set).is_some();
        assert!(quiet_for(&whole, spot(None, None), &budget(80.0)));
        assert!(quiet_for(&whole, spot(Some(2), Some(3)), &bid(1.0)), "below it");
        let item = [touch(spot(Some(2), Some(3)), bid(1.0))];
        assert!(quiet_for(&item, spot(Some(2), Some(3)), &bid(2.0)));
        assert!(!quiet_for(&item, spot(Some(2), Some(4)), &bid(2.0)), "its neighbour");
        assert!(!quiet_for(&item, spot(None, None), &budget(80.0)), "its campaign");
        assert_eq!(quiet(&item), None);
        assert_eq!(quiet(&whole).unwrap().until, NaiveDate::from_ymd_opt(2026, 11, 19));
    }

    #[test]
    fn a_word_speaks_for_itself_only() {
        let one = [touch(spot(None, None), word("honey"))];
        assert!(quiet_at(&one, spot(None, None), &word("honey")).is_some());
        assert!(quiet_at(&one, spot(None, None), &word("recipe")).is_none());
        assert!(quiet_at(&one, spot(None, None), &budget(80.0)).is_none());
    }
}
