//! Laws of what is diagnosed below a campaign: run-off, segments, search terms, listings' bids, bid against volume,
//! breaks, bids that follow themselves. They hold whatever the figures are, in whatever currency, in whatever order.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use chrono::{Days, NaiveDate};
use proptest::prelude::*;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, LogNormal, Normal};
use tiller_core::bid_feedback::{self, feedback, steady_headroom};
use tiller_core::bid_volume::{self, PRICE, PRIOR, elasticity};
use tiller_core::change_point::change_point;
use tiller_core::lag::{Open, RunOff};
use tiller_core::segments::{self, LEAST_CONVERSIONS, Proposal, Rules, Segment};
use tiller_core::terms::{self, Term};
use tiller_core::week::DAYS;
use tiller_core::{Micros, Price, Tally, Target, listing_bids};

fn near(a: f64, b: f64) -> bool {
    (a - b).abs() <= 1e-9 * (1.0 + a.abs().max(b.abs()))
}

fn tally(clicks: i64, conversions: u32, cpc: f64, worth: f64) -> Tally {
    Tally {
        impressions: 20 * clicks,
        clicks,
        spend: Micros::from_units(clicks as f64 * cpc),
        conversions: f64::from(conversions),
        value: Micros::from_units(f64::from(conversions) * worth),
    }
}

/// The same in a currency of which so many are one.
fn in_currency(t: &Tally, rate: i64) -> Tally {
    let times = |m: Micros| Micros::new(m.get() * rate);
    Tally { spend: times(t.spend), value: times(t.value), ..*t }
}

fn target_in(target: Target, rate: i64) -> Target {
    match target {
        Target::Cpa(x) => Target::Cpa(x * rate as f64),
        roas @ Target::Roas(_) => roas,
    }
}

fn some_tally() -> impl Strategy<Value = Tally> {
    (1i64..3000, 0u32..80, 0.1f64..5.0, 5.0f64..200.0).prop_map(|(clicks, results, cpc, worth)| {
        tally(clicks.max(results.into()), results, cpc, worth)
    })
}

fn target() -> impl Strategy<Value = Target> {
    prop_oneof![
        (5.0f64..120.0).prop_map(|x| Target::Cpa(Price(x))),
        (0.5f64..8.0).prop_map(Target::Roas)
    ]
}

fn rules() -> impl Strategy<Value = Rules> {
    (target(), 0.8f64..4.0, any::<bool>()).prop_map(|(target, dispersion, raise)| Rules {
        target,
        dispersion,
        raise,
    })
}

/// Click days with their conversions by age, the last ones still young.
fn triangle() -> impl Strategy<Value = (Vec<Vec<f64>>, usize)> {
    (3usize..12).prop_flat_map(|length| {
        let day = prop::collection::vec(0u32..40, length + 1);
        prop::collection::vec(day, length + 2..40).prop_map(move |days| {
            let n = days.len();
            let seen = |(i, day): (usize, Vec<u32>)| {
                let age = (n - 1 - i).min(length);
                day[..=age].iter().map(|c| f64::from(*c)).collect::<Vec<f64>>()
            };
            (days.into_iter().enumerate().map(seen).collect(), length)
        })
    })
}

fn open(days: &[Vec<f64>]) -> Vec<Open> {
    days.iter().map(|d| Open { age: d.len() - 1, reported: d.iter().sum() }).collect()
}

