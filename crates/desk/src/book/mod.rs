//! The book: an account's campaigns with their days, as the screens of a period need them.

mod load;
mod peers;
pub mod quiet;
pub mod rollups;
pub(crate) mod touched;

use std::collections::HashMap;
use std::hash::Hash;
use std::sync::{Arc, OnceLock};
use tiller_core::Price;

use chrono::NaiveDate;
use tiller_core::bid_volume::{self, Elasticity};
use tiller_core::evidence::{dispersion, order_values};
use tiller_core::ids::CampaignId;
use tiller_core::purpose::Purpose;
use tiller_core::segments::Rules;
use tiller_core::spot::Subject;
use tiller_core::tracking::{self, EventCount, Finding};
use tiller_core::verdict::{BudgetUse, Case, Diagnosis, LimitedBy, diagnose};
use tiller_core::window::last_settled;
use tiller_core::{Micros, Tally, Target, Window};
use tiller_store::PgPool;
use tiller_store::facts::{self, Campaign, CampaignDay};
use tiller_store::late::{EventDay, Late};
use tiller_store::people::Account;

use peers::Candidate;
pub use peers::PeerCircle;
pub use tiller_store::facts::ItemTally;
pub use touched::{Touch, Touched, shock};

use crate::DeskError;
use crate::kept::{Kept, Stamp};
/// The last of them, which tell what is spent now.
pub const PRESENT_DAYS: u16 = 14;
/// The period that a page opens with.
pub const DEFAULT_DAYS: u64 = 28;

/// By the period that was asked for.
static KEPT: Kept<PeriodChoice, Option<Arc<Book>>> = Kept::new(24);

/// A period and what it is compared with.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Period {
    /// The days looked at.
    pub window: Window,
    /// The days compared with.
    pub against: Option<Window>,
}

/// What a page asks for; what it leaves out follows from the data.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct PeriodChoice {
    /// First day.
    pub from: Option<NaiveDate>,
    /// Last day.
    pub to: Option<NaiveDate>,
    /// First day compared with.
    pub against_from: Option<NaiveDate>,
    /// Last day compared with.
    pub against_to: Option<NaiveDate>,
    /// Compare with nothing.
    pub alone: bool,
}

impl PeriodChoice {
    /// The period when reports cover `span`: by default the last 28 settled days against those before.
    pub fn resolve(
        &self,
        span: Option<Window>,
        settle_days: u64,
    ) -> Result<Option<Period>, DeskError> {
        let Some(span) = span else { return Ok(None) };
        let order = |from, to| {
            Window::new(from, to).filter(|w| w.days() <= 1100).ok_or_else(|| {
                DeskError::Invalid("the period ends before it begins, or is longer than three years; choose other dates".into())
            })
        };
        let window = match (self.from, self.to) {
            (Some(from), Some(to)) => order(from, to)?,
            (from, to) => {
                let to = to.unwrap_or_else(|| last_settled(span.to(), settle_days));
                match from {
                    Some(from) => order(from, to)?,
                    None => Window::ending(to, DEFAULT_DAYS),
                }
            }
        };
        let against = match (self.against_from, self.against_to) {
            _ if self.alone => None,
            (Some(from), Some(to)) => Some(order(from, to)?),
            _ => Some(window.before()),
        };
        Ok(Some(Period { window, against }))
    }
}

/// One campaign with all that the book knows of it.
#[derive(Clone, Debug)]
pub struct Entry {
    /// The campaign.
    pub campaign: Campaign,
    /// What a result may cost: its own target, else the account's.
    pub target: Option<Target>,
    /// What it is for among its peers: as somebody said, else as guessed.
    pub purpose: Purpose,
    /// Its days, history included.
    pub days: Arc<[CampaignDay]>,
}

impl Entry {
    /// What was counted in a window.
    pub fn tally(&self, window: Window) -> Tally {
        self.days.iter().filter(|d| window.contains(d.day)).map(|d| d.tally).sum()
    }

    /// Days in a window on which anything was counted.
    pub(crate) fn reported(&self, window: Window) -> u64 {
        self.days.iter().filter(|d| window.contains(d.day)).count() as u64
    }

