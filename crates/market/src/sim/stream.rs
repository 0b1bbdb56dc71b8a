//! A stream of demand: one item with its own share of its campaign's auctions and its own rates.

use tiller_core::setting::{ItemKind, ItemSettings, MatchType, Status};

use super::chance::{around, number, rng};
use crate::world::{Account, AdGroup, Campaign, World};

/// What searchers look for when a keyword answers.
#[derive(Clone, Debug, PartialEq)]
pub struct Term {
    /// Their words.
    pub text: String,
    /// How often, over the keyword itself.
    pub share: f64,
    /// Conversion rate over that of the keyword itself.
    pub relevance: f64,
    /// From and until when (days since the history's end) nothing is shown for it.
    pub blocked: Vec<(i64, i64)>,
}

impl Term {
    /// Whether something is shown for it on a day.
    pub fn on(&self, since: i64) -> bool {
        !self.blocked.iter().any(|(from, to)| (*from..*to).contains(&since))
    }
}

/// What an ad is made of, by place in its ad group's lists.
pub type Made = [usize; 3];

/// One item of one campaign.
#[derive(Clone, Debug)]
pub struct Stream {
    /// The channel's key.
    pub key: String,
    /// Place of its ad group in the campaign.
    pub ad_group: usize,
    /// The item.
    pub item: String,
    /// What it is.
    pub kind: ItemKind,
    /// Of a keyword.
    pub match_type: Option<MatchType>,
    /// Auctions a day.
    pub auctions: f64,
    /// Its CVR over the campaign's.
    pub cvr: f64,
    /// Its CTR over the campaign's.
    pub ctr: f64,
    /// Its competition over the campaign's.
    pub competition: f64,
    /// Its value per conversion over the campaign's.
    pub value: f64,
    /// What is searched for, of a keyword.
    pub terms: Vec<Term>,
    /// What it is made of, of a combination.
    pub made: Option<Made>,
    /// What is set.
    pub settings: ItemSettings,
    /// Impressions so far: what has been seen often wears out.
    pub shown: f64,
}

impl Stream {
    /// Share of its demand that is left, and its conversion rate over the usual, with terms blocked.
    pub fn open(&self, since: i64) -> (f64, f64) {
        let sums = |f: &dyn Fn(&Term) -> bool| {
            self.terms
                .iter()
                .filter(|t| f(t))
                .fold((0.0, 0.0), |s, t| (s.0 + t.share, s.1 + t.share * t.relevance))
        };
        let (all, worth) = sums(&|_| true);
        if all <= 0.0 || worth <= 0.0 {
            return (1.0, 1.0);
        }
        let (on, on_worth) = sums(&|t| t.on(since));
        if on <= 0.0 { (0.0, 1.0) } else { (on / all, (on_worth / on) / (worth / all)) }
    }
}

/// The streams of a campaign as the world begins.
pub fn streams(world: &World, account: &Account, index: usize, campaign: &Campaign) -> Vec<Stream> {
    let mut rng = rng(world.seed, &[1, number(&account.key), index as u64]);
    let mut streams = Vec::new();
    for (g, group) in campaign.ad_groups.iter().enumerate() {
        for (item, made) in items(world, campaign.kind, group) {
            let unlike = group.unlike_items.iter().find(|u| u.item == item);
            let keyword = campaign.kind == ItemKind::Keyword;
            let mut of = |spread| around(spread, &mut rng);
            let mut stream = Stream {
                key: String::new(),
                ad_group: g,
                auctions: of(0.9) * group.demand,
                cvr: of(campaign.unlike) * group.cvr,
                ctr: of(0.2) * group.ctr,
                competition: of(0.1),
                value: of(campaign.unlike),
                kind: campaign.kind,
                match_type: keyword.then_some(group.match_type),
                terms: Vec::new(),
                made,
                settings: ItemSettings { status: Status::Active, bid: None },
                shown: 0.0,
                item,
            };
            if let Some(u) = unlike {
                stream.auctions = u.demand * group.demand;
                stream.cvr = u.cvr;
                stream.value = u.value;
            }
            if let Some((made, of)) = made.zip(group.made_of.as_ref()) {
                let [v, t, h] = made;
                let elements = [&of.visuals[v], &of.texts[t], &of.headlines[h]];
                stream.ctr = elements.iter().map(|e| e.ctr).product::<f64>() * group.ctr;
                stream.cvr = elements.iter().map(|e| e.cvr).product::<f64>() * group.cvr;
                stream.auctions = group.demand;
            }
            if keyword {
                stream.terms = terms(world, group, &stream.item, &mut rng);
            }
            stream.key = format!("{}-c{index}g{g}i{}", account.key, streams.len());
            streams.push(stream);
        }
    }
    let all: f64 = streams.iter().map(|s| s.auctions).sum();
    streams.iter_mut().for_each(|s| s.auctions *= campaign.auctions / all);
    streams
}

