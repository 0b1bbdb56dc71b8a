//! The rules file, `gold-tiller/rules@1`: read, checked, and its names found among an account's.

use std::collections::HashMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tiller_core::bid_rule::{Ceiling, Limits, Tree};
use tiller_core::custom_rule::{self, CustomRule};
use tiller_core::ids::{AdGroupId, CampaignId, ItemId};
use tiller_core::rule::{BidRule, Body, Daily, Rule, Send};
use tiller_core::schedule::Schedule;
use tiller_core::spot::Spot;
use tiller_core::window::SETTLE_DAYS;
use tiller_core::{Currency, Micros, MoneyError, Price};

use crate::json::{self, Misplaced};

/// The name that the format gives itself.
pub const FORMAT: &str = "gold-tiller/rules@1";

/// A rules file: one bid rule with its thresholds, and any number of custom rules.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RulesFile {
    /// `gold-tiller/rules@1`.
    pub format: String,
    /// ISO 4217 code of all its money.
    pub currency: String,
    /// The bid rule's name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Settled days that the bid rule looks at.
    #[serde(default = "month")]
    pub window_days: u16,
    /// Days until a day's conversions count as complete.
    #[serde(default = "settle")]
    pub settle_days: u16,
    /// Days in which the bid rule does nothing more to an item that it has touched.
    #[serde(default = "week")]
    pub cool_down: u16,
    /// When the bid rule runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schedule: Option<Schedule>,
    /// Where the bid rule's actions go.
    #[serde(default)]
    pub send: Send,
    /// The most that the bid rule may do in a day.
    #[serde(default)]
    pub daily: Daily,
    /// The bid rule's thresholds, by scope: what a narrower one leaves out is inherited.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub bid_rules: Vec<ScopedLimits>,
    /// Custom rules.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub custom_rules: Vec<NamedRule>,
}

fn month() -> u16 {
    30
}
fn settle() -> u16 {
    SETTLE_DAYS as u16
}
fn week() -> u16 {
    7
}

/// Where thresholds hold, by name; a scope without names is everywhere.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Scope {
    /// A campaign.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub campaign: Option<String>,
    /// One of its ad groups.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ad_group: Option<String>,
    /// One of that group's items.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
}

/// Thresholds in a scope; money in units of currency.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ScopedLimits {
    /// Where.
    pub scope: Scope,
    /// Spend without a sale at which an item stops.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spend_without_sale: Option<f64>,
    /// The most that sales may cost, as spend over value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub acos_ceiling: Option<f64>,
    /// The most that sales may cost each; one of both.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cpa_ceiling: Option<f64>,
    /// What a bid is above the average click.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub headroom: Option<f64>,
    /// What no bid goes below.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lowest_bid: Option<f64>,
    /// Clicks before acting.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clicks_before_acting: Option<u32>,
    /// Conversions a click that are asked of sales that barely pay.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub min_cvr_near_break_even: Option<f64>,
}

/// A custom rule with its name.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NamedRule {
    /// Its name.
    pub name: String,
    /// When it runs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub schedule: Option<Schedule>,
    /// Where its actions go.
    #[serde(default)]
    pub send: Send,
    /// The most that it may do in a day.
    #[serde(default)]
    pub daily: Daily,
    /// The rule; campaigns by name.
    pub rule: CustomRule<String>,
}

