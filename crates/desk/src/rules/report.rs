//! Rules over a report file, without a database.

use std::collections::{BTreeMap, HashMap};

use chrono::NaiveDate;
use schemars::JsonSchema;
use serde::Serialize;
use tiller_core::bid_rule::spiral::sinks;
use tiller_core::bid_rule::{Field, Thresholds};
use tiller_core::bid_volume::{Range, believed, unmoved};
use tiller_core::custom_rule::{Action, Things as Level};
use tiller_core::history::{Came, Counted, History};
use tiller_core::ids::{AdGroupId, CampaignId, ItemId};
use tiller_core::rehearsal::{Days, Found, Outcome, Thing, look, rehearse, sum};
use tiller_core::rule::{BidRule, Body, Rule};
use tiller_core::spot::Spot;
use tiller_core::window::last_settled;
use tiller_core::{Currency, Micros, Price, Tally, Target, Window};

use super::file::{Names, RulesFile, RulesFileError};
use super::things::{ItemDays, OfCampaign, Things, in_words};
use super::words;
use crate::report_file::{Asked, Report, ReportError};

/// Why rules could not be looked at over a report.
#[derive(Debug, thiserror::Error)]
pub enum RulesOverReportError {
    /// The rules.
    #[error(transparent)]
    Rules(#[from] RulesFileError),
    /// The report.
    #[error(transparent)]
    Report(#[from] ReportError),
    /// A rule compares with the target, and none is given.
    #[error("‘{0}’ compares with the target; give --target-cpa or --target-roas")]
    NoTarget(String),
    /// Nothing lies between the dates.
    #[error("the rehearsal ends before it begins; give an earlier --from, or a later --to")]
    NoDays,
}

/// What rules make of a report.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct RulesAnswer {
    /// What the bid rule does about each item.
    pub actions: Vec<ActionFile>,
    /// What the custom rules do, and what they would do on more evidence.
    pub custom: Vec<ActionFile>,
    /// Items whose bids would sink, each set from the average click that the last one caused.
    pub spirals: Vec<SpiralFile>,
    /// Of each item that a bid rule is about, where each threshold is set: a place, or `everywhere`.
    pub inherited: BTreeMap<String, BTreeMap<&'static str, String>>,
}

/// What a rule does about a thing.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ActionFile {
    /// The rule's name; none for the bid rule.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rule: Option<String>,
    /// Its campaign.
    pub campaign: String,
    /// Its ad group; empty for a campaign.
    pub ad_group: String,
    /// Its item; empty for an ad group.
    pub item: String,
    /// pause, bid, wait, resume, budget, target, exclude or tell.
    pub action: &'static str,
    /// The bid that is set, in units of currency.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub to: Option<f64>,
    /// The share that a bid, budget or target changes by.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<f64>,
    /// Why.
    pub because: String,
    /// What was counted.
    pub figures: FiguresFile,
}

/// What was counted of a thing, money in units of currency; a rate over nothing is absent.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[allow(missing_docs)]
pub struct FiguresFile {
    pub clicks: i64,
    pub spend: f64,
    pub conversions: f64,
    pub value: f64,
    pub cpc: Option<f64>,
    pub cvr: Option<f64>,
    pub cpa: Option<f64>,
    pub acos: Option<f64>,
}

impl From<&Tally> for FiguresFile {
    fn from(t: &Tally) -> Self {
        Self {
            clicks: t.clicks,
            spend: t.spend.to_units(),
            conversions: t.conversions,
            value: t.value.to_units(),
            cpc: t.cpc().map(Price::units),
            cvr: t.cvr(),
            cpa: t.cpa().map(Price::units),
            acos: t.acos(),
        }
    }
}

/// An item whose bids would sink.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct SpiralFile {
    /// Its place.
    pub item: String,
    /// Its bid now.
    pub bid: f64,
    /// Its average click.
    pub cpc: f64,
    /// The bid at which it would come to rest.
    pub rests_at: f64,
    /// The headroom that it has.
    pub headroom: f64,
    /// The headroom that would hold its average click.
    pub headroom_that_holds: f64,
}

/// What a rule would have done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct RehearsalAnswer {
    /// Of each rule.
    pub rules: Vec<RehearsedFile>,
}

