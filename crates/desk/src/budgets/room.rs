//! What an account's budgets leave unspent: people's budgets, less what is spent and what is about to be. What advice has
//! added to a budget is no new money, so it is taken off again: else each raise out of it would make room for the next.

use std::collections::HashMap;

use tiller_core::Micros;
use tiller_core::course::Lever;
use tiller_core::ids::CampaignId;
use tiller_core::setting::{Budget, Setting, Status};
use tiller_store::PgPool;
use tiller_store::touched::advised_budgets;

use crate::DeskError;
use crate::account::settings::Settings;
use crate::book::{Book, Entry, Touch};
use crate::budgets::responses::Spender;
use crate::courses::{self, Course};

/// What is known of an account's budgets beside what they are.
pub struct Room {
    /// What advice has added to budgets a day, or taken off.
    advised: HashMap<CampaignId, f64>,
    /// The highest that courses under way will set.
    coming: HashMap<CampaignId, f64>,
}

impl Room {
    /// Of an account.
    pub async fn of_book(db: &PgPool, book: &Book) -> Result<Self, DeskError> {
        let advised = advised_budgets(db, book.account.id).await?;
        let advised =
            advised.into_iter().map(|(id, a_day)| (id, Micros::new(a_day).to_units())).collect();
        let courses = courses::list(db, &book.account).await?;
        let coming = courses.iter().filter_map(|c| Some((c.campaign, highest_to_come(c)?)));
        Ok(Self { advised, coming: coming.collect() })
    }

    /// Whether advice has moved a campaign's budget.
    pub fn advised(&self, campaign: CampaignId) -> bool {
        self.advised.contains_key(&campaign)
    }

    /// Whether a course is under way that will set a campaign's budget.
    pub fn on_course(&self, campaign: CampaignId) -> bool {
        self.coming.contains_key(&campaign)
    }

    /// Money a day that is left.
    pub fn unspent(&self, book: &Book, settings: &Settings, known: &[Spender]) -> f64 {
        let spenders: HashMap<CampaignId, &Spender> =
            known.iter().map(|l| (l.campaign, l)).collect();
        let left = |entry: &Entry| {
            let id = entry.campaign.id;
            let budget = settings.campaign(id).filter(|c| c.status == Status::Active)?.budget?;
            let Budget::Daily { amount } = budget else { return None };
            let advised = self.advised.get(&id).copied().unwrap_or(0.0);
            Some(match spenders.get(&id) {
                Some(l) => amount.to_units() - advised - self.committed(book, l, amount.to_units()),
                // Nobody knows what its money does: what advice gave it is gone, the rest is its own.
                None => -advised.max(0.0),
            })
        };
        book.entries.iter().filter_map(left).sum::<f64>().max(0.0)
    }

    /// What a campaign will spend when all that was decided for it shows, as far as its budget lets it.
    fn committed(&self, book: &Book, l: &Spender, budget: f64) -> f64 {
        let touches = book.touched.get(&l.campaign).map_or(&[][..], Vec::as_slice);
        let whole = || touches.iter().filter(|t| t.spot.ad_group.is_none());
        let waiting = whole().filter(|t| t.waits()).filter_map(|t| daily(&t.set_to));
        let most = waiting.fold(budget, f64::max);
        if let Some(course) = self.coming.get(&l.campaign) {
            return course.max(most).max(l.spend);
        }
        let taken_back = |t: &Touch| {
            let back = |u: &&Touch| u.undoes && !u.waits() && u.from >= t.from;
            whole().filter(back).any(|u| u.set_to.same_thing(&t.set_to))
        };
        let stands = whole().filter(|t| !t.undoes && !taken_back(t));
        let more: f64 = stands.map(|t| adds(t).unwrap_or(most).max(0.0)).sum();
        (l.spend + more).min(most).max(l.spend)
    }
}

fn highest_to_come(course: &Course) -> Option<f64> {
    let open = course.plan.open() && course.plan.lever == Lever::Budget;
    let steps = course.plan.steps.iter().map(|s| s.amount.to_units());
    open.then(|| steps.fold(0.0, f64::max))
}

fn daily(set: &Setting) -> Option<f64> {
    match set {
        Setting::Budget(Budget::Daily { amount }) => Some(amount.to_units()),
        _ => None,
    }
}

/// What a change adds to what is spent, where that is known; nothing where it surely lowers it, or is no matter of money,
/// like a word that is left out.
fn adds(t: &Touch) -> Option<f64> {
    let of_money =
        t.set_to.moves_bids() || matches!(t.set_to, Setting::Budget(_) | Setting::Status(_));
    if !of_money {
        return Some(t.adds.unwrap_or(0.0));
    }
    let level = |s: &Setting| daily(s).or_else(|| s.bid_level());
    let lowers = || {
        let was = t.was.as_ref().filter(|was| was.alike(&t.set_to))?;
        Some(level(&t.set_to)? <= level(was)?)
    };
    t.adds.or_else(|| lowers().filter(|lowers| *lowers).map(|_| 0.0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::NaiveDate;
    use tiller_core::setting::MatchType;
    use tiller_core::spot::Spot;

    fn touch(was: Setting, set: Setting) -> Touch {
        let spot = Spot { campaign: CampaignId(1), ad_group: None, item: None };
        let day = |d| NaiveDate::from_ymd_opt(2026, 11, d).unwrap();
        Touch::made(spot, Some(was), set, day(3), day(12))
    }

    #[test]
    fn what_is_not_told_of_a_change_is_taken_from_what_it_sets() {
        let bid = |units| Setting::Bid(Some(Micros::from_units(units)));
        assert_eq!(adds(&touch(bid(1.0), bid(0.8))), Some(0.0), "it lowers");
        assert_eq!(adds(&touch(bid(1.0), bid(1.2))), None, "nobody knows how much more");
        let mut told = touch(bid(1.0), bid(1.2));
        told.adds = Some(12.0);
        assert_eq!(adds(&told), Some(12.0));
        let budget = |units| Setting::Budget(Budget::Daily { amount: Micros::from_units(units) });
        assert_eq!(adds(&touch(budget(50.0), budget(40.0))), Some(0.0));
        assert_eq!(adds(&touch(budget(50.0), bid(1.0))), None, "two sorts of things");
        let word = |present| Setting::Negative {
            text: "honey".into(),
            match_type: MatchType::Exact,
            present,
        };
        assert_eq!(adds(&touch(word(false), word(true))), Some(0.0), "a word is no money");
    }
}
