//! What each campaign's money can do, learned from its own days (A4).

use std::collections::HashMap;
use std::sync::Arc;

use tiller_core::allocation::{Next, Precision, Response};
use tiller_core::flight::MONTH;
use tiller_core::ids::CampaignId;
use tiller_core::response::Curve;
use tiller_core::response::budget_response::{
    Bidding, BudgetDay, BudgetResponse, budget_response, rate, surely_bends,
};
use tiller_core::response::compared::{Known, compared};
use tiller_core::setting::{Budget, Status};
use tiller_core::verdict::Early;
use tiller_core::{Micros, Price, Tally, Window};

use tiller_store::PgPool;

use crate::DeskError;
use crate::account::settings::Settings;
use crate::book::{Book, Completed, Entry, Judged, PRESENT_DAYS, Period};
use crate::budgets::counted::Counted;
use crate::budgets::curves::Curves;
use crate::kept::Kept;
use crate::tray::proposal::holds;

/// Days that rates are read from.
pub const RATE_DAYS: u64 = 56;
/// Reported days that tell how much could be spent.
const CAPACITY_DAYS: u64 = 28;
/// None at all tells as much as half a conversion: that of Jeffreys' prior.
const HALF: f64 = 0.5;
/// Confidence of intervals.
const LIKELY: f64 = 0.8;
/// A budget of which at least this share is spent is spent.
const SPENT: f64 = 0.9;

/// A campaign, and what its money can do.
#[derive(Clone, Debug)]
pub struct Spender {
    /// The campaign.
    pub campaign: CampaignId,
    /// Its name.
    pub name: String,
    /// Its daily budget, in units of currency, if it has one and runs.
    pub budget: Option<f64>,
    /// The least that its channel allows it a day.
    pub least: f64,
    /// What it spends a day, on average under its present budget.
    pub spend: f64,
    /// Conversions that its rate is read from, those still to come included.
    pub conversions: f64,
    /// Standard error of those still to come.
    pub to_come_error: f64,
    /// Who makes its bids, if that is known.
    pub bidding: Option<Bidding>,
    /// Whether a strategy learns its bids, which a jump of the budget would disturb.
    pub learns: bool,
    /// The most that it bids, where that is set.
    pub highest_bid: Option<f64>,
    /// Launched so lately that it is left in peace.
    pub fresh: bool,
    /// What its money can do, by its own days.
    pub budget_response: BudgetResponse,
    /// The same beside the others of its channel, as plans and moves compare them.
    pub compared: Compared,
    /// What a click costs.
    pub cpc: Price,
    /// Value of a conversion.
    pub worth: Price,
}

/// What a campaign's money brings as it is known beside the others of its channel: the best of many is not taken at its word.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Compared {
    /// Conversions a day for money a day, below the capacity.
    pub response: Response,
    /// How well what the account counts, conversions or value, is known.
    pub precision: Precision,
    /// Value of a conversion.
    pub worth: Price,
}

impl Compared {
    /// Value of what a unit of money brings at a spend a day.
    pub fn brings(&self, spend: f64) -> f64 {
        self.response.at(spend) / spend * self.worth.units()
    }

    /// How well that is known, as a standard deviation of its logarithm.
    pub fn deviation(&self, spend: f64) -> f64 {
        self.precision.variance(self.response, spend).sqrt()
    }
}

/// More than this share of its capacity left: more money buys something.
const ROOM: f64 = 0.02;

impl Spender {
    /// What one more conversion would cost for a little more money; none where more money buys nothing.
    pub fn next(&self) -> Option<Next> {
        let of = &self.budget_response;
        let full = of.capacity.most.is_some_and(|most| most < self.spend * (1.0 + ROOM));
        if full || self.spend <= 0.0 {
            return None;
        }
        let (costs, around) = of.precision.next_costs(of.response, self.spend, LIKELY);
        let leans = of.curve.as_ref().is_some_and(|c| c.leans);
        Some(Next { costs, around, leans })
    }

    /// The curve of a strategy that spends what it gets, or is believed to.
    pub fn spends_all(&self) -> Option<&Curve> {
        self.budget_response.curve.as_ref().filter(|_| self.bidding != Some(Bidding::Saturates))
    }

