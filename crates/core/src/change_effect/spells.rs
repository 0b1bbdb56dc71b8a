//! Which changes of a campaign are judged together (maths 16): what comes in force close after each other can only be told
//! of all of it, whoever changed it.

use std::collections::{BTreeMap, BTreeSet};

use chrono::NaiveDate;

use super::LEAST;
use crate::learning;
use crate::look_back::{WINDOW_DAYS, due_days};
use crate::window::{Window, later};

/// Days of rest after which what rules change is held against the days just before, instead of those before they began.
const REST: u64 = 28;

/// Changes of a campaign that came in force on one day, by one hand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Change<K> {
    /// Whose they are: the rule that made them, or the change itself.
    pub of: K,
    /// The day.
    pub from: NaiveDate,
    /// When they are to be judged.
    pub look_back: Option<NaiveDate>,
    /// Since when it is watched, where a rule made them.
    pub watched_from: Option<NaiveDate>,
    /// How many.
    pub changes: i64,
}

/// What keeps changes of a campaign apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Apart {
    /// A long rest: what a rule does again and again is held against the days before it began.
    Rest,
    /// Days enough since the one before, whose own are over: each is held against the days just before it.
    Days,
}

/// Changes that are judged together.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Spell<K> {
    /// From when on nothing else was changed there before; none if that was too near, or nothing was.
    pub since: Option<NaiveDate>,
    /// The first day on which something was changed.
    pub from: NaiveDate,
    /// The days that tell what came of it, as far as they are settled.
    pub judged: BTreeSet<NaiveDate>,
    /// How many changes of each are told of by those.
    pub due: BTreeMap<K, i64>,
    /// Those whose days are to come, with their look-back.
    pub to_come: Vec<(K, i64, NaiveDate)>,
    /// How many changes had a part in the days that are judged, looked back on by now or not.
    pub part: i64,
    /// Whether those are of several.
    pub shared: bool,
}

impl<K: Copy + Ord> Change<K> {
    /// The days that tell what came of it: its first, or those after its strategy has learned again, which the look-back
    /// tells; the same though days settle otherwise by now.
    pub fn window(&self, settle: u64) -> Option<Window> {
        let waits = (self.look_back? - self.from).num_days() - (due_days(settle) as i64);
        let learning = if 2 * waits >= learning::DAYS as i64 { learning::DAYS } else { 0 };
        Some(Window::ending(later(self.from, learning + WINDOW_DAYS - 1), WINDOW_DAYS))
    }
}

/// A campaign's changes, in order of days, as they are to be judged: apart where there was time enough in between, or a rule
/// was switched on. No day is judged twice.
pub fn spells<K: Copy + Ord>(
    changes: &[Change<K>],
    apart: Apart,
    settled: NaiveDate,
    settle: u64,
) -> Vec<Spell<K>> {
    let on: BTreeSet<NaiveDate> = changes.iter().filter_map(|c| c.watched_from).collect();
    let mut over = NaiveDate::MIN;
    let together: Vec<&[Change<K>]> = changes
        .chunk_by(|a, b| {
            over = over.max(a.window(settle).map_or(a.from, |w| w.to()));
            let apart = match apart {
                Apart::Rest => b.from > later(a.look_back.unwrap_or(a.from), REST),
                Apart::Days => b.from > over && b.from >= later(a.from, LEAST as u64),
            };
            let begun = a.from < b.from && on.range(later(a.from, 1)..=b.from).next().is_some();
            !apart && !begun
        })
        .collect();
    let place = |n: usize| together.get(n).map(|of| of[0].from);
    let last = |n: usize| together.get(n).and_then(|of| of.last()).map(|c| c.from);
    (0..together.len())
        .map(|n| {
            let spell = spell(together[n], place(n + 1), settled, settle);
            let before = n.checked_sub(1).and_then(last);
            let since = before.filter(|since| later(*since, LEAST as u64) <= spell.from);
            Spell { since, ..spell }
        })
        .collect()
}

