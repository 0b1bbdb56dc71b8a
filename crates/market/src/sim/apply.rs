//! Changes: made, or refused with the channel's reason.

use tiller_channel::Micros;
use tiller_channel::wire::{Change, Refusal};
use tiller_core::setting::{
    Budget, Dimension, ItemKind, Limits, Negative, Setting, Status, Strategy,
};

use super::campaign::{CampaignSim, Home};
use super::stream::shut_out;

/// A strategy begins to learn anew when something moves by more than this (common practice, no source).
const SHOCK: f64 = 0.2;

/// Why a change is not made.
pub type Refused = (Refusal, String);

fn refuse<T>(why: Refusal, message: impl Into<String>) -> Result<T, Refused> {
    Err((why, message.into()))
}

/// What a change is made to.
enum Spot {
    Campaign,
    Group(usize),
    Item(usize),
}

/// Makes a change from the day after `since` on.
pub fn apply(
    sim: &mut CampaignSim,
    home: Home,
    limits: &Limits,
    change: &Change,
    since: i64,
) -> Result<(), Refused> {
    let spot = spot(sim, change)?;
    match (&change.set, &spot) {
        (Setting::Status(status), _) => set_status(sim, &spot, *status),
        (Setting::Budget(budget), _) => set_budget(sim, limits, &spot, *budget)?,
        (Setting::Bid(bid), _) => set_bid(sim, limits, &spot, *bid)?,
        (Setting::Strategy(strategy), Spot::Campaign) => set_strategy(sim, *strategy)?,
        (Setting::Shared(_), Spot::Campaign) => sim.settings.put(&change.set),
        (Setting::BidFloor(bid) | Setting::BidCeiling(bid), Spot::Campaign) => {
            at_least(*bid, limits.least_bid)?;
            sim.settings.put(&change.set);
        }
        (Setting::Floor(money), Spot::Group(g)) => set_floor(sim, *g, *money)?,
        (Setting::Ceiling(money), Spot::Group(g)) => set_ceiling(sim, *g, *money)?,
        (Setting::Hours(hours), Spot::Campaign) => {
            let lifetime = matches!(sim.settings.budget, Some(Budget::Lifetime { .. }));
            if hours.is_some() && limits.hours_need_lifetime && !lifetime {
                return refuse(
                    Refusal::HoursNeedLifetime,
                    "hours can be set here only where the campaign has a lifetime budget",
                );
            }
            sim.settings.put(&change.set);
        }
        (Setting::Adjustment(a), Spot::Campaign) => {
            if a.dimension == Dimension::Hour {
                return refuse(
                    Refusal::NotHere,
                    "hours are set by the week’s hours, not by adjustments",
                );
            }
            if !(-100..=900).contains(&a.percent) {
                return refuse(
                    Refusal::BadValue,
                    "an adjustment lies between -100 and 900 percent",
                );
            }
            let known = home
                .people()
                .is_some_and(|p| p.parts(a.dimension).iter().any(|p| p.segment == a.segment));
            if !known {
                return refuse(
                    Refusal::BadValue,
                    format!("there is no {} ‘{}’", a.dimension.word(), a.segment),
                );
            }
            sim.settings.put(&change.set);
        }
        (Setting::Places(_), Spot::Campaign) => match &sim.settings.places {
            Some(_) => {
                sim.settings.put(&change.set);
                sim.forget();
            }
            None => return refuse(Refusal::NotHere, "the campaign has no places"),
        },
        (Setting::Negative { text, match_type, present }, Spot::Campaign | Spot::Group(_)) => {
            let text = text.trim().to_owned();
            let set = Setting::Negative { text, match_type: *match_type, present: *present };
            set_negative(sim, home, &spot, &set, since)?;
        }
        (Setting::Keyword { text, match_type, bid, present }, Spot::Group(g)) => {
            if home.campaign.kind != ItemKind::Keyword {
                return refuse(Refusal::NotHere, "the campaign has no keywords");
            }
            at_least(*bid, limits.least_bid)?;
            set_keyword(sim, home, *g, (text.trim(), *match_type, *bid, *present), since)?;
        }
        _ => return refuse(Refusal::NotHere, "this can’t be set there"),
    }
    Ok(())
}

