//! World files: what there is to be simulated, as TOML. Money is in units of the account's currency; days
//! are counted from the last day of the history, which is 0: −9 is nine days before it.

use chrono::NaiveDate;
use serde::Deserialize;
use tiller_core::setting::{Dimension, ItemKind, MatchType, Pacing, PlacesMode};

/// A world: its channels, and its accounts with their campaigns.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct World {
    /// Everything random follows from it.
    pub seed: u64,
    /// Length of the history in days.
    pub days: u32,
    /// First day of the history; left out, the one who runs the world says when the history ends.
    #[serde(default)]
    pub first_day: Option<NaiveDate>,
    /// Patterns that make keywords of stems: `{}` stands for the stem.
    #[serde(default)]
    pub forms: Vec<String>,
    /// What searchers add to a keyword: search terms of phrase and broad matches are made of them.
    #[serde(default)]
    pub tails: Vec<String>,
    /// How demand and conversion rate go up and down over a day.
    #[serde(default)]
    pub rhythms: Vec<Rhythm>,
    /// Who there is to be reached.
    #[serde(default)]
    pub people: Vec<People>,
    /// How days differ by more than chance; not at all if left out.
    #[serde(default)]
    pub unrest: Option<Unrest>,
    /// The channels; one that is only named by a campaign has no limits of its own.
    #[serde(default)]
    pub channels: Vec<Channel>,
    /// The accounts.
    pub accounts: Vec<Account>,
}

/// How days differ by more than chance.
#[derive(Clone, Copy, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Unrest {
    /// Standard deviation of the logarithm of a day's demand.
    #[serde(default)]
    pub demand: f64,
    /// The same of its conversion rate.
    #[serde(default)]
    pub cvr: f64,
    /// What the next day keeps of a day's shock.
    #[serde(default)]
    pub lasts: f64,
    /// Share of the variance that all campaigns of an account have in common.
    #[serde(default)]
    pub account: f64,
    /// Share that those of a channel have in common besides.
    #[serde(default)]
    pub channel: f64,
}

impl Unrest {
    /// Shares of the variance: the account's, the channel's, each campaign's own.
    pub fn shares(&self) -> [f64; 3] {
        [self.account, self.channel, (1.0 - self.account - self.channel).max(0.0)]
    }

    fn is_sensible(&self) -> bool {
        let share = |x: f64| (0.0..=1.0).contains(&x);
        [self.demand, self.cvr].iter().all(|spread| (0.0..=1.0).contains(spread))
            && (0.0..=0.95).contains(&self.lasts)
            && share(self.account)
            && share(self.channel)
            && self.account + self.channel <= 1.0
    }
}

/// A day of 24 hours.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rhythm {
    /// Its name.
    pub name: String,
    /// Demand hour by hour; only its shape counts.
    pub demand: Vec<f64>,
    /// Conversion rate hour by hour; only its shape counts. Level if left out.
    #[serde(default)]
    pub cvr: Vec<f64>,
}

/// Who there is to be reached, told apart in several ways.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct People {
    /// Its name.
    #[serde(default)]
    pub name: String,
    /// By device.
    #[serde(default)]
    pub device: Vec<Part>,
    /// By country.
    #[serde(default)]
    pub country: Vec<Part>,
    /// By age band.
    #[serde(default)]
    pub age: Vec<Part>,
    /// By gender.
    #[serde(default)]
    pub gender: Vec<Part>,
    /// By placement.
    #[serde(default)]
    pub placement: Vec<Part>,
    /// By income tier.
    #[serde(default)]
    pub income: Vec<Part>,
}

impl People {
    /// The parts of a dimension; hours follow from the rhythm.
    pub fn parts(&self, dimension: Dimension) -> &[Part] {
        match dimension {
            Dimension::Device => &self.device,
            Dimension::Country => &self.country,
            Dimension::Age => &self.age,
            Dimension::Gender => &self.gender,
            Dimension::Placement => &self.placement,
            Dimension::Income => &self.income,
            Dimension::Hour => &[],
        }
    }
}

/// Some of the people.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Part {
    /// Who.
    pub segment: String,
    /// Their share of the auctions.
    pub share: f64,
    /// Their click-through rate over the others'.
    #[serde(default = "one")]
    pub ctr: f64,
    /// Their conversion rate over the others'.
    #[serde(default = "one")]
    pub cvr: f64,
    /// The competition for them over that for the others.
    #[serde(default = "one")]
    pub competition: f64,
}

