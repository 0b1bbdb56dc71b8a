//! Days differ by more than chance: demand and conversion rates go up and down together, and what moves them lasts.

use rand_distr::{Distribution, StandardNormal};

use super::chance::{number, rng};
use crate::world::{Account, Campaign, Unrest, World};

/// Days over which a shock is felt; after so many it is forgotten.
const FELT: u64 = 30;

/// What is moved.
#[derive(Clone, Copy, Debug)]
pub enum Moved {
    /// Auctions.
    Demand = 0,
    /// Conversions a click.
    Cvr = 1,
}

/// The factor, of mean 1, on a day of the history.
pub fn unrest(
    world: &World,
    account: &Account,
    campaign: &Campaign,
    moved: Moved,
    day: u64,
) -> f64 {
    let Some(unrest) = &world.unrest else { return 1.0 };
    let spread = match moved {
        Moved::Demand => unrest.demand,
        Moved::Cvr => unrest.cvr,
    };
    if spread <= 0.0 {
        return 1.0;
    }
    let of_account = number(&account.key);
    // A campaign that is called like its channel has a shock of its own all the same.
    let shared = |level: u64, name: &str| {
        lasting(world, unrest, &[9, moved as u64, of_account, level, number(name)], day)
    };
    let account = shared(0, "");
    let (channel, own) = (shared(1, &campaign.channel), shared(2, &campaign.name));
    let [of_account, of_channel, of_own] = unrest.shares();
    let log = of_account.sqrt() * account + of_channel.sqrt() * channel + of_own.sqrt() * own;
    (spread * log - spread * spread / 2.0).exp()
}

/// A number of mean 0 and variance 1 that remembers the days before: autoregressive, of first order.
fn lasting(world: &World, unrest: &Unrest, purpose: &[u64], day: u64) -> f64 {
    let keeps = unrest.lasts;
    let drawn = |back: u64| {
        let mut purpose = purpose.to_vec();
        // Days before the history have their shocks too.
        purpose.push(day + FELT - back);
        let z: f64 = StandardNormal.sample(&mut rng(world.seed, &purpose));
        z
    };
    let felt: Vec<f64> = (0..FELT).map(|back| keeps.powi(back as i32)).collect();
    let whole: f64 = felt.iter().map(|w| w * w).sum();
    let sum: f64 = felt.iter().zip(0..).map(|(w, back)| w * drawn(back)).sum();
    sum / whole.sqrt()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::world::THIN_LEADS;

    const DAYS: u64 = 4000;

    fn world(unrest: &str) -> World {
        let unrest = Some(toml::from_str(unrest).unwrap());
        World { unrest, ..World::parse(THIN_LEADS).unwrap() }
    }

    fn logs(world: &World, campaign: usize, moved: Moved) -> Vec<f64> {
        let account = &world.accounts[0];
        let of = |day| unrest(world, account, &account.campaigns[campaign], moved, day).ln();
        (0..DAYS).map(of).collect()
    }

    fn mean(x: &[f64]) -> f64 {
        x.iter().sum::<f64>() / x.len() as f64
    }

    fn together(a: &[f64], b: &[f64]) -> f64 {
        let (of_a, of_b) = (mean(a), mean(b));
        a.iter().zip(b).map(|(x, y)| (x - of_a) * (y - of_b)).sum::<f64>() / a.len() as f64
    }

    #[track_caller]
    fn about(x: f64, should: f64, by: f64) {
        assert!((x - should).abs() < by, "{x} instead of {should}");
    }

    #[test]
    fn shocks_have_the_spread_asked_for_last_and_are_shared() {
        let world = world("demand = 0.1\ncvr = 0.3\nlasts = 0.6\naccount = 0.25\nchannel = 0.25");
        let campaigns = &world.accounts[0].campaigns;
        let same = |c: usize| campaigns[c].channel == campaigns[0].channel;
        let other = |of| (1..campaigns.len()).find(|c| same(*c) == of).unwrap();
        let (near, far) = (other(true), other(false));
        let [first, near, far] = [0, near, far].map(|c| logs(&world, c, Moved::Cvr));
        let variance = together(&first, &first);
        about(variance.sqrt(), 0.3, 0.02);
        // From one day to the next it keeps 0.6 of it, from one to the day after that 0.36.
        about(together(&first[1..], &first[..first.len() - 1]) / variance, 0.6, 0.05);
        about(together(&first[2..], &first[..first.len() - 2]) / variance, 0.36, 0.06);
        // What campaigns of one channel share, and those of two.
        about(together(&first, &near) / variance, 0.5, 0.06);
        about(together(&first, &far) / variance, 0.25, 0.06);
        // The factor's mean is 1, and demand is moved by shocks of its own.
        about(mean(&first.iter().map(|x| x.exp()).collect::<Vec<f64>>()), 1.0, 0.03);
        let demand = logs(&world, 0, Moved::Demand);
        about(together(&demand, &demand).sqrt(), 0.1, 0.01);
        about(together(&demand, &first) / (0.1 * 0.3), 0.0, 0.08);
    }

    #[test]
    fn a_world_at_rest_stays_as_it_is() {
        let world = World::parse(THIN_LEADS).unwrap().at_rest();
        let account = &world.accounts[0];
        assert_eq!(unrest(&world, account, &account.campaigns[0], Moved::Cvr, 9), 1.0);
    }
}
