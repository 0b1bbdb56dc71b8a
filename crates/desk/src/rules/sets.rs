//! Ready-made sets of rules, as data: what each is for, what it risks, and its rules.

use std::sync::LazyLock;

use serde::Deserialize;
use tiller_core::bid_rule::{Limits, Tree};
use tiller_core::custom_rule::{
    Action, Amount, Clause, CustomRule, Evidence, Is, Metric, Over, Than, Things, When,
};
use tiller_core::ids::CampaignId;
use tiller_core::rule::{BidRule, Body, Rule};
use tiller_core::schedule::Schedule;

use super::file::NamedRule;

/// A set.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Set {
    /// In addresses.
    pub key: String,
    /// Its name.
    pub name: String,
    /// What it is for.
    pub purpose: String,
    /// What it risks.
    pub risk: String,
    rules: Vec<NamedRule>,
}

static SETS: LazyLock<Vec<Set>> =
    LazyLock::new(|| serde_json::from_str(include_str!("sets.json")).unwrap_or_default());

/// All of them.
pub fn all() -> &'static [Set] {
    &SETS
}

impl Set {
    /// By its key.
    pub fn of(key: &str) -> Option<&'static Self> {
        SETS.iter().find(|s| s.key == key)
    }

    /// Its rules, about all campaigns until somebody chooses some.
    pub fn rules(&self) -> impl Iterator<Item = Rule> {
        self.rules.iter().filter_map(|named| {
            let rule = named.rule.naming(|_: &String| Err::<CampaignId, ()>(())).ok()?;
            Some(Rule {
                name: named.name.clone(),
                schedule: named.schedule.clone().unwrap_or_else(Schedule::every_morning),
                send: named.send,
                daily: named.daily,
                body: Body::Custom(rule),
            })
        })
    }
}

/// A custom rule to begin with: what has cost three times its target and brought nothing is stopped.
pub fn first_rule() -> Rule {
    let clause = |metric, is| Clause { metric, over: Over::Days(14), is, than: Than::Value(0.0) };
    let when =
        When::all([clause(Metric::Conversions, Is::AtMost), clause(Metric::Spend, Is::Above)]);
    let rule = CustomRule {
        evidence: Evidence {
            spend: Some(Amount::TimesTarget(3.0)),
            clicks: 20,
            days: 7,
            ..Evidence::default()
        },
        ..CustomRule::new(Things::AdGroups, when, Action::Pause)
    };
    Rule::new("New rule", Body::Custom(rule))
}

/// A bid rule with thresholds.
pub fn bid_rule(name: &str, within: Vec<CampaignId>, limits: Limits) -> Rule {
    let limits = Tree::new(limits);
    let body = Body::Bid(BidRule { within, window_days: 30, cool_down: 7, limits });
    let schedule = Schedule { days: vec![chrono::Weekday::Mon], ..Schedule::every_morning() };
    Rule { schedule, ..Rule::new(name, body) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_ready_made_rule_makes_sense() {
        assert_eq!(all().len(), 5, "the file can be read");
        for set in all() {
            let rules: Vec<Rule> = set.rules().collect();
            assert_eq!(rules.len(), set.rules.len(), "{}", set.key);
            for rule in rules.iter().chain([&first_rule()]) {
                let Body::Custom(custom) = &rule.body else { panic!("{rule:?}") };
                assert_eq!(custom.check(), Ok(()), "{}", rule.name);
                // What is stopped or moved is only so on evidence, and never without end.
                let evidence = custom.evidence;
                assert!(evidence.spend.is_some() || evidence.sure.is_some() || evidence.days > 0);
            }
            // None of a set pulls at what another of it moves, but for steps up and down with room between them.
            for (n, a) in rules.iter().enumerate() {
                for b in &rules[n + 1..] {
                    let pulls = a.pulls_at(b);
                    assert!(pulls.is_none() || set.key == "budget-steps", "{}: {pulls:?}", set.key);
                }
            }
        }
    }
}
