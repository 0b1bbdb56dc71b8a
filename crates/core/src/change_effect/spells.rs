//! Which changes of a campaign are judged together (maths 16): what rules change close after each other can only be told
//! of all of it, whichever rule it was.

use std::collections::{BTreeMap, BTreeSet};

use chrono::NaiveDate;

use crate::ids::RuleId;
use crate::look_back::WINDOW_DAYS;
use crate::window::{Window, earlier, later};

/// Days of rest after which what rules change is held against the days just before, instead of those before they began.
const REST: u64 = 28;

/// Changes of a campaign that came in force on one day, by one rule.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Change {
    /// The rule.
    pub rule: RuleId,
    /// The day.
    pub from: NaiveDate,
    /// When they are to be judged.
    pub look_back: Option<NaiveDate>,
    /// Since when the rule is watched.
    pub watched_from: Option<NaiveDate>,
    /// How many.
    pub changes: i64,
}

/// Changes that are judged together.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Spell {
    /// The first day on which something was changed.
    pub from: NaiveDate,
    /// The days that tell what came of it, as far as they are settled.
    pub judged: BTreeSet<NaiveDate>,
    /// How many changes of each rule are told of by those.
    pub due: BTreeMap<RuleId, i64>,
    /// Those whose days are to come, with their look-back.
    pub to_come: Vec<(RuleId, i64, NaiveDate)>,
    /// Whether several rules had a part in the days that are judged, looked back on by now or not.
    pub shared: bool,
}

/// A campaign's changes, in order of days, as they are to be judged: apart where the rules rested long enough in between,
/// or one was switched on. No day is judged twice.
pub fn spells(changes: &[Change], settled: NaiveDate, settle: u64) -> Vec<Spell> {
    let on: BTreeSet<NaiveDate> = changes.iter().filter_map(|c| c.watched_from).collect();
    let together: Vec<&[Change]> = changes
        .chunk_by(|a, b| {
            let rested = b.from > later(a.look_back.unwrap_or(a.from), REST);
            let begun = a.from < b.from && on.range(later(a.from, 1)..=b.from).next().is_some();
            !rested && !begun
        })
        .collect();
    let until = together.iter().skip(1).map(|next| next[0].from).map(Some).chain([None]);
    together
        .iter()
        .zip(until)
        .map(|(changes, until)| spell(changes, until, settled, settle))
        .collect()
}

fn spell(changes: &[Change], until: Option<NaiveDate>, settled: NaiveDate, settle: u64) -> Spell {
    let mut spell = Spell { from: changes[0].from, ..Spell::default() };
    for c in changes {
        let Some(look_back) = c.look_back else { continue };
        let window = Window::ending(earlier(look_back, settle + 1), WINDOW_DAYS);
        if window.to() > settled {
            spell.to_come.push((c.rule, c.changes, look_back));
        } else {
            *spell.due.entry(c.rule).or_default() += c.changes;
            let own = window.iter().filter(|d| until.is_none_or(|until| *d < until));
            spell.judged.extend(own.filter(|d| *d >= spell.from));
        }
    }
    let last = spell.judged.last();
    let part = changes.iter().filter(|c| last.is_some_and(|last| c.from <= *last));
    spell.shared = part.map(|c| c.rule).collect::<BTreeSet<_>>().len() > 1;
    spell
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const SETTLE: u64 = 7;

    fn day(n: u64) -> NaiveDate {
        later(NaiveDate::from_ymd_opt(2026, 6, 1).unwrap(), n)
    }

    fn change(rule: i64, from: u64) -> Change {
        let look_back = Some(day(from + WINDOW_DAYS + SETTLE));
        Change { rule: RuleId(rule), from: day(from), look_back, watched_from: None, changes: 1 }
    }

    #[test]
    fn a_rule_has_its_part_though_its_own_look_back_is_to_come() {
        let settled = day(8);
        let both = spells(&[change(1, 1), change(2, 5)], settled, SETTLE);
        let [spell] = &both[..] else { panic!("{both:?}") };
        assert_eq!(spell.due, BTreeMap::from([(RuleId(1), 1)]));
        assert_eq!(spell.to_come, [(RuleId(2), 1, day(5 + WINDOW_DAYS + SETTLE))]);
        assert!(spell.shared);
        // One that comes after the days that are judged had none in them.
        let later = spells(&[change(1, 1), change(2, 9)], settled, SETTLE);
        assert!(!later[0].shared, "{later:?}");
    }

    #[test]
    fn a_rule_that_is_switched_on_again_begins_anew() {
        let again = Change { watched_from: Some(day(4)), ..change(1, 4) };
        let both = spells(&[change(1, 1), again], day(40), SETTLE);
        let [first, second] = &both[..] else { panic!("{both:?}") };
        assert_eq!((first.from, second.from), (day(1), day(4)));
        assert!(first.judged.iter().all(|d| *d < day(4)), "{first:?}");
        assert_eq!(second.judged.len(), WINDOW_DAYS as usize);
    }

    #[test]
    fn after_a_rest_days_are_held_against_those_just_before() {
        let rest = WINDOW_DAYS + SETTLE + REST;
        assert_eq!(spells(&[change(1, 1), change(1, 1 + rest)], day(90), SETTLE).len(), 1);
        assert_eq!(spells(&[change(1, 1), change(1, 2 + rest)], day(90), SETTLE).len(), 2);
    }

    proptest! {
        /// Each change is judged or to come, once; no day is judged twice, none before it is settled or anything was changed.
        #[test]
        fn nothing_is_judged_twice(
            all in proptest::collection::vec((1i64..4, 0u64..120, proptest::option::of(0u64..120)), 1..20),
            settled in 0u64..150,
        ) {
            let mut changes: Vec<Change> = all
                .iter()
                .map(|(rule, from, on)| Change { watched_from: on.map(day), ..change(*rule, *from) })
                .collect();
            changes.sort_by_key(|c| c.from);
            let found = spells(&changes, day(settled), SETTLE);
            let told = |s: &Spell| s.due.values().sum::<i64>() + s.to_come.len() as i64;
            prop_assert_eq!(found.iter().map(told).sum::<i64>(), changes.len() as i64);
            let judged: Vec<_> = found.iter().flat_map(|s| &s.judged).collect();
            prop_assert!(judged.windows(2).all(|pair| pair[0] < pair[1]));
            prop_assert!(judged.iter().all(|d| **d <= day(settled)));
            prop_assert!(found.iter().all(|s| s.judged.iter().all(|d| *d >= s.from)));
            prop_assert!(found.iter().all(|s| !s.shared || changes.iter().any(|c| c.rule != changes[0].rule)));
        }
    }
}