/// A channel with its limits and habits.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Channel {
    /// Its name.
    pub name: String,
    /// The least bid.
    #[serde(default)]
    pub least_bid: f64,
    /// The least budget a day.
    #[serde(default)]
    pub least_budget: f64,
    /// Hours can be set only where the budget is a lifetime one.
    #[serde(default)]
    pub hours_need_lifetime: bool,
    /// Changes an hour at most; 0 is no limit.
    #[serde(default)]
    pub changes_per_hour: u32,
    /// How strongly a pooled budget goes to the ad group that looks best: 0 follows demand.
    #[serde(default)]
    pub favours: f64,
    /// Rhythm of its campaigns, by name.
    #[serde(default)]
    pub rhythm: String,
    /// Who is there, by name.
    #[serde(default)]
    pub people: String,
}

/// One advertiser's account.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Account {
    /// Short name.
    pub key: String,
    /// Full name.
    pub name: String,
    /// Opens the account at every channel. Nothing real hangs on it.
    #[serde(default)]
    pub token: String,
    /// ISO 4217 code.
    pub currency: String,
    /// IANA time zone.
    pub time_zone: String,
    /// What a lead may cost, for accounts that count leads.
    #[serde(default)]
    pub target_cpa: Option<f64>,
    /// What an order has to return, for accounts that count orders.
    #[serde(default)]
    pub target_roas: Option<f64>,
    /// Days after a click in which conversions are reported.
    #[serde(default = "default_window")]
    pub window: u16,
    /// What conversions and clicks fire; one event of all conversions if left out.
    #[serde(default)]
    pub events: Vec<Event>,
    /// What happens to it on given days.
    #[serde(default)]
    pub shocks: Vec<Shock>,
    /// The campaigns.
    pub campaigns: Vec<Campaign>,
}

/// A conversion event.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Event {
    /// Its name.
    pub name: String,
    /// Share of the conversions that fire it; those of all events add up to 1.
    #[serde(default)]
    pub of_conversions: f64,
    /// Share of the clicks that fire it besides, at once and without a value.
    #[serde(default)]
    pub of_clicks: f64,
}

/// Something that happens from one day to another.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Shock {
    /// First day.
    pub from: i64,
    /// Last day; it stays if left out.
    #[serde(default)]
    pub to: Option<i64>,
    /// What is multiplied, or stops.
    pub kind: ShockKind,
    /// By how much.
    #[serde(default = "one")]
    pub factor: f64,
    /// The campaign that it meets; all if left out.
    #[serde(default)]
    pub campaign: Option<String>,
    /// The channel that it meets; all if left out.
    #[serde(default)]
    pub channel: Option<String>,
}

/// What a shock does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ShockKind {
    /// Conversions of clicks on these days are never reported.
    Silent,
    /// Demand is multiplied: a holiday, a season.
    Demand,
    /// The competition is multiplied: a competitor arrives.
    Competition,
    /// The conversion rate is multiplied: a page slows.
    Cvr,
}

/// How a campaign bids at the start.
#[derive(Clone, Copy, Debug, Deserialize)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
pub enum Strategy {
    /// A fixed bid a click.
    ManualCpc {
        /// The bid.
        bid: f64,
    },
    /// A fixed bid a thousand impressions.
    ManualCpm {
        /// The bid.
        bid: f64,
    },
    /// The most clicks for the budget.
    MostClicks {
        /// The highest bid.
        #[serde(default)]
        ceiling: Option<f64>,
    },
    /// The most conversions for the budget.
    MostConversions {
        /// The highest bid.
        #[serde(default)]
        ceiling: Option<f64>,
    },
    /// The most value for the budget.
    MostValue {
        /// The highest bid.
        #[serde(default)]
        ceiling: Option<f64>,
    },
    /// Target × predicted CVR.
    TargetCpa {
        /// What a conversion may cost, as set at the channel.
        target: f64,
        /// The highest bid.
        #[serde(default)]
        ceiling: Option<f64>,
    },
    /// Predicted value a click ÷ target.
    TargetRoas {
        /// What a unit of spend has to return, as set at the channel.
        target: f64,
        /// The highest bid.
        #[serde(default)]
        ceiling: Option<f64>,
    },
}

