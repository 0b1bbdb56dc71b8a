//! Segments that carry the excess (C4, B7): which people, places and hours cost more than they bring, how
//! sure that is, and what to do about each.
//!
//! A segment's conversions per click are drawn toward its parent's with the weight of ten conversions, so
//! that thin evidence proposes little; and of all segments that are looked at together, at most a tenth of those
//! that are proposed a change may be chance.
//!
//! ```
//! use tiller_core::segments::{Proposal, Rules, Segment, judge};
//! use tiller_core::{Micros, Price, Tally, Target};
//! let people = |name, clicks: i64, conversions| Segment {
//!     name,
//!     tally: Tally { clicks, conversions, spend: Micros::from_units(clicks as f64), ..Tally::default() },
//!     present: 0.0,
//! };
//! let all = [people("phone", 2000, 100.0), people("desktop", 2000, 20.0)];
//! let whole = all.iter().map(|s| s.tally).sum();
//! let rules = Rules { target: Target::Cpa(Price(110.0)), dispersion: 1.0, raise: false };
//! // A fifth less for those who bring a fifth as much; one step at a time.
//! assert_eq!(judge(&whole, &all, rules)[1].proposal, Proposal::Adjust(-0.2));
//! ```

use crate::Price;
use statrs::distribution::{ContinuousCDF, Gamma};

use crate::evidence::target::HALF;
use crate::evidence::{FALSE_SHARE, discoveries, two_shares};
use crate::learning::SHOCK;
use crate::metrics::Tally;
use crate::target::Target;

/// Conversions that the parent's rate weighs.
const WEIGHT: f64 = 10.0;
/// Adjustments come in steps of this.
const STEP: f64 = 0.05;
/// The least adjustment: nine tenths off.
const LEAST: f64 = -0.9;
/// The greatest: twice the bid.
const MOST: f64 = 1.0;
/// A segment whose ratio is surely below this is better left out.
const HOPELESS: f64 = 0.5;
/// How surely.
const CONFIDENCE: f64 = 0.9;
/// Spend in targets from which leaving out may be proposed.
const LEAST_TARGETS: f64 = 3.0;
/// Conversions in the whole dimension from which anything is proposed (common practice, no source: some
/// 20 to 30 before a gender or an age is judged).
pub const LEAST_CONVERSIONS: f64 = 20.0;

/// What to do about a segment.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Proposal {
    /// Its rate is the parent's, or too little is known of it.
    Leave,
    /// Set its bid adjustment to this: −0.25 bids a quarter less. Replaces the one in force.
    Adjust(f64),
    /// Show it nothing.
    Exclude,
}

/// A segment with what was counted for it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Segment<'a> {
    /// Its name.
    pub name: &'a str,
    /// What was counted.
    pub tally: Tally,
    /// The bid adjustment in force, as a share: 0 where there is none.
    pub present: f64,
}

/// What is known of a segment.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Finding {
    /// Money above target.
    pub excess: f64,
    /// Its CVR (or value per click) over the parent's, drawn toward 1.
    pub ratio: f64,
    /// The same on its own evidence alone.
    pub own: f64,
    /// The ratio on its own evidence is below this with 90% probability.
    pub ratio_at_most: f64,
    /// The ratio on its own evidence is above this with 90% probability.
    pub ratio_at_least: f64,
    /// How likely chance alone parts it so far from the others.
    pub p: f64,
    /// Where its own rate would bring the adjustment, as a share.
    pub fair: f64,
    /// What to do.
    pub proposal: Proposal,
}

impl Finding {
    /// What the proposed adjustment adds in spend and in conversions over the days that were counted: clicks follow
    /// the bid with an elasticity of 1, and so does the price of a click.
    pub fn adds(&self, s: &Segment) -> (f64, f64) {
        let (spend, conversions) = (s.tally.spend.to_units(), s.tally.conversions);
        match self.proposal {
            Proposal::Leave => (0.0, 0.0),
            Proposal::Exclude => (-spend, -conversions),
            Proposal::Adjust(to) => {
                let by = (1.0 + to) / (1.0 + s.present);
                (spend * (by * by - 1.0), conversions * (by - 1.0))
            }
        }
    }
}

