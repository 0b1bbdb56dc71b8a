//! Laws of bids: break-even, first targets, the table of conditions, steps toward what is affordable.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use proptest::prelude::*;
use tiller_core::affordable::{affordable, halfway_bid, step_bid};
use tiller_core::bid_volume::{Prior, Slope, at_bid, unmoved};
use tiller_core::break_even::{Measure, ProductLine};
use tiller_core::learning::days_needed;
use tiller_core::strategy::{Aim, Facts, Kind, Medium, Table, Values, first_target};
use tiller_core::{Price, Target};

fn near(a: f64, b: f64) -> bool {
    (a - b).abs() <= 1e-9 * (1.0 + a.abs().max(b.abs()))
}

fn facts() -> impl Strategy<Value = Facts> {
    (
        0..Aim::ALL.len(),
        0..Values::ALL.len(),
        0.0f64..200.0,
        0.0f64..200.0,
        prop_oneof![Just(f64::INFINITY), 1.0f64..60.0],
        any::<bool>(),
        any::<bool>(),
    )
        .prop_map(
            |(aim, values, conversions, history, flight, target_known, fears_runaway)| Facts {
                aim: Aim::ALL[aim],
                values: Values::ALL[values],
                conversions,
                history,
                flight,
                target_known,
                fears_runaway,
            },
        )
}

