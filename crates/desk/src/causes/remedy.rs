//! Remedies: the change that does what an advice or a plan says, ready for the tray.

use tiller_core::affordable::halfway_bid;
use tiller_core::bid_volume::at_bid;
use tiller_core::evidence::{Interval, over_target};
use tiller_core::learning::STEP;
use tiller_core::setting::{Budget, PlacesMode, Setting};
use tiller_core::verdict::{LimitedBy, Verdict};
use tiller_core::{Price, Share, Target, Window};

use crate::account::settings::Settings;
use crate::book::{Entry, Judged};
use crate::causes;
use crate::numerals::{
    count, counted, money, number, or_absent, percent, probability, sum, target,
};
use crate::tray::proposal::{Adds, Origin, Proposal, bid_times, coins};
use crate::volume::Volumes;
use crate::wording::{self, TradeOff};
use tiller_core::spot::{Spot, Subject};

/// The change that a campaign's verdict asks for.
pub fn of_campaign(
    settings: &Settings,
    volumes: &Volumes,
    entry: &Entry,
    judged: &Judged,
) -> Option<Proposal> {
    let trade = causes::trade_off(judged, volumes, entry.campaign.id);
    of_verdict(settings, Subject::Campaign(entry.campaign.id), judged, trade)
}

/// Surely enough that the next conversion meets the target, for a bid to be raised.
const SURE_OF_NEXT: f64 = 0.8;
/// As much of its budget as a campaign may be led to spend by a higher bid.
const FILLED: f64 = 0.95;
/// As much of a budget that is raised with a bid is meant to be spent: what a bid does is not known so well.
const ROOMY: f64 = 0.8;
/// A raise below this share is not worth making.
const LEAST_RAISE: f64 = 1.05;
/// A bid by hand, and the budget raised with it, are doubled at most (common practice, no source).
const DOUBLED: f64 = 2.0;
/// With fewer conversions than this, dispersion taken out, a bid moves by one step at most: they are no evidence for more.
const LEAST_CONVERSIONS: f64 = 10.0;
/// How much higher bids are looked at: halfway there is less than double.
const LOOKED_AT: f64 = 3.0;

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
    /// Times its demand that its own budget has room for.
    fn fits(self) -> f64 {
        FILLED * self.budget / self.demand
    }

    /// Times its demand that a budget raised by a factor of `most` at most has room for.
    fn fits_raised(self, most: f64) -> f64 {
        let allowed = (self.spend + self.unspent.max(0.0)) / self.demand;
        allowed.min(most * self.fits()).max(self.fits())
    }

    /// The budget for so many times its demand, where the present one is too small.
    fn for_demand(self, times: f64, most: f64) -> Option<f64> {
        let needed = (self.demand * times / ROOMY).min(most * self.budget);
        (times > self.fits()).then_some(needed)
    }
}