/// Why a rules file can't be used.
#[derive(Debug, thiserror::Error)]
pub enum RulesFileError {
    /// Not JSON of this form; the text names the place.
    #[error(transparent)]
    Form(#[from] Misplaced),
    /// Another format.
    #[error("format: ‘{0}’ found; {FORMAT} is allowed")]
    OtherFormat(String),
    /// No currency.
    #[error("currency: {0}")]
    Currency(#[from] MoneyError),
    /// Another currency than the account's.
    #[error(
        "currency: the file is in {file}, and the account in {account}; change the amounts in the file"
    )]
    OtherCurrency {
        /// The file's.
        file: String,
        /// The account's.
        account: String,
    },
    /// A window out of range.
    #[error("window_days: {0} found; 1 to 365 are allowed")]
    Window(u16),
    /// A threshold that makes no sense.
    #[error("bid_rules[{0}]: {1}")]
    Limit(usize, tiller_core::bid_rule::limits::Senseless),
    /// Two ceilings in one scope.
    #[error(
        "bid_rules[{0}]: acos_ceiling and cpa_ceiling are two ways to say one thing; give one of them"
    )]
    TwoCeilings(usize),
    /// A narrower scope without the wider.
    #[error("bid_rules[{0}].scope: an ad group needs its campaign, and an item its ad group")]
    Scope(usize),
    /// A name that there is not.
    #[error("{place}: there is no {what} ‘{name}’; there are: {there}")]
    Unknown {
        /// Where it stands in the file.
        place: String,
        /// Campaign, ad group or item.
        what: &'static str,
        /// The name.
        name: String,
        /// Some that there are.
        there: String,
    },
    /// A custom rule that makes no sense.
    #[error("custom_rules[{0}], ‘{1}’: {2}")]
    Custom(usize, String, custom_rule::Senseless),
    /// Nothing in it.
    #[error("bid_rules, custom_rules: both are empty; a rules file needs a rule")]
    Empty,
}

impl RulesFile {
    /// Reads and checks a file.
    pub fn read(text: &str) -> Result<Self, RulesFileError> {
        let file: Self = json::read(text)?;
        file.check()?;
        Ok(file)
    }

    /// That it makes sense.
    pub fn check(&self) -> Result<(), RulesFileError> {
        if self.format != FORMAT {
            return Err(RulesFileError::OtherFormat(self.format.clone()));
        }
        self.currency.parse::<Currency>()?;
        if !(1..=custom_rule::condition::MOST_DAYS).contains(&self.window_days) {
            return Err(RulesFileError::Window(self.window_days));
        }
        for (n, scoped) in self.bid_rules.iter().enumerate() {
            let s = &scoped.scope;
            if (s.item.is_some() && s.ad_group.is_none())
                || (s.ad_group.is_some() && s.campaign.is_none())
            {
                return Err(RulesFileError::Scope(n));
            }
            if scoped.acos_ceiling.is_some() && scoped.cpa_ceiling.is_some() {
                return Err(RulesFileError::TwoCeilings(n));
            }
            scoped.limits().check().map_err(|e| RulesFileError::Limit(n, e))?;
        }
        for (n, custom) in self.custom_rules.iter().enumerate() {
            let wrong = |e| RulesFileError::Custom(n, custom.name.clone(), e);
            custom.rule.check().map_err(wrong)?;
        }
        if self.bid_rules.is_empty() && self.custom_rules.is_empty() {
            return Err(RulesFileError::Empty);
        }
        Ok(())
    }

    /// Its rules, where the names in it are known.
    pub fn rules(&self, names: &Names) -> Result<Vec<Rule>, RulesFileError> {
        let mut rules = Vec::new();
        if !self.bid_rules.is_empty() {
            rules.push(self.bid_rule(names)?);
        }
        for (n, custom) in self.custom_rules.iter().enumerate() {
            let place = format!("custom_rules[{n}].rule.in");
            let mut rule = custom.rule.naming(|_| Ok::<_, RulesFileError>(CampaignId(0)))?;
            rule.within = Vec::new();
            for name in &custom.rule.within {
                rule.within.extend(names.campaigns(name, &place)?);
            }
            rules.push(Rule {
                name: custom.name.clone(),
                schedule: custom.schedule.clone().unwrap_or_else(Schedule::every_morning),
                send: custom.send,
                daily: custom.daily,
                body: Body::Custom(rule),
            });
        }
        Ok(rules)
    }

