//! Diagnosis of a report file, without a database.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use schemars::JsonSchema;
use serde::Serialize;
use tiller_channel::wire::SegmentRow;
use tiller_core::bridge::Factor;
use tiller_core::ids::{AdGroupId, CampaignId, ItemId};
use tiller_core::segments::{self, Proposal, Rules, Segment};
use tiller_core::setting::Dimension;
use tiller_core::spot::Subject;
use tiller_core::{Micros, Price, Tally, Target, Window};
use tiller_store::facts::ItemTally;

use crate::book::{Book, Entry, Judged, Meets};
use crate::report_file::{Asked, Report, ReportError, names};
use crate::wording;

/// What is asked of a report.
#[derive(Clone, Debug)]
pub struct Question {
    /// The campaign, by name.
    pub campaign: String,
    /// One of its ad groups, by name.
    pub ad_group: Option<String>,
    /// What a result may cost.
    pub target: Target,
    /// First day looked at.
    pub from: Option<NaiveDate>,
    /// Last day looked at.
    pub to: Option<NaiveDate>,
    /// When the campaign was launched.
    pub launched: Option<NaiveDate>,
    /// The report split by people, places and hours, if there is one.
    pub segments: Vec<SegmentRow>,
}

impl Question {
    fn asked(&self) -> Asked {
        let launched = self.launched.map(|day| (self.campaign.clone(), day));
        Asked { target: self.target, from: self.from, to: self.to, launched }
    }
}

/// Judges the split's segments of the campaign over the settled days.
fn segments(q: &Question, entry: &Entry, window: Window) -> Vec<SegmentFile> {
    let rules = entry.rules(q.target, window);
    let order = [
        Dimension::Country,
        Dimension::Gender,
        Dimension::Age,
        Dimension::Income,
        Dimension::Placement,
        Dimension::Device,
        Dimension::Hour,
    ];
    let of = |row: &&SegmentRow| {
        row.campaign.eq_ignore_ascii_case(&q.campaign)
            && window.contains(row.date)
            && q.ad_group.as_ref().is_none_or(|g| row.ad_group.eq_ignore_ascii_case(g))
    };
    order.iter().flat_map(|d| dimension(rules, *d, q.segments.iter().filter(of))).collect()
}

fn dimension<'a>(
    rules: Rules,
    dimension: Dimension,
    rows: impl Iterator<Item = &'a SegmentRow>,
) -> Vec<SegmentFile> {
    let whole = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
    let mut sums: BTreeMap<&str, Tally> = BTreeMap::new();
    for row in rows.filter(|r| r.dimension == dimension) {
        *sums.entry(&row.segment).or_default() += Tally {
            impressions: whole(row.impressions),
            clicks: whole(row.clicks),
            spend: Micros::from_units(row.spend),
            conversions: row.conversions,
            value: Micros::from_units(row.value),
        };
    }
    let parent: Tally = sums.values().copied().sum();
    let all: Vec<Segment> =
        sums.iter().map(|(name, tally)| Segment { name, tally: *tally, present: 0.0 }).collect();
    let mut judged: Vec<SegmentFile> = all
        .iter()
        .zip(segments::judge(&parent, &all, rules))
        .map(|(s, f)| SegmentFile {
            dimension: dimension.word(),
            segment: s.name.to_owned(),
            spend: s.tally.spend.to_units(),
            clicks: s.tally.clicks,
            conversions: s.tally.conversions,
            excess: f.excess,
            ratio: f.ratio,
            proposal: match f.proposal {
                Proposal::Leave => "leave",
                Proposal::Adjust(_) => "adjust",
                Proposal::Exclude => "exclude",
            },
            adjustment: match f.proposal {
                Proposal::Adjust(by) => Some(by),
                Proposal::Leave | Proposal::Exclude => None,
            },
        })
        .collect();
    judged.sort_by(|a, b| b.excess.total_cmp(&a.excess));
    judged
}

