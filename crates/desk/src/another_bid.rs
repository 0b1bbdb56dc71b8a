//! Other bids than what verdicts ask for: higher, as far as the next result would meet the target; lower, where the same
//! money would last longer or the last results cost more than they may. What stands for the bid of a strategy that spends
//! any budget is that budget.

use tiller_core::affordable::Affordable;
use tiller_core::bid_volume::{AtBid, Elasticity, at_bid};
use tiller_core::evidence::{FEW, Interval, over_target};
use tiller_core::learning::STEP;
use tiller_core::setting::{Budget, Setting};
use tiller_core::spot::{Spot, Subject};
use tiller_core::verdict::{Early, LimitedBy, Verdict};
use tiller_core::{Price, Share, Window};

use crate::account::settings::Settings;
use crate::book::{Entry, Judged};
use crate::budgets::responses::Spender;
use crate::causes::remedy::evidence;
use crate::numerals::{count, counted, money, percent, probability, sum};
use crate::tray::proposal::{Adds, Origin, Proposal, bid_times, coins, holds};
use crate::volume::Volumes;
use crate::wording;

/// Surely enough that the next conversion meets the target, for more to be spent.
const SURE_OF_NEXT: f64 = 0.7;
/// The same where conversions are few: of those that look cheap, some are by luck, and a raise of a bid costs at once what it may
/// bring in months.
const SURE_OF_FEW: f64 = 0.9;
/// What is said of fewer conversions holds with this probability.
const LIKELY: f64 = 0.8;
/// So sure it has to be that the last conversions cost too much, for a bid to be lowered where the mean one may not.
const SURE_OF_LAST: f64 = 0.9;
/// Times the target that the last conversions must cost at the least, for a bid to be lowered that is on target: what is
/// asked of a target is asked of the mean conversion, and some of them may be dearer.
const WASTE: f64 = 2.0;
/// As much of its budget as a campaign may be led to spend by a higher bid.
const FILLED: f64 = 0.95;
/// As much of a budget that is raised with a bid is meant to be spent: what a bid does is not known so well.
const ROOMY: f64 = 0.8;
/// With fewer conversions than this, dispersion taken out, a bid is raised by one step at most: what one costs is known to no
/// better than ±35%, and the luckiest are picked.
const ENOUGH: f64 = 30.0;
/// A raise below this share is not worth making.
const LEAST_RAISE: f64 = 1.05;
/// A bid by hand, and the budget raised with it, are doubled at most (common practice, no source).
const DOUBLED: f64 = 2.0;
/// A campaign that loses less than this share of its auctions to its budget has no days to fill.
const LEAST_LOST: f64 = 0.05;
/// As much more as the same money must buy at the least, for a bid to be lowered for it.
const LEAST_GAIN: f64 = 1.03;

/// What a campaign may spend a day.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Purse {
    /// What it spends under its present budget.
    pub spend: f64,
    /// What it would spend without one, at its present bid.
    pub demand: f64,
    /// That budget.
    pub budget: f64,
    /// What the account's budgets leave unspent: its own may be raised as far.
    pub unspent: f64,
}

impl Purse {
    /// The same where so much is left unspent.
    pub fn with(self, unspent: f64) -> Self {
        Self { unspent, ..self }
    }

    /// Whether what is left unspent would fill the days that its budget ends early.
    pub fn fills_its_days(self) -> bool {
        self.demand - self.spend <= self.unspent
    }

    /// Times its demand that its own budget has room for.
    fn fits(self) -> f64 {
        FILLED * self.budget / self.demand
    }

    /// Times its demand that a budget raised by a factor of `most` at most has room for.
    fn fits_raised(self, most: f64) -> f64 {
        let allowed = (self.spend + self.unspent.max(0.0)) / self.demand;
        allowed.min(most * self.fits())
    }

    /// The budget for so many times its demand, where the present one is too small.
    fn for_demand(self, times: f64, most: f64) -> Option<f64> {
        let needed = (self.demand * times / ROOMY).min(most * self.budget);
        (times > self.fits()).then_some(needed)
    }
}

