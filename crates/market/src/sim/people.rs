//! Who is reached: the parts of each dimension with their own competition and rates, and what bid
//! adjustments and places change in the whole. Dimensions are taken as independent of each other.

use tiller_core::setting::{Adjustment, Dimension, Places, PlacesMode};

use super::auction::Competition;
use crate::world::{Part, People};

/// Some of the people as they are reached on a day.
#[derive(Clone, Debug, PartialEq)]
pub struct Reached {
    /// Who.
    pub segment: String,
    /// Weight of their impressions.
    pub impressions: f64,
    /// Weight of a click of theirs, for one impression.
    pub ctr: f64,
    /// Weight of a conversion of theirs, for one click.
    pub cvr: f64,
    /// Price of a click of theirs over the others'.
    pub cpc: f64,
}

/// The people of a campaign as they are reached on a day, against how the world file describes them.
#[derive(Clone, Debug, PartialEq)]
pub struct Mix {
    /// By dimension.
    pub dimensions: Vec<(Dimension, Vec<Reached>)>,
    /// Impressions over those of the world file's settings.
    pub reach: f64,
    /// Click-through rate over it.
    pub ctr: f64,
    /// Conversion rate over it.
    pub cvr: f64,
    /// Price of a click over it.
    pub price: f64,
    /// The highest factor that an adjustment puts on a bid.
    pub highest: f64,
}

/// What decides who is reached.
#[derive(Clone, Copy, Debug)]
pub struct Reach<'a> {
    /// Bids raised or lowered for some.
    pub adjustments: &'a [Adjustment],
    /// Whom places mean.
    pub places: Option<&'a Places>,
}

/// The mix when a typical bid is `ratio` times the typical competition.
pub fn mix(people: &People, now: Reach, first: Reach, ratio: f64, spread: f64) -> Mix {
    let mut mix =
        Mix { dimensions: Vec::new(), reach: 1.0, ctr: 1.0, cvr: 1.0, price: 1.0, highest: 1.0 };
    let one = Competition { median: 1.0, spread };
    for dimension in Dimension::ALL {
        let parts = people.parts(dimension);
        if parts.is_empty() {
            continue;
        }
        let reached = |reach: Reach| -> Vec<Reached> {
            parts.iter().map(|p| reach_part(dimension, p, reach, ratio, one)).collect()
        };
        let (is, was) = (reached(now), reached(first));
        let [a, b] = [&is, &was].map(|r| sums(r));
        if b.0 > 0.0 {
            mix.reach *= a.0 / b.0;
            mix.ctr *= quotient(a.1, a.0) / quotient(b.1, b.0);
            mix.cvr *= quotient(a.2, a.1) / quotient(b.2, b.1);
            mix.price *= quotient(a.3, a.1) / quotient(b.3, b.1);
        }
        mix.dimensions.push((dimension, is));
    }
    let factor = |a: &Adjustment| 1.0 + f64::from(a.percent) / 100.0;
    for dimension in Dimension::ALL {
        let of = now.adjustments.iter().filter(|a| a.dimension == dimension);
        mix.highest *= of.map(factor).fold(1.0, f64::max);
    }
    mix
}

fn quotient(a: f64, b: f64) -> f64 {
    if b > 0.0 { a / b } else { 1.0 }
}

/// Impressions, clicks, conversions and money of all parts.
fn sums(parts: &[Reached]) -> (f64, f64, f64, f64) {
    parts.iter().fold((0.0, 0.0, 0.0, 0.0), |s, p| {
        let clicks = p.impressions * p.ctr;
        (s.0 + p.impressions, s.1 + clicks, s.2 + clicks * p.cvr, s.3 + clicks * p.cpc)
    })
}

fn reach_part(
    dimension: Dimension,
    part: &Part,
    reach: Reach,
    ratio: f64,
    one: Competition,
) -> Reached {
    let percent = reach
        .adjustments
        .iter()
        .find(|a| a.dimension == dimension && a.segment == part.segment)
        .map_or(0, |a| a.percent);
    let abroad = dimension == Dimension::Country
        && reach.places.is_some_and(|p| {
            p.mode == PlacesMode::In && !p.targets.is_empty() && !p.targets.contains(&part.segment)
        });
    let bid = ratio * (1.0 + f64::from(percent) / 100.0) / part.competition;
    let wins = one.wins(ratio).max(1e-9);
    let off = percent <= -100 || abroad;
    Reached {
        segment: part.segment.clone(),
        impressions: if off { 0.0 } else { part.share * one.wins(bid) / wins },
        ctr: part.ctr,
        cvr: part.cvr,
        cpc: if off { 1.0 } else { one.price(bid) * part.competition / one.price(ratio).max(1e-9) },
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(segment: &str, share: f64, cvr: f64) -> Part {
        Part { segment: segment.into(), share, ctr: 1.0, cvr, competition: 1.0 }
    }

    fn people() -> People {
        People {
            country: vec![part("Denmark", 0.4, 1.0), part("Elsewhere", 0.6, 0.1)],
            device: vec![part("phone", 0.6, 0.8), part("desktop", 0.4, 1.3)],
            ..People::default()
        }
    }

    fn interested() -> Places {
        Places { mode: PlacesMode::Interested, targets: vec!["Denmark".into()] }
    }

    #[test]
    fn without_a_change_the_world_files_rates_hold() {
        let places = interested();
        let reach = Reach { adjustments: &[], places: Some(&places) };
        let mix = mix(&people(), reach, reach, 1.1, 0.4);
        for x in [mix.reach, mix.ctr, mix.cvr, mix.price] {
            assert!((x - 1.0).abs() < 1e-12);
        }
    }

    #[test]
    fn staying_in_the_places_reaches_fewer_who_convert_better() {
        let (was, is) = (interested(), Places { mode: PlacesMode::In, ..interested() });
        let first = Reach { adjustments: &[], places: Some(&was) };
        let mix = mix(&people(), Reach { places: Some(&is), ..first }, first, 1.1, 0.4);
        assert!((mix.reach - 0.4).abs() < 1e-9);
        // By hand: 1 against 0.4 · 1 + 0.6 · 0.1.
        assert!((mix.cvr - 1.0 / 0.46).abs() < 1e-9);
    }

    #[test]
    fn a_raised_bid_reaches_more_of_them_at_a_higher_price() {
        let first = Reach { adjustments: &[], places: None };
        let adjustments =
            [Adjustment { dimension: Dimension::Device, segment: "desktop".into(), percent: 40 }];
        let mix =
            mix(&people(), Reach { adjustments: &adjustments, places: None }, first, 1.0, 0.4);
        assert!(mix.reach > 1.0 && mix.price > 1.0 && mix.cvr > 1.0);
        assert!((mix.highest - 1.4).abs() < 1e-12);
    }
}