    fn bid_rule(&self, names: &Names) -> Result<Rule, RulesFileError> {
        let (mut limits, mut within) = (Tree::default(), Vec::new());
        let mut everywhere = false;
        for (n, scoped) in self.bid_rules.iter().enumerate() {
            if scoped.scope.campaign.is_none() {
                limits.top = scoped.limits().or(limits.top);
                everywhere = true;
                continue;
            }
            for spot in names.spots(&scoped.scope, n)? {
                limits.set(spot, scoped.limits().or(limits.own(spot)));
                within.push(spot.campaign);
            }
        }
        within.sort_unstable();
        within.dedup();
        // Thresholds for all campaigns are refined by those of some.
        let within = if everywhere { Vec::new() } else { within };
        Ok(Rule {
            name: self.name.clone().unwrap_or_else(|| "Bid rule".into()),
            schedule: self.schedule.clone().unwrap_or_else(Schedule::every_morning),
            send: self.send,
            daily: self.daily,
            body: Body::Bid(BidRule {
                within,
                window_days: self.window_days,
                cool_down: self.cool_down,
                limits,
            }),
        })
    }

    /// A rule as a file, its campaigns by name.
    pub fn of(rule: &Rule, currency: &str, settle_days: u64, names: &Names) -> Self {
        let mut file = Self {
            format: FORMAT.into(),
            currency: currency.into(),
            name: None,
            window_days: month(),
            settle_days: u16::try_from(settle_days).unwrap_or(settle()),
            cool_down: week(),
            schedule: None,
            send: Send::Tray,
            daily: Daily::default(),
            bid_rules: Vec::new(),
            custom_rules: Vec::new(),
        };
        match &rule.body {
            Body::Bid(of) => {
                file.name = Some(rule.name.clone());
                file.window_days = of.window_days;
                file.cool_down = of.cool_down;
                file.schedule = Some(rule.schedule.clone());
                (file.send, file.daily) = (rule.send, rule.daily);
                file.bid_rules = scoped(of, names);
            }
            Body::Custom(of) => {
                let name = |id: &CampaignId| Ok::<_, ()>(names.campaign_name(*id));
                let Ok(named) = of.naming(name) else { return file };
                file.custom_rules.push(NamedRule {
                    name: rule.name.clone(),
                    schedule: Some(rule.schedule.clone()),
                    send: rule.send,
                    daily: rule.daily,
                    rule: named,
                });
            }
        }
        file
    }
}

/// A bid rule's thresholds by scope: those of the rule at each of its campaigns, or everywhere.
fn scoped(rule: &BidRule, names: &Names) -> Vec<ScopedLimits> {
    let mut all = Vec::new();
    if rule.within.is_empty() {
        all.push(ScopedLimits::of(Scope::default(), rule.limits.top));
    }
    for campaign in &rule.within {
        let spot = Spot::of(*campaign);
        all.push(ScopedLimits::of(names.scope(spot), rule.limits.at(spot)));
    }
    let whole =
        |spot: Spot| spot == Spot::of(spot.campaign) && rule.within.contains(&spot.campaign);
    let refined = rule.limits.refined().filter(|(spot, _)| !whole(*spot));
    all.extend(refined.map(|(spot, limits)| ScopedLimits::of(names.scope(spot), limits)));
    all
}

impl ScopedLimits {
    fn limits(&self) -> Limits {
        let money = |x: Option<f64>| x.map(Micros::from_units);
        let acos = self.acos_ceiling.map(Ceiling::Acos);
        Limits {
            spend_without_sale: money(self.spend_without_sale),
            ceiling: acos.or(self.cpa_ceiling.map(|x| Ceiling::Cpa(Price(x)))),
            headroom: money(self.headroom),
            lowest_bid: money(self.lowest_bid),
            clicks: self.clicks_before_acting,
            least_cvr: self.min_cvr_near_break_even,
        }
    }

    fn of(scope: Scope, limits: Limits) -> Self {
        let units = |m: Option<Micros>| m.map(Micros::to_units);
        let (acos, cpa) = match limits.ceiling {
            Some(Ceiling::Acos(share)) => (Some(share), None),
            Some(Ceiling::Cpa(price)) => (None, Some(price.units())),
            None => (None, None),
        };
        Self {
            scope,
            spend_without_sale: units(limits.spend_without_sale),
            acos_ceiling: acos,
            cpa_ceiling: cpa,
            headroom: units(limits.headroom),
            lowest_bid: units(limits.lowest_bid),
            clicks_before_acting: limits.clicks,
            min_cvr_near_break_even: limits.least_cvr,
        }
    }
}

