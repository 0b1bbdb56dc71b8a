//! What only the market knows: the true expected response of each campaign.

use serde::Serialize;
use tiller_channel::Micros;
use tiller_core::learning::shock;
use tiller_core::setting::{Budget, Strategy};

use super::campaign::{CampaignSim, Home};
use super::day::{Outlook, everyone, outlook, who};
use super::demand::{self, Moment};
use super::market::{AccountSim, Market};

/// A campaign's response to a budget.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct CurvePoint {
    /// Budget a day.
    pub budget: f64,
    /// Spend a day.
    pub spend: f64,
    /// Clicks a day.
    pub clicks: f64,
    /// Conversions a day.
    pub conversions: f64,
    /// Value a day.
    pub value: f64,
}

/// What is true of a campaign.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct CampaignTruth {
    /// Its name.
    pub campaign: String,
    /// Its channel.
    pub channel: String,
    /// Budget a day at present.
    pub budget: f64,
    /// What it does at present.
    pub present: CurvePoint,
    /// Conversions ÷ clicks.
    pub cvr: Option<f64>,
    /// Relative gain of conversions by relative gain of budget, at present.
    pub elasticity: Option<f64>,
    /// Relative gain of clicks by relative gain of the bid, at present, money being no matter.
    pub bid_elasticity: Option<f64>,
    /// Likewise of what a click costs.
    pub price_elasticity: Option<f64>,
    /// Share of the conversions that are reported on the day of the click.
    pub promptness: f64,
    /// What it would do with other budgets.
    pub curve: Vec<CurvePoint>,
}

/// A campaign run forward as expected, without its past days.
pub(super) struct Ahead<'w> {
    sim: CampaignSim,
    home: Home<'w>,
    from: Moment,
    days: u32,
}

impl<'w> Ahead<'w> {
    pub(super) fn of(
        market: &'w Market,
        account: &'w AccountSim,
        sim: &CampaignSim,
        days: u32,
    ) -> Self {
        let of_world = market.of_world(account);
        Self {
            sim: CampaignSim { days: Vec::new(), ..sim.clone() },
            home: Home {
                world: &market.world,
                account: of_world,
                campaign: &of_world.campaigns[sim.index],
            },
            from: Moment { date: market.today, since: market.since() },
            days,
        }
    }

    /// Its mean day with another budget, and with what stands for its bids multiplied.
    pub(super) fn run(&self, budget: Option<f64>, bid: f64) -> CurvePoint {
        let day = self.outlook(budget, bid);
        CurvePoint {
            budget: budget.unwrap_or_else(|| self.sim.budget_a_day().to_units()),
            spend: day.spend,
            clicks: day.clicks,
            conversions: day.conversions,
            value: day.value,
        }
    }

    /// The same with all that is expected.
    pub(super) fn outlook(&self, budget: Option<f64>, bid: f64) -> Outlook {
        let mut sim = self.sim.clone();
        if let Some(units) = budget {
            set_budget(&mut sim, units);
        }
        scale_bids(&mut sim, bid);
        let mix = who(&sim, self.home).unwrap_or_else(everyone);
        let mut sum = Outlook::default();
        for n in 1..=i64::from(self.days) {
            let at = Moment {
                date: self.from.date + chrono::Duration::days(n),
                since: self.from.since + n,
            };
            let weather =
                demand::expected(self.home.world, self.home.account, self.home.campaign, at);
            let day = outlook(&mut sim, self.home, &weather, &mix, at);
            sum.spend += day.spend;
            sum.impressions += day.impressions;
            sum.clicks += day.clicks;
            sum.conversions += day.conversions;
            sum.value += day.value;
        }
        let n = f64::from(self.days);
        Outlook {
            spend: sum.spend / n,
            impressions: sum.impressions / n,
            clicks: sum.clicks / n,
            conversions: sum.conversions / n,
            value: sum.value / n,
        }
    }
}

