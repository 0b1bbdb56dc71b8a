//! Worlds drawn at random, of the kinds that real accounts are: what holds in the worlds that ship has to hold in these too.
//!
//! Of each account: 4 to 40 campaigns (log-uniform), two in five for leads; of each campaign: its kind (keywords 45%, audiences 20%, ads
//! 20%, listings 15%), its strategy (by hand 45%, toward a target 30%, whatever its budget buys 25%), what a result costs at the competition's
//! price over the target (log-normal around 0.8, deviation 0.4), its demand (log-normal, deviation 0.9), its budget from starved to
//! idle (0.3 to 2.5 times what its demand would take), lags, weekends, seasons, tiring audiences; days that differ by more than chance, orders with
//! a heavy tail, up to three shocks.
//!
//! ```
//! use tiller_market::{World, draw::draw};
//! let world = World::parse(&draw(7)).unwrap();
//! assert_eq!(world.seed, 7);
//! assert_eq!(draw(7), draw(7));
//! ```

use std::fmt::Write;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

/// What is advertised.
const THEMES: [&str; 20] = [
    "Spring courses",
    "Queen rearing",
    "Hive kits",
    "Smokers",
    "Extractors",
    "Suits",
    "Jars",
    "Honey glasses",
    "Beginner sets",
    "Bee houses",
    "Wax sheets",
    "Frames",
    "Feeders",
    "Gloves",
    "Labels",
    "Candles",
    "Mead kits",
    "Flower seeds",
    "Hive rental",
    "Garden talks",
];

/// A kind of campaign: how often, where, what it is called, and how often what is shown is clicked.
struct Kind {
    weight: f64,
    word: &'static str,
    channel: &'static str,
    called: &'static str,
    ctr: f64,
}

const KINDS: [Kind; 4] = [
    Kind { weight: 0.45, word: "keyword", channel: "Findle", called: "search", ctr: 0.05 },
    Kind { weight: 0.15, word: "listing", channel: "Stallway", called: "listings", ctr: 0.02 },
    Kind { weight: 0.2, word: "audience", channel: "Panewall", called: "display", ctr: 0.004 },
    Kind { weight: 0.2, word: "ad", channel: "Emberlane", called: "feed", ctr: 0.012 },
];

struct Chance(ChaCha8Rng);

impl Chance {
    fn between(&mut self, low: f64, high: f64) -> f64 {
        self.0.random_range(low..high)
    }

    /// Log-normal: its median, and the deviation of its logarithm.
    fn about(&mut self, median: f64, deviation: f64) -> f64 {
        let normal: f64 = StandardNormal.sample(&mut self.0);
        median * (deviation * normal).exp()
    }

    fn likely(&mut self, share: f64) -> bool {
        self.between(0.0, 1.0) < share
    }

    fn kind(&mut self) -> &'static Kind {
        let mut at = self.between(0.0, 1.0);
        let chosen = KINDS.iter().find(|k| {
            at -= k.weight;
            at < 0.0
        });
        chosen.unwrap_or(&KINDS[0])
    }
}

/// A world file.
pub fn draw(seed: u64) -> String {
    let mut chance = Chance(ChaCha8Rng::seed_from_u64(seed));
    let mut text = String::new();
    // Writing to a string can't fail.
    let _ = world(&mut text, seed, &mut chance);
    text
}

fn world(out: &mut String, seed: u64, chance: &mut Chance) -> std::fmt::Result {
    writeln!(out, "# Drawn: `gold-tiller market draw --seed {seed}`.\nseed = {seed}\ndays = 120")?;
    writeln!(
        out,
        "forms = [\"{{}}\", \"{{}} price\", \"buy {{}}\", \"best {{}}\"]\ntails = [\"near me\", \"cheap\", \"how much\"]\n"
    )?;
    let (account, channel) = (chance.between(0.1, 0.4), chance.between(0.1, 0.4));
    writeln!(
        out,
        "[unrest]\ndemand = {:.3}\ncvr = {:.3}\nlasts = {:.2}\naccount = {account:.2}\nchannel = {channel:.2}\n",
        chance.between(0.1, 0.35),
        chance.between(0.1, 0.35),
        chance.between(0.0, 0.7)
    )?;
    for kind in &KINDS {
        writeln!(
            out,
            "[[channels]]\nname = \"{}\"\nleast_bid = 0.02\nleast_budget = 1.0\n",
            kind.channel
        )?;
    }
    let leads = chance.likely(0.4);
    let target = if leads { chance.about(45.0, 0.6) } else { chance.between(2.5, 6.0) };
    writeln!(
        out,
        "[[accounts]]\nkey = \"drawn\"\nname = \"Amberfold Drawn\"\ntoken = \"amberfold-drawn-practice\"\ncurrency = \"EUR\"\ntime_zone = \"Europe/Copenhagen\""
    )?;
    writeln!(out, "target_{} = {target:.2}", if leads { "cpa" } else { "roas" })?;
    writeln!(
        out,
        "events = [{{ name = \"{}\", of_conversions = 1.0 }}]",
        if leads { "enquiry" } else { "order" }
    )?;
    let shocks: Vec<String> = (0..chance.0.random_range(0..4)).map(|_| shock(chance)).collect();
    writeln!(out, "shocks = [{}]\n", shocks.join(", "))?;
    let campaigns = chance.between(4_f64.ln(), 41_f64.ln()).exp() as usize;
    for n in 0..campaigns {
        campaign(out, n, leads, target, chance)?;
    }
    Ok(())
}

