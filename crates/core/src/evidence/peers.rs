//! Rates compared with peers': lower, as good, or can't tell yet.

use statrs::distribution::{Beta, ContinuousCDF};

/// A rate among peers as a prior: its mean, and how many successes it is worth.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Prior {
    /// Successes per unit of exposure, over all peers together.
    pub mean: f64,
    /// Pseudo-successes.
    pub strength: f64,
}

/// However alike peers are, they weigh no more successes than this.
const MOST: f64 = 50.0;
/// Fewer peers than this can't tell how alike they are.
const FEW: usize = 5;
/// Then each weighs no more successes than this.
const EACH: f64 = 2.0;
/// The least weight, that of Jeffreys' prior.
const LEAST: f64 = super::target::HALF;
/// A rate below this share of the peers' is lower, one above it as good.
pub const MARGIN: f64 = 0.9;
/// How surely.
const SURE: f64 = 0.9;

/// The prior that peers give, by the method of moments; each peer is (successes, exposure). Its strength is what
/// the spread between peers, beyond counting noise, leaves; within 1 to 50. Absent where the peers have no
/// successes.
pub fn prior_from_peers(peers: &[(f64, f64)]) -> Option<Prior> {
    let peers: Vec<_> = peers.iter().filter(|(_, exposure)| *exposure > 0.0).collect();
    let successes: f64 = peers.iter().map(|(s, _)| s).sum();
    let exposure: f64 = peers.iter().map(|(_, e)| e).sum();
    if successes <= 0.0 {
        return None;
    }
    let mean = successes / exposure;
    let n = peers.len() as f64;
    // Weighted between-peer variance less the Poisson part (the usual moment estimator of a
    // one-way random effect, weights = exposure).
    let spread: f64 = peers.iter().map(|(s, e)| e * (s / e - mean).powi(2)).sum();
    let squares: f64 = peers.iter().map(|(_, e)| e * e).sum();
    let weight = exposure - squares / exposure;
    let between = if weight > 0.0 { (spread - (n - 1.0) * mean) / weight } else { 0.0 };
    let alike = if between > 0.0 { mean * mean / between } else { MOST };
    Some(Prior { mean, strength: alike.clamp(1.0, MOST) })
}

/// The prior for comparing something with peers: they speak no louder than it does, `own` successes, nor than
/// they have successes, nor than two for each of them where they are fewer than five.
pub fn prior_for_comparing(peers: &[(f64, f64)], own: f64) -> Option<Prior> {
    let prior = prior_from_peers(peers)?;
    let n = peers.iter().filter(|(_, exposure)| *exposure > 0.0).count();
    let successes: f64 = peers.iter().map(|(s, _)| s).sum();
    let few = if n < FEW { EACH * n as f64 } else { MOST };
    let strength = prior.strength.min(few).min(successes).min(own).max(LEAST);
    Some(Prior { strength, ..prior })
}

/// How a rate compares with peers'.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// P(rate < 0.9 × peers' rate) ≥ 0.9.
    Lower,
    /// P(rate > 0.9 × peers' rate) ≥ 0.9.
    AsGood,
    /// In between.
    CantTell,
}

impl Standing {
    /// From the probability of being below 0.9 × the peers' rate.
    pub fn from_probability(p: f64) -> Self {
        match p {
            p if p >= SURE => Self::Lower,
            p if p <= 1.0 - SURE => Self::AsGood,
            _ => Self::CantTell,
        }
    }

    /// Compares a proportion (conversions of clicks, clicks of impressions) with the peers', each (successes,
    /// trials). Absent without trials, or where the peers have no successes.
    pub fn of_proportion(successes: f64, trials: f64, peers: &[(f64, f64)]) -> Option<Self> {
        let prior = prior_for_comparing(peers, successes)?;
        (trials > 0.0).then(|| {
            let theirs: f64 = peers.iter().map(|(s, _)| s).sum();
            Self::from_probability(proportion_below_peers(successes, trials, prior, theirs))
        })
    }
}

