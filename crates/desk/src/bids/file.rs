//! Bids of a report file, without a database.

use chrono::NaiveDate;
use schemars::JsonSchema;
use serde::Serialize;
use tiller_core::affordable::{affordable, halfway_bid, step_bid};
use tiller_core::evidence::Interval;
use tiller_core::strategy::Table;
use tiller_core::verdict::LimitedBy;
use tiller_core::{Price, Target, Window};
use tiller_store::decisions::Answered;

use super::advisor;
use crate::book::{Book, Entry};
use crate::report_file::{Asked, Report, ReportError, names};
use crate::volume::Volumes;

/// What is asked of a report.
#[derive(Clone, Debug)]
pub struct Question {
    /// One campaign only, by name.
    pub campaign: Option<String>,
    /// What a result may cost.
    pub target: Target,
    /// First day looked at.
    pub from: Option<NaiveDate>,
    /// Last day looked at.
    pub to: Option<NaiveDate>,
    /// Steps toward the affordable CPC.
    pub look_backs: u8,
}

/// The answer.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct BidsFile {
    /// Its campaigns, the most spend first.
    pub campaigns: Vec<CampaignFile>,
}

/// A campaign over its settled days; money in units of currency. Without clicks or conversions its figures are absent.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct CampaignFile {
    /// Its name.
    pub campaign: String,
    /// Its channel.
    pub channel: String,
    /// What a click costs.
    pub paid_cpc: Option<f64>,
    /// Clicks that a conversion takes.
    pub clicks_per_conversion: Option<f64>,
    /// What a click may cost.
    pub affordable_cpc: Option<f64>,
    /// The same with clicks per conversion rounded up to a whole click.
    pub affordable_cpc_cautious: Option<f64>,
    /// Halfway from what is paid to the cautious one.
    pub halfway_bid: Option<f64>,
    /// CPCs of steps toward the cautious one, one a look-back: each goes half of what is left.
    pub steps: Vec<f64>,
    /// budget, bid, neither or unknown.
    pub held_by: &'static str,
    /// What one more conversion costs at the present CPC.
    pub next_conversion: Option<NextFile>,
    /// Strategies that fit, best first.
    pub advice: Vec<AdviceFile>,
}

/// What one more conversion costs: median and 80% interval.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[allow(missing_docs)]
pub struct NextFile {
    pub cost: f64,
    pub low: f64,
    pub high: f64,
}

/// A strategy that fits.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct AdviceFile {
    /// `manual_cpc`, `manual_cpm`, `most_clicks`, `most_conversions`, `most_value`, `target_cpa` or `target_roas`.
    pub strategy: &'static str,
    /// From 1.
    pub rank: usize,
    /// Why.
    pub reason: String,
    /// What would change that.
    pub would_change: String,
}

impl Report {
    /// Answers a question on bids.
    pub fn bids(&self, q: &Question) -> Result<BidsFile, ReportError> {
        let asked = Asked { target: q.target, from: q.from, to: q.to, launched: None };
        let book = self.book(&asked)?;
        let window = book.settled().ok_or(ReportError::NoDays)?;
        let named = |e: &&Entry| {
            q.campaign.as_ref().is_none_or(|n| e.campaign.name.eq_ignore_ascii_case(n))
        };
        let mut chosen: Vec<&Entry> = book.entries.iter().filter(named).collect();
        if let (true, Some(name)) = (chosen.is_empty(), &q.campaign) {
            let all = names(book.entries.iter().map(|e| &e.campaign.name));
            return Err(ReportError::Unknown("campaign", name.clone(), all));
        }
        chosen.sort_by_key(|e| std::cmp::Reverse(e.tally(window).spend));
        let (table, volumes) = (Table::shipped(), Volumes::of_days(&book));
        let of = |e: &&Entry| campaign(&book, e, window, q, &table, &volumes);
        Ok(BidsFile { campaigns: chosen.iter().map(of).collect() })
    }
}

fn campaign(
    book: &Book,
    entry: &Entry,
    window: Window,
    q: &Question,
    table: &Table,
    volumes: &Volumes,
) -> CampaignFile {
    let tally = entry.tally(window);
    let paid = tally.cpc();
    let may = q
        .target
        .as_cpa(tally.aov())
        .zip(tally.cvr())
        .and_then(|(target, cvr)| affordable(target, cvr));
    let both = paid.zip(may.map(|a| a.cautious));
    let steps = |(paid, to)| (1..=i32::from(q.look_backs)).map(move |i| step_bid(to, paid, i));
    let facts = advisor::facts(book, entry, None, Answered::default());
    let advice = table.advise(&facts).into_iter().enumerate().map(|(i, row)| AdviceFile {
        strategy: row.advice.word(),
        rank: i + 1,
        reason: row.because.clone(),
        would_change: row.would_change.clone(),
    });
    CampaignFile {
        campaign: entry.campaign.name.clone(),
        channel: entry.campaign.channel.clone(),
        paid_cpc: paid.map(Price::units),
        clicks_per_conversion: may.map(|a| a.clicks_per_conversion),
        affordable_cpc: may.map(|a| a.cpc.units()),
        affordable_cpc_cautious: may.map(|a| a.cautious.units()),
        halfway_bid: both.map(|(paid, to)| halfway_bid(to, paid).units()),
        steps: both.map(steps).into_iter().flatten().map(Price::units).collect(),
        held_by: match entry.budget_use(window).limited_by(paid) {
            LimitedBy::Budget => "budget",
            LimitedBy::Bid => "bid",
            LimitedBy::Neither => "neither",
            LimitedBy::Unknown => "unknown",
        },
        next_conversion: next_conversion(entry, window, volumes),
        advice: advice.collect(),
    }
}

fn next_conversion(entry: &Entry, window: Window, volumes: &Volumes) -> Option<NextFile> {
    let cpa = entry.tally(window).cpa()?.units();
    let next = volumes.get(entry.campaign.id).next_click().times(cpa);
    // A cost without an end is told as none.
    let Interval { low, high } = next.around;
    high.is_finite().then_some(NextFile { cost: next.mid, low, high })
}
