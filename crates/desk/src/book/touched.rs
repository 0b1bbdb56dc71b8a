//! What was changed lately: until its look-back nothing else is advised there, and if it was a shock for a
//! campaign, the campaign is not judged either.

use std::collections::HashMap;

use chrono::{Days, NaiveDate};
use serde::Deserialize;
use tiller_core::Micros;
use tiller_core::ids::CampaignId;
use tiller_core::learning::{Moved, SHOCK, relative};
use tiller_core::setting::{Hours, Setting, Status};
use tiller_core::week::WeekHour;
use tiller_store::people::Account;
use tiller_store::touched::{self, Touch as Row};
use tiller_store::{PgPool, StoreError};

use crate::DeskError;
use crate::change_words::{amount, moved};
use tiller_core::spot::Spot;

/// Days after which advice that was taken back may be given again: a whole period of new evidence.
const FORGOTTEN_DAYS: u64 = 28;

/// A change that is not to be judged yet.
#[derive(Clone, Debug)]
pub struct Touch {
    /// Where.
    pub spot: Spot,
    /// What was set before.
    pub was: Option<Setting>,
    /// What it set.
    pub set_to: Setting,
    /// First day in force; none while it waits in the tray.
    pub from: Option<NaiveDate>,
    /// The day on which it can be judged, and until which nothing else is advised there.
    pub until: Option<NaiveDate>,
    /// Whether it took another change back.
    pub undoes: bool,
    /// Money that it is expected to add to what is spent a day, where anything tells.
    pub adds: Option<f64>,
    /// How far it moves what its campaign does, as a share: the change of one item weighs by how many there are.
    size: f64,
}

/// An account's changes by campaign, in order of their first day.
pub type Touched = HashMap<CampaignId, Vec<Touch>>;

/// Reads what is not to be judged before a day is over.
pub(crate) async fn load(
    db: &PgPool,
    account: &Account,
    last_day: NaiveDate,
) -> Result<Touched, DeskError> {
    read(db, account, last_day, true).await
}

/// The same without what waits.
pub(crate) async fn made(
    db: &PgPool,
    account: &Account,
    last_day: NaiveDate,
) -> Result<Touched, DeskError> {
    read(db, account, last_day, false).await
}

async fn read(
    db: &PgPool,
    account: &Account,
    last_day: NaiveDate,
    waiting: bool,
) -> Result<Touched, DeskError> {
    let forgotten = last_day.checked_sub_days(Days::new(FORGOTTEN_DAYS)).unwrap_or(last_day);
    let mut all = Touched::new();
    for row in touched::touched(db, account.id, last_day, forgotten, waiting).await? {
        let campaign = row.campaign;
        all.entry(campaign).or_default().push(Touch::read(row)?);
    }
    Ok(all)
}

impl Touch {
    fn read(row: Row) -> Result<Self, DeskError> {
        let was =
            row.was.as_ref().map(Setting::deserialize).transpose().map_err(StoreError::from)?;
        let set_to = Setting::deserialize(&row.set_to).map_err(StoreError::from)?;
        let spot = Spot { campaign: row.campaign, ad_group: row.ad_group, item: row.item };
        let forgotten = |from: NaiveDate| from.checked_add_days(Days::new(FORGOTTEN_DAYS));
        let until = match (row.undoes, row.from_day.and_then(forgotten)) {
            (true, Some(forgotten)) => row.look_back.max(Some(forgotten)),
            _ => row.look_back,
        };
        let size = size(was.as_ref(), &set_to) / row.parts.max(1) as f64;
        let adds = row.spend_a_day.map(|m| Micros::new(m).to_units());
        Ok(Self { spot, was, set_to, from: row.from_day, until, undoes: row.undoes, adds, size })
    }

    /// A change of a campaign as a whole, or of one of few parts, that was made.
    pub fn made(
        spot: Spot,
        was: Option<Setting>,
        set_to: Setting,
        from: NaiveDate,
        until: NaiveDate,
    ) -> Self {
        let size = size(was.as_ref(), &set_to);
        let (from, until) = (Some(from), Some(until));
        Self { spot, was, set_to, from, until, undoes: false, adds: None, size }
    }

