//! A rule as it is kept: what it looks at and does, when it runs, where its actions go, and how much it may do at once.
//!
//! ```
//! use tiller_core::rule::{Rule, Send};
//! let text = r#"{"name": "Jars", "schedule": {"days": ["mon"], "at": "06:00", "missed": "once"}, "send": "tray",
//!     "body": {"bid": {"within": [7], "window_days": 30, "cool_down": 7, "limits": {"top": {}, "refined": []}}}}"#;
//! let rule: Rule = serde_json::from_str(text).unwrap();
//! assert_eq!((rule.send, rule.campaigns().len()), (Send::Tray, 1));
//! ```

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::bid_rule::Tree;
use crate::custom_rule::{Action, CustomRule, Lever, Things, Way};
use crate::ids::CampaignId;
use crate::money::Price;
use crate::schedule::Schedule;

/// Where actions go.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Send {
    /// Into the tray, where they wait for somebody.
    #[default]
    Tray,
    /// Straight to the channels.
    Straight,
}
crate::words!(Send: Tray "tray", Straight "straight");

/// The most that a rule may do in a day; what is left out has no limit.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Daily {
    /// Actions of any kind.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub actions: Option<u32>,
    /// Things that it stops.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pauses: Option<u32>,
    /// Money that it adds to daily budgets, in units of currency.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub budget_up: Option<Price>,
    /// Money that it takes from daily budgets.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub budget_down: Option<Price>,
}

/// What is done so far of a day.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Done {
    /// Actions of any kind.
    pub actions: u32,
    /// Things that were stopped.
    pub pauses: u32,
    /// Money added to daily budgets.
    pub budget_up: f64,
    /// Money taken from them.
    pub budget_down: f64,
}

impl Daily {
    /// Counts an action in, unless that were too much: then it is told, and nothing is counted.
    ///
    /// ```
    /// use tiller_core::rule::{Daily, Done};
    /// let daily = Daily { pauses: Some(1), ..Daily::default() };
    /// let mut done = Done::default();
    /// assert!(daily.admits(&mut done, true, 0.0) && !daily.admits(&mut done, true, 0.0));
    /// assert!(daily.admits(&mut done, false, 20.0), "a budget is no pause");
    /// assert_eq!((done.actions, done.pauses, done.budget_up), (2, 1, 20.0));
    /// ```
    pub fn admits(&self, done: &mut Done, pause: bool, budget: f64) -> bool {
        let next = Done {
            actions: done.actions + 1,
            pauses: done.pauses + u32::from(pause),
            budget_up: done.budget_up + budget.max(0.0),
            budget_down: done.budget_down - budget.min(0.0),
        };
        let money =
            |limit: Option<Price>, amount: f64| limit.is_none_or(|l| amount <= l.units() + 1e-9);
        let admits = self.actions.is_none_or(|n| next.actions <= n)
            && self.pauses.is_none_or(|n| next.pauses <= n)
            && money(self.budget_up, next.budget_up)
            && money(self.budget_down, next.budget_down);
        if admits {
            *done = next;
        }
        admits
    }
}

/// A bid rule.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BidRule {
    /// The campaigns whose items it looks at; none is all.
    #[serde(default)]
    pub within: Vec<CampaignId>,
    /// Settled days that it looks at.
    pub window_days: u16,
    /// Days in which it does nothing more to an item that it has touched.
    pub cool_down: u16,
    /// Its thresholds.
    pub limits: Tree,
}

/// What a rule looks at and does.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Body {
    /// Thresholds that pause and re-bid items.
    Bid(BidRule),
    /// When something holds, something is done.
    Custom(CustomRule<CampaignId>),
}

/// A rule.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rule {
    /// Its name.
    pub name: String,
    /// When it runs.
    pub schedule: Schedule,
    /// Where its actions go.
    #[serde(default)]
    pub send: Send,
    /// How much it may do in a day.
    #[serde(default)]
    pub daily: Daily,
    /// What it looks at and does.
    pub body: Body,
}

impl Rule {
    /// One that runs every morning and puts what it does in the tray, within the usual limits of a day.
    pub fn new(name: impl Into<String>, body: Body) -> Self {
        Self {
            name: name.into(),
            schedule: Schedule::every_morning(),
            send: Send::default(),
            daily: Daily::default(),
            body,
        }
    }
}

/// Why two rules pull at one thing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Pull {
    /// They move the same setting of the same things in opposite ways.
    Against,
    /// They move it in the same way: twice as far as either is meant to.
    Doubled,
    /// One sets it to a number that the other moves away from.
    Overwrites,
}

impl Rule {
    /// The campaigns that it is about; none is all.
    pub fn campaigns(&self) -> &[CampaignId] {
        match &self.body {
            Body::Bid(rule) => &rule.within,
            Body::Custom(rule) => &rule.within,
        }
    }

    /// What it looks at.
    pub fn things(&self) -> Things {
        match &self.body {
            Body::Bid(_) => Things::Items,
            Body::Custom(rule) => rule.things,
        }
    }

