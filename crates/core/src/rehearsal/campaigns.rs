//! What campaigns make of money that a rule frees, and what they give up for money that it spends more: within their
//! budgets one thing's money is another's.

use std::collections::{BTreeMap, HashMap};
use std::ops::RangeBounds;

use chrono::{Datelike, NaiveDate};
use statrs::statistics::Statistics;

use super::Days;
use super::late::Late;
use super::worth::Alone;
use crate::bid_volume::Range;
use crate::evidence::{Interval, normal_quantile};
use crate::ids::CampaignId;
use crate::metrics::Tally;
use crate::window::Window;

/// A campaign's day.
#[derive(Clone, Copy, Debug, Default)]
pub struct CampaignDay {
    /// Its budget for the day, where that is known.
    pub budget: Option<f64>,
    /// The share of its auctions that were lost because the budget was used up, where the channel tells.
    pub lost: Option<f64>,
    /// What was counted.
    pub counted: Tally,
}

/// A budget is used up from this share on; below the other it surely is not.
const USED: (f64, f64) = (0.95, 0.8);
/// So much of a day’s budget is more than a last dear click.
const OVER: f64 = 1.2;
/// What is lost for want of budget is told by shares of auctions, not of money: it may be so many times more or less.
const TOLD: [f64; 3] = [1.5, 1.0, 0.5];
/// So many days in a row tell no more than one would, since what moves demand lasts (a day's shock is half there on the next).
const ALIKE: f64 = 3.0;

impl CampaignDay {
    fn spend(&self) -> f64 {
        self.counted.spend.to_units()
    }

    /// The share of its budget that was spent.
    fn used(&self) -> Option<f64> {
        self.budget.filter(|b| *b > 0.0).map(|b| self.spend() / b)
    }

    /// Whether it spent more than its budget: then the budget holds on average over a month (common practice, no source),
    /// and what is left over on one day is there on a later one.
    fn is_over(&self) -> bool {
        self.used().is_some_and(|used| used > OVER)
    }

    /// Money that the rest would have spent more, had it had it, with so much freed: the most, what is likely, the least.
    fn wanted(&self, freed: f64) -> [f64; 3] {
        let used = self.used().unwrap_or(0.0);
        let Some(lost) = self.lost else {
            let from = |share: f64| if used >= share { freed.max(0.0) } else { 0.0 };
            return [from(USED.1), from(USED.0), 0.0];
        };
        let others = (self.spend() - freed).max(0.0);
        TOLD.map(|times| {
            let lost = (lost * times).clamp(0.0, 0.99);
            others * lost / (1.0 - lost)
        })
    }

    /// Money that a higher budget would have spent more: the most, what is likely, the least.
    fn grows(&self, budget: f64) -> [f64; 3] {
        let used = self.used().unwrap_or(0.0);
        let more = self.budget.map_or(0.0, |b| (budget / b - 1.0).max(0.0) * self.spend());
        match self.lost {
            Some(_) => self.wanted(0.0).map(|wanted| wanted.min(more)),
            None if used >= USED.0 => [more, more, 0.0],
            None if used >= USED.1 => [more, 0.0, 0.0],
            None => [0.0; 3],
        }
    }
}

/// A campaign's days.
#[derive(Clone, Debug, Default)]
struct Own {
    days: BTreeMap<NaiveDate, CampaignDay>,
}

impl Own {
    /// Whether what a day leaves over is there on a later one of its month.
    fn carries(&self) -> bool {
        self.days.values().any(CampaignDay::is_over)
    }

    /// Money of its budgets that was not spent; none where they are not known.
    fn left(&self, days: impl RangeBounds<NaiveDate>) -> Option<f64> {
        self.days.range(days).map(|(_, day)| Some(day.budget? - day.spend())).sum()
    }
}

/// Each campaign's days.
#[derive(Clone, Debug, Default)]
pub struct Campaigns(HashMap<CampaignId, Own>);