/// What one rule would have done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct RehearsedFile {
    /// Its name.
    pub rule: String,
    /// Its first and last morning, and how many there were.
    pub from: NaiveDate,
    #[allow(missing_docs)]
    pub to: NaiveDate,
    #[allow(missing_docs)]
    pub rounds: usize,
    /// Money that it would have kept.
    pub kept: RangeFile,
    /// Conversions that it would have lost.
    pub lost: RangeFile,
    /// Things that it would have stopped rightly, and by mistake: they met their target afterwards.
    pub right: usize,
    #[allow(missing_docs)]
    pub mistakes: usize,
    /// Things that it would have stopped of which that can't be told: too lately, or nothing was spent on them since.
    pub open: usize,
    /// What it would have done, in order of days.
    pub acts: Vec<ActFile>,
}

/// A middle with its 80% interval.
#[derive(Clone, Copy, Debug, Serialize, JsonSchema)]
#[allow(missing_docs)]
pub struct RangeFile {
    pub mid: f64,
    pub low: f64,
    pub high: f64,
}

impl From<Range> for RangeFile {
    fn from(range: Range) -> Self {
        Self { mid: range.mid, low: range.around.low, high: range.around.high }
    }
}

/// Something that it would have done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ActFile {
    /// The morning.
    pub day: NaiveDate,
    /// What, on what was known that morning.
    #[serde(flatten)]
    pub action: ActionFile,
    /// What followed until the thing was touched again.
    pub followed: FiguresFile,
    /// Money kept.
    pub kept: RangeFile,
    /// Conversions lost.
    pub lost: RangeFile,
    /// right, mistake or open.
    pub outcome: &'static str,
}

/// A report's items with their days.
struct Ledger {
    items: Vec<ItemDays>,
    campaigns: HashMap<CampaignId, (String, String)>,
    names: Names,
    span: Window,
}

impl Report {
    fn ledger(&self) -> Result<Ledger, ReportError> {
        let mut campaigns: BTreeMap<(&str, &str), CampaignId> = BTreeMap::new();
        let mut groups: BTreeMap<(CampaignId, &str), AdGroupId> = BTreeMap::new();
        let mut items: BTreeMap<(AdGroupId, &str), usize> = BTreeMap::new();
        let mut days: Vec<(ItemDays, Vec<Counted>, Vec<Came>)> = Vec::new();
        let mut names = Names::default();
        for row in &self.rows {
            let next = CampaignId(campaigns.len() as i64 + 1);
            let campaign = *campaigns.entry((&row.channel, &row.campaign)).or_insert(next);
            let next = AdGroupId(groups.len() as i64 + 1);
            let group = *groups.entry((campaign, &row.ad_group)).or_insert(next);
            let n = *items.entry((group, &row.item)).or_insert_with(|| {
                let item = ItemId(days.len() as i64 + 1);
                names.add_item(group, item, &row.item);
                let of = ItemDays {
                    spot: Spot::of(campaign).ad_group(group).item(item),
                    ad_group: row.ad_group.clone(),
                    item: row.item.clone(),
                    history: History::default(),
                };
                days.push((of, Vec::new(), Vec::new()));
                days.len() - 1
            });
            let t = &row.tally;
            days[n].1.push(Counted {
                day: row.day,
                impressions: t.impressions,
                clicks: t.clicks,
                spend: t.spend,
                bid: row.bid,
            });
            if t.conversions > 0.0 || t.value != Micros::ZERO {
                days[n].2.push(Came {
                    day: row.day,
                    age: 0,
                    conversions: t.conversions,
                    value: t.value,
                });
            }
        }
        for ((_, name), id) in &campaigns {
            names.add_campaign(*id, name);
        }
        for ((campaign, name), id) in &groups {
            names.add_group(*campaign, *id, name);
        }
        let all = || self.rows.iter().map(|r| r.day);
        let span = all().min().zip(all().max()).and_then(|(a, b)| Window::new(a, b));
        Ok(Ledger {
            items: days
                .into_iter()
                .map(|(item, days, came)| {
                    let whole = History::new(days, came);
                    ItemDays { history: History::together(std::iter::once(&whole)), ..item }
                })
                .collect(),
            campaigns: campaigns
                .into_iter()
                .map(|((channel, name), id)| (id, (name.to_owned(), channel.to_owned())))
                .collect(),
            names,
            span: span.ok_or(ReportError::NoDays)?,
        })
    }
}

/// Rules with what they look at in a report.
struct Looked {
    rules: Vec<(Rule, Things)>,
    names: Names,
    span: Window,
}

