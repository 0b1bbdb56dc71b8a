//! The verdict: is a campaign, an ad group or an item over target, how sure is that, and is it the
//! bid or the traffic? Rules in order; each answer carries the numbers it rests on.

use chrono::{Days, NaiveDate};

use crate::affordable::{Affordable, affordable, halfway_bid};
use crate::bridge::{Bridge, bridge};
use crate::evidence::{Prior, Standing, prior_from_peers, proportion_below_peers, rate_below};
use crate::look_back::due_days;
use crate::metrics::Tally;
use crate::target::Target;
use crate::tracking::Finding;

/// Spend below this many targets is too little to judge.
pub const LEAST_TARGETS: f64 = 3.0;
/// Settled days below this are too few to judge.
pub const LEAST_DAYS: u64 = 3;
/// P(CPA > target) at which the answer is certain enough; 1 − this is certain the other way.
pub const SURE: f64 = 0.9;
/// 1.2816 = the standard normal quantile of `SURE`.
const SURE_Z: f64 = 1.281_551_565_544_6;

/// What a verdict is about.
#[derive(Clone, Debug)]
pub struct Case<'a> {
    /// Its settled days in the window, summed.
    pub tally: Tally,
    /// How many of the window's days are settled and reported.
    pub settled_days: u64,
    /// What a result may cost.
    pub target: Target,
    /// Its peers over the same days, one tally each, itself left out.
    pub peers: &'a [Tally],
    /// First day, where the launch falls into the reported history.
    pub launched: Option<NaiveDate>,
    /// Its last change: the first day in force, and the first day on which it can be judged.
    pub changed: Option<(NaiveDate, NaiveDate)>,
    /// Last reported day.
    pub last_day: NaiveDate,
    /// Days until a day is settled.
    pub settle_days: u64,
    /// Tracking findings that touch it.
    pub findings: &'a [Finding],
    /// What holds its volume.
    pub hold: Hold,
}

/// What is known of a campaign's budget and bid over the window.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Hold {
    /// Days whose budget is known.
    pub days: u32,
    /// Of them, days that spent at least 95% of it.
    pub full_days: u32,
    /// Spend ÷ budget over those days.
    pub used: Option<f64>,
    /// The present bid or bid ceiling, in units of currency.
    pub ceiling: Option<f64>,
    /// Share of the auctions that went to others for want of bid, where the channel tells it.
    pub lost_to_bid: Option<f64>,
}

/// Share of the auctions lost for want of bid from which on the bid is what holds the volume.
const LOST: f64 = 0.2;

/// What holds a campaign's volume.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HeldBy {
    /// Spend reaches 95% of the budget on at least half of the days.
    Budget,
    /// Under 80% of the budget is spent, and auctions are lost for want of bid; where the channel does not
    /// tell that, the CPC stands at the bid.
    Bid,
    /// Neither.
    Neither,
    /// The reports tell no budget.
    Unknown,
}

impl Hold {
    /// Which of them holds it, where a click costs `cpc`.
    pub fn held_by(&self, cpc: Option<f64>) -> HeldBy {
        let at_ceiling = || matches!((cpc, self.ceiling), (Some(c), Some(b)) if c >= 0.95 * b);
        match self.used {
            None => HeldBy::Unknown,
            Some(_) if 2 * self.full_days >= self.days => HeldBy::Budget,
            Some(used) if used < 0.8 && self.lost_to_bid.map_or_else(at_ceiling, |l| l >= LOST) => {
                HeldBy::Bid
            }
            Some(_) => HeldBy::Neither,
        }
    }
}

/// What the diagnosis concludes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Verdict {
    /// It pays too much for a click.
    Bid,
    /// It reaches the wrong people, or shows them the wrong thing.
    Traffic,
    /// Both.
    Both,
    /// The conversions can't be trusted.
    Measurement,
    /// Not enough evidence yet.
    TooEarly,
    /// No more than the target, surely enough.
    OnTarget,
}

impl Verdict {
    /// The word used in files and addresses.
    pub fn word(self) -> &'static str {
        match self {
            Self::Bid => "bid",
            Self::Traffic => "traffic",
            Self::Both => "both",
            Self::Measurement => "measurement",
            Self::TooEarly => "too_early",
            Self::OnTarget => "on_target",
        }
    }
}

/// Why it is too early, and when it won't be.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Early {
    /// Launched too recently; judged from `due` on.
    Launched {
        /// First day.
        on: NaiveDate,
        /// First day on which a verdict is due.
        due: NaiveDate,
    },
    /// Changed too recently; judged from `due` on.
    Changed {
        /// First day on which the change is in force.
        on: NaiveDate,
        /// First day on which it can be judged.
        due: NaiveDate,
    },
    /// Less than three targets spent.
    LittleSpend {
        /// Spend from which a verdict is due.
        needed: f64,
        /// Days until then at the present rate.
        days: Option<u64>,
    },
    /// Fewer than three settled days.
    Unsettled {
        /// How many there are.
        days: u64,
    },
    /// The CPA may be on either side of the target.
    Undecided {
        /// Conversions still needed for certainty if the CPA stays as it is.
        more_conversions: Option<f64>,
        /// Days until then at the present rate.
        days: Option<u64>,
    },
}