/// One campaign: its demand in all, spread over the items of its ad groups.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Campaign {
    /// Name.
    pub name: String,
    /// Channel that runs it.
    pub channel: String,
    /// What its items are.
    pub kind: ItemKind,
    /// How it bids.
    pub strategy: Strategy,
    /// Daily budget; of all ad groups together where each has its own.
    pub budget: f64,
    /// Each ad group has its own budget.
    #[serde(default)]
    pub own_budgets: bool,
    /// A flight with a lifetime budget of so many days of `budget`: first and last day.
    #[serde(default)]
    pub flight: Option<(i64, i64)>,
    /// How a day's money is spread.
    #[serde(default)]
    pub pacing: Pacing,
    /// Auctions a day, before season and weekday.
    pub auctions: f64,
    /// Median of the highest competing bid, per click.
    pub competition: f64,
    /// Spread of its logarithm.
    #[serde(default = "default_spread")]
    pub spread: f64,
    /// How well its ads and pages are thought of: bids count for so many times as much.
    #[serde(default = "one")]
    pub quality: f64,
    /// Click-through rate.
    pub ctr: f64,
    /// Conversion rate.
    pub cvr: f64,
    /// Value per conversion.
    #[serde(default)]
    pub value: f64,
    /// How unlike orders are: standard deviation of the logarithm of an order's value.
    #[serde(default = "default_orders")]
    pub orders: f64,
    /// Share of conversions that are reported on their day; the rest follow geometrically.
    #[serde(default = "default_promptness")]
    pub promptness: f64,
    /// Days before the last on which it was launched; it ran before the history otherwise.
    #[serde(default)]
    pub launched: Option<u32>,
    /// Weekend demand over weekday demand.
    #[serde(default = "default_weekend")]
    pub weekend: f64,
    /// How much demand swings over the year (0.18: by 18% up and down).
    #[serde(default = "default_season")]
    pub season: f64,
    /// Spread of CVR and worth between its items (standard deviation of the logarithm).
    #[serde(default = "default_unlike")]
    pub unlike: f64,
    /// People in its audience; clicks become rarer as each sees it more often. None: it never tires.
    #[serde(default)]
    pub audience: Option<f64>,
    /// The events that it counts; those of conversions if left out.
    #[serde(default)]
    pub counts: Vec<String>,
    /// Whom its places mean, and the countries.
    #[serde(default)]
    pub places: Option<Places>,
    /// Over the channel's: how strongly the pooled budget goes to the ad group that looks best.
    #[serde(default)]
    pub favours: Option<f64>,
    /// Over the channel's rhythm.
    #[serde(default)]
    pub rhythm: Option<String>,
    /// Over the channel's people.
    #[serde(default)]
    pub people: Option<String>,
    /// Impressions after which an ad is clicked a tenth less often. None: ads never wear out.
    #[serde(default)]
    pub wear: Option<f64>,
    /// Its films: how they are watched.
    #[serde(default)]
    pub film: Option<Film>,
    /// Bids that somebody sets again and again from the average CPC.
    #[serde(default)]
    pub rebids: Option<Rebids>,
    /// Daily budgets that somebody sets after the first.
    #[serde(default)]
    pub rebudgets: Vec<Rebudget>,
    /// Its ad groups.
    pub ad_groups: Vec<AdGroup>,
}

/// The places that a campaign is meant for.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Places {
    /// Whom they mean.
    pub mode: PlacesMode,
    /// Countries by name.
    pub targets: Vec<String>,
}

/// How films are watched.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Film {
    /// Share of impressions that are watched for three seconds.
    pub hook: f64,
    /// Share of those that see a quarter, a half, three quarters, all.
    pub hold: [f64; 4],
    /// Its length in seconds.
    pub seconds: f64,
}

/// Bids set from the average CPC that the last ones caused.
#[derive(Clone, Copy, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rebids {
    /// First day.
    pub from: i64,
    /// Last day.
    pub to: i64,
    /// Days between.
    pub every: u32,
    /// What is added to the average.
    pub headroom: f64,
}

/// A daily budget that somebody sets.
#[derive(Clone, Copy, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rebudget {
    /// Its first day, counted from the last of the history.
    pub from: i64,
    /// Money a day, in units of currency.
    pub budget: f64,
}