fn spot(sim: &CampaignSim, change: &Change) -> Result<Spot, Refused> {
    let gone = || refuse(Refusal::NoSuchPlace, "there is no such ad group or item");
    let Some(group) = &change.place.ad_group else {
        return if change.place.item.is_some() { gone() } else { Ok(Spot::Campaign) };
    };
    let Some(g) = sim.groups.iter().position(|x| x.key == *group) else { return gone() };
    let Some(item) = &change.place.item else { return Ok(Spot::Group(g)) };
    match sim.streams.iter().position(|s| s.key == *item && s.ad_group == g) {
        Some(i) => Ok(Spot::Item(i)),
        None => gone(),
    }
}

fn at_least(money: Option<Micros>, least: Micros) -> Result<(), Refused> {
    match money {
        Some(m) if m <= Micros::ZERO => refuse(Refusal::BadValue, "an amount above 0 is needed"),
        Some(m) if m < least => {
            refuse(Refusal::TooLow, format!("the least here is {}", least.to_plain()))
        }
        _ => Ok(()),
    }
}

fn shocks(from: Micros, to: Micros) -> bool {
    let (from, to) = (from.to_units(), to.to_units());
    (to - from).abs() > SHOCK * from.max(1e-9) + 1e-9
}

fn set_status(sim: &mut CampaignSim, spot: &Spot, status: Status) {
    match spot {
        Spot::Campaign => sim.settings.status = status,
        Spot::Group(g) => sim.groups[*g].settings.status = status,
        Spot::Item(i) => sim.streams[*i].settings.status = status,
    }
}

fn set_budget(
    sim: &mut CampaignSim,
    limits: &Limits,
    spot: &Spot,
    budget: Budget,
) -> Result<(), Refused> {
    if let Budget::Lifetime { starts, ends, .. } = budget
        && ends < starts
    {
        return refuse(Refusal::BadValue, "the flight ends before it starts");
    }
    at_least(Some(budget.per_day()), limits.least_budget)?;
    let floors: Micros = sim.groups.iter().filter_map(|g| g.settings.floor).sum();
    let (place, purse) = match spot {
        Spot::Campaign => {
            if floors > budget.per_day() {
                return refuse(
                    Refusal::FloorsOverBudget,
                    format!("the ad groups’ floors add up to {}", floors.to_plain()),
                );
            }
            (&mut sim.settings.budget, &mut sim.purse)
        }
        Spot::Group(g) => {
            let group = &mut sim.groups[*g];
            (&mut group.settings.budget, &mut group.purse)
        }
        Spot::Item(_) => return refuse(Refusal::NotHere, "an item has no budget"),
    };
    let Some(before) = *place else {
        return refuse(
            Refusal::NotHere,
            "the budget is held elsewhere: by the campaign, or by its ad groups",
        );
    };
    *place = Some(budget);
    if matches!(budget, Budget::Lifetime { .. }) && !matches!(before, Budget::Lifetime { .. }) {
        purse.new_flight();
    }
    if shocks(before.per_day(), budget.per_day()) && sim.settings.strategy.automatic() {
        sim.forget();
    }
    Ok(())
}

fn set_bid(
    sim: &mut CampaignSim,
    limits: &Limits,
    spot: &Spot,
    bid: Option<Micros>,
) -> Result<(), Refused> {
    if sim.settings.strategy.automatic() {
        return refuse(Refusal::NotHere, "the strategy makes the bids; set its floor or ceiling");
    }
    at_least(bid, limits.least_bid)?;
    match spot {
        Spot::Campaign if bid.is_none() => {
            return refuse(Refusal::BadValue, "a campaign that bids by hand needs a bid");
        }
        Spot::Campaign => sim.settings.bid = bid,
        Spot::Group(g) => sim.groups[*g].settings.bid = bid,
        Spot::Item(i) => sim.streams[*i].settings.bid = bid,
    }
    Ok(())
}

fn set_strategy(sim: &mut CampaignSim, strategy: Strategy) -> Result<(), Refused> {
    let target = |s: Strategy| match s {
        Strategy::TargetCpa { target } => Some(target.to_units()),
        Strategy::TargetRoas { target } => Some(target),
        _ => None,
    };
    if target(strategy).is_some_and(|t| t.is_nan() || t <= 0.0) {
        return refuse(Refusal::BadValue, "a target is above 0");
    }
    let before = sim.settings.strategy;
    if !strategy.automatic() && sim.settings.bid.is_none() {
        return refuse(Refusal::BadValue, "set a bid first: this strategy bids by hand");
    }
    let same = std::mem::discriminant(&before) == std::mem::discriminant(&strategy);
    let moved =
        target(before).zip(target(strategy)).is_some_and(|(a, b)| (b - a).abs() > SHOCK * a);
    sim.settings.strategy = strategy;
    if !same || moved {
        sim.forget();
    }
    Ok(())
}