    /// Budget use and bid over a window.
    pub fn budget_use(&self, window: Window) -> BudgetUse {
        let mut budget_use = BudgetUse::default();
        let (mut spend, mut budgets) = (0.0, 0.0);
        for day in self.days.iter().filter(|d| window.contains(d.day)) {
            if let Some(budget) = day.budget.map(Micros::to_units).filter(|b| *b > 0.0) {
                let spent = day.tally.spend.to_units();
                budget_use.days += 1;
                budget_use.full_days += u32::from(spent >= 0.95 * budget);
                spend += spent;
                budgets += budget;
            }
            budget_use.ceiling = day.bid.map(Price::from).or(budget_use.ceiling);
        }
        let lost: Vec<f64> = self
            .days
            .iter()
            .filter(|d| window.contains(d.day))
            .filter_map(|d| d.lost_to_bid)
            .collect();
        budget_use.lost_to_bid =
            (!lost.is_empty()).then(|| lost.iter().sum::<f64>() / lost.len() as f64);
        budget_use.used = (budgets > 0.0).then(|| spend / budgets);
        budget_use
    }

    /// What holds for bids of its parts: its days tell how much they differ, and where its budget is the limit more
    /// clicks are of no use.
    pub fn rules(&self, target: Target, window: Window) -> Rules {
        let days = self.days.iter().filter(|d| d.day <= window.to()).map(|d| &d.tally);
        let all: Tally = days.clone().copied().sum();
        let dispersion = match (target, all.aov().and_then(Price::positive)) {
            (Target::Roas(_), Some(aov)) => {
                dispersion(days.map(|t| (Price::from(t.value) / aov, t.clicks as f64)))
            }
            _ => dispersion(days.map(|t| (t.conversions, t.clicks as f64))),
        };
        let raise =
            self.budget_use(window).limited_by(self.tally(window).cpc()) != LimitedBy::Budget;
        Rules { target, dispersion, raise }
    }

    /// The last known daily budget.
    pub fn budget(&self) -> Option<f64> {
        self.days.iter().rev().find_map(|d| d.budget).map(Micros::to_units)
    }
}

/// A verdict with what it was drawn from.
#[derive(Clone, Debug)]
pub struct Judged {
    /// The answer.
    pub diagnosis: Diagnosis,
    /// What was counted in the settled window.
    pub tally: Tally,
    /// The settled window.
    pub window: Window,
    /// What a result may cost.
    pub target: Target,
    /// Tracking findings.
    pub findings: Vec<Finding>,
    /// How many peers, and which circle they come from.
    pub peers: (usize, PeerCircle),
    /// Budget use.
    pub budget_use: BudgetUse,
}

/// An account against its target.
#[derive(Clone, Copy, Debug)]
pub struct Meets {
    /// The target.
    pub target: Target,
    /// All campaigns.
    pub all: Tally,
    /// Without those for the account's own name, where it has any.
    pub without_brand: Option<Tally>,
}

impl Meets {
    /// Whether all of it meets the target.
    pub fn with_brand(&self) -> bool {
        self.target.excess(&self.all) <= 0.0
    }

    /// Whether it does without the account's own name; the same as with it, where it has no such campaign.
    pub fn without_brand(&self) -> bool {
        self.without_brand.map_or_else(|| self.with_brand(), |t| self.target.excess(&t) <= 0.0)
    }
}

/// An account's campaigns and days for a period, in one state: after a write it is loaded again.
#[derive(Clone, Debug)]
pub struct Book {
    /// The account.
    pub account: Account,
    /// The days that reports cover.
    pub span: Window,
    /// The period looked at.
    pub period: Period,
    /// Its campaigns, by name.
    pub entries: Vec<Entry>,
    /// What each campaign's events brought in the period, the most first, where reports tell them.
    pub events: HashMap<CampaignId, Vec<EventCount>>,
    /// The past day on whose evening this was known; none where it is what is known now.
    pub as_of: Option<NaiveDate>,
    /// What tracking says of each campaign, once somebody has asked for it.
    pub(crate) tracked: OnceLock<HashMap<CampaignId, Vec<Finding>>>,
    /// The verdicts, once somebody has asked for them.
    pub(crate) judged: OnceLock<Vec<Option<Judged>>>,
    /// Changes that wait, or can't be judged yet.
    pub touched: Touched,
    /// Peers that somebody chose.
    pub chosen_peers: HashMap<CampaignId, Vec<CampaignId>>,
    /// The state of the account that it was read of; none where it is of no account as it stands.
    pub(crate) stamp: Option<Stamp>,
}