    /// The probability that one more result meets a target where so much is spent, where `meets` is the probability that the
    /// mean one would if it cost so many times as much as now.
    pub fn next_meets(&self, spend: f64, meets: impl Fn(f64) -> f64) -> f64 {
        let of = &self.budget_response;
        of.precision.next_meets(of.response, self.spend, spend, meets)
    }

    /// Its budget, where that is what decides what it pays for a click: its strategy spends any budget, it spends this one,
    /// and no highest bid holds it.
    pub fn bids_by_budget(&self) -> Option<f64> {
        let held = self.highest_bid.is_some_and(|highest| holds(highest, self.cpc));
        let by_budget =
            self.bidding == Some(Bidding::SpendsAll) && self.spends_all().is_some() && !held;
        self.budget.filter(|budget| by_budget && self.spend >= SPENT * budget)
    }
}

static NEXT: Kept<(Period, ()), HashMap<CampaignId, Next>> = Kept::new(24);

/// What one more conversion would cost, of each campaign where more money buys any.
pub async fn next_of_account(
    db: &PgPool,
    book: &Book,
) -> Result<Arc<HashMap<CampaignId, Next>>, DeskError> {
    let read = async || {
        let settings = Settings::of_book(db, book).await?;
        let curves = Curves::load(db, &book.account).await?;
        let all = of_account(book, &settings, &curves);
        Ok(all.iter().filter_map(|s| Some((s.campaign, s.next()?))).collect())
    };
    book.keep(&NEXT, (), read).await
}

/// The campaigns whose conversions can be trusted and that have spent anything lately.
pub fn of_account(book: &Book, settings: &Settings, curves: &Curves) -> Vec<Spender> {
    let window = rate_window(book);
    let trusted: Vec<(&Entry, Completed, &Option<Judged>)> = book
        .entries
        .iter()
        .zip(book.judge_all())
        .filter(|(e, _)| book.findings(e).is_empty())
        .map(|(e, j)| (e, e.completed(window), j))
        .filter(|(_, c, _)| c.tally.spend.get() > 0)
        .collect();
    let line = |(entry, counted, judged): &(&Entry, Completed, &Option<Judged>)| {
        let alike = trusted.iter().filter(|(o, _, _)| alike(o, entry));
        let peers = alike.map(|(_, c, _)| c.tally).sum();
        let early = judged.as_ref().and_then(|j| j.diagnosis.early);
        let fresh = matches!(early, Some(Early::Launched { .. }));
        of_campaign(book, settings, curves, (entry, counted), peers, fresh)
    };
    let mut all: Vec<Spender> = trusted.iter().filter_map(line).collect();
    compare(book, &mut all);
    all
}

/// Whether two campaigns are of one kind on one channel.
fn alike(a: &Entry, b: &Entry) -> bool {
    a.campaign.channel == b.campaign.channel && a.campaign.kind == b.campaign.kind
}

/// What each campaign's money brings beside the others.
fn compare(book: &Book, all: &mut [Spender]) {
    let entries: Vec<&Entry> = all.iter().filter_map(|l| book.entry(l.campaign).ok()).collect();
    let first =
        |of: &dyn Fn(&Entry) -> bool| entries.iter().position(|e| of(e)).unwrap_or(0) as u32;
    let known = |(l, entry): (&Spender, &&Entry)| Known {
        kind: first(&|e| alike(e, entry)),
        channel: first(&|e| e.campaign.channel == entry.campaign.channel),
        response: l.budget_response.response,
        precision: l.budget_response.precision,
        spend: l.spend,
        paid: entry.tally(rate_window(book)).spend.to_units(),
        results: l.conversions,
        late: l.to_come_error,
        dispersion: entry.lasting_dispersion(book.by_value(), book.span),
        worth: if book.by_value() { l.worth.units() } else { 1.0 },
        shared: l
            .spends_all()
            .filter(|c| matches!(c.response, Response::Power { .. }))
            .map(|c| c.shared),
    };
    // Means of many days stand where the account stands now, not where it stood then; a curve's level does already.
    let now = Counted::of(book, book.by_value()).times(RATE_DAYS as usize, MONTH);
    let beside = compared(&all.iter().zip(&entries).map(known).collect::<Vec<_>>());
    for (l, beside) in all.iter_mut().zip(beside) {
        l.compared.precision = beside.precision;
        let times = if l.spends_all().is_some() { beside.times } else { beside.times * now };
        if book.by_value() {
            l.compared.worth = l.worth * times;
        } else {
            l.compared.response = l.compared.response.times(times);
        }
    }
}

