//! Laws of the types that figures are told in: prices, targets, hours of the week.
#![allow(clippy::unwrap_used)]

use chrono::{DateTime, Datelike, TimeDelta, Timelike, Weekday};
use proptest::prelude::*;
use tiller_core::week::{DAYS, WeekHour};
use tiller_core::{Micros, Price, Tally, Target};

fn near(a: f64, b: f64) -> bool {
    (a - b).abs() <= 1e-9 * (1.0 + a.abs().max(b.abs()))
}

fn tally() -> impl Strategy<Value = Tally> {
    (0i64..50_000, 0.0f64..1.0, 0i64..9_000_000_000, 0.0f64..0.4, 0i64..40_000_000_000).prop_map(
        |(impressions, ctr, spend, cvr, value)| {
            let clicks = (impressions as f64 * ctr) as i64;
            Tally {
                impressions,
                clicks,
                spend: Micros::new(spend),
                conversions: clicks as f64 * cvr,
                value: Micros::new(value),
            }
        },
    )
}

fn target() -> impl Strategy<Value = Target> {
    prop_oneof![
        (0.01f64..9_000.0).prop_map(|x| Target::Cpa(Price(x))),
        (0.01f64..90.0).prop_map(Target::Roas)
    ]
}

proptest! {
    /// A price times the things it is of is the money; of nothing there is no price.
    #[test]
    fn prices_are_money_per_thing(t in tally()) {
        for (price, of, things) in [
            (t.cpc(), t.spend, t.clicks as f64),
            (t.cpm(), t.spend, t.impressions as f64 / 1000.0),
            (t.cpa(), t.spend, t.conversions),
            (t.aov(), t.value, t.conversions),
        ] {
            prop_assert_eq!(price.is_some(), things > 0.0);
            if let Some(price) = price {
                prop_assert!(near(price.units() * things, of.to_units()));
                prop_assert_eq!(price.positive().is_some(), of.get() > 0);
            }
        }
        // A conversion takes 1 ÷ CVR clicks, each at its price.
        if let Some(((cpc, cvr), cpa)) = t.cpc().zip(t.cvr()).zip(t.cpa()) {
            prop_assert!(near((cpc / cvr).units(), cpa.units()));
            prop_assert!(near(cpa * cvr / cpc.positive().unwrap_or(Price(1.0)), f64::from(u8::from(t.spend.get() > 0))));
        }
    }

    /// Prices are added, halved and compared like the numbers that they are.
    #[test]
    fn prices_keep_their_order(a in 0.0f64..1e6, b in 0.0f64..1e6, by in 0.01f64..100.0) {
        let (x, y) = (Price(a), Price(b));
        prop_assert_eq!(x < y, a < b);
        prop_assert!(x.min(y) <= x.midpoint(y) && x.midpoint(y) <= x.max(y));
        prop_assert_eq!(x + y - y, Price(a + b - b));
        prop_assert!(near((x * by / by).units(), a) && near(by * x / Price(by), a));
        prop_assert!((Price::from(x.micros()) - x).units().abs() <= 5e-7 + 1e-9);
    }

    /// A target is a number above 0, and comes back from the pair of numbers that files and tables write.
    #[test]
    fn targets_are_checked(t in target(), wrong in prop_oneof![-1e6f64..=0.0, Just(f64::NAN), Just(f64::INFINITY)]) {
        let (cpa, roas) = t.pair();
        prop_assert_eq!(Target::given(cpa, roas), Ok(Some(t)));
        prop_assert_eq!(t.checked(), Ok(t));
        prop_assert!(Target::given(Some(wrong), None).is_err() && Target::given(None, Some(wrong)).is_err());
        prop_assert!(Target::given(Some(t.number()), Some(t.number())).is_err());
    }

    /// What lies above a target adds up over any parts, and nothing does at the cost that the target allows.
    #[test]
    fn excess_adds_up(parts in prop::collection::vec(tally(), 1..8), t in target()) {
        let whole: Tally = parts.iter().copied().sum();
        let sum: f64 = parts.iter().map(|p| t.excess(p)).sum();
        prop_assert!((sum - t.excess(&whole)).abs() < 1e-6 * (1.0 + whole.spend.to_units() + t.allowed(&whole)));
        let even = Tally { spend: Micros::from_units(t.allowed(&whole)), ..whole };
        prop_assert!(t.excess(&even).abs() < 1e-5);
        if let Some(cost) = t.as_cpa(whole.aov()) {
            prop_assert!(near(cost.units() * whole.conversions, t.allowed(&whole)));
        }
    }

    /// An hour of the week is where its clock says, and going there and back leads home.
    #[test]
    fn hours_of_the_week_are_those_of_the_clock(seconds in 0i64..4_000_000_000, by in -2_000i64..2_000) {
        let at = DateTime::from_timestamp(seconds, 0).unwrap();
        let hour = WeekHour::of(&at);
        prop_assert_eq!((hour.weekday(), hour.hour() as u32), (at.weekday(), at.hour()));
        prop_assert_eq!(WeekHour::nth(hour.index()), hour);
        prop_assert_eq!(WeekHour::of(&(at + TimeDelta::hours(by))), hour.later(by));
        prop_assert_eq!(hour.later(by).later(-by), hour);
        prop_assert_eq!(hour.at_weekend(), matches!(at.weekday(), Weekday::Sat | Weekday::Sun));
    }
}

#[test]
fn a_week_has_its_hours_once() {
    let all: Vec<WeekHour> = WeekHour::all().collect();
    assert_eq!(all.len(), 168);
    assert!(all.is_sorted() && all.windows(2).all(|w| w[0].later(1) == w[1]));
    for (i, day) in DAYS.into_iter().enumerate() {
        assert_eq!(day.num_days_from_monday() as usize, i);
        assert_eq!(all[24 * i], WeekHour::new(day, 0));
    }
}
