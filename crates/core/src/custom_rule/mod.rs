//! Custom rules (R4): when something holds of a campaign, an ad group, an item or a search term, on enough evidence,
//! then something is done about it.
//!
//! - `condition`: what has to hold: comparisons over windows, joined by *and* or *or* one level deep
//! - `evidence`: what has to be known before anything is done
//! - `judge`: whether it holds, and how surely
//!
//! ```
//! use tiller_core::custom_rule::CustomRule;
//! let text = r#"{"things": "ad_groups",
//!     "when": {"all": [{"metric": "conversions", "over": {"days": 7}, "is": "at_most", "than": {"value": 0}}]},
//!     "evidence": {"spend": {"times_target": 3}, "days": 3, "sure": 0.95},
//!     "then": "pause"}"#;
//! let rule: CustomRule<String> = serde_json::from_str(text).unwrap();
//! assert!(rule.check().is_ok());
//! ```

pub mod condition;
pub mod evidence;
pub mod judge;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub use condition::{Clause, Is, Metric, Over, Than, When};
pub use evidence::{Amount, Evidence, Lack};
pub use judge::Known;

use crate::money::Price;

/// What a rule looks at, each by itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Things {
    /// Campaigns.
    Campaigns,
    /// Ad groups.
    AdGroups,
    /// Keywords, listings, ads and audiences.
    Items,
    /// Search terms.
    Terms,
}
crate::words!(Things: Campaigns "campaigns", AdGroups "ad_groups", Items "items", Terms "terms");

/// What a rule does.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Action {
    /// It stops.
    Pause,
    /// It runs again.
    Resume,
    /// Its bid changes by a share: −0.1 is 10% lower.
    BidBy(f64),
    /// Its bid is set, in units of currency.
    BidTo(Price),
    /// Its daily budget changes by a share.
    BudgetBy(f64),
    /// Its daily budget is set, in units of currency.
    BudgetTo(Price),
    /// The target of its strategy changes by a share.
    TargetBy(f64),
    /// Nothing is shown for it any more: it becomes an exact negative keyword.
    Exclude,
    /// Somebody is told.
    Tell,
}

/// What an action moves: two that move the same pull at one thing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Lever {
    /// Whether it runs.
    Status,
    /// What stands for its bid.
    Bid,
    /// Its budget.
    Budget,
    /// Its negative keywords.
    Negatives,
}

/// Which way an action moves its lever.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Way {
    /// More of it.
    Up,
    /// Less of it.
    Down,
    /// To a number, wherever that lies.
    To,
}

impl Action {
    /// What it moves, and which way; none where it only tells.
    pub fn moves(self) -> Option<(Lever, Way)> {
        let way = |by: f64| if by < 0.0 { Way::Down } else { Way::Up };
        Some(match self {
            Self::Pause => (Lever::Status, Way::Down),
            Self::Resume => (Lever::Status, Way::Up),
            Self::BidBy(by) | Self::TargetBy(by) => (Lever::Bid, way(by)),
            Self::BidTo(_) => (Lever::Bid, Way::To),
            Self::BudgetBy(by) => (Lever::Budget, way(by)),
            Self::BudgetTo(_) => (Lever::Budget, Way::To),
            Self::Exclude => (Lever::Negatives, Way::Up),
            Self::Tell => return None,
        })
    }

    /// Whether it can be done to such things.
    pub fn fits(self, things: Things) -> bool {
        match self {
            Self::Tell => true,
            Self::Exclude => things == Things::Terms,
            Self::TargetBy(_) => things == Things::Campaigns,
            Self::BudgetBy(_) | Self::BudgetTo(_) => {
                matches!(things, Things::Campaigns | Things::AdGroups)
            }
            Self::Pause | Self::Resume | Self::BidBy(_) | Self::BidTo(_) => things != Things::Terms,
        }
    }
}

