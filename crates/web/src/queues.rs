//! Whether this server's workers live: for whoever asks if it is ready.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// A queue whose worker has not been heard of for so long is dead.
const SILENT: Duration = Duration::from_mins(1);
/// So many failures in a row say that it is not being worked off.
const FAILURES: u32 = 5;

#[derive(Clone, Copy, Debug)]
struct State {
    heard: Instant,
    failures: u32,
}

/// The workers of this server, by the name of their queue.
#[derive(Clone, Debug, Default)]
pub struct Queues(Arc<Mutex<BTreeMap<&'static str, State>>>);

impl Queues {
    fn note(&self, name: &'static str, failures: impl Fn(u32) -> u32) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let before = all.get(name).map_or(0, |s| s.failures);
        all.insert(name, State { heard: Instant::now(), failures: failures(before) });
    }

    /// Its worker lives.
    pub fn alive(&self, name: &'static str) {
        self.note(name, |n| n);
    }

    /// It looked, and all is well.
    pub fn worked(&self, name: &'static str) {
        self.note(name, |_| 0);
    }

    /// Its work failed or panicked.
    pub fn failed(&self, name: &'static str) {
        self.note(name, |n| n + 1);
    }

    /// Those that are not being worked off.
    pub fn dead(&self) -> Vec<&'static str> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let dead = |s: &State| s.failures >= FAILURES || s.heard.elapsed() > SILENT;
        all.iter().filter(|(_, s)| dead(s)).map(|(name, _)| *name).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_queue_that_keeps_failing_is_dead_until_it_works_again() {
        let queues = Queues::default();
        queues.alive("imports");
        (0..FAILURES).for_each(|_| queues.failed("fetches"));
        assert_eq!(queues.dead(), ["fetches"]);
        queues.worked("fetches");
        assert!(queues.dead().is_empty());
    }
}