fn shock(chance: &mut Chance) -> String {
    let (kind, low, high) = [("competition", 0.85, 1.3), ("demand", 0.7, 1.4), ("cvr", 0.8, 1.15)]
        [chance.0.random_range(0..3)];
    let from = chance.0.random_range(-100..20);
    format!("{{ from = {from}, kind = \"{kind}\", factor = {:.2} }}", chance.between(low, high))
}

fn campaign(
    out: &mut String,
    n: usize,
    leads: bool,
    target: f64,
    chance: &mut Chance,
) -> std::fmt::Result {
    let kind = chance.kind();
    let theme = THEMES[n % THEMES.len()];
    let again = if n < THEMES.len() { String::new() } else { format!(" {}", n / THEMES.len() + 1) };
    let value = if leads { 0.0 } else { chance.about(60.0, 0.5) };
    // What a result may cost, and what it costs at the competition's price.
    let may = if leads { target } else { value / target };
    let costs = may * chance.about(0.8, 0.4);
    let ctr = (kind.ctr * chance.about(1.0, 0.3)).clamp(0.0005, 0.3);
    let cvr = chance.about(0.04, 0.5).clamp(0.004, 0.3);
    let competition = costs * cvr;
    // As many clicks a day as all its auctions bring, and what they would take.
    let clicks = chance.about(90.0, 0.9).clamp(8.0, 1500.0);
    let takes = 0.5 * clicks * competition;
    let budget = (takes * chance.about(1.0, 0.6).clamp(0.3, 2.5)).max(2.0);
    let strategy = match chance.between(0.0, 1.0) {
        x if x < 0.45 => format!(
            "{{ manual_cpc = {{ bid = {:.2} }} }}",
            (competition * chance.about(1.05, 0.25)).max(0.03)
        ),
        x if x < 0.75 && leads => {
            format!("{{ target_cpa = {{ target = {:.2} }} }}", may * chance.about(1.0, 0.25))
        }
        x if x < 0.75 => {
            format!("{{ target_roas = {{ target = {:.2} }} }}", target * chance.about(1.0, 0.25))
        }
        _ if leads => "{ most_conversions = {} }".into(),
        _ => "{ most_value = {} }".into(),
    };
    writeln!(
        out,
        "[[accounts.campaigns]]\nname = \"{theme}{again}, {}\"\nchannel = \"{}\"\nkind = \"{}\"",
        kind.called, kind.channel, kind.word
    )?;
    writeln!(out, "strategy = {strategy}\nbudget = {budget:.2}\nauctions = {:.1}", clicks / ctr)?;
    writeln!(out, "competition = {competition:.3}\nctr = {ctr:.5}\ncvr = {cvr:.5}")?;
    writeln!(
        out,
        "spread = {:.2}\nunlike = {:.2}",
        chance.between(0.3, 0.6),
        chance.between(0.1, 0.4)
    )?;
    writeln!(
        out,
        "weekend = {:.2}\nseason = {:.2}",
        chance.between(0.1, 1.1),
        chance.between(0.0, 0.3)
    )?;
    writeln!(out, "promptness = {:.2}", chance.between(0.25, 0.95))?;
    if !leads {
        writeln!(out, "value = {value:.2}\norders = {:.2}", chance.between(0.6, 1.2))?;
    }
    // Those who have seen an ad often click it less.
    if kind.word == "audience" || kind.word == "ad" {
        writeln!(out, "audience = {:.0}", clicks / ctr * chance.between(1.5, 12.0))?;
    }
    for group in 1..=chance.0.random_range(1..4) {
        let stem = theme.to_lowercase();
        writeln!(
            out,
            "[[accounts.campaigns.ad_groups]]\nname = \"Group {group}\"\nstems = [\"{stem} {group}\"]"
        )?;
    }
    writeln!(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Market, World};
    use chrono::NaiveDate;
    use std::sync::Arc;

    #[test]
    fn forty_worlds_can_be_read_and_differ() {
        let worlds: Vec<World> = (1..=40).map(|seed| World::parse(&draw(seed)).unwrap()).collect();
        let sizes: Vec<usize> = worlds.iter().map(|w| w.accounts[0].campaigns.len()).collect();
        assert!(sizes.iter().all(|n| (4..=40).contains(n)), "{sizes:?}");
        assert!(sizes.iter().any(|n| *n < 8) && sizes.iter().any(|n| *n > 25), "{sizes:?}");
        let leads = worlds.iter().filter(|w| w.accounts[0].target_cpa.is_some()).count();
        assert!((8..=24).contains(&leads), "{leads} of 40 count leads");
        for w in &worlds {
            let mut names: Vec<&str> =
                w.accounts[0].campaigns.iter().map(|c| c.name.as_str()).collect();
            names.sort_unstable();
            names.dedup();
            assert_eq!(names.len(), w.accounts[0].campaigns.len(), "each has a name of its own");
        }
    }

    /// Somebody spends, and some of it comes back.
    #[test]
    fn they_can_be_lived_in() {
        let last = NaiveDate::from_ymd_opt(2026, 11, 9).unwrap();
        for seed in [1, 2, 3] {
            let market = Market::begin(Arc::new(World::parse(&draw(seed)).unwrap()), last);
            let account = market.account("drawn").unwrap();
            let report = String::from_utf8(market.history(account).unwrap()).unwrap();
            assert!(report.lines().count() > 300, "seed {seed}: {} rows", report.lines().count());
        }
    }
}