/// What holds for all segments of one campaign.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Rules {
    /// What a result may cost.
    pub target: Target,
    /// How much more days differ than by chance: of conversions, or of value for a ROAS target.
    pub dispersion: f64,
    /// Whether the campaign can use more clicks at all: not where its budget is the limit.
    pub raise: bool,
}

/// Judges the segments of one dimension; they add up to `parent` as far as the channel tells. The answer
/// is in their order.
///
/// The proposal meets the parent's rate: where the parent itself is off target, its bid is another matter.
pub fn judge(parent: &Tally, segments: &[Segment], rules: Rules) -> Vec<Finding> {
    let mut found = [look(parent, segments, rules)];
    keep_discoveries(&mut found);
    let [found] = found;
    found
}

/// Judges the segments of several dimensions of one campaign together.
pub fn judge_together(dimensions: &[(Tally, Vec<Segment>)], rules: Rules) -> Vec<Vec<Finding>> {
    let mut found: Vec<Vec<Finding>> =
        dimensions.iter().map(|(parent, all)| look(parent, all, rules)).collect();
    keep_discoveries(&mut found);
    found
}

/// Takes back what is proposed of segments that chance may part from the others.
fn keep_discoveries(found: &mut [Vec<Finding>]) {
    let p: Vec<f64> = found.iter().flatten().map(|f| f.p).collect();
    for (f, real) in found.iter_mut().flatten().zip(discoveries(&p, FALSE_SHARE)) {
        if !real {
            f.proposal = Proposal::Leave;
        }
    }
}

/// The segments of one dimension, each by itself.
pub(crate) fn look(parent: &Tally, segments: &[Segment], rules: Rules) -> Vec<Finding> {
    let known: f64 = segments.iter().map(|s| s.tally.conversions).sum();
    let enough = known >= LEAST_CONVERSIONS;
    segments.iter().map(|s| finding(parent, s, rules, enough)).collect()
}

/// Results: conversions, or value in conversions of the parent's mean value.
fn results(t: &Tally, target: Target, parent: &Tally) -> f64 {
    match (target, parent.aov().and_then(Price::positive)) {
        (Target::Roas(_), Some(aov)) => Price::from(t.value) / aov,
        _ => t.conversions,
    }
}

fn finding(parent: &Tally, s: &Segment, rules: Rules, enough: bool) -> Finding {
    let target = rules.target;
    let excess = target.excess(&s.tally);
    let none = Finding {
        excess,
        ratio: 1.0,
        own: 1.0,
        ratio_at_most: f64::INFINITY,
        ratio_at_least: 0.0,
        p: 1.0,
        fair: s.present,
        proposal: Proposal::Leave,
    };
    let Some(cvr) = parent.cvr().filter(|r| *r > 0.0) else { return none };
    let clicks = s.tally.clicks as f64;
    let (own, all) = (results(&s.tally, target, parent), results(parent, target, parent));
    let phi = rules.dispersion.max(1.0);
    let rest = (all - own).max(0.0);
    let p = two_shares(own / phi, clicks, rest / phi, (parent.clicks as f64 - clicks).max(0.0));
    let ratio = (own + WEIGHT) / (clicks * cvr + WEIGHT);
    // How surely, on its own evidence under Jeffreys' prior.
    let at = |p: f64| match Gamma::new(own / phi + HALF, clicks * cvr / phi) {
        Ok(gamma) => gamma.inverse_cdf(p),
        Err(_) => f64::NAN,
    };
    let (low, high) = (at(1.0 - CONFIDENCE), at(CONFIDENCE));
    let cost = target.as_cpa(parent.aov());
    let spent = cost.is_some_and(|cpa| s.tally.spend.to_units() >= LEAST_TARGETS * cpa.units());
    let fair = ((1.0 + s.present) * ratio - 1.0).clamp(LEAST, MOST);
    let proposal = match () {
        () if !enough => Proposal::Leave,
        // Who meets the target is not shut out, however much better others are.
        () if high < HOPELESS && spent && excess > 0.0 => Proposal::Exclude,
        () => step(s, fair, room_to_raise(parent, s, rules, ratio)),
    };
    let on_its_own = if clicks > 0.0 { own / (clicks * cvr) } else { 1.0 };
    Finding {
        excess,
        ratio,
        own: on_its_own,
        ratio_at_most: high,
        ratio_at_least: low,
        p,
        fair,
        proposal,
    }
}