    /// Whether it waits in the tray, or is on its way.
    pub fn waits(&self) -> bool {
        self.from.is_none()
    }
}

/// The last shock to a campaign: its first day, and the day on which it can be judged. Changes of its parts are
/// one shock together if they came on one day and reach far enough.
pub fn shock(touches: &[Touch]) -> Option<(NaiveDate, NaiveDate)> {
    let mut parts: HashMap<NaiveDate, f64> = HashMap::new();
    for t in touches.iter().filter(|t| t.spot.ad_group.is_some()) {
        *parts.entry(t.from.unwrap_or_default()).or_default() += t.size;
    }
    let shocks = touches.iter().filter_map(|t| {
        let (from, until) = t.from.zip(t.until)?;
        let size = if t.spot.ad_group.is_some() { parts[&from] } else { t.size };
        (size > SHOCK + 1e-9).then_some((from, until))
    });
    shocks.max_by_key(|(_, until)| *until)
}

/// How far a change moves what it is made to.
fn size(was: Option<&Setting>, set_to: &Setting) -> f64 {
    let share = |from: f64, to: f64| relative(from, to).map_or(f64::INFINITY, f64::abs);
    match (moved(was, set_to), set_to) {
        (Moved::Strategy | Moved::Targeting, _) => f64::INFINITY,
        (Moved::Target { from, to } | Moved::Budget { from, to }, _) => share(from, to),
        (Moved::Other, Setting::Bid(_) | Setting::BidCeiling(_) | Setting::BidFloor(_)) => {
            let both = was.and_then(amount).zip(amount(set_to));
            both.map_or(SHOCK, |(from, to)| share(from, to))
        }
        (Moved::Other, Setting::Status(to)) => match was {
            Some(Setting::Status(from)) if (*from == Status::Active) == (*to == Status::Active) => {
                0.0
            }
            _ => 1.0,
        },
        (Moved::Other, Setting::Hours(to)) => {
            let on = |h: Option<&Hours>| h.map_or(WeekHour::COUNT, Hours::on) as f64;
            let before = match was {
                Some(Setting::Hours(hours)) => on(hours.as_ref()),
                _ => on(None),
            };
            (before - on(to.as_ref())).abs() / WeekHour::COUNT as f64
        }
        (Moved::Other, _) => 0.0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::ids::{AdGroupId, ItemId};
    use tiller_core::setting::Budget;

    fn day(d: u32) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, 11, d).unwrap()
    }

    fn budget(units: f64) -> Setting {
        Setting::Budget(Budget::Daily { amount: Micros::from_units(units) })
    }

    fn touch(was: Setting, set_to: Setting, item: Option<i64>, parts: f64) -> Touch {
        let (ad_group, item) = (item.map(AdGroupId), item.map(ItemId));
        Touch {
            spot: Spot { campaign: CampaignId(1), ad_group, item },
            size: size(Some(&was), &set_to) / parts,
            was: Some(was),
            set_to,
            from: Some(day(10)),
            until: Some(day(19)),
            undoes: false,
            adds: None,
        }
    }

    #[test]
    fn a_small_change_is_no_shock() {
        assert_eq!(shock(&[touch(budget(200.0), budget(207.0), None, 1.0)]), None);
        assert_eq!(shock(&[touch(budget(100.0), budget(120.0), None, 1.0)]), None);
        let doubled = touch(budget(100.0), budget(200.0), None, 1.0);
        assert_eq!(shock(&[doubled]), Some((day(10), day(19))));
    }

    #[test]
    fn items_are_a_shock_together() {
        let bid = |units| Setting::Bid(Some(Micros::from_units(units)));
        let one = |n| touch(bid(1.0), bid(2.0), Some(n), 40.0);
        assert_eq!(shock(&[one(1), one(2), one(3)]), None, "three of forty");
        assert!(shock(&(0..20).map(one).collect::<Vec<_>>()).is_some(), "half of them");
    }
}
