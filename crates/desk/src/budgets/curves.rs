//! Response curves (A4): fitted to each campaign's own days after every fetch, and kept with their evidence.

use std::collections::HashMap;
use std::sync::Arc;

use chrono::{Datelike, NaiveDate};
use serde::{Deserialize, Serialize};
use tiller_core::ids::{AccountId, AdGroupId, CampaignId};
use tiller_core::response::experiment::{self, Side};
use tiller_core::response::regression::Prior;
use tiller_core::response::{self, Curve, Day};
use tiller_core::{Tally, Window};
use tiller_store::curves::{self, GroupDay};
use tiller_store::people::{self, Account};
use tiller_store::{PgPool, StoreError};

use crate::DeskError;
use crate::account::settings::Settings;
use crate::book::{Book, PeriodChoice};
use crate::courses::{self, Course, Kind};
use crate::kept::{Kept, Stamp};

/// Settled days that curves are fitted to.
pub const DAYS: u64 = 112;

/// A curve with what was believed of it beforehand.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Fitted {
    /// The curve.
    pub curve: Curve,
    /// The elasticities of its channel.
    pub channel: Prior,
    /// What an experiment measured, if there was one.
    pub measured: Option<Prior>,
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

/// A campaign's days as the regression takes them.
pub fn days_of<'a>(days: impl Iterator<Item = (NaiveDate, &'a Tally)>, window: Window) -> Vec<Day> {
    days.filter(|(day, _)| window.contains(*day))
        .map(|(day, tally)| Day {
            weekday: day.weekday(),
            at: (day - window.from()).num_days() as f64,
            spend: tally.spend.to_units(),
            conversions: tally.conversions,
        })
        .collect()
}

/// The days of an account's campaigns that curves are fitted to.
fn campaign_days(book: &Book, window: Window) -> Vec<(CampaignId, &str, Vec<Day>)> {
    let days = |e: &crate::book::Entry| days_of(e.days.iter().map(|d| (d.day, &d.tally)), window);
    book.entries.iter().map(|e| (e.campaign.id, e.campaign.channel.as_str(), days(e))).collect()
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
    let days = campaign_days(&book, window);
    let beliefs = beliefs(&days);
    let pooled: Vec<CampaignId> = days
        .iter()
        .map(|(id, _, _)| *id)
        .filter(|id| {
            settings.campaign(*id).is_some_and(|c| c.budget.is_some())
                && settings.ad_groups_of(*id).count() > 1
        })
        .collect();
    let group_days = curves::group_days(db, account.id, &pooled, window).await?;
    let mut kept = Vec::new();
    for (campaign, channel, days) in &days {
        let Some(belief) = beliefs.get(channel).copied() else { continue };
        let experiments = courses.iter().filter(|c| c.campaign == *campaign);
        let measured = measured(&book, *campaign, experiments, window);
        let own = measured.map_or(belief, |m| experiment::together(belief, m));
        let Some(curve) = response::fit(days, own) else { continue };
        let body = Fitted { curve, channel: belief, measured };
        kept.push(keep(*campaign, None, window, &body)?);
        let mut groups: HashMap<AdGroupId, Vec<&GroupDay>> = HashMap::new();
        for (group, _) in settings.ad_groups_of(*campaign) {
            groups.insert(group, Vec::new());
        }
        for day in &group_days {
            if let Some(of) = groups.get_mut(&day.ad_group) {
                of.push(day);
            }
        }
        for (group, of) in groups {
            let days = days_of(of.iter().map(|d| (d.day, &d.tally)), window);
            if let Some(curve) = response::fit(&days, own) {
                let body = Fitted { curve, channel: belief, measured: None };
                kept.push(keep(*campaign, Some(group), window, &body)?);
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

/// What is believed of each channel's elasticities.
fn beliefs<'a>(days: &[(CampaignId, &'a str, Vec<Day>)]) -> HashMap<&'a str, Prior> {
    let mut channels: HashMap<&str, Vec<&[Day]>> = HashMap::new();
    for (_, channel, days) in days {
        channels.entry(channel).or_default().push(days);
    }
    channels.into_iter().map(|(channel, of)| (channel, response::of_channel(&of))).collect()
}

/// What a campaign's experiments measured: all their weeks up against all their weeks down.
fn measured<'a>(
    book: &Book,
    campaign: CampaignId,
    experiments: impl Iterator<Item = &'a Course>,
    window: Window,
) -> Option<Prior> {
    let entry = book.entry(campaign).ok()?;
    let experiments: Vec<&Course> =
        experiments.filter(|c| c.plan.kind == Kind::Experiment).collect();
    let (mut up, mut down) = (Side::default(), Side::default());
    for day in entry.days.iter().filter(|d| window.contains(d.day)) {
        let side = match experiments.iter().find_map(|c| c.plan.side(day.day, day.budget)) {
            Some(true) => &mut up,
            Some(false) => &mut down,
            None => continue,
        };
        side.days += 1.0;
        side.spend += day.tally.spend.to_units();
        side.conversions += day.tally.conversions;
    }
    // Before a week of each, weekdays would be taken for an answer.
    if up.days.min(down.days) < experiment::STEP_DAYS as f64 {
        return None;
    }
    experiment::measured(up, down, 1.0)
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
    /// What experiments measured.
    pub measured: Option<Prior>,
    /// Days of experiments, and whether they were up.
    pub steps: HashMap<NaiveDate, bool>,
}

/// Fits one campaign's curve before the reader's eyes; absent where too little was counted.
pub async fn examine(
    db: &PgPool,
    book: &Book,
    campaign: CampaignId,
    courses: &[Course],
) -> Result<Option<Examined>, DeskError> {
    let entry = book.entry(campaign)?;
    let mine =
        || courses.iter().filter(|c| c.campaign == campaign && c.plan.kind == Kind::Experiment);
    let kept = Curves::load(db, &book.account).await?;
    let Some((window, fitted)) = kept.of(campaign) else { return Ok(None) };
    let days = days_of(entry.days.iter().map(|d| (d.day, &d.tally)), *window);
    let belief =
        fitted.measured.map_or(fitted.channel, |m| experiment::together(fitted.channel, m));
    Ok(response::examine(&days, belief).map(|fit| Examined {
        fit,
        window: *window,
        channel: fitted.channel,
        measured: fitted.measured,
        steps: entry
            .days
            .iter()
            .filter_map(|d| Some((d.day, mine().find_map(|c| c.plan.side(d.day, d.budget))?)))
            .collect(),
    }))
}
