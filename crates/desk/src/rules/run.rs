//! What a rule makes of the account now, and the changes that this leads to.

use std::collections::HashMap;

use chrono::NaiveDate;
use tiller_core::course::Lever as CourseLever;
use tiller_core::custom_rule::{Action, Lever, Things as Level};
use tiller_core::ids::{ItemId, RuleId};
use tiller_core::rehearsal::rounds::of_table;
use tiller_core::rehearsal::{Found, Thing, look};
use tiller_core::rule::{Body, Done, Rule};
use tiller_core::setting::{Budget, MatchType, Setting, Status, Strategy};
use tiller_core::spot::Spot;
use tiller_core::window::{last_settled, later};
use tiller_core::{Price, Window};
use tiller_store::PgPool;
use tiller_store::rules::{self as store, NewAction, Outcome};

use super::ground::{Ground, needed};
use super::things::{Place, in_words};
use super::words;
use crate::DeskError;
use crate::change_words;
use crate::courses;
use crate::tray::proposal::{Origin, Proposal, bid_times, coins};

/// What a rule makes of one thing now.
#[derive(Clone, Debug)]
pub struct Looked {
    /// Where it is.
    pub spot: Spot,
    /// Its names.
    pub place: String,
    /// What it does, and why.
    pub found: Found,
    /// The same, as a sentence.
    pub because: String,
    /// The setting that it leads to; none where it waits, only tells, or can't be set there.
    pub set: Option<Setting>,
    /// What is set now.
    pub was: Option<Setting>,
    /// Why it does nothing, though it would.
    pub held: Option<Held>,
}

/// Why nothing is done that would be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Held {
    /// It was touched lately; until this day it rests.
    Rests(NaiveDate),
    /// The day's limits are reached.
    Limits,
    /// It is so already.
    Already,
    /// It, or what it lies in, does not run.
    Stopped,
    /// It can't be set there.
    CantBeSet(String),
    /// A course moves the same setting.
    Course,
}

/// All that it makes of the account.
#[derive(Clone, Debug)]
pub struct Look {
    /// The last day that was known.
    pub as_of: NaiveDate,
    /// Each thing with something to say, in order of names.
    pub things: Vec<Looked>,
}

impl Look {
    /// How many it would touch.
    pub fn acts(&self) -> usize {
        self.things.iter().filter(|l| l.acts()).count()
    }
}

impl Looked {
    /// Whether it does something.
    pub fn acts(&self) -> bool {
        self.held.is_none() && self.found.action.is_some()
    }
}