/// How many times the bid may be raised until the next conversion costs more than the target: a bid raised by *a*
/// buys (1 + a) times the clicks at (1 + a) times the price, so the next one costs 2(1 + a) times the mean.
fn room_to_raise(parent: &Tally, s: &Segment, rules: Rules, ratio: f64) -> f64 {
    let cost = s.tally.cpc().zip(parent.cvr()).map(|(cpc, cvr)| cpc / (cvr * ratio));
    let allowed = rules.target.as_cpa(parent.aov());
    match cost.zip(allowed).filter(|_| rules.raise) {
        Some((cost, allowed)) if cost.positive().is_some() => allowed / (cost * 2.0),
        _ => 0.0,
    }
}

/// One step toward the fair adjustment, a raise no further than there is room.
fn step(s: &Segment, fair: f64, room: f64) -> Proposal {
    let by = ((1.0 + fair) / (1.0 + s.present)).clamp(1.0 - SHOCK, 1.0 + SHOCK);
    let by = if by > 1.0 { by.min(room) } else { by };
    let to = (1.0 + s.present) * by - 1.0;
    // Whole steps on the side of what is there now, so that none goes beyond.
    let steps = (to - s.present) / STEP;
    let steps = if steps > 0.0 { (steps + 1e-9).floor() } else { (steps - 1e-9).ceil() };
    let to = s.present + steps * STEP;
    if steps == 0.0 || (by < 1.0) != (fair < s.present) {
        Proposal::Leave
    } else {
        Proposal::Adjust(to.clamp(LEAST, MOST))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::money::Micros;
    use rand::SeedableRng;
    use rand_chacha::ChaCha8Rng;
    use rand_distr::{Distribution, Gamma as GammaDraw, LogNormal, Poisson};

    fn tally(clicks: i64, cpc: f64, conversions: f64) -> Tally {
        Tally {
            clicks,
            conversions,
            spend: Micros::from_units(clicks as f64 * cpc),
            value: Micros::from_units(conversions * 50.0),
            ..Tally::default()
        }
    }

    fn rules(target: Target) -> Rules {
        Rules { target, dispersion: 1.0, raise: true }
    }

    fn of(segments: &[(i64, f64, f64)], present: f64, rules: Rules) -> Vec<Finding> {
        let all: Vec<Segment> = segments
            .iter()
            .map(|(n, cpc, c)| Segment { name: "s", tally: tally(*n, *cpc, *c), present })
            .collect();
        let parent: Tally = all.iter().map(|s| s.tally).sum();
        judge(&parent, &all, rules)
    }

    const CPA: Target = Target::Cpa(Price(60.0));

    /// By hand: parent 60 of 1000; the second has 18 of 600: (18 + 10) ÷ (600 + 10 ÷ 0.06) ÷ 0.06 = 0.6087;
    /// the first 42 of 400: 52 ÷ 566.67 ÷ 0.06 = 1.529.
    #[test]
    fn worked_by_hand() {
        let found = of(&[(400, 2.0, 42.0), (600, 2.0, 18.0)], 0.0, rules(CPA));
        assert!(
            (found[0].ratio - 1.529_41).abs() < 1e-5 && (found[0].fair - 0.529_41).abs() < 1e-5
        );
        assert!((found[1].ratio - 0.608_70).abs() < 1e-5);
        // One step of a fifth each, up and down.
        assert_eq!(found[0].proposal, Proposal::Adjust(0.2));
        assert_eq!(found[1].proposal, Proposal::Adjust(-0.2));
        assert!((found[1].excess - (1200.0 - 1080.0)).abs() < 1e-9);
        // An adjustment in force is multiplied: half the bid already, and a fifth of that less.
        let found = of(&[(400, 2.0, 42.0), (600, 2.0, 18.0)], -0.5, rules(CPA));
        assert!(matches!(found[1].proposal, Proposal::Adjust(a) if (a + 0.6).abs() < 1e-9));
        let s = Segment { name: "s", tally: tally(600, 2.0, 18.0), present: 0.0 };
        let f = of(&[(400, 2.0, 42.0), (600, 2.0, 18.0)], 0.0, rules(CPA))[1];
        let (spend, conversions) = f.adds(&s);
        assert!((spend + 1200.0 * 0.36).abs() < 1e-9 && (conversions + 3.6).abs() < 1e-9);
    }

    /// 454 spent on none, 756 on one: left out, as surely less than half of what the others bring.
    #[test]
    fn what_surely_brings_less_than_half_is_left_out() {
        for (clicks, conversions) in [(227, 0.0), (378, 1.0)] {
            let found = of(
                &[(1000, 2.0, 60.0), (clicks, 2.0, conversions)],
                0.0,
                rules(Target::Cpa(Price(30.0))),
            );
            assert_eq!(found[1].proposal, Proposal::Exclude, "{clicks} {:?}", found[1]);
        }
        // Gamma(½, 1) is below 1.3528 with 90% probability (tables of the chi-squared distribution, one degree of
        // freedom, 2.7055 ÷ 2).
        let found = of(&[(1000, 2.0, 60.0), (227, 2.0, 0.0)], 0.0, rules(Target::Cpa(Price(30.0))));
        let expected = 227.0 * 60.0 / 1227.0;
        assert!((found[1].ratio_at_most - 1.352_77 / expected).abs() < 1e-4);
        // Not before three targets have been spent.
        let found =
            of(&[(1000, 2.0, 90.0), (227, 0.09, 0.0)], 0.0, rules(Target::Cpa(Price(30.0))));
        assert!(matches!(found[1].proposal, Proposal::Adjust(a) if a < 0.0), "{:?}", found[1]);
    }

    #[test]
    fn nobody_is_raised_past_the_target_at_the_margin() {
        // The better half pays 19 a conversion; a raise makes the next one cost twice that.
        let at = |target| {
            of(&[(400, 2.0, 42.0), (600, 2.0, 18.0)], 0.0, rules(Target::Cpa(Price(target))))[0]
                .proposal
        };
        assert_eq!(at(60.0), Proposal::Adjust(0.2));
        assert!(matches!(at(48.0), Proposal::Adjust(a) if a < 0.16), "{:?}", at(48.0));
        assert_eq!(at(38.0), Proposal::Leave);
        let held = Rules { raise: false, ..rules(CPA) };
        let found = of(&[(400, 2.0, 42.0), (600, 2.0, 18.0)], 0.0, held);
        assert_eq!(found[0].proposal, Proposal::Leave, "its budget is the limit");
        assert!(matches!(found[1].proposal, Proposal::Adjust(_)));
    }

    #[test]
    fn thin_evidence_proposes_nothing() {
        for f in of(&[(100, 2.0, 12.0), (200, 2.0, 6.0)], 0.0, rules(CPA)) {
            assert_eq!(f.proposal, Proposal::Leave, "18 conversions in all");
        }
        for f in of(&[(100, 2.0, 12.0), (120, 2.0, 11.0)], 0.0, rules(CPA)) {
            assert_eq!(f.proposal, Proposal::Leave, "chance explains it");
        }
        let none = Tally::default();
        let s = Segment { name: "s", tally: none, present: 0.0 };
        assert_eq!(judge(&none, &[s], rules(CPA))[0].proposal, Proposal::Leave);
    }

    /// Where everybody's conversions are worth the same, value tells what conversions tell.
    #[test]
    fn values_of_one_size_change_nothing() {
        let segments = [(400, 2.0, 42.0), (600, 2.0, 18.0)];
        let (by_count, by_value) =
            (of(&segments, 0.0, rules(CPA)), of(&segments, 0.0, rules(Target::Roas(50.0 / 60.0))));
        for (a, b) in by_count.iter().zip(&by_value) {
            assert!((a.ratio - b.ratio).abs() < 1e-9 && (a.p - b.p).abs() < 1e-9);
            assert_eq!(a.proposal, b.proposal);
        }
    }

    /// People who are all alike, in five dimensions of two to six segments: at most one campaign in ten is offered
    /// anything, whether days differ more than by chance or not, for conversions and for value of a heavy tail.
    #[test]
    fn alike_people_are_left_alone() {
        let mut rng = ChaCha8Rng::seed_from_u64(21);
        let sizes: [&[f64]; 5] = [
            &[0.5, 0.3, 0.15, 0.05],
            &[0.55, 0.45],
            &[0.1, 0.25, 0.3, 0.2, 0.1, 0.05],
            &[0.6, 0.3, 0.1],
            &[0.7, 0.25, 0.05],
        ];
        let worth = LogNormal::new(50f64.ln() - 0.32, 0.8).unwrap();
        for (phi, target) in [
            (1.0, Target::Cpa(Price(60.0))),
            (2.0, Target::Cpa(Price(60.0))),
            (1.0, Target::Roas(1.0)),
            (2.0, Target::Roas(1.0)),
        ] {
            let offered = (0..200)
                .filter(|_| {
                    let mut days: Vec<(f64, f64)> = Vec::new();
                    let mut split: Vec<Vec<Tally>> =
                        sizes.iter().map(|s| vec![Tally::default(); s.len()]).collect();
                    for _ in 0..28 {
                        let shock = if phi > 1.0 {
                            GammaDraw::new(6.0 / (phi - 1.0), (phi - 1.0) / 6.0)
                                .unwrap()
                                .sample(&mut rng)
                        } else {
                            1.0
                        };
                        let mut day = (0.0, 100.0);
                        let n = Poisson::new(6.0 * shock).unwrap().sample(&mut rng) as usize;
                        let orders: Vec<f64> = (0..n).map(|_| worth.sample(&mut rng)).collect();
                        for value in &orders {
                            day.0 += if target.is_roas() { value / 50.0 } else { 1.0 };
                        }
                        days.push(day);
                        for (sizes, tallies) in sizes.iter().zip(&mut split) {
                            for (size, t) in sizes.iter().zip(tallies.iter_mut()) {
                                let clicks = (100.0 * size) as i64;
                                *t += tally(clicks, 2.0, 0.0);
                            }
                            for value in &orders {
                                let mut at: f64 = rand::RngExt::random(&mut rng);
                                let place = sizes
                                    .iter()
                                    .position(|s| {
                                        at -= s;
                                        at < 0.0
                                    })
                                    .unwrap_or(0);
                                tallies[place].conversions += 1.0;
                                tallies[place].value += Micros::from_units(*value);
                            }
                        }
                    }
                    let dimensions: Vec<(Tally, Vec<Segment>)> = split
                        .iter()
                        .map(|all| {
                            let one = |t: &Tally| Segment { name: "s", tally: *t, present: 0.0 };
                            (all.iter().copied().sum(), all.iter().map(one).collect())
                        })
                        .collect();
                    let dispersion = crate::evidence::dispersion(days.iter().copied());
                    let rules = Rules { target, dispersion, raise: true };
                    let found = judge_together(&dimensions, rules);
                    found.iter().flatten().any(|f| f.proposal != Proposal::Leave)
                })
                .count();
            assert!(offered <= 20, "φ {phi}, {target:?}: {offered} of 200");
        }
    }
}
