//! A campaign with its settings, its streams, its memory, and the days it has lived through.

use std::sync::Arc;

use tiller_channel::Micros;
use tiller_core::setting::{
    AdGroupSettings, Budget, CampaignSettings, ItemKind, Places as WirePlaces, Status, Strategy,
};

use super::demand::{self, Day, Moment};
use super::people::Mix;
use super::purse::Purse;
use super::stream::{Stream, streams};
use crate::world::{self, Account, Campaign, People, World};

/// Conversions that a strategy has learned from when a campaign has run for long.
const LONG_LEARNED: f64 = 2000.0;

/// An ad group as it stands.
#[derive(Clone, Debug)]
pub struct Group {
    /// The channel's key.
    pub key: String,
    /// What is set.
    pub settings: AdGroupSettings,
    /// Its own purse, where it has a budget of its own.
    pub purse: Purse,
    /// Money spent and conversions won lately, by which a channel tells which group looks best.
    pub looks: (f64, f64),
}

/// Conversions of one item's day by event and age.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Result {
    /// Place of the event in the account's list.
    pub event: u8,
    /// Days between click and report.
    pub age: u16,
    /// How many.
    pub count: u32,
    /// What they are worth.
    pub value: Micros,
}

/// One item's day.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct StreamDay {
    /// The bid for a click.
    pub bid: Micros,
    /// Times shown.
    pub impressions: u32,
    /// Times clicked.
    pub clicks: u32,
    /// Money paid.
    pub spend: Micros,
    /// Conversions that its clicks were due to bring, whatever chance made of them.
    pub due: f64,
    /// Conversions that really came of it, whether reported or not.
    pub converted: u32,
    /// What those are worth, whether reported or not.
    pub worth: Micros,
    /// What is reported of them, when.
    pub results: Vec<Result>,
}

/// What an hour brought to an ad group.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct HourTally {
    /// Times shown.
    pub impressions: u32,
    /// Times clicked.
    pub clicks: u32,
    /// Money paid.
    pub spend: f32,
    /// Conversions.
    pub converted: u32,
}

/// A campaign's day.
#[derive(Clone, Debug, PartialEq)]
pub struct CampaignDay {
    /// The day.
    pub at: Moment,
    /// Whether the campaign ran.
    pub status: Status,
    /// Its budget a day, of all ad groups.
    pub budget: Micros,
    /// How it bid.
    pub strategy: Strategy,
    /// Share of its auctions from which it stood aside for want of budget.
    pub lost_to_budget: f64,
    /// Share of its auctions that it lost for want of bid.
    pub lost_to_bid: f64,
    /// Who was reached.
    pub mix: Arc<Mix>,
    /// By stream; later streams were not there yet.
    pub streams: Vec<StreamDay>,
    /// By ad group and hour.
    pub hours: Vec<[HourTally; 24]>,
}

/// How often an audience has seen the ads.
#[derive(Clone, Debug, Default)]
pub struct Fatigue {
    /// Impressions that are still remembered.
    pub seen: f64,
    /// Click-through rate at which the world file's holds; none before the first day.
    pub usual: Option<f64>,
}

/// What a strategy has learned.
#[derive(Clone, Debug)]
pub struct Learning {
    /// Conversions since it began.
    pub conversions: f64,
    /// How often it began anew.
    pub begun: u64,
}

/// A campaign.
#[derive(Clone, Debug)]
pub struct CampaignSim {
    /// Place in its account.
    pub index: usize,
    /// The channel's key.
    pub key: String,
    /// What is set.
    pub settings: CampaignSettings,
    /// Its ad groups, in the world file's order.
    pub groups: Vec<Group>,
    /// Its items.
    pub streams: Vec<Stream>,
    /// Its day.
    pub day: Day,
    /// Its purse, where its ad groups share a budget.
    pub purse: Purse,
    /// Whether it tires its audience.
    pub fatigue: Fatigue,
    /// What its strategy has learned.
    pub learning: Learning,
    /// Days lived through.
    pub days: Vec<CampaignDay>,
}

