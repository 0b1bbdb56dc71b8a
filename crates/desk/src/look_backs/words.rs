//! How it is said what changes were worth.

use tiller_core::Micros;
use tiller_core::change_effect::{CameOfIt, Worth};
use tiller_core::evidence::Interval;
use tiller_store::changes::Change;

use crate::numerals::{counted, sum};

/// `gained 120 (80% between −30 and 270)`.
pub fn in_words(worth: &Worth) -> String {
    worth_within(worth.mid, worth.range(), 80)
}

fn worth_within(mid: f64, range: Interval, percent: u8) -> String {
    let word = if mid < 0.0 { "lost" } else { "gained" };
    let (low, high) = if mid < 0.0 { (-range.high, -range.low) } else { (range.low, range.high) };
    format!("{word} {} ({percent}% between {} and {})", sum(mid.abs()), bound(low), bound(high))
}

fn bound(x: f64) -> String {
    if x < 0.0 { format!("−{}", sum(-x)) } else { sum(x) }
}

/// What came of a change, in two or three words.
pub fn verdict(came: CameOfIt) -> &'static str {
    match came {
        CameOfIt::Worked => "worked",
        CameOfIt::Worse => "made it worse",
        CameOfIt::Untold => "can’t tell",
    }
}

/// What came of several: `2 worked, 1 made things worse, 3 can’t be told`.
pub fn verdicts(came: [i64; 3]) -> String {
    let parts = came.into_iter().zip(["worked", "made things worse", "can’t be told"]);
    let parts = parts.filter(|(n, _)| *n > 0).map(|(n, what)| format!("{n} {what}"));
    parts.collect::<Vec<_>>().join(", ")
}

/// What came of a change, in money and with whom: the rest of the sentence that the verdict begins. None before it was
/// judged.
pub fn came_to(change: &Change) -> Option<String> {
    change.came_of_it?;
    let units = |x: Option<i64>| x.map(|x| Micros::new(x).to_units());
    let worth = units(change.came_to).zip(units(change.came_low)).zip(units(change.came_high));
    let worth = match worth {
        Some(((mid, low), high)) => worth_within(mid, Interval { low, high }, 90),
        None => "its campaign has no target, or fewer than three weeks before it".into(),
    };
    let with = match change.judged_with.unsigned_abs() {
        0 => String::new(),
        n => format!(", together with {}", counted(n, "other change", "other changes")),
    };
    Some(format!("{worth}{with}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_did_not_happen_is_not_told() {
        assert_eq!(verdicts([2, 0, 1]), "2 worked, 1 can’t be told");
    }

    #[test]
    fn a_loss_is_told_as_a_loss() {
        let worth = |mid, deviation| Worth { mid, deviation, plausible: 0.0, days: 7 };
        assert_eq!(in_words(&worth(120.0, 0.0)), "gained 120 (80% between 120 and 120)");
        let range = Interval { low: -170.0, high: 20.0 };
        let lost = worth_within(-75.0, range, 90);
        assert_eq!(lost, "lost 75 (90% between −20 and 170)");
    }
}