/// The answer, with the numbers it rests on. Money in units of currency.
#[derive(Clone, Debug, PartialEq)]
pub struct Diagnosis {
    /// The conclusion.
    pub verdict: Verdict,
    /// The verdict follows the larger part of the bridge, not a clear comparison.
    pub leans: bool,
    /// Set if too early.
    pub early: Option<Early>,
    /// Money above target.
    pub excess: f64,
    /// The target as a cost per conversion.
    pub target_cpa: Option<f64>,
    /// P(true CPA > target); absent where nothing tells what a conversion is worth.
    pub p_over: Option<f64>,
    /// All peers together.
    pub peers: Tally,
    /// CVR against the peers'.
    pub cvr: Option<Standing>,
    /// CTR against the peers'.
    pub ctr: Option<Standing>,
    /// What a click may cost at its own CVR.
    pub affordable: Option<Affordable>,
    /// What a click may cost at the better of its own and the peers' CVR.
    pub affordable_at_best: Option<f64>,
    /// Midpoint between the cautious affordable CPC and the CPC paid, where the CPC is above.
    pub halfway_bid: Option<f64>,
    /// From the peers' CPA to its own.
    pub bridge: Option<Bridge>,
    /// What holds its volume.
    pub held_by: HeldBy,
}

/// Judges one case.
pub fn diagnose(case: &Case) -> Diagnosis {
    let t = &case.tally;
    let peers: Tally = case.peers.iter().copied().sum();
    let target_cpa = case.target.as_cpa(worth_of_a_conversion(t, &peers));
    let p_over = target_cpa.map(|cpa| probability_over(t, case.peers, cpa));
    let cvr = standing(t.conversions, t.clicks, case.peers, |p| (p.conversions, p.clicks));
    let ctr =
        standing(t.clicks as f64, t.impressions, case.peers, |p| (p.clicks as f64, p.impressions));
    let afford = |rate: Option<f64>| affordable(target_cpa?, rate?);
    let own = afford(t.cvr());
    let best = afford(t.cvr().into_iter().chain(peers.cvr()).reduce(f64::max)).map(|a| a.cpc);
    let bridge = bridge(t, &peers);
    let early = too_early(case, target_cpa, p_over);
    let (verdict, leans) = if case.findings.is_empty() {
        match (early, p_over) {
            (Some(_), _) | (_, None) => (Verdict::TooEarly, false),
            (None, Some(p)) if p <= 1.0 - SURE => (Verdict::OnTarget, false),
            (None, Some(_)) => at_fault(t, cvr, best, bridge),
        }
    } else {
        (Verdict::Measurement, false)
    };
    Diagnosis {
        verdict,
        leans,
        early: early.filter(|_| verdict == Verdict::TooEarly),
        excess: case.target.excess(t),
        target_cpa,
        p_over,
        peers,
        cvr,
        ctr,
        affordable: own,
        affordable_at_best: best,
        halfway_bid: own
            .zip(t.cpc())
            .filter(|(a, cpc)| a.cautious < *cpc)
            .map(|(a, cpc)| halfway_bid(a.cautious, cpc)),
        bridge,
        held_by: case.hold.held_by(t.cpc()),
    }
}

/// Value per conversion; few conversions are drawn toward the peers' with the weight of ten.
fn worth_of_a_conversion(t: &Tally, peers: &Tally) -> Option<f64> {
    const WEIGHT: f64 = 10.0;
    match (t.aov(), peers.aov()) {
        (Some(_), Some(theirs)) => {
            Some((t.value.to_units() + WEIGHT * theirs) / (t.conversions + WEIGHT))
        }
        (own, theirs) => own.or(theirs).filter(|worth| *worth > 0.0),
    }
}

/// P(CPA > target): Gamma posterior of conversions per unit of spend, prior from the peers; without
/// peers a prior of one conversion at the target.
fn probability_over(t: &Tally, peers: &[Tally], target_cpa: f64) -> f64 {
    let rates: Vec<_> = peers.iter().map(|p| (p.conversions, p.spend.to_units())).collect();
    let prior = prior_from_peers(&rates).unwrap_or(Prior { mean: 1.0 / target_cpa, strength: 1.0 });
    rate_below(t.conversions, t.spend.to_units(), prior, 1.0 / target_cpa)
}

