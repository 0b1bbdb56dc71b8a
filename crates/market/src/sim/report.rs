//! The reports by items and by conversions, as they stand at the end of the market's last day.

use std::borrow::Cow;

use chrono::NaiveDate;
use rand::RngExt;
use tiller_channel::Micros;
use tiller_channel::report::{ReportRow, ReportWriter};
use tiller_channel::wire::ConversionRow;
use tiller_core::setting::Strategy;

use super::campaign::{CampaignDay, CampaignSim, Home, StreamDay, events};
use super::chance::{number, rng};
use super::market::{AccountSim, Market};

/// A campaign's day with what surrounds it.
pub(super) struct Visit<'m> {
    pub home: Home<'m>,
    pub sim: &'m CampaignSim,
    pub day: &'m CampaignDay,
    /// Whether each of the account's events is counted by the campaign.
    pub counted: Vec<bool>,
    /// Days from the click day to the market's last.
    pub age: u16,
}

impl Visit<'_> {
    /// Conversions that are reported by now and counted, and their value.
    pub fn results(&self, s: &StreamDay) -> (u32, Micros) {
        s.results
            .iter()
            .filter(|r| r.age <= self.age && self.counted[usize::from(r.event)])
            .fold((0, Micros::ZERO), |(n, v), r| (n + r.count, v + r.value))
    }
}

impl Market {
    /// The days of an account's campaigns at a channel (all if none is named), day after day.
    pub(super) fn visits<'m>(
        &'m self,
        sim: &'m AccountSim,
        channel: Option<&'m str>,
        from: NaiveDate,
        to: NaiveDate,
    ) -> impl Iterator<Item = Visit<'m>> {
        let account = self.of_world(sim);
        let events = events(account);
        let to = to.min(self.today);
        let here: Vec<(&CampaignSim, Vec<bool>)> = sim
            .campaigns
            .iter()
            .filter(|c| channel.is_none_or(|n| account.campaigns[c.index].channel == n))
            .map(|c| (c, events.iter().map(|e| c.settings.counts.contains(&e.name)).collect()))
            .collect();
        from.iter_days().take_while(move |d| *d <= to).flat_map(move |date| {
            here.iter()
                .filter_map(|(campaign, counted)| {
                    let last = campaign.days.last()?.at.date;
                    let back = usize::try_from((last - date).num_days()).ok()?;
                    let place = campaign.days.len().checked_sub(back + 1)?;
                    Some(Visit {
                        home: Home {
                            world: &self.world,
                            account,
                            campaign: &account.campaigns[campaign.index],
                        },
                        sim: campaign,
                        day: &campaign.days[place],
                        counted: counted.clone(),
                        age: (self.today - date).num_days().clamp(0, i64::from(u16::MAX)) as u16,
                    })
                })
                .collect::<Vec<_>>()
        })
    }

    /// The report by items.
    pub fn items<'m>(
        &'m self,
        sim: &'m AccountSim,
        channel: Option<&'m str>,
        from: NaiveDate,
        to: NaiveDate,
    ) -> impl Iterator<Item = ReportRow<'m>> {
        self.visits(sim, channel, from, to).flat_map(|visit| {
            let (lost_to_budget, lost_to_bid) = lost(&visit);
            let target = |f: fn(Strategy) -> Option<Micros>| f(visit.day.strategy);
            let rows: Vec<ReportRow> = visit
                .day
                .streams
                .iter()
                .zip(&visit.sim.streams)
                .filter(|(s, _)| s.impressions > 0)
                .map(|(s, stream)| {
                    let (conversions, value) = visit.results(s);
                    ReportRow {
                        date: visit.day.at.date,
                        channel: Cow::Borrowed(&visit.home.campaign.channel),
                        campaign: Cow::Borrowed(&visit.home.campaign.name),
                        ad_group: Cow::Borrowed(
                            &visit.home.campaign.ad_groups[stream.ad_group].name,
                        ),
                        kind: stream.kind,
                        item: Cow::Borrowed(&stream.item),
                        match_type: stream.match_type,
                        impressions: i64::from(s.impressions),
                        clicks: i64::from(s.clicks),
                        spend: s.spend,
                        conversions: Micros::new(i64::from(conversions) * 1_000_000),
                        value,
                        bid: Some(s.bid),
                        budget: Some(visit.day.budget),
                        target_cpa: target(|s| match s {
                            Strategy::TargetCpa { target } => Some(target),
                            _ => None,
                        }),
                        target_roas: target(|s| match s {
                            Strategy::TargetRoas { target } => Some(Micros::from_units(target)),
                            _ => None,
                        }),
                        status: Some(visit.day.status),
                        lost_to_budget: Some(lost_to_budget),
                        lost_to_bid: Some(lost_to_bid),
                    }
                })
                .collect();
            rows
        })
    }

    /// The whole history of an account, all channels, as CSV in the form of a report file.
    pub fn history(&self, sim: &AccountSim) -> std::io::Result<Vec<u8>> {
        let currency = self
            .of_world(sim)
            .currency
            .parse()
            .map_err(|e| std::io::Error::new(std::io::ErrorKind::InvalidData, e))?;
        let mut writer = ReportWriter::new(Vec::new(), currency)?;
        for row in self.items(sim, None, self.first(), self.today) {
            writer.write(&row)?;
        }
        writer.finish()
    }

    /// The report by conversions: every event, counted or not.
    pub fn conversions<'m>(
        &'m self,
        sim: &'m AccountSim,
        channel: &'m str,
        from: NaiveDate,
        to: NaiveDate,
    ) -> impl Iterator<Item = ConversionRow> + 'm {
        let names: Vec<String> = events(self.of_world(sim)).into_iter().map(|e| e.name).collect();
        self.visits(sim, Some(channel), from, to).flat_map(move |visit| {
            let rows: Vec<ConversionRow> = visit
                .day
                .streams
                .iter()
                .zip(&visit.sim.streams)
                .flat_map(|(s, stream)| s.results.iter().map(move |r| (r, stream)))
                .filter(|(r, _)| r.age <= visit.age)
                .map(|(r, stream)| ConversionRow {
                    date: visit.day.at.date,
                    campaign: visit.home.campaign.name.clone(),
                    ad_group: visit.home.campaign.ad_groups[stream.ad_group].name.clone(),
                    kind: stream.kind,
                    item: stream.item.clone(),
                    match_type: stream.match_type,
                    event: names[usize::from(r.event)].clone(),
                    age_days: r.age,
                    conversions: f64::from(r.count),
                    value: r.value.to_units(),
                    counted: visit.counted[usize::from(r.event)],
                })
                .collect();
            rows
        })
    }
}

/// What a channel says of lost auctions: a little noisy, in whole percent.
fn lost(visit: &Visit) -> (Micros, Micros) {
    let purpose = [
        6,
        number(&visit.home.account.key),
        visit.sim.index as u64,
        visit.day.at.number(visit.home.world),
    ];
    let mut rng = rng(visit.home.world.seed, &purpose);
    let mut told = |share: f64| {
        if share <= 0.0 {
            return Micros::ZERO;
        }
        let noisy = share + rng.random_range(-0.012..0.012);
        Micros::new((noisy.clamp(0.0, 1.0) * 100.0).round() as i64 * 10_000)
    };
    (told(visit.day.lost_to_budget), told(visit.day.lost_to_bid))
}
