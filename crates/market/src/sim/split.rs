//! The reports by segments, search terms and ads. They are drawn when they are asked for, each from a
//! generator of its own, and add up to the whole.

use chrono::NaiveDate;
use rand_chacha::ChaCha8Rng;
use tiller_channel::Micros;
use tiller_channel::wire::{AdRow, SegmentRow, TermRow};
use tiller_core::setting::{Dimension, MatchType};

use super::campaign::HourTally;
use super::chance::{binomial, multinomial, nested, number, rng};
use super::market::{AccountSim, Market};
use super::report::Visit;

/// Counts that are split.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
struct Whole {
    impressions: u32,
    clicks: u32,
    spend: Micros,
    conversions: u32,
    value: Micros,
}

/// Splits a whole over parts with their weights: impressions, clicks of those, conversions of those, price
/// of a click. Money goes by clicks and price, value by conversions. `rate` is the usual conversion rate.
///
/// It is drawn from the inside out: of a day's only click that converted we know that it did, so it was
/// more likely made by those who convert well.
fn split(whole: Whole, parts: &[[f64; 4]], rate: f64, rng: &mut ChaCha8Rng) -> Vec<Whole> {
    let of = |f: &dyn Fn(&[f64; 4]) -> f64| parts.iter().map(f).collect::<Vec<f64>>();
    let shown = of(&|p| p[0]);
    let clicked = of(&|p| p[0] * p[1]);
    let converted = of(&|p| p[0] * p[1] * p[2]);
    let sum = |weights: &[f64]| weights.iter().sum::<f64>();
    // What is off today may still convert from clicks of days before.
    let converted = if sum(&converted) > 0.0 { converted } else { clicked.clone() };
    let conversions = multinomial(whole.conversions, &converted, rng);
    // A page view may be counted beside an order: then there are more results than clicks, and a result
    // tells nothing of a click.
    let told =
        if whole.conversions <= whole.clicks { conversions.clone() } else { vec![0; parts.len()] };
    let scale = if sum(&converted) > 0.0 { rate * sum(&clicked) / sum(&converted) } else { 0.0 };
    let idle = of(&|p| p[0] * p[1] * (1.0 - (scale * p[2]).min(0.98)));
    let add = |a: &[u32], b: Vec<u32>| a.iter().zip(b).map(|(a, b)| a + b).collect::<Vec<u32>>();
    let rest = |n: u32, of: &[u32]| n.saturating_sub(of.iter().sum());
    let clicks = add(&told, multinomial(rest(whole.clicks, &told), &idle, rng));
    let impressions = add(&clicks, multinomial(rest(whole.impressions, &clicks), &shown, rng));
    // Impressions may cost money though nobody clicked.
    let paid_for = if whole.clicks > 0 { &clicks } else { &impressions };
    let spend: Vec<f64> =
        paid_for.iter().zip(of(&|p| p[3])).map(|(c, p)| f64::from(*c) * p).collect();
    let worth: Vec<f64> = conversions.iter().map(|c| f64::from(*c)).collect();
    let (spend, value) = (share(whole.spend, &spend), share(whole.value, &worth));
    (0..parts.len())
        .map(|i| Whole {
            impressions: impressions[i],
            clicks: clicks[i],
            spend: spend[i],
            conversions: conversions[i],
            value: value[i],
        })
        .collect()
}

/// Shares money out in whole cents; what rounding leaves goes to the largest.
fn share(money: Micros, weights: &[f64]) -> Vec<Micros> {
    let all: f64 = weights.iter().sum();
    let largest =
        weights.iter().enumerate().max_by(|a, b| a.1.total_cmp(b.1)).map_or(0, |(i, _)| i);
    let mut shares: Vec<Micros> = weights
        .iter()
        .map(|w| {
            let part = if all > 0.0 { money.to_units() * w / all } else { 0.0 };
            Micros::new((part * 100.0).floor() as i64 * 10_000)
        })
        .collect();
    let rest = money - shares.iter().copied().sum::<Micros>();
    if let Some(s) = shares.get_mut(largest) {
        *s += rest;
    }
    shares
}

fn generator(visit: &Visit, purpose: u64, part: u64) -> ChaCha8Rng {
    let purpose = [
        purpose,
        number(&visit.home.account.key),
        visit.sim.index as u64,
        part,
        visit.day.at.number(visit.home.world),
    ];
    rng(visit.home.world.seed, &purpose)
}

fn whole_of(visit: &Visit, pick: impl Fn(usize) -> bool) -> Whole {
    let mut whole = Whole::default();
    for (_, s) in visit.day.streams.iter().enumerate().filter(|(i, _)| pick(*i)) {
        let (conversions, value) = visit.results(s);
        whole.impressions += s.impressions;
        whole.clicks += s.clicks;
        whole.spend += s.spend;
        whole.conversions += conversions;
        whole.value += value;
    }
    whole
}

