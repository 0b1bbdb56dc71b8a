//! What a campaign may start from (B2, B4): a first target from what the account already runs, and the daily budget
//! that a strategy needs to learn. All figures are common practice, no source.
//!
//! ```
//! use tiller_core::Price;
//! use tiller_core::strategy::{Medium, first_target};
//! // After retargeting at 20 a conversion, display starts 20 to 30% above it.
//! let start = first_target(Medium::Display, &[(Medium::Retargeting, Price(20.0))]).unwrap();
//! assert_eq!((start.low, start.high), (Price(24.0), Some(Price(26.0))));
//! ```

use crate::money::Price;

use super::Kind;

/// How people are met.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Medium {
    /// They search.
    Search,
    /// They have been there.
    Retargeting,
    /// They read something else.
    Display,
    /// They watch something else.
    Video,
}
crate::words!(Medium: Search "search", Retargeting "retargeting", Display "display", Video "video");

/// A first target CPA.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct FirstTarget {
    /// The least that it should be: a lower one starves the campaign while it learns.
    pub low: Price,
    /// The most; none where only the least is known.
    pub high: Option<Price>,
    /// What it was taken from.
    pub from: Medium,
}

/// After retargeting only, display costs a fifth to three tenths more.
const AFTER_RETARGETING: (f64, f64) = (1.2, 1.3);
/// After search only, display costs three times as much at least.
const AFTER_SEARCH: f64 = 3.0;

/// A first target CPA for a campaign of a medium, from what a conversion costs the account elsewhere. None where what
/// runs says nothing of it.
pub fn first_target(medium: Medium, running: &[(Medium, Price)]) -> Option<FirstTarget> {
    let cpa = |of: Medium| {
        running.iter().find(|(m, cpa)| *m == of && cpa.units() > 0.0).map(|(_, cpa)| *cpa)
    };
    let same = |of| cpa(of).map(|x| FirstTarget { low: x, high: Some(x), from: of });
    let above = |of, by: f64| cpa(of).map(|x| FirstTarget { low: x * by, high: None, from: of });
    match medium {
        Medium::Search | Medium::Retargeting => same(medium),
        Medium::Display => same(Medium::Display)
            .or_else(|| {
                cpa(Medium::Retargeting).map(|x| FirstTarget {
                    low: x * AFTER_RETARGETING.0,
                    high: Some(x * AFTER_RETARGETING.1),
                    from: Medium::Retargeting,
                })
            })
            .or_else(|| above(Medium::Search, AFTER_SEARCH)),
        // Above search, about display's.
        Medium::Video => same(Medium::Video)
            .or_else(|| same(Medium::Display))
            .or_else(|| above(Medium::Search, 1.0)),
    }
}

/// How many of its targets (or, without one, of its CPA) a daily budget should be; none where nothing is said.
pub fn budget_multiple(medium: Medium, strategy: Kind) -> Option<f64> {
    match (medium, strategy) {
        (Medium::Display, Kind::TargetCpa) => Some(2.0),
        (Medium::Video, Kind::TargetCpa) => Some(20.0),
        (Medium::Video, Kind::MostConversions) => Some(10.0),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(medium: Medium, running: &[(Medium, f64)]) -> Option<(f64, Option<f64>, Medium)> {
        let running: Vec<_> = running.iter().map(|(m, x)| (*m, Price(*x))).collect();
        let start = first_target(medium, &running)?;
        Some((start.low.units(), start.high.map(Price::units), start.from))
    }

    /// Common practice, no source (B2).
    #[test]
    fn what_runs_already_tells_the_first_target() {
        use Medium::{Display, Retargeting, Search, Video};
        let all = [(Search, 10.0), (Retargeting, 20.0), (Display, 50.0), (Video, 60.0)];
        assert_eq!(of(Display, &all), Some((50.0, Some(50.0), Display)), "its own first");
        assert_eq!(of(Display, &all[..2]), Some((24.0, Some(26.0), Retargeting)));
        assert_eq!(of(Display, &all[..1]), Some((30.0, None, Search)));
        assert_eq!(of(Video, &all[..3]), Some((50.0, Some(50.0), Display)));
        assert_eq!(of(Video, &all[..1]), Some((10.0, None, Search)));
        assert_eq!(of(Search, &all[1..]), None);
        assert_eq!(of(Display, &[]), None);
        assert_eq!(of(Display, &[(Search, 0.0)]), None, "a cost of nothing says nothing");
    }

    /// Common practice, no source (B4).
    #[test]
    fn budgets_are_multiples_of_the_target() {
        assert_eq!(budget_multiple(Medium::Display, Kind::TargetCpa), Some(2.0));
        assert_eq!(budget_multiple(Medium::Video, Kind::TargetCpa), Some(20.0));
        assert_eq!(budget_multiple(Medium::Video, Kind::MostConversions), Some(10.0));
        assert_eq!(budget_multiple(Medium::Search, Kind::TargetCpa), None);
    }
}
