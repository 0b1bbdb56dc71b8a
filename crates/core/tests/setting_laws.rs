//! Laws of what is set: what is put somewhere stands there, and nothing else moves.
#![allow(clippy::unwrap_used)]

use chrono::NaiveDate;
use proptest::prelude::{Just, Strategy as Drawn, any, prop_assert_eq, prop_oneof, proptest};
use tiller_core::Micros;
use tiller_core::setting::{
    AdGroupSettings, Adjustment, Budget, CampaignSettings, Dimension, Hours, ItemSettings,
    MatchType, Places, PlacesMode, Setting, Status, Strategy,
};

fn money() -> impl Drawn<Value = Micros> {
    (1..9i64).prop_map(|units| Micros::new(units * 500_000))
}

fn budget() -> impl Drawn<Value = Budget> {
    let day = |d| NaiveDate::from_ymd_opt(2026, 11, d).unwrap();
    prop_oneof![
        money().prop_map(|amount| Budget::Daily { amount }),
        (money(), 1..10u32, 10..28u32).prop_map(move |(amount, a, b)| Budget::Lifetime {
            amount,
            starts: day(a),
            ends: day(b)
        }),
    ]
}

fn setting() -> impl Drawn<Value = Setting> {
    let some = || proptest::option::of(money());
    let words = || (prop_oneof![Just("ketling"), Just("Ketling"), Just("cold tea")], any::<bool>());
    let matched = || prop_oneof![Just(MatchType::Exact), Just(MatchType::Broad)];
    let status = prop_oneof![Just(Status::Active), Just(Status::Paused)];
    let segment = prop_oneof![Just("mobile"), Just("desktop")];
    let mode = prop_oneof![Just(PlacesMode::In), Just(PlacesMode::Interested)];
    prop_oneof![
        status.prop_map(Setting::Status),
        budget().prop_map(Setting::Budget),
        some().prop_map(Setting::Bid),
        money().prop_map(|target| Setting::Strategy(Strategy::TargetCpa { target })),
        proptest::option::of("[a-c]").prop_map(Setting::Shared),
        some().prop_map(Setting::BidFloor),
        some().prop_map(Setting::BidCeiling),
        some().prop_map(Setting::Floor),
        some().prop_map(Setting::Ceiling),
        proptest::option::of(-50..50i16)
            .prop_map(|by| Setting::Hours(by.map(|by| Hours::new(vec![Some(by); 168]).unwrap()))),
        (segment, -100..900i16).prop_map(|(segment, percent)| Setting::Adjustment(Adjustment {
            dimension: Dimension::Device,
            segment: segment.into(),
            percent,
        })),
        mode.prop_map(Setting::Places),
        (words(), matched()).prop_map(|((text, present), match_type)| Setting::Negative {
            text: text.into(),
            match_type,
            present
        }),
        (words(), matched(), some()).prop_map(|((text, present), match_type, bid)| {
            Setting::Keyword { text: text.into(), match_type, bid, present }
        }),
    ]
}

/// Where settings stand: with and without budgets and places of their own.
trait Stands: Clone + PartialEq + std::fmt::Debug {
    fn put(&mut self, set: &Setting);
    fn present(&self, set: &Setting) -> Option<Setting>;
}

macro_rules! stands {
    ($($kind:ty),*) => { $(impl Stands for $kind {
        fn put(&mut self, set: &Setting) {
            Self::put(self, set);
        }
        fn present(&self, set: &Setting) -> Option<Setting> {
            Self::present(self, set)
        }
    })* };
}
stands!(CampaignSettings, AdGroupSettings, ItemSettings);

fn holds(
    mut there: impl Stands,
    sets: &[Setting],
) -> Result<(), proptest::test_runner::TestCaseError> {
    for set in sets {
        let before = there.clone();
        there.put(set);
        if before.present(set).is_none() {
            prop_assert_eq!(&there, &before, "it has no such thing");
            continue;
        }
        prop_assert_eq!(there.present(set), Some(set.clone()));
        for other in sets.iter().filter(|o| !o.same_thing(set)) {
            prop_assert_eq!(there.present(other), before.present(other), "{:?}", other);
        }
    }
    Ok(())
}

proptest! {
    #[test]
    fn what_is_put_stands_and_nothing_else_moves(
        own in proptest::option::of(budget()),
        sets in proptest::collection::vec(setting(), 1..20),
        placed in any::<bool>(),
    ) {
        let places = placed.then(|| Places { mode: PlacesMode::In, targets: vec!["Norge".into()] });
        let campaign = CampaignSettings::bidding(Strategy::MostClicks);
        holds(CampaignSettings { budget: own, places, ..campaign }, &sets)?;
        holds(
            AdGroupSettings {
                status: Status::Active,
                budget: own,
                floor: None,
                ceiling: None,
                bid: None,
                negatives: Vec::new(),
            },
            &sets,
        )?;
        holds(ItemSettings { status: Status::Paused, bid: None }, &sets)?;
    }
}