proptest! {
    /// A day is never less ripe when it is older; one that can bring nothing more is what it is.
    #[test]
    fn days_ripen((days, length) in triangle()) {
        let Some(run_off) = RunOff::fit(&days, length) else { return Ok(()) };
        let ripe: Vec<f64> = (0..=length + 2).map(|age| run_off.maturity(age)).collect();
        prop_assert!(ripe.windows(2).all(|w| w[0] <= w[1] + 1e-12), "{:?}", ripe);
        prop_assert!(ripe[0] > 0.0 && near(ripe[length], 1.0));
        prop_assert!(run_off.settled_age() <= length);
        let done = run_off.complete(&[Open { age: length, reported: 17.0 }]);
        prop_assert!(near(done.conversions, 17.0) && done.error == 0.0);
    }

    /// Days together are what they are one by one, and no less sure than if their errors all fell the same way.
    #[test]
    fn days_together_are_the_sum_of_days((days, length) in triangle()) {
        let Some(run_off) = RunOff::fit(&days, length) else { return Ok(()) };
        let open = open(&days);
        let all = run_off.complete(&open);
        let each: Vec<_> = open.iter().map(|d| run_off.complete(&[*d])).collect();
        prop_assert!(near(all.conversions, each.iter().map(|c| c.conversions).sum()));
        prop_assert!(near(all.reported, each.iter().map(|c| c.reported).sum()));
        prop_assert!(all.error <= each.iter().map(|c| c.error).sum::<f64>() + 1e-9);
        let (narrow, wide) = (all.interval(0.5), all.interval(0.9));
        prop_assert!(wide.low <= narrow.low + 1e-9 && narrow.high <= wide.high + 1e-9);
        prop_assert!(narrow.low >= all.reported - 1e-9);
    }

    /// Ten times the conversions run off alike, and so does the same triangle read backwards.
    #[test]
    fn run_off_knows_no_scale_and_no_order((days, length) in triangle(), times in 2u8..20) {
        let Some(run_off) = RunOff::fit(&days, length) else { return Ok(()) };
        let times = f64::from(times);
        let more: Vec<Vec<f64>> =
            days.iter().rev().map(|d| d.iter().map(|c| times * c).collect()).collect();
        let scaled = RunOff::fit(&more, length).unwrap();
        for age in 0..=length {
            prop_assert!(near(scaled.maturity(age), run_off.maturity(age)));
        }
        let (a, b) = (run_off.complete(&open(&days)), scaled.complete(&open(&more)));
        prop_assert!(near(times * a.conversions, b.conversions));
        prop_assert!((times * a.error - b.error).abs() <= 1e-6 * (1.0 + b.error));
    }

    /// What is proposed of a segment is one step among those that are offered, for a reason that its figures bear,
    /// and the same in any currency and any order.
    #[test]
    fn segments_are_judged_by_their_figures(
        tallies in prop::collection::vec((some_tally(), -8i8..=8), 1..9),
        rules in rules(),
        rate in 2i64..150,
    ) {
        let parent: Tally = tallies.iter().map(|(t, _)| *t).sum();
        let list = |all: &[(Tally, i8)]| -> Vec<Segment<'static>> {
            let of = |(t, p): &(Tally, i8)| Segment {
                name: "segment",
                tally: *t,
                present: f64::from(*p) / 20.0,
            };
            all.iter().map(of).collect()
        };
        let found = segments::judge(&parent, &list(&tallies), rules);
        prop_assert_eq!(found.len(), tallies.len());
        for (f, (t, present)) in found.iter().zip(&tallies) {
            let present = f64::from(*present) / 20.0;
            prop_assert!((0.0..=1.0).contains(&f.p) && f.ratio_at_least <= f.ratio_at_most);
            prop_assert!(near(f.excess, rules.target.excess(t)));
            match f.proposal {
                Proposal::Leave => {}
                Proposal::Adjust(to) => {
                    prop_assert!((to * 20.0 - (to * 20.0).round()).abs() < 1e-9, "{} is no step", to);
                    prop_assert!((-0.9..=1.0).contains(&to) && !near(to, present));
                    prop_assert!(rules.raise || to < present, "{:?} raises {}", f, present);
                    prop_assert!(parent.conversions >= LEAST_CONVERSIONS);
                }
                Proposal::Exclude => {
                    prop_assert!(f.ratio_at_most < 0.5 && f.excess > 0.0, "{:?}", f);
                    prop_assert_eq!(f.adds(&list(&tallies)[0]).0 <= 0.0, true);
                }
            }
        }
        // Another currency, another order.
        let mut turned: Vec<(Tally, i8)> =
            tallies.iter().map(|(t, p)| (in_currency(t, rate), *p)).collect();
        turned.reverse();
        let there = Rules { target: target_in(rules.target, rate), ..rules };
        let mut again = segments::judge(&in_currency(&parent, rate), &list(&turned), there);
        again.reverse();
        for (a, b) in found.iter().zip(&again) {
            prop_assert_eq!(a.proposal, b.proposal);
            prop_assert!(near(a.ratio, b.ratio));
        }
    }

    /// People who are all alike are left alone.
    #[test]
    fn alike_segments_are_left_alone(one in some_tally(), n in 2usize..9, rules in rules()) {
        let all: Vec<Segment> =
            (0..n).map(|_| Segment { name: "alike", tally: one, present: 0.0 }).collect();
        let parent: Tally = all.iter().map(|s| s.tally).sum();
        for f in segments::judge(&parent, &all, rules) {
            prop_assert_eq!(f.proposal, Proposal::Leave);
        }
    }

    /// Each term is blamed once, for money that it really cost too much, and never praised as well; the same in any
    /// currency and any order.
    #[test]
    fn terms_are_spoken_for_once(
        all in prop::collection::vec(
            (prop::collection::vec(prop::sample::select(vec!["hive", "queen", "free", "honey", "plans", "used"]), 1..4), some_tally(), any::<bool>()),
            1..30),
        target in target(),
        rate in 2i64..150,
    ) {
        let list: Vec<Term> = all
            .iter()
            .map(|(words, tally, keyword)| Term { text: words.join(" "), tally: *tally, keyword: *keyword })
            .collect();
        let parent: Tally = list.iter().map(|t| t.tally).sum();
        let found = terms::judge(&parent, &list, target);
        let mut blamed: Vec<usize> = found.waste.iter().flat_map(|w| w.terms.clone()).collect();
        let count = blamed.len();
        blamed.sort_unstable();
        blamed.dedup();
        prop_assert_eq!(blamed.len(), count, "blamed twice");
        for w in &found.waste {
            let sum: Tally = w.terms.iter().map(|i| list[*i].tally).sum();
            prop_assert_eq!(w.tally, sum);
            prop_assert!(near(w.excess, target.excess(&sum)) && w.excess > 0.0);
            prop_assert!(w.shared == (w.terms.len() > 1));
            for i in &w.terms {
                prop_assert!(!w.shared || list[*i].text.split(' ').any(|word| word == w.words));
            }
        }
        prop_assert!(found.waste.windows(2).all(|w| w[0].excess >= w[1].excess - 1e-9));
        for i in &found.promising {
            prop_assert!(!list[*i].keyword && !blamed.contains(i));
            prop_assert!(target.excess(&list[*i].tally) <= 1e-9, "{:?} is no good term", list[*i]);
        }
        let there: Vec<Term> =
            list.iter().map(|t| Term { tally: in_currency(&t.tally, rate), ..t.clone() }).collect();
        let again = terms::judge(&in_currency(&parent, rate), &there, target_in(target, rate));
        prop_assert_eq!(&again.promising, &found.promising);
        let freed = |f: &terms::Findings| f.waste.iter().map(|w| w.excess).sum::<f64>();
        prop_assert!(near(freed(&again), rate as f64 * freed(&found)));
    }

    /// A bid moves toward what a click is worth, by one step at most, and the same in any currency.
    #[test]
    fn listings_bids_move_by_a_step(
        parent in some_tally(), own in some_tally(), bid in 0.05f64..9.0, rules in rules(), rate in 2i64..150,
    ) {
        let bid = Price(bid);
        let found = listing_bids::propose(&parent, &own, bid, rules);
        let there = Rules { target: target_in(rules.target, rate), ..rules };
        let again = listing_bids::propose(
            &in_currency(&parent, rate), &in_currency(&own, rate), bid * rate as f64, there);
        prop_assert_eq!(found.is_some(), again.is_some());
        let Some(p) = found else { return Ok(()) };
        prop_assert!((again.unwrap().bid.units() / (rate as f64 * p.bid.units()) - 1.0).abs() < 1e-6);
        let (by, cpc) = (p.bid / bid, own.cpc().unwrap());
        prop_assert!((0.8 - 1e-9..=1.2 + 1e-9).contains(&by) && (by - 1.0).abs() >= 0.05 - 1e-9, "{}", by);
        prop_assert_eq!(by > 1.0, p.affordable > cpc);
        prop_assert!(rules.raise || by < 1.0);
        // Its next conversion, at twice the mean price of the clicks that a raise adds, meets the target.
        prop_assert!(by < 1.0 || cpc * (2.0 * by) <= p.affordable * (1.0 + 1e-9));
        prop_assert!((0.0..=1.0).contains(&p.p));
    }

    /// The same price buys the same clicks, a higher one never fewer; how much it buys depends on no currency.
    #[test]
    fn dearer_clicks_are_never_fewer(
        days in prop::collection::vec((1i64..2000, 0.2f64..6.0), 1..60),
        from in 0.2f64..6.0,
        steps in prop::collection::vec(1.0f64..1.6, 1..6),
        rate in 2i64..150,
    ) {
        let list = |rate: i64| -> Vec<bid_volume::Day> {
            let day = |(i, (clicks, bid)): (usize, &(i64, f64))| bid_volume::Day {
                weekday: DAYS[i % 7],
                at: i as f64,
                clicks: *clicks,
                spend: 0.8 * bid * rate as f64 * *clicks as f64,
                bid: Some(bid * rate as f64),
                held: i % 9 == 8,
            };
            days.iter().enumerate().map(day).collect()
        };
        let e = elasticity(&list(1), PRIOR, None).unwrap();
        prop_assert!(e.clicks.sd > 0.0 && e.clicks.sd <= PRIOR.sd && e.clicks.mean.is_finite());
        prop_assert!(e.price.sd > 0.0 && e.price.sd <= PRICE.sd && e.price.mean.is_finite());
        prop_assert_eq!((e.volume(1.0).mid, e.cpc(1.0).mid), (1.0, 1.0));
        let (mut times, mut last, mut paid) = (from, e.volume(from).mid, e.cpc(from).mid);
        for step in steps {
            times *= step;
            let (volume, cpc) = (e.volume(times), e.cpc(times));
            prop_assert!(volume.mid >= last - 1e-12 && volume.around.contains(volume.mid));
            // Dearer, but never by more than the bid is higher.
            prop_assert!(cpc.mid >= paid - 1e-12 && cpc.mid <= paid * step * (1.0 + 1e-9));
            (last, paid) = (volume.mid, cpc.mid);
        }
        let there = elasticity(&list(rate), PRIOR, None).unwrap();
        for (a, b) in [(there.clicks, e.clicks), (there.price, e.price)] {
            prop_assert!((a.mean - b.mean).abs() < 1e-6 && (a.sd - b.sd).abs() < 1e-6);
        }
        let seen = e.seen.unwrap();
        prop_assert!(seen.contains(1.0) && e.has_seen(seen.low) && !e.has_seen(seen.high * 1.01));
    }

    /// A break is one of ranks: the same whatever the scale, and found from either end.
    #[test]
    fn breaks_are_of_ranks(values in prop::collection::vec(-50i32..50, 4..60)) {
        let plain: Vec<f64> = values.iter().map(|v| f64::from(*v)).collect();
        let Some(found) = change_point(&plain) else { return Ok(()) };
        prop_assert!(found.p > 0.0 && found.p <= 1.0 && found.at >= 1 && found.at < values.len());
        let bent: Vec<f64> = plain.iter().map(|v| 3.0 + (v / 20.0).exp()).collect();
        prop_assert_eq!(change_point(&bent), Some(found));
        let down: Vec<f64> = plain.iter().map(|v| -v).collect();
        let down = change_point(&down).unwrap();
        prop_assert_eq!((down.at, down.up), (found.at, !found.up));
        let back: Vec<f64> = plain.iter().rev().copied().collect();
        prop_assert!(near(change_point(&back).unwrap().p, found.p));
    }

    /// A bid that is set from its own average rests where the closed form says, in any currency; the headroom that is
    /// said to hold does.
    #[test]
    fn bids_that_follow_themselves_come_to_rest(
        per_bid in 0.3f64..0.92, first in 0.8f64..5.0, fall in 0.3f64..1.0, rate in 1i64..100,
    ) {
        let headroom = fall * first * (1.0 - per_bid);
        let rounds = |rate: i64| {
            let mut bid = first * rate as f64;
            let mut days = Vec::new();
            for n in 0..84 {
                if n > 0 && n % 7 == 0 {
                    bid = per_bid * bid + headroom * rate as f64;
                }
                let day = NaiveDate::from_ymd_opt(2026, 6, 1).unwrap() + Days::new(n);
                days.push((day, Some(Micros::from_units(bid)), tally(50, 0, per_bid * bid, 0.0)));
            }
            bid_feedback::rounds(&days)
        };
        let here = rounds(1);
        prop_assume!(here.len() > 5);
        let found = feedback(&here).expect("it follows itself");
        prop_assert!((found.rests_at.units() / (headroom / (1.0 - per_bid)) - 1.0).abs() < 1e-3);
        prop_assert_eq!(found.spiral, found.rests_at < Price(0.9 * first));
        let there = feedback(&rounds(rate)).expect("in any currency");
        prop_assert!((there.rests_at / (found.rests_at * rate as f64) - 1.0).abs() < 1e-3);
        // The next bid with that headroom has the same CPC again.
        let cpc = per_bid * first;
        prop_assert!(near(per_bid * (cpc + steady_headroom(Price(cpc), per_bid).units()), cpc));
        prop_assert!((found.steady / steady_headroom(Price(cpc), per_bid) - 1.0).abs() < 1e-3);
    }
}

/// Series that do not break are called broken as rarely as the test says, whatever their noise is like: even, with
/// heavy tails, or counts that are mostly none.
#[test]
fn unbroken_series_are_seldom_called_broken() {
    let mut rng = ChaCha8Rng::seed_from_u64(1979);
    let normal = Normal::new(10.0, 3.0).unwrap();
    let heavy = LogNormal::new(0.0, 1.2).unwrap();
    for (name, share) in [("even", 0), ("heavy tails", 1), ("rare counts", 2)] {
        let mut called = 0;
        for _ in 0..1000 {
            let series: Vec<f64> = (0..60)
                .map(|_| match share {
                    0 => normal.sample(&mut rng),
                    1 => heavy.sample(&mut rng),
                    _ => f64::from(u8::from(rng.random_bool(0.2))),
                })
                .collect();
            called += u32::from(change_point(&series).is_some_and(|c| c.p <= 0.05));
        }
        assert!(called <= 60, "{name}: {called} of 1000 at 5%");
    }
}
