//! Quiet until the look-back: what was changed is left alone until it can be judged, and what waits in the tray is not
//! advised again.

use chrono::NaiveDate;
use tiller_core::setting::Setting;

use crate::book::Touch;
use crate::change_words;
use crate::numerals::day;
use tiller_core::spot::Spot;

/// Why nothing is advised at a place for now.
#[derive(Clone, Debug, PartialEq)]
pub struct Quiet {
    /// What was changed, or waits: `Daily budget from 50.00 to 60.00`.
    pub what: String,
    /// The look-back; none while it waits in the tray.
    pub until: Option<NaiveDate>,
    /// Whether it took another change back.
    pub undone: bool,
    /// Whether its look-back is over, and what came since does not ask for more yet.
    pub unclear: bool,
}

impl Quiet {
    fn of(touch: &Touch) -> Self {
        Self {
            what: change_words::sentence(touch.was.as_ref(), &touch.set_to),
            until: touch.until.filter(|_| !touch.waits()),
            undone: touch.undoes,
            unclear: false,
        }
    }

    /// As the advice on its campaign.
    pub fn advice(&self) -> String {
        format!("It is left alone for now: {}.", self.sentence())
    }

    /// What was changed, and until when that is left alone.
    pub fn sentence(&self) -> String {
        match self.until {
            Some(until) if self.unclear => format!(
                "{}; results since then don’t call for another step yet; judged again on {}",
                self.what,
                day(until)
            ),
            Some(until) => format!("{}; look-back on {}", self.what, day(until)),
            None => format!("{} waits in the tray", self.what),
        }
    }
}

/// Whether a change is so small in reach that it only speaks for settings of its own kind: one word more or less,
/// one segment's bid.
fn narrow(set: &Setting) -> bool {
    matches!(set, Setting::Negative { .. } | Setting::Keyword { .. } | Setting::Adjustment(_))
}

/// Why a setting at a spot is left alone, if it is: something there, above it, or of the same narrow kind was
/// changed and is not to be judged yet.
pub fn quiet_at(touches: &[Touch], spot: Spot, set: &Setting) -> Option<Quiet> {
    let above = |t: &Touch| {
        t.spot.campaign == spot.campaign
            && (t.spot.ad_group.is_none() || t.spot.ad_group == spot.ad_group)
            && (t.spot.item.is_none() || t.spot.item == spot.item)
    };
    let concerns = |t: &Touch| {
        if narrow(&t.set_to) {
            t.spot == spot && t.set_to.same_thing(set)
        } else {
            // One item's bid is no reason to leave its campaign's negative keywords alone.
            above(t) && !(narrow(set) && t.waits())
        }
    };
    touches.iter().rev().find(|t| concerns(t)).map(Quiet::of)
}

/// Why a campaign as a whole is left alone, if it is.
pub fn quiet(touches: &[Touch]) -> Option<Quiet> {
    let whole = |t: &&Touch| t.spot.ad_group.is_none() && !narrow(&t.set_to);
    let shock = crate::book::shock(touches);
    let parts = |t: &&Touch| shock.is_some_and(|(from, _)| t.from == Some(from));
    touches.iter().rev().find(|t| whole(t) || parts(t)).map(Quiet::of)
}

#[cfg(test)]
mod tests {
    use super::*;
    use tiller_core::Micros;
    use tiller_core::ids::{AdGroupId, CampaignId, ItemId};
    use tiller_core::setting::{Budget, MatchType};

    fn spot(ad_group: Option<i64>, item: Option<i64>) -> Spot {
        Spot { campaign: CampaignId(1), ad_group: ad_group.map(AdGroupId), item: item.map(ItemId) }
    }

    fn budget(units: f64) -> Setting {
        Setting::Budget(Budget::Daily { amount: Micros::from_units(units) })
    }

    fn bid(units: f64) -> Setting {
        Setting::Bid(Some(Micros::from_units(units)))
    }

    fn word(text: &str) -> Setting {
        Setting::Negative { text: text.into(), match_type: MatchType::Exact, present: true }
    }

    fn touch(spot: Spot, set_to: Setting) -> Touch {
        let day = |d| NaiveDate::from_ymd_opt(2026, 11, d);
        let was = if matches!(set_to, Setting::Bid(_)) { bid(1.1) } else { budget(50.0) };
        Touch::made(spot, Some(was), set_to, day(10).unwrap(), day(19).unwrap())
    }

    #[test]
    fn a_changed_spot_and_what_is_below_it_are_left_alone() {
        let whole = [touch(spot(None, None), budget(60.0))];
        let quiet_for = |t: &[Touch], at, set: &Setting| quiet_at(t, at, set).is_some();
        assert!(quiet_for(&whole, spot(None, None), &budget(80.0)));
        assert!(quiet_for(&whole, spot(Some(2), Some(3)), &bid(1.0)), "below it");
        let item = [touch(spot(Some(2), Some(3)), bid(1.0))];
        assert!(quiet_for(&item, spot(Some(2), Some(3)), &bid(2.0)));
        assert!(!quiet_for(&item, spot(Some(2), Some(4)), &bid(2.0)), "its neighbour");
        assert!(!quiet_for(&item, spot(None, None), &budget(80.0)), "its campaign");
        assert_eq!(quiet(&item), None);
        assert_eq!(quiet(&whole).unwrap().until, NaiveDate::from_ymd_opt(2026, 11, 19));
    }

    #[test]
    fn a_word_speaks_for_itself_only() {
        let one = [touch(spot(None, None), word("honey"))];
        assert!(quiet_at(&one, spot(None, None), &word("honey")).is_some());
        assert!(quiet_at(&one, spot(None, None), &word("recipe")).is_none());
        assert!(quiet_at(&one, spot(None, None), &budget(80.0)).is_none());
    }
}
