//! Response curves (A4): fitted to each campaign's own days after every fetch, and kept with their evidence.

use std::collections::HashMap;
use std::sync::Arc;

use chrono::{Datelike, NaiveDate};
use serde::{Deserialize, Serialize};
use tiller_core::evidence::lasting_dispersion;
use tiller_core::ids::{AccountId, AdGroupId, CampaignId};
use tiller_core::response::experiment::marked;
use tiller_core::response::regression::Prior;
use tiller_core::response::{self, Belief, Curve, Day};
use tiller_core::window::later;
use tiller_core::{Micros, Tally, Window};
use tiller_store::curves::{self, GroupDay};
use tiller_store::facts::CampaignDay;
use tiller_store::people::{self, Account};
use tiller_store::{PgPool, StoreError};

use crate::DeskError;
use crate::account::settings::Settings;
use crate::book::{Book, Entry, PeriodChoice};
use crate::courses::{self, Course, Kind};
use crate::kept::{Kept, Stamp};

/// Settled days that curves are fitted to.
pub const DAYS: u64 = 112;

/// A curve with what was believed of it beforehand.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Fitted {
    /// The curve.
    pub curve: Curve,
    /// The elasticities of its channel, as far as the other campaigns there tell.
    pub channel: Belief,
}

static KEPT: Kept<(), Curves> = Kept::new(24);

/// An account's curves.
#[derive(Clone, Debug, Default)]
pub struct Curves {
    campaigns: HashMap<CampaignId, (Window, Fitted)>,
    groups: HashMap<AdGroupId, (CampaignId, Fitted)>,
}

impl Curves {
    /// As they were fitted last.
    pub async fn load(db: &PgPool, account: &Account) -> Result<Arc<Self>, DeskError> {
        let stamp = Stamp::read(db, account.id).await?;
        KEPT.get(&stamp, (), || Self::read(db, account)).await
    }

    async fn read(db: &PgPool, account: &Account) -> Result<Self, DeskError> {
        let mut all = Self::default();
        for kept in curves::list(db, account.id).await? {
            let fitted = Fitted::deserialize(&kept.body).map_err(StoreError::from)?;
            match kept.ad_group {
                None => drop(all.campaigns.insert(kept.campaign, (kept.window, fitted))),
                Some(id) => drop(all.groups.insert(id, (kept.campaign, fitted))),
            }
        }
        Ok(all)
    }

    /// Of a book's campaigns, fitted to its settled days.
    pub fn of_book(book: &Book, courses: &[Course]) -> Self {
        let window = Window::ending(book.last_settled(), DAYS);
        let days: Vec<Vec<Day>> =
            book.entries.iter().map(|e| with_steps(e, courses, window)).collect();
        let fit = |((entry, days), channel): ((&Entry, &Vec<Day>), Belief)| {
            let curve = response::fit(days, channel)?;
            Some((entry.campaign.id, (window, Fitted { curve, channel })))
        };
        let each = book.entries.iter().zip(&days).zip(beliefs(book, &days));
        Self { campaigns: each.filter_map(fit).collect(), groups: HashMap::new() }
    }

    /// A campaign's, with the days that it was fitted to.
    pub fn of(&self, campaign: CampaignId) -> Option<&(Window, Fitted)> {
        self.campaigns.get(&campaign)
    }

    /// Of the ad groups of a campaign.
    pub fn of_groups(&self, campaign: CampaignId) -> Vec<(AdGroupId, &Fitted)> {
        let mine = self.groups.iter().filter(|(_, (c, _))| *c == campaign);
        let mut mine: Vec<_> = mine.map(|(id, (_, f))| (*id, f)).collect();
        mine.sort_by_key(|(id, _)| *id);
        mine
    }
}

/// Days as the regression takes them: with what was counted, and the budget if there is one.
fn days_of<'a>(
    days: impl Iterator<Item = (NaiveDate, &'a Tally, Option<Micros>)>,
    window: Window,
) -> Vec<Day> {
    days.filter(|(day, ..)| window.contains(*day))
        .map(|(day, tally, budget)| Day {
            weekday: day.weekday(),
            at: (day - window.from()).num_days() as f64,
            spend: tally.spend.to_units(),
            conversions: tally.conversions,
            budget: budget.map(Micros::to_units),
            step: None,
        })
        .collect()
}

/// A campaign's days with the steps of its experiments.
fn with_steps(entry: &Entry, courses: &[Course], window: Window) -> Vec<Day> {
    let steps = steps_of(entry, courses);
    let set = |d: &Day| steps.get(&later(window.from(), d.at as u64)).copied();
    marked(days_of(entry.days.iter().map(|d| (d.day, &d.tally, d.budget)), window), set)
}

/// The days on which experiments moved a campaign's budget: the logarithm of what was set over what stood before.
fn steps_of(entry: &Entry, courses: &[Course]) -> HashMap<NaiveDate, f64> {
    let mine = || {
        let experiment = |c: &&Course| c.plan.kind == Kind::Experiment;
        courses.iter().filter(|c| c.campaign == entry.campaign.id).filter(experiment)
    };
    let step =
        |d: &CampaignDay| Some((d.day, mine().find_map(|c| c.plan.step_of(d.day, d.budget))?));
    entry.days.iter().filter_map(step).collect()
}

