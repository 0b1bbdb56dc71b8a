//! What rules stand on: the account's book, its settings, and the days of what they look at.

use std::collections::HashMap;
use std::sync::Arc;

use chrono::{Days, NaiveDate};
use tiller_core::custom_rule::{Over, Than, Things as Level};
use tiller_core::history::History;
use tiller_core::ids::{AdGroupId, CampaignId, ItemId};
use tiller_core::rehearsal::Thing;
use tiller_core::rule::{Body, Rule};
use tiller_core::setting::{Budget, Setting, Status};
use tiller_core::spot::Spot;
use tiller_core::{Currency, Micros, MoneyError, Price, Tally, Window};
use tiller_store::PgPool;
use tiller_store::people::Account;
use tiller_store::rules as store;

use super::file::Names;
use super::things::{ItemDays, OfCampaign, Things};
use crate::DeskError;
use crate::account::settings::Settings;
use crate::book::{Book, PeriodChoice};
use crate::volume::{self, Volumes};

/// An account as its rules see it.
pub struct Ground {
    /// Its book.
    pub book: Arc<Book>,
    /// What is set.
    pub settings: Settings,
    volumes: Arc<Volumes>,
}

impl Ground {
    /// As it is now; none without reports.
    pub async fn load(db: &PgPool, account: &Account) -> Result<Option<Self>, DeskError> {
        let Some(book) = Book::load(db, account, PeriodChoice::default()).await? else {
            return Ok(None);
        };
        Ok(Some(Self::of_book(db, book).await?))
    }

    /// Of a book.
    pub async fn of_book(db: &PgPool, book: Arc<Book>) -> Result<Self, DeskError> {
        let settings = Settings::of_book(db, &book).await?;
        let volumes = volume::of_account(db, &book).await?;
        Ok(Self { book, settings, volumes })
    }

    /// The last day that is known.
    pub fn last_day(&self) -> NaiveDate {
        self.book.span.to()
    }

    /// Days until conversions count as complete.
    pub fn settle(&self) -> u64 {
        self.book.account.settle_days()
    }