/// What a book is made of: all that is known of an account, with the days on which it came in.
#[derive(Clone, Debug)]
pub struct Parts {
    /// The account.
    pub account: Account,
    /// The days that reports cover.
    pub span: Window,
    /// Its campaigns with all their days, by name.
    pub entries: Vec<Entry>,
    /// What each campaign's events brought a day.
    pub events: Arc<HashMap<CampaignId, Vec<EventDay>>>,
    /// Conversions that came in after the day of their click, as far back as a past day is to be looked at.
    pub late: HashMap<CampaignId, Vec<Late>>,
    /// Changes that wait, can't be judged yet, or could not on such a past day.
    pub touched: Touched,
    /// Peers that somebody chose.
    pub chosen_peers: HashMap<CampaignId, Vec<CampaignId>>,
}

impl Parts {
    /// The days that reports covered by a day.
    pub fn covered(&self, as_of: Option<NaiveDate>) -> Option<Window> {
        let to = as_of.map_or(self.span.to(), |day| day.min(self.span.to()));
        Window::new(self.span.from(), to)
    }

    /// What had come in of a campaign's days by a past day. Estimates of what is to come are those of now, and are
    /// left out.
    fn days_by(&self, entry: &Entry, by: NaiveDate) -> Arc<[CampaignDay]> {
        let late = self.late.get(&entry.campaign.id).map_or(&[][..], Vec::as_slice);
        let not_yet = |day: NaiveDate| {
            let of = move |l: &&Late| l.on > by && l.of.counts && l.of.day == day;
            late.iter().filter(of).fold((Micros::ZERO, Micros::ZERO), |(count, value), l| {
                (count + l.of.conversions, value + l.of.value)
            })
        };
        let known = |d: &CampaignDay| {
            let (count, value) = not_yet(d.day);
            let mut tally = d.tally;
            tally.conversions = (Micros::from_units(tally.conversions) - count).to_units();
            tally.value = tally.value - value;
            CampaignDay { tally, expected: None, ..*d }
        };
        entry.days.iter().filter(|d| d.day <= by).map(known).collect()
    }

    /// What a campaign's events brought in a window, as far as it had come in by a past day.
    fn events_in(
        &self,
        campaign: CampaignId,
        window: Window,
        by: Option<NaiveDate>,
    ) -> Vec<EventCount> {
        let days = self.events.get(&campaign).into_iter().flatten();
        let late = self.late.get(&campaign).into_iter().flatten();
        let not_yet = late.filter(|l| by.is_some_and(|by| l.on > by)).map(|l| (&l.of, -1.0));
        let mut sums: HashMap<&str, EventCount> = HashMap::new();
        for (e, sign) in days.map(|e| (e, 1.0)).chain(not_yet) {
            if window.contains(e.day) && !e.event.is_empty() {
                let sum = sums.entry(&e.event).or_insert_with(|| EventCount {
                    event: e.event.clone(),
                    conversions: 0.0,
                    value: 0.0,
                    counts: false,
                });
                sum.conversions += sign * e.conversions.to_units();
                sum.value += sign * e.value.to_units();
                sum.counts |= e.counts;
            }
        }
        let mut all: Vec<EventCount> =
            sums.into_values().filter(|e| e.conversions > 1e-9 || by.is_none()).collect();
        all.sort_by(|a, b| {
            b.conversions.total_cmp(&a.conversions).then_with(|| a.event.cmp(&b.event))
        });
        all
    }

    /// Changes that were in force by a past day and could not be judged yet.
    fn touched_by(&self, by: NaiveDate) -> Touched {
        let known = |t: &&Touch| t.from.is_some_and(|f| f <= by) && t.until.is_some_and(|u| u > by);
        let of = |all: &Vec<Touch>| all.iter().filter(known).cloned().collect::<Vec<_>>();
        self.touched.iter().map(|(campaign, all)| (*campaign, of(all))).collect()
    }
}