/// A rule; `C` is how it names campaigns.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CustomRule<C> {
    /// What it looks at.
    pub things: Things,
    /// The campaigns that they are in; none is all.
    #[serde(default = "Vec::<C>::new", rename = "in", skip_serializing_if = "Vec::is_empty")]
    pub within: Vec<C>,
    /// What has to hold.
    pub when: When,
    /// What has to be known.
    #[serde(default)]
    pub evidence: Evidence,
    /// What is done.
    pub then: Action,
    /// The least that it sets a bid or a budget to, in units of currency.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub floor: Option<Price>,
    /// The most that it sets a bid or a budget to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ceiling: Option<Price>,
    /// Days in which it does nothing more to a thing that it has touched.
    #[serde(default = "a_fortnight")]
    pub cool_down: u16,
}

impl<C> CustomRule<C> {
    /// One about all campaigns that asks for no evidence; what it touches rests for a fortnight.
    pub fn new(things: Things, when: When, then: Action) -> Self {
        Self {
            things,
            within: Vec::new(),
            when,
            evidence: Evidence::default(),
            then,
            floor: None,
            ceiling: None,
            cool_down: a_fortnight(),
        }
    }
}

/// Settings rest this long unless somebody says otherwise (common practice, no source: 14 to 30 days for bids).
const fn a_fortnight() -> u16 {
    14
}

/// Why a rule makes no sense.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
pub enum Senseless {
    /// No clause at all.
    #[error("a rule needs something that has to hold: add a condition")]
    NoCondition,
    /// Too many.
    #[error("a rule has at most {most} conditions, so that it can be read as a sentence; make two rules of it", most = condition::MOST)]
    TooLong,
    /// A window out of range.
    #[error("a window is from 1 to {most} days, and {0} is not", most = condition::MOST_DAYS)]
    Days(u16),
    /// Not a number to compare with.
    #[error("a number to compare with is 0 or more, and {0} is not")]
    Number(f64),
    /// The comparison can't be made.
    #[error("{}", match .0 {
        Than::Target(_) => "only CPA, ROAS and ACoS can be compared with the target",
        _ => "a comparison with peers or with earlier days needs a rate: CTR, CPC, CVR, CPA, ROAS, ACoS or order value",
    })]
    Comparison(Than),
    /// An action on things that can't have it.
    #[error("that can’t be done to {}", .0.word().replace('_', " "))]
    Action(Things),
    /// A change by nothing or by too much.
    #[error("a change is from −90% to +100% and not 0%, and {0}% is not")]
    By(f64),
    /// An amount that can't be set.
    #[error("an amount to set is above 0, and {0} is not")]
    To(f64),
    /// A probability out of range.
    #[error("how sure it has to be is from 50% to 99.9%, and {0}% is not")]
    Sure(f64),
    /// Floor above ceiling.
    #[error("the least that it sets is above the most that it sets")]
    Bounds,
}

impl<C> CustomRule<C> {
    /// That it makes sense.
    pub fn check(&self) -> Result<(), Senseless> {
        self.when.check(self.things)?;
        self.evidence.check()?;
        if !self.then.fits(self.things) {
            return Err(Senseless::Action(self.things));
        }
        match self.then {
            Action::BidBy(by) | Action::BudgetBy(by) | Action::TargetBy(by)
                if !((-0.9..=1.0).contains(&by) && by != 0.0) =>
            {
                return Err(Senseless::By(by * 100.0));
            }
            Action::BidTo(to) | Action::BudgetTo(to) if !(to > Price(0.0) && to.units() < 1e9) => {
                return Err(Senseless::To(to.units()));
            }
            _ => {}
        }
        let bound = |b: Option<Price>| b.filter(|b| !(*b > Price(0.0) && b.units() < 1e9));
        if let Some(wrong) = bound(self.floor).or(bound(self.ceiling)) {
            return Err(Senseless::To(wrong.units()));
        }
        if self.floor.zip(self.ceiling).is_some_and(|(low, high)| low > high) {
            return Err(Senseless::Bounds);
        }
        Ok(())
    }