    /// What holds for all that is in a campaign.
    fn campaigns(&self) -> HashMap<CampaignId, OfCampaign<'_>> {
        let window = self.book.settled().unwrap_or(self.book.period.window);
        let of = |e: &'_ crate::book::Entry| {
            let rules = e.target.map(|target| e.rules(target, window));
            (rules.map_or(1.0, |r| r.dispersion), e.tally(window).aov())
        };
        self.book
            .entries
            .iter()
            .map(|e| {
                let (dispersion, aov) = of(e);
                let set = self.settings.campaign(e.campaign.id);
                let campaign = OfCampaign {
                    name: &e.campaign.name,
                    channel: &e.campaign.channel,
                    target: e.target,
                    dispersion: dispersion.max(1.0),
                    aov,
                    by_hand: set.map(|set| !set.strategy.automatic()),
                    volume: self.volumes.get(e.campaign.id),
                };
                (e.campaign.id, campaign)
            })
            .collect()
    }

    /// What a rule looks at, with its days in a window.
    pub async fn things(
        &self,
        db: &PgPool,
        rule: &Rule,
        window: Window,
    ) -> Result<Things, DeskError> {
        let (account, within) = (self.book.account.id, rule.campaigns());
        let level = rule.things();
        let items: Vec<ItemDays> = if level == Level::Terms {
            let terms = store::term_histories(db, account, within, window).await?;
            let group = |spot: Spot| spot.ad_group.and_then(|g| self.settings.group_name(g));
            let of = |(spot, text, history): (Spot, String, History)| ItemDays {
                ad_group: group(spot).unwrap_or_default().to_owned(),
                item: text,
                spot,
                history,
            };
            terms.into_iter().map(of).collect()
        } else {
            let mut names: HashMap<ItemId, (String, String)> = HashMap::new();
            for named in store::names(db, account, within).await? {
                if let Some((id, name)) = named.spot.item.zip(named.item) {
                    names.insert(id, (named.ad_group, name));
                }
            }
            let histories = store::histories(db, account, within, window).await?;
            let of = |(spot, history): (Spot, History)| {
                let name = spot.item.and_then(|i| names.remove(&i)).unwrap_or_default();
                ItemDays { spot, ad_group: name.0, item: name.1, history }
            };
            histories.into_iter().map(of).collect()
        };
        let currency: Result<Currency, MoneyError> = self.book.account.currency.parse();
        let currency = currency.map_err(|e| DeskError::Invalid(e.to_string()))?;
        let mut things = Things::of(level, items, currency, &self.campaigns());
        self.add_campaign_days(&mut things, window);
        Ok(things)
    }

    /// Items with what was counted in one window, without their days: all that a bid rule needs for one run.
    pub(super) fn of_window(&self, counted: Vec<(Spot, Tally)>) -> (Vec<Thing>, Vec<Tally>) {
        let campaigns = self.campaigns();
        let thing = |(spot, tally): (Spot, Tally)| {
            let of = campaigns.get(&spot.campaign)?;
            let thing = Thing {
                spot,
                history: History::default(),
                target: of.target,
                dispersion: of.dispersion,
                aov: of.aov,
                group: 0,
                bid: None,
                bids: true,
                by_hand: of.by_hand,
                budget: None,
                stopped: false,
                volume: of.volume,
            };
            Some((thing, tally))
        };
        counted.into_iter().filter_map(thing).unzip()
    }

    /// How far each campaign's budget was used up on each day.
    fn add_campaign_days(&self, things: &mut Things, window: Window) {
        for entry in &self.book.entries {
            things.add_campaign(entry.campaign.id, entry, window);
        }
    }

    /// The same with what is set on each thing now.
    pub async fn with_settings(
        &mut self,
        db: &PgPool,
        things: &mut Things,
    ) -> Result<(), DeskError> {
        let items: Vec<ItemId> = things.stage.things.iter().filter_map(|t| t.spot.item).collect();
        self.settings = self.settings.clone().with_items(db, &items).await?;
        for thing in &mut things.stage.things {
            thing.stopped = self.stopped(thing.spot);
            thing.bid = self.bid(thing.spot);
            thing.bids = thing.bid.is_some();
            thing.budget = self.budget(thing.spot);
        }
        Ok(())
    }

    /// Whether a thing, or what it lies in, does not run.
    pub(super) fn stopped(&self, spot: Spot) -> bool {
        let runs = |s: Spot| {
            let set = self.settings.present(s, &Setting::Status(Status::Active));
            set.is_none_or(|set| set == Setting::Status(Status::Active))
        };
        !std::iter::successors(Some(spot), |s| s.up()).all(runs)
    }

    /// What stands for a thing's bid, where a rule can set that.
    pub(super) fn bid(&self, spot: Spot) -> Option<Price> {
        let campaign = self.settings.campaign(spot.campaign)?;
        match (campaign.strategy.automatic(), spot.ad_group) {
            (false, _) => self.settings.bid(spot).map(Price::from),
            (true, None) => campaign.stands_for_bid().map(Price),
            (true, Some(_)) => None,
        }
    }

    /// A thing's own daily budget.
    pub(super) fn budget(&self, spot: Spot) -> Option<Price> {
        let any = Setting::Budget(Budget::Daily { amount: Micros::ZERO });
        match self.settings.present(spot, &any)? {
            Setting::Budget(Budget::Daily { amount }) => Some(amount.into()),
            _ => None,
        }
    }

    /// The names of all campaigns, ad groups and items.
    pub async fn names(&self, db: &PgPool) -> Result<Names, DeskError> {
        let mut names = Names::default();
        for e in &self.book.entries {
            names.add_campaign(e.campaign.id, &e.campaign.name);
        }
        let mut seen: Option<AdGroupId> = None;
        for named in store::names(db, self.book.account.id, &[]).await? {
            let Some(group) = named.spot.ad_group else { continue };
            if seen != Some(group) {
                names.add_group(named.spot.campaign, group, &named.ad_group);
                seen = Some(group);
            }
            if let Some((item, name)) = named.spot.item.zip(named.item) {
                names.add_item(group, item, &name);
            }
        }
        Ok(names)
    }
}

/// The days that a rule needs to look at an evening.
pub fn needed(rule: &Rule, by: NaiveDate, settle: u64, first: NaiveDate) -> Window {
    let days = match &rule.body {
        Body::Bid(of) => Some(of.window_days),
        Body::Custom(of) => of.when.clauses().try_fold(of.evidence.days, |most, c| match c.over {
            Over::Life => None,
            // The days before those are looked at too.
            Over::Days(n) if matches!(c.than, Than::Before(_)) => Some(most.max(2 * n)),
            Over::Days(n) => Some(most.max(n)),
        }),
    };
    // Its age is counted from its first day.
    let aged = matches!(&rule.body, Body::Custom(of)
        if of.evidence.days > 0 || of.when.clauses().any(|c| c.metric == tiller_core::custom_rule::Metric::Age));
    let from =
        days.filter(|_| !aged).and_then(|n| by.checked_sub_days(Days::new(u64::from(n) + settle)));
    Window::new(from.unwrap_or(first).max(first).min(by), by).unwrap_or(Window::ending(by, 1))
}
