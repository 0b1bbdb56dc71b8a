//! Search terms (C6): which are paid for in vain and share a word, and which bring results and are no
//! keywords yet.
//!
//! ```
//! use tiller_core::terms::{Term, judge};
//! use tiller_core::{Micros, Price, Tally, Target};
//! let term = |text: &str, clicks: i64, conversions| Term {
//!     text: text.into(),
//!     tally: Tally { clicks, conversions, spend: Micros::from_units(clicks as f64), ..Tally::default() },
//!     keyword: false,
//! };
//! let all = [term("hive free", 60, 0.0), term("free plans", 60, 0.0), term("hive kit", 300, 30.0)];
//! let whole = all.iter().map(|t| t.tally).sum();
//! let found = judge(&whole, &all, Target::Cpa(Price(15.0)));
//! assert_eq!(found.waste[0].words, "free");
//! assert_eq!(found.promising, [2]);
//! ```

use crate::Price;
use std::collections::{HashMap, HashSet};

use statrs::distribution::{DiscreteCDF, Poisson};

use crate::evidence::{Prior, rate_below};
use crate::metrics::Tally;
use crate::target::Target;

/// So few conversions must be rarer than this even at half of the parent's conversion rate.
const RARE: f64 = 0.1;
/// Conversions from which a term may become a keyword.
const LEAST_CONVERSIONS: f64 = 3.0;
/// P(CPA > target) up to which a term is good enough to become one.
const GOOD: f64 = 0.2;
/// Clicks that tell whether an exact keyword is worth keeping (common practice, no source: about ten).
pub const TELLING_CLICKS: i64 = 10;

/// A search term with what was counted for it.
#[derive(Clone, Debug, PartialEq)]
pub struct Term {
    /// What was searched for.
    pub text: String,
    /// What was counted, over all keywords that it came by.
    pub tally: Tally,
    /// Whether it is a keyword already.
    pub keyword: bool,
}

/// Terms that are paid for in vain.
#[derive(Clone, Debug, PartialEq)]
pub struct Waste {
    /// The word that they share, or the term itself where it stands alone.
    pub words: String,
    /// Whether `words` is one shared word.
    pub shared: bool,
    /// Which of the terms, by place.
    pub terms: Vec<usize>,
    /// All of them together.
    pub tally: Tally,
    /// Money above target.
    pub excess: f64,
    /// Conversions that their clicks would have brought at the parent's rate.
    pub expected: f64,
}

/// What shall be done about the terms of a campaign or an ad group.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Findings {
    /// Paid for in vain; the dearest first.
    pub waste: Vec<Waste>,
    /// Worth a keyword of their own, by place; the ones with most conversions first.
    pub promising: Vec<usize>,
}

/// Judges terms against all that their parent brings.
pub fn judge(parent: &Tally, terms: &[Term], target: Target) -> Findings {
    let Some(cvr) = parent.cvr().filter(|r| *r > 0.0) else { return Findings::default() };
    Findings { waste: waste(cvr, terms, target), promising: promising(parent, terms, target) }
}

/// Words of a term, in lower case, each once.
fn words(text: &str) -> HashSet<String> {
    let split = text.split(|c: char| !c.is_alphanumeric());
    split.filter(|w| w.chars().count() >= 3).map(str::to_lowercase).collect()
}

fn sum(terms: &[Term], places: &[usize]) -> Tally {
    places.iter().map(|i| terms[*i].tally).sum()
}

/// Whether so little for so many clicks is beyond chance, and costs money.
fn in_vain(cvr: f64, tally: &Tally, target: Target) -> Option<(f64, f64)> {
    let expected = tally.clicks as f64 * cvr;
    let chance =
        Poisson::new(expected / 2.0).map_or(1.0, |p| p.cdf(tally.conversions.round() as u64));
    let excess = target.excess(tally);
    (chance < RARE && excess > 0.0).then_some((excess, expected))
}