impl Looked {
    fn new(
        file: &RulesFile,
        report: &Report,
        target: Option<Target>,
    ) -> Result<Self, RulesOverReportError> {
        let ledger = report.ledger()?;
        let rules = file.rules(&ledger.names)?;
        let currency: Currency = file.currency.parse().map_err(RulesFileError::Currency)?;
        let book = target
            .map(|target| report.book(&Asked { target, from: None, to: None, launched: None }));
        let book = book.transpose()?;
        let volume = unmoved(believed(None));
        let entry = |id: &CampaignId| {
            let (name, channel) = &ledger.campaigns[id];
            let mine = |e: &&crate::book::Entry| {
                e.campaign.name == *name && e.campaign.channel == *channel
            };
            book.as_ref()?.entries.iter().find(mine)
        };
        let of = |id: &CampaignId| {
            let (name, channel) = &ledger.campaigns[id];
            let entry = entry(id);
            let rules = entry.zip(target).map(|(e, target)| e.rules(target, ledger.span));
            OfCampaign {
                name,
                channel,
                target,
                dispersion: rules.map_or(1.0, |r| r.dispersion).max(1.0),
                aov: entry.and_then(|e| e.tally(ledger.span).aov()),
                // Reports tell no strategies.
                by_hand: None,
                volume,
            }
        };
        let campaigns = ledger.campaigns.keys().map(|id| (*id, of(id))).collect();
        let things = |rule: &Rule| {
            let level = match rule.things() {
                Level::Terms => Level::Items,
                other => other,
            };
            let within = rule.campaigns();
            let mine = ledger.items.iter().filter(|i| {
                // The bid rule says something of every item.
                matches!(rule.body, Body::Bid(_))
                    || within.is_empty()
                    || within.contains(&i.spot.campaign)
            });
            let mut things = Things::of(level, mine.cloned().collect(), currency, &campaigns);
            for id in ledger.campaigns.keys() {
                if let Some(entry) = entry(id) {
                    things.add_campaign(*id, entry, ledger.span);
                }
            }
            things
        };
        let rules = rules.into_iter().map(|r| (things(&r), r)).map(|(t, r)| (r, t)).collect();
        Ok(Self { rules, names: ledger.names, span: ledger.span })
    }
}

/// What is found of a thing, with its names and figures.
fn action_of(rule: &Rule, things: &Things, found: &Found) -> ActionFile {
    let [campaign, ad_group, item] = things.places[found.thing].clone();
    let thing = &things.stage.things[found.thing];
    let (to, by) = match found.action {
        Some(Action::BidTo(bid) | Action::BudgetTo(bid)) => {
            (Some(things.stage.currency.coins(bid.micros()).to_units()), None)
        }
        Some(Action::BidBy(by) | Action::BudgetBy(by) | Action::TargetBy(by)) => (None, Some(by)),
        _ => (None, None),
    };
    let (named, limits) = match &rule.body {
        Body::Bid(of) => (None, of.limits.at(thing.spot).complete().ok()),
        Body::Custom(_) => (Some(rule.name.clone()), None),
    };
    ActionFile {
        rule: named,
        campaign,
        ad_group,
        item,
        action: words::action(found.action),
        to,
        by,
        because: words::because(found, limits.as_ref()),
        figures: (&found.known).into(),
    }
}

/// What the rules of a file do as of a report's day: its last one unless another is given.
pub fn check(
    file: &RulesFile,
    report: &Report,
    target: Option<Target>,
    as_of: Option<NaiveDate>,
) -> Result<RulesAnswer, RulesOverReportError> {
    let looked = Looked::new(file, report, target)?;
    let by = as_of.unwrap_or(looked.span.to());
    let settle = u64::from(file.settle_days);
    let mut answer = RulesAnswer {
        actions: Vec::new(),
        custom: Vec::new(),
        spirals: Vec::new(),
        inherited: BTreeMap::new(),
    };
    for (rule, things) in &looked.rules {
        no_target(rule, target)?;
        let found = look(&rule.body, &things.stage, by, settle);
        match &rule.body {
            Body::Custom(_) => {
                answer.custom.extend(found.into_iter().map(|f| action_of(rule, things, &f)));
            }
            Body::Bid(of) => {
                let found: HashMap<usize, Found> =
                    found.into_iter().map(|f| (f.thing, f)).collect();
                for (n, thing) in things.stage.things.iter().enumerate() {
                    let limits = of.limits.at(thing.spot).complete();
                    let action = match (found.get(&n), &limits) {
                        (Some(f), _) => action_of(rule, things, f),
                        (None, missing) => nothing(things, n, missing.as_ref().err().copied()),
                    };
                    answer.actions.push(action);
                    if let (Some(f), Ok(limits)) = (found.get(&n), limits) {
                        answer.spirals.extend(spiral(things, f, &limits, by, settle));
                    }
                    let sources = sources(of, thing, &looked.names);
                    if !sources.is_empty() {
                        answer.inherited.insert(in_words(&things.places[n]), sources);
                    }
                }
            }
        }
    }
    Ok(answer)
}

