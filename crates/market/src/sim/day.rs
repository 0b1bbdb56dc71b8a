//! A day of an account: bids, budgets, draws; and the report of it as it stands on a later day.

use std::borrow::Cow;

use chrono::{Datelike, Days, NaiveDate};
use rand_distr::{Binomial, Distribution, LogNormal, Poisson};
use tiller_channel::Micros;
use tiller_channel::report::{ReportRow, Status};

use super::auction::Competition;
use super::stream::{Stream, account_number, rng, streams};
use crate::world::{Account, Campaign, Strategy, World};

/// Where the history stands in the calendar.
#[derive(Clone, Copy, Debug)]
pub struct Calendar {
    /// Last day of the history: launches and silences of the world file count back from it.
    pub ends: NaiveDate,
    /// The day at whose end the report is drawn: later ones have more conversions.
    pub seen: NaiveDate,
}

/// The rows of a whole history that ends on `last`, as reported at the end of that day.
pub fn report<'w>(
    world: &'w World,
    account: &'w Account,
    last: NaiveDate,
) -> impl Iterator<Item = ReportRow<'w>> {
    let streams = streams(world, account);
    let first = last.checked_sub_days(Days::new(u64::from(world.days.max(1)) - 1)).unwrap_or(last);
    let calendar = Calendar { ends: last, seen: last };
    first
        .iter_days()
        .take_while(move |d| *d <= last)
        .flat_map(move |date| day(world, account, &streams, date, calendar))
}

/// One day's rows.
pub fn day<'w>(
    world: &'w World,
    account: &'w Account,
    streams: &[Stream<'w>],
    date: NaiveDate,
    calendar: Calendar,
) -> Vec<ReportRow<'w>> {
    let before_end = (calendar.ends - date).num_days();
    account
        .campaigns
        .iter()
        .enumerate()
        .filter(|(_, c)| c.launched.is_none_or(|l| before_end <= i64::from(l)))
        .flat_map(|(i, c)| {
            let own: Vec<(usize, &Stream)> =
                streams.iter().enumerate().filter(|(_, s)| s.campaign == i).collect();
            campaign_day(world, account, c, &own, date, calendar)
        })
        .collect()
}

fn campaign_day<'w>(
    world: &'w World,
    account: &'w Account,
    campaign: &'w Campaign,
    streams: &[(usize, &Stream<'w>)],
    date: NaiveDate,
    calendar: Calendar,
) -> Vec<ReportRow<'w>> {
    let before_end = (calendar.ends - date).num_days();
    let age = (calendar.seen - date).num_days().max(0) as i32;
    let day = date.num_days_from_ce() as u64;
    let swing = demand(world, account, campaign, date, before_end);
    // The channel's prediction starts wrong and has sharpened long ago for campaigns that ran before.
    let known =
        campaign.launched.map_or(1.0, |l| (i64::from(l) - before_end) as f64 / 14.0).min(1.0);
    let predicted = |s: &Stream| campaign.cvr * (s.cvr * known + (1.0 - known) * 0.8);
    let bid = |s: &Stream| match campaign.strategy {
        Strategy::ManualCpc { bid } => bid,
        Strategy::TargetCpa { target, ceiling } => {
            (target * predicted(s)).min(ceiling.unwrap_or(f64::INFINITY))
        }
    };
    let meets = |s: &Stream| Competition {
        median: campaign.competition * s.competition,
        spread: campaign.spread,
    };
    let expected: f64 = streams
        .iter()
        .map(|(_, s)| {
            let bid = bid(s);
            campaign.auctions
                * swing
                * s.share
                * meets(s).wins(bid)
                * campaign.ctr
                * s.ctr
                * meets(s).price(bid)
        })
        .sum();
    // Even pacing stands aside from a share of the auctions, so that the money lasts the day.
    let throttle = (campaign.budget / expected).min(1.0);
    streams
        .iter()
        .map(|(number, s)| {
            let mut rng = rng(world, &[2, account_number(account), *number as u64, day]);
            let bid = bid(s);
            let auctions = campaign.auctions * swing * s.share * throttle * meets(s).wins(bid);
            let impressions =
                Poisson::new(auctions.max(1e-9)).map_or(0.0, |d| d.sample(&mut rng)) as u64;
            let draw = |n: u64, p: f64, rng: &mut _| {
                Binomial::new(n, p.clamp(0.0, 1.0)).map_or(0, |d| d.sample(rng))
            };
            let clicks = draw(impressions, campaign.ctr * s.ctr, &mut rng);
            let converted = draw(clicks, campaign.cvr * s.cvr, &mut rng);
            let unreported = (1.0 - campaign.promptness).powi(age + 1);
            let conversions = if before_end < i64::from(campaign.silent) {
                0
            } else {
                draw(converted, 1.0 - unreported, &mut rng)
            };
            let worth = LogNormal::new(-0.08, 0.4).ok();
            let value: f64 = (0..conversions)
                .map(|_| campaign.value * s.value * worth.map_or(1.0, |d| d.sample(&mut rng)))
                .sum();
            let cents = |units: f64| Micros::new((units * 100.0).round() as i64 * 10_000);
            ReportRow {
                date,
                channel: Cow::Borrowed(&campaign.channel),
                campaign: Cow::Borrowed(&campaign.name),
                ad_group: Cow::Borrowed(s.ad_group),
                kind: campaign.kind,
                item: Cow::Owned(s.item.clone()),
                match_type: s.match_type,
                impressions: impressions as i64,
                clicks: clicks as i64,
                spend: cents(clicks as f64 * meets(s).price(bid)),
                conversions: Micros::new(conversions as i64 * 1_000_000),
                value: cents(value),
                bid: Some(cents(bid)),
                budget: Some(cents(campaign.budget)),
                target_cpa: match campaign.strategy {
                    Strategy::TargetCpa { target, .. } => Some(cents(target)),
                    Strategy::ManualCpc { .. } => None,
                },
                target_roas: None,
                status: Some(Status::Active),
            }
        })
        .filter(|row| row.impressions > 0)
        .collect()
}

