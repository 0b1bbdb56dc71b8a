//! The verdict: is a campaign, an ad group or an item over target, how sure is that, and is it the
//! bid, the traffic or the value of its orders? Rules in order; each answer carries the numbers it rests on.
//!
//! Law: `on_target` never has excess, a fault always has it.
//!
//! ```
//! use tiller_core::verdict::{BudgetUse, Case, Verdict, diagnose};
//! use tiller_core::{Micros, Price, Tally, Target};
//! let counted = |clicks: i64, spend, conversions| Tally {
//!     clicks,
//!     spend: Micros::from_units(spend),
//!     conversions,
//!     ..Tally::default()
//! };
//! // It converts as its peers do, and pays twice as much for a click: the bid.
//! let peers = [counted(4000, 4000.0, 200.0), counted(5000, 5000.0, 250.0)];
//! let case = Case {
//!     tally: counted(1000, 2000.0, 50.0),
//!     settled_days: 28,
//!     target: Target::Cpa(Price(25.0)),
//!     least_difference: 0.05,
//!     peers: &peers,
//!     orders: None,
//!     launched: None,
//!     shocked: None,
//!     last_day: chrono::NaiveDate::default(),
//!     settle_days: 2,
//!     findings: &[],
//!     budget_use: BudgetUse::default(),
//!     dispersion: 1.0,
//!     to_come_error: 0.0,
//! };
//! let found = diagnose(&case);
//! assert_eq!((found.verdict, found.excess), (Verdict::Bid, 750.0));
//! ```

use crate::Price;
use chrono::NaiveDate;

use crate::affordable::{Affordable, affordable, halfway_bid};
use crate::bridge::{Bridge, bridge, bridge_of_returns};
use crate::evidence::order_values::Orders;
use crate::evidence::{Standing, over_target};
use crate::metrics::Tally;
use crate::target::Target;
use crate::tracking::Finding;

mod early;
mod fault;
mod limited;

pub use early::{Early, in_reach};
pub use fault::{Faults, Lean};
pub use limited::{BudgetUse, LimitedBy};

/// Spend below this many targets is too little to judge.
pub const LEAST_TARGETS: f64 = 3.0;
/// Settled days below this are too few to judge.
pub const LEAST_DAYS: u64 = 3;
/// P(CPA > target) at which the answer is certain enough; 1 − this is certain the other way.
pub const SURE: f64 = 0.9;
/// A cost above target by less than this share is a difference that nobody would act on.
pub const LEAST_DIFFERENCE: f64 = 0.05;

/// What a verdict is about.
#[derive(Clone, Debug)]
pub struct Case<'a> {
    /// Its settled days in the window, summed; what is still to come of them is counted by estimate.
    pub tally: Tally,
    /// How many of the window's days are settled and reported.
    pub settled_days: u64,
    /// What a result may cost.
    pub target: Target,
    /// The least difference from the target that anybody would act on, as a share.
    pub least_difference: f64,
    /// Its peers over the same days, one tally each, itself left out.
    pub peers: &'a [Tally],
    /// Its orders and its peers', where values are tracked.
    pub orders: Option<(Orders, Orders)>,
    /// First day, where the launch falls into the reported history.
    pub launched: Option<NaiveDate>,
    /// Its last change that was a shock to what is judged: the first day in force, and the first day on which
    /// it can be judged.
    pub shocked: Option<(NaiveDate, NaiveDate)>,
    /// Last reported day.
    pub last_day: NaiveDate,
    /// Days until a day is settled.
    pub settle_days: u64,
    /// Tracking findings that touch it.
    pub findings: &'a [Finding],
    /// What limits its volume.
    pub budget_use: BudgetUse,
    /// How much more its days differ than chance alone lets them, what lasts included.
    pub dispersion: f64,
    /// Standard error of the conversions in its tally that are still to come by estimate.
    pub to_come_error: f64,
}

impl Case<'_> {
    /// How much more so many results vary than chance alone lets them, the error of those still to come included.
    fn variance_times(&self, results: f64) -> f64 {
        self.dispersion + self.to_come_error.powi(2) / results.max(1.0)
    }
}

