//! What one conversion takes in clicks, and what each may cost: the click ladder with its prices and the steps toward them.

use tiller_core::affordable::step_bid;
use tiller_desk::book::Judged;
use tiller_desk::numerals::money;

use crate::chart::Ladder;

/// Look-backs that steps are told for.
const LOOK_BACKS: i32 = 3;

/// Of a campaign, an ad group or an item.
pub struct ClickPrices {
    pub ladder: Option<Ladder>,
    /// A title, an amount, its tone.
    pub prices: Vec<(&'static str, String, &'static str)>,
    /// What a click costs after each of the coming look-backs, where it costs too much: each halves what is left.
    pub steps: String,
}

impl ClickPrices {
    /// From its verdict.
    pub fn of(j: &Judged) -> Self {
        let may = j.diagnosis.affordable;
        let cpc = j.tally.cpc();
        let ladder = may.zip(cpc).zip(j.diagnosis.target_cpa);
        let over = cpc.zip(may).filter(|(paid, may)| *paid > may.cautious);
        let steps = over.map(|(paid, may)| {
            let step = |i| money(step_bid(may.cautious, paid, i));
            (1..=LOOK_BACKS).map(step).collect::<Vec<_>>().join(", ")
        });
        Self {
            ladder: ladder.map(|((a, cpc), cpa)| Ladder::new(a.clicks_per_conversion, cpc, cpa)),
            prices: [
                cpc.map(|c| ("paid now", money(c), "")),
                j.diagnosis.halfway_bid.map(|b| ("halfway", money(b), "plan")),
                may.map(|a| ("affordable, clicks rounded up", money(a.cautious), "gain")),
                may.map(|a| ("affordable, exact", money(a.cpc), "quiet")),
            ]
            .into_iter()
            .flatten()
            .collect(),
            steps: steps.unwrap_or_default(),
        }
    }
}