/// A step down.
#[derive(Clone, Debug)]
pub struct Lower {
    /// What to set.
    pub step: Proposal,
    /// Whether it is asked for by what its last conversions cost and not by the mean one: then results that came since the
    /// step before have no say.
    pub waste: bool,
}

/// Why less should be paid.
struct Why {
    reason: String,
    waste: bool,
}

/// A campaign whose bid might be another.
pub struct Bidder<'a> {
    settings: &'a Settings,
    entry: &'a Entry,
    judged: &'a Judged,
    /// Where its bid is set, if its channel is connected.
    spot: Option<Spot>,
    elasticity: Elasticity,
    /// What a click costs with the present bid, which some of the days did not have yet.
    paid: Price,
    /// What one may cost.
    may: Affordable,
    /// What a conversion may cost.
    target: Price,
    /// Days differ by more than chance: so many times as much.
    dispersion: f64,
}

impl<'a> Bidder<'a> {
    /// A campaign whose clicks and conversions tell what they cost and may cost.
    pub fn of(
        settings: &'a Settings,
        volumes: &Volumes,
        entry: &'a Entry,
        judged: &'a Judged,
    ) -> Option<Self> {
        let id = entry.campaign.id;
        Some(Self {
            settings,
            entry,
            judged,
            spot: settings.spot(Subject::Campaign(id)),
            elasticity: volumes.get(id),
            paid: volumes.paid(id, judged)?,
            may: judged.diagnosis.affordable?,
            target: judged.diagnosis.target_cpa?,
            dispersion: entry.rules(judged.target, judged.window).dispersion,
        })
    }

    /// What a conversion costs, over what it may.
    pub fn cost(&self) -> f64 {
        self.judged.tally.cpa().map_or(f64::INFINITY, |cpa| cpa / self.target)
    }

    /// Whether it is on target, and surely enough its next conversion would be where so much is spent.
    pub fn affords(&self, money: &Spender, spend: f64) -> bool {
        self.is(Verdict::OnTarget)
            && money.next_meets(spend, |costs| self.meets(costs)) >= SURE_OF_NEXT
    }

    /// A higher bid where it is on target and its bid keeps it from more, as far as one more conversion would surely enough
    /// still meet the target; where a strategy learns, or conversions are few, a step that restarts nothing. Its budget is
    /// raised with it where `purse` allows that and it would end the days early; without one the bid goes no further than
    /// the budget has room for.
    pub fn higher(&self, purse: Option<Purse>) -> Option<Proposal> {
        let uses = self.entry.budget_use(self.judged.window);
        let held = purse.is_none() && self.judged.diagnosis.limited_by == LimitedBy::Budget;
        let for_its_bid = uses.loses_for_its_bid(self.judged.tally.cpc());
        if !self.is(Verdict::OnTarget) || held || !for_its_bid || !self.held_by_its_bid() {
            return None;
        }
        let meets = |costs: f64| self.meets(costs);
        let most = if self.by_step()? { 1.0 + STEP } else { DOUBLED };
        let sure = if self.few() { SURE_OF_FEW } else { SURE_OF_NEXT };
        let highest = self.elasticity.highest_bid(most, sure, meets)?;
        let room = match purse {
            Some(purse) => purse.fits_raised(most),
            None => FILLED / uses.used?,
        };
        // Dearer than its budget has room for, it would only end its days early.
        let fits = self.elasticity.bid_that_spends(room.max(1.0));
        let times = highest.min(self.may.cautious / self.paid).min(fits);
        if times < LEAST_RAISE {
            return None;
        }
        let mut then = self.at(times);
        let demanded = then.spend.mid / self.spend();
        let budget = purse.and_then(|p| Some((p, p.for_demand(demanded, most)?)));
        if let Some((purse, _)) = budget {
            // The days that its budget ended so far will last too.
            then = then.lasting(purse.demand / purse.spend);
        }
        let reason = format!(
            "It is on target, its bid keeps it from more, and at the higher bid the next conversion would still meet the target (probability {}): a click costs it {} where {} is affordable.",
            probability(self.elasticity.next_meets(times, meets)),
            money(self.paid),
            money(self.may.cautious)
        );
        let effect = self.instead(then.conversions.around);
        let mut proposal = self.proposal(&then, reason, effect)?;
        if let Some((purse, budget)) = budget {
            let unspent = sum(purse.unspent);
            proposal.reason.extend([
                " Its daily budget is raised with it, or the days would end early; the account’s budgets leave ",
                &unspent,
                " a day unspent.",
            ]);
            proposal.along.push(with_room(proposal.subject, budget));
        }
        Some(proposal)
    }

