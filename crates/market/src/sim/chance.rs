//! Chance that no request can disturb: each purpose has a generator of its own.

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Binomial, Distribution, LogNormal, Poisson};

/// A generator for one purpose, so that no draw depends on what was drawn elsewhere.
pub fn rng(seed: u64, purpose: &[u64]) -> ChaCha8Rng {
    // SplitMix64 steps: well-spread seeds from small numbers.
    let mixed = purpose.iter().fold(seed, |seed, part| {
        let mut z = seed
            .wrapping_add(0x9E37_79B9_7F4A_7C15)
            .wrapping_add(part.wrapping_mul(0xD1B5_4A32_D192_ED03));
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    });
    ChaCha8Rng::seed_from_u64(mixed)
}

/// A number of a name.
pub fn number(name: &str) -> u64 {
    name.bytes().fold(7, |n, b| n.wrapping_mul(31).wrapping_add(u64::from(b)))
}

/// How many happen where `mean` are expected.
pub fn poisson(mean: f64, rng: &mut ChaCha8Rng) -> u32 {
    if mean <= 0.0 {
        return 0;
    }
    Poisson::new(mean).map_or(0, |d| d.sample(rng) as u32)
}

/// How many of `n` when each does with probability `p`.
pub fn binomial(n: u32, p: f64, rng: &mut ChaCha8Rng) -> u32 {
    if n == 0 || p.is_nan() || p <= 0.0 {
        return 0;
    }
    Binomial::new(u64::from(n), p.min(1.0)).map_or(0, |d| d.sample(rng) as u32)
}

/// A factor around 1, of mean 1, with this standard deviation of its logarithm.
pub fn around(spread: f64, rng: &mut ChaCha8Rng) -> f64 {
    if spread <= 0.0 {
        return 1.0;
    }
    LogNormal::new(-spread * spread / 2.0, spread).map_or(1.0, |d| d.sample(rng))
}

/// Shares `n` out over parts in proportion to their weights; the shares add up to `n`.
pub fn multinomial(n: u32, weights: &[f64], rng: &mut ChaCha8Rng) -> Vec<u32> {
    let mut left = n;
    let mut weight: f64 = weights.iter().sum();
    let last = weights.iter().rposition(|w| *w > 0.0);
    weights
        .iter()
        .enumerate()
        .map(|(i, w)| {
            let drawn = if Some(i) == last { left } else { binomial(left, w / weight, rng) };
            left -= drawn;
            weight -= w;
            drawn
        })
        .collect()
}

/// Shares `n` out over parts that have room for only so many each, in proportion to weight × room left.
/// What finds no room where there is weight goes where there is room at all.
pub fn nested(n: u32, room: &[u32], weights: &[f64], rng: &mut ChaCha8Rng) -> Vec<u32> {
    use rand::RngExt;
    let mut drawn = vec![0u32; room.len()];
    for _ in 0..n {
        let weight = |i: usize, least: f64| f64::from(room[i] - drawn[i]) * weights[i].max(least);
        let mut total: f64 = (0..room.len()).map(|i| weight(i, 0.0)).sum();
        let mut least = 0.0;
        if total <= 0.0 {
            least = 1.0;
            total = (0..room.len()).map(|i| weight(i, least)).sum();
        }
        let mut at = rng.random::<f64>() * total;
        let place = (0..room.len())
            .find(|i| {
                at -= weight(*i, least);
                at < 0.0
            })
            .or_else(|| (0..room.len()).rev().find(|i| room[*i] > drawn[*i]));
        if let Some(i) = place {
            drawn[i] += 1;
        }
    }
    drawn
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn shares_add_up_and_keep_to_their_room(n in 0u32..400, room in prop::collection::vec(0u32..200, 1..6), seed in 0u64..100) {
            let weights: Vec<f64> = (0..room.len()).map(|i| (i % 3) as f64 * 0.5).collect();
            let mut rng = rng(seed, &[1]);
            let parts = multinomial(n, &weights, &mut rng);
            let any = weights.iter().any(|w| *w > 0.0);
            prop_assert_eq!(parts.iter().sum::<u32>(), if any { n } else { 0 });
            let most: u32 = room.iter().sum();
            let inside = nested(n.min(most), &room, &weights, &mut rng);
            prop_assert_eq!(inside.iter().sum::<u32>(), n.min(most));
            prop_assert!(inside.iter().zip(&room).all(|(x, r)| x <= r));
        }
    }

    #[test]
    fn generators_for_different_purposes_differ() {
        use rand::RngExt;
        let draw = |purpose: &[u64]| rng(20, purpose).random::<u64>();
        assert_eq!(draw(&[1, 2]), draw(&[1, 2]));
        assert_ne!(draw(&[1, 2]), draw(&[2, 1]));
    }
}