fn items(world: &World, kind: ItemKind, group: &AdGroup) -> Vec<(String, Option<Made>)> {
    if let Some(of) = &group.made_of {
        let mut all = Vec::new();
        for (v, visual) in of.visuals.iter().enumerate() {
            for (t, text) in of.texts.iter().enumerate() {
                for (h, headline) in of.headlines.iter().enumerate() {
                    let name = format!("{} · {} · {}", visual.name, text.name, headline.name);
                    all.push((name, Some([v, t, h])));
                }
            }
        }
        return all;
    }
    if kind != ItemKind::Keyword || world.forms.is_empty() {
        return group.stems.iter().map(|s| (s.clone(), None)).collect();
    }
    group
        .stems
        .iter()
        .flat_map(|stem| world.forms.iter().map(move |form| (form.replace("{}", stem), None)))
        .collect()
}

/// What is searched for: the keyword itself; with phrase and broad matches also with more words; and
/// what the world file adds to the ad group.
fn terms(
    world: &World,
    group: &AdGroup,
    keyword: &str,
    rng: &mut rand_chacha::ChaCha8Rng,
) -> Vec<Term> {
    use rand::RngExt;
    let term =
        |text: String, share, relevance| Term { text, share, relevance, blocked: Vec::new() };
    let mut terms = vec![term(keyword.to_owned(), 1.0, 1.0)];
    let (more, near) = match group.match_type {
        MatchType::Exact => (0, 1.0),
        MatchType::Phrase => (1, 0.9),
        MatchType::Broad => (2, 0.7),
    };
    if !world.tails.is_empty() {
        for _ in 0..more {
            let tail = &world.tails[rng.random_range(0..world.tails.len())];
            let text = format!("{keyword} {tail}");
            if terms.iter().all(|t| t.text != text) {
                terms.push(term(text, 0.35 * around(0.5, rng), near * around(0.2, rng)));
            }
        }
    }
    terms.extend(group.loose.iter().map(|l| term(l.term.clone(), l.share, l.relevance)));
    terms
}

/// Whether a search is shut out by a negative keyword.
pub fn shut_out(term: &str, negative: &str, match_type: MatchType) -> bool {
    let [term, negative] = [term, negative].map(|t| t.trim().to_lowercase());
    match match_type {
        MatchType::Exact => term == negative,
        MatchType::Phrase => format!(" {term} ").contains(&format!(" {negative} ")),
        MatchType::Broad => {
            negative.split_whitespace().all(|w| term.split_whitespace().any(|t| t == w))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn negatives_shut_out_by_match_type() {
        let shut = |negative, m| shut_out("bee sting treatment", negative, m);
        assert!(shut("sting treatment", MatchType::Phrase));
        assert!(!shut("treatment sting", MatchType::Phrase));
        assert!(shut("treatment bee", MatchType::Broad));
        assert!(!shut("bees", MatchType::Broad));
        assert!(shut("Bee sting treatment", MatchType::Exact));
        assert!(!shut("bee sting", MatchType::Exact));
    }

    #[test]
    fn blocking_a_poor_term_leaves_less_demand_of_better_worth() {
        let term =
            |share, relevance, blocked| Term { text: String::new(), share, relevance, blocked };
        let world = World::parse(crate::world::AMBERFOLD).unwrap();
        let account = &world.accounts[0];
        let mut stream = streams(&world, account, 0, &account.campaigns[0]).swap_remove(0);
        stream.terms = vec![term(1.0, 1.0, vec![]), term(1.0, 0.0, vec![(3, i64::MAX)])];
        assert_eq!(stream.open(2), (1.0, 1.0));
        assert_eq!(stream.open(3), (0.5, 2.0));
    }
}