/// The names of campaigns, ad groups and items; case is ignored. A name that several have means all of them.
#[derive(Clone, Debug, Default)]
pub struct Names {
    campaigns: HashMap<CampaignId, String>,
    groups: HashMap<AdGroupId, (CampaignId, String)>,
    items: HashMap<ItemId, (AdGroupId, String)>,
}

fn same(a: &str, b: &str) -> bool {
    a.trim().to_lowercase() == b.trim().to_lowercase()
}

impl Names {
    /// Takes a campaign in.
    pub fn add_campaign(&mut self, id: CampaignId, name: &str) {
        self.campaigns.insert(id, name.to_owned());
    }

    /// Takes an ad group in.
    pub fn add_group(&mut self, campaign: CampaignId, id: AdGroupId, name: &str) {
        self.groups.insert(id, (campaign, name.to_owned()));
    }

    /// Takes an item in.
    pub fn add_item(&mut self, group: AdGroupId, id: ItemId, name: &str) {
        self.items.insert(id, (group, name.to_owned()));
    }

    /// A campaign's name.
    pub fn campaign_name(&self, id: CampaignId) -> String {
        self.campaigns.get(&id).cloned().unwrap_or_default()
    }

    /// A place by its names.
    pub fn scope(&self, spot: Spot) -> Scope {
        Scope {
            campaign: Some(self.campaign_name(spot.campaign)),
            ad_group: spot.ad_group.and_then(|g| Some(self.groups.get(&g)?.1.clone())),
            item: spot.item.and_then(|i| Some(self.items.get(&i)?.1.clone())),
        }
    }

    /// A place in words, from the campaign down.
    pub fn place(&self, spot: Spot) -> String {
        let Scope { campaign, ad_group, item } = self.scope(spot);
        let parts = [campaign, ad_group, item].into_iter().flatten();
        parts.filter(|n| !n.is_empty()).collect::<Vec<_>>().join(" › ")
    }