fn spell<K: Copy + Ord>(
    changes: &[Change<K>],
    until: Option<NaiveDate>,
    settled: NaiveDate,
    settle: u64,
) -> Spell<K> {
    let from = changes[0].from;
    let (mut judged, mut due, mut to_come) = (BTreeSet::new(), BTreeMap::new(), Vec::new());
    for c in changes {
        let (Some(window), Some(look_back)) = (c.window(settle), c.look_back) else { continue };
        if window.to() > settled {
            to_come.push((c.of, c.changes, look_back));
        } else {
            *due.entry(c.of).or_default() += c.changes;
            let own = window.iter().filter(|d| until.is_none_or(|until| *d < until));
            judged.extend(own.filter(|d| *d >= from));
        }
    }
    let in_part = |c: &&Change<K>| judged.last().is_some_and(|last| c.from <= *last);
    let part = changes.iter().filter(in_part).map(|c| c.changes).sum();
    let of: BTreeSet<K> = changes.iter().filter(in_part).map(|c| c.of).collect();
    Spell { since: None, from, judged, due, to_come, part, shared: of.len() > 1 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ids::RuleId;
    use proptest::prelude::*;

    const SETTLE: u64 = 7;

    fn day(n: u64) -> NaiveDate {
        later(NaiveDate::from_ymd_opt(2026, 6, 1).unwrap(), n)
    }

    fn change(rule: i64, from: u64) -> Change<RuleId> {
        let look_back = Some(day(from + WINDOW_DAYS + SETTLE));
        Change { of: RuleId(rule), from: day(from), look_back, watched_from: None, changes: 1 }
    }

    #[test]
    fn a_rule_has_its_part_though_its_own_look_back_is_to_come() {
        let settled = day(8);
        let both = spells(&[change(1, 1), change(2, 5)], Apart::Rest, settled, SETTLE);
        let [spell] = &both[..] else { panic!("{both:?}") };
        assert_eq!(spell.due, BTreeMap::from([(RuleId(1), 1)]));
        assert_eq!(spell.to_come, [(RuleId(2), 1, day(5 + WINDOW_DAYS + SETTLE))]);
        assert!(spell.shared);
        // One that comes after the days that are judged had none in them.
        let later = spells(&[change(1, 1), change(2, 9)], Apart::Rest, settled, SETTLE);
        assert!(!later[0].shared, "{later:?}");
    }

    #[test]
    fn a_rule_that_is_switched_on_again_begins_anew() {
        let again = Change { watched_from: Some(day(4)), ..change(1, 4) };
        let both = spells(&[change(1, 1), again], Apart::Rest, day(40), SETTLE);
        let [first, second] = &both[..] else { panic!("{both:?}") };
        assert_eq!((first.from, second.from), (day(1), day(4)));
        assert!(first.judged.iter().all(|d| *d < day(4)), "{first:?}");
        assert_eq!(second.judged.len(), WINDOW_DAYS as usize);
    }

    #[test]
    fn after_a_rest_days_are_held_against_those_just_before() {
        let rest = WINDOW_DAYS + SETTLE + REST;
        let both =
            |second| spells(&[change(1, 1), change(1, second)], Apart::Rest, day(90), SETTLE);
        assert_eq!(both(1 + rest).len(), 1);
        assert_eq!(both(2 + rest).len(), 2);
        assert_eq!(both(2 + rest)[1].since, Some(day(1)));
    }

    #[test]
    fn three_weeks_after_another_a_change_is_judged_by_itself() {
        let both =
            |second| spells(&[change(1, 1), change(2, second)], Apart::Days, day(90), SETTLE);
        assert_eq!(both(21).len(), 1);
        assert!(both(2)[0].shared);
        let [first, second] = &both(22)[..] else { panic!("{:?}", both(22)) };
        assert_eq!((first.since, second.since), (None, Some(day(1))));
        assert!(!first.shared && !second.shared);
        assert_eq!(second.judged.first(), Some(&day(22)));
    }

    /// Days that settle sooner or later than they did when a change was made leave the days that are judged as they are.
    #[test]
    fn the_days_that_are_judged_stay() {
        let learns = Change { look_back: Some(day(5 + 14 + WINDOW_DAYS + SETTLE)), ..change(1, 5) };
        for settle in [1, SETTLE, 12] {
            let first = |c: Change<RuleId>| {
                spells(&[c], Apart::Days, day(90), settle)[0].judged.first().copied()
            };
            assert_eq!(first(change(1, 5)), Some(day(5)), "{settle}");
            assert_eq!(first(learns), Some(day(19)), "{settle}");
        }
    }

    /// A strategy that learns again is judged three weeks later: until then nothing is told apart from it.
    #[test]
    fn a_change_within_the_days_of_another_is_judged_with_it() {
        let learns = Change { look_back: Some(day(1 + 14 + WINDOW_DAYS + SETTLE)), ..change(1, 1) };
        let both =
            |second| spells(&[learns, change(2, second)], Apart::Days, day(90), SETTLE).len();
        assert_eq!((both(21), both(22)), (1, 2));
        // Though a third lies between.
        let all = [learns, Change { look_back: None, ..change(3, 1) }, change(2, 21)];
        assert_eq!(spells(&all, Apart::Days, day(90), SETTLE).len(), 1);
    }

    proptest! {
        /// Each change is judged or to come, once; no day is judged twice, none before it is settled or anything was changed.
        #[test]
        fn nothing_is_judged_twice(
            all in proptest::collection::vec((1i64..4, 0u64..120, proptest::option::of(0u64..120)), 1..20),
            settled in 0u64..150,
            apart in prop_oneof![Just(Apart::Rest), Just(Apart::Days)],
        ) {
            let mut changes: Vec<Change<RuleId>> = all
                .iter()
                .map(|(rule, from, on)| Change { watched_from: on.map(day), ..change(*rule, *from) })
                .collect();
            changes.sort_by_key(|c| c.from);
            let found = spells(&changes, apart, day(settled), SETTLE);
            let told = |s: &Spell<RuleId>| s.due.values().sum::<i64>() + s.to_come.len() as i64;
            prop_assert_eq!(found.iter().map(told).sum::<i64>(), changes.len() as i64);
            let judged: Vec<_> = found.iter().flat_map(|s| &s.judged).collect();
            prop_assert!(judged.windows(2).all(|pair| pair[0] < pair[1]));
            prop_assert!(judged.iter().all(|d| **d <= day(settled)));
            prop_assert!(found.iter().all(|s| s.judged.iter().all(|d| *d >= s.from)));
            prop_assert!(found.iter().all(|s| !s.shared || changes.iter().any(|c| c.of != changes[0].of)));
        }
    }
}
