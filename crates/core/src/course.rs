//! Courses: dated steps of a daily budget, or of what stands for a bid, decided once and then taken one after the other.
//! What a course does next follows from where it has come to and from what is so at the channel.
//!
//! ```
//! use chrono::NaiveDate;
//! use tiller_core::Micros;
//! use tiller_core::course::{Course, Kind, Lever, Move, Now, State, Step};
//!
//! let day = |d| NaiveDate::from_ymd_opt(2026, 11, d).unwrap();
//! let to = |after, units| Step { after, amount: Micros::from_units(units) };
//! // 50 a day become 70 in two steps, three days apart; the first has been made, in force from the 2nd.
//! let ramp = Course {
//!     kind: Kind::Ramp,
//!     lever: Lever::Budget,
//!     steps: vec![to(0, 60.0), to(3, 70.0)],
//!     base: Micros::from_units(50.0),
//!     state: State::Running,
//!     starts: Some(day(2)),
//!     taken: 1,
//! };
//! let now = |d| Now { next_day: Some(day(d)), present: Some(Micros::from_units(60.0)), ..Now::default() };
//! assert_eq!(ramp.next_move(&now(4)), Move::Wait);
//! let Move::Go { to, set } = ramp.next_move(&now(5)) else { panic!() };
//! assert_eq!((to.state, set), (State::Done, Some(Micros::from_units(70.0))));
//! ```

use chrono::NaiveDate;

use crate::money::Micros;
use crate::window::later;

/// What a course is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Weeks up and weeks down, to learn the curve.
    Experiment,
    /// Higher on some dates.
    Lift,
    /// To another budget in steps.
    Ramp,
}
crate::words!(Kind: Experiment "experiment", Lift "lift", Ramp "ramp");

/// What it moves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Lever {
    /// The daily budget.
    Budget,
    /// What stands for the bid: the bid itself, or its strategy's target or highest bid.
    Bid,
}
crate::words!(Lever: Budget "budget", Bid "bid");

/// How far it has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    /// Its first step waits for somebody to send it.
    Waiting,
    /// Its first step is in force, or will be on its date; others follow.
    Running,
    /// All its steps have been taken.
    Done,
    /// It ended before its last step.
    Stopped,
}
crate::words!(State: Waiting "waiting", Running "running", Done "done", Stopped "stopped");

#[cfg(feature = "database")]
mod stored {
    use super::{Kind, Lever, State};
    crate::stored!(Kind);
    crate::stored!(Lever);
    crate::stored!(State);
}

/// A step.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Step {
    /// Days after the first.
    pub after: u64,
    /// What is set from then on: money a day, money a thing, or a return in millionths.
    pub amount: Micros,
}

/// A course and how far it has come.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Course {
    /// What it is for.
    pub kind: Kind,
    /// What it moves.
    pub lever: Lever,
    /// Its steps, in order.
    pub steps: Vec<Step>,
    /// What was set before.
    pub base: Micros,
    /// How far it has come.
    pub state: State,
    /// The first step's first day, once known.
    pub starts: Option<NaiveDate>,
    /// Steps taken.
    pub taken: usize,
}

/// What became of a course's latest change.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Latest {
    /// There is none yet.
    #[default]
    None,
    /// It waits, or is on its way.
    Open,
    /// The channel has made it; it is in force from a day on.
    Made(NaiveDate),
    /// The channel has refused it.
    Refused,
}

/// What is so when a course is asked for its next move.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Now {
    /// What became of its latest change.
    pub latest: Latest,
    /// The campaign's next day: the one after the last that its channel has closed.
    pub next_day: Option<NaiveDate>,
    /// What is set where it moves something; absent if nothing is.
    pub present: Option<Micros>,
}

/// Why a course ends before its last step.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Why {
    /// The channel refused a step.
    Refused,
    /// What is set is no longer what its last step set.
    Changed(Micros),
    /// Nothing is set there any more.
    Gone,
}

/// What a course does next.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Move {
    /// Nothing is due.
    Wait,
    /// It ends here.
    Stop(Why),
    /// It goes on.
    Go {
        /// Where it stands then.
        to: Course,
        /// What is to be set for it, where that differs from what is set.
        set: Option<Micros>,
    },
}

impl Course {
    /// Whether steps are still to come.
    pub fn open(&self) -> bool {
        matches!(self.state, State::Waiting | State::Running)
    }

    /// The next step with its day, once that is known.
    pub fn next_step(&self) -> Option<(NaiveDate, Micros)> {
        let step = self.steps.get(self.taken)?;
        Some((later(self.starts?, step.after), step.amount))
    }

    /// What it believes to be set.
    fn believed(&self) -> Micros {
        let last = self.taken.checked_sub(1).and_then(|i| self.steps.get(i));
        last.map_or(self.base, |s| s.amount)
    }

    /// What is to be done now.
    pub fn next_move(&self, now: &Now) -> Move {
        match (self.state, now.latest) {
            (State::Stopped, _) | (_, Latest::Open) => Move::Wait,
            // The last step too may be refused.
            (_, Latest::Refused) => Move::Stop(Why::Refused),
            (State::Done, _) => Move::Wait,
            (State::Waiting, Latest::None) => Move::Wait,
            (State::Waiting, Latest::Made(from)) => {
                let state = if self.steps.len() > 1 { State::Running } else { State::Done };
                let begun = Self { state, starts: Some(from), taken: 1, ..self.clone() };
                match begun.step(now) {
                    Move::Wait => Move::Go { to: begun, set: None },
                    other => other,
                }
            }
            (State::Running, _) => self.step(now),
        }
    }

    fn step(&self, now: &Now) -> Move {
        let (Some(starts), Some((day, _)), Some(next_day)) =
            (self.starts, self.next_step(), now.next_day)
        else {
            return Move::Wait;
        };
        if next_day < day {
            return Move::Wait;
        }
        let Some(present) = now.present else { return Move::Stop(Why::Gone) };
        if present != self.believed() {
            return Move::Stop(Why::Changed(present));
        }
        let (due, late) = match self.kind {
            // Where days were missed, the next step is taken all the same and those after it wait as long as
            // before: two at once would be the shock that the steps are there to avoid.
            Kind::Ramp => (self.taken, (next_day - day).num_days().unsigned_abs()),
            // What was to be higher on certain days is not made up for on others.
            Kind::Experiment | Kind::Lift => {
                let due = self.steps.iter().rposition(|s| later(starts, s.after) <= next_day);
                (due.map_or(self.taken, |d| d.max(self.taken)), 0)
            }
        };
        let state = if due + 1 == self.steps.len() { State::Done } else { State::Running };
        let to = Self { state, starts: Some(later(starts, late)), taken: due + 1, ..self.clone() };
        let amount = self.steps[due].amount;
        Move::Go { to, set: (amount != present).then_some(amount) }
    }

    /// On a day of one of its steps up or down, the logarithm of what was set over what stood before; told by the budget that the
    /// channel says the day had, since a step may have been taken late.
    pub fn step_of(&self, day: NaiveDate, budget: Option<Micros>) -> Option<f64> {
        let (starts, last) = (self.starts?, self.steps.last()?.after);
        let within = self.lever == Lever::Budget && day >= starts && day < later(starts, 2 * last);
        let mut taken = self.steps.iter().take(self.taken).map(|s| s.amount);
        let step = taken.find(|amount| within && Some(*amount) == budget)?;
        (step != self.base).then(|| (step.to_units() / self.base.to_units()).ln())
    }
}