/// The parts of the world that a campaign lives in.
#[derive(Clone, Copy, Debug)]
pub struct Home<'w> {
    /// The world.
    pub world: &'w World,
    /// Its account.
    pub account: &'w Account,
    /// What the world file says of it.
    pub campaign: &'w Campaign,
}

impl<'w> Home<'w> {
    /// Who there is to be reached.
    pub fn people(&self) -> Option<&'w People> {
        let channel = self.world.channel(&self.campaign.channel).map(|c| c.people.as_str());
        let name = self.campaign.people.as_deref().or(channel)?;
        self.world.people.iter().find(|p| p.name == name)
    }

    /// How strongly a pooled budget goes to the ad group that looks best.
    pub fn favours(&self) -> f64 {
        let channel = self.world.channel(&self.campaign.channel).map_or(0.0, |c| c.favours);
        self.campaign.favours.unwrap_or(channel)
    }

    /// The account's events: one of all conversions if the world file names none.
    pub fn events(&self) -> Vec<world::Event> {
        events(self.account)
    }
}

/// The account's events: one of all conversions if the world file names none.
pub fn events(account: &Account) -> Vec<world::Event> {
    if account.events.is_empty() {
        return vec![world::Event {
            name: "conversion".into(),
            of_conversions: 1.0,
            of_clicks: 0.0,
        }];
    }
    account.events.clone()
}

fn money(units: f64) -> Micros {
    Micros::from_units((units * 100.0).round() / 100.0)
}

/// Bidding as it is set at the start: strategy, bid, ceiling.
fn bidding(strategy: world::Strategy) -> (Strategy, Option<Micros>, Option<Micros>) {
    use world::Strategy as W;
    let cap = |c: Option<f64>| c.map(money);
    match strategy {
        W::ManualCpc { bid } => (Strategy::ManualCpc, Some(money(bid)), None),
        W::ManualCpm { bid } => (Strategy::ManualCpm, Some(money(bid)), None),
        W::MostClicks { ceiling } => (Strategy::MostClicks, None, cap(ceiling)),
        W::MostConversions { ceiling } => (Strategy::MostConversions, None, cap(ceiling)),
        W::MostValue { ceiling } => (Strategy::MostValue, None, cap(ceiling)),
        W::TargetCpa { target, ceiling } => {
            (Strategy::TargetCpa { target: money(target) }, None, cap(ceiling))
        }
        W::TargetRoas { target, ceiling } => (Strategy::TargetRoas { target }, None, cap(ceiling)),
    }
}

impl CampaignSim {
    /// A campaign as the world begins; `ends` is the last day of the history.
    pub fn begin(home: Home, index: usize, ends: chrono::NaiveDate) -> Self {
        let Home { world, account, campaign } = home;
        let (strategy, bid, bid_ceiling) = bidding(campaign.strategy);
        let day = |since: i64| ends + chrono::Duration::days(since);
        let budget = |units: f64| match campaign.flight {
            Some((from, to)) => Budget::Lifetime {
                amount: money(units * (to - from + 1) as f64),
                starts: day(from),
                ends: day(to),
            },
            None => Budget::Daily { amount: money(units) },
        };
        let shares: f64 = campaign.ad_groups.iter().map(|g| g.budget_share).sum();
        let groups = campaign
            .ad_groups
            .iter()
            .enumerate()
            .map(|(g, group)| Group {
                key: format!("{}-c{index}g{g}", account.key),
                settings: AdGroupSettings {
                    status: Status::Active,
                    budget: campaign
                        .own_budgets
                        .then(|| budget(campaign.budget * group.budget_share / shares)),
                    floor: group.floor.map(money),
                    ceiling: group.ceiling.map(money),
                    bid: None,
                    negatives: Vec::new(),
                },
                purse: Purse::default(),
                looks: (0.0, 0.0),
            })
            .collect();
        let counts = if campaign.counts.is_empty() {
            home.events().into_iter().filter(|e| e.of_conversions > 0.0).map(|e| e.name).collect()
        } else {
            campaign.counts.clone()
        };
        let launched = campaign.launched.map(|l| day(-i64::from(l)));
        Self {
            index,
            key: format!("{}-c{index}", account.key),
            settings: CampaignSettings {
                status: Status::Active,
                budget: (!campaign.own_budgets).then(|| budget(campaign.budget)),
                pacing: campaign.pacing,
                strategy,
                shared: None,
                bid,
                bid_floor: None,
                bid_ceiling,
                hours: None,
                adjustments: Vec::new(),
                places: campaign
                    .places
                    .as_ref()
                    .map(|p| WirePlaces { mode: p.mode, targets: p.targets.clone() }),
                negatives: Vec::new(),
                counts,
                launched,
            },
            groups,
            streams: streams(world, account, index, campaign),
            day: demand::day(world, campaign),
            purse: Purse::default(),
            fatigue: Fatigue::default(),
            learning: Learning {
                conversions: if campaign.launched.is_some() { 0.0 } else { LONG_LEARNED },
                begun: 0,
            },
            days: Vec::new(),
        }
    }