/// Money that things would not have spent, all that a rule does together; below 0 what they would have spent more.
#[derive(Debug, Default)]
pub(super) struct Freed {
    /// By campaign and day.
    money: HashMap<CampaignId, BTreeMap<NaiveDate, Range>>,
    /// Conversions and their value that go with it.
    gone: HashMap<CampaignId, BTreeMap<NaiveDate, [f64; 2]>>,
}

impl Freed {
    pub(super) fn add(&mut self, campaign: CampaignId, alone: &Alone) {
        let of = self.money.entry(campaign).or_default();
        for (day, freed) in &alone.freed {
            let sum = of.entry(*day).or_insert(Range::NONE);
            *sum = sum.plus(*freed);
        }
        let gone = self.gone.entry(campaign).or_default();
        for (day, each) in &alone.gone_by_day {
            let sum = gone.entry(*day).or_default();
            sum.iter_mut().zip(each).for_each(|(sum, x)| *sum += x);
        }
    }
}

/// What the rest of a campaign would have made of it.
#[derive(Debug, Default)]
pub(super) struct Instead {
    /// The share that nobody spends instead, by day, at the least, the likely and the most that may be freed.
    pub kept: BTreeMap<NaiveDate, Range>,
    /// Conversions and their value that a unit of money brings the rest.
    pub brings: (f64, f64),
}

fn same_month(a: NaiveDate, b: NaiveDate) -> bool {
    (a.year(), a.month()) == (b.year(), b.month())
}

impl Campaigns {
    /// A campaign's day.
    pub fn add(&mut self, campaign: CampaignId, day: NaiveDate, of: CampaignDay) {
        self.0.entry(campaign).or_default().days.insert(day, of);
    }

    /// What the rest of each campaign would have made of what was freed.
    pub(super) fn instead(
        &self,
        freed: &Freed,
        days: Days,
        late: &Late,
    ) -> HashMap<CampaignId, Instead> {
        let none = Own::default();
        let nothing = BTreeMap::new();
        let of_campaign = |(campaign, money): (&CampaignId, &BTreeMap<NaiveDate, Range>)| {
            let own = self.0.get(campaign).unwrap_or(&none);
            let gone = freed.gone.get(campaign).unwrap_or(&nothing);
            let brings = brings(own, money, gone, days, late);
            (*campaign, Instead { kept: kept(own, money), brings })
        };
        freed.money.iter().map(of_campaign).collect()
    }

    /// The budget that stood on a day.
    pub(super) fn budget_on(&self, campaign: CampaignId, day: NaiveDate) -> Option<f64> {
        self.0.get(&campaign)?.days.get(&day)?.budget
    }

    /// Money that a campaign would not have spent, had its budget been another; below 0 it would have spent more.
    pub(super) fn under_budget(&self, campaign: CampaignId, window: Window, budget: f64) -> Range {
        let Some(own) = self.0.get(&campaign) else { return Range::NONE };
        let days: Vec<(NaiveDate, &CampaignDay)> =
            own.days.range(window.from()..=window.to()).map(|(day, of)| (*day, of)).collect();
        // As much as the mean of as many other days would differ, eight times of ten.
        let spread = days.iter().map(|(_, d)| d.spend()).std_dev();
        let other = normal_quantile(0.9) * spread * (ALIKE / days.len() as f64).sqrt();
        let other = if other.is_finite() { other } else { 0.0 };
        days.chunk_by(|a, b| own.carries() && same_month(a.0, b.0))
            .map(|days| {
                let stood: f64 = days.iter().map(|(_, d)| d.budget.unwrap_or(0.0)).sum();
                if budget * (days.len() as f64) < stood {
                    own.over(days, budget, other)
                } else {
                    grown(days, budget)
                }
            })
            .fold(Range::NONE, Range::plus)
    }
}

impl Own {
    /// Money of some days beyond a lower budget; what earlier days of the month left over may be spent still.
    fn over(&self, days: &[(NaiveDate, &CampaignDay)], budget: f64, other: f64) -> Range {
        let (first, n) = (days[0].0, days.len() as f64);
        let month = first.with_day(1).filter(|month| self.carries() && *month < first);
        let left = month.and_then(|month| self.left(month..first)).unwrap_or(0.0).max(0.0);
        let over = days.iter().map(|(_, d)| d.spend()).sum::<f64>() - n * budget - left;
        let [low, mid, high] = [-other, 0.0, other].map(|by| (over + n * by).max(0.0));
        Range { mid, around: Interval { low, high } }
    }
}

