//! Bid against volume: what a campaign would have at other bids, or at other targets of its strategy.

use tiller_core::Target;
use tiller_core::bid_volume::{AtBid, at_bid};
use tiller_core::evidence::Interval;
use tiller_core::ids::{CampaignId, PersonId};
use tiller_core::setting::Strategy;
use tiller_core::spot::Spot;
use tiller_store::PgPool;

use crate::account::settings::Settings;
use crate::book::Book;
use crate::numerals::{number, typed_number};
use crate::tray::proposal::{Adds, Origin, Proposal, bid_times};
use crate::{DeskError, courses, tray, volume};

/// As far down and up as the picture goes, in times what is set.
pub const REACH: (f64, f64) = (0.4, 1.8);
const POINTS: usize = 57;

/// A campaign's picture.
#[derive(Clone, Debug)]
pub struct Against {
    /// Its name.
    pub name: String,
    /// What stands for its bid: `bid`, `target CPA`, `target ROAS`, `highest bid`.
    pub what: &'static str,
    /// What is set now.
    pub set: f64,
    /// Whether a higher number bids less: a return asked for.
    pub inverse: bool,
    /// What a click costs now.
    pub cpc: f64,
    /// Settled days that the figures are of.
    pub days: u64,
    /// What a result may cost or return.
    pub target: Option<Target>,
    /// From the lowest bid to the highest.
    pub points: Vec<AtBid>,
    /// At what is set now.
    pub now: AtBid,
    /// At what was chosen; now, if nothing was.
    pub chosen: AtBid,
    /// The bids that it has had, in times the present one.
    pub seen: Option<Interval>,
    /// Whether its bids have moved: else the answer is believed from other campaigns.
    pub moved: bool,
    /// Spend and conversions a day now, and what a conversion is worth.
    per_day: (f64, f64, Option<tiller_core::Price>),
}

impl Against {
    /// What is set where so many times as much is bid.
    pub fn setting(&self, times: f64) -> f64 {
        if self.inverse { self.set / times } else { self.set * times }
    }

    /// How many times the present bid a setting is.
    fn times(&self, setting: f64) -> f64 {
        if self.inverse { self.set / setting } else { setting / self.set }
    }
}

/// What stands for a strategy's bid.
fn lever(strategy: Strategy) -> &'static str {
    match strategy {
        Strategy::ManualCpc | Strategy::ManualCpm => "bid",
        Strategy::TargetCpa { .. } => "target CPA",
        Strategy::TargetRoas { .. } => "target ROAS",
        Strategy::MostClicks | Strategy::MostConversions | Strategy::MostValue => "highest bid",
    }
}

/// Looks at a campaign, at a typed number for what stands for its bid.
pub async fn of_campaign(
    db: &PgPool,
    book: &Book,
    id: CampaignId,
    typed: &str,
) -> Result<Against, DeskError> {
    let entry = book.entry(id)?;
    let say = |why: &str| DeskError::Invalid(why.to_owned());
    let settings = Settings::of_book(db, book).await?;
    let set = settings.campaign(id).ok_or_else(|| {
        say("its channel has not told how it bids; connect the channel and fetch first")
    })?;
    let number_set = courses::bid(&settings, id)?;
    let what = lever(set.strategy);
    let inverse = matches!(set.strategy, Strategy::TargetRoas { .. });
    let window = book.settled().ok_or_else(|| say("no day of this period has settled yet"))?;
    let tally = entry.tally(window);
    if tally.clicks == 0 {
        return Err(say(
            "it had no clicks in these settled days, so nothing tells what others would cost",
        ));
    }
    let e = volume::of_account(db, book).await?.get(id);
    let (clicks, spend) = (tally.clicks as f64, tally.spend.to_units());
    let at = |times: f64| at_bid(&e, clicks, spend, tally.conversions, times);
    let days = window.days() as f64;
    let mut against = Against {
        name: entry.campaign.name.clone(),
        what,
        set: number_set,
        inverse,
        cpc: spend / clicks,
        days: window.days(),
        target: entry.target,
        points: (0..POINTS)
            .map(|i| at(REACH.0 + (REACH.1 - REACH.0) * i as f64 / (POINTS - 1) as f64))
            .collect(),
        now: at(1.0),
        chosen: at(1.0),
        seen: e.seen,
        moved: e.moved,
        per_day: (spend / days, tally.conversions / days, tally.aov()),
    };
    let read = typed_number::amount(typed, Some(number_set)).map_err(DeskError::Invalid)?;
    if let Some(x) = read {
        let times = against.times(x);
        if !(x > 0.0 && (REACH.0 - 0.005..=REACH.1 + 0.005).contains(&times)) {
            let (a, b) = (against.setting(REACH.0), against.setting(REACH.1));
            return Err(say(&format!(
                "a {what} of {} is too far from {} to be told of; choose one from {} to {}",
                number(x, 2),
                number(number_set, 2),
                number(a.min(b), 2),
                number(a.max(b), 2)
            )));
        }
        against.chosen = at(times);
    }
    Ok(against)
}

/// Puts what was chosen in the tray.
pub async fn put(
    db: &PgPool,
    book: &Book,
    person: PersonId,
    id: CampaignId,
    typed: &str,
) -> Result<usize, DeskError> {
    let against = of_campaign(db, book, id, typed).await?;
    let spot = Spot { campaign: id, ad_group: None, item: None };
    let settings = Settings::of_book(db, book).await?;
    let c = &against.chosen;
    let set = bid_times(&settings, spot, c.times, None).ok_or_else(tray::unconnected)?;
    let share = |x: f64, of: f64| if of > 0.0 { x / of - 1.0 } else { 0.0 };
    let (spend, conversions, worth) = against.per_day;
    let more = Adds::of(
        spend * share(c.spend.mid, against.now.spend.mid),
        conversions * share(c.conversions.mid, against.now.conversions.mid),
        worth,
    );
    let effect = format!(
        "{} to {} conversions in {} days instead of {}",
        number(c.conversions.around.low, 0),
        number(c.conversions.around.high, 0),
        against.days,
        number(against.now.conversions.mid, 0)
    );
    let reason = format!(
        "Chosen on bid against volume, from a {} of {}.",
        against.what,
        number(against.set, 2)
    );
    let proposal = Proposal::new(spot.subject(), set, Origin::Hand, reason).expecting(effect, more);
    tray::propose(db, &book.account, person, vec![proposal]).await
}
