//! Who knocks too often waits: after a few wrong passwords for one person, or many from one address, longer each time.

use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use moka::sync::Cache;

/// Wrong passwords for one person that are forgiven, and from one address, behind which an office may sit.
const FORGIVEN: (u32, u32) = (5, 50);
/// The longest wait.
const LONGEST: Duration = Duration::from_mins(15);
/// What is forgotten when nobody has knocked for so long.
const MEMORY: Duration = Duration::from_hours(2);
/// Persons and addresses that are remembered.
const MOST: u64 = 100_000;

/// Who knocked.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum Who {
    Person(String),
    Address(IpAddr),
}

#[derive(Clone, Copy, Debug)]
struct Knocks {
    wrong: u32,
    until: Instant,
}

/// The door of a server.
#[derive(Clone, Debug)]
pub struct Door(Arc<Cache<Who, Knocks>>);

impl Default for Door {
    fn default() -> Self {
        Self(Arc::new(Cache::builder().max_capacity(MOST).time_to_idle(MEMORY).build()))
    }
}

fn whos(email: &str, from: Option<IpAddr>) -> impl Iterator<Item = (Who, u32)> {
    let person = (Who::Person(email.trim().to_lowercase()), FORGIVEN.0);
    std::iter::once(person).chain(from.map(|ip| (Who::Address(ip), FORGIVEN.1)))
}

impl Door {
    /// How long somebody has to wait before the next try; none if not at all.
    pub fn waits(&self, email: &str, from: Option<IpAddr>, now: Instant) -> Option<Duration> {
        whos(email, from)
            .filter_map(|(who, _)| self.0.get(&who)?.until.checked_duration_since(now))
            .filter(|wait| !wait.is_zero())
            .max()
    }

    /// A wrong password.
    pub fn wrong(&self, email: &str, from: Option<IpAddr>, now: Instant) {
        for (who, forgiven) in whos(email, from) {
            let wrong = self.0.get(&who).map_or(0, |k| k.wrong) + 1;
            let beyond = wrong.saturating_sub(forgiven);
            let wait = match beyond {
                0 => Duration::ZERO,
                n => Duration::from_secs(1 << n.min(10)).min(LONGEST),
            };
            self.0.insert(who, Knocks { wrong, until: now + wait });
        }
    }

    /// The right one: the person begins anew. Their address does not: it may be trying others.
    pub fn right(&self, email: &str) {
        self.0.invalidate(&Who::Person(email.trim().to_lowercase()));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_knocks_too_often_waits_longer_each_time() {
        let (door, now) = (Door::default(), Instant::now());
        let ip = |n: u8| Some(IpAddr::from([192, 0, 2, n]));
        let wrong =
            |email: &str, from, times| (0..times).for_each(|_| door.wrong(email, from, now));
        wrong("Ada@a.example", ip(1), 5);
        assert_eq!(door.waits("ada@a.example", ip(1), now), None, "five are forgiven");
        wrong("ada@a.example", ip(2), 1);
        assert_eq!(door.waits(" ADA@a.example", ip(3), now), Some(Duration::from_secs(2)));
        wrong("ada@a.example", None, 2);
        assert_eq!(door.waits("ada@a.example", None, now), Some(Duration::from_secs(8)));
        assert_eq!(door.waits("ada@a.example", None, now + Duration::from_secs(8)), None);
        assert_eq!(door.waits("bo@a.example", ip(1), now), None);
        wrong("ada@a.example", None, 100);
        assert_eq!(door.waits("ada@a.example", None, now), Some(LONGEST));
        door.right("ada@a.example");
        assert_eq!(door.waits("ada@a.example", ip(1), now), None);
        // One address that tries many people.
        (0..51).for_each(|n| door.wrong(&format!("p{n}@a.example"), ip(9), now));
        assert_eq!(door.waits("new@a.example", ip(9), now), Some(Duration::from_secs(2)));
        door.right("new@a.example");
        assert!(door.waits("new@a.example", ip(9), now).is_some());
    }
}
