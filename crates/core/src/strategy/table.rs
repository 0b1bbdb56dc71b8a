//! The table of conditions. Rows are read from the top: each that holds advises its strategy, the first of all first.
//! A table is whole if every row says something for some campaign and every campaign is told something.

use itertools::iproduct;
use serde::{Deserialize, Serialize};

use super::{Aim, Facts, Kind, Values};

/// As many rows as a table may have.
pub const MOST_ROWS: usize = 24;

/// A limit of a number.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Bound {
    /// Less than this.
    Under(f64),
    /// This or more.
    AtLeast(f64),
}

impl Bound {
    /// Whether a number keeps to it.
    pub fn holds(self, x: f64) -> bool {
        match self {
            Self::Under(limit) => x < limit,
            Self::AtLeast(limit) => x >= limit,
        }
    }

    /// The number.
    pub fn limit(self) -> f64 {
        match self {
            Self::Under(limit) | Self::AtLeast(limit) => limit,
        }
    }
}

/// When a row holds: what it leaves out is no matter.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct When {
    /// What the campaign is run for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub aim: Option<Aim>,
    /// What is known of its results' worth.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub values: Option<Values>,
    /// Conversions in 30 days.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub conversions: Option<Bound>,
    /// Days since the first conversion.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub history: Option<Bound>,
    /// Days that it runs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub flight: Option<Bound>,
    /// Whether its target is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub target_known: Option<bool>,
    /// Whether spend that runs away is feared.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fears_runaway: Option<bool>,
}

impl When {
    /// Whether it holds.
    pub fn holds(&self, f: &Facts) -> bool {
        let within = |bound: Option<Bound>, x: f64| bound.is_none_or(|b| b.holds(x));
        self.aim.is_none_or(|x| x == f.aim)
            && self.values.is_none_or(|x| x == f.values)
            && within(self.conversions, f.conversions)
            && within(self.history, f.history)
            && within(self.flight, f.flight)
            && self.target_known.is_none_or(|x| x == f.target_known)
            && self.fears_runaway.is_none_or(|x| x == f.fears_runaway)
    }
}

/// A row.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Row {
    /// When it holds.
    #[serde(default)]
    pub when: When,
    /// What it advises then.
    pub advice: Kind,
    /// Why, as a sentence.
    pub because: String,
    /// What would change that, as a sentence.
    pub would_change: String,
}

/// A table that is whole.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(transparent)]
pub struct Table(Vec<Row>);

/// What keeps rows from being a table; rows are counted from 1.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
pub enum Fault {
    /// More rows than a person can read.
    #[error("a table has at most {MOST_ROWS} rows")]
    TooLong,
    /// A bound that is no number, or below 0.
    #[error("row {0}: a limit is a number from 0 up")]
    Limit(usize),
    /// A sentence is missing.
    #[error("row {0}: say why, and what would change the advice")]
    Unsaid(usize),
    /// Nothing that it says isn't said before it.
    #[error(
        "row {0} never tells anybody anything: the rows above it advise the same wherever it holds, or it can’t hold"
    )]
    Unreachable(usize),
    /// A campaign that no row tells anything.
    #[error("no row holds for {0}; add a row without conditions at the end")]
    Unanswered(String),
}

impl Table {
    /// Rows as a table, or all that is wrong with them.
    pub fn new(rows: Vec<Row>) -> Result<Self, Vec<Fault>> {
        if rows.len() > MOST_ROWS {
            return Err(vec![Fault::TooLong]);
        }
        let bounds = |w: &When| [w.conversions, w.history, w.flight];
        let bad = |b: &Bound| !b.limit().is_finite() || b.limit() < 0.0;
        let mut faults: Vec<Fault> = Vec::new();
        for (i, row) in rows.iter().enumerate() {
            if bounds(&row.when).iter().flatten().any(bad) {
                faults.push(Fault::Limit(i + 1));
            }
            if row.because.trim().is_empty() || row.would_change.trim().is_empty() {
                faults.push(Fault::Unsaid(i + 1));
            }
        }
        if faults.is_empty() {
            faults = unwhole(&rows);
        }
        if faults.is_empty() { Ok(Self(rows)) } else { Err(faults) }
    }

    /// The table that the program ships with: common practice, no source.
    #[expect(clippy::expect_used, clippy::missing_panics_doc, reason = "tests read it")]
    pub fn shipped() -> Self {
        let rows = serde_json::from_str(include_str!("shipped.json")).expect("rows");
        Self::new(rows).expect("a whole table")
    }

    /// Its rows.
    pub fn rows(&self) -> &[Row] {
        &self.0
    }

    /// What fits, best first: each strategy once, by the first row that advises it. Never empty.
    pub fn advise(&self, facts: &Facts) -> Vec<&Row> {
        let mut ranked: Vec<&Row> = Vec::new();
        for row in self.0.iter().filter(|r| r.when.holds(facts)) {
            if ranked.iter().all(|r| r.advice != row.advice) {
                ranked.push(row);
            }
        }
        ranked
    }
}