/// One ad group.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AdGroup {
    /// Name.
    pub name: String,
    /// Words that the forms make keywords of, or whole items where the kind is not a keyword.
    #[serde(default)]
    pub stems: Vec<String>,
    /// Of its keywords.
    #[serde(default = "default_match")]
    pub match_type: MatchType,
    /// Its demand over the others'.
    #[serde(default = "one")]
    pub demand: f64,
    /// Its click-through rate over the campaign's.
    #[serde(default = "one")]
    pub ctr: f64,
    /// Its conversion rate over the campaign's.
    #[serde(default = "one")]
    pub cvr: f64,
    /// The least a day of a pooled budget.
    #[serde(default)]
    pub floor: Option<f64>,
    /// The most a day of a pooled budget.
    #[serde(default)]
    pub ceiling: Option<f64>,
    /// Share of the campaign's budget, where each ad group has its own.
    #[serde(default = "one")]
    pub budget_share: f64,
    /// Ads as combinations of a visual, a text and a headline, instead of stems.
    #[serde(default)]
    pub made_of: Option<MadeOf>,
    /// Searches of its keywords besides those made of tails.
    #[serde(default)]
    pub loose: Vec<Loose>,
    /// Items unlike the others.
    #[serde(default)]
    pub unlike_items: Vec<UnlikeItem>,
}

/// What ads are made of.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct MadeOf {
    /// Pictures or films.
    pub visuals: Vec<Element>,
    /// Texts.
    pub texts: Vec<Element>,
    /// Headlines.
    pub headlines: Vec<Element>,
}

/// A visual, a text or a headline.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Element {
    /// Its name.
    pub name: String,
    /// Click-through rate with it.
    #[serde(default = "one")]
    pub ctr: f64,
    /// Conversion rate with it.
    #[serde(default = "one")]
    pub cvr: f64,
}

/// A search that keywords of a group also answer to.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Loose {
    /// What is searched for.
    pub term: String,
    /// How often, over the keyword itself.
    pub share: f64,
    /// Conversion rate over that of the keyword itself.
    pub relevance: f64,
}

/// An item with rates of its own.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UnlikeItem {
    /// Which.
    pub item: String,
    /// Demand over the others'.
    #[serde(default = "one")]
    pub demand: f64,
    /// Conversion rate over the campaign's.
    #[serde(default = "one")]
    pub cvr: f64,
    /// Value per conversion over the campaign's.
    #[serde(default = "one")]
    pub value: f64,
}

fn one() -> f64 {
    1.0
}
fn default_window() -> u16 {
    30
}
fn default_orders() -> f64 {
    0.4
}
fn default_spread() -> f64 {
    0.5
}
fn default_promptness() -> f64 {
    0.75
}
fn default_weekend() -> f64 {
    0.8
}
fn default_season() -> f64 {
    0.18
}
fn default_unlike() -> f64 {
    0.15
}
fn default_match() -> MatchType {
    MatchType::Phrase
}

/// Why a world file can't be used.
#[derive(Debug, thiserror::Error)]
pub enum WorldError {
    /// Not TOML of this form.
    #[error("the world file can't be read: {0}")]
    Form(#[from] toml::de::Error),
    /// A value that makes no sense.
    #[error("{place}: {what}")]
    Value {
        /// Where.
        place: String,
        /// What to mend.
        what: String,
    },
}

/// The world of the demo.
pub const AMBERFOLD: &str = include_str!("../worlds/amberfold.toml");
/// A lead business with thin data.
pub const THIN_LEADS: &str = include_str!("../worlds/thin_leads.toml");
/// A large shop whose year has seasons.
pub const LARGE_SHOP: &str = include_str!("../worlds/large_shop.toml");

impl World {
    /// The same where days differ by chance alone.
    pub fn at_rest(self) -> Self {
        Self { unrest: None, ..self }
    }

    /// Reads and checks a world file.
    pub fn parse(text: &str) -> Result<Self, WorldError> {
        let world: Self = toml::from_str(text)?;
        world.check()?;
        Ok(world)
    }

    /// A shipped world by its name.
    pub fn shipped(name: &str) -> Option<&'static str> {
        match name {
            "amberfold" => Some(AMBERFOLD),
            "thin_leads" => Some(THIN_LEADS),
            "large_shop" => Some(LARGE_SHOP),
            _ => None,
        }
    }

    /// The channel of a name; without limits if the world says nothing of it.
    pub fn channel(&self, name: &str) -> Option<&Channel> {
        self.channels.iter().find(|c| c.name == name)
    }

