//! A change that somebody or some advice proposes, with its reason, its evidence and what it is expected to add.

use tiller_core::Micros;
use tiller_core::ids::ChangeId;
use tiller_core::setting::Setting;

use tiller_core::spot::Subject;

/// Where a proposal comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Origin {
    /// Set by hand in a table.
    Hand,
    /// Advice of Causes.
    Causes,
    /// A plan.
    Plan,
    /// A change is taken back.
    Undo,
    /// A step of a course.
    Course,
}

impl Origin {
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Hand => "hand",
            Self::Causes => "causes",
            Self::Plan => "plan",
            Self::Undo => "undo",
            Self::Course => "course",
        }
    }
}

/// What a change is expected to add a day; absent where nothing tells.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Adds {
    /// Spend, in units of currency.
    pub spend: Option<f64>,
    /// Conversions.
    pub conversions: Option<f64>,
    /// Their value.
    pub value: Option<f64>,
}

impl Adds {
    /// What a change of spend and conversions adds, of results that are worth so much.
    pub fn of(spend: f64, conversions: f64, worth: Option<f64>) -> Self {
        let value = worth.map(|w| w * conversions);
        Self { spend: Some(spend), conversions: Some(conversions), value }
    }
}

/// A change that somebody or some advice proposes.
#[derive(Clone, Debug)]
pub struct Proposal {
    /// To what.
    pub subject: Subject,
    /// What shall be set.
    pub set: Setting,
    /// Why.
    pub reason: String,
    /// Figures that it rests on, as they stand.
    pub evidence: Vec<(String, String)>,
    /// What it is expected to do.
    pub effect: String,
    /// What it is expected to add a day.
    pub adds: Adds,
    /// Where it comes from.
    pub origin: Origin,
    /// The change that it takes back.
    pub undoes: Option<ChangeId>,
}

/// Money as it is proposed: in hundredths; the account's own coins are seen to in the tray.
pub(crate) fn coins(units: f64) -> Micros {
    Micros::from_units((units * 100.0).round() / 100.0)
}
