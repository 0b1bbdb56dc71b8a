//! What a campaign that doesn't exist yet would bring (P10): from similar campaigns, from what its channel says, and from
//! both together. Each figure is a range that holds it in four of five cases.
//!
//! ```
//! use tiller_core::results_estimate::{Guess, Own, Similar, results};
//! let like = |clicks, spend, conversions| Similar {
//!     impressions: 40.0 * clicks, clicks, spend, conversions, value: 0.0, dispersion: 1.0,
//! };
//! let own = Own::of(&[like(1000.0, 2000.0, 50.0), like(800.0, 2000.0, 30.0), like(400.0, 900.0, 24.0)]);
//! let r = results(&own, None, 100.0, None);
//! // About 2.20 a click, and one in twenty converts: 100 a day buy about 45 clicks.
//! let (clicks, cpa) = (r.clicks.unwrap(), r.cpa.unwrap());
//! assert!((clicks.mid() - 45.0).abs() < 3.0 && (cpa.mid() - 45.0).abs() < 6.0);
//! assert!(cpa.between().low < 40.0 && cpa.between().high > 50.0);
//! // The channel knows of less demand than that.
//! let told = tiller_core::results_estimate::Told {
//!     spend: Some(Guess::within(50.0, 60.0)), ..Default::default()
//! };
//! assert!(results(&own, Some(&told), 100.0, None).clicks.unwrap().mid() < 27.0);
//! ```

use statrs::distribution::{ContinuousCDF, StudentsT};

use crate::evidence::{Interval, normal_quantile};

/// Half of this is left out on each side.
const CONFIDENCE: f64 = 0.8;
/// The share of a normal distribution below the upper bound.
const UPPER: f64 = f64::midpoint(1.0, CONFIDENCE);
/// By how much campaigns of one kind differ in their rates, as a standard deviation of the logarithm, before any is known
/// (ours, no source).
const RATES_DIFFER: f64 = 0.5;
/// The same of what a click costs.
const PRICES_DIFFER: f64 = 0.35;
/// How many campaigns that weighs.
const WEIGHT: f64 = 2.0;
/// Days over which a result is looked at.
pub const DAYS: f64 = 28.0;

/// What a similar campaign did.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Similar {
    /// Times shown.
    pub impressions: f64,
    /// Times clicked.
    pub clicks: f64,
    /// Money.
    pub spend: f64,
    /// Conversions.
    pub conversions: f64,
    /// Their value.
    pub value: f64,
    /// How much more its days differ than by chance.
    pub dispersion: f64,
}

/// A figure above 0 that is not known exactly: normal on its logarithm.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Guess {
    log: f64,
    sd: f64,
}

impl Guess {
    /// What is known exactly.
    pub fn sure(x: f64) -> Self {
        Self { log: x.ln(), sd: 0.0 }
    }

    /// What lies between two numbers above 0 in four of five cases.
    pub fn within(low: f64, high: f64) -> Self {
        let z = normal_quantile(UPPER);
        Self { log: f64::midpoint(low.ln(), high.ln()), sd: (high / low).ln().abs() / 2.0 / z }
    }

    /// Its median.
    pub fn mid(self) -> f64 {
        self.log.exp()
    }

    /// The range that holds it in four of five cases.
    pub fn between(self) -> Interval {
        let by = (normal_quantile(UPPER) * self.sd).exp();
        Interval { low: self.mid() / by, high: self.mid() * by }
    }

    fn times(self, other: Self) -> Self {
        Self { log: self.log + other.log, sd: self.sd.hypot(other.sd) }
    }

    fn over(self, other: Self) -> Self {
        Self { log: self.log - other.log, sd: self.sd.hypot(other.sd) }
    }

    /// The same, never above a number.
    fn capped(self, most: f64) -> Self {
        let Interval { low, high } = self.between();
        if high <= most { self } else { Self::within(low.min(0.7 * most), most) }
    }

    /// Whether two guesses of one figure differ by more than they allow for.
    pub fn disagrees(self, other: Self) -> bool {
        (self.log - other.log).abs() > 2.0 * self.sd.hypot(other.sd)
    }

    /// Two guesses of one figure, each weighed by how sure it is; where they disagree the range holds both (Birge 1932).
    pub fn and(self, other: Self) -> Self {
        if self.sd <= 0.0 || other.sd <= 0.0 {
            return if self.sd <= other.sd { self } else { other };
        }
        let (a, b) = (self.sd.powi(-2), other.sd.powi(-2));
        let birge = ((self.log - other.log) / self.sd.hypot(other.sd)).abs().max(1.0);
        let log = (a * self.log + b * other.log) / (a + b);
        Self { log, sd: birge * (a + b).sqrt().recip() }
    }
}