/// Money that days would have spent more of a higher budget, below 0.
fn grown(days: &[(NaiveDate, &CampaignDay)], budget: f64) -> Range {
    let mut more = [0.0; 3];
    for (_, day) in days {
        more.iter_mut().zip(day.grows(budget)).for_each(|(sum, x)| *sum += x);
    }
    let [most, mid, least] = more;
    Range { mid: -mid, around: Interval { low: -most, high: -least } }
}

/// The share of what things did not spend that nobody spends instead. With a share *l* of its auctions lost for want of
/// budget, what a campaign goes on with would have spent *l* ÷ (1 − *l*) of its day's money more. Where no channel tells
/// *l*, it takes on a day on which the budget was used up what was free that day. And what things spend more, beyond what is
/// left of the budget, they take from the others.
fn kept(own: &Own, freed: &BTreeMap<NaiveDate, Range>) -> BTreeMap<NaiveDate, Range> {
    let carries = own.carries();
    let days: Vec<(NaiveDate, Range)> = freed.iter().map(|(d, x)| (*d, *x)).collect();
    let mut all = BTreeMap::new();
    for days in days.chunk_by(|a, b| carries && same_month(a.0, b.0)) {
        let first = days[0].0;
        let until = |day: NaiveDate| if carries { same_month(day, first) } else { day == first };
        let on = || own.days.range(first..).take_while(|(day, _)| until(**day));
        let begins = if carries { first.with_day(1).unwrap_or(first) } else { first };
        let ends = on().map(|(day, _)| *day).last().unwrap_or(first);
        // At the least, the likely and the most that may be freed: the least, the likely and the most that is kept of it.
        let share = |freed_of: fn(&Range) -> f64| {
            let money: f64 = days.iter().map(|d| freed_of(&d.1)).sum();
            if money < 0.0 {
                let left = own.left(begins..=ends);
                return [left.map_or(1.0, |left| (left / -money).clamp(0.0, 1.0)); 3];
            }
            let mut wanted = [0.0; 3];
            for (day, of) in on() {
                let each = of.wanted(freed.get(day).map_or(0.0, freed_of));
                wanted.iter_mut().zip(each).for_each(|(sum, x)| *sum += x);
            }
            wanted.map(|wanted| 1.0 - (wanted / money.max(1e-9)).min(1.0))
        };
        let (low, mid, high) =
            (share(|f| f.around.low)[0], share(|f| f.mid)[1], share(|f| f.around.high)[2]);
        let range = Range { mid, around: Interval { low, high } };
        all.extend(days.iter().map(|(day, _)| (*day, range)));
    }
    all
}

