//! Bids: set by hand, or by a strategy from what it believes of conversion rates.

use tiller_channel::Micros;
use tiller_core::setting::Strategy;

use super::auction::Competition;
use super::campaign::{CampaignSim, Home};
use super::chance::{number, rng};
use super::stream::Stream;

/// What an item meets on a day, before its bid.
#[derive(Clone, Copy, Debug)]
pub struct Meets {
    /// Auctions of the day.
    pub auctions: f64,
    /// Whom it bids against, per click.
    pub competition: Competition,
    /// Times that its bids count.
    pub quality: f64,
    /// Click-through rate.
    pub ctr: f64,
    /// Conversion rate.
    pub cvr: f64,
    /// Price of a click over that of the auction alone.
    pub price: f64,
    /// What a conversion is worth.
    pub value: f64,
}

impl Meets {
    /// Share of the auctions that a bid wins.
    pub fn wins(&self, bid: f64) -> f64 {
        if bid <= 0.0 { 0.0 } else { self.competition.wins(bid * self.quality) }
    }

    /// Expected price of a click; never above the bid.
    pub fn price(&self, bid: f64) -> f64 {
        (self.competition.price(bid * self.quality) / self.quality * self.price).min(bid)
    }

    /// Expected spend of a day at a bid, if money is no matter.
    pub fn spend(&self, bid: f64) -> f64 {
        self.auctions * self.wins(bid) * self.ctr * self.price(bid)
    }
}

/// By how much the strategy misjudges an item's conversion rate now: 1 is right.
fn misjudged(sim: &CampaignSim, home: Home, place: usize) -> f64 {
    use rand_distr::{Distribution, StandardNormal};
    let blur = 0.7 / (1.0 + sim.learning.conversions / 6.0).sqrt();
    let normal = |part: u64| -> f64 {
        let purpose = [5, number(&home.account.key), sim.index as u64, part, sim.learning.begun];
        StandardNormal.sample(&mut rng(home.world.seed, &purpose))
    };
    let z = 0.6 * normal(0) + 0.6 * normal(1 + place as u64);
    (blur * z - blur * blur * 0.36).exp()
}

/// How a strategy's bids hang together: all follow from one number.
struct Rule {
    /// A bid for the multiplier 1.
    base: Vec<f64>,
    floor: f64,
    ceiling: f64,
}

impl Rule {
    fn bid(&self, i: usize, multiplier: f64) -> f64 {
        (self.base[i] * multiplier).max(self.floor).min(self.ceiling)
    }
}

/// The bid for a click of each item, in the order of the streams. `units` tells which items share money,
/// and how much of it pacing aims to spend.
pub fn bids(
    sim: &CampaignSim,
    home: Home,
    meets: &[Meets],
    units: &[(Vec<usize>, f64)],
) -> Vec<f64> {
    let predicted = |i: usize, worth: f64| meets[i].cvr * misjudged(sim, home, i) * worth;
    let s = &sim.settings;
    let manual = |stream: &Stream| sim.manual_bid(stream).map_or(0.0, Micros::to_units);
    let all = 0..sim.streams.len();
    let (base, solved): (Vec<f64>, bool) = match s.strategy {
        Strategy::ManualCpc => return sim.streams.iter().map(manual).collect(),
        // A thousand impressions bring 1000 × CTR clicks.
        Strategy::ManualCpm => {
            return all
                .map(|i| manual(&sim.streams[i]) / (1000.0 * meets[i].ctr).max(1e-9))
                .collect();
        }
        Strategy::TargetCpa { target } => {
            (all.map(|i| predicted(i, target.to_units())).collect(), false)
        }
        Strategy::TargetRoas { target } => {
            (all.map(|i| predicted(i, meets[i].value / target)).collect(), false)
        }
        Strategy::MostClicks => (vec![1.0; sim.streams.len()], true),
        Strategy::MostConversions => (all.map(|i| predicted(i, 1.0)).collect(), true),
        Strategy::MostValue => (all.map(|i| predicted(i, meets[i].value)).collect(), true),
    };
    let rule = Rule {
        base,
        floor: s.bid_floor.map_or(0.0, Micros::to_units),
        ceiling: s.bid_ceiling.map_or(f64::INFINITY, Micros::to_units),
    };
    let mut bids: Vec<f64> = (0..sim.streams.len()).map(|i| rule.bid(i, 1.0)).collect();
    if solved {
        for (members, aim) in units {
            let multiplier = spends(&rule, meets, members, *aim);
            members.iter().for_each(|i| bids[*i] = rule.bid(*i, multiplier));
        }
    }
    bids
}

/// The multiplier at which the members spend the aim, by bisection on its logarithm.
fn spends(rule: &Rule, meets: &[Meets], members: &[usize], aim: f64) -> f64 {
    let spend = |m: f64| members.iter().map(|i| meets[*i].spend(rule.bid(*i, m))).sum::<f64>();
    let (mut low, mut high) = (1e-6f64.ln(), 1e6f64.ln());
    for _ in 0..40 {
        let middle = f64::midpoint(low, high);
        if spend(middle.exp()) > aim { high = middle } else { low = middle }
    }
    low.exp()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_click_never_costs_more_than_its_bid() {
        let meets = Meets {
            auctions: 100.0,
            competition: Competition { median: 2.0, spread: 0.4 },
            quality: 1.3,
            ctr: 0.05,
            cvr: 0.1,
            price: 1.8,
            value: 0.0,
        };
        for bid in [0.1, 1.0, 2.0, 9.0] {
            assert!(meets.price(bid) <= bid);
        }
        assert_eq!(meets.wins(0.0), 0.0);
    }

    #[test]
    fn a_multiplier_is_found_that_spends_the_money() {
        let meets = [1.0, 2.0].map(|median| Meets {
            auctions: 10_000.0,
            competition: Competition { median, spread: 0.4 },
            quality: 1.0,
            ctr: 0.02,
            cvr: 0.1,
            price: 1.0,
            value: 0.0,
        });
        let rule = Rule { base: vec![1.0, 1.5], floor: 0.0, ceiling: f64::INFINITY };
        let m = spends(&rule, &meets, &[0, 1], 120.0);
        let spend: f64 = (0..2).map(|i| meets[i].spend(rule.bid(i, m))).sum();
        assert!((spend - 120.0).abs() < 0.01, "{spend}");
    }
}