/// Season, weekday and the day's own luck, around 1.
fn demand(
    world: &World,
    account: &Account,
    campaign: &Campaign,
    date: NaiveDate,
    before_end: i64,
) -> f64 {
    // The season follows the day of the history, so that the demo looks alike whenever it is made.
    let along = 1.0 - before_end as f64 / f64::from(world.days.max(1));
    let season = 1.0 + 0.18 * (std::f64::consts::TAU * (along * 0.9 - 0.2)).sin();
    let weekday = if date.weekday().number_from_monday() >= 6 { campaign.weekend } else { 1.0 };
    let mut rng = rng(world, &[3, account_number(account), date.num_days_from_ce() as u64]);
    season * weekday * LogNormal::new(-0.005, 0.1).map_or(1.0, |d| d.sample(&mut rng))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::world::AMBERFOLD;

    fn last() -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, 11, 9).unwrap()
    }

    fn at(seen: NaiveDate) -> Calendar {
        Calendar { ends: last(), seen }
    }

    #[test]
    fn the_same_seed_gives_the_same_day_whatever_came_before() {
        let world = World::parse(AMBERFOLD).unwrap();
        let account = &world.accounts[1];
        let streams = streams(&world, account);
        let alone = day(&world, account, &streams, last(), at(last()));
        let in_order: Vec<_> =
            report(&world, account, last()).filter(|r| r.date == last()).collect();
        assert_eq!(alone, in_order);
        let other = World { seed: world.seed + 1, ..world.clone() };
        assert_ne!(
            day(
                &other,
                &other.accounts[1],
                &super::streams(&other, &other.accounts[1]),
                last(),
                at(last())
            ),
            alone
        );
    }

    #[test]
    fn no_click_costs_more_than_its_bid_and_counts_nest() {
        let world = World::parse(AMBERFOLD).unwrap();
        for row in report(&world, &world.accounts[0], last()) {
            let most = row.bid.unwrap().to_units() * row.clicks as f64 + 0.01;
            assert!(row.spend.to_units() <= most, "{row:?}");
            assert!(
                row.clicks <= row.impressions && row.conversions.get() <= row.clicks * 1_000_000,
                "{row:?}"
            );
        }
    }

    #[test]
    fn later_reports_of_a_day_never_take_conversions_back() {
        let world = World::parse(AMBERFOLD).unwrap();
        let account = &world.accounts[1];
        let streams = streams(&world, account);
        let total = |seen: NaiveDate| -> i64 {
            day(&world, account, &streams, last(), at(seen))
                .iter()
                .map(|r| r.conversions.get())
                .sum()
        };
        let after = last().checked_add_days(Days::new(5)).unwrap();
        assert!(total(after) > total(last()), "{} {}", total(after), total(last()));
    }

    #[test]
    fn a_silent_tag_reports_nothing() {
        let world = World::parse(AMBERFOLD).unwrap();
        let silences = |a: &&Account| a.campaigns.iter().any(|c| c.silent > 0);
        let account = world.accounts.iter().find(silences).unwrap();
        let silent = account.campaigns.iter().find(|c| c.silent > 0).unwrap();
        let quiet = report(&world, account, last()).filter(|r| r.campaign == silent.name.as_str());
        let (mut before, mut since) = (0, 0);
        for row in quiet {
            let ago = (last() - row.date).num_days() as u32;
            *(if ago < silent.silent { &mut since } else { &mut before }) += row.conversions.get();
        }
        assert_eq!(since, 0);
        assert!(before > 0);
    }
}