impl Book {
    /// The book of a period: as it is known now, or as it was known on the evening of a past day, from what reports
    /// had told by then. What people had decided then is not known any more: targets, purposes and what counts are
    /// those of now.
    pub fn new(parts: &Parts, period: Period, as_of: Option<NaiveDate>) -> Self {
        let entries = match as_of {
            None => parts.entries.clone(),
            Some(by) => parts
                .entries
                .iter()
                .map(|e| Entry { days: parts.days_by(e, by), ..e.clone() })
                .collect(),
        };
        let events = parts
            .entries
            .iter()
            .map(|e| (e.campaign.id, parts.events_in(e.campaign.id, period.window, as_of)))
            .filter(|(_, events)| !events.is_empty())
            .collect();
        Self {
            account: parts.account.clone(),
            span: parts.covered(as_of).unwrap_or(parts.span),
            period,
            entries,
            events,
            as_of,
            tracked: OnceLock::new(),
            judged: OnceLock::new(),
            touched: as_of.map_or_else(|| parts.touched.clone(), |by| parts.touched_by(by)),
            chosen_peers: parts.chosen_peers.clone(),
            stamp: None,
        }
    }

    /// The book as it is known now; none if the account has no reports yet.
    pub async fn load(
        db: &PgPool,
        account: &Account,
        choice: PeriodChoice,
    ) -> Result<Option<Arc<Self>>, DeskError> {
        let stamp = Stamp::read(db, account.id).await?;
        let read = async || {
            let Some(parts) = load::parts(db, account, choice, &stamp, None).await? else {
                return Ok(None);
            };
            let Some(period) = choice.resolve(parts.covered(None), account.settle_days())? else {
                return Ok(None);
            };
            Ok(Some(Arc::new(Self {
                stamp: Some(stamp.clone()),
                ..Self::new(&parts, period, None)
            })))
        };
        Ok(KEPT.get(&stamp, choice, read).await?.as_ref().clone())
    }

    /// The books of past days, each as it was known on its evening, without the days that no report covered yet.
    pub async fn of_past_days(
        db: &PgPool,
        account: &Account,
        choice: PeriodChoice,
        days: Window,
    ) -> Result<Vec<Self>, DeskError> {
        let stamp = Stamp::read(db, account.id).await?;
        let parts = load::parts(db, account, choice, &stamp, Some(days.from())).await?;
        let Some(parts) = parts else { return Ok(Vec::new()) };
        let mut books = Vec::new();
        for day in days.iter() {
            if let Some(period) = choice.resolve(parts.covered(Some(day)), account.settle_days())? {
                books.push(Self::new(&parts, period, Some(day)));
            }
        }
        Ok(books)
    }

    /// What is computed of this book alone, kept while it stands.
    pub(crate) async fn keep<K, T, F>(
        &self,
        kept: &Kept<(Period, K), T>,
        of: K,
        compute: impl FnOnce() -> F,
    ) -> Result<Arc<T>, DeskError>
    where
        K: Hash + Eq + Send + Sync + 'static,
        T: Send + Sync + 'static,
        F: Future<Output = Result<T, DeskError>>,
    {
        match &self.stamp {
            Some(stamp) => kept.get(stamp, (self.period, of), compute).await,
            None => compute().await.map(Arc::new),
        }
    }

    /// The last day whose conversions count as complete.
    pub fn last_settled(&self) -> NaiveDate {
        last_settled(self.span.to(), self.account.settle_days())
    }

    /// One campaign.
    pub fn entry(&self, id: CampaignId) -> Result<&Entry, DeskError> {
        self.entries.iter().find(|e| e.campaign.id == id).ok_or(DeskError::NotFound("campaign"))
    }

    /// The settled part of the period.
    pub fn settled(&self) -> Option<Window> {
        self.period.window.settled(self.span.to(), self.account.settle_days())
    }

    /// All campaigns together in a window.
    pub fn total(&self, window: Window) -> Tally {
        self.entries.iter().map(|e| e.tally(window)).sum()
    }

    /// Money above target of all campaigns that have one.
    pub fn excess(&self, window: Window) -> f64 {
        self.entries.iter().filter_map(|e| Some(e.target?.excess(&e.tally(window)))).sum()
    }

    /// Whether the account as a whole meets its default target in a window, with its own name's campaigns and
    /// without: who searches the name would mostly have come anyway.
    pub fn meets_target(&self, window: Window) -> Option<Meets> {
        let target = self.account.target()?;
        let brand: Tally = self
            .entries
            .iter()
            .filter(|e| e.purpose == Purpose::Brand)
            .map(|e| e.tally(window))
            .sum();
        let all = self.total(window);
        let without = (!brand.is_empty()).then(|| all - brand);
        Some(Meets { target, all, without_brand: without })
    }

