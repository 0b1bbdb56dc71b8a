//! Causes: overspenders ranked, and one campaign, ad group or item examined.

pub mod beside;
pub mod file;
pub mod findings;
pub mod remedy;

use chrono::{Days, NaiveDate};
use tiller_core::affordable::halfway_bid;
use tiller_core::evidence::{FEW, Interval};
use tiller_core::ids::CampaignId;
use tiller_core::learning::STEP;
use tiller_core::{Tally, Target, Window};
use tiller_store::PgPool;
pub use tiller_store::facts::Estimate;
use tiller_store::facts::ItemTally;

use crate::DeskError;
use crate::book::{self, Book, Entry, Judged, Meets};
use crate::volume::{self, Volumes};
use crate::wording::TradeOff;
use tiller_core::spot::Subject;

/// Days of history that the effect of a bid is learned from.
const BID_HISTORY: u64 = 90;

/// One thing examined.
#[derive(Clone, Debug)]
pub struct Examined {
    /// Its name.
    pub name: String,
    /// Its campaign and above it.
    pub campaign: String,
    /// The campaign's id.
    pub campaign_id: CampaignId,
    /// The campaign's channel.
    pub channel: String,
    /// The verdict with its numbers; none without a target.
    pub judged: Option<Judged>,
    /// Its days from the beginning of the comparison period to the last reported one.
    pub days: Vec<(NaiveDate, Tally)>,
    /// Conversions in the end of days that are not settled, by estimate.
    pub expected: Vec<(NaiveDate, Estimate)>,
    /// What the halfway bid would bring, where one is advised.
    pub trade_off: Option<TradeOff>,
    /// The account against its target in the settled period.
    pub meets: Option<Meets>,
    /// What it counted in the comparison period.
    pub before: Option<Tally>,
}

/// Campaigns over target, the most excess first.
pub fn ranked(book: &Book) -> Vec<(&Entry, Judged)> {
    let mut all: Vec<(&Entry, Judged)> = book
        .entries
        .iter()
        .zip(book.judge_all())
        .filter_map(|(e, j)| Some((e, j.clone()?)))
        .filter(|(_, j)| j.tally.spend.get() > 0)
        .collect();
    all.sort_by(|(_, a), (_, b)| b.diagnosis.excess.total_cmp(&a.diagnosis.excess));
    all
}

/// Examines a campaign, an ad group or an item.
pub async fn examine(db: &PgPool, book: &Book, subject: Subject) -> Result<Examined, DeskError> {
    let volumes = volume::of_account(db, book).await?;
    match subject {
        Subject::Campaign(id) => {
            let entry = book.entry(id)?;
            let days = entry.days.iter().map(|d| (d.day, d.tally)).collect();
            let expected = entry.days.iter().filter_map(|d| Some((d.day, d.expected?))).collect();
            let name = entry.campaign.name.clone();
            Ok(Examined { expected, ..examined(book, entry, name, book.judge(id), days, &volumes) })
        }
        Subject::AdGroup(_) | Subject::Item(_) => examine_part(db, book, subject, &volumes).await,
    }
}

async fn examine_part(
    db: &PgPool,
    book: &Book,
    subject: Subject,
    volumes: &Volumes,
) -> Result<Examined, DeskError> {
    let window = book.settled().unwrap_or(book.period.window);
    // All items of the account: the peers of a part stand in other campaigns too.
    let items = book::items(db, book, None, window).await?;
    let what = if matches!(subject, Subject::Item(_)) { "item" } else { "ad group" };
    let is_it = |i: &&ItemTally| match subject {
        Subject::Item(id) => i.item == id,
        Subject::AdGroup(id) => i.ad_group == id,
        Subject::Campaign(id) => i.campaign == id,
    };
    let one = items.iter().find(is_it).ok_or(DeskError::NotFound(what))?;
    let name = if what == "item" { one.name.clone() } else { one.ad_group_name.clone() };
    let name = if name.is_empty() { format!("({what} without a name)") } else { name };
    let judged = book.judge_part(&items, subject)?.map(|(j, _)| j);
    let first = window.from().checked_sub_days(Days::new(BID_HISTORY)).unwrap_or(window.from());
    let reach = Window::new(first, book.span.to()).unwrap_or(window);
    let days = book::days_of(db, &book.account, subject, reach).await?;
    Ok(examined(book, book.entry(one.campaign)?, name, judged, days, volumes))
}

fn examined(
    book: &Book,
    entry: &Entry,
    name: String,
    judged: Option<Judged>,
    days: Vec<(NaiveDate, Tally)>,
    volumes: &Volumes,
) -> Examined {
    let in_window =
        |w: Window| days.iter().filter(|(d, _)| w.contains(*d)).map(|(_, t)| *t).sum::<Tally>();
    let before = book.period.against.map(in_window);
    // A part's clicks answer to its bid as its campaign's do.
    let trade_off = judged.as_ref().and_then(|j| trade_off(j, volumes, entry.campaign.id));
    let shown_from = book
        .period
        .against
        .map_or(book.period.window.from(), |a| a.from().min(book.period.window.from()));
    let meets = book.settled().and_then(|w| book.meets_target(w));
    Examined {
        name,
        campaign: entry.campaign.name.clone(),
        campaign_id: entry.campaign.id,
        channel: entry.campaign.channel.clone(),
        judged,
        days: days.into_iter().filter(|(d, _)| *d >= shown_from).collect(),
        expected: Vec::new(),
        trade_off,
        meets,
        before,
    }
}

/// Whether a campaign's results are few, and not because the target would have had more of them: of few orders it is not
/// known what one is worth either.
fn few(j: &Judged) -> bool {
    let due = match j.target {
        Target::Cpa(cpa) => j.tally.spend.to_units() / cpa.units(),
        Target::Roas(_) => 0.0,
    };
    due.max(j.tally.conversions) < FEW
}

/// What the halfway bid is likely to bring; the conversion rate is held (common practice, no source:
/// as good at lower bids).
pub fn trade_off(j: &Judged, volumes: &Volumes, campaign: CampaignId) -> Option<TradeOff> {
    let (mean, cvr) = j.tally.cpc().zip(j.tally.cvr())?;
    let paid = volumes.paid(campaign, j)?;
    let may = j.diagnosis.affordable.filter(|_| j.diagnosis.halfway_bid.is_some())?.cautious;
    if paid <= may {
        return None;
    }
    let halfway = halfway_bid(may, paid);
    let elasticity = volumes.get(campaign);
    let (whole, times) =
        (elasticity.bid_for(halfway / paid), volumes.step(campaign, halfway / paid));
    let times = if few(j) { times.max(1.0 - STEP) } else { times };
    let in_part = times > whole + 1e-9;
    let cpc = if in_part { paid * elasticity.cpc(times).mid } else { halfway };
    // What came is of the bids that these days had, which are no longer all the present one.
    let interval = elasticity.volume(times * elasticity.bid_for(paid / mean)).around;
    let now = j.tally.conversions;
    Some(TradeOff {
        cpc,
        in_part,
        times,
        cpa: cpc / cvr,
        roas: j
            .tally
            .aov()
            .filter(|_| matches!(j.target, Target::Roas(_)))
            .map(|aov| aov * cvr / cpc),
        now,
        then: Interval { low: now * interval.low, high: now * interval.high },
        seen: elasticity.has_seen(times),
    })
}