fn of_campaign(
    book: &Book,
    settings: &Settings,
    curves: &Curves,
    (entry, counted): (&Entry, &Completed),
    peers: Tally,
    fresh: bool,
) -> Option<Spender> {
    // Money is final as soon as its day is over; only conversions come late.
    let lately = Window::ending(book.span.to(), CAPACITY_DAYS);
    let set = settings.campaign(entry.campaign.id);
    let budget = match set {
        Some(set) if set.status == Status::Active => match set.budget {
            Some(Budget::Daily { amount }) => Some(amount.to_units()),
            _ => None,
        },
        _ => None,
    };
    let tally = counted.tally;
    let usual = peers.aov().unwrap_or(Price(0.0));
    let worth = (Price::from(tally.value) + usual * HALF) / (tally.conversions + HALF);
    let fitted = curves.of(entry.campaign.id).map(|(_, f)| f);
    let bidding = set.map(|s| match s.strategy {
        strategy if strategy.spends_any_budget() => Bidding::SpendsAll,
        _ if fitted.and_then(|f| f.curve.measured).is_some_and(surely_bends) => Bidding::Saturates,
        _ => Bidding::Priced,
    });
    let budget_days: Vec<BudgetDay> = entry
        .days
        .iter()
        .filter(|d| lately.contains(d.day))
        .map(|d| BudgetDay {
            spend: d.tally.spend.to_units(),
            budget: d.budget.map(Micros::to_units),
            lost_to_budget: d.lost_to_budget,
        })
        .collect();
    let cpc = tally.cpc()?.positive()?;
    // Where nobody tells how it bids, money is believed to bring less and less.
    let budget_response = budget_response(
        bidding.unwrap_or(Bidding::SpendsAll),
        fitted.map(|f| &f.curve),
        rate(tally.conversions, tally.spend.to_units(), entry.lasting_dispersion(false, book.span)),
        cpc,
        &budget_days,
    );
    let (response, precision) = (budget_response.response, budget_response.precision);
    Some(Spender {
        campaign: entry.campaign.id,
        name: entry.campaign.name.clone(),
        budget,
        least: settings.limits(entry.campaign.id).least_budget.to_units(),
        spend: spends(&budget_days[budget_days.len().saturating_sub(PRESENT_DAYS.into())..]),
        conversions: tally.conversions,
        to_come_error: counted.error,
        bidding,
        learns: set.is_some_and(|s| s.strategy.automatic()),
        highest_bid: set.and_then(|s| s.bid_ceiling).map(Micros::to_units),
        fresh,
        budget_response,
        compared: Compared { response, precision, worth },
        cpc,
        worth,
    })
}

/// The days that rates are read from; what is still to come of them is counted as it is expected.
fn rate_window(book: &Book) -> Window {
    Window::ending(book.span.to(), RATE_DAYS)
}

/// Days under one budget from which they alone tell what it spends.
const LEAST_DAYS: usize = 7;
/// Budgets within this share of each other are one.
const SAME: f64 = 0.02;

/// What is spent a day under the present budget: what another one allowed does not tell what this one does. Of all
/// days, where those are too few.
fn spends(days: &[BudgetDay]) -> f64 {
    let now = days.iter().rev().find_map(|d| d.budget);
    let other = |d: &BudgetDay| {
        d.budget.zip(now).is_some_and(|(budget, now)| (budget / now - 1.0).abs() > SAME)
    };
    let from = days.iter().rposition(other).map_or(0, |last| last + 1);
    let days = if days.len() - from >= LEAST_DAYS { &days[from..] } else { days };
    days.iter().map(|d| d.spend).sum::<f64>() / days.len().max(1) as f64
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_spent_now_is_told_by_the_days_of_the_present_budget() {
        let day = |spend, budget| BudgetDay { spend, budget: Some(budget), lost_to_budget: None };
        let mut days = vec![day(50.0, 50.0); 7];
        days.extend(vec![day(80.0, 80.0); 7]);
        assert_eq!(spends(&days), 80.0);
        // Six days are too few, and a coin is no other budget.
        assert!((spends(&days[..13]) - (7.0 * 50.0 + 6.0 * 80.0) / 13.0).abs() < 1e-9);
        days[13].budget = Some(80.01);
        assert_eq!(spends(&days), 80.0);
        assert_eq!(spends(&[]), 0.0);
    }
}
