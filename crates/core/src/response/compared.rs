//! What each campaign's money brings, as it is known beside the others: levels drawn toward those of its kind on its channel, or
//! of the whole account where those are few, so that the best of many is not taken at its word; and what they err by together.
//!
//! ```
//! use tiller_core::allocation::{Precision, Response};
//! use tiller_core::response::compared::{Known, compared};
//! let known = |cvr: f64| Known {
//!     kind: 0,
//!     channel: 0,
//!     response: Response::Constant { cpc: 1.0, cvr },
//!     precision: Precision::alone(50.0, [[0.1, 0.0], [0.0, 0.0]], [40.0, 60.0]),
//!     spend: 50.0,
//!     paid: 1400.0,
//!     results: 1400.0 * cvr,
//!     late: 0.0,
//!     dispersion: 1.0,
//!     worth: 1.0,
//!     shared: None,
//! };
//! // Ten results against seven, of campaigns that are alike otherwise: no more than luck.
//! let all = compared(&[known(0.007), known(0.005), known(0.006), known(0.006)]);
//! assert!(0.007 * all[0].times < 0.0066 && 0.005 * all[1].times > 0.0055);
//! ```

use std::collections::BTreeSet;

use super::budget_response::LEAST_EVENTS;
use crate::allocation::{Precision, Response, Shared};
use crate::evidence::levels::{Level, Seen, together};

/// By how much campaigns lie apart in what a unit of money brings, as a standard deviation of the logarithm: as likely less as
/// more (ours, no source).
const USUALLY_APART: f64 = 0.4;
/// Fewer campaigns of a kind on a channel than this are compared with the whole account.
const FEW_ALIKE: usize = 3;

/// What is known of a campaign by its own days.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Known {
    /// Campaigns of one kind on one channel have the same number.
    pub kind: u32,
    /// Campaigns on one channel have the same number.
    pub channel: u32,
    /// Conversions a day for money a day.
    pub response: Response,
    /// How well that is known.
    pub precision: Precision,
    /// Money a day now.
    pub spend: f64,
    /// Money of the days that were counted.
    pub paid: f64,
    /// Results of those days.
    pub results: f64,
    /// Standard error of those of them that are still to come.
    pub late: f64,
    /// Variance over mean of what the goal counts: of conversions, or of value in orders.
    pub dispersion: f64,
    /// What a result counts for.
    pub worth: f64,
    /// The part of its elasticity's error that campaigns of its channel share, where it bends.
    pub shared: Option<f64>,
}

impl Known {
    /// What a unit of money brings now by its own days, as a logarithm.
    fn seen(&self) -> Seen {
        let spend = if self.spend > 0.0 { self.spend } else { self.precision.reference };
        let events = self.results / self.dispersion.max(1.0);
        let rate = self.response.at(spend) / spend;
        let exposure = if events > 0.0 && rate > 0.0 {
            events / rate
        } else {
            self.paid / self.dispersion.max(1.0)
        };
        let late = self.late / self.results.max(1.0);
        // A curve's level is that of its last days, which is known less well than the mean of all.
        let own =
            (1.0 / (events + LEAST_EVENTS)).max(self.precision.variance(self.response, spend));
        let brings = (events + LEAST_EVENTS) / exposure.max(f64::MIN_POSITIVE);
        Seen {
            mean: (brings * self.worth.max(f64::MIN_POSITIVE)).ln(),
            variance: own + late * late,
        }
    }
}

/// A campaign beside the others.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Compared {
    /// As many times what its own days say.
    pub times: f64,
    /// How well that is known.
    pub precision: Precision,
}

/// Compares campaigns, in their order.
pub fn compared(all: &[Known]) -> Vec<Compared> {
    let seen: Vec<Seen> = all.iter().map(Known::seen).collect();
    // Whoever is compared with the whole account errs with all who are.
    let whole = |level| Placed { level, with: 0 };
    let mut placed: Vec<Placed> = together(&seen, USUALLY_APART).into_iter().map(whole).collect();
    for kind in all.iter().map(|k| k.kind).collect::<BTreeSet<u32>>() {
        let of: Vec<usize> = (0..all.len()).filter(|i| all[*i].kind == kind).collect();
        if of.len() < FEW_ALIKE {
            continue;
        }
        let group: Vec<Seen> = of.iter().map(|i| seen[*i]).collect();
        for (i, level) in of.iter().zip(together(&group, USUALLY_APART)) {
            placed[*i] = Placed { level, with: 3 * (kind + 1) };
        }
    }
    all.iter()
        .zip(&seen)
        .zip(placed)
        .map(|((known, seen), placed)| placed.beside(known, seen))
        .collect()
}

/// A level with the number of those that it errs with.
struct Placed {
    level: Level,
    with: u32,
}

impl Placed {
    fn beside(&self, known: &Known, seen: &Seen) -> Compared {
        let variance = self.level.variance();
        let [[was, both], [_, form]] = known.precision.covariance;
        let both = both * (variance / was.max(f64::MIN_POSITIVE)).sqrt().min(1.0);
        let precision = Precision {
            covariance: [[variance, both], [both, form]],
            level_shared: Some(Shared { with: self.with, by: self.level.shared }),
            spread_shared: Some(Shared { with: self.with + 1, by: self.level.spread }),
            form_shared: known.shared.map(|by| Shared { with: 3 * known.channel + 2, by }),
            ..known.precision
        };
        Compared { times: (self.level.mean - seen.mean).exp(), precision }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn known(kind: u32, results: f64) -> Known {
        Known {
            kind,
            channel: kind,
            response: Response::Constant { cpc: 1.0, cvr: results / 2800.0 },
            precision: Precision::alone(50.0, [[1.0 / results, 0.0], [0.0, 0.0]], [40.0, 60.0]),
            spend: 50.0,
            paid: 2800.0,
            results,
            late: 0.0,
            dispersion: 1.0,
            worth: 1.0,
            shared: None,
        }
    }

    #[test]
    fn campaigns_are_compared_with_their_kind_or_where_that_is_few_with_all() {
        let mut all: Vec<Known> = [100.0, 98.0, 103.0, 30.0].map(|n| known(0, n)).to_vec();
        all.extend([known(1, 300.0), known(1, 20.0)]);
        let found = compared(&all);
        let with: Vec<u32> =
            found.iter().filter_map(|c| Some(c.precision.level_shared?.with)).collect();
        assert_eq!(with, [3, 3, 3, 3, 0, 0]);
        assert!(found[3].times > 1.05, "thin and low: drawn up");
        assert!(found[5].times > found[4].times, "the thin one is drawn further");
    }

    #[test]
    fn what_is_late_or_uneven_is_drawn_further() {
        let of = |change: fn(&mut Known)| {
            let mut all = [100.0, 100.0, 100.0, 40.0].map(|n| known(0, n));
            change(&mut all[3]);
            compared(&all)[3].times
        };
        let even = of(|_| ());
        assert!(of(|k| k.dispersion = 4.0) > even && of(|k| k.late = 20.0) > even);
        // What a result counts for is a difference like any other: fewer that are worth more are as good.
        assert!((of(|k| k.worth = 2.5) - 1.0).abs() < 0.02);
    }
}