    /// A lower bid where it is on target and its budget ends its days early: the same money lasts longer, and each click
    /// costs less of it. Never so low that the money would be left unspent, as far as that is known.
    pub fn lasting(&self) -> Option<Proposal> {
        let by_budget = self.judged.diagnosis.limited_by == LimitedBy::Budget;
        let lost = lost_to_budget(self.entry, self.judged.window)?.get();
        let times = self.elasticity.bid_that_spends(1.0 - lost).max(1.0 - STEP);
        let cpc = self.elasticity.cpc(times);
        let Interval { low, high } = cpc.around;
        let gain = Interval { low: 1.0 / high, high: 1.0 / low.max(f64::MIN_POSITIVE) };
        if !self.is(Verdict::OnTarget) || !by_budget || lost < LEAST_LOST || gain.low < LEAST_GAIN {
            return None;
        }
        let now = self.judged.tally.conversions;
        let reason = format!(
            "It is on target, and its budget ends its days early: {}% of its auctions are lost to that. At a lower bid the same money lasts longer, and a click costs less of it.",
            percent(lost)
        );
        let more = Interval { low: now * gain.low, high: now * gain.high };
        let effect = format!("{}, for the same money", self.instead(more));
        let mut proposal = self.proposal(&self.at(times), reason, effect)?;
        let a_day = now * (1.0 / cpc.mid - 1.0) / self.days();
        proposal.adds = Adds::of(0.0, a_day, self.judged.tally.aov());
        Some(proposal)
    }

    /// A lower bid where the last conversions that its bid buys cost more than they may, though the mean one may not: one
    /// step, that restarts nothing.
    pub fn less_dear(&self) -> Option<Lower> {
        let meets = |costs: f64| self.elasticity.next_meets(1.0, |next| self.meets(next * costs));
        let why = self.too_dear("bid", meets)?;
        let then = self.at(1.0 - STEP);
        let effect = self.for_less(then.conversions.around, self.spend() - then.spend.mid);
        Some(Lower { step: self.proposal(&then, why.reason, effect)?, waste: why.waste })
    }

    /// A smaller budget where that is what decides on its bids, one step as well: where the same holds of the last
    /// conversions that its budget buys, or it is surely over its target.
    pub fn less_money(&self, money: &Spender) -> Option<Lower> {
        let budget = money.bids_by_budget()?;
        let meets = |costs: f64| money.next_meets(money.spend, |next| self.meets(next * costs));
        let over = || {
            let reason = wording::headline(&self.judged.diagnosis).to_string();
            asks_for_less(self.judged).then_some(Why { reason, waste: false })
        };
        let why = self.too_dear("budget", meets).or_else(over)?;
        let reason = format!(
            "{} Its strategy spends any budget it is given; with less, it buys only what costs less.",
            why.reason
        );
        let then = money.spend * (1.0 - STEP);
        let now = self.judged.tally.conversions;
        let of = &money.budget_response;
        let times = of.precision.times(of.response, money.spend, then, LIKELY);
        let conversions = Interval { low: now * times.low, high: now * times.high };
        let saved = money.spend - then;
        let effect = self.for_less(conversions, saved * self.days());
        let fewer = now * (1.0 - of.response.at(then) / of.response.at(money.spend));
        let adds = Adds::of(-saved, -fewer / self.days(), self.judged.tally.aov());
        let set = Setting::Budget(Budget::Daily { amount: coins(budget * (1.0 - STEP)) });
        Some(Lower { step: self.offers(set, reason, effect, adds), waste: why.waste })
    }