proptest! {
    /// Whatever a line is told in, a sale at its target leaves the share that is kept; at break-even nothing.
    #[test]
    fn what_is_kept_is_kept(price in 0.5f64..5000.0, margin in 0.02f64..1.0, part in 0.0f64..0.95) {
        let keep = margin * part;
        let of = |measure| ProductLine { name: "Kits".into(), price, margin, keep, measure };
        let Ok(Target::Cpa(cpa)) = of(Measure::Cpa).target() else { panic!("a CPA") };
        prop_assert!(near(price * margin - cpa.units(), price * keep));
        for measure in [Measure::Roas, Measure::Acos] {
            let Ok(Target::Roas(roas)) = of(measure).target() else { panic!("a ROAS") };
            // Spend for a sale, by what it has to return.
            prop_assert!(near(price / roas, cpa.units()), "{roas} {cpa:?}");
        }
        let even = of(Measure::Cpa).break_even().unwrap();
        prop_assert!(near(even.cpa(Price(price)).number(), price * margin));
        prop_assert!(near(even.roas().number() * even.acos(), 1.0));
        // Keeping all of the margin, or more, leaves nothing to spend.
        let all = ProductLine { keep: margin * (1.0 + part), ..of(Measure::Cpa) };
        prop_assert!(all.target().is_err());
    }

    /// The same facts always have the same advice; there always is one, and each strategy stands there once.
    #[test]
    fn every_campaign_is_told_something(f in facts()) {
        let table = Table::shipped();
        let ranked: Vec<Kind> = table.advise(&f).iter().map(|r| r.advice).collect();
        prop_assert!(!ranked.is_empty());
        prop_assert_eq!(&ranked, &table.advise(&f).iter().map(|r| r.advice).collect::<Vec<_>>());
        let mut once = ranked.clone();
        once.sort_by_key(|k| k.word());
        once.dedup();
        prop_assert_eq!(once.len(), ranked.len());
        // Common practice, no source (B1): no automatic strategy of leads or sales without conversions to learn from.
        if matches!(f.aim, Aim::Leads | Aim::Sales) && (f.conversions < 10.0 || f.history < 30.0) {
            prop_assert_eq!(&ranked, &vec![Kind::ManualCpc]);
        }
        if !f.target_known {
            prop_assert!(!ranked.contains(&Kind::TargetCpa) && !ranked.contains(&Kind::TargetRoas));
        }
        if f.values != Values::Differ {
            prop_assert!(!ranked.contains(&Kind::TargetRoas) && !ranked.contains(&Kind::MostValue));
        }
    }

    /// Steps go toward what is affordable and never past it, each half of what is left.
    #[test]
    fn steps_never_pass_what_is_affordable(target in 1.0f64..500.0, cvr in 0.001f64..0.9, paid in 0.01f64..80.0) {
        let may = affordable(Price(target), cvr).unwrap();
        prop_assert!(may.cautious <= may.cpc && may.cpc.units() <= target);
        prop_assert!(near(may.cpc.units() * may.clicks_per_conversion, target));
        let mut left = (paid - may.cautious.units()).abs();
        for i in 1..8 {
            let step = step_bid(may.cautious, Price(paid), i).units();
            let now = (step - may.cautious.units()).abs();
            prop_assert!((now - left / 2.0).abs() < 1e-9 * (1.0 + left), "{i}");
            prop_assert!((step - may.cautious.units()) * (paid - may.cautious.units()) >= -1e-12);
            left = now;
        }
        let halfway = halfway_bid(may.cautious, Price(paid)).units();
        prop_assert!(near(step_bid(may.cautious, Price(paid), 1).units(), halfway));
    }

    /// A first target scales with what runs, and is never below what it is taken from.
    #[test]
    fn first_targets_scale(cpas in prop::array::uniform4(0.5f64..300.0), to in 0..4usize, by in 0.1f64..20.0) {
        let of = |by: f64, but: Option<Medium>| {
            let running: Vec<_> = Medium::ALL
                .iter()
                .zip(cpas)
                .filter(|(m, _)| Some(**m) != but)
                .map(|(m, x)| (*m, Price(x * by)))
                .collect();
            first_target(Medium::ALL[to], &running)
        };
        for but in [None, Some(Medium::ALL[to])] {
            let (Some(one), Some(other)) = (of(1.0, but), of(by, but)) else { continue };
            prop_assert!(near(one.low.units() * by, other.low.units()));
            prop_assert_eq!(one.from, other.from);
            let source = cpas[Medium::ALL.iter().position(|m| *m == one.from).unwrap()];
            prop_assert!(one.low.units() >= source - 1e-12 && one.high.is_none_or(|h| h >= one.low));
        }
    }

    /// A higher bid costs more a result, buys no fewer, and its last one more than its mean one.
    #[test]
    fn higher_bids_buy_no_fewer(
        mean in -0.5f64..2.5,
        sd in 0.01f64..0.6,
        price in (0.0f64..1.0, 0.01f64..0.5),
        a in 0.4f64..1.8,
        b in 0.4f64..1.8,
    ) {
        let mut e = unmoved(Prior { mean, sd });
        e.price = Slope { mean: price.0, sd: price.1, most: 1.0 };
        let (low, high) = (a.min(b), a.max(b));
        let at = |times| at_bid(&e, 800.0, 1600.0, 40.0, times);
        prop_assert!(at(low).conversions.mid <= at(high).conversions.mid + 1e-9);
        prop_assert!(at(low).cpa.unwrap().mid <= at(high).cpa.unwrap().mid + 1e-9);
        prop_assert!(at(low).spend.mid <= at(high).spend.mid + 1e-9);
        let (cpa, next) = (at(high).cpa.unwrap().mid, at(high).next.unwrap());
        prop_assert!(next.mid >= cpa && next.around.low <= next.mid && next.mid <= next.around.high);
        // The next costs at most so many times the mean one with the probability that its quantiles say.
        let times = next.around.low / cpa;
        let within = |by: f64| e.next_within(times * by);
        prop_assert!(!times.is_finite() || (within(1.0001) >= 0.1 && within(0.9999) <= 0.1));
        // A bid for a price brings that price, as far as one may be moved for it.
        let bid = e.bid_for(low);
        prop_assert!((e.cpc(bid).mid / low - 1.0).abs() < 1e-9 || (bid / low.powi(2) - 1.0).abs() < 1e-9);
    }

    /// A step halfway in price never goes below what is affordable, however much of the bid's change the price follows.
    #[test]
    fn halfway_never_goes_beyond(may in 0.05f64..0.99, kappa in 0.0f64..1.0, truly in 0.0f64..1.0) {
        let mut e = unmoved(Prior { mean: 1.0, sd: 0.3 });
        e.price = Slope { mean: kappa, sd: 0.01, most: 1.0 };
        let bid = e.bid_for(halfway_bid(Price(may), Price(1.0)).units());
        prop_assert!(bid.powf(truly) >= may - 1e-9);
    }

    #[test]
    fn more_conversions_never_learn_longer(a in 0.0f64..20.0, b in 0.0f64..20.0) {
        prop_assert!(days_needed(a.max(b)) <= days_needed(a.min(b)));
    }

    /// The highest bid that is surely enough good: lower where more is asked of it, none where the present one is not,
    /// and of two that are surely enough good the higher.
    #[test]
    fn the_highest_bid_is_the_last_that_is_good(
        gamma in 0.1f64..2.0, sd in 0.01f64..0.6, room in 1.05f64..6.0, sure in 0.5f64..0.95, more in 1.0f64..1.05,
    ) {
        let e = unmoved(Prior { mean: gamma, sd });
        let meets = |costs: f64| f64::from(u8::from(costs <= room));
        let highest = e.highest_bid(3.0, sure, meets);
        prop_assert_eq!(highest.is_none(), e.next_meets(1.0, meets) < sure);
        let Some(highest) = highest else { return Ok(()) };
        prop_assert!((1.0..=3.0).contains(&highest) && e.next_meets(highest, meets) >= sure);
        prop_assert!(highest > 2.98 || e.next_meets(highest + 0.01, meets) < sure);
        let stricter = e.highest_bid(3.0, (sure * more).min(1.0), meets);
        prop_assert!(stricter.is_none_or(|t| t <= highest));
    }
}