/// A higher bid for a campaign on target that its bid keeps from more, as far as one more conversion would surely enough
/// still meet the target: halfway there where it is set by hand, and where a strategy learns, or conversions are
/// few, a step that restarts nothing. Its budget is raised with it where `purse` allows that and it would end the days early; without one the
/// bid goes no further than the budget has room for.
pub fn raise(
    settings: &Settings,
    volumes: &Volumes,
    entry: &Entry,
    judged: &Judged,
    purse: Option<Purse>,
) -> Option<Proposal> {
    let d = &judged.diagnosis;
    let uses = entry.budget_use(judged.window);
    let held = purse.is_none() && d.limited_by == LimitedBy::Budget;
    if d.verdict != Verdict::OnTarget || held || !uses.loses_for_its_bid(judged.tally.cpc()) {
        return None;
    }
    let subject = Subject::Campaign(entry.campaign.id);
    let spot = settings.spot(subject)?;
    // With the present bid, which some of the days did not have yet.
    let (paid, may) = volumes.paid(entry.campaign.id, judged).zip(d.affordable)?;
    let (target, clicks) = (d.target_cpa?, judged.tally.clicks as f64);
    let spend = clicks * paid.units();
    let elasticity = volumes.get(entry.campaign.id);
    // The mean cost is known by so many conversions, and no better.
    let phi = entry.rules(judged.target, judged.window).dispersion;
    let conversions = judged.tally.conversions;
    let meets = |costs: f64| match target / costs {
        Price(none) if none <= 0.0 => 0.0,
        cpa => 1.0 - over_target(spend / phi, conversions / phi, cpa),
    };
    let highest = elasticity.highest_bid(LOOKED_AT, SURE_OF_NEXT, meets)?;
    let learns = settings.campaign(spot.campaign)?.strategy.automatic();
    let by_step = learns || conversions / phi < LEAST_CONVERSIONS;
    let most = if by_step { 1.0 + STEP } else { DOUBLED };
    let step = if by_step {
        highest
    } else {
        elasticity.bid_for(halfway_bid(Price(elasticity.cpc(highest).mid), Price(1.0)).units())
    };
    let room = match purse {
        Some(purse) => purse.fits_raised(most),
        None => FILLED / uses.used?,
    };
    // Dearer than its budget has room for, it would only end its days early.
    let fits = elasticity.bid_that_spends(room.max(1.0));
    let times = step.min(most).min(may.cautious / paid).min(fits);
    if times < LEAST_RAISE {
        return None;
    }
    let set = bid_times(settings, spot, times)?;
    let days = judged.window.days() as f64;
    let then = at_bid(&elasticity, clicks, spend, conversions, times);
    let more = then.conversions.mid - conversions;
    let adds = Adds::of((then.spend.mid - spend) / days, more / days, judged.tally.aov());
    let reason = format!(
        "It is on target, its bid keeps it from more, and at the higher bid the next conversion would still meet the target (probability {}): a click costs it {} where {} is affordable.",
        probability(elasticity.next_meets(times, meets)),
        money(paid),
        money(may.cautious)
    );
    let around = then.conversions.around;
    let effect = format!(
        "{} to {} conversions instead of {} in {}",
        count(around.low.round()),
        count(around.high.round()),
        count(conversions),
        counted(judged.window.days(), "day", "days")
    );
    let mut proposal = Proposal::new(subject, set, Origin::Bids, reason).expecting(effect, adds);
    proposal.evidence = evidence(judged);
    let budget = purse.and_then(|p| Some((p, p.for_demand(then.spend.mid / spend, most)?)));
    if let Some((purse, budget)) = budget {
        let unspent = sum(purse.unspent);
        proposal.reason.extend([
            " Its daily budget is raised with it, or the days would end early; the account’s budgets leave ",
            &unspent,
            " a day unspent.",
        ]);
        proposal.along.push(with_room(subject, budget));
    }
    Some(proposal)
}

/// The budget that a higher bid needs; what it adds is said of the bid.
fn with_room(subject: Subject, budget: f64) -> Proposal {
    let set = Setting::Budget(Budget::Daily { amount: coins(budget) });
    let reason = "The higher bid that goes with it would end the days early otherwise.";
    Proposal::new(subject, set, Origin::Bids, reason)
        .expecting("room for the higher bid", Adds::of(0.0, 0.0, None))
}

/// A campaign that loses less than this share of its auctions to its budget has no days to fill.
const LEAST_LOST: f64 = 0.05;
/// As much more as the same money must buy at the least, for a bid to be lowered for it.
const LEAST_GAIN: f64 = 1.03;

/// Share of its auctions that a campaign lost to its budget in a window, where its channel tells.
pub fn lost_to_budget(entry: &Entry, window: Window) -> Option<Share> {
    let days = entry.days.iter().filter(|day| window.contains(day.day));
    Share::mean(days.filter_map(|day| day.lost_to_budget))
}

/// A lower bid for a campaign on target whose budget ends its days early: the same money lasts longer, and each click
/// costs less of it. Never so low that the money would be left unspent, as far as that is known.
pub fn last_longer(
    settings: &Settings,
    volumes: &Volumes,
    entry: &Entry,
    judged: &Judged,
) -> Option<Proposal> {
    let d = &judged.diagnosis;
    if d.verdict != Verdict::OnTarget || d.limited_by != LimitedBy::Budget {
        return None;
    }
    let lost = lost_to_budget(entry, judged.window)?.get();
    let elasticity = volumes.get(entry.campaign.id);
    let times = elasticity.bid_that_spends(1.0 - lost).max(1.0 - STEP);
    let Interval { low, high } = elasticity.cpc(times).around;
    let gain = Interval { low: 1.0 / high, high: 1.0 / low.max(f64::MIN_POSITIVE) };
    if lost < LEAST_LOST || gain.low < LEAST_GAIN {
        return None;
    }
    let subject = Subject::Campaign(entry.campaign.id);
    let set = bid_times(settings, settings.spot(subject)?, times)?;
    let now = judged.tally.conversions;
    let days = judged.window.days();
    let more = now * (1.0 / elasticity.cpc(times).mid - 1.0);
    let adds = Adds::of(0.0, more / days as f64, judged.tally.aov());
    let reason = format!(
        "It is on target, and its budget ends its days early: {}% of its auctions are lost to that. At a lower bid the same money lasts longer, and a click costs less of it.",
        percent(lost)
    );
    let effect = format!(
        "{} to {} conversions instead of {} in {}, for the same money",
        count((now * gain.low).round()),
        count((now * gain.high).round()),
        count(now),
        counted(days, "day", "days")
    );
    let mut proposal = Proposal::new(subject, set, Origin::Bids, reason).expecting(effect, adds);
    proposal.evidence = evidence(judged);
    Some(proposal)
}