fn set_floor(sim: &mut CampaignSim, g: usize, money: Option<Micros>) -> Result<(), Refused> {
    let Some(budget) = sim.settings.budget else {
        return refuse(Refusal::NotHere, "floors divide a pooled budget; this campaign has none");
    };
    at_least(money, Micros::ZERO)?;
    let others: Micros = sim
        .groups
        .iter()
        .enumerate()
        .filter(|(i, _)| *i != g)
        .filter_map(|(_, x)| x.settings.floor)
        .sum();
    if others + money.unwrap_or_default() > budget.per_day() {
        return refuse(
            Refusal::FloorsOverBudget,
            format!(
                "the floors would add up to {}, the budget is {} a day",
                (others + money.unwrap_or_default()).to_plain(),
                budget.per_day().to_plain()
            ),
        );
    }
    if sim.groups[g].settings.ceiling.zip(money).is_some_and(|(c, f)| f > c) {
        return refuse(Refusal::BadValue, "the floor is above the ad group’s ceiling");
    }
    sim.groups[g].settings.floor = money;
    Ok(())
}

fn set_ceiling(sim: &mut CampaignSim, g: usize, money: Option<Micros>) -> Result<(), Refused> {
    if sim.settings.budget.is_none() {
        return refuse(Refusal::NotHere, "ceilings divide a pooled budget; this campaign has none");
    }
    at_least(money, Micros::ZERO)?;
    if sim.groups[g].settings.floor.zip(money).is_some_and(|(f, c)| f > c) {
        return refuse(Refusal::BadValue, "the ceiling is below the ad group’s floor");
    }
    sim.groups[g].settings.ceiling = money;
    Ok(())
}

fn set_negative(
    sim: &mut CampaignSim,
    home: Home,
    spot: &Spot,
    set: &Setting,
    since: i64,
) -> Result<(), Refused> {
    if matches!(set, Setting::Negative { text, .. } if text.is_empty() || text.len() > 80) {
        return refuse(Refusal::BadValue, "a negative keyword has 1 to 80 letters");
    }
    if home.campaign.kind != ItemKind::Keyword {
        return refuse(Refusal::NotHere, "the campaign has no keywords");
    }
    let group = if let Spot::Group(g) = spot { Some(*g) } else { None };
    match group {
        Some(g) => sim.groups[g].settings.put(set),
        None => sim.settings.put(set),
    }
    let everywhere = sim.settings.negatives.clone();
    let groups: Vec<Vec<Negative>> =
        sim.groups.iter().map(|g| g.settings.negatives.clone()).collect();
    let from = since + 1;
    for stream in sim.streams.iter_mut().filter(|s| group.is_none_or(|g| s.ad_group == g)) {
        let all = everywhere.iter().chain(&groups[stream.ad_group]);
        let all: Vec<&Negative> = all.collect();
        for term in &mut stream.terms {
            let shut = all.iter().any(|n| shut_out(&term.text, &n.text, n.match_type));
            match (shut, term.on(from)) {
                (true, true) => term.blocked.push((from, i64::MAX)),
                (false, false) => {
                    // What a keyword of its own has taken over stays with that keyword.
                    for block in &mut term.blocked {
                        block.1 = block.1.min(from.max(block.0));
                    }
                }
                _ => {}
            }
        }
    }
    Ok(())
}

fn set_keyword(
    sim: &mut CampaignSim,
    home: Home,
    g: usize,
    (text, match_type, bid, present): (&str, tiller_core::setting::MatchType, Option<Micros>, bool),
    since: i64,
) -> Result<(), Refused> {
    if text.is_empty() || text.len() > 80 {
        return refuse(Refusal::BadValue, "a keyword has 1 to 80 letters");
    }
    let there = sim.streams.iter().position(|s| {
        s.ad_group == g && s.match_type == Some(match_type) && s.item.eq_ignore_ascii_case(text)
    });
    let stream = match (there, present) {
        (Some(i), _) => &mut sim.streams[i],
        (None, true) => sim.add_keyword(home, g, text, match_type, since),
        (None, false) => return refuse(Refusal::NoSuchPlace, "there is no such keyword"),
    };
    stream.settings.status = if present { Status::Active } else { Status::Paused };
    if present {
        stream.settings.bid = bid;
    }
    Ok(())
}
