//! Other bids for campaigns that are not surely over their target: higher, as far as the next result would meet it; lower,
//! where the same money would last longer or the last results cost more than they may.

use tiller_core::affordable::{Affordable, halfway_bid};
use tiller_core::bid_volume::{AtBid, Elasticity, at_bid};
use tiller_core::evidence::{Interval, over_target};
use tiller_core::learning::STEP;
use tiller_core::setting::{Budget, Setting};
use tiller_core::spot::{Spot, Subject};
use tiller_core::verdict::{Early, LimitedBy, Verdict};
use tiller_core::{Price, Share, Window};

use crate::account::settings::Settings;
use crate::book::{Entry, Judged};
use crate::causes::remedy::evidence;
use crate::numerals::{count, counted, money, percent, probability, sum};
use crate::tray::proposal::{Adds, Origin, Proposal, bid_times, coins};
use crate::volume::Volumes;

/// Surely enough that the next conversion meets the target, for more to be spent.
const SURE_OF_NEXT: f64 = 0.8;
/// So sure it has to be that the last conversions cost too much, for a bid to be lowered where the mean one may not.
const SURE_OF_LAST: f64 = 0.9;
/// As much of its budget as a campaign may be led to spend by a higher bid.
const FILLED: f64 = 0.95;
/// As much of a budget that is raised with a bid is meant to be spent: what a bid does is not known so well.
const ROOMY: f64 = 0.8;
/// A raise below this share is not worth making.
const LEAST_RAISE: f64 = 1.05;
/// A bid by hand, and the budget raised with it, are doubled at most (common practice, no source).
const DOUBLED: f64 = 2.0;
/// With fewer conversions than this, dispersion taken out, a bid is raised by one step at most, and not lowered: they are no
/// evidence for more.
const LEAST_CONVERSIONS: f64 = 10.0;
/// How much higher bids are looked at: halfway there is less than double.
const LOOKED_AT: f64 = 3.0;
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

    /// Whether it is on target, and surely enough still would be if a conversion cost so many times as much.
    pub fn affords(&self, costs: f64) -> bool {
        self.is(Verdict::OnTarget) && self.meets(costs) >= SURE_OF_NEXT
    }

    /// A higher bid where it is on target and its bid keeps it from more, as far as one more conversion would surely enough
    /// still meet the target: halfway there where it is set by hand; where a strategy learns, or conversions are few, a
    /// step that restarts nothing. Its budget is raised with it where `purse` allows that and it would end the days
    /// early; without one the bid goes no further than the budget has room for.
    pub fn higher(&self, purse: Option<Purse>) -> Option<Proposal> {
        let uses = self.entry.budget_use(self.judged.window);
        let held = purse.is_none() && self.judged.diagnosis.limited_by == LimitedBy::Budget;
        let for_its_bid = uses.loses_for_its_bid(self.judged.tally.cpc());
        if !self.is(Verdict::OnTarget) || held || !for_its_bid {
            return None;
        }
        let meets = |costs: f64| self.meets(costs);
        let highest = self.elasticity.highest_bid(LOOKED_AT, SURE_OF_NEXT, meets)?;
        let by_step = self.by_step()?;
        let most = if by_step { 1.0 + STEP } else { DOUBLED };
        let step = if by_step { highest } else { self.halfway_to(highest) };
        let room = match purse {
            Some(purse) => purse.fits_raised(most),
            None => FILLED / uses.used?,
        };
        // Dearer than its budget has room for, it would only end its days early.
        let fits = self.elasticity.bid_that_spends(room.max(1.0));
        let times = step.min(most).min(self.may.cautious / self.paid).min(fits);
        if times < LEAST_RAISE {
            return None;
        }
        let then = self.at(times);
        let reason = format!(
            "It is on target, its bid keeps it from more, and at the higher bid the next conversion would still meet the target (probability {}): a click costs it {} where {} is affordable.",
            probability(self.elasticity.next_meets(times, meets)),
            money(self.paid),
            money(self.may.cautious)
        );
        let effect = self.instead(then.conversions.around);
        let mut proposal = self.proposal(&then, reason, effect)?;
        let budget =
            purse.and_then(|p| Some((p, p.for_demand(then.spend.mid / self.spend(), most)?)));
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

    /// A lower bid where it is more likely over its target than not, though not surely, and the last conversions that its
    /// bid buys surely are: one step, that restarts nothing.
    pub fn less_dear(&self) -> Option<Proposal> {
        let early = self.judged.diagnosis.early;
        let either = matches!(early, Some(Early::Undecided { .. } | Early::AboutOnTarget { .. }));
        let over = 1.0 - self.meets(1.0);
        let last = 1.0 - self.elasticity.next_meets(1.0, |costs| self.meets(costs));
        if !either || self.few() || over < 0.5 || last < SURE_OF_LAST {
            return None;
        }
        let then = self.at(1.0 - STEP);
        let reason = format!(
            "It may be over its target or not (probability {} that it is), and the last conversions that its bid buys cost more than they may (probability {}).",
            probability(over),
            probability(last)
        );
        let saved = sum((self.spend() - then.spend.mid) / self.days());
        let fewer = self.instead(then.conversions.around);
        self.proposal(&then, reason, format!("{fewer}, for {saved} a day less"))
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

    fn few(&self) -> bool {
        self.judged.tally.conversions / self.dispersion < LEAST_CONVERSIONS
    }

    /// Whether its bid moves by a step at most: its strategy learns, or its conversions are few.
    fn by_step(&self) -> Option<bool> {
        let learns = self.settings.campaign(self.entry.campaign.id)?.strategy.automatic();
        Some(learns || self.few())
    }

    /// Times its bid that are halfway to so many, in what a click costs.
    fn halfway_to(&self, times: f64) -> f64 {
        let cpc = halfway_bid(Price(self.elasticity.cpc(times).mid), Price(1.0));
        self.elasticity.bid_for(cpc.units())
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
        let subject = Subject::Campaign(self.entry.campaign.id);
        let set = bid_times(self.settings, self.spot?, then.times)?;
        let more = then.conversions.mid - self.judged.tally.conversions;
        let spend = (then.spend.mid - self.spend()) / self.days();
        let adds = Adds::of(spend, more / self.days(), self.judged.tally.aov());
        let proposal = Proposal::new(subject, set, Origin::Bids, reason).expecting(effect, adds);
        Some(Proposal { evidence: evidence(self.judged), ..proposal })
    }
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
