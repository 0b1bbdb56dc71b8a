//! Adjustments against the market's own truth: whether the interval of a segment's rate over its campaign's holds what the
//! world file says of these people, and how often a proposal points the wrong way.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use crate::common::day;
use chrono::Days;
use tiller_core::evidence::dispersion;
use tiller_core::segments::{Proposal, Rules, Segment, judge_together};
use tiller_core::setting::Dimension;
use tiller_core::{Micros, Price, Tally, Target};
use tiller_market::world::AMBERFOLD;
use tiller_market::{Market, World};

/// Segments of one dimension of one campaign, with how a click of theirs converts over the others', as the world has it.
type Parts = BTreeMap<String, (Tally, f64)>;

#[test]
fn segments_intervals_hold_the_truth() {
    let (mut looked, mut held, mut proposed, mut wrong) = (0, 0, 0, 0);
    for seed in 1..=8 {
        let mut world = World::parse(AMBERFOLD).unwrap();
        world.seed = seed;
        let market = Market::begin(Arc::new(world), day("2026-11-09"));
        let account = market.account("school").unwrap();
        let of_world = market.of_world(account);
        let (from, to) = (market.today - Days::new(29), market.today - Days::new(2));
        for channel in market.channels(account) {
            let mut of: HashMap<String, BTreeMap<Dimension, Parts>> = HashMap::new();
            let mut days: HashMap<(String, chrono::NaiveDate), f64> = HashMap::new();
            for r in market.segments(account, channel, from, to) {
                let campaign = of_world.campaigns.iter().find(|c| c.name == r.campaign).unwrap();
                let usual = &market.world.channel(channel).unwrap().people;
                let people = campaign.people.as_ref().unwrap_or(usual);
                let people = market.world.people.iter().find(|p| p.name == *people).unwrap();
                let parts = people.parts(r.dimension);
                let Some(part) = parts.iter().find(|p| p.segment == r.segment) else { continue };
                let (tally, rate) = of
                    .entry(r.campaign.clone())
                    .or_default()
                    .entry(r.dimension)
                    .or_default()
                    .entry(r.segment.clone())
                    .or_insert((Tally::default(), part.cvr));
                *rate = part.cvr;
                tally.impressions += r.impressions as i64;
                tally.clicks += r.clicks as i64;
                tally.spend += Micros::from_units(r.spend);
                tally.conversions += r.conversions;
                if r.dimension == Dimension::Device {
                    *days.entry((r.campaign, r.date)).or_default() += r.conversions;
                }
            }
            for (campaign, dimensions) in &of {
                let whole: f64 =
                    dimensions[&Dimension::Device].values().map(|p| p.0.conversions).sum();
                if whole < 20.0 {
                    continue;
                }
                let mean = whole / 28.0;
                let each = days.iter().filter(|((c, _), _)| c == campaign).map(|(_, n)| (*n, mean));
                let rules = Rules {
                    target: Target::Cpa(Price(30.0)),
                    dispersion: dispersion(each),
                    raise: true,
                };
                let asked: Vec<(Tally, Vec<Segment>)> = dimensions
                    .values()
                    .map(|parts| {
                        let segment = |(name, (tally, _)): (&'_ String, &(Tally, f64))| Segment {
                            name: Box::leak(name.clone().into_boxed_str()),
                            tally: *tally,
                            present: 0.0,
                        };
                        (parts.values().map(|p| p.0).sum(), parts.iter().map(segment).collect())
                    })
                    .collect();
                for (parts, found) in dimensions.values().zip(judge_together(&asked, rules)) {
                    let clicks: f64 = parts.values().map(|p| p.0.clicks as f64).sum();
                    let mean: f64 =
                        parts.values().map(|(t, rate)| t.clicks as f64 / clicks * rate).sum();
                    for ((tally, rate), f) in parts.values().zip(found) {
                        let truth = rate / mean;
                        // Where hardly anything was expected the interval is as good as boundless.
                        if tally.clicks as f64 / clicks * whole >= 3.0 {
                            looked += 1;
                            let within = (f.ratio_at_least..=f.ratio_at_most).contains(&truth);
                            held += usize::from(within);
                        }
                        let to = match f.proposal {
                            Proposal::Leave => continue,
                            Proposal::Exclude => -1.0,
                            Proposal::Adjust(to) => to,
                        };
                        proposed += 1;
                        wrong += usize::from((to > 0.0) != (truth > 1.0));
                    }
                }
            }
        }
    }
    let share = held as f64 / f64::from(looked);
    assert!(looked > 1000, "{looked}");
    // 80% are promised; the campaign's own rate is taken as known.
    assert!((0.76..=0.93).contains(&share), "{share} of {looked}");
    assert!(proposed > 30 && wrong * 10 <= proposed, "{wrong} of {proposed}");
}