    /// Why less should be paid, though the mean conversion is not surely too dear: the last ones that are bought surely
    /// are, where it is more likely over its target than not, or they are waste. `meets` is the probability that the last
    /// one would meet the target if it cost so many times as much as it does. Of conversions that are enough to say so.
    fn too_dear(&self, what: &str, meets: impl Fn(f64) -> f64) -> Option<Why> {
        let early = self.judged.diagnosis.early;
        let either = matches!(early, Some(Early::Undecided { .. } | Early::AboutOnTarget { .. }));
        if !(either || self.is(Verdict::OnTarget)) || self.few() {
            return None;
        }
        let over = 1.0 - self.meets(1.0);
        let last = |times: f64| 1.0 - meets(1.0 / times);
        let waste = last(WASTE) >= SURE_OF_LAST;
        let stands = if either {
            format!(
                "It may be over its target or not (probability {} that it is)",
                probability(over)
            )
        } else {
            "It is on target".into()
        };
        let (but, more, last) = match (waste, over >= 0.5 && last(1.0) >= SURE_OF_LAST) {
            (true, _) => ("but", "more than twice what", last(WASTE)),
            (false, true) => ("and", "more than", last(1.0)),
            (false, false) => return None,
        };
        let reason = format!(
            "{stands}, {but} the last conversions that its {what} buys cost {more} they may (probability {}).",
            probability(last)
        );
        Some(Why { reason, waste })
    }

    /// `32 to 40 conversions instead of 44 in 28 days, for 12 a day less`.
    fn for_less(&self, then: Interval, saved: f64) -> String {
        format!("{}, for {} a day less", self.instead(then), sum(saved / self.days()))
    }

    fn is(&self, verdict: Verdict) -> bool {
        self.judged.diagnosis.verdict == verdict
    }

    fn days(&self) -> f64 {
        self.judged.window.days() as f64
    }

    /// What its clicks would have cost with the present bid.
    fn spend(&self) -> f64 {
        self.judged.tally.clicks as f64 * self.paid.units()
    }

    /// The probability that a conversion meets the target if it costs so many times the mean one, which is known by as
    /// many as came, and no better.
    fn meets(&self, costs: f64) -> f64 {
        let (spend, conversions) = (self.spend(), self.judged.tally.conversions);
        match self.target / costs {
            Price(none) if none <= 0.0 => 0.0,
            cpa => 1.0 - over_target(spend / self.dispersion, conversions / self.dispersion, cpa),
        }
    }

    /// Whether its conversions, dispersion taken out, are few: then a bid is not lowered that may be on target, and raised only
    /// where it is surer.
    fn few(&self) -> bool {
        self.judged.tally.conversions / self.dispersion < FEW
    }

    /// Whether what a click costs is held by what stands for its bid: a highest bid far above it holds nothing.
    fn held_by_its_bid(&self) -> bool {
        let set = self.settings.campaign(self.entry.campaign.id);
        let highest = set.filter(|c| c.strategy.spends_any_budget()).and_then(|c| c.bid_ceiling);
        highest.is_none_or(|highest| holds(highest.to_units(), self.paid))
    }

    /// Whether its bid is raised by a step at most: its strategy learns, or its conversions are not enough for more.
    fn by_step(&self) -> Option<bool> {
        let learns = self.settings.campaign(self.entry.campaign.id)?.strategy.automatic();
        Some(learns || self.judged.tally.conversions / self.dispersion < ENOUGH)
    }