    /// The same with its campaigns named in another way; the first that can't be otherwise.
    pub fn naming<D, E>(&self, name: impl Fn(&C) -> Result<D, E>) -> Result<CustomRule<D>, E> {
        Ok(CustomRule {
            things: self.things,
            within: self.within.iter().map(name).collect::<Result<_, _>>()?,
            when: self.when.clone(),
            evidence: self.evidence,
            then: self.then,
            floor: self.floor,
            ceiling: self.ceiling,
            cool_down: self.cool_down,
        })
    }

    /// Whether it asks what a result may cost.
    pub fn asks_for_target(&self) -> bool {
        self.when.clauses().any(|c| matches!(c.than, Than::Target(_)))
            || matches!(self.evidence.spend, Some(Amount::TimesTarget(_)))
    }

    /// What it sets where so much is set now: within its floor and ceiling.
    pub fn moved(&self, now: Price) -> Option<Price> {
        let to = match self.then {
            Action::BidBy(by) | Action::BudgetBy(by) | Action::TargetBy(by) => now * (1.0 + by),
            Action::BidTo(to) | Action::BudgetTo(to) => to,
            _ => return None,
        };
        let floored = self.floor.map_or(to, |f| to.max(f));
        Some(self.ceiling.map_or(floored, |c| floored.min(c)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rule() -> CustomRule<String> {
        let (over, than) = (Over::Days(7), Than::Value(0.0));
        let none = Clause { metric: Metric::Conversions, over, is: Is::AtMost, than };
        CustomRule {
            within: vec!["School, search".into()],
            evidence: Evidence { days: 3, sure: Some(0.95), ..Evidence::default() },
            ..CustomRule::new(Things::AdGroups, When::all([none]), Action::Pause)
        }
    }

    #[test]
    fn what_makes_no_sense_is_said() {
        assert_eq!(rule().check(), Ok(()));
        let wrong = |change: fn(&mut CustomRule<String>)| {
            let mut rule = rule();
            change(&mut rule);
            rule.check().unwrap_err()
        };
        assert_eq!(wrong(|r| r.when.parts.clear()), Senseless::NoCondition);
        assert_eq!(wrong(|r| r.then = Action::Exclude), Senseless::Action(Things::AdGroups));
        assert_eq!(wrong(|r| r.then = Action::BidBy(0.0)), Senseless::By(0.0));
        assert_eq!(wrong(|r| r.then = Action::BidBy(-0.95)), Senseless::By(-95.0));
        assert_eq!(wrong(|r| r.then = Action::BidTo(Price(0.0))), Senseless::To(0.0));
        assert_eq!(wrong(|r| r.evidence.sure = Some(0.2)), Senseless::Sure(20.0));
        assert_eq!(
            wrong(|r| (r.floor, r.ceiling) = (Some(Price(2.0)), Some(Price(1.0)))),
            Senseless::Bounds
        );
        assert!(matches!(
            wrong(|r| r.when.parts[0][0].than = Than::Target(1.0)),
            Senseless::Comparison(_)
        ));
        assert_eq!(wrong(|r| r.when.parts[0][0].over = Over::Days(0)), Senseless::Days(0));
    }

    #[test]
    fn it_is_read_as_it_was_written() {
        let text = serde_json::to_string(&rule()).unwrap();
        assert_eq!(serde_json::from_str::<CustomRule<String>>(&text).unwrap(), rule());
        let unknown = text.replace("cool_down", "cooldown");
        let error = serde_json::from_str::<CustomRule<String>>(&unknown).unwrap_err().to_string();
        assert!(error.contains("cooldown"), "{error}");
    }

    #[test]
    fn what_it_sets_stays_within_its_bounds() {
        let rule = CustomRule {
            things: Things::Items,
            then: Action::BidBy(-0.2),
            floor: Some(Price(0.5)),
            ceiling: Some(Price(2.0)),
            ..rule()
        };
        assert_eq!(rule.moved(Price(1.0)), Some(Price(0.8)));
        assert_eq!(rule.moved(Price(0.55)), Some(Price(0.5)));
        assert_eq!(rule.moved(Price(10.0)), Some(Price(2.0)));
        assert_eq!(CustomRule { then: Action::Pause, ..rule }.moved(Price(1.0)), None);
    }
}
