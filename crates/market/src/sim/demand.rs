//! Demand over time: season, weekday, hour, the day's own luck, unrest, and shocks.

use chrono::{Datelike, NaiveDate};

use super::chance::{around, number, rng};
use super::unrest::{Moved, unrest};
use crate::world::{Account, Campaign, Shock, ShockKind, World};

/// Where a day stands in a history.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Moment {
    /// The day.
    pub date: NaiveDate,
    /// Days since the last day of the history; negative before it.
    pub since: i64,
}

impl Moment {
    /// Days since the first day of the history.
    pub fn number(self, world: &World) -> u64 {
        (self.since + i64::from(world.days) - 1).max(0) as u64
    }
}

/// What a campaign meets on a day.
#[derive(Clone, Debug, PartialEq)]
pub struct Weather {
    /// Auctions over those of the world file.
    pub demand: f64,
    /// Competition over it.
    pub competition: f64,
    /// Conversion rate over it.
    pub cvr: f64,
    /// Conversions of this day are never reported.
    pub silent: bool,
}

/// What the world has in store for a campaign on a day.
pub fn weather(world: &World, account: &Account, campaign: &Campaign, at: Moment) -> Weather {
    let mut weather = expected(world, account, campaign, at);
    let mut rng = rng(world.seed, &[3, number(&account.key), at.number(world)]);
    weather.demand *= around(0.1, &mut rng);
    let day = at.number(world);
    weather.demand *= unrest(world, account, campaign, Moved::Demand, day);
    weather.cvr *= unrest(world, account, campaign, Moved::Cvr, day);
    weather
}

/// The same without the day's own luck.
pub fn expected(world: &World, account: &Account, campaign: &Campaign, at: Moment) -> Weather {
    // The season follows the day of the history, so that the demo looks alike whenever it is made.
    let along = 1.0 + at.since as f64 / f64::from(world.days.max(1));
    let season = 1.0 + campaign.season * (std::f64::consts::TAU * (along * 0.9 - 0.2)).sin();
    let weekday = if at.date.weekday().number_from_monday() >= 6 { campaign.weekend } else { 1.0 };
    let shocks = account.shocks.iter().filter(|s| meets(s, campaign, at.since));
    shocks.fold(
        Weather { demand: season * weekday, competition: 1.0, cvr: 1.0, silent: false },
        |mut w, s| {
            match s.kind {
                ShockKind::Silent => w.silent = true,
                ShockKind::Demand => w.demand *= s.factor,
                ShockKind::Competition => w.competition *= s.factor,
                ShockKind::Cvr => w.cvr *= s.factor,
            }
            w
        },
    )
}

fn meets(shock: &Shock, campaign: &Campaign, since: i64) -> bool {
    shock.from <= since
        && shock.to.is_none_or(|to| since <= to)
        && shock.campaign.as_ref().is_none_or(|c| *c == campaign.name)
        && shock.channel.as_ref().is_none_or(|c| *c == campaign.channel)
}

/// Shares of a day's demand by hour, and the conversion rate by hour over the day's.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Day {
    /// Adds up to 1.
    pub demand: [f64; 24],
    /// Its mean over the demand is 1.
    pub cvr: [f64; 24],
}

/// The day of a campaign by its rhythm: its own, else its channel's, else a level one.
pub fn day(world: &World, campaign: &Campaign) -> Day {
    let channel = world.channel(&campaign.channel).map(|c| c.rhythm.as_str()).unwrap_or_default();
    let name = campaign.rhythm.as_deref().unwrap_or(channel);
    let mut day = Day { demand: [1.0 / 24.0; 24], cvr: [1.0; 24] };
    let Some(rhythm) = world.rhythms.iter().find(|r| r.name == name) else { return day };
    let all: f64 = rhythm.demand.iter().sum();
    for (share, d) in day.demand.iter_mut().zip(&rhythm.demand) {
        *share = d / all;
    }
    if !rhythm.cvr.is_empty() {
        let mean: f64 = day.demand.iter().zip(&rhythm.cvr).map(|(d, c)| d * c).sum();
        for (rate, c) in day.cvr.iter_mut().zip(&rhythm.cvr) {
            *rate = c / mean.max(1e-9);
        }
    }
    day
}