/// Multiplies what stands for its bids: bids by hand wherever they are set, a strategy's target, its highest bid. A
/// strategy whose target is moved by more than a fifth learns anew, whoever moves it.
pub(super) fn scale_bids(sim: &mut CampaignSim, times: f64) {
    let scaled = |m: Micros| Micros::from_units(m.to_units() * times);
    for s in &mut sim.streams {
        s.settings.bid = s.settings.bid.map(scaled);
    }
    for g in &mut sim.groups {
        g.settings.bid = g.settings.bid.map(scaled);
    }
    sim.settings.bid = sim.settings.bid.map(scaled);
    let moved = match &mut sim.settings.strategy {
        Strategy::TargetCpa { target } => {
            *target = scaled(*target);
            times
        }
        Strategy::TargetRoas { target } => {
            *target /= times;
            1.0 / times
        }
        _ => {
            sim.settings.bid_ceiling = sim.settings.bid_ceiling.map(scaled);
            1.0
        }
    };
    if shock(1.0, moved).is_some() {
        sim.forget();
    }
}

/// Sets the budget a day; that of ad groups in proportion.
pub(super) fn set_budget(sim: &mut CampaignSim, units: f64) {
    let factor = units / sim.budget_a_day().to_units().max(1e-9);
    let scale = |b: Budget| {
        let times = |m: Micros| Micros::from_units(m.to_units() * factor);
        match b {
            Budget::Daily { amount } => Budget::Daily { amount: times(amount) },
            Budget::Lifetime { amount, starts, ends } => {
                Budget::Lifetime { amount: times(amount), starts, ends }
            }
        }
    };
    sim.settings.budget = sim.settings.budget.map(scale);
    for group in &mut sim.groups {
        group.settings.budget = group.settings.budget.map(scale);
    }
    if shock(1.0, factor).is_some() && sim.settings.strategy.automatic() {
        sim.forget();
    }
}

/// A campaign's mean day over the coming ones, by budget a day; from 0 upward.
pub(super) fn response(
    market: &Market,
    account: &AccountSim,
    sim: &CampaignSim,
    days: u32,
    budgets: &[f64],
) -> Vec<CurvePoint> {
    let ahead = Ahead::of(market, account, sim, days);
    budgets.iter().map(|b| ahead.run(Some(*b), 1.0)).collect()
}

/// What is true of each campaign of an account over the coming four weeks.
pub fn truth(market: &Market, account: &AccountSim) -> Vec<CampaignTruth> {
    let of_world = market.of_world(account);
    account
        .campaigns
        .iter()
        .map(|sim| {
            let ahead = Ahead::of(market, account, sim, 28);
            let home = ahead.home.campaign;
            let budget = sim.budget_a_day().to_units();
            let present = ahead.run(None, 1.0);
            let slope = |a: f64, b: f64, low: f64, high: f64| {
                (a > 0.0 && b > 0.0).then(|| (b / a).ln() / (high / low).ln())
            };
            let (less, more) =
                (ahead.run(Some(budget * 0.9), 1.0), ahead.run(Some(budget * 1.1), 1.0));
            let free = Some(budget * 1000.0);
            let bids = (!sim.settings.strategy.automatic())
                .then(|| (ahead.run(free, 0.95), ahead.run(free, 1.05)));
            let by_bid = |of: fn(&CurvePoint) -> f64| {
                bids.as_ref().and_then(|(a, b)| slope(of(a), of(b), 0.95, 1.05))
            };
            CampaignTruth {
                campaign: home.name.clone(),
                channel: of_world.campaigns[sim.index].channel.clone(),
                budget,
                cvr: (present.clicks > 0.0).then(|| present.conversions / present.clicks),
                elasticity: slope(less.conversions, more.conversions, 0.9, 1.1),
                bid_elasticity: by_bid(|p| p.clicks),
                price_elasticity: by_bid(|p| p.spend / p.clicks),
                promptness: home.promptness,
                curve: [0.25, 0.5, 0.75, 1.0, 1.25, 1.5, 2.0, 3.0, 4.0]
                    .iter()
                    .map(|f| ahead.run(Some(budget * f), 1.0))
                    .collect(),
                present,
            }
        })
        .collect()
}
