//! What is set by hand on several things at once.

use std::collections::HashSet;

use tiller_core::Micros;
use tiller_core::ids::PersonId;
use tiller_core::setting::{Budget, Setting, Status, Strategy};
use tiller_core::spot::{Spot, Subject};
use tiller_store::PgPool;
use tiller_store::people::Account;

use crate::account::settings::Settings;
use crate::numerals::typed_number;
use crate::tray::proposal::{Origin, Proposal};
use crate::tray::{items_of, propose, unconnected};
use crate::{DeskError, change_words as words};

/// What can be set by hand on several things at once.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Edit {
    /// Their daily budgets.
    Budget,
    /// Their bids.
    Bid,
    /// The targets of their strategies.
    Target,
    /// The least that their strategies bid.
    LowestBid,
    /// The most that their strategies bid.
    HighestBid,
    /// The shared strategy that they take part in.
    Shared,
    /// The least a day that ad groups get of a pooled budget.
    Floor,
    /// The most a day that ad groups get of a pooled budget.
    Ceiling,
    /// Pause them.
    Pause,
    /// Let them run.
    Run,
}

tiller_core::words!(Edit: Budget "budget", Bid "bid", Target "target", LowestBid "lowest_bid",
    HighestBid "highest_bid", Shared "shared", Floor "floor", Ceiling "ceiling", Pause "pause", Run "run");

impl Edit {
    /// For people.
    pub fn title(self) -> &'static str {
        match self {
            Self::Budget => "daily budget",
            Self::Bid => "bid",
            Self::Target => "target of the strategy",
            Self::LowestBid => "lowest bid of the strategy",
            Self::HighestBid => "highest bid of the strategy",
            Self::Shared => "shared strategy",
            Self::Floor => "floor of the ad group",
            Self::Ceiling => "ceiling of the ad group",
            Self::Pause => "pause",
            Self::Run => "resume",
        }
    }
}

/// Sets something by hand on several things: an amount, or `+10%` of what stands there.
pub async fn edit(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    subjects: &[Subject],
    edit: Edit,
    typed: &str,
    reason: &str,
) -> Result<usize, DeskError> {
    if subjects.is_empty() {
        return Err(DeskError::Invalid("choose at least one row first".into()));
    }
    let settings = Settings::of_account(db, account.id)
        .await?
        .with_items(db, &items_of(subjects.iter().copied()))
        .await?;
    if edit == Edit::Shared && !typed.trim().is_empty() {
        let spots = subjects.iter().filter_map(|s| settings.spot(*s));
        let channels: HashSet<_> = spots.map(|s| settings.channel_of(s.campaign)).collect();
        if channels.len() > 1 {
            let text = "a strategy is shared within one channel; choose campaigns of one";
            return Err(DeskError::Invalid(text.into()));
        }
    }
    let reason = if reason.trim().is_empty() { "Set by hand." } else { reason.trim() };
    let mut proposals = Vec::with_capacity(subjects.len());
    for subject in subjects {
        let spot = settings.spot(*subject).ok_or_else(unconnected)?;
        let set = edited(&settings, spot, edit, typed).map_err(|why| {
            DeskError::Invalid(format!("{}: {why}", settings.names(spot).unwrap_or_default()))
        })?;
        proposals.push(Proposal::new(*subject, set, Origin::Hand, reason));
    }
    propose(db, account, person, proposals).await
}

fn edited(settings: &Settings, spot: Spot, edit: Edit, typed: &str) -> Result<Setting, String> {
    let campaign = settings.campaign(spot.campaign).ok_or("its settings are not known")?;
    let amount = |base: Option<Micros>| -> Result<Micros, String> {
        let read = typed_number::amount(typed, base.map(Micros::to_units))?;
        let units = read.ok_or("type an amount, or a change such as +10%")?;
        let read = Micros::from_units(units);
        if read > Micros::ZERO && units < 1e9 {
            Ok(read)
        } else {
            Err("an amount above 0 is needed".into())
        }
    };
    let here = |kind: &Setting| settings.present(spot, kind);
    match edit {
        Edit::Pause => Ok(Setting::Status(Status::Paused)),
        Edit::Run => Ok(Setting::Status(Status::Active)),
        Edit::Budget => match here(&Setting::Budget(Budget::Daily { amount: Micros::ZERO })) {
            Some(Setting::Budget(Budget::Daily { amount: base })) => {
                Ok(Setting::Budget(Budget::Daily { amount: amount(Some(base))? }))
            }
            Some(Setting::Budget(Budget::Lifetime { amount: base, starts, ends })) => {
                Ok(Setting::Budget(Budget::Lifetime { amount: amount(Some(base))?, starts, ends }))
            }
            _ => Err("its budget is set elsewhere: by its campaign, or by its ad groups".into()),
        },
        Edit::Bid if campaign.strategy.automatic() => {
            Err("its strategy makes the bids; set the strategy’s target instead".into())
        }
        Edit::Bid => Ok(Setting::Bid(Some(amount(settings.bid(spot))?))),
        Edit::Target if spot.ad_group.is_some() => Err("targets are set on campaigns".into()),
        Edit::Target => match campaign.strategy {
            Strategy::TargetCpa { target } => {
                Ok(Setting::Strategy(Strategy::TargetCpa { target: amount(Some(target))? }))
            }
            Strategy::TargetRoas { target } => {
                let base = Micros::from_units(target);
                let target = amount(Some(base))?.to_units();
                Ok(Setting::Strategy(Strategy::TargetRoas { target }))
            }
            _ => Err("its strategy has no target".into()),
        },
        Edit::LowestBid | Edit::HighestBid => {
            if spot.ad_group.is_some() {
                return Err("a strategy’s lowest and highest bid are set on campaigns".into());
            }
            if !campaign.strategy.automatic() {
                return Err("its bids are set by hand; set the bid itself".into());
            }
            let (make, base): (fn(Option<Micros>) -> Setting, _) = match edit {
                Edit::LowestBid => (Setting::BidFloor, campaign.bid_floor),
                _ => (Setting::BidCeiling, campaign.bid_ceiling),
            };
            if typed.trim().is_empty() { Ok(make(None)) } else { Ok(make(Some(amount(base)?))) }
        }
        Edit::Shared if spot.ad_group.is_some() => Err("strategies are shared by campaigns".into()),
        Edit::Shared => {
            let name = typed.trim();
            let set = Setting::Shared((!name.is_empty()).then(|| name.to_owned()));
            settings.barred(spot, &set).map_or(Ok(set), |why| Err(why.into()))
        }
        Edit::Floor | Edit::Ceiling => {
            let make = if edit == Edit::Floor { Setting::Floor } else { Setting::Ceiling };
            let Some(present) = here(&make(None)) else {
                return Err("floors and ceilings are set on ad groups".into());
            };
            if campaign.budget.is_none() {
                return Err(
                    "floors and ceilings divide a pooled budget; its campaign has none".into()
                );
            }
            let base = words::amount(&present).map(Micros::from_units);
            if typed.trim().is_empty() { Ok(make(None)) } else { Ok(make(Some(amount(base)?))) }
        }
    }
}
