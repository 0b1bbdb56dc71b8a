//! The book: an account's campaigns with their days, as the screens of a period need them.

mod entry;
mod load;
mod parts;
mod past;
mod peers;
mod period;
pub mod quiet;
pub mod rollups;
pub(crate) mod touched;

use std::collections::{BTreeMap, HashMap};
use std::hash::Hash;
use std::sync::{Arc, OnceLock};

use chrono::NaiveDate;
use tiller_core::evidence::order_values;
use tiller_core::ids::CampaignId;
use tiller_core::purpose::Purpose;
use tiller_core::spot::Subject;
use tiller_core::tracking::{self, EventCount, Finding};
use tiller_core::verdict::{BudgetUse, Case, Diagnosis, diagnose};
use tiller_core::window::last_settled;
use tiller_core::{Price, Tally, Target, Window};
use tiller_store::PgPool;
use tiller_store::facts::{self, CampaignDay, Estimate};
use tiller_store::people::Account;

pub(crate) use entry::Completed;
pub use entry::Entry;
pub use parts::Parts;
pub use past::Past;
use peers::Candidate;
pub use peers::PeerCircle;
pub use period::{DEFAULT_DAYS, Period, PeriodChoice};
pub use tiller_store::facts::ItemTally;
pub use touched::{Touch, Touched, shock};

use crate::DeskError;
use crate::kept::{Kept, Stamp};
/// The last of them, which tell what is spent now.
pub const PRESENT_DAYS: u16 = 14;

/// By the period that was asked for.
static KEPT: Kept<PeriodChoice, Option<Arc<Book>>> = Kept::new(24);

/// A verdict with what it was drawn from.
#[derive(Clone, Debug)]
pub struct Judged {
    /// The answer.
    pub diagnosis: Diagnosis,
    /// What was counted in the settled window, with what is still to come.
    pub tally: Tally,
    /// Conversions of it that are still to come, by estimate.
    pub to_come: f64,
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

impl Judged {
    /// What it brought, in results that may cost the target each: value counts as so many of those that it stands for.
    pub fn results(&self) -> Option<f64> {
        match self.target {
            Target::Cpa(_) => Some(self.tally.conversions),
            Target::Roas(target) => {
                Some(Price::from(self.tally.value) / (self.diagnosis.target_cpa? * target))
            }
        }
    }
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
                .map(|e| Entry { days: parts.days_by(e, load::first(period), by), ..e.clone() })
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

    /// What all campaigns counted on each settled day.
    pub fn settled_days(&self) -> BTreeMap<NaiveDate, Tally> {
        self.settled_days_of(|_| true)
    }

    /// The same of some campaigns.
    pub fn settled_days_of(&self, who: impl Fn(&Entry) -> bool) -> BTreeMap<NaiveDate, Tally> {
        let mut all: BTreeMap<NaiveDate, Tally> = BTreeMap::new();
        let last = self.last_settled();
        let of = self.entries.iter().filter(|e| who(e));
        for day in of.flat_map(|e| e.days.iter()).filter(|d| d.day <= last) {
            *all.entry(day.day).or_default() += day.tally;
        }
        all
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

    /// A campaign's first day, where that falls into the reported history.
    pub fn launched(&self, entry: &Entry) -> Option<NaiveDate> {
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

    /// Estimates of what open days will have brought, as they were made on a past evening.
    pub(crate) fn expect(&mut self, open: &[(CampaignId, NaiveDate, Estimate)]) {
        let mut of: HashMap<(CampaignId, NaiveDate), Estimate> =
            open.iter().map(|(id, day, e)| ((*id, *day), *e)).collect();
        for entry in &mut self.entries {
            let id = entry.campaign.id;
            let with = |d: &CampaignDay| CampaignDay { expected: of.remove(&(id, d.day)), ..*d };
            entry.days = entry.days.iter().map(with).collect();
        }
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
        let completed = entry.completed(window);
        candidate.tally = completed.tally;
        (candidate.to_come, candidate.error) = (completed.to_come, completed.error);
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
        // What is still to come of a campaign comes to its parts as it has come so far.
        if let Some(window) = self.settled() {
            for candidate in &mut all {
                candidate.complete(&self.entry(candidate.campaign)?.completed(window));
            }
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
            dispersion: entry.lasting_dispersion(target.is_roas(), window),
            to_come_error: one.error,
        };
        Some(Judged {
            diagnosis: diagnose(&case),
            tally: one.tally,
            to_come: one.to_come,
            window,
            target,
            peers: (peers.len(), circle),
            budget_use,
            findings: findings.to_vec(),
        })
    }
}

/// By the campaign.
static ITEMS: Kept<(Period, (CampaignId, Window)), Vec<ItemTally>> = Kept::new(200);

/// Of all campaigns, which may be tens of thousands: of few accounts at a time.
static ALL_ITEMS: Kept<(Period, Window), Vec<ItemTally>> = Kept::new(4);

/// Items of a window with anything counted.
pub async fn items(
    db: &PgPool,
    book: &Book,
    campaign: Option<CampaignId>,
    window: Window,
) -> Result<Arc<Vec<ItemTally>>, DeskError> {
    let account = book.account.id;
    let Some(campaign) = campaign else {
        let read = async || Ok(facts::items(db, account, window, book.as_of).await?);
        return book.keep(&ALL_ITEMS, window, read).await;
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
