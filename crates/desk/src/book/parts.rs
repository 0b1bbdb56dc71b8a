//! What a book is made of, and what of it was known on a past day.

use std::collections::HashMap;
use std::sync::Arc;

use chrono::NaiveDate;
use tiller_core::ids::CampaignId;
use tiller_core::tracking::EventCount;
use tiller_core::{Micros, Window};
use tiller_store::facts::CampaignDay;
use tiller_store::late::{EventDay, Late};
use tiller_store::people::Account;

use super::entry::Entry;
use super::touched::{Touch, Touched};

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

    /// What had come in of a campaign's days from a first one on by a past day. Estimates of what is to come are those of
    /// now, and are left out.
    pub(super) fn days_by(
        &self,
        entry: &Entry,
        first: NaiveDate,
        by: NaiveDate,
    ) -> Arc<[CampaignDay]> {
        let mut not_yet: HashMap<NaiveDate, (Micros, Micros)> = HashMap::new();
        for l in self.late.get(&entry.campaign.id).into_iter().flatten() {
            if l.on > by && l.of.counts {
                let (count, value) = not_yet.entry(l.of.day).or_default();
                *count += l.of.conversions;
                *value += l.of.value;
            }
        }
        let known = |d: &CampaignDay| {
            let (count, value) = not_yet.get(&d.day).copied().unwrap_or_default();
            let mut tally = d.tally;
            tally.conversions = (Micros::from_units(tally.conversions) - count).to_units();
            tally.value = tally.value - value;
            CampaignDay { tally, expected: None, ..*d }
        };
        entry.days.iter().filter(|d| (first..=by).contains(&d.day)).map(known).collect()
    }

    /// What a campaign's events brought in a window, as far as it had come in by a past day.
    pub(super) fn events_in(
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
    pub(super) fn touched_by(&self, by: NaiveDate) -> Touched {
        let known = |t: &&Touch| t.from.is_some_and(|f| f <= by) && t.until.is_some_and(|u| u > by);
        let of = |all: &Vec<Touch>| all.iter().filter(known).cloned().collect::<Vec<_>>();
        self.touched.iter().map(|(campaign, all)| (*campaign, of(all))).collect()
    }
}