/// Conversions and value that a unit of money brings what goes on of a campaign: by its complete days, each as often as
/// money was moved on it.
fn brings(
    own: &Own,
    freed: &BTreeMap<NaiveDate, Range>,
    gone: &BTreeMap<NaiveDate, [f64; 2]>,
    days: Days,
    late: &Late,
) -> (f64, f64) {
    let window = Window::new(days.from, days.known).and_then(|whole| days.complete(whole));
    let mut all = [0.0; 3];
    for (day, freed) in freed.iter().filter(|(day, _)| window.is_some_and(|w| w.contains(**day))) {
        let Some(of) = own.days.get(day) else { continue };
        let (weight, reported) = (freed.mid.abs(), late.reported(*day, days.known));
        let [conversions, value] = gone.get(day).copied().unwrap_or_default();
        let rest = [
            of.spend() - freed.mid,
            of.counted.conversions / reported - conversions,
            of.counted.value.to_units() / reported - value,
        ];
        all.iter_mut().zip(rest).for_each(|(sum, x)| *sum += weight * x);
    }
    let each = |of: f64| if all[0] > 0.0 { of.max(0.0) / all[0] } else { 0.0 };
    (each(all[1]), each(all[2]))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::money::Micros;

    const CAMPAIGN: CampaignId = CampaignId(1);

    /// September begins on day 1, October on day 31.
    fn date(n: u64) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, 8, 31).unwrap() + chrono::Days::new(n)
    }

    fn day(spend: f64, budget: f64, lost: Option<f64>) -> CampaignDay {
        let counted = Tally { spend: Micros::from_units(spend), ..Tally::default() };
        CampaignDay { budget: Some(budget), lost, counted }
    }

    fn own(days: &[(u64, CampaignDay)]) -> Own {
        Own { days: days.iter().map(|(n, of)| (date(*n), *of)).collect() }
    }

    fn freed(days: &[(u64, f64)]) -> BTreeMap<NaiveDate, Range> {
        days.iter().map(|(n, x)| (date(*n), Range::exactly(*x))).collect()
    }

    fn share(own: &Own, days: &[(u64, f64)], day: u64) -> Range {
        kept(own, &freed(days))[&date(day)]
    }

    #[track_caller]
    fn near(a: f64, b: f64) {
        assert!((a - b).abs() < 1e-9, "{a} instead of {b}");
    }

    #[test]
    fn with_money_to_spare_all_is_kept() {
        let own = own(&[(1, day(10.0, 20.0, Some(0.0)))]);
        assert_eq!(share(&own, &[(1, 4.0)], 1), Range::exactly(1.0));
    }

    /// Of 20 spent and a fifth of the auctions lost, what goes on with 16 would have spent a quarter more, 4.
    #[test]
    fn what_was_lost_for_want_of_budget_is_spent_instead() {
        let own = own(&[(1, day(20.0, 20.0, Some(0.2)))]);
        near(share(&own, &[(1, 4.0)], 1).mid, 0.0);
        // With 12 the rest would have spent 3 more of the 8 that are free.
        near(share(&own, &[(1, 8.0)], 1).mid, 1.0 - 3.0 / 8.0);
        // Told half and one and a half times as much: 0.1 of the auctions are 12 ÷ 9, 0.3 are 12 × 3 ÷ 7.
        let range = share(&own, &[(1, 8.0)], 1).around;
        near(range.high, 1.0 - 12.0 * (0.1 / 0.9) / 8.0);
        near(range.low, 1.0 - 12.0 * (0.3 / 0.7) / 8.0);
    }

    #[test]
    fn where_no_channel_tells_a_full_day_takes_what_is_free() {
        let own = own(&[
            (1, day(19.5, 20.0, None)),
            (2, day(17.0, 20.0, None)),
            (3, day(9.0, 20.0, None)),
        ]);
        let all = [(1, 3.0), (2, 3.0), (3, 3.0)];
        near(share(&own, &all, 1).mid, 0.0);
        near(share(&own, &all, 2).mid, 1.0);
        near(share(&own, &all, 2).around.low, 0.0);
        assert_eq!(share(&own, &all, 3), Range::exactly(1.0));
    }

    /// A day of 26 on a budget of 20 tells that budgets hold by the month: what is free on its quiet days is spent on
    /// the full ones.
    #[test]
    fn by_the_month_a_full_day_takes_what_other_days_left() {
        let days = [
            (1, day(26.0, 20.0, Some(0.5))),
            (2, day(10.0, 20.0, Some(0.0))),
            (3, day(26.0, 20.0, Some(0.5))),
        ];
        near(share(&own(&days), &[(2, 4.0)], 2).mid, 0.0);
        // Not so by the day, and not what a past day would have wanted.
        let by_day = [days[1], (3, day(20.0, 20.0, Some(0.5)))];
        near(share(&own(&by_day), &[(2, 4.0)], 2).mid, 1.0);
        near(share(&own(&days[..2]), &[(2, 4.0)], 2).mid, 1.0);
    }

    /// Of a higher bid's 8 a budget with 2 left pays 2; the other 6 are the others'.
    #[test]
    fn a_higher_bid_takes_what_is_left_then_the_others_money() {
        let one = own(&[(1, day(18.0, 20.0, Some(0.0)))]);
        near(share(&one, &[(1, -8.0)], 1).mid, 0.25);
        near(share(&one, &[(1, -1.0)], 1).mid, 1.0);
        // By the month, days before count too: 10 were left on the first, 6 too many spent on the second.
        let month = own(&[(1, day(10.0, 20.0, None)), (2, day(26.0, 20.0, None))]);
        near(share(&month, &[(2, -8.0)], 2).mid, 0.5);
        // Without a budget nothing holds it.
        let free = CampaignDay { budget: None, ..day(18.0, 20.0, None) };
        near(share(&own(&[(1, free)]), &[(1, -8.0)], 1).mid, 1.0);
    }

    fn under(days: &[(u64, CampaignDay)], from: u64, to: u64, budget: f64) -> Range {
        let campaigns = Campaigns(HashMap::from([(CAMPAIGN, own(days))]));
        campaigns.under_budget(CAMPAIGN, Window::new(date(from), date(to)).unwrap(), budget)
    }

    #[test]
    fn a_lower_budget_keeps_what_is_over_it() {
        let days = [(1, day(20.0, 20.0, None)), (2, day(12.0, 20.0, None))];
        near(under(&days, 1, 2, 16.0).mid, 4.0);
        near(under(&days, 1, 2, 10.0).mid, 12.0);
        // The month lends: 8 were left before, so that two days of 26 on 20 are 4 over 2 × 20 + 8, and 16 over 14 a day.
        let month =
            [(1, day(12.0, 20.0, None)), (2, day(26.0, 20.0, None)), (3, day(26.0, 20.0, None))];
        near(under(&month, 2, 3, 19.999).mid, 52.0 - 39.998 - 8.0);
        near(under(&month, 2, 3, 14.0).mid, 16.0);
        // In another month nothing is left of it.
        let next = [(30, day(12.0, 20.0, None)), (31, day(26.0, 20.0, None))];
        near(under(&next, 31, 31, 19.0).mid, 7.0);
    }

    #[test]
    fn a_higher_budget_is_spent_as_far_as_there_is_something_to_buy() {
        // A tenth of the auctions lost is 20 ÷ 9 more; without word of it a full day spends all.
        near(under(&[(1, day(20.0, 20.0, Some(0.1)))], 1, 1, 30.0).mid, -20.0 / 9.0);
        near(under(&[(1, day(20.0, 20.0, Some(0.6)))], 1, 1, 30.0).mid, -10.0);
        let untold = under(&[(1, day(20.0, 20.0, None))], 1, 1, 30.0);
        assert_eq!((untold.mid, untold.around), (-10.0, Interval { low: -10.0, high: 0.0 }));
        assert_eq!(under(&[(1, day(9.0, 20.0, None))], 1, 1, 30.0), Range::exactly(-0.0));
        // It is held against what stood on the day, whatever the rule had set before.
        near(under(&[(1, day(20.0, 20.0, None))], 1, 1, 24.0).mid, -4.0);
    }

    /// Each day's money counts as often as money was moved on it.
    #[test]
    fn moved_money_brings_what_it_brings_the_rest_on_its_days() {
        let brought = |spend, conversions| {
            let of = day(spend, 50.0, None);
            CampaignDay { counted: Tally { conversions, ..of.counted }, ..of }
        };
        let days = Days { from: date(1), to: date(9), known: date(9), settle: 2 };
        let own =
            own(&[(1, brought(30.0, 3.0)), (2, brought(30.0, 1.0)), (9, brought(30.0, 99.0))]);
        let freed = freed(&[(1, 10.0), (2, 30.0 / 2.0), (9, 5.0)]);
        let gone = BTreeMap::from([(date(1), [1.0, 0.0])]);
        let (each, _) = brings(&own, &freed, &gone, days, &Late::default());
        // Day 1: 2 of 20, ten times; day 2: 1 of 15, fifteen times. Day 9 is not complete.
        near(each, (10.0 * 2.0 + 15.0 * 1.0) / (10.0 * 20.0 + 15.0 * 15.0));
    }
}
