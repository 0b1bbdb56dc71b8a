//! Segments that carry the excess (C4, B7): which people, places and hours cost more than they bring, how
//! sure that is, and what to do about each.
//!
//! A segment's conversions per click are drawn toward its parent's with the weight of ten conversions, so
//! that thin evidence proposes little.

use statrs::distribution::{ContinuousCDF, Gamma};

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
/// How surely a segment parts from its parent before its bid is moved: a campaign has some thirty segments,
/// and chance would move several of them at 90%.
const SURE_TO_DIFFER: f64 = 0.95;
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
    /// The ratio is below this with 90% probability.
    pub ratio_at_most: f64,
    /// The ratio is above this with 90% probability.
    pub ratio_at_least: f64,
    /// What to do.
    pub proposal: Proposal,
}

/// Judges the segments of one dimension; they add up to `parent` as far as the channel tells. The answer
/// is in their order.
///
/// The proposal meets the parent's rate: where the parent itself is off target, its bid is another matter.
pub fn judge(parent: &Tally, segments: &[Segment], target: Target) -> Vec<Finding> {
    let known: f64 = segments.iter().map(|s| s.tally.conversions).sum();
    let enough = known >= LEAST_CONVERSIONS;
    segments.iter().map(|s| finding(parent, s, target, enough)).collect()
}

fn finding(parent: &Tally, s: &Segment, target: Target, enough: bool) -> Finding {
    let excess = target.excess(&s.tally);
    let none = Finding {
        excess,
        ratio: 1.0,
        ratio_at_most: f64::INFINITY,
        ratio_at_least: 0.0,
        proposal: Proposal::Leave,
    };
    let Some(cvr) = parent.cvr().filter(|r| *r > 0.0) else { return none };
    let shape = s.tally.conversions + WEIGHT;
    let expected = s.tally.clicks as f64 * cvr + WEIGHT;
    // Of values: the segment's conversions may be worth more or less than the parent's.
    let worth = match (target, parent.aov()) {
        (Target::Roas(_), Some(aov)) if aov > 0.0 => {
            (s.tally.value.to_units() + WEIGHT * aov) / (shape * aov)
        }
        _ => 1.0,
    };
    let at = |p: f64| match Gamma::new(shape, 1.0) {
        Ok(gamma) => gamma.inverse_cdf(p) / expected * worth,
        Err(_) => f64::NAN,
    };
    let ratio = shape / expected * worth;
    let (low, high) = (at(1.0 - CONFIDENCE), at(CONFIDENCE));
    let may_be_alike = at(1.0 - SURE_TO_DIFFER) <= 1.0 && at(SURE_TO_DIFFER) >= 1.0;
    let spent = target
        .as_cpa(parent.aov())
        .is_some_and(|cpa| s.tally.spend.to_units() >= LEAST_TARGETS * cpa);
    let proposal = match () {
        () if !enough => Proposal::Leave,
        () if high < HOPELESS && spent => Proposal::Exclude,
        () if may_be_alike => Proposal::Leave,
        () => step((1.0 + s.present) * ratio - 1.0, s.present),
    };
    Finding { excess, ratio, ratio_at_most: high, ratio_at_least: low, proposal }
}

fn step(adjustment: f64, present: f64) -> Proposal {
    let stepped = ((adjustment / STEP).round() * STEP).clamp(LEAST, MOST);
    if (stepped - present).abs() < STEP / 2.0 { Proposal::Leave } else { Proposal::Adjust(stepped) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::money::Micros;

    fn tally(clicks: i64, cpc: f64, conversions: f64) -> Tally {
        Tally {
            clicks,
            conversions,
            spend: Micros::from_units(clicks as f64 * cpc),
            value: Micros::from_units(conversions * 50.0),
            ..Tally::default()
        }
    }

    fn of(segments: &[(i64, f64, f64)], present: f64, target: Target) -> Vec<Finding> {
        let all: Vec<Segment> = segments
            .iter()
            .map(|(n, cpc, c)| Segment { name: "s", tally: tally(*n, *cpc, *c), present })
            .collect();
        let parent: Tally = all.iter().map(|s| s.tally).sum();
        judge(&parent, &all, target)
    }

    /// By hand: parent 60 of 1000; the second has 12 of 600: (12 + 10) ÷ (600 + 10 ÷ 0.06) ÷ 0.06 = 0.478;
    /// the first 48 of 400: 58 ÷ 566.67 ÷ 0.06 = 1.706, +70%.
    #[test]
    fn worked_by_hand() {
        let found = of(&[(400, 2.0, 48.0), (600, 2.0, 12.0)], 0.0, Target::Cpa(30.0));
        assert!((found[0].ratio - 1.70588).abs() < 1e-5);
        assert!((found[1].ratio - 0.47826).abs() < 1e-5);
        assert!(matches!(found[0].proposal, Proposal::Adjust(a) if (a - 0.7).abs() < 1e-9));
        assert_eq!(found[1].proposal, Proposal::Adjust(-0.5));
        assert!((found[1].excess - (1200.0 - 360.0)).abs() < 1e-9);
        // An adjustment in force is multiplied: half the bid already, and half of that again.
        let found = of(&[(400, 2.0, 48.0), (600, 2.0, 12.0)], -0.5, Target::Cpa(30.0));
        assert_eq!(found[1].proposal, Proposal::Adjust(-0.75));
    }

    #[test]
    fn what_surely_brings_less_than_half_is_left_out() {
        let found = of(&[(1000, 2.0, 90.0), (900, 2.0, 0.0)], 0.0, Target::Cpa(30.0));
        assert_eq!(found[1].proposal, Proposal::Exclude);
        // Gamma(10, 1) is below 14.206 with 90% probability (tables of the chi-squared distribution, 20
        // degrees of freedom, 28.412 ÷ 2).
        let expected = 900.0 * 90.0 / 1900.0 + 10.0;
        assert!((found[1].ratio_at_most - 14.206 / expected).abs() < 1e-4);
        // Not before three targets have been spent.
        let found = of(&[(1000, 2.0, 90.0), (900, 0.09, 0.0)], 0.0, Target::Cpa(30.0));
        assert!(matches!(found[1].proposal, Proposal::Adjust(a) if a < -0.5), "{:?}", found[1]);
    }

    #[test]
    fn thin_evidence_proposes_nothing() {
        for f in of(&[(100, 2.0, 12.0), (200, 2.0, 6.0)], 0.0, Target::Cpa(30.0)) {
            assert_eq!(f.proposal, Proposal::Leave, "18 conversions in all");
        }
        for f in of(&[(100, 2.0, 12.0), (120, 2.0, 11.0)], 0.0, Target::Cpa(30.0)) {
            assert_eq!(f.proposal, Proposal::Leave, "chance explains it");
        }
        let none = Tally::default();
        let s = Segment { name: "s", tally: none, present: 0.0 };
        assert_eq!(judge(&none, &[s], Target::Cpa(30.0))[0].proposal, Proposal::Leave);
    }

    /// Where everybody's conversions are worth the same, value tells what conversions tell.
    #[test]
    fn values_of_one_size_change_nothing() {
        let segments = [(400, 2.0, 48.0), (600, 2.0, 12.0)];
        let (by_count, by_value) =
            (of(&segments, 0.0, Target::Cpa(30.0)), of(&segments, 0.0, Target::Roas(2.0)));
        for (a, b) in by_count.iter().zip(&by_value) {
            assert!((a.ratio - b.ratio).abs() < 1e-9);
        }
    }
}
