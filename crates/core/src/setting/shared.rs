//! Shared strategies (B5): one bid strategy with its target, floor and ceiling, used by several campaigns of a channel.
//! What is changed of it at one of them is changed at all; who joins takes it over; who leaves keeps what is set.
//!
//! ```
//! use tiller_core::Micros;
//! use tiller_core::setting::{CampaignSettings, Setting, Strategy, shared};
//! let cpa = |units| Strategy::TargetCpa { target: Micros::from_units(units) };
//! let campaign = |units, name: Option<&str>| CampaignSettings {
//!     shared: name.map(str::to_owned),
//!     ..CampaignSettings::bidding(cpa(units))
//! };
//! let (a, b, c) = (campaign(50.0, Some("Leads")), campaign(50.0, Some("Leads")), campaign(40.0, None));
//! let all = || [(1, &a), (2, &b), (3, &c)].into_iter();
//!
//! // Another target of the first is the second's too, and not the third's.
//! let set = Setting::Strategy(cpa(60.0));
//! assert_eq!(shared::implied(1, &set, all()), vec![(2, set.clone())]);
//! // The third takes the target over when it joins.
//! let join = Setting::Shared(Some("Leads".into()));
//! assert_eq!(shared::implied(3, &join, all()), vec![(3, Setting::Strategy(cpa(50.0)))]);
//! ```

use super::{CampaignSettings, Setting};

/// Longest name of a shared strategy, in characters.
pub const LONGEST_NAME: usize = 80;

/// What campaigns that share a strategy have in common.
pub fn terms(set: &CampaignSettings) -> [Setting; 3] {
    [
        Setting::Strategy(set.strategy),
        Setting::BidFloor(set.bid_floor),
        Setting::BidCeiling(set.bid_ceiling),
    ]
}

/// Whether a setting is one of those.
pub fn is_term(set: &Setting) -> bool {
    matches!(set, Setting::Strategy(_) | Setting::BidFloor(_) | Setting::BidCeiling(_))
}

/// What else is set when a campaign of a channel is changed: at those that share its strategy, or at itself where it
/// joins one. `all` are the channel's campaigns as they stand.
pub fn implied<'a, K: Copy + Eq>(
    at: K,
    set: &Setting,
    all: impl Iterator<Item = (K, &'a CampaignSettings)> + Clone,
) -> Vec<(K, Setting)> {
    let Some((_, own)) = all.clone().find(|(k, _)| *k == at) else { return Vec::new() };
    let others = all.filter(|(k, _)| *k != at);
    let of = |name: &str, c: &CampaignSettings| c.shared.as_deref() == Some(name);
    match (set, &own.shared) {
        (Setting::Shared(Some(name)), _) => {
            let mut members = others.filter(|(_, c)| of(name, c));
            let taken = members.next().map(|(_, c)| terms(c)).into_iter().flatten();
            taken.filter(|t| own.present(t).as_ref() != Some(t)).map(|t| (at, t)).collect()
        }
        (term, Some(name)) if is_term(term) => others
            .filter(|(_, c)| of(name, c) && c.present(term).as_ref() != Some(term))
            .map(|(k, _)| (k, term.clone()))
            .collect(),
        _ => Vec::new(),
    }
}

/// Why a setting is barred from a campaign by what a shared strategy is, and what to do; `exists` tells whether others
/// share the one that it would join.
pub fn barred(set: &Setting, own: &CampaignSettings, exists: bool) -> Option<&'static str> {
    match set {
        Setting::Shared(Some(name)) if name.trim().is_empty() || name.trim() != name => {
            Some("a shared strategy needs a name without blanks around it")
        }
        Setting::Shared(Some(name)) if name.chars().count() > LONGEST_NAME => {
            Some("the name of a shared strategy has at most 80 characters")
        }
        Setting::Shared(Some(_)) if !exists && !own.strategy.automatic() => Some(
            "a shared strategy sets bids by itself; give the campaign a strategy that does so first",
        ),
        Setting::Strategy(s) if own.shared.is_some() && !s.automatic() => Some(
            "its strategy is shared; let it leave the shared strategy before its bids are set by hand",
        ),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Micros;
    use crate::setting::Strategy;
    use proptest::prelude::{Just, prop_assert, prop_assert_ne, prop_oneof, proptest};
    use proptest::strategy::Strategy as Drawn;

    fn units(x: i64) -> Micros {
        Micros::from_units(x as f64)
    }

    fn settings() -> impl Drawn<Value = CampaignSettings> {
        let name = prop_oneof![Just(None), Just(Some("Leads")), Just(Some("Shop"))];
        (name, 1..4i64, proptest::option::of(1..3i64)).prop_map(|(shared, target, ceiling)| {
            CampaignSettings {
                shared: shared.map(str::to_owned),
                bid_ceiling: ceiling.map(units),
                ..CampaignSettings::bidding(Strategy::TargetCpa { target: units(target) })
            }
        })
    }

    fn set() -> impl Drawn<Value = Setting> {
        prop_oneof![
            (1..4i64).prop_map(|t| Setting::Strategy(Strategy::TargetCpa { target: units(t) })),
            proptest::option::of(1..3i64).prop_map(|c| Setting::BidCeiling(c.map(units))),
            Just(Setting::Shared(Some("Leads".into()))),
            Just(Setting::Shared(Some("New".into()))),
            Just(Setting::Shared(None)),
        ]
    }

    fn alike(all: &[CampaignSettings]) -> bool {
        all.iter().all(|a| {
            all.iter().all(|b| a.shared.is_none() || a.shared != b.shared || terms(a) == terms(b))
        })
    }

    proptest! {
        /// Whatever is changed, those that share a strategy stay alike.
        #[test]
        fn who_shares_stays_alike(
            mut all in proptest::collection::vec(settings(), 1..5),
            changes in proptest::collection::vec((0..5usize, set()), 1..12),
        ) {
            // A world in which nobody shares yet is alike.
            all.iter_mut().for_each(|c| c.shared = None);
            for (at, set) in changes {
                let at = at % all.len();
                let implied = implied(at, &set, all.iter().enumerate());
                all[at].put(&set);
                for (k, s) in implied {
                    prop_assert_ne!(all[k].present(&s), Some(s.clone()), "only what differs");
                    all[k].put(&s);
                }
                prop_assert!(alike(&all), "{at} {set:?}");
            }
        }
    }

    #[test]
    fn what_a_shared_strategy_is_bars_some_settings() {
        let manual = CampaignSettings::bidding(Strategy::ManualCpc);
        let join = |name: &str| Setting::Shared(Some(name.into()));
        assert!(barred(&join("Leads"), &manual, false).unwrap().contains("by itself"));
        assert_eq!(barred(&join("Leads"), &manual, true), None, "it takes the strategy over");
        assert!(barred(&join("  "), &manual, true).is_some());
        assert!(barred(&join(&"x".repeat(81)), &manual, true).unwrap().contains("80"));
        let member = CampaignSettings {
            shared: Some("Leads".into()),
            ..CampaignSettings::bidding(Strategy::MostClicks)
        };
        assert!(barred(&Setting::Strategy(Strategy::ManualCpc), &member, true).is_some());
        assert_eq!(barred(&Setting::Strategy(Strategy::MostValue), &member, true), None);
        assert_eq!(barred(&Setting::Shared(None), &member, true), None);
    }
}
