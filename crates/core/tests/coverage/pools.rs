//! Pools of ad groups that are all alike, on days that differ by more than chance: how often one is said to have won.
#![allow(clippy::unwrap_used)]

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, Gamma, Poisson};
use tiller_core::Price;
use tiller_core::evidence::lasting_dispersion;
use tiller_core::pool::{Member, Seen, judge};

const DAYS: usize = 28;
const LOOKS: usize = 60;
/// A target buys one result.
const TARGET: f64 = 20.0;

/// Results of one ad group by day: so many in the mean, with a variance of `phi` times that.
fn drawn(rng: &mut ChaCha8Rng, mean: f64, phi: f64) -> Vec<f64> {
    let day = |rng: &mut ChaCha8Rng| {
        let rate = if phi > 1.0 {
            Gamma::new(mean / (phi - 1.0), phi - 1.0).unwrap().sample(rng)
        } else {
            mean
        };
        Poisson::new(rate.max(1e-9)).unwrap().sample(rng)
    };
    (0..DAYS + LOOKS).map(|_| day(rng)).collect()
}

fn won(groups: &[Vec<f64>], money: f64, evening: usize) -> Option<usize> {
    let window = evening - DAYS..evening;
    let members: Vec<Member> = groups
        .iter()
        .map(|g| Member {
            spend: money * DAYS as f64,
            results: g[window.clone()].iter().sum(),
            floor: None,
            ceiling: None,
        })
        .collect();
    let days: Vec<(f64, f64)> = (0..evening)
        .map(|d| (groups.iter().map(|g| g[d]).sum(), money * groups.len() as f64))
        .collect();
    let seen = Seen { days: DAYS as u64, dispersion: lasting_dispersion(&days) };
    judge(money * groups.len() as f64, Price(TARGET), seen, &members).iter().position(|s| s.won)
}

/// Nominal: at some time of ninety looks in 10%; of sixty it is fewer.
#[test]
fn of_alike_ad_groups_one_is_seldom_said_to_have_won() {
    let mut rng = ChaCha8Rng::seed_from_u64(4);
    for (groups, mean, phi) in [(2, 4.0, 1.0), (2, 4.0, 2.5), (4, 3.0, 1.0), (4, 3.0, 2.5)] {
        let mut said = 0;
        for _ in 0..60 {
            let all: Vec<Vec<f64>> = (0..groups).map(|_| drawn(&mut rng, mean, phi)).collect();
            let money = mean * TARGET;
            said +=
                usize::from((DAYS..DAYS + LOOKS).step_by(2).any(|e| won(&all, money, e).is_some()));
        }
        eprintln!("{groups} groups, {mean} a day, φ {phi}: {said} of 60");
        assert!(said <= 12, "{groups} groups, {mean} a day, φ {phi}: {said} of 60");
        // One that is twice as good is found.
        let mut found = 0;
        for _ in 0..30 {
            let mut all: Vec<Vec<f64>> =
                (0..groups - 1).map(|_| drawn(&mut rng, mean, phi)).collect();
            all.push(drawn(&mut rng, 2.0 * mean, phi));
            found += usize::from(won(&all, mean * TARGET, DAYS + LOOKS) == Some(groups - 1));
        }
        eprintln!("  twice as good: {found} of 30");
        assert!(found >= 15, "{groups} groups, {mean} a day, φ {phi}: {found} of 30");
    }
}