/// The change that a verdict asks for; none where it asks for none, or none can be made there.
pub fn of_verdict(
    settings: &Settings,
    subject: Subject,
    judged: &Judged,
    trade: Option<TradeOff>,
) -> Option<Proposal> {
    let spot = settings.spot(subject)?;
    let d = &judged.diagnosis;
    let (set, effect) = match d.verdict {
        Verdict::Traffic => (only_in_its_places(settings, spot)?, cheaper_visitors(judged)),
        Verdict::Bid | Verdict::OrderValue | Verdict::Both => {
            let trade = trade?;
            let set = bid_times(settings, spot, trade.times)?;
            let fewer = format!(
                "{} and {} in {}",
                trade.cost(),
                trade.volume(),
                counted(judged.window.days(), "day", "days")
            );
            (set, fewer)
        }
        _ => return None,
    };
    let days = judged.window.days() as f64;
    let adds = match trade {
        // The middle of what is likely, at the new price.
        Some(t) if d.verdict != Verdict::Traffic => {
            let then = f64::midpoint(t.then.low, t.then.high);
            let spend = then * t.cpa.units() - judged.tally.spend.to_units();
            Adds::of(spend / days, (then - t.now) / days, judged.tally.aov())
        }
        _ => Adds::default(),
    };
    let reasons: Vec<String> =
        wording::reasons(judged).iter().take(2).map(ToString::to_string).collect();
    let reason = format!("{} {}", wording::headline(d), reasons.join(" "));
    let mut proposal = Proposal::new(subject, set, Origin::Causes, reason).expecting(effect, adds);
    proposal.evidence = evidence(judged);
    Some(proposal)
}

/// What a verdict rests on, as it stands.
fn evidence(j: &Judged) -> Vec<(String, String)> {
    let d = &j.diagnosis;
    let peers = &d.peers;
    [
        ("Settled days", format!("{} to {}", j.window.from(), j.window.to())),
        ("Spend", money(j.tally.spend.to_units())),
        ("Conversions", count(j.tally.conversions)),
        match j.target {
            Target::Cpa(_) => ("CPA", or_absent(j.tally.cpa(), money)),
            Target::Roas(_) => ("ROAS", or_absent(j.tally.roas(), |r| number(r, 2))),
        },
        ("CPC", or_absent(j.tally.cpc(), money)),
        ("CVR", or_absent(j.tally.cvr(), |x| percent(x) + "%")),
        ("Peers’ CVR", or_absent(peers.cvr(), |x| percent(x) + "%")),
        ("Affordable CPC", or_absent(d.affordable.map(|a| a.cautious), money)),
        ("Target", target(j.target)),
        (
            match j.target {
                Target::Cpa(_) => "Chance of being above target",
                Target::Roas(_) => "Chance of being below target",
            },
            or_absent(d.p_over, probability),
        ),
    ]
    .map(|(title, figure)| (title.to_owned(), figure))
    .into()
}

fn only_in_its_places(settings: &Settings, spot: Spot) -> Option<Setting> {
    let places = settings.campaign(spot.campaign)?.places.as_ref()?;
    (places.mode == PlacesMode::Interested && spot.ad_group.is_none())
        .then_some(Setting::Places(PlacesMode::In))
}

fn cheaper_visitors(j: &Judged) -> String {
    match j.tally.cpc().zip(j.diagnosis.peers.cvr()) {
        Some((cpc, cvr)) => format!(
            "fewer visitors who convert better; at its peers’ rate a conversion would cost {}",
            money(cpc / cvr)
        ),
        None => "fewer visitors who convert better".into(),
    }
}