/// Nodes and weights of five-point Gauss–Hermite quadrature for the standard normal (M. Abramowitz, I. A.
/// Stegun, Handbook of Mathematical Functions, table 25.10, scaled by √2 and 1/√π).
const NORMAL: [(f64, f64); 5] = [
    (-2.856_970_014, 0.011_257_411),
    (-1.355_626_180, 0.222_075_922),
    (0.0, 0.533_333_333),
    (1.355_626_180, 0.222_075_922),
    (2.856_970_014, 0.011_257_411),
];

/// P(rate < 0.9 × peers' rate) of a proportion under the peers' Beta prior. What the peers' own rate is, is
/// only known as well as `theirs`, their successes, tell: log-normal around its mean.
fn proportion_below_peers(successes: f64, trials: f64, prior: Prior, theirs: f64) -> f64 {
    let mean = prior.mean.min(1.0 - 1e-9);
    let alpha = prior.strength + successes;
    let beta = prior.strength * (1.0 - mean) / mean + (trials - successes).max(0.0);
    let Ok(posterior) = Beta::new(alpha, beta) else { return 0.5 };
    let deviation = ((1.0 - mean) / theirs).sqrt();
    let at = |z: f64| posterior.cdf((MARGIN * mean * (z * deviation).exp()).min(1.0));
    NORMAL.iter().map(|(z, weight)| weight * at(*z)).sum()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn alike_peers_are_worth_more_than_scattered_ones() {
        let alike: Vec<_> = (0..6).map(|i| (50.0 + f64::from(i % 3), 500.0)).collect();
        assert_eq!(prior_from_peers(&alike).unwrap().strength, 50.0);
        let apart = [(100.0, 1000.0), (400.0, 1000.0), (20.0, 1000.0)];
        let apart = prior_from_peers(&apart).unwrap();
        assert!(apart.strength < 3.0, "{apart:?}");
        assert!(prior_from_peers(&[(0.0, 100.0)]).is_none());
    }

    #[test]
    fn few_peers_weigh_little_and_none_weighs_more_than_there_is() {
        let strength =
            |peers: &[(f64, f64)], own| prior_for_comparing(peers, own).unwrap().strength;
        assert_eq!(strength(&[(200.0, 2000.0)], 80.0), 2.0, "one peer");
        assert_eq!(strength(&[(200.0, 2000.0), (210.0, 2000.0)], 80.0), 4.0, "two");
        assert_eq!(strength(&[(0.4, 4.0), (0.5, 5.0)], 80.0), 0.9, "hardly any data");
        assert_eq!(strength(&[(200.0, 2000.0); 3], 1.0), 1.0, "no louder than the one compared");
        assert_eq!(strength(&[(200.0, 2000.0); 3], 0.0), 0.5);
    }

    #[test]
    fn as_good_has_to_be_shown() {
        let peers = [(100.0, 1000.0), (95.0, 1000.0), (105.0, 1000.0)];
        let standing = |s, n| Standing::of_proportion(s, n, &peers).unwrap();
        assert_eq!(standing(30.0, 1000.0), Standing::Lower);
        assert_eq!(standing(120.0, 1000.0), Standing::AsGood);
        assert_eq!(standing(14.0, 150.0), Standing::CantTell);
        assert_eq!(standing(0.0, 5.0), Standing::CantTell);
        // 0.91⁴⁶ = 1.3%: none of 46 is no sign of being as good as one in ten.
        assert_eq!(standing(0.0, 46.0), Standing::Lower);
        assert!(Standing::of_proportion(0.0, 0.0, &peers).is_none());
        // Peers with three conversions are no yardstick for anybody.
        let thin = [(1.0, 20.0), (2.0, 30.0)];
        assert_eq!(Standing::of_proportion(30.0, 1000.0, &thin), Some(Standing::CantTell));
    }
}