    fn check(&self) -> Result<(), WorldError> {
        let wrong = |place: &str, what: &str| {
            Err(WorldError::Value { place: place.to_owned(), what: what.to_owned() })
        };
        if self.days == 0 || self.days > 2000 {
            return wrong("days", "a history has 1 to 2000 days");
        }
        if self.unrest.is_some_and(|unrest| !unrest.is_sensible()) {
            return wrong(
                "unrest",
                "spreads go from 0 to 1, what lasts from 0 to 0.95, and the shares add up to 1 at most",
            );
        }
        for rhythm in &self.rhythms {
            let day = |hours: &[f64]| hours.len() == 24 && hours.iter().all(|h| *h >= 0.0);
            if !day(&rhythm.demand) || !(rhythm.cvr.is_empty() || day(&rhythm.cvr)) {
                return wrong(&rhythm.name, "a day has 24 hours, each 0 or more");
            }
        }
        for people in &self.people {
            for dimension in Dimension::ALL {
                let parts = people.parts(dimension);
                let all: f64 = parts.iter().map(|p| p.share).sum();
                if !parts.is_empty() && (all - 1.0).abs() > 1e-6 {
                    let what =
                        format!("the shares by {} add up to {all}, not to 1", dimension.word());
                    return wrong(&people.name, &what);
                }
            }
        }
        for account in &self.accounts {
            let conversions: f64 = account.events.iter().map(|e| e.of_conversions).sum();
            if !account.events.is_empty() && (conversions - 1.0).abs() > 1e-6 {
                return wrong(&account.key, "the events' shares of the conversions add up to 1");
            }
            for campaign in &account.campaigns {
                self.check_campaign(account, campaign)
                    .or_else(|what| wrong(&campaign.name, &what))?;
            }
        }
        Ok(())
    }

    fn check_campaign(&self, account: &Account, campaign: &Campaign) -> Result<(), String> {
        let rate = |x: f64| (0.0..=1.0).contains(&x);
        if !rate(campaign.ctr) || !rate(campaign.cvr) || !rate(campaign.promptness) {
            return Err("ctr, cvr and promptness are shares from 0 to 1".into());
        }
        if [campaign.competition, campaign.spread, campaign.budget, campaign.quality]
            .iter()
            .any(|x| *x <= 0.0)
        {
            return Err("competition, spread, budget and quality are above 0".into());
        }
        if !(0.0..=2.0).contains(&campaign.orders) {
            return Err("orders differ by 0 to 2 (standard deviation of the logarithm)".into());
        }
        if campaign.rebudgets.iter().any(|r| r.budget <= 0.0) {
            return Err("its later budgets are above 0".into());
        }
        if campaign.ad_groups.iter().all(|g| g.stems.is_empty() && g.made_of.is_none()) {
            return Err("it needs an ad group with a stem".into());
        }
        let rhythms = self.rhythms.iter().map(|r| r.name.as_str()).collect::<Vec<_>>();
        let people = self.people.iter().map(|r| r.name.as_str()).collect::<Vec<_>>();
        let named = |name: &Option<String>, there: &[&str]| {
            name.as_deref().is_none_or(|n| there.contains(&n))
        };
        if !named(&campaign.rhythm, &rhythms) || !named(&campaign.people, &people) {
            return Err("its rhythm or its people are not in the world".into());
        }
        if let Some(unknown) =
            campaign.counts.iter().find(|n| !account.events.iter().any(|e| e.name == **n))
        {
            return Err(format!("the account has no event ‘{unknown}’"));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_wrong_world_is_refused_by_name() {
        assert!(World::parse("seed = 1").is_err());
        let broken = AMBERFOLD.replacen("\ncvr = 0.", "\ncvr = 3.", 1);
        assert!(matches!(World::parse(&broken), Err(WorldError::Value { .. })));
        let unrest = |of: &str| {
            let (before, after) = AMBERFOLD.split_once("[unrest]\n").unwrap();
            let (_, after) = after.split_once("\n\n").unwrap();
            World::parse(&format!("{before}[unrest]\n{of}\n\n{after}"))
        };
        assert!(unrest("cvr = 0.3\nlasts = 0.5\naccount = 0.3\nchannel = 0.3").is_ok());
        for wrong in ["cvr = 1.5", "lasts = 1.0", "account = 0.7\nchannel = 0.7", "demand = -0.1"] {
            let told = unrest(wrong).unwrap_err().to_string();
            assert!(told.contains("unrest"), "{told}");
        }
    }

    #[test]
    fn the_worlds_that_ship_can_be_read() {
        for name in ["amberfold", "thin_leads", "large_shop"] {
            World::parse(World::shipped(name).unwrap()).unwrap_or_else(|e| panic!("{name}: {e}"));
        }
        assert!(World::shipped("elsewhere").is_none());
    }
}