    /// The last first day in force of a campaign's changes that are not to be judged yet.
    pub fn changed(&self, campaign: CampaignId) -> Option<NaiveDate> {
        self.touched.get(&campaign)?.iter().filter_map(|t| t.from).max()
    }

    /// Whether results are told by their value.
    pub fn by_value(&self) -> bool {
        let roas =
            self.entries.iter().filter(|e| matches!(e.target, Some(Target::Roas(_)))).count();
        2 * roas > self.entries.len()
    }

    fn launched(&self, entry: &Entry) -> Option<NaiveDate> {
        entry.campaign.first_day.filter(|first| *first > self.span.from())
    }

    /// What tracking says of a campaign, from its settled days.
    pub fn findings(&self, entry: &Entry) -> &[Finding] {
        let all = self
            .tracked
            .get_or_init(|| self.entries.iter().map(|e| (e.campaign.id, self.track(e))).collect());
        all.get(&entry.campaign.id).map_or(&[], Vec::as_slice)
    }

    fn track(&self, entry: &Entry) -> Vec<Finding> {
        let settled = self.last_settled().min(self.period.window.to());
        let days: Vec<_> =
            entry.days.iter().filter(|d| d.day <= settled).map(|d| (d.day, d.tally)).collect();
        let events = self.events.get(&entry.campaign.id).map_or(&[][..], Vec::as_slice);
        tracking::findings(&days, events, entry.target)
    }

    /// The verdicts on all campaigns, in their order; none without a target or settled days.
    pub fn judge_all(&self) -> &[Option<Judged>] {
        self.judged.get_or_init(|| {
            let Some(window) = self.settled() else {
                return self.entries.iter().map(|_| None).collect();
            };
            let all: Vec<Candidate> =
                self.entries.iter().map(|e| Self::candidate(e, window)).collect();
            // A campaign whose conversions can't be trusted, or that has no target, is no benchmark.
            let fit: Vec<Candidate> = self
                .entries
                .iter()
                .zip(&all)
                .filter(|(e, _)| e.target.is_some() && self.findings(e).is_empty())
                .map(|(_, c)| c.clone())
                .collect();
            self.entries.iter().zip(&all).map(|(e, c)| self.judge_among(e, c, &fit)).collect()
        })
    }

    /// The verdict on one campaign.
    pub fn judge(&self, id: CampaignId) -> Option<Judged> {
        let place = self.entries.iter().position(|e| e.campaign.id == id)?;
        self.judge_all()[place].clone()
    }

    fn unjudged(&self) -> Self {
        let (tracked, judged) = (OnceLock::new(), OnceLock::new());
        Self { tracked, judged, stamp: None, ..self.clone() }
    }

    /// The same book, looking at the settled days of its period only.
    #[must_use]
    pub fn of_settled_days(&self) -> Self {
        let mut book = self.unjudged();
        book.period.window = self.settled().unwrap_or(self.period.window);
        book
    }

    fn candidate(entry: &Entry, window: Window) -> Candidate {
        let days = || entry.days.iter().filter(|d| window.contains(d.day)).map(|d| &d.tally);
        let mut candidate = Candidate::of(entry, Subject::Campaign(entry.campaign.id));
        candidate.tally = days().copied().sum();
        if matches!(entry.target, Some(Target::Roas(_))) {
            candidate.orders = order_values::orders(days());
        }
        candidate
    }

    /// The verdict on an ad group or an item among the items given, all of the settled window.
    pub fn judge_part(
        &self,
        items: &[ItemTally],
        subject: Subject,
    ) -> Result<Option<(Judged, CampaignId)>, DeskError> {
        let mut all: Vec<Candidate> = Vec::new();
        let mut places: HashMap<i64, usize> = HashMap::new();
        for item in items {
            let (this, key) = match subject {
                Subject::Item(_) => (Subject::Item(item.item), item.item.0),
                _ => (Subject::AdGroup(item.ad_group), item.ad_group.0),
            };
            let place = match places.get(&key) {
                Some(place) => *place,
                None => {
                    all.push(Candidate::of(self.entry(item.campaign)?, this));
                    places.insert(key, all.len() - 1);
                    all.len() - 1
                }
            };
            all[place].tally += item.tally;
        }
        let Some(one) = all.iter().find(|c| c.subject == subject) else { return Ok(None) };
        let home = one.campaign;
        Ok(self.judge_among(self.entry(home)?, one, &all).map(|j| (j, home)))
    }