/// Looks at the account as it is now. `id` tells what it has touched lately.
pub async fn look_now(
    db: &PgPool,
    ground: &mut Ground,
    rule: &Rule,
    id: Option<RuleId>,
) -> Result<Look, DeskError> {
    let (as_of, settle) = (ground.last_day(), ground.settle());
    let account = ground.book.account.clone();
    let found: Vec<(Found, Thing, Option<Place>)> = match &rule.body {
        Body::Bid(of) => {
            let window = Window::ending(last_settled(as_of, settle), of.window_days.into());
            let counted = store::counted(db, account.id, &of.within, window, as_of).await?;
            let (things, tallies) = ground.of_window(counted);
            let found = things.into_iter().zip(tallies).enumerate();
            found
                .filter_map(|(n, (thing, tally))| {
                    of_table(of, n, &thing, tally).map(|f| (f, thing, None))
                })
                .collect()
        }
        Body::Custom(_) => {
            let window = needed(rule, as_of, settle, ground.book.span.from());
            let things = ground.things(db, rule, window).await?;
            let all = look(&rule.body, &things.stage, as_of, settle);
            let with = |f: Found| {
                let place = things.places[f.thing].clone();
                (f, things.stage.things[f.thing].clone(), Some(place))
            };
            all.into_iter().map(with).collect()
        }
    };
    let items: Vec<ItemId> = found.iter().filter_map(|(_, t, _)| t.spot.item).collect();
    ground.settings = ground.settings.clone().with_items(db, &items).await?;
    let since = later_back(as_of, rule.cool_down());
    // The terms of an ad group are where it is: they are told apart by name.
    let which = |spot, place: &str| {
        (spot, if rule.things() == Level::Terms { place.to_owned() } else { String::new() })
    };
    let mut touched: HashMap<(Spot, String), NaiveDate> = HashMap::new();
    if let Some(id) = id {
        for (spot, place, day) in store::touched(db, account.id, id, since).await? {
            let last = touched.entry(which(spot, &place)).or_insert(day);
            *last = day.max(*last);
        }
    }
    let mut done = match id {
        Some(id) => store::done_of_day(db, account.id, id, as_of).await?,
        None => Done::default(),
    };
    let busy: Vec<_> = courses::list(db, &account).await?;
    let busy = |campaign, lever| {
        busy.iter().any(|c| c.campaign == campaign && c.plan.open() && c.plan.lever == lever)
    };
    let mut things: Vec<Looked> = found
        .into_iter()
        .map(|(found, thing, place)| {
            let spot = thing.spot;
            let limits = match &rule.body {
                Body::Bid(of) => of.limits.at(spot).complete().ok(),
                Body::Custom(_) => None,
            };
            let term = place.as_ref().filter(|_| rule.things() == Level::Terms).map(|p| &*p[2]);
            let (set, mut held) = match found.action.map(|a| leads_to(ground, rule, a, spot, term))
            {
                None => (None, None),
                Some(Ok(set)) => (set, None),
                Some(Err(held)) => (None, Some(held)),
            };
            let was = set.as_ref().and_then(|s| ground.settings.present(spot, s));
            let lever = rule.moves().iter().any(|(l, _)| *l == Lever::Budget);
            let lever = if lever { CourseLever::Budget } else { CourseLever::Bid };
            let moves = set.as_ref().is_some_and(|s| !matches!(s, Setting::Status(_)));
            if moves && spot.ad_group.is_none() && busy(spot.campaign, lever) {
                held = held.or(Some(Held::Course));
            }
            let because = words::because(&found, limits.as_ref());
            let place = place
                .map(|p| in_words(&p))
                .or_else(|| ground.settings.names(spot))
                .unwrap_or_default();
            if let (Some(day), Some(_)) = (touched.get(&which(spot, &place)), found.action) {
                let rests = later(*day, rule.cool_down().max(1).into());
                // What it tells of a thing rests as its changes do.
                if rests > as_of {
                    held = Some(Held::Rests(rests));
                }
            }
            Looked { spot, place, because, found, set, was, held }
        })
        .collect();
    // Where not all may be done, the most money comes first.
    let mut order: Vec<usize> = (0..things.len()).filter(|n| things[*n].acts()).collect();
    order.sort_by_key(|n| std::cmp::Reverse(things[*n].found.known.spend));
    for n in order {
        let pause = things[n].found.action == Some(Action::Pause);
        if !rule.daily.admits(&mut done, pause, added(&things[n])) {
            things[n].held = Some(Held::Limits);
        }
    }
    things.sort_by(|a, b| a.place.cmp(&b.place));
    Ok(Look { as_of, things })
}

fn later_back(day: NaiveDate, days: u16) -> NaiveDate {
    day.checked_sub_days(chrono::Days::new(days.max(1).into())).unwrap_or(day)
}

/// Money that it adds to a day's budgets.
fn added(looked: &Looked) -> f64 {
    match (&looked.was, &looked.set) {
        (Some(Setting::Budget(was)), Some(Setting::Budget(set))) => {
            (set.per_day() - was.per_day()).to_units()
        }
        _ => 0.0,
    }
}