fn no_target(rule: &Rule, target: Option<Target>) -> Result<(), RulesOverReportError> {
    match &rule.body {
        Body::Custom(of) if target.is_none() && of.asks_for_target() => {
            Err(RulesOverReportError::NoTarget(rule.name.clone()))
        }
        _ => Ok(()),
    }
}

/// An item of which the rule makes nothing.
fn nothing(things: &Things, n: usize, missing: Option<Field>) -> ActionFile {
    let [campaign, ad_group, item] = things.places[n].clone();
    let because = match missing {
        None => "nothing was counted in the window".into(),
        Some(field) => format!("no rule sets its {}", words::field(field)),
    };
    ActionFile {
        rule: None,
        campaign,
        ad_group,
        item,
        action: words::action(None),
        to: None,
        by: None,
        because,
        figures: (&Tally::default()).into(),
    }
}

fn spiral(
    things: &Things,
    found: &Found,
    limits: &Thresholds,
    by: NaiveDate,
    settle: u64,
) -> Option<SpiralFile> {
    let thing = &things.stage.things[found.thing];
    let bid = Price::from(thing.history.bid_on(last_settled(by, settle))?);
    let cpc = found.known.cpc().filter(|_| found.by_average())?;
    let headroom = Price::from(limits.headroom);
    let spiral = sinks(bid, cpc, headroom, limits.lowest_bid.into())?;
    Some(SpiralFile {
        item: in_words(&things.places[found.thing]),
        bid: bid.units(),
        cpc: cpc.units(),
        rests_at: spiral.rests.units(),
        headroom: headroom.units(),
        headroom_that_holds: spiral.holds.units(),
    })
}

/// Where each threshold of an item is set.
fn sources(rule: &BidRule, thing: &Thing, names: &Names) -> BTreeMap<&'static str, String> {
    let place = |at: Option<Spot>| at.map_or_else(|| "everywhere".into(), |s| names.place(s));
    let of = |f: Field| Some((f.word(), place(rule.limits.source(thing.spot, f)?)));
    Field::ALL.into_iter().filter_map(of).collect()
}

/// What the rules of a file would have done on a report's days. Files don't tell when conversions were reported: each
/// counts as known on its day, and the days that were not settled are left out as usual.
pub fn rehearsal(
    file: &RulesFile,
    report: &Report,
    target: Option<Target>,
    from: Option<NaiveDate>,
    to: Option<NaiveDate>,
) -> Result<RehearsalAnswer, RulesOverReportError> {
    let looked = Looked::new(file, report, target)?;
    let first = from.unwrap_or(looked.span.from());
    let last = to.unwrap_or(looked.span.to()).min(looked.span.to());
    let days = Window::new(first, last).ok_or(RulesOverReportError::NoDays)?;
    let days = Days {
        from: days.from(),
        to: days.to(),
        known: looked.span.to(),
        settle: file.settle_days.into(),
    };
    let mut rules = Vec::new();
    for (rule, things) in &looked.rules {
        no_target(rule, target)?;
        let done = rehearse(rule, &things.stage, days);
        let total = sum(&done.acts);
        let acts = done.acts.iter().map(|act| ActFile {
            day: act.day,
            action: action_of(rule, things, &act.found),
            followed: (&act.followed).into(),
            kept: act.kept.into(),
            lost: act.lost.into(),
            outcome: match act.outcome {
                Outcome::Right => "right",
                Outcome::Mistake => "mistake",
                Outcome::Open => "open",
            },
        });
        rules.push(RehearsedFile {
            rule: rule.name.clone(),
            from: days.from,
            to: days.to,
            rounds: done.rounds.len(),
            kept: total.kept.into(),
            lost: total.lost.into(),
            right: total.right,
            mistakes: total.mistakes,
            open: total.open,
            acts: acts.collect(),
        });
    }
    Ok(RehearsalAnswer { rules })
}
