//! What came of a change against a regression in a reference library (`references/change_effect.py`): Poisson regressions
//! of spend and of worth for each unit of spend, the change being what one campaign does beside the others.
#![allow(clippy::unwrap_used)]

use serde::Deserialize;
use tiller_core::change_effect::{Line, When, Worth, effect};

#[derive(Deserialize)]
struct References {
    before: usize,
    cases: Vec<Case>,
}

#[derive(Deserialize)]
struct Case {
    #[serde(flatten)]
    own: Days,
    others: Vec<Days>,
    effect: f64,
    error: f64,
}

#[derive(Deserialize)]
struct Days {
    spend: Vec<f64>,
    worth: Vec<f64>,
}

impl From<&Days> for Line {
    fn from(days: &Days) -> Self {
        Self { spend: days.spend.clone(), worth: days.worth.clone() }
    }
}

/// Beside others with thousands of results the draw toward "all days are alike" is next to nothing: the estimates are
/// the same to a few hundredths of their error, and the errors are, but for how each counts a day's scatter.
#[test]
fn an_effect_is_what_the_regression_says() {
    let references: References =
        serde_json::from_str(include_str!("references/change_effect.json")).unwrap();
    assert_eq!(references.cases.len(), 9);
    for (n, case) in references.cases.iter().enumerate() {
        let others: Vec<Line> = case.others.iter().map(Line::from).collect();
        let judged = (references.before..case.own.spend.len()).collect();
        let when = When { since: 0, changed: references.before, judged };
        let found = effect(&(&case.own).into(), &others.iter().collect::<Vec<_>>(), &when).unwrap();
        let ours = Worth::sum([&found]);
        let apart = (ours.mid - case.effect) / case.error;
        let wider = ours.deviation / case.error;
        assert!(apart.abs() <= 0.05, "case {n}: {} against {}", ours.mid, case.effect);
        assert!(
            (0.75..=1.3).contains(&wider),
            "case {n}: {} against {}",
            ours.deviation,
            case.error
        );
    }
}
