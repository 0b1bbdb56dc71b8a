//! How right what was stated was, in sentences.

use tiller_core::score::{Brier, Held, Kind, Off, Step};

use super::Score;
use crate::numerals::{counted, day, number};
use crate::wording::Words;

/// What a kind of statement is about.
pub fn title(kind: Kind) -> &'static str {
    match kind {
        Kind::MonthSpend => "Spend of a campaign by the end of the month",
        Kind::Completed => "Conversions of a campaign’s open days, once all are in",
        Kind::Results => {
            "Results of a campaign in two weeks at what it spends, as plans state them"
        }
        Kind::NewBudget => {
            "Results of a campaign in the days that a change of its budget is judged by"
        }
        Kind::Measured => "Elasticity that an experiment will measure",
        Kind::OverTarget => {
            "Probability that a campaign’s next two weeks cost more than its target"
        }
    }
}

/// A share in whole percent.
pub fn share(of: f64) -> String {
    format!("{}%", number(100.0 * of, 0))
}

/// How ranges miss their level.
pub fn off(off: Option<Off>) -> &'static str {
    match off {
        Some(Off::TooSure) => "too narrow",
        Some(Off::TooCareful) => "wider than needed",
        None => "as stated, allowing for chance",
    }
}

/// How probabilities miss what came true.
pub fn off_step(step: &Step) -> &'static str {
    match step.off() {
        Some(Off::TooSure) => "came true less often than stated",
        Some(Off::TooCareful) => "came true more often than stated",
        None => "came true as often as stated, allowing for chance",
    }
}

/// `33 of 40 ranges held, 83% where 80% should`.
fn held(of: &Held) -> String {
    let ranges = if of.said == 1 { "range" } else { "ranges" };
    let (share, level) = (share(of.share()), share(of.level));
    format!("{} of {} {ranges} held, {share} where {level} should", of.held, of.said)
}

/// How right it was, a sentence for each kind; then what waits.
pub fn sentences(score: &Score) -> Vec<Words> {
    let mut all = Vec::new();
    if score.checked() == 0 {
        all.push(Words::say(
            "Nothing that we stated can be checked yet: that takes about six weeks of reports.",
        ));
    }
    for (kind, of) in &score.ranges {
        let about = match kind {
            Kind::MonthSpend => "Forecasts of a month’s spend: ",
            Kind::Results => "Results of two weeks, as plans state them: ",
            Kind::NewBudget => "Results at a new budget: ",
            Kind::Measured => "What experiments will measure: ",
            Kind::Completed | Kind::OverTarget => "Conversions of open days: ",
        };
        all.push(Words::say(about).strong(held(of)).and(match of.off() {
            None => ". That is within what chance allows.",
            Some(Off::TooSure) => ". They have been too narrow: allow for more on either side.",
            Some(Off::TooCareful) => ". They have been wider than needed.",
        }));
    }
    all.extend(verdicts(score));
    let mut besides = Vec::new();
    if score.afterwards > 0 {
        let n = counted(score.afterwards as u64, "statement was", "statements were");
        besides.push(format!("{n} worked out afterwards, from what had been reported by that day"));
    }
    if score.void > 0 {
        let (one, more) = (
            "statement does not count, because what it was",
            "statements do not count, because what they were",
        );
        let n = counted(score.void as u64, one, more);
        besides.push(format!("{n} about has been changed since"));
    }
    if let Some((n, first)) = score.waiting {
        let n = counted(n as u64, "statement can’t", "statements can’t");
        besides.push(format!("{n} be checked yet, the first on {}", day(first)));
    }
    all.extend(besides.into_iter().map(|b| Words::say(format!("{b}."))));
    all
}

fn verdicts(score: &Score) -> Option<Words> {
    let times: usize = score.steps.iter().map(|s| s.times).sum();
    let came: usize = score.steps.iter().map(|s| s.came).sum();
    let missed = score.steps.iter().filter(|s| s.off().is_some()).count();
    let periods = if times == 1 { "two-week period" } else { "two-week periods" };
    let words = Words::say("Verdicts: ")
        .strong(format!("{came} of {times} {periods} of campaigns cost more than the target"))
        .and(match (missed, score.steps.len()) {
            (0, _) => ", as often as stated within what chance allows".to_owned(),
            (n, of) => format!(", and in {n} of {of} steps more or less often than stated"),
        })
        .and(score.brier.as_ref().map_or(".".into(), better));
    (times > 0).then_some(words)
}

/// How much better than always stating the average.
fn better(brier: &Brier) -> String {
    match brier.skill() {
        Some(skill) if skill >= 0.005 => format!(
            ". Their squared error is {} smaller than that of always stating the average.",
            share(skill)
        ),
        Some(_) => ". Always stating the average would have been as good.".into(),
        None => ".".into(),
    }
}

/// What is to be said beside a range whose kind has missed its level by more than chance; none where it has not.
pub fn caveat(score: &Score, kind: Kind) -> Option<String> {
    let of = score.of(kind)?;
    let how = off(Some(of.off()?));
    Some(format!("So far these ranges have been {how} in this account: {}.", held(of)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::NaiveDate;
    use tiller_core::score::{Chance, brier, reliability};

    fn told(score: &Score) -> Vec<String> {
        sentences(score).iter().map(ToString::to_string).collect()
    }

    #[test]
    fn it_is_said_of_none_of_some_and_of_what_misses() {
        assert_eq!(
            told(&Score::default()),
            ["Nothing that we stated can be checked yet: that takes about six weeks of reports."]
        );
        let first = NaiveDate::from_ymd_opt(2026, 11, 24).unwrap();
        let waits = Score { waiting: Some((2, first)), ..Score::default() };
        assert_eq!(told(&waits)[1], "2 statements can’t be checked yet, the first on 24 Nov.");
        let narrow = Held::of(0.8, &[(50, 25)]).unwrap();
        let fine = Held::of(0.8, &[(1, 1)]).unwrap();
        let said: Vec<Chance> =
            (0..20).map(|n| Chance { evening: 0, said: 0.9, came: n < 18 }).collect();
        let score = Score {
            ranges: vec![
                (Kind::MonthSpend, fine),
                (Kind::NewBudget, fine),
                (Kind::Measured, fine),
                (Kind::Completed, narrow),
            ],
            steps: reliability(&said),
            brier: brier(&said),
            void: 1,
            ..Score::default()
        };
        let all = told(&score);
        assert_eq!(
            all,
            [
                "Forecasts of a month’s spend: 1 of 1 range held, 100% where 80% should. That is within what chance allows.",
                "Results at a new budget: 1 of 1 range held, 100% where 80% should. That is within what chance allows.",
                "What experiments will measure: 1 of 1 range held, 100% where 80% should. That is within what chance allows.",
                "Conversions of open days: 25 of 50 ranges held, 50% where 80% should. They have been too narrow: allow for more on either side.",
                "Verdicts: 18 of 20 two-week periods of campaigns cost more than the target, as often as stated within what chance allows. Always stating the average would have been as good.",
                "1 statement does not count, because what it was about has been changed since.",
            ]
        );
        assert_eq!(caveat(&score, Kind::MonthSpend), None);
        assert_eq!(
            caveat(&score, Kind::Completed).unwrap(),
            "So far these ranges have been too narrow in this account: 25 of 50 ranges held, 50% where 80% should."
        );
    }
}