    fn unknown<'a>(
        place: &str,
        what: &'static str,
        name: &str,
        there: impl Iterator<Item = &'a String>,
    ) -> RulesFileError {
        let mut there: Vec<&String> = there.collect();
        there.sort_unstable();
        there.dedup();
        RulesFileError::Unknown {
            place: place.to_owned(),
            what,
            name: name.to_owned(),
            there: crate::report_file::names(there.into_iter()),
        }
    }

    /// The campaigns of a name.
    pub fn campaigns(&self, name: &str, place: &str) -> Result<Vec<CampaignId>, RulesFileError> {
        let found = self.campaigns.iter().filter(|(_, n)| same(n, name)).map(|(id, _)| *id);
        let mut found: Vec<CampaignId> = found.collect();
        found.sort_unstable();
        if found.is_empty() {
            return Err(Self::unknown(place, "campaign", name, self.campaigns.values()));
        }
        Ok(found)
    }

    fn spots(&self, scope: &Scope, n: usize) -> Result<Vec<Spot>, RulesFileError> {
        let place = format!("bid_rules[{n}].scope");
        let campaigns = self.campaigns(scope.campaign.as_deref().unwrap_or_default(), &place)?;
        let Some(group) = &scope.ad_group else {
            return Ok(campaigns.into_iter().map(Spot::of).collect());
        };
        let groups: Vec<Spot> = self
            .groups
            .iter()
            .filter(|(_, (of, name))| campaigns.contains(of) && same(name, group))
            .map(|(id, (of, _))| Spot::of(*of).ad_group(*id))
            .collect();
        if groups.is_empty() {
            let there = self.groups.values().filter(|(of, _)| campaigns.contains(of));
            return Err(Self::unknown(&place, "ad group", group, there.map(|(_, n)| n)));
        }
        let Some(item) = &scope.item else { return Ok(groups) };
        let of = |group: AdGroupId| groups.iter().find(|s| s.ad_group == Some(group));
        let items: Vec<Spot> = self
            .items
            .iter()
            .filter(|(_, (_, name))| same(name, item))
            .filter_map(|(id, (group, _))| Some(of(*group)?.item(*id)))
            .collect();
        if items.is_empty() {
            let there = self.items.values().filter(|(group, _)| of(*group).is_some());
            return Err(Self::unknown(&place, "item", item, there.map(|(_, n)| n)));
        }
        Ok(items)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The example of the handbook, with a custom rule.
    pub(crate) const RULES: &str = r#"{"format":"gold-tiller/rules@1","currency":"EUR","window_days":30,"settle_days":2,
 "bid_rules":[{"scope":{"campaign":"Spring"},"spend_without_sale":20,"acos_ceiling":0.35,"headroom":0.41,"lowest_bid":1.0,"clicks_before_acting":10,"min_cvr_near_break_even":0.10},
              {"scope":{"campaign":"Spring","ad_group":"Kits","item":"hive kit"},"lowest_bid":0.5}],
 "custom_rules":[{"name":"No result","rule":{"things":"ad_groups","in":["spring"],
   "when":{"all":[{"metric":"conversions","over":{"days":7},"is":"at_most","than":{"value":0}}]},
   "evidence":{"spend":{"times_target":3},"days":3},"then":"pause"}}]}"#;

    fn names() -> Names {
        let mut names = Names::default();
        names.add_campaign(CampaignId(1), "Spring");
        names.add_group(CampaignId(1), AdGroupId(2), "Kits");
        names.add_item(AdGroupId(2), ItemId(3), "Hive kit");
        names
    }

    #[test]
    fn names_are_found_and_given_back() {
        let file = RulesFile::read(RULES).unwrap();
        let rules = file.rules(&names()).unwrap();
        let [bid, custom] = &rules[..] else { panic!("{rules:?}") };
        let Body::Bid(of) = &bid.body else { panic!("{bid:?}") };
        let item = Spot::of(CampaignId(1)).ad_group(AdGroupId(2)).item(ItemId(3));
        assert_eq!(of.limits.at(item).lowest_bid, Some(Micros::from_units(0.5)));
        assert_eq!(of.limits.at(item).clicks, Some(10), "inherited");
        assert_eq!(custom.campaigns(), [CampaignId(1)]);
        for rule in &rules {
            let again = RulesFile::of(rule, "EUR", 2, &names());
            let text = serde_json::to_string(&again).unwrap();
            let read = RulesFile::read(&text).unwrap().rules(&names()).unwrap();
            assert_eq!(read.as_slice(), std::slice::from_ref(rule), "{text}");
        }
    }

    #[test]
    fn mistakes_name_their_place() {
        let wrong = |from: &str, to: &str| {
            assert!(RULES.contains(from), "{from}");
            let read = RulesFile::read(&RULES.replacen(from, to, 1));
            read.and_then(|f| f.rules(&names())).unwrap_err().to_string()
        };
        let unknown = wrong("\"headroom\"", "\"headrom\"");
        assert!(unknown.starts_with("bid_rules[0]") && unknown.contains("line 2"), "{unknown}");
        assert!(
            wrong("\"campaign\":\"Spring\"", "\"campaign\":\"Sprig\"")
                .contains("‘Sprig’; there are: ‘Spring’")
        );
        assert!(
            wrong("hive kit", "hive kid")
                .contains("there is no item ‘hive kid’; there are: ‘Hive kit’")
        );
        assert!(wrong("\"ad_group\":\"Kits\",", "").contains("an item its ad group"));
        assert!(
            wrong("\"acos_ceiling\"", "\"cpa_ceiling\":5,\"acos_ceiling\"")
                .contains("give one of them")
        );
        assert!(wrong(":10,", ":30,").contains("from 1 to 20"));
        assert!(wrong("EUR", "EURO").starts_with("currency: "));
        assert!(wrong("rules@1", "rules@2").starts_with("format: "));
        assert!(
            wrong("\"then\":\"pause\"", "\"then\":\"exclude\"")
                .contains("‘No result’: that can’t be done to ad groups")
        );
        assert!(
            wrong("\"window_days\":30", "\"window_days\":0").starts_with("window_days: 0 found")
        );
    }
}