/// Fits all curves anew and keeps them.
pub(crate) async fn refit(db: &PgPool, account: AccountId) -> Result<(), DeskError> {
    let account = people::account(db, account).await?.ok_or(DeskError::NotFound("account"))?;
    let Some(book) = Book::load(db, &account, PeriodChoice::default()).await? else {
        return Ok(());
    };
    let window = Window::ending(book.last_settled(), DAYS);
    let settings = Settings::of_account(db, account.id).await?;
    let courses = courses::list(db, &account).await?;
    let fitted = Curves::of_book(&book, &courses);
    let pooled: Vec<CampaignId> = book
        .entries
        .iter()
        .map(|e| e.campaign.id)
        .filter(|id| {
            settings.campaign(*id).is_some_and(|c| c.budget.is_some())
                && settings.ad_groups_of(*id).count() > 1
        })
        .collect();
    let group_days = curves::group_days(db, account.id, &pooled, window).await?;
    let mut kept = Vec::new();
    for (campaign, (_, of)) in fitted.campaigns {
        let Fitted { curve, channel: belief } = &of;
        // What experiments showed of the campaign holds for its parts.
        let own = curve.measured.map_or(*belief, |_| Belief {
            prior: Prior { mean: curve.elasticity, deviation: curve.elasticity_error },
            error: curve.shared,
        });
        kept.push(keep(campaign, None, window, &of)?);
        let mut groups: HashMap<AdGroupId, Vec<&GroupDay>> = HashMap::new();
        for (group, _) in settings.ad_groups_of(campaign) {
            groups.insert(group, Vec::new());
        }
        for day in &group_days {
            if let Some(of) = groups.get_mut(&day.ad_group) {
                of.push(day);
            }
        }
        for (group, group_days) in groups {
            // What a pool gives its parts, its channel decides: nobody set it.
            let days = days_of(group_days.iter().map(|d| (d.day, &d.tally, None)), window);
            if let Some(curve) = response::fit(&days, own) {
                let body = Fitted { curve, channel: *belief };
                kept.push(keep(campaign, Some(group), window, &body)?);
            }
        }
    }
    Ok(curves::replace(db, account.id, &kept).await?)
}

fn keep(
    campaign: CampaignId,
    ad_group: Option<AdGroupId>,
    window: Window,
    body: &Fitted,
) -> Result<curves::Kept, DeskError> {
    let body = serde_json::to_value(body).map_err(StoreError::from)?;
    Ok(curves::Kept { campaign, ad_group, window, body })
}

/// What is believed of each campaign's elasticity, in the order of the book.
fn beliefs(book: &Book, days: &[Vec<Day>]) -> Vec<Belief> {
    let mut channels: HashMap<&str, Vec<usize>> = HashMap::new();
    for (i, e) in book.entries.iter().enumerate() {
        channels.entry(&e.campaign.channel).or_default().push(i);
    }
    let mut all = vec![Belief::from(response::BELIEF); days.len()];
    for of in channels.values() {
        let together: Vec<&[Day]> = of.iter().map(|i| days[*i].as_slice()).collect();
        for (i, belief) in of.iter().zip(response::of_channel(&together)) {
            all[*i] = belief;
        }
    }
    all
}

/// A campaign's curve with all that it rests on.
#[derive(Clone, Debug)]
pub struct Examined {
    /// The fit, day by day.
    pub fit: response::Examined,
    /// First and last day.
    pub window: Window,
    /// What was believed of its channel.
    pub channel: Prior,
    /// Days of experiments: the logarithm of what was set over what stood before.
    pub steps: HashMap<NaiveDate, f64>,
    /// What came on days up and on days down, where an experiment is told by its curve.
    pub taken: Option<Taken>,
}

/// Conversions a day in an experiment's steps up and down: the campaign's own, and the whole account's, from whose other campaigns
/// some may have been taken.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Taken {
    /// Of the campaign, up and down.
    pub own: [f64; 2],
    /// Of the account.
    pub account: [f64; 2],
    /// The standard error of how far the account's days up and down lie apart.
    pub error: f64,
}

impl Taken {
    fn of(book: &Book, entry: &Entry, steps: &HashMap<NaiveDate, f64>, window: Window) -> Self {
        let a_day = |of: &Entry, up: bool| {
            let days = of.days.iter().filter(|d| window.contains(d.day));
            let side = days.filter(|d| steps.get(&d.day).is_some_and(|s| (*s > 0.0) == up));
            side.map(|d| d.tally.conversions).sum::<f64>()
        };
        let days = [true, false].map(|up| {
            let side = |(d, s): &(&NaiveDate, &f64)| window.contains(**d) && (**s > 0.0) == up;
            steps.iter().filter(side).count().max(1) as f64
        });
        let sides = |of: &dyn Fn(bool) -> f64| [of(true) / days[0], of(false) / days[1]];
        let account = sides(&|up| book.entries.iter().map(|e| a_day(e, up)).sum());
        let all_days: Vec<(f64, f64)> =
            book.settled_days().values().map(|t| (t.conversions, 1.0)).collect();
        let phi = lasting_dispersion(&all_days);
        let error = (phi * (account[0] / days[0] + account[1] / days[1])).sqrt();
        Self { own: sides(&|up| a_day(entry, up)), account, error }
    }
}

/// Fits one campaign's curve before the reader's eyes; absent where too little was counted.
pub async fn examine(
    db: &PgPool,
    book: &Book,
    campaign: CampaignId,
    courses: &[Course],
) -> Result<Option<Examined>, DeskError> {
    let entry = book.entry(campaign)?;
    let kept = Curves::load(db, &book.account).await?;
    let Some((window, fitted)) = kept.of(campaign) else { return Ok(None) };
    let days = with_steps(entry, courses, *window);
    let steps = steps_of(entry, courses);
    Ok(response::examine(&days, fitted.channel).map(|fit| Examined {
        taken: fit.curve.measured.map(|_| Taken::of(book, entry, &steps, *window)),
        fit,
        window: *window,
        channel: fitted.channel.prior,
        steps,
    }))
}