/// The answer.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct DiagnosisFile {
    /// bid, traffic, `order_value`, both, measurement, `too_early` or `on_target`.
    pub verdict: &'static str,
    /// The comparison with peers doesn’t show the cause; the sentences say what the verdict goes by instead.
    pub leans: bool,
    /// Sentences for people.
    pub because: Vec<String>,
    /// Its numbers; money in units of currency.
    pub figures: FiguresFile,
    /// The peers together.
    pub peers: PeersFile,
    /// From the peers' CPA to its own; of a ROAS target, from their ACoS.
    pub bridge: Vec<EffectFile>,
    /// The whole report.
    pub account: AccountFile,
    /// Its segments, where a split was given: the most excess of a dimension first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub segments: Vec<SegmentFile>,
}

/// A segment of the campaign over the settled days.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct SegmentFile {
    /// country, gender, age, placement, device or hour.
    pub dimension: &'static str,
    /// Which segment.
    pub segment: String,
    /// Money paid, in units of currency.
    pub spend: f64,
    /// Times clicked.
    pub clicks: i64,
    /// Results.
    pub conversions: f64,
    /// Money above target.
    pub excess: f64,
    /// Its CVR (or value per click) over the campaign's, drawn toward 1.
    pub ratio: f64,
    /// leave, adjust or exclude.
    pub proposal: &'static str,
    /// The bid adjustment where one is proposed, as a share.
    pub adjustment: Option<f64>,
}

/// Its numbers.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[allow(missing_docs)]
pub struct FiguresFile {
    pub spend: f64,
    pub clicks: i64,
    pub conversions: f64,
    pub ctr: Option<f64>,
    pub cpc: Option<f64>,
    pub cvr: Option<f64>,
    pub cpa: Option<f64>,
    pub excess: f64,
    pub aov: Option<f64>,
    pub roas: Option<f64>,
    pub clicks_per_conversion: Option<f64>,
    pub affordable_cpc: Option<f64>,
    pub affordable_cpc_cautious: Option<f64>,
    pub halfway_bid: Option<f64>,
    pub p_over_target: Option<f64>,
}

/// The peers together.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[allow(missing_docs)]
pub struct PeersFile {
    pub campaigns: usize,
    pub ctr: Option<f64>,
    pub cpc: Option<f64>,
    pub cvr: Option<f64>,
    pub cpa: Option<f64>,
    pub aov: Option<f64>,
    pub roas: Option<f64>,
}

/// One step of the bridge: of the CPA in units of currency per conversion, of a ROAS target’s ACoS in spend per
/// unit of value.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[allow(missing_docs)]
pub struct EffectFile {
    pub factor: &'static str,
    pub effect: f64,
}

/// The whole report.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[allow(missing_docs)]
pub struct AccountFile {
    pub cpa: Option<f64>,
    pub roas: Option<f64>,
    pub meets_target: bool,
    /// Without campaigns for the account’s own name; absent where it has none.
    pub meets_target_without_brand: Option<bool>,
}

impl Report {
    /// Answers a question.
    pub fn diagnose(&self, q: &Question) -> Result<DiagnosisFile, ReportError> {
        let book = self.book(&q.asked())?;
        let entry = book
            .entries
            .iter()
            .find(|e| e.campaign.name.eq_ignore_ascii_case(&q.campaign))
            .ok_or_else(|| {
                ReportError::Unknown(
                    "campaign",
                    q.campaign.clone(),
                    names(book.entries.iter().map(|e| &e.campaign.name)),
                )
            })?;
        let judged = match &q.ad_group {
            None => book.judge(entry.campaign.id),
            Some(name) => {
                let items = self.items(&book);
                let own = || items.iter().filter(|i| i.campaign == entry.campaign.id);
                let group = own().find(|i| i.ad_group_name.eq_ignore_ascii_case(name)).ok_or_else(
                    || {
                        ReportError::Unknown(
                            "ad group",
                            name.clone(),
                            names(own().map(|i| &i.ad_group_name)),
                        )
                    },
                )?;
                book.judge_part(&items, Subject::AdGroup(group.ad_group))
                    .ok()
                    .flatten()
                    .map(|(j, _)| j)
            }
        };
        let judged = judged.ok_or(ReportError::NoDays)?;
        let meets = book.meets_target(judged.window).ok_or(ReportError::NoDays)?;
        let segments = segments(q, entry, judged.window);
        Ok(DiagnosisFile { segments, ..answer(&judged, &meets) })
    }