fn waste(cvr: f64, terms: &[Term], target: Target) -> Vec<Waste> {
    let mut by_word: HashMap<String, Vec<usize>> = HashMap::new();
    for (i, term) in terms.iter().enumerate() {
        for word in words(&term.text) {
            by_word.entry(word).or_default().push(i);
        }
    }
    // A word that a good term has is no reason to shut people out.
    let pays =
        |i: &usize| terms[*i].tally.conversions > 0.0 && target.excess(&terms[*i].tally) <= 0.0;
    by_word.retain(|_, places| places.len() > 1 && !places.iter().any(pays));
    let mut left: HashSet<usize> = (0..terms.len()).collect();
    let mut found = Vec::new();
    // The word that frees most money first; its terms are then spoken for.
    loop {
        let best = by_word
            .iter()
            .filter_map(|(word, places)| {
                let places: Vec<usize> =
                    places.iter().copied().filter(|i| left.contains(i)).collect();
                let tally = sum(terms, &places);
                let (excess, expected) = in_vain(cvr, &tally, target)?;
                (places.len() > 1).then(|| Waste {
                    words: word.clone(),
                    shared: true,
                    terms: places,
                    tally,
                    excess,
                    expected,
                })
            })
            .max_by(|a, b| a.excess.total_cmp(&b.excess).then_with(|| b.words.cmp(&a.words)));
        let Some(best) = best else { break };
        for i in &best.terms {
            left.remove(i);
        }
        found.push(best);
    }
    found.extend(terms.iter().enumerate().filter(|(i, _)| left.contains(i)).filter_map(
        |(i, t)| {
            let (excess, expected) = in_vain(cvr, &t.tally, target)?;
            Some(Waste {
                words: t.text.clone(),
                shared: false,
                terms: vec![i],
                tally: t.tally,
                excess,
                expected,
            })
        },
    ));
    found.sort_by(|a, b| b.excess.total_cmp(&a.excess));
    found
}

fn promising(parent: &Tally, terms: &[Term], target: Target) -> Vec<usize> {
    let Some(cpa) = target.as_cpa(parent.aov()).and_then(Price::positive) else {
        return Vec::new();
    };
    let Some(usual) = parent.cpa().and_then(Price::positive) else { return Vec::new() };
    let prior = Prior { mean: 1.0 / usual.units(), strength: 1.0 };
    let good = |t: &Term| {
        !t.keyword
            && t.tally.conversions >= LEAST_CONVERSIONS
            // What its own results are worth counts as well as how many there are.
            && target.excess(&t.tally) <= 0.0
            && rate_below(t.tally.conversions, t.tally.spend.to_units(), prior, 1.0 / cpa.units()) <= GOOD
    };
    let mut found: Vec<usize> = (0..terms.len()).filter(|i| good(&terms[*i])).collect();
    found.sort_by(|a, b| {
        let of = |i: &usize| terms[*i].tally.conversions;
        of(b).total_cmp(&of(a)).then(a.cmp(b))
    });
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::money::Micros;

    fn term(text: &str, clicks: i64, conversions: f64) -> Term {
        let tally = Tally {
            clicks,
            conversions,
            spend: Micros::from_units(clicks as f64 * 2.0),
            ..Tally::default()
        };
        Term { text: text.into(), tally, keyword: false }
    }

    fn found(terms: &[Term]) -> Findings {
        let parent: Tally = terms.iter().map(|t| t.tally).sum();
        judge(&parent, terms, Target::Cpa(Price(20.0)))
    }

    #[test]
    fn a_shared_word_gathers_what_no_term_shows_alone() {
        let terms = [
            term("beekeeping course", 300, 60.0),
            term("bee sting allergy", 18, 0.0),
            term("Sting of a bee, how long", 17, 0.0),
            term("sting", 12, 0.0),
            term("bee course", 80, 14.0),
        ];
        let f = found(&terms);
        assert_eq!(f.waste.len(), 1, "{f:?}");
        assert_eq!((f.waste[0].words.as_str(), f.waste[0].shared), ("sting", true));
        assert_eq!(f.waste[0].terms, [1, 2, 3]);
        assert!((f.waste[0].excess - 94.0).abs() < 1e-9);
    }

    /// At a rate of 17.3%, half of it and 30 clicks: e^−2.6 = 7%; with 20 clicks e^−1.7 = 18%.
    #[test]
    fn chance_is_not_blamed() {
        let terms = |n| [term("course", 400, 74.0), term("candle", n, 0.0)];
        assert_eq!(found(&terms(30)).waste.len(), 1);
        assert!(found(&terms(20)).waste.is_empty());
    }

    #[test]
    fn good_terms_become_keywords_once() {
        let mut terms = vec![
            term("course", 400, 40.0),
            term("team day", 40, 9.0),
            term("outing", 15, 2.0),
            term("company day", 50, 8.0),
        ];
        assert_eq!(found(&terms).promising, [1, 3]);
        terms[1].keyword = true;
        assert_eq!(found(&terms).promising, [3]);
    }

    #[test]
    fn nothing_is_said_where_nothing_converts() {
        assert_eq!(found(&[term("a word", 500, 0.0)]), Findings::default());
    }
}