/// What the diagnosis concludes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Verdict {
    /// It pays too much for a click.
    Bid,
    /// It reaches the wrong people, or shows them the wrong thing.
    Traffic,
    /// Its orders are worth less than its peers'.
    OrderValue,
    /// Several of these.
    Both,
    /// The conversions can't be trusted.
    Measurement,
    /// Not enough evidence yet.
    TooEarly,
    /// No more than the target, surely enough.
    OnTarget,
}

crate::words!(Verdict: Bid "bid", Traffic "traffic", OrderValue "order_value", Both "both", Measurement "measurement",
    TooEarly "too_early", OnTarget "on_target");

/// The answer, with the numbers it rests on. Money in units of currency.
#[derive(Clone, Debug, PartialEq)]
pub struct Diagnosis {
    /// The conclusion.
    pub verdict: Verdict,
    /// What is at fault, where it is over its target.
    pub faults: Faults,
    /// Why the verdict only leans, where no clear comparison bears it.
    pub leans: Option<Lean>,
    /// Set if too early.
    pub early: Option<Early>,
    /// Money above target.
    pub excess: f64,
    /// The target as a cost per conversion.
    pub target_cpa: Option<Price>,
    /// P(true CPA > target); absent where nothing tells what a conversion is worth.
    pub p_over: Option<f64>,
    /// How much more its results vary than chance alone lets them, the error of those still to come included.
    pub phi: f64,
    /// All peers together.
    pub peers: Tally,
    /// CVR against the peers'.
    pub cvr: Option<Standing>,
    /// CTR against the peers'.
    pub ctr: Option<Standing>,
    /// Order value against the peers'; absent where results are not told by their value.
    pub aov: Option<Standing>,
    /// What a click may cost at its own CVR.
    pub affordable: Option<Affordable>,
    /// What a click may cost at the better of its own and the peers' CVR, and at their order value where its
    /// own is at fault.
    pub affordable_at_best: Option<Price>,
    /// Midpoint between the cautious affordable CPC and the CPC paid, where the CPC is above.
    pub halfway_bid: Option<Price>,
    /// From the peers' CPA to its own; of the ACoS for a ROAS target.
    pub bridge: Option<Bridge>,
    /// What holds its volume.
    pub limited_by: LimitedBy,
}

/// Judges one case.
pub fn diagnose(case: &Case) -> Diagnosis {
    let t = &case.tally;
    let peers: Tally = case.peers.iter().copied().sum();
    let by_value = matches!(case.target, Target::Roas(_));
    let worth = worth_of_a_conversion(t, &peers);
    let target_cpa = case.target.as_cpa(worth);
    // Value counts as so many conversions of the mean value.
    let evidence = match (case.target, worth) {
        (Target::Roas(_), Some(worth)) => Price::from(t.value) / worth,
        _ => t.conversions,
    };
    let phi = case.variance_times(evidence);
    let p_over = target_cpa.map(|cpa| over_target(t.spend.to_units() / phi, evidence / phi, cpa));
    let excess = case.target.excess(t);
    let against = |own: (f64, i64), rate: fn(&Tally) -> (f64, i64)| {
        let theirs: Vec<_> = case.peers.iter().map(rate).map(|(s, n)| (s, n as f64)).collect();
        Standing::of_proportion(own.0, own.1 as f64, &theirs)
    };
    let cvr = against((t.conversions, t.clicks), |p| (p.conversions, p.clicks));
    let ctr = against((t.clicks as f64, t.impressions), |p| (p.clicks as f64, p.impressions));
    let aov = case
        .orders
        .filter(|_| by_value)
        .and_then(|(own, theirs)| Standing::of_order_values(own, theirs));
    let own = target_cpa.zip(t.cvr()).and_then(|(cpa, cvr)| affordable(cpa, cvr));
    let best_worth = match (aov, peers.aov()) {
        (Some(Standing::Lower), Some(theirs)) => case.target.as_cpa(Some(theirs)),
        _ => target_cpa,
    };
    let best_cvr = t.cvr().into_iter().chain(peers.cvr()).reduce(f64::max);
    let best = best_worth.zip(best_cvr).and_then(|(cpa, cvr)| affordable(cpa, cvr)).map(|a| a.cpc);
    let bridge = if by_value { bridge_of_returns(t, &peers) } else { bridge(t, &peers) };
    let early = early::too_early(case, evidence, target_cpa, p_over, excess);
    let over = || fault::at_fault(t, cvr, aov, best, bridge.as_ref());
    let (verdict, (faults, leans)) = match (early, p_over) {
        _ if !case.findings.is_empty() => (Verdict::Measurement, (Faults::default(), None)),
        (Some(_), _) | (_, None) => (Verdict::TooEarly, (Faults::default(), None)),
        (None, Some(_)) if excess <= 0.0 => (Verdict::OnTarget, (Faults::default(), None)),
        (None, Some(_)) => {
            let found = over();
            (found.0.verdict().unwrap_or(Verdict::Traffic), found)
        }
    };
    Diagnosis {
        verdict,
        faults,
        leans,
        early: early.filter(|_| verdict == Verdict::TooEarly),
        excess,
        target_cpa,
        p_over,
        phi,
        peers,
        cvr,
        ctr,
        aov,
        affordable: own,
        affordable_at_best: best,
        halfway_bid: own
            .zip(t.cpc())
            .filter(|(a, cpc)| a.cautious < *cpc)
            .map(|(a, cpc)| halfway_bid(a.cautious, cpc)),
        bridge,
        limited_by: case.budget_use.limited_by(t.cpc()),
    }
}