    /// What it would have at so many times its bid.
    fn at(&self, times: f64) -> AtBid {
        let t = &self.judged.tally;
        at_bid(&self.elasticity, t.clicks as f64, self.spend(), t.conversions, times)
    }

    /// `32 to 62 conversions instead of 24 in 28 days`.
    fn instead(&self, then: Interval) -> String {
        format!(
            "{} to {} conversions instead of {} in {}",
            count(then.low.round()),
            count(then.high.round()),
            count(self.judged.tally.conversions),
            counted(self.judged.window.days(), "day", "days")
        )
    }

    fn proposal(&self, then: &AtBid, reason: String, effect: String) -> Option<Proposal> {
        let set = bid_times(self.settings, self.spot?, then.times, Some(self.paid))?;
        let more = then.conversions.mid - self.judged.tally.conversions;
        let spend = (then.spend.mid - self.spend()) / self.days();
        let adds = Adds::of(spend, more / self.days(), self.judged.tally.aov());
        Some(self.offers(set, reason, effect, adds))
    }

    fn offers(&self, set: Setting, reason: String, effect: String, adds: Adds) -> Proposal {
        let subject = Subject::Campaign(self.entry.campaign.id);
        let proposal = Proposal::new(subject, set, Origin::Bids, reason).expecting(effect, adds);
        Proposal { evidence: evidence(self.judged), ..proposal }
    }
}

/// What another bid is for, in a few words after the campaign's name.
pub fn in_short(p: &Proposal) -> &'static str {
    match p.adds.spend {
        Some(more) if more > 0.0 => "could take a higher bid",
        Some(less) if less < 0.0 => "pays too much for its last conversions",
        _ => "would get more for its money at a lower bid",
    }
}

/// Whether a verdict asks for less to be paid.
pub fn asks_for_less(j: &Judged) -> bool {
    matches!(j.diagnosis.verdict, Verdict::Bid | Verdict::OrderValue | Verdict::Both)
}

/// The budget that a higher bid needs; what it adds is said of the bid.
fn with_room(subject: Subject, budget: f64) -> Proposal {
    let set = Setting::Budget(Budget::Daily { amount: coins(budget) });
    let reason = "The higher bid that goes with it would end the days early otherwise.";
    Proposal::new(subject, set, Origin::Bids, reason)
        .expecting("room for the higher bid", Adds::of(0.0, 0.0, None))
}

/// Share of its auctions that a campaign lost to its budget in a window, where its channel tells.
pub fn lost_to_budget(entry: &Entry, window: Window) -> Option<Share> {
    let days = entry.days.iter().filter(|day| window.contains(day.day));
    Share::mean(days.filter_map(|day| day.lost_to_budget))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn purse(spend: f64, demand: f64, budget: f64, unspent: f64) -> Purse {
        Purse { spend, demand, budget, unspent }
    }

    #[test]
    fn a_purse_holds_its_own_budget_and_what_all_leave_unspent() {
        // 60 of 100 are spent, and 40 are left in the account: room for 95, two thirds more than it wants.
        let own = purse(60.0, 60.0, 100.0, 40.0);
        assert!((own.fits_raised(1.0) - 95.0 / 60.0).abs() < 1e-9);
        assert_eq!(own.for_demand(1.5, 2.0), None, "90 fit");
        assert_eq!(own.for_demand(1.6, 2.0), Some(96.0 / ROOMY));
        // What others were promised is not there for it, though its own budget has room.
        assert!((purse(60.0, 60.0, 100.0, 6.0).fits_raised(2.0) - 1.1).abs() < 1e-9);
        // It wants 150 and gets 100: with 50 in the account its days would be full.
        assert!(purse(100.0, 150.0, 100.0, 50.0).fills_its_days());
        assert!(!purse(100.0, 150.0, 100.0, 49.0).fills_its_days());
        // No budget is raised beyond double.
        assert_eq!(purse(100.0, 150.0, 100.0, 900.0).for_demand(3.0, 2.0), Some(200.0));
    }
}
