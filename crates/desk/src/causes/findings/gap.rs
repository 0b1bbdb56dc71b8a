//! The gap to the comparison period by segments (C3): how much of it is the price of clicks, how much the
//! conversion rate, and how much that other people were reached.

use tiller_core::bridge::{self, Effect};
use tiller_core::setting::Dimension;
use tiller_core::{Price, Tally};
use tiller_store::splits::SegmentTally;

/// Smaller changes of the cost, as a share, are not taken apart.
const LEAST: f64 = 0.05;
/// In this order dimensions are preferred where they tell as much.
const ORDER: [Dimension; 6] = [
    Dimension::Country,
    Dimension::Gender,
    Dimension::Age,
    Dimension::Income,
    Dimension::Placement,
    Dimension::Device,
];

/// The gap by the segments of one dimension; money per conversion.
#[derive(Clone, Debug)]
pub struct Gap {
    /// Which dimension.
    pub by: Dimension,
    /// CPA of the comparison period.
    pub from: Price,
    /// CPA of the period.
    pub to: Price,
    /// What each segment adds, the greatest first; they add up to the gap.
    pub rows: Vec<(String, Effect)>,
}

/// Takes the gap apart by the dimension whose mix moved it most.
pub(super) fn find(now: &[SegmentTally], before: &[SegmentTally]) -> Option<Gap> {
    let all = ORDER.into_iter().filter_map(|by| of(by, now, before));
    let mix = |g: &Gap| g.rows.iter().map(|(_, e)| e.mix.abs()).sum::<f64>();
    // The first of equals: the order is the one in which they are looked through.
    all.reduce(|a, b| if mix(&b) > mix(&a) { b } else { a })
        .filter(|g| (g.to / g.from - 1.0).abs() >= LEAST)
}

fn of(by: Dimension, now: &[SegmentTally], before: &[SegmentTally]) -> Option<Gap> {
    let sum = |all: &[SegmentTally], segment: &str| -> Tally {
        let of = all.iter().filter(|s| s.dimension == by.word() && s.segment == segment);
        of.map(|s| s.tally).sum()
    };
    let mut names: Vec<&str> = now
        .iter()
        .chain(before)
        .filter(|s| s.dimension == by.word())
        .map(|s| s.segment.as_str())
        .collect();
    names.sort_unstable();
    names.dedup();
    let pairs: Vec<(Tally, Tally)> =
        names.iter().map(|name| (sum(now, name), sum(before, name))).collect();
    let effects = bridge::by_segments(&pairs)?;
    let whole = |side: fn(&(Tally, Tally)) -> Tally| pairs.iter().map(side).sum::<Tally>().cpa();
    let mut rows: Vec<(String, Effect)> =
        names.into_iter().map(str::to_owned).zip(effects).collect();
    rows.sort_by(|a, b| b.1.sum().abs().total_cmp(&a.1.sum().abs()));
    Some(Gap { by, from: whole(|p| p.1)?, to: whole(|p| p.0)?, rows })
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::Micros;
    use tiller_core::ids::CampaignId;

    fn segment(name: &str, clicks: i64, conversions: f64) -> SegmentTally {
        SegmentTally {
            campaign: CampaignId(1),
            dimension: "country".into(),
            segment: name.into(),
            tally: Tally {
                clicks,
                conversions,
                spend: Micros::from_units(clicks as f64),
                ..Tally::default()
            },
        }
    }

    #[test]
    fn a_new_country_is_mix_and_the_rows_add_up() {
        let before = [segment("Denmark", 1000, 100.0)];
        let now = [segment("Denmark", 1000, 100.0), segment("Brazil", 500, 5.0)];
        let gap = find(&now, &before).unwrap();
        assert_eq!(gap.rows[0].0, "Brazil");
        let sum: f64 = gap.rows.iter().map(|(_, e)| e.sum()).sum();
        assert!((sum - (gap.to - gap.from).units()).abs() < 1e-9 && gap.to > gap.from);
        assert!(find(&before, &before).is_none(), "nothing moved");
    }
}