    /// Days in which it does nothing more to a thing that it has touched.
    pub fn cool_down(&self) -> u16 {
        match &self.body {
            Body::Bid(rule) => rule.cool_down,
            Body::Custom(rule) => rule.cool_down,
        }
    }

    /// What it moves, and which way.
    pub fn moves(&self) -> Vec<(Lever, Way)> {
        match &self.body {
            Body::Bid(_) => vec![(Lever::Status, Way::Down), (Lever::Bid, Way::To)],
            Body::Custom(rule) => rule.then.moves().into_iter().collect(),
        }
    }

    /// Whether both are about the same things: of the same level, in a campaign that both look at.
    fn meets(&self, other: &Self) -> bool {
        let (mine, theirs) = (self.campaigns(), other.campaigns());
        self.things() == other.things()
            && (mine.is_empty() || theirs.is_empty() || mine.iter().any(|c| theirs.contains(c)))
    }

    /// Whether it pulls at a thing that another moves too. A pause and a resume are no quarrel by themselves: one undoes
    /// the other only where both conditions hold at once, and so do two that pause.
    pub fn pulls_at(&self, other: &Self) -> Option<Pull> {
        if !self.meets(other) {
            return None;
        }
        let pairs =
            self.moves().into_iter().flat_map(|a| other.moves().into_iter().map(move |b| (a, b)));
        let same = pairs.filter(|(a, b)| a.0 == b.0 && a.0 != Lever::Negatives);
        let pulls = same.filter_map(|((lever, a), (_, b))| match (lever, a, b) {
            (Lever::Status, a, b) if a == b => None,
            (_, Way::Up, Way::Down) | (_, Way::Down, Way::Up) => Some(Pull::Against),
            (_, Way::To, _) | (_, _, Way::To) => Some(Pull::Overwrites),
            _ => Some(Pull::Doubled),
        });
        pulls.min_by_key(|p| match p {
            Pull::Against => 0,
            Pull::Overwrites => 1,
            Pull::Doubled => 2,
        })
    }

    /// Whether it moves budgets: then it may pull against a plan or a course.
    pub fn moves_lever(&self, lever: Lever) -> bool {
        self.moves().iter().any(|(l, _)| *l == lever)
    }

    /// Whether it only tells.
    pub fn only_tells(&self) -> bool {
        matches!(&self.body, Body::Custom(rule) if rule.then == Action::Tell)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bid_rule::Limits;
    use crate::custom_rule::{Clause, Is, Metric, Over, Than, When};

    fn custom(within: &[i64], then: Action) -> Rule {
        let clause = Clause {
            metric: Metric::Cpa,
            over: Over::Days(14),
            is: Is::Above,
            than: Than::Target(2.0),
        };
        let rule = CustomRule {
            within: within.iter().map(|c| CampaignId(*c)).collect(),
            ..CustomRule::new(Things::Items, When::all([clause]), then)
        };
        Rule::new("A rule", Body::Custom(rule))
    }

    fn bid(within: &[i64]) -> Rule {
        let within = within.iter().map(|c| CampaignId(*c)).collect();
        let limits = Tree::new(Limits::default());
        Rule {
            body: Body::Bid(BidRule { within, window_days: 30, cool_down: 7, limits }),
            ..custom(&[], Action::Pause)
        }
    }

    #[test]
    fn two_that_pull_at_one_thing_are_found() {
        let pulls = |a: &Rule, b: &Rule| {
            assert_eq!(a.pulls_at(b), b.pulls_at(a), "whichever is asked");
            a.pulls_at(b)
        };
        let lower = custom(&[1], Action::BidBy(-0.2));
        assert_eq!(pulls(&lower, &custom(&[1, 2], Action::BidBy(0.2))), Some(Pull::Against));
        assert_eq!(pulls(&lower, &custom(&[2], Action::BidBy(0.2))), None, "other campaigns");
        assert_eq!(pulls(&lower, &custom(&[], Action::BidBy(-0.1))), Some(Pull::Doubled));
        assert_eq!(pulls(&lower, &custom(&[1], Action::BudgetBy(0.1))), None, "another setting");
        assert_eq!(pulls(&lower, &bid(&[1])), Some(Pull::Overwrites));
        assert_eq!(pulls(&bid(&[1]), &bid(&[1])), Some(Pull::Overwrites));
        assert_eq!(pulls(&bid(&[1]), &custom(&[], Action::Resume)), Some(Pull::Against));
        let two = custom(&[1], Action::Pause);
        assert_eq!(pulls(&two, &two), None, "both pause");
        let mut groups = custom(&[1], Action::BidBy(0.2));
        if let Body::Custom(rule) = &mut groups.body {
            rule.things = Things::AdGroups;
        }
        assert_eq!(pulls(&lower, &groups), None, "another level");
    }

    #[test]
    fn it_is_read_as_it_was_written() {
        for rule in [custom(&[1], Action::BidTo(Price(0.5))), bid(&[])] {
            let text = serde_json::to_string(&rule).unwrap();
            assert_eq!(serde_json::from_str::<Rule>(&text).unwrap(), rule, "{text}");
        }
    }
}