/// A ratio of one more campaign of a kind, from those that are known: numerator, denominator, and how many of the
/// numerator count as one event. Campaigns differ by an unknown spread (method of moments, drawn toward a usual one), and
/// few of them know little of it (Student's t).
fn ratio(usual: f64, known: impl Iterator<Item = (f64, f64, f64)>) -> Option<Guess> {
    let known: Vec<(f64, f64, f64)> = known.filter(|(_, below, _)| *below > 0.0).collect();
    let sum = |of: fn(&(f64, f64, f64)) -> f64| known.iter().map(of).sum::<f64>();
    let pooled = sum(|k| k.0) / sum(|k| k.1).max(1e-9);
    let log = |(above, below, event): &(f64, f64, f64)| {
        // The error goes by what is expected of all, not by what came: who was lucky is no surer. Half an event is added,
        // so that none is a number too.
        let events = (pooled * below / event).max(1e-9);
        (((above + 0.5 * event) / below).ln(), 1.0 / (events + 0.5))
    };
    let logs: Vec<(f64, f64)> = known.iter().map(log).collect();
    let n = logs.len() as f64;
    if logs.is_empty() {
        return None;
    }
    let mean = logs.iter().map(|(x, _)| x).sum::<f64>() / n;
    let error = logs.iter().map(|(_, v)| v).sum::<f64>() / n;
    let around = logs.iter().map(|(x, _)| (x - mean).powi(2)).sum::<f64>();
    let seen = (around - (n - 1.0) * error).max(0.0);
    let freedom = WEIGHT + n - 1.0;
    let spread = (WEIGHT * usual.powi(2) + seen) / freedom;
    let weights: Vec<f64> = logs.iter().map(|(_, v)| 1.0 / (v + spread)).collect();
    let all: f64 = weights.iter().sum();
    let log = logs.iter().zip(&weights).map(|((x, _), w)| x * w).sum::<f64>() / all;
    let t = StudentsT::new(0.0, 1.0, freedom).map_or(1.0, |t| t.inverse_cdf(UPPER));
    Some(Guess { log, sd: (spread + 1.0 / all).sqrt() * t / normal_quantile(UPPER) })
}

/// What similar campaigns tell of another one.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Own {
    /// Clicks ÷ impressions.
    pub ctr: Option<Guess>,
    /// Spend ÷ clicks.
    pub cpc: Option<Guess>,
    /// Conversions ÷ clicks.
    pub cvr: Option<Guess>,
    /// Value ÷ conversions.
    pub aov: Option<Guess>,
    /// How much more days differ than by chance.
    pub dispersion: f64,
}

impl Own {
    /// From similar campaigns; nothing from none.
    pub fn of(similar: &[Similar]) -> Self {
        let ran = || similar.iter().filter(|s| s.clicks > 0.0);
        let phi = |s: &Similar| s.dispersion.max(1.0);
        let n = ran().count().max(1) as f64;
        Self {
            ctr: ratio(RATES_DIFFER, ran().map(|s| (s.clicks, s.impressions, phi(s)))),
            cpc: ratio(
                PRICES_DIFFER,
                ran().map(|s| (s.spend, s.clicks, s.spend / s.clicks * phi(s))),
            ),
            cvr: ratio(RATES_DIFFER, ran().map(|s| (s.conversions, s.clicks, phi(s)))),
            aov: ratio(
                PRICES_DIFFER,
                ran()
                    .filter(|s| s.value > 0.0 && s.conversions > 0.0)
                    .map(|s| (s.value, s.conversions, s.value / s.conversions * phi(s))),
            ),
            dispersion: ran().map(phi).sum::<f64>() / n,
        }
    }
}

/// What a channel says of a campaign that doesn't exist yet; a day, but for the people.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Told {
    /// People reached in four weeks.
    pub reach: Option<Guess>,
    /// Times shown.
    pub impressions: Option<Guess>,
    /// Times clicked.
    pub clicks: Option<Guess>,
    /// Money.
    pub spend: Option<Guess>,
}

/// What comes of a campaign a day, as far as it can be told.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Results {
    /// People reached in four weeks.
    pub reach: Option<Guess>,
    /// Times shown.
    pub impressions: Option<Guess>,
    /// Times clicked.
    pub clicks: Option<Guess>,
    /// Money.
    pub spend: Option<Guess>,
    /// Conversions, as the mean of four weeks, whose own luck counts.
    pub conversions: Option<Guess>,
    /// Their value.
    pub value: Option<Guess>,
    /// Spend ÷ clicks.
    pub cpc: Option<Guess>,
    /// Spend ÷ conversions.
    pub cpa: Option<Guess>,
    /// Value ÷ spend.
    pub roas: Option<Guess>,
}

fn both(a: Option<Guess>, b: Option<Guess>) -> Option<Guess> {
    match (a, b) {
        (Some(a), Some(b)) => Some(a.and(b)),
        _ => a.or(b),
    }
}

