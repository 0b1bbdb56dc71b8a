//! A stream of demand: one item with its own share of its campaign's auctions and its own rates.

use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, LogNormal};
use tiller_channel::report::{ItemKind, MatchType};

use crate::world::{Account, Campaign, World};

/// One item of one campaign.
#[derive(Clone, Debug)]
pub struct Stream<'w> {
    /// Position of the campaign in its account.
    pub campaign: usize,
    /// Ad group.
    pub ad_group: &'w str,
    /// The item.
    pub item: String,
    /// Of a keyword.
    pub match_type: Option<MatchType>,
    /// Share of the campaign's auctions.
    pub share: f64,
    /// Its CVR over the campaign's.
    pub cvr: f64,
    /// Its CTR over the campaign's.
    pub ctr: f64,
    /// Its competition over the campaign's.
    pub competition: f64,
    /// Its value per conversion over the campaign's.
    pub value: f64,
}

/// A generator for one purpose, so that no draw depends on what was drawn elsewhere.
pub(super) fn rng(world: &World, purpose: &[u64]) -> ChaCha8Rng {
    // SplitMix64 steps: well-spread seeds from small numbers.
    let mixed = purpose.iter().fold(world.seed, |seed, part| {
        let mut z = seed
            .wrapping_add(0x9E37_79B9_7F4A_7C15)
            .wrapping_add(part.wrapping_mul(0xD1B5_4A32_D192_ED03));
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    });
    ChaCha8Rng::seed_from_u64(mixed)
}

/// A number of an account, from its key.
pub(super) fn account_number(account: &Account) -> u64 {
    account.key.bytes().fold(7, |n, b| n.wrapping_mul(31).wrapping_add(u64::from(b)))
}

/// Every stream of an account.
pub fn streams<'w>(world: &'w World, account: &'w Account) -> Vec<Stream<'w>> {
    account
        .campaigns
        .iter()
        .enumerate()
        .flat_map(|(i, c)| of_campaign(world, account, i, c))
        .collect()
}

fn of_campaign<'w>(
    world: &'w World,
    account: &'w Account,
    index: usize,
    campaign: &'w Campaign,
) -> Vec<Stream<'w>> {
    let mut rng = rng(world, &[1, account_number(account), index as u64]);
    let mut around = |spread: f64| {
        // Mean 1, so that the campaign's own rates hold on average.
        LogNormal::new(-spread * spread / 2.0, spread.max(1e-9)).map_or(1.0, |d| d.sample(&mut rng))
    };
    let mut streams: Vec<Stream> = campaign
        .ad_groups
        .iter()
        .flat_map(|group| items(world, campaign.kind, &group.stems).map(move |item| (group, item)))
        .map(|(group, item)| Stream {
            campaign: index,
            ad_group: &group.name,
            item,
            match_type: (campaign.kind == ItemKind::Keyword).then_some(group.match_type),
            share: around(0.9),
            cvr: around(campaign.unlike),
            ctr: around(0.2),
            competition: around(0.1),
            value: around(campaign.unlike),
        })
        .collect();
    let all: f64 = streams.iter().map(|s| s.share).sum();
    streams.iter_mut().for_each(|s| s.share /= all);
    streams
}

fn items<'w>(
    world: &'w World,
    kind: ItemKind,
    stems: &'w [String],
) -> impl Iterator<Item = String> + use<'w> {
    let forms: &[String] = if kind == ItemKind::Keyword { &world.forms } else { &[] };
    stems.iter().flat_map(move |stem| {
        let whole = forms.is_empty().then(|| stem.clone());
        whole.into_iter().chain(forms.iter().map(move |form| form.replace("{}", stem)))
    })
}