fn standing(
    successes: f64,
    trials: i64,
    peers: &[Tally],
    rate: impl Fn(&Tally) -> (f64, i64),
) -> Option<Standing> {
    let rates: Vec<_> = peers.iter().map(rate).map(|(s, n)| (s, n as f64)).collect();
    let prior = prior_from_peers(&rates)?;
    (trials > 0).then(|| {
        Standing::from_probability(proportion_below_peers(successes, trials as f64, prior))
    })
}

fn too_early(case: &Case, target_cpa: Option<f64>, p_over: Option<f64>) -> Option<Early> {
    let spend = case.tally.spend.to_units();
    let per_day = spend / case.settled_days.max(1) as f64;
    let days_for = |money: f64| (per_day > 0.0).then(|| (money / per_day).ceil() as u64);
    if let Some(on) = case.launched {
        let due = on.checked_add_days(Days::new(due_days(case.settle_days))).unwrap_or(on);
        if due > case.last_day {
            return Some(Early::Launched { on, due });
        }
    }
    if let Some((on, due)) = case.changed.filter(|(_, due)| *due > case.last_day) {
        return Some(Early::Changed { on, due });
    }
    if case.settled_days < LEAST_DAYS {
        return Some(Early::Unsettled { days: case.settled_days });
    }
    let (target_cpa, p) = target_cpa.zip(p_over)?;
    let needed = LEAST_TARGETS * target_cpa;
    if spend < needed {
        return Some(Early::LittleSpend { needed, days: days_for(needed - spend) });
    }
    (p > 1.0 - SURE && p < SURE).then(|| {
        let more = conversions_for_certainty(&case.tally, target_cpa);
        let days = more.zip(case.tally.cpa()).and_then(|(m, cpa)| days_for(m * cpa));
        Early::Undecided { more_conversions: more, days }
    })
}

/// If the CPA stays at its ratio to the target, log(CPA) is known to 1 ÷ √conversions: certainty needs
/// (1.28 ÷ ln ratio)² conversions. Absent where none has been counted or the CPA is just the target.
fn conversions_for_certainty(t: &Tally, target_cpa: f64) -> Option<f64> {
    let log = (t.cpa()? / target_cpa).ln();
    let all = (SURE_Z / log).powi(2);
    all.is_finite().then(|| (all - t.conversions).max(1.0).ceil())
}

