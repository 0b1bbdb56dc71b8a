//! Search terms: those that are paid for in vain, and those that are worth a keyword.

use std::collections::HashSet;

use tiller_core::ids::{AdGroupId, TermId};
use tiller_core::setting::{MatchType, Setting};
use tiller_core::terms::{self, Term};
use tiller_store::splits::TermTally;

use super::{Found, Scene};
use crate::numerals::{count, money, number, or_absent};
use tiller_core::spot::Subject;

/// What was searched for.
#[derive(Clone, Debug, Default)]
pub struct Searches {
    /// How many terms there were.
    pub terms: usize,
    /// Those that nobody has been through, by id.
    pub new: Vec<TermId>,
    /// Paid for in vain, the most money first.
    pub waste: Vec<Found>,
    /// Worth an exact keyword.
    pub promising: Vec<Found>,
}

pub(super) fn find(s: &Scene, all: Vec<TermTally>) -> Searches {
    let negatives: HashSet<String> = s
        .settings
        .campaign(s.campaign())
        .into_iter()
        .flat_map(|c| &c.negatives)
        .chain(s.settings.ad_groups_of(s.campaign()).flat_map(|(_, g)| &g.negatives))
        .map(|n| n.text.to_lowercase())
        .collect();
    let as_terms: Vec<Term> = all
        .iter()
        .map(|t| Term { text: t.text.clone(), tally: t.tally, keyword: t.known })
        .collect();
    let judged = terms::judge(&s.tally, &as_terms, s.target);
    let waste = judged
        .waste
        .iter()
        .filter(|w| !negatives.contains(&w.words.to_lowercase()))
        .map(|w| {
            let homes: HashSet<AdGroupId> = w.terms.iter().map(|i| all[*i].ad_group).collect();
            // In one ad group only: shut out there; else in the campaign.
            let (subject, level) = match homes.iter().next() {
                Some(id) if homes.len() == 1 => {
                    (Subject::AdGroup(*id), all[w.terms[0]].ad_group_name.clone())
                }
                _ => (Subject::Campaign(s.campaign()), "the campaign".to_owned()),
            };
            let match_type = if w.shared { MatchType::Phrase } else { MatchType::Exact };
            let set = Setting::Negative { text: w.words.clone(), match_type, present: true };
            let why = format!(
                "{} clicks for {} and {} conversions, where {} would be usual",
                number(w.tally.clicks as f64, 0),
                money(w.tally.spend.to_units()),
                count(w.tally.conversions),
                number(w.expected, 0)
            );
            let what = if w.shared {
                let some: Vec<&str> =
                    w.terms.iter().take(3).map(|i| all[*i].text.as_str()).collect();
                format!("{} (in {} terms, such as {})", w.words, w.terms.len(), some.join(", "))
            } else {
                w.words.clone()
            };
            Found {
                id: format!("negative:{}", w.words),
                what,
                proposals: s
                    .propose(subject, set, &format!("‘{}’: {why}.", w.words), "")
                    .into_iter()
                    .collect(),
                why,
                tally: Some(w.tally),
                excess: w.excess,
                advice: format!("negative keyword, {}, in {level}", match_type.word()),
            }
        })
        .collect();
    let promising = judged
        .promising
        .iter()
        .map(|i| {
            let t = &all[*i];
            let why = format!(
                "{} conversions at {} each matched keyword ‘{}’",
                count(t.tally.conversions),
                or_absent(t.tally.cpa(), money),
                t.keyword
            );
            let set = Setting::Keyword {
                text: t.text.clone(),
                match_type: MatchType::Exact,
                bid: None,
                present: true,
            };
            Found {
                id: format!("keyword:{}:{}", t.ad_group, t.text),
                what: t.text.clone(),
                proposals: s
                    .propose(
                        Subject::AdGroup(t.ad_group),
                        set,
                        &format!("‘{}’: {why}.", t.text),
                        "",
                    )
                    .into_iter()
                    .collect(),
                why,
                tally: Some(t.tally),
                excess: s.target.excess(&t.tally),
                advice: format!("exact keyword in {}", t.ad_group_name),
            }
        })
        .collect();
    Searches {
        terms: all.len(),
        new: all.iter().filter(|t| !t.seen).map(|t| t.term).collect(),
        waste,
        promising,
    }
}