impl Market {
    /// The report by segments: each dimension adds up to its ad group's day.
    pub fn segments<'m>(
        &'m self,
        sim: &'m AccountSim,
        channel: &'m str,
        from: NaiveDate,
        to: NaiveDate,
    ) -> impl Iterator<Item = SegmentRow> + 'm {
        self.visits(sim, Some(channel), from, to).flat_map(|visit| {
            let mut rows = Vec::new();
            for g in 0..visit.sim.groups.len() {
                let whole = whole_of(&visit, |i| visit.sim.streams[i].ad_group == g);
                if whole.impressions == 0 {
                    continue;
                }
                let rate = visit.home.campaign.cvr;
                for (dimension, parts) in &visit.day.mix.dimensions {
                    let weights: Vec<[f64; 4]> =
                        parts.iter().map(|p| [p.impressions, p.ctr, p.cvr, p.cpc]).collect();
                    let mut rng = generator(&visit, 16 + *dimension as u64, g as u64);
                    let names = parts.iter().map(|p| p.segment.clone());
                    for (segment, part) in names.zip(split(whole, &weights, rate, &mut rng)) {
                        push(&mut rows, &visit, g, *dimension, segment, part);
                    }
                }
                for (hour, part) in by_hour(&visit, g, whole).into_iter().enumerate() {
                    push(&mut rows, &visit, g, Dimension::Hour, hour.to_string(), part);
                }
            }
            rows
        })
    }

    /// The report by search terms: the terms of a keyword add up to its day.
    pub fn terms<'m>(
        &'m self,
        sim: &'m AccountSim,
        channel: &'m str,
        from: NaiveDate,
        to: NaiveDate,
    ) -> impl Iterator<Item = TermRow> + 'm {
        self.visits(sim, Some(channel), from, to).flat_map(|visit| {
            let mut rows = Vec::new();
            for (i, stream) in visit.sim.streams.iter().enumerate() {
                if stream.terms.is_empty() || i >= visit.day.streams.len() {
                    continue;
                }
                let whole = whole_of(&visit, |j| j == i);
                if whole.impressions == 0 {
                    continue;
                }
                let since = visit.day.at.since;
                let weights: Vec<[f64; 4]> = stream
                    .terms
                    .iter()
                    .map(|t| [if t.on(since) { t.share } else { 0.0 }, 1.0, t.relevance, 1.0])
                    .collect();
                let rate = visit.home.campaign.cvr * stream.cvr;
                let mut rng = generator(&visit, 9, i as u64);
                for (term, part) in stream.terms.iter().zip(split(whole, &weights, rate, &mut rng))
                {
                    if part.impressions == 0 {
                        continue;
                    }
                    rows.push(TermRow {
                        date: visit.day.at.date,
                        campaign: visit.home.campaign.name.clone(),
                        ad_group: visit.home.campaign.ad_groups[stream.ad_group].name.clone(),
                        item: stream.item.clone(),
                        match_type: stream.match_type.unwrap_or(MatchType::Exact),
                        term: term.text.clone(),
                        impressions: part.impressions.into(),
                        clicks: part.clicks.into(),
                        spend: part.spend.to_units(),
                        conversions: part.conversions.into(),
                        value: part.value.to_units(),
                    });
                }
            }
            rows
        })
    }

    /// The report by ads: what they are made of, and how films are watched.
    pub fn ads<'m>(
        &'m self,
        sim: &'m AccountSim,
        channel: &'m str,
        from: NaiveDate,
        to: NaiveDate,
    ) -> impl Iterator<Item = AdRow> + 'm {
        self.visits(sim, Some(channel), from, to).flat_map(|visit| {
            let campaign = visit.home.campaign;
            let rows: Vec<AdRow> = visit
                .sim
                .streams
                .iter()
                .enumerate()
                .filter(|(i, s)| {
                    (s.made.is_some() || campaign.film.is_some())
                        && visit.day.streams.get(*i).is_some_and(|d| d.impressions > 0)
                })
                .map(|(i, stream)| {
                    let whole = whole_of(&visit, |j| j == i);
                    let group = &campaign.ad_groups[stream.ad_group];
                    let [visual, text, headline] = match (&stream.made, &group.made_of) {
                        (Some([v, t, h]), Some(of)) => [
                            of.visuals[*v].name.clone(),
                            of.texts[*t].name.clone(),
                            of.headlines[*h].name.clone(),
                        ],
                        _ => [stream.item.clone(), String::new(), String::new()],
                    };
                    let mut rng = generator(&visit, 10, i as u64);
                    let film = campaign.film.as_ref().map(|f| {
                        let hooked = binomial(whole.impressions, f.hook, &mut rng);
                        let mut views = [0; 4];
                        let mut left = (hooked, 1.0);
                        for (view, share) in views.iter_mut().zip(f.hold) {
                            *view = binomial(left.0, (share / left.1).min(1.0), &mut rng);
                            left = (*view, share.max(1e-9));
                        }
                        // Each leaves half-way between the marks.
                        let seconds = 3.0 * f64::from(hooked)
                            + f.seconds / 4.0 * views.iter().map(|v| f64::from(*v)).sum::<f64>();
                        (hooked, views, seconds)
                    });
                    let views = |k: usize| film.map(|f| u64::from(f.1[k]));
                    AdRow {
                        date: visit.day.at.date,
                        campaign: campaign.name.clone(),
                        ad_group: group.name.clone(),
                        item: stream.item.clone(),
                        visual,
                        text,
                        headline,
                        impressions: whole.impressions.into(),
                        clicks: whole.clicks.into(),
                        spend: whole.spend.to_units(),
                        conversions: whole.conversions.into(),
                        value: whole.value.to_units(),
                        views_3s: film.map(|f| f.0.into()),
                        views_25: views(0),
                        views_50: views(1),
                        views_75: views(2),
                        views_100: views(3),
                        watch_seconds: film.map(|f| f.2),
                    }
                })
                .collect();
            rows
        })
    }
}

