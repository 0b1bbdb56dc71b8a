//! All accounts of a world, from the first day of its history up to a day.

use std::sync::Arc;

use chrono::{Days, NaiveDate};
use tiller_channel::Micros;
use tiller_channel::wire::{Answer, Change, ChannelInfo, Refusal};
use tiller_core::setting::{CampaignSettings, Limits, Setting, shared};

use super::apply::{Refused, apply};
use super::campaign::{CampaignSim, Home};
use super::day::live;
use super::demand::Moment;
use crate::world::{Account, World};

/// An account with its campaigns.
#[derive(Clone, Debug)]
pub struct AccountSim {
    /// Place in the world.
    pub index: usize,
    /// Its campaigns, in the world file's order.
    pub campaigns: Vec<CampaignSim>,
}

/// A market.
#[derive(Clone, Debug)]
pub struct Market {
    /// The world that it runs.
    pub world: Arc<World>,
    /// Last day of the history.
    pub ends: NaiveDate,
    /// Last day that is over.
    pub today: NaiveDate,
    /// Its accounts.
    pub accounts: Vec<AccountSim>,
}

impl Market {
    /// A market whose history has been lived through and ends on `ends`, or where the world's own first
    /// day puts its end.
    pub fn begin(world: Arc<World>, ends: NaiveDate) -> Self {
        let length = Days::new(u64::from(world.days.max(1)) - 1);
        let ends = world.first_day.and_then(|d| d.checked_add_days(length)).unwrap_or(ends);
        let before = ends.checked_sub_days(length).and_then(|d| d.pred_opt()).unwrap_or(ends);
        let accounts = world
            .accounts
            .iter()
            .enumerate()
            .map(|(index, account)| AccountSim {
                index,
                campaigns: account
                    .campaigns
                    .iter()
                    .enumerate()
                    .map(|(i, campaign)| {
                        CampaignSim::begin(Home { world: &world, account, campaign }, i, ends)
                    })
                    .collect(),
            })
            .collect();
        let mut market = Self { world, ends, today: before, accounts };
        market.pass(u64::from(market.world.days));
        market
    }

    /// Lets days pass.
    pub fn pass(&mut self, days: u64) {
        for _ in 0..days {
            let Some(next) = self.today.succ_opt() else { return };
            let at = Moment { date: next, since: (next - self.ends).num_days() };
            for sim in &mut self.accounts {
                let account = &self.world.accounts[sim.index];
                for campaign in &mut sim.campaigns {
                    let home = Home {
                        world: &self.world,
                        account,
                        campaign: &account.campaigns[campaign.index],
                    };
                    live(campaign, home, at);
                }
            }
            self.today = next;
        }
    }

    /// First day of the history.
    pub fn first(&self) -> NaiveDate {
        self.ends
            .checked_sub_days(Days::new(u64::from(self.world.days.max(1)) - 1))
            .unwrap_or(self.ends)
    }

    /// Days since the end of the history.
    pub fn since(&self) -> i64 {
        (self.today - self.ends).num_days()
    }

    /// The account that a token opens.
    pub fn account_of(&self, token: &str) -> Option<&AccountSim> {
        let index =
            self.world.accounts.iter().position(|a| !a.token.is_empty() && a.token == token)?;
        self.accounts.get(index)
    }

    /// The account of a key.
    pub fn account(&self, key: &str) -> Option<&AccountSim> {
        self.accounts.iter().find(|a| self.world.accounts[a.index].key == key)
    }

    /// What the world file says of an account.
    pub fn of_world(&self, sim: &AccountSim) -> &Account {
        &self.world.accounts[sim.index]
    }

    /// A channel's name and limits.
    pub fn channel(&self, name: &str) -> ChannelInfo {
        let units = |x: f64| Micros::from_units(x);
        let limits = self.world.channel(name).map_or(Limits::default(), |c| Limits {
            least_bid: units(c.least_bid),
            least_budget: units(c.least_budget),
            hours_need_lifetime: c.hours_need_lifetime,
            changes_per_hour: c.changes_per_hour,
        });
        ChannelInfo { name: name.to_owned(), limits }
    }

    /// Makes a change to an account at a channel, from tomorrow on, or refuses it.
    pub fn change(&mut self, account: usize, channel: &str, change: &Change) -> Answer {
        let answer = |refused: Option<Refusal>, message: String| Answer {
            id: change.id.clone(),
            refused,
            message,
        };
        if let Some(was) = &change.was {
            let structure = self.structure(&self.accounts[account], channel);
            match structure.present(&change.place, &change.set) {
                Some(is) if is == *was => {}
                Some(_) => {
                    return answer(
                        Some(Refusal::ChangedMeanwhile),
                        "something else has been set there meanwhile; look at it and decide again"
                            .into(),
                    );
                }
                None if structure.campaign(&change.place.campaign).is_none() => {}
                None => return answer(Some(Refusal::NotHere), "this can’t be set there".into()),
            }
        }
        let of_world = &self.world.accounts[account];
        let found = self.accounts[account].campaigns.iter().position(|c| {
            c.key == change.place.campaign && of_world.campaigns[c.index].channel == channel
        });
        let Some(at) = found else {
            return answer(Some(Refusal::NoSuchPlace), "there is no such campaign".into());
        };
        match self.make(account, channel, at, change) {
            Ok(()) => answer(None, String::new()),
            Err((refusal, message)) => answer(Some(refusal), message),
        }
    }

    /// Makes a change to a campaign, with what it sets besides where a strategy is shared.
    fn make(
        &mut self,
        account: usize,
        channel: &str,
        at: usize,
        change: &Change,
    ) -> Result<(), Refused> {
        let whole = change.place.ad_group.is_none();
        let campaigns = &self.world.accounts[account].campaigns;
        let here = self.accounts[account].campaigns.iter().enumerate();
        let here = here.filter(|(_, c)| campaigns[c.index].channel == channel);
        let here: Vec<(usize, &CampaignSettings)> = here.map(|(i, c)| (i, &c.settings)).collect();
        let own = &self.accounts[account].campaigns[at].settings;
        let exists = matches!(&change.set, Setting::Shared(name)
            if here.iter().any(|(i, c)| *i != at && c.shared == *name));
        if let Some(why) = shared::barred(&change.set, own, exists).filter(|_| whole) {
            return Err((Refusal::BadValue, why.into()));
        }
        let also =
            if whole { shared::implied(at, &change.set, here.iter().copied()) } else { Vec::new() };
        self.apply(account, channel, at, change)?;
        for (at, set) in also {
            let change = Change { set, ..change.clone() };
            self.apply(account, channel, at, &change)?;
        }
        Ok(())
    }

    fn apply(
        &mut self,
        account: usize,
        channel: &str,
        at: usize,
        change: &Change,
    ) -> Result<(), Refused> {
        let (limits, since) = (self.channel(channel).limits, self.since());
        let account = &mut self.accounts[account];
        let of_world = &self.world.accounts[account.index];
        let sim = &mut account.campaigns[at];
        let campaign = &of_world.campaigns[sim.index];
        let home = Home { world: &self.world, account: of_world, campaign };
        apply(sim, home, &limits, change, since)
    }
}