/// What comes of a budget a day, with the most that a click may cost by its bid or target.
pub fn results(own: &Own, told: Option<&Told>, budget: f64, most_cpc: Option<f64>) -> Results {
    let says = told.copied().unwrap_or_default();
    let theirs = says.spend.zip(says.clicks).map(|(spend, clicks)| Guess {
        log: spend.log - clicks.log,
        // One vagueness is in both; what is left is that of either.
        sd: spend.sd.max(clicks.sd),
    });
    let cap = |g: Option<Guess>| g.map(|g| most_cpc.map_or(g, |most| g.capped(most)));
    let cpc = both(cap(own.cpc), cap(theirs));
    // Without a word of the channel nothing tells whether there is demand for the whole budget.
    let spend = match says.spend {
        Some(spend) => Some(spend.capped(budget)),
        None => told.is_none().then(|| Guess::sure(budget)),
    };
    let clicks = match (spend, cpc) {
        (Some(spend), Some(cpc)) if own.cpc.is_some() => Some(spend.over(cpc)),
        _ => says.clicks,
    };
    let converted = clicks.zip(own.cvr).map(|(clicks, cvr)| clicks.times(cvr));
    // The luck of four weeks' own conversions comes on top of what is not known.
    let count = converted.map(|c| DAYS * c.mid() / own.dispersion.max(1.0));
    let luck = count.map_or(0.0, |count| count.max(0.5).sqrt().recip());
    let with_luck = |g: Guess| Guess { sd: g.sd.hypot(luck), ..g };
    let conversions = converted.map(with_luck);
    let cost = cpc.zip(own.cvr).map(|(cpc, cvr)| cpc.over(cvr));
    Results {
        reach: says.reach,
        impressions: says.impressions.or_else(|| Some(clicks?.over(own.ctr?))),
        value: conversions.zip(own.aov).map(|(c, aov)| c.times(aov)),
        roas: own.aov.zip(cost).map(|(aov, cost)| with_luck(aov.over(cost))),
        cpa: cost.map(with_luck),
        clicks,
        spend,
        conversions,
        cpc,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn guess() -> impl Strategy<Value = Guess> {
        (0.01f64..1e4, 1.01f64..5.0).prop_map(|(low, by)| Guess::within(low, low * by))
    }

    proptest! {
        #[test]
        fn two_guesses_meet_between_them(a in guess(), b in guess()) {
            let c = a.and(b);
            let (low, high) = (a.mid().min(b.mid()), a.mid().max(b.mid()));
            prop_assert!(c.mid() >= low * (1.0 - 1e-9) && c.mid() <= high * (1.0 + 1e-9));
            if a.disagrees(b) {
                let wide = c.sd >= a.sd.min(b.sd);
                prop_assert!(wide, "who disagrees is no surer together");
            }
        }

        #[test]
        fn a_range_is_read_as_it_was_written(low in 0.01f64..1e4, by in 1.01f64..9.0) {
            let i = Guess::within(low, low * by).between();
            prop_assert!((i.low / low - 1.0).abs() < 1e-9 && (i.high / (low * by) - 1.0).abs() < 1e-9);
        }

        /// Definitions: spend = clicks × CPC, and CPA = spend ÷ conversions, at the medians.
        #[test]
        fn medians_keep_to_the_definitions(
            all in proptest::collection::vec((10f64..5e3, 0.1f64..9.0, 0.5f64..300.0), 1..8),
            budget in 5f64..500.0,
            cap in proptest::option::of(0.1f64..9.0),
        ) {
            let similar: Vec<Similar> = all.iter().map(|(clicks, cpc, conversions)| Similar {
                impressions: 30.0 * clicks, clicks: *clicks, spend: clicks * cpc,
                conversions: *conversions, value: 80.0 * conversions, dispersion: 2.0,
            }).collect();
            let r = results(&Own::of(&similar), None, budget, cap);
            let mid = |g: Option<Guess>| g.unwrap().mid();
            let near = |a: f64, b: f64| (a / b - 1.0).abs() < 1e-9;
            prop_assert!(near(mid(r.spend), mid(r.clicks) * mid(r.cpc)));
            prop_assert!(near(mid(r.spend), mid(r.conversions) * mid(r.cpa)));
            prop_assert!(near(mid(r.value), mid(r.spend) * mid(r.roas)));
            prop_assert!(cap.is_none_or(|most| r.cpc.unwrap().between().high <= most * (1.0 + 1e-9)));
        }
    }

    #[test]
    fn nothing_is_told_of_nothing() {
        let r = results(&Own::of(&[]), None, 100.0, None);
        assert_eq!((r.clicks, r.cpa, r.cpc), (None, None, None));
        assert_eq!(r.spend.unwrap().mid().round(), 100.0);
        let silent = results(&Own::of(&[]), Some(&Told::default()), 100.0, None);
        assert_eq!(silent.spend, None, "the channel said nothing of it");
    }

    /// A channel that tells no spend leaves the cost as unsure as the campaigns that are like it.
    #[test]
    fn what_is_not_told_makes_nothing_sure() {
        let like = |conversions| Similar {
            impressions: 9000.0,
            clicks: 300.0,
            spend: 600.0,
            conversions,
            value: 80.0 * conversions,
            dispersion: 1.0,
        };
        let own = Own::of(&[like(12.0), like(20.0)]);
        let r = results(&own, Some(&Told::default()), 100.0, None);
        for g in [r.cpa, r.roas, r.cpc] {
            let Interval { low, high } = g.unwrap().between();
            assert!(high / low > 1.5, "{g:?}");
        }
        assert_eq!((r.conversions, r.clicks), (None, None));
    }
}