    fn judge_among(&self, entry: &Entry, one: &Candidate, all: &[Candidate]) -> Option<Judged> {
        let (target, window) = entry.target.zip(self.settled())?;
        let chosen = self.chosen_peers.get(&entry.campaign.id).map_or(&[][..], Vec::as_slice);
        let (peers, circle) = peers::of(one, chosen, all);
        let tallies: Vec<Tally> = peers.iter().map(|c| c.tally).collect();
        let findings = self.findings(entry);
        let whole = matches!(one.subject, Subject::Campaign(_));
        let budget_use = if whole { entry.budget_use(window) } else { BudgetUse::default() };
        let touches = self.touched.get(&entry.campaign.id).map_or(&[][..], Vec::as_slice);
        let case = Case {
            tally: one.tally,
            settled_days: entry.reported(window),
            target,
            least_difference: self.account.least_difference,
            peers: &tallies,
            orders: one.orders.zip(peers::together(peers.iter().copied())),
            launched: self.launched(entry),
            shocked: shock(touches),
            last_day: self.span.to(),
            settle_days: self.account.settle_days(),
            findings,
            budget_use,
        };
        Some(Judged {
            diagnosis: diagnose(&case),
            tally: one.tally,
            window,
            target,
            peers: (peers.len(), circle),
            budget_use,
            findings: findings.to_vec(),
        })
    }
}

/// How a thing's clicks answer to its CPC, from its days.
pub fn elasticity(days: &[(NaiveDate, Tally)]) -> Option<Elasticity> {
    use chrono::Datelike;
    let days: Vec<_> = days
        .iter()
        .map(|(day, tally)| bid_volume::Day { weekday: day.weekday(), tally: *tally })
        .collect();
    bid_volume::elasticity(&days)
}

/// By the campaign.
static ITEMS: Kept<(Period, (CampaignId, Window)), Vec<ItemTally>> = Kept::new(200);

/// Items of a window with anything counted.
pub async fn items(
    db: &PgPool,
    book: &Book,
    campaign: Option<CampaignId>,
    window: Window,
) -> Result<Arc<Vec<ItemTally>>, DeskError> {
    let account = book.account.id;
    let Some(campaign) = campaign else {
        // All of a large account are too many to keep.
        return Ok(Arc::new(facts::items(db, account, window, book.as_of).await?));
    };
    let read = async || Ok(facts::items_of(db, account, campaign, window, book.as_of).await?);
    book.keep(&ITEMS, (campaign, window), read).await
}

/// The days of an ad group or an item.
pub async fn days_of(
    db: &PgPool,
    account: &Account,
    subject: Subject,
    window: Window,
) -> Result<Vec<(NaiveDate, Tally)>, DeskError> {
    Ok(facts::days_of(db, account.id, subject, window).await?)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(m: u32, d: u32) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, m, d).unwrap()
    }

    #[test]
    fn a_page_opens_with_the_last_28_settled_days() {
        let span = Window::new(day(6, 13), day(11, 9));
        let period = PeriodChoice::default().resolve(span, 2).unwrap().unwrap();
        assert_eq!(period.window, Window::new(day(10, 11), day(11, 7)).unwrap());
        assert_eq!(period.against, Window::new(day(9, 13), day(10, 10)));
        assert!(PeriodChoice::default().resolve(None, 2).unwrap().is_none());
    }

    #[test]
    fn a_period_that_ends_before_it_begins_is_refused() {
        let span = Window::new(day(6, 13), day(11, 9));
        let choice = PeriodChoice {
            from: Some(day(11, 2)),
            to: Some(day(11, 1)),
            ..PeriodChoice::default()
        };
        assert!(matches!(choice.resolve(span, 2), Err(DeskError::Invalid(_))));
        let alone = PeriodChoice { alone: true, ..PeriodChoice::default() };
        assert_eq!(alone.resolve(span, 2).unwrap().unwrap().against, None);
    }
}