    /// Ad groups as one item each: enough to compare ad groups.
    fn items(&self, book: &Book) -> Vec<ItemTally> {
        let window = book.settled();
        let mut groups: BTreeMap<(i64, &str), Tally> = BTreeMap::new();
        for row in self.rows.iter().filter(|r| window.is_some_and(|w| w.contains(r.day))) {
            let home = book
                .entries
                .iter()
                .find(|e| e.campaign.name == row.campaign && e.campaign.channel == row.channel);
            if let Some(home) = home {
                *groups.entry((home.campaign.id.0, &row.ad_group)).or_default() += row.tally;
            }
        }
        groups
            .into_iter()
            .enumerate()
            .map(|(i, ((campaign, name), tally))| ItemTally {
                item: ItemId(i as i64),
                name: name.to_owned(),
                kind: String::new(),
                match_type: String::new(),
                ad_group: AdGroupId(i as i64),
                ad_group_name: name.to_owned(),
                campaign: CampaignId(campaign),
                tally,
            })
            .collect()
    }
}

fn answer(j: &Judged, meets: &Meets) -> DiagnosisFile {
    let (d, t) = (&j.diagnosis, &j.tally);
    let because = std::iter::once(wording::headline(d))
        .chain(wording::reasons(j))
        .map(|w| w.to_string())
        .collect();
    DiagnosisFile {
        verdict: d.verdict.word(),
        leans: d.leans.is_some(),
        because,
        figures: FiguresFile {
            spend: t.spend.to_units(),
            clicks: t.clicks,
            conversions: t.conversions,
            ctr: t.ctr(),
            cpc: t.cpc().map(Price::units),
            cvr: t.cvr(),
            cpa: t.cpa().map(Price::units),
            excess: d.excess,
            aov: t.aov().map(Price::units),
            roas: t.roas(),
            clicks_per_conversion: d.affordable.map(|a| a.clicks_per_conversion),
            affordable_cpc: d.affordable.map(|a| a.cpc.units()),
            affordable_cpc_cautious: d.affordable.map(|a| a.cautious.units()),
            halfway_bid: d.halfway_bid.map(Price::units),
            p_over_target: d.p_over,
        },
        peers: PeersFile {
            campaigns: j.peers.0,
            ctr: d.peers.ctr(),
            cpc: d.peers.cpc().map(Price::units),
            cvr: d.peers.cvr(),
            cpa: d.peers.cpa().map(Price::units),
            aov: d.peers.aov().map(Price::units),
            roas: d.peers.roas(),
        },
        bridge: d
            .bridge
            .iter()
            .flat_map(|b| {
                let word = |f| match f {
                    Factor::Cpc => "cpc",
                    Factor::Cvr => "cvr",
                    Factor::OrderValue => "order_value",
                };
                let effects = b.effects().map(move |(f, effect)| (word(f), effect));
                std::iter::once(("peers", b.from)).chain(effects)
            })
            .map(|(factor, effect)| EffectFile { factor, effect })
            .collect(),
        account: AccountFile {
            cpa: meets.all.cpa().map(Price::units),
            roas: meets.all.roas(),
            meets_target: meets.with_brand(),
            meets_target_without_brand: meets.without_brand.map(|_| meets.without_brand()),
        },
        segments: Vec::new(),
    }
}