/// Rows that never say anything of their own, and facts that nothing is said of.
fn unwhole(rows: &[Row]) -> Vec<Fault> {
    let mut speaks = vec![false; rows.len()];
    let mut unanswered = None;
    for facts in cells(rows) {
        let mut said: Vec<Kind> = Vec::new();
        for (i, row) in rows.iter().enumerate().filter(|(_, r)| r.when.holds(&facts)) {
            if !said.contains(&row.advice) {
                said.push(row.advice);
                speaks[i] = true;
            }
        }
        if said.is_empty() && unanswered.is_none() {
            unanswered = Some(Fault::Unanswered(describe(&facts)));
        }
    }
    let silent = speaks.iter().enumerate().filter(|(_, s)| !**s);
    silent.map(|(i, _)| Fault::Unreachable(i + 1)).chain(unanswered).collect()
}

/// Facts from each side of every limit that the rows name, in all combinations: rows can't tell others apart.
fn cells(rows: &[Row]) -> impl Iterator<Item = Facts> {
    let points = |of: fn(&When) -> Option<Bound>| {
        let mut points: Vec<f64> = std::iter::once(0.0)
            .chain(rows.iter().filter_map(|r| of(&r.when)).map(Bound::limit))
            .collect();
        points.sort_by(f64::total_cmp);
        points.dedup();
        points
    };
    iproduct!(
        Aim::ALL,
        Values::ALL,
        points(|w| w.conversions),
        points(|w| w.history),
        points(|w| w.flight),
        [false, true],
        [false, true]
    )
    .map(|(aim, values, conversions, history, flight, target_known, fears_runaway)| Facts {
        aim,
        values,
        conversions,
        history,
        flight,
        target_known,
        fears_runaway,
    })
}

fn describe(f: &Facts) -> String {
    let or = |yes: bool, a: &'static str, b: &'static str| if yes { a } else { b };
    format!(
        "a campaign for {} with values {}, {} conversions in 30 days, {} days of history, a flight of {} days, {} and {}",
        f.aim.word(),
        f.values.word(),
        f.conversions,
        f.history,
        f.flight,
        or(f.target_known, "a known target", "no known target"),
        or(f.fears_runaway, "fear of a runaway spend", "no fear of a runaway spend"),
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(when: When, advice: Kind) -> Row {
        Row { when, advice, because: "Because.".into(), would_change: "That.".into() }
    }

    const USUAL: Facts = Facts {
        aim: Aim::Leads,
        values: Values::Absent,
        conversions: 90.0,
        history: 120.0,
        flight: f64::INFINITY,
        target_known: true,
        fears_runaway: false,
    };

    fn first(facts: Facts) -> Kind {
        Table::shipped().advise(&facts)[0].advice
    }

    /// Common practice, no source (B1).
    #[test]
    fn the_shipped_table_says_what_is_common() {
        assert_eq!(first(USUAL), Kind::TargetCpa);
        assert_eq!(first(Facts { values: Values::Differ, ..USUAL }), Kind::TargetRoas);
        assert_eq!(first(Facts { values: Values::Alike, ..USUAL }), Kind::TargetCpa);
        assert_eq!(first(Facts { target_known: false, ..USUAL }), Kind::MostConversions);
        assert_eq!(first(Facts { flight: 10.0, ..USUAL }), Kind::MostConversions);
        let sold = Facts { values: Values::Differ, aim: Aim::Sales, ..USUAL };
        assert_eq!(first(Facts { flight: 10.0, ..sold }), Kind::MostValue);
        assert_eq!(first(Facts { conversions: 0.0, ..USUAL }), Kind::ManualCpc);
        assert_eq!(first(Facts { history: 12.0, ..USUAL }), Kind::ManualCpc);
        assert_eq!(first(Facts { aim: Aim::Awareness, ..USUAL }), Kind::ManualCpm);
        let feared = Facts { fears_runaway: true, target_known: false, ..USUAL };
        assert_eq!(first(feared), Kind::ManualCpc);
    }

    #[test]
    fn a_row_that_says_nothing_new_is_found() {
        let few = When { conversions: Some(Bound::Under(10.0)), ..When::default() };
        let none = When { conversions: Some(Bound::Under(0.0)), ..When::default() };
        let all = row(When::default(), Kind::ManualCpc);
        let twice = vec![all.clone(), row(few, Kind::ManualCpc)];
        assert_eq!(Table::new(twice), Err(vec![Fault::Unreachable(2)]));
        let never = vec![row(none, Kind::MostClicks), all.clone()];
        assert_eq!(Table::new(never), Err(vec![Fault::Unreachable(1)]));
        assert!(Table::new(vec![row(few, Kind::MostClicks), all]).is_ok());
    }

    #[test]
    fn a_campaign_without_an_answer_is_found() {
        let enough = When { conversions: Some(Bound::AtLeast(10.0)), ..When::default() };
        let faults = Table::new(vec![row(enough, Kind::TargetCpa)]).unwrap_err();
        assert!(faults[0].to_string().contains("0 conversions in 30 days"), "{faults:?}");
        assert!(matches!(Table::new(Vec::new()).unwrap_err()[0], Fault::Unanswered(_)));
    }

    #[test]
    fn rows_have_reasons_and_limits_are_numbers() {
        let mut silent = row(When::default(), Kind::ManualCpc);
        silent.because = "  ".into();
        assert_eq!(Table::new(vec![silent]), Err(vec![Fault::Unsaid(1)]));
        let odd = When { flight: Some(Bound::Under(f64::NAN)), ..When::default() };
        assert_eq!(Table::new(vec![row(odd, Kind::ManualCpc)]), Err(vec![Fault::Limit(1)]));
        let long = vec![row(When::default(), Kind::ManualCpc); MOST_ROWS + 1];
        assert_eq!(Table::new(long), Err(vec![Fault::TooLong]));
    }
}