fn push(
    rows: &mut Vec<SegmentRow>,
    visit: &Visit,
    group: usize,
    dimension: Dimension,
    segment: String,
    part: Whole,
) {
    if part.impressions == 0 {
        return;
    }
    rows.push(SegmentRow {
        date: visit.day.at.date,
        campaign: visit.home.campaign.name.clone(),
        ad_group: visit.home.campaign.ad_groups[group].name.clone(),
        dimension,
        segment,
        impressions: part.impressions.into(),
        clicks: part.clicks.into(),
        spend: part.spend.to_units(),
        conversions: part.conversions.into(),
        value: part.value.to_units(),
    });
}

/// Hours are counted as they happen; what has been reported of their conversions is drawn.
fn by_hour(visit: &Visit, group: usize, whole: Whole) -> Vec<Whole> {
    let hours: &[HourTally; 24] = &visit.day.hours[group];
    let of = |f: fn(&HourTally) -> f64| hours.iter().map(f).collect::<Vec<f64>>();
    let spend = share(whole.spend, &of(|h| f64::from(h.spend)));
    let mut rng = generator(visit, 11, group as u64);
    let room: Vec<u32> = if whole.conversions > whole.clicks {
        hours.iter().map(|h| h.clicks * (whole.conversions / whole.clicks.max(1) + 1)).collect()
    } else {
        hours.iter().map(|h| h.clicks).collect()
    };
    // What really happened first, then what was counted besides.
    let conversions = nested(whole.conversions, &room, &of(|h| f64::from(h.converted)), &mut rng);
    let value = share(whole.value, &conversions.iter().map(|c| f64::from(*c)).collect::<Vec<_>>());
    (0..24)
        .map(|h| Whole {
            impressions: hours[h].impressions,
            clicks: hours[h].clicks,
            spend: spend[h],
            conversions: conversions[h],
            value: value[h],
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_split_adds_up_and_nests(impressions in 0u32..3000, clicked in 0.0f64..0.2, converted in 0.0f64..0.4, seed in 0u64..50) {
            let clicks = (f64::from(impressions) * clicked) as u32;
            let conversions = (f64::from(clicks) * converted) as u32;
            let whole = Whole {
                impressions, clicks, conversions,
                spend: Micros::new(i64::from(clicks) * 1_230_000),
                value: Micros::new(i64::from(conversions) * 85_010_000),
            };
            let parts = [[0.5, 1.0, 1.0, 1.0], [0.3, 2.0, 0.5, 1.2], [0.2, 0.5, 0.0, 0.7], [0.0, 1.0, 1.0, 1.0]];
            let split = split(whole, &parts, 0.1, &mut rng(seed, &[1]));
            let sum = split.iter().fold(Whole::default(), |s, p| Whole {
                impressions: s.impressions + p.impressions,
                clicks: s.clicks + p.clicks,
                spend: s.spend + p.spend,
                conversions: s.conversions + p.conversions,
                value: s.value + p.value,
            });
            prop_assert_eq!(sum, whole);
            prop_assert!(split.iter().all(|p| p.clicks <= p.impressions && p.conversions <= p.clicks));
            prop_assert_eq!(split[3], Whole::default());
        }
    }

    /// Days with a click or none: a term that nobody buys by must not come by conversions because its click
    /// was the only one of the day.
    #[test]
    fn sparse_days_keep_the_rates() {
        let parts = [[0.7, 1.0, 1.3, 1.0], [0.3, 1.0, 0.3, 1.0]];
        let mut sums = [(0u32, 0u32); 2];
        for day in 0..20_000u64 {
            let converted = u32::from(day % 5 == 0);
            let whole =
                Whole { impressions: 30, clicks: 1, conversions: converted, ..Whole::default() };
            for (sum, part) in sums.iter_mut().zip(split(whole, &parts, 0.2, &mut rng(7, &[day]))) {
                *sum = (sum.0 + part.clicks, sum.1 + part.conversions);
            }
        }
        let rate = |(clicks, conversions): (u32, u32)| f64::from(conversions) / f64::from(clicks);
        // All together convert at 20%: 0.7 × 1.3 + 0.3 × 0.3 = 1, so 26% and 6%.
        assert!((rate(sums[0]) - 0.26).abs() < 0.01, "{sums:?}");
        assert!((rate(sums[1]) - 0.06).abs() < 0.01, "{sums:?}");
        assert!((f64::from(sums[1].0) / 20_000.0 - 0.3).abs() < 0.01, "{sums:?}");
    }
}