/// Value per conversion: its own, or the peers' where it has none.
fn worth_of_a_conversion(t: &Tally, peers: &Tally) -> Option<Price> {
    t.aov().and_then(Price::positive).or(peers.aov().and_then(Price::positive))
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
            target: Target::Cpa(Price(30.0)),
            least_difference: LEAST_DIFFERENCE,
            peers,
            orders: None,
            launched: None,
            shocked: None,
            last_day: day(10),
            settle_days: 2,
            findings: &[],
            budget_use: BudgetUse::default(),
            dispersion: 1.0,
            to_come_error: 0.0,
        }
    }

    #[test]
    fn converts_as_well_and_pays_too_much() {
        let peers = peers();
        let d = diagnose(&case(tally(26_000, 1027, 11.3, 296.0), &peers));
        assert_eq!((d.verdict, d.leans), (Verdict::Bid, None));
        assert!(d.p_over.unwrap() > 0.99);
        let paid = 1027.0 * 11.3 - 30.0 * 296.0;
        assert!((d.excess - paid).abs() < 1e-6);
        assert!((d.affordable.unwrap().cautious.units() - 7.5).abs() < 1e-9);
        assert!((d.halfway_bid.unwrap().units() - 9.4).abs() < 1e-9);
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
            shocked: Some((day(2), day(11))),
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
        assert!((d.target_cpa.unwrap().units() - 30.0).abs() < 1e-9);
    }

    #[test]
    fn a_lone_campaign_is_judged_without_peers() {
        let d = diagnose(&case(tally(26_000, 1027, 11.3, 296.0), &[]));
        assert_eq!((d.verdict, d.leans), (Verdict::Bid, Some(Lean::NoPeers)));
        assert_eq!((d.cvr, d.bridge), (None, None));
        let none = diagnose(&case(tally(26_000, 1027, 1.3, 0.0), &[]));
        assert_eq!((none.verdict, none.leans), (Verdict::Traffic, Some(Lean::NoPeers)));
    }

    /// 84 a conversion against 30, and 25 against 30, each beside a peer that says otherwise.
    #[test]
    fn peers_have_no_say_in_whether_it_is_over() {
        let (cheap, dear) = ([tally(20_000, 800, 2.0, 160.0)], [tally(20_000, 800, 30.0, 160.0)]);
        let over = diagnose(&case(tally(2000, 100, 8.4, 10.0), &cheap));
        assert!(over.p_over.unwrap() > 0.99 && over.excess > 0.0);
        assert!(!matches!(over.verdict, Verdict::OnTarget | Verdict::TooEarly), "{over:?}");
        let under = diagnose(&case(tally(2000, 500, 5.0, 100.0), &dear));
        assert_eq!(under.verdict, Verdict::OnTarget, "{under:?}");
        let thin = [tally(40, 4, 1.0, 1.0), tally(30, 3, 1.0, 1.0)];
        assert_eq!(diagnose(&case(tally(2000, 500, 5.0, 100.0), &thin)).verdict, Verdict::OnTarget);
    }

    /// A cost of 38 against 30 on 50 conversions: nineteen in twenty on one look, and one in four at their target look so at some time.
    #[test]
    fn a_single_look_is_not_enough() {
        let peers = peers();
        let d = diagnose(&case(tally(26_000, 1000, 1.9, 50.0), &peers));
        assert!(d.p_over.unwrap() > 0.94, "{d:?}");
        let Some(Early::Undecided {
            by_chance: Some(chance), more_conversions: Some(more), ..
        }) = d.early
        else {
            panic!("{d:?}");
        };
        assert!((0.2..0.45).contains(&chance) && more > 1.0, "{chance} {more}");
        // The same over three months moves more slowly, and tells.
        let long = Case { settled_days: 90, ..case(tally(78_000, 3000, 1.9, 150.0), &peers) };
        assert_eq!(diagnose(&long).early, None);
    }

    /// Conversions that are still to come count by estimate, and its error makes the answer less sure.
    #[test]
    fn the_error_of_what_is_to_come_is_part_of_the_probability() {
        let peers = peers();
        let known = case(tally(26_000, 1000, 2.4, 50.0), &peers);
        let estimated = Case { to_come_error: 12.0, ..known.clone() };
        let (known, estimated) = (diagnose(&known), diagnose(&estimated));
        assert!(known.p_over > estimated.p_over && estimated.p_over > Some(0.5), "{estimated:?}");
        assert_eq!((known.early.is_some(), estimated.early.is_some()), (false, true));
    }

    /// The same figures tell less where days differ by more than chance.
    #[test]
    fn dispersed_days_decide_later() {
        let peers = peers();
        let plain = case(tally(26_000, 1000, 2.4, 50.0), &peers);
        let dispersed = diagnose(&Case { dispersion: 4.0, ..plain.clone() });
        let plain = diagnose(&plain);
        assert!(plain.p_over > dispersed.p_over && dispersed.p_over > Some(0.5), "{dispersed:?}");
        assert_eq!(dispersed.verdict, Verdict::TooEarly);
        assert_ne!(plain.verdict, Verdict::TooEarly);
        // What would decide it is more by as much.
        assert!(matches!(dispersed.early, Some(Early::Undecided { .. })), "{dispersed:?}");
    }

    #[test]
    fn a_little_above_target_is_about_on_target() {
        let peers = peers();
        // 31 against 30 on 8 000 conversions: surely above, and nobody would act on 3%.
        let d = diagnose(&case(tally(1_800_000, 40_000, 6.2, 8000.0), &peers));
        assert!(d.p_over.unwrap() > 0.9);
        assert!(matches!(d.early, Some(Early::AboutOnTarget { above }) if above < 0.04), "{d:?}");
        let strict =
            Case { least_difference: 0.0, ..case(tally(1_800_000, 40_000, 6.2, 8000.0), &peers) };
        assert_ne!(diagnose(&strict).verdict, Verdict::TooEarly);
    }

    #[test]
    fn small_baskets_are_told_as_such() {
        use crate::evidence::order_values::Orders;
        let with =
            |t: Tally, aov: f64| Tally { value: Micros::from_units(t.conversions * aov), ..t };
        let orders = |count, mean| Orders { count, mean, variation: 0.6 };
        let peers: Vec<Tally> = peers().into_iter().map(|p| with(p, 108.0)).collect();
        let own = with(tally(26_000, 1000, 6.0, 225.0), 51.0);
        let roas = Case {
            target: Target::Roas(3.0),
            orders: Some((orders(225.0, 51.0), orders(572.0, 108.0))),
            ..case(own, &peers)
        };
        let d = diagnose(&roas);
        assert_eq!((d.verdict, d.leans), (Verdict::OrderValue, None), "{d:?}");
        assert_eq!(d.bridge.unwrap().largest(), crate::bridge::Factor::OrderValue);
        // The bid that its own value affords does help.
        assert!(d.affordable.unwrap().cpc < Price(6.0));
    }
}