/// The setting that an action leads to; none where it only tells.
fn leads_to(
    ground: &Ground,
    rule: &Rule,
    action: Action,
    spot: Spot,
    term: Option<&str>,
) -> Result<Option<Setting>, Held> {
    let settings = &ground.settings;
    let cant = |why: &str| Held::CantBeSet(why.to_owned());
    if action != Action::Resume && action != Action::Tell && ground.stopped(spot) {
        return Err(Held::Stopped);
    }
    let moved = |now: Option<Price>, what: &str| {
        let now = now.ok_or_else(|| cant(what))?;
        let to = match &rule.body {
            Body::Custom(of) => of.moved(now),
            Body::Bid(_) => None,
        };
        Ok(to.map(|to| (now, to)))
    };
    let set = match action {
        Action::Tell => return Ok(None),
        Action::Pause => Setting::Status(Status::Paused),
        Action::Resume => Setting::Status(Status::Active),
        Action::Exclude => Setting::Negative {
            text: term.unwrap_or_default().to_owned(),
            match_type: MatchType::Exact,
            present: true,
        },
        Action::BidTo(to) if matches!(rule.body, Body::Bid(_)) => {
            ground.bid(spot).ok_or_else(|| cant("its strategy sets its bids"))?;
            Setting::Bid(Some(to.micros()))
        }
        Action::BidBy(_) | Action::BidTo(_) => {
            let none = "nothing is set there that stands for its bid";
            let Some((now, to)) = moved(ground.bid(spot), none)? else { return Ok(None) };
            bid_times(settings, spot, to / now, None).ok_or_else(|| cant(none))?
        }
        Action::TargetBy(_) => {
            let target = settings.campaign(spot.campaign).map(|c| c.strategy);
            let now = match target {
                Some(Strategy::TargetCpa { target }) => Some(Price::from(target)),
                Some(Strategy::TargetRoas { target }) => Some(Price(target)),
                _ => None,
            };
            match (moved(now, "its strategy has no target")?, target) {
                (Some((_, to)), Some(Strategy::TargetCpa { .. })) => {
                    Setting::Strategy(Strategy::TargetCpa { target: coins(to.units()) })
                }
                (Some((_, to)), _) => {
                    let target = (to.units() * 100.0).round() / 100.0;
                    Setting::Strategy(Strategy::TargetRoas { target })
                }
                (None, _) => return Ok(None),
            }
        }
        Action::BudgetBy(_) | Action::BudgetTo(_) => {
            let now = ground.budget(spot);
            let Some((_, to)) = moved(now, "it has no daily budget of its own")? else {
                return Ok(None);
            };
            Setting::Budget(Budget::Daily { amount: to.micros() })
        }
    };
    let set = set.map_money(|m| ground.book.account.coins(m));
    match settings.present(spot, &set) {
        None => Err(cant("its channel is not connected, or has no such setting there")),
        Some(was) if was == set => Err(Held::Already),
        Some(_) => match settings.barred(spot, &set) {
            Some(why) => Err(Held::CantBeSet(why.to_owned())),
            None => Ok(Some(set)),
        },
    }
}

/// What a run leads to: its proposals, its actions with the place of their proposal, and what is said of it.
pub(crate) fn conclude(rule: &Rule, look: &Look) -> (Vec<Proposal>, Vec<NewAction>, Outcome) {
    let (mut proposals, mut actions) = (Vec::new(), Vec::new());
    let mut outcome = Outcome {
        as_of: Some(look.as_of),
        looked_at: i32::try_from(look.things.len()).unwrap_or(i32::MAX),
        ..Outcome::default()
    };
    for looked in &look.things {
        match (&looked.held, looked.found.action) {
            (None, None) => outcome.waited += 1,
            (Some(Held::Limits | Held::Course), _) => outcome.held += 1,
            (Some(Held::Rests(_)), _) => outcome.resting += 1,
            (Some(_), _) => {}
            (None, Some(_)) => {
                let told = match &looked.set {
                    Some(set) => change_words::sentence(looked.was.as_ref(), set),
                    None => "told".into(),
                };
                let reason = format!("{}.", looked.because);
                actions.push(NewAction {
                    spot: looked.spot,
                    place: looked.place.clone(),
                    did: words::action(looked.found.action),
                    told,
                    reason: reason.clone(),
                    known: looked.found.known,
                    change: looked.set.is_some().then_some(proposals.len()),
                });
                if let Some(set) = &looked.set {
                    let known = &looked.found.known;
                    let reason = format!("‘{}’: {reason}", rule.name);
                    let proposal =
                        Proposal::new(looked.spot.subject(), set.clone(), Origin::Rule, reason)
                            .because("Spend", crate::numerals::money(Price::from(known.spend)))
                            .because("Clicks", crate::numerals::number(known.clicks as f64, 0))
                            .because("Conversions", crate::numerals::count(known.conversions));
                    proposals.push(proposal);
                }
            }
        }
    }
    (proposals, actions, outcome)
}