    /// The budget a day, of all ad groups.
    pub fn budget_a_day(&self) -> Micros {
        match self.settings.budget {
            Some(budget) => budget.per_day(),
            None => self.groups.iter().filter_map(|g| g.settings.budget).map(Budget::per_day).sum(),
        }
    }

    /// Whether an item runs, if its campaign does.
    pub fn runs(&self, stream: &Stream) -> bool {
        stream.settings.status == Status::Active
            && self.groups[stream.ad_group].settings.status == Status::Active
    }

    /// The bid by hand for an item, if anyone has set one.
    pub fn manual_bid(&self, stream: &Stream) -> Option<Micros> {
        let group = &self.groups[stream.ad_group].settings;
        stream.settings.bid.or(group.bid).or(self.settings.bid)
    }

    /// The strategy begins to learn anew.
    pub fn forget(&mut self) {
        self.learning.conversions = 0.0;
        self.learning.begun += 1;
    }

    /// A keyword that was added: it takes the demand of the search term that it names, where there is one.
    pub fn add_keyword(
        &mut self,
        home: Home,
        ad_group: usize,
        text: &str,
        match_type: tiller_core::setting::MatchType,
        since: i64,
    ) -> &mut Stream {
        let same = |t: &str| t.eq_ignore_ascii_case(text);
        let named = self.streams.iter().enumerate().find_map(|(i, s)| {
            let t = s.terms.iter().position(|t| same(&t.text) && t.on(since))?;
            (!same(&s.item)).then_some((i, t))
        });
        let number = self.streams.len();
        let mut stream = match named {
            Some((i, t)) => {
                let parent = &self.streams[i];
                let all: f64 = parent.terms.iter().map(|t| t.share).sum();
                let worth: f64 = parent.terms.iter().map(|t| t.share * t.relevance).sum();
                let (share, relevance) = (parent.terms[t].share, parent.terms[t].relevance);
                Stream {
                    auctions: parent.auctions * share / all,
                    cvr: parent.cvr * relevance / (worth / all),
                    ..parent.clone()
                }
            }
            None => {
                let template = self.streams[0].clone();
                let mut rng = super::chance::rng(
                    home.world.seed,
                    &[8, super::chance::number(text), self.index as u64],
                );
                Stream {
                    auctions: home.campaign.auctions * 0.01 * super::chance::around(0.6, &mut rng),
                    cvr: 0.8 * super::chance::around(0.3, &mut rng),
                    ctr: 1.0,
                    competition: 1.0,
                    value: 1.0,
                    ..template
                }
            }
        };
        // Every campaign that answers to the search leaves it to the new keyword.
        for term in self.streams.iter_mut().flat_map(|s| &mut s.terms).filter(|t| same(&t.text)) {
            term.blocked.push((since + 1, i64::MAX));
        }
        stream.key = format!("{}i{number}", self.groups[ad_group].key);
        stream.ad_group = ad_group;
        text.clone_into(&mut stream.item);
        stream.kind = ItemKind::Keyword;
        stream.match_type = Some(match_type);
        stream.made = None;
        stream.shown = 0.0;
        stream.settings.bid = None;
        stream.settings.status = Status::Active;
        stream.terms = vec![super::stream::Term {
            text: text.to_owned(),
            share: 1.0,
            relevance: 1.0,
            blocked: Vec::new(),
        }];
        self.streams.push(stream);
        &mut self.streams[number]
    }
}
