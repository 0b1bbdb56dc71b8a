//! Laws of a course, whatever its steps, however late it is asked, whatever happens at the channel.
#![allow(clippy::unwrap_used, clippy::expect_used)]

use chrono::NaiveDate;
use proptest::prelude::*;
use tiller_core::Micros;
use tiller_core::course::{Course, Kind, Latest, Lever, Move, Now, State, Step, Why};
use tiller_core::window::later;

fn day(n: u64) -> NaiveDate {
    later(NaiveDate::from_ymd_opt(2026, 11, 2).unwrap(), n)
}

fn kind() -> impl Strategy<Value = Kind> {
    prop::sample::select(Kind::ALL.to_vec())
}

/// Steps that begin with the first day, rise in days and differ from their neighbours.
fn steps() -> impl Strategy<Value = Vec<Step>> {
    prop::collection::vec((1_u64..15, 1_i64..40), 1..8).prop_map(|raw| {
        let (mut after, mut cents) = (0, 100);
        raw.into_iter()
            .enumerate()
            .map(|(i, (gap, more))| {
                after += if i == 0 { 0 } else { gap };
                cents += if i % 2 == 0 { more } else { -(more % 20) - 1 };
                Step { after, amount: Micros::new(10_000 * cents) }
            })
            .collect()
    })
}

prop_compose! {
    fn course()(kind in kind(), steps in steps()) -> Course {
        // A lift has its dates from the first; the others wait for their first step.
        let (state, starts) = match kind {
            Kind::Lift => (State::Running, Some(day(3))),
            Kind::Experiment | Kind::Ramp => (State::Waiting, None),
        };
        let lever = Lever::Budget;
        Course { kind, lever, steps, base: Micros::new(900_000), state, starts, taken: 0 }
    }
}

/// Lives a course: asked after so many days again and again, with whatever it sets made at once. Tells what it set on
/// which day, and where it came to.
fn lived(mut course: Course, gaps: &[u64]) -> (Vec<(u64, Micros)>, Course) {
    let (mut set, mut present, mut today) = (Vec::new(), course.base, 0);
    let mut latest = Latest::None;
    if course.state == State::Waiting {
        present = course.steps[0].amount;
        set.push((0, present));
        latest = Latest::Made(day(1));
    }
    for gap in gaps {
        today += gap;
        let now = Now { latest, next_day: Some(day(today)), present: Some(present) };
        match course.next_move(&now) {
            Move::Wait => {}
            Move::Stop(why) => panic!("nothing happened that stops it: {why:?}"),
            Move::Go { to, set: amount } => {
                if let Some(amount) = amount {
                    present = amount;
                    set.push((today, amount));
                    latest = Latest::Made(day(today));
                }
                course = to;
            }
        }
    }
    (set, course)
}

proptest! {
    /// Asked every day, it sets each of its steps once, in order, each on its day, and ends with the last.
    #[test]
    fn every_step_on_its_day(course in course()) {
        let (set, end) = lived(course.clone(), &[1; 160]);
        prop_assert_eq!(end.state, State::Done);
        prop_assert_eq!(end.taken, course.steps.len());
        let first = if course.kind == Kind::Lift { 3 } else { 1 };
        let mut before = course.base;
        let mut due: Vec<(u64, Micros)> = Vec::new();
        for (i, s) in course.steps.iter().enumerate() {
            // The first of what waited was made the day before it is in force; what is set already is not set again.
            let on = if i == 0 && course.kind != Kind::Lift { 0 } else { first + s.after };
            if s.amount != before || (i == 0 && course.kind != Kind::Lift) {
                due.push((on, s.amount));
            }
            before = s.amount;
        }
        prop_assert_eq!(set, due);
    }

    /// However late it is asked: what it sets is its steps in order; a ramp leaves none out and keeps their
    /// distance; nothing is set before its day; it ends with its last budget.
    #[test]
    fn late_is_never_two_at_once(course in course(), gaps in prop::collection::vec(1_u64..20, 160)) {
        let (set, end) = lived(course.clone(), &gaps);
        prop_assert_eq!(end.state, State::Done);
        let left = set.last().map_or(course.base, |s| s.1);
        prop_assert_eq!(left, course.steps.last().unwrap().amount);
        let mut at = 0;
        for (_, amount) in &set {
            let found = course.steps[at..].iter().position(|s| s.amount == *amount);
            at += found.expect("its steps, in order") + 1;
        }
        if course.kind == Kind::Ramp {
            prop_assert_eq!(set.len(), course.steps.len());
            for (i, pair) in set.windows(2).enumerate() {
                let apart = course.steps[i + 1].after - course.steps[i].after;
                // The first is in force a day after it was made.
                prop_assert!(pair[1].0 - pair[0].0 >= apart, "{pair:?} are less than {apart} days apart");
            }
        }
    }

    /// It takes no step and says why where somebody else has set the budget, has taken it away, or the channel
    /// refused; while an answer is out it waits.
    #[test]
    fn it_stops_rather_than_overrule(course in course(), other in 1_i64..10_000, on in 0_u64..200) {
        let mut course = course;
        if course.state == State::Waiting {
            course = Course { state: State::Running, starts: Some(day(1)), taken: 1, ..course };
        }
        prop_assume!(course.taken < course.steps.len());
        let now = |present, latest| Now { latest, next_day: Some(day(on)), present };
        let believed = if course.taken == 0 { course.base } else { course.steps[0].amount };
        let foreign = Micros::new(believed.get() + 10_000 * other);
        let made = Latest::Made(day(1));
        let due = course.next_step().unwrap().0 <= day(on);
        let stops = |why| if due { Move::Stop(why) } else { Move::Wait };
        prop_assert_eq!(course.next_move(&now(Some(foreign), made)), stops(Why::Changed(foreign)));
        prop_assert_eq!(course.next_move(&now(None, made)), stops(Why::Gone));
        prop_assert_eq!(course.next_move(&now(Some(believed), Latest::Refused)), Move::Stop(Why::Refused));
        prop_assert_eq!(course.next_move(&now(Some(believed), Latest::Open)), Move::Wait);
        for state in [State::Done, State::Stopped] {
            let over = Course { state, ..course.clone() };
            prop_assert_eq!(over.next_move(&now(Some(foreign), made)), Move::Wait);
            let refused = over.next_move(&now(Some(believed), Latest::Refused));
            let done = state == State::Done;
            prop_assert_eq!(refused, if done { Move::Stop(Why::Refused) } else { Move::Wait });
        }
    }

    /// A day is of the side whose budget it had, and of none outside the course or with another budget.
    #[test]
    fn days_are_told_apart_by_their_budget(course in course(), n in 0_u64..300, pick in 0_usize..8) {
        let (_, end) = lived(course, &[1; 160]);
        let step = end.steps[pick % end.steps.len()];
        let set = end.step_of(day(n), Some(step.amount));
        let starts = end.starts.unwrap();
        if day(n) < starts || step.amount == end.base {
            prop_assert_eq!(set, None);
        } else if let Some(set) = set {
            prop_assert_eq!(set > 0.0, step.amount > end.base);
        }
        prop_assert_eq!(end.step_of(day(n), Some(Micros::new(1))), None);
        prop_assert_eq!(end.step_of(day(n), None), None);
    }
}