fn at_fault(
    t: &Tally,
    cvr: Option<Standing>,
    best: Option<f64>,
    bridge: Option<Bridge>,
) -> (Verdict, bool) {
    let bid = matches!((t.cpc(), best), (Some(cpc), Some(best)) if cpc > best);
    match (cvr, bid) {
        (Some(Standing::Lower), true) => (Verdict::Both, false),
        (Some(Standing::Lower), false) => (Verdict::Traffic, false),
        // Without peers there is nothing to compare the traffic with: the bid is what is left.
        (Some(Standing::AsGood) | None, true) => (Verdict::Bid, false),
        _ => match bridge {
            Some(b) if b.cpc > b.cvr => (Verdict::Bid, true),
            Some(_) => (Verdict::Traffic, true),
            None if t.conversions > 0.0 => (Verdict::Bid, true),
            None => (Verdict::Traffic, true),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::money::Micros;

    fn tally(impressions: i64, clicks: i64, cpc: f64, conversions: f64) -> Tally {
        Tally {
            impressions,
            clicks,
            spend: Micros::from_units(clicks as f64 * cpc),
            conversions,
            value: Micros::from_units(conversions * 80.0),
        }
    }

    fn peers() -> Vec<Tally> {
        vec![
            tally(20_000, 800, 6.0, 180.0),
            tally(22_000, 900, 6.4, 200.0),
            tally(21_000, 850, 6.2, 192.0),
        ]
    }

    fn day(d: u32) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, 11, d).unwrap()
    }

    fn case(tally: Tally, peers: &[Tally]) -> Case<'_> {
        Case {
            tally,
            settled_days: 28,
            target: Target::Cpa(30.0),
            peers,
            launched: None,
            changed: None,
            last_day: day(10),
            settle_days: 2,
            findings: &[],
            hold: Hold::default(),
        }
    }

    #[test]
    fn converts_as_well_and_pays_too_much() {
        let peers = peers();
        let d = diagnose(&case(tally(26_000, 1027, 11.3, 296.0), &peers));
        assert_eq!((d.verdict, d.leans), (Verdict::Bid, false));
        assert!(d.p_over.unwrap() > 0.99);
        let paid = 1027.0 * 11.3 - 30.0 * 296.0;
        assert!((d.excess - paid).abs() < 1e-6);
        assert!((d.affordable.unwrap().cautious - 7.5).abs() < 1e-9);
        assert!((d.halfway_bid.unwrap() - 9.4).abs() < 1e-9);
    }

    #[test]
    fn converts_badly_at_a_fair_price() {
        let peers = peers();
        let d = diagnose(&case(tally(90_000, 1000, 6.0, 60.0), &peers));
        assert_eq!(d.verdict, Verdict::Traffic);
        assert_eq!((d.cvr, d.ctr), (Some(Standing::Lower), Some(Standing::Lower)));
    }

    #[test]
    fn converts_badly_and_pays_too_much() {
        let peers = peers();
        assert_eq!(diagnose(&case(tally(26_000, 1000, 12.0, 60.0), &peers)).verdict, Verdict::Both);
    }

    #[test]
    fn under_target() {
        let peers = peers();
        assert_eq!(
            diagnose(&case(tally(26_000, 1000, 4.0, 250.0), &peers)).verdict,
            Verdict::OnTarget
        );
    }

    #[test]
    fn too_early_in_four_ways() {
        let peers = peers();
        let dear = tally(26_000, 1000, 12.0, 60.0);
        let young = Case { launched: Some(day(6)), ..case(dear, &peers) };
        assert_eq!(diagnose(&young).early, Some(Early::Launched { on: day(6), due: day(15) }));
        let unsettled = Case { settled_days: 2, ..case(dear, &peers) };
        assert_eq!(diagnose(&unsettled).early, Some(Early::Unsettled { days: 2 }));
        let thin = diagnose(&case(tally(500, 10, 5.0, 0.0), &peers));
        assert_eq!(thin.early, Some(Early::LittleSpend { needed: 90.0, days: Some(23) }));
        let level = diagnose(&case(tally(2600, 100, 6.0, 19.0), &peers));
        assert!(matches!(level.early, Some(Early::Undecided { .. })), "{level:?}");
        assert!([young, unsettled].iter().all(|c| diagnose(c).verdict == Verdict::TooEarly));
    }

    #[test]
    fn a_launch_is_judged_on_its_ninth_day_after() {
        let peers = peers();
        let changed = Case {
            changed: Some((day(2), day(11))),
            ..case(tally(26_000, 1000, 12.0, 60.0), &peers)
        };
        assert_eq!(diagnose(&changed).early, Some(Early::Changed { on: day(2), due: day(11) }));
        let judged = Case { last_day: day(11), ..changed };
        assert_ne!(diagnose(&judged).verdict, Verdict::TooEarly);
        let due = Case { launched: Some(day(1)), ..case(tally(26_000, 1000, 12.0, 60.0), &peers) };
        assert_eq!(diagnose(&due).verdict, Verdict::Both);
    }

    #[test]
    fn measurement_comes_first() {
        let peers = peers();
        let findings = [Finding::NoValues { conversions: 3.0 }];
        let d = diagnose(&Case {
            findings: &findings,
            launched: Some(day(6)),
            ..case(tally(9, 9, 9.0, 0.0), &peers)
        });
        assert_eq!((d.verdict, d.early), (Verdict::Measurement, None));
    }

    #[test]
    fn roas_is_judged_like_a_cost() {
        let peers = peers();
        let roas = Case {
            target: Target::Roas(80.0 / 30.0),
            ..case(tally(26_000, 1027, 11.3, 296.0), &peers)
        };
        let d = diagnose(&roas);
        assert_eq!(d.verdict, Verdict::Bid);
        assert!((d.target_cpa.unwrap() - 30.0).abs() < 1e-9);
    }

    #[test]
    fn a_lone_campaign_is_judged_without_peers() {
        let d = diagnose(&case(tally(26_000, 1027, 11.3, 296.0), &[]));
        assert_eq!((d.verdict, d.cvr, d.bridge), (Verdict::Bid, None, None));
        let none = diagnose(&case(tally(26_000, 1027, 1.3, 0.0), &[]));
        assert_eq!((none.verdict, none.leans), (Verdict::Traffic, true));
    }

    #[test]
    fn held_by_budget_or_bid() {
        let hold = |days, full_days, used, ceiling| Hold {
            days,
            full_days,
            used: Some(used),
            ceiling,
            lost_to_bid: None,
        };
        assert_eq!(hold(28, 14, 0.97, None).held_by(Some(1.0)), HeldBy::Budget);
        assert_eq!(hold(28, 13, 0.7, Some(1.0)).held_by(Some(0.96)), HeldBy::Bid);
        assert_eq!(hold(28, 0, 0.7, Some(2.0)).held_by(Some(0.96)), HeldBy::Neither);
        let told = |lost| Hold { lost_to_bid: Some(lost), ..hold(28, 0, 0.7, Some(2.0)) };
        assert_eq!(told(0.4).held_by(Some(0.96)), HeldBy::Bid);
        assert_eq!(told(0.05).held_by(Some(2.0)), HeldBy::Neither);
        assert_eq!(Hold::default().held_by(Some(0.96)), HeldBy::Unknown);
    }
}
