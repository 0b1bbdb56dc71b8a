//! Settings that cost money (C5), each with the money it concerns.

use tiller_core::pool::{self, Advice, FAIR_TARGETS, Member};
use tiller_core::setting::{Budget, Dimension as Told, PlacesMode, Setting, Status, Strategy};
use tiller_core::{Micros, Tally, Target};
use tiller_store::facts::ItemTally;

use super::people::Dimension;
use super::searches::Searches;
use super::{Found, Scene};
use crate::numerals::{count, money, number, percent, sum};
use tiller_core::spot::Subject;

/// Conversions in the settled days below which an automatic strategy has nothing to learn from (common
/// practice, no source: about 30 days of conversions).
const LEAST_TO_LEARN: f64 = 10.0;
/// A campaign that spends less than this share of its budget is starved by something else.
const STARVED: f64 = 0.5;
/// So much better than the account's target a return must be before its target is called too high.
const BETTER: f64 = 1.3;
/// A daily budget under so many targets is thin (common practice, no source).
const THIN: f64 = 3.0;
/// Broad keywords are looked at from this share of the spend on.
const BROAD: f64 = 0.3;
/// Times the target CPA that a daily budget should be (common practice, no source): display, video.
const BUDGET_MULTIPLE: [(&str, f64); 1] = [("audience", 2.0)];

pub(super) fn find(
    s: &Scene,
    items: &[ItemTally],
    people: &[Dimension],
    searches: &Searches,
) -> Vec<Found> {
    let mut all: Vec<Found> = [
        elsewhere(s, people),
        worldwide(s, people),
        nothing_to_learn(s),
        starved(s),
        small_budget(s),
        no_negatives(s, items, searches),
        thin_and_broad(s, items),
        ceilings(s),
    ]
    .into_iter()
    .flatten()
    .collect();
    all.extend(untried(s, items));
    all.sort_by(|a, b| b.excess.total_cmp(&a.excess));
    all
}

fn found(id: &str, what: &str, why: String, excess: f64, advice: String) -> Found {
    Found {
        id: format!("audit:{id}"),
        what: what.into(),
        why,
        tally: None,
        excess,
        advice,
        proposals: Vec::new(),
    }
}

impl Found {
    fn with(mut self, s: &Scene, subject: Subject, set: Setting) -> Self {
        let reason = format!("{}: {}.", self.what, self.why);
        self.proposals.extend(s.propose(subject, set, &reason, ""));
        self
    }
}

/// People elsewhere who are interested in the places, where they cost more than they bring.
fn elsewhere(s: &Scene, people: &[Dimension]) -> Option<Found> {
    let places = s.settings.campaign(s.campaign())?.places.as_ref()?;
    if places.mode != PlacesMode::Interested {
        return None;
    }
    let countries = people.iter().find(|d| d.by == Told::Country)?;
    let abroad: Tally = countries
        .rows
        .iter()
        .filter(|r| !places.targets.contains(&r.segment))
        .map(|r| r.tally)
        .sum();
    let excess = s.target.excess(&abroad);
    if excess <= 0.0 {
        return None;
    }
    let why = format!(
        "its places mean people anywhere who are interested in {}; those elsewhere took {} for {} conversions",
        places.targets.join(", "),
        sum(abroad.spend.to_units()),
        count(abroad.conversions)
    );
    let f = found("places", "Places", why, excess, "only people in its places".into());
    Some(f.with(s, Subject::Campaign(s.campaign()), Setting::Places(PlacesMode::In)))
}

/// No places named, and countries that surely bring too little to be reached at all.
fn worldwide(s: &Scene, people: &[Dimension]) -> Option<Found> {
    let places = s.settings.campaign(s.campaign())?.places.as_ref();
    if places.is_some_and(|p| !p.targets.is_empty()) {
        return None;
    }
    let countries = people.iter().find(|d| d.by == Told::Country)?;
    let shut_out = |f: &&Found| {
        f.proposals.iter().any(|p| matches!(&p.set, Setting::Adjustment(a) if a.percent == -100))
    };
    let dear = || countries.rows.iter().filter_map(|r| r.found.as_ref()).filter(shut_out);
    let excess: f64 = dear().map(|f| f.excess).sum();
    if excess <= 0.0 {
        return None;
    }
    let named: Vec<&str> = dear().map(|f| f.what.as_str()).collect();
    let why =
        format!("it names no places, so it runs everywhere; {} cost it this", named.join(", "));
    let advice = "bid less or nothing there".to_owned();
    let mut f = found("worldwide", "Places", why, excess, advice);
    f.proposals = dear().flat_map(|f| f.proposals.clone()).collect();
    Some(f)
}

/// Broad keywords that cost more than they bring, on a budget too thin to find out what they are good for.
fn thin_and_broad(s: &Scene, items: &[ItemTally]) -> Option<Found> {
    let budget = s.settings.campaign(s.campaign())?.budget?.per_day().to_units();
    let cpa = s.target.as_cpa(s.tally.aov())?.units();
    if budget >= THIN * cpa {
        return None;
    }
    let broad: Vec<&ItemTally> = items.iter().filter(|i| i.match_type == "broad").collect();
    let together: Tally = broad.iter().map(|i| i.tally).sum();
    let excess = s.target.excess(&together);
    let spent = together.spend.to_units();
    if excess <= 0.0 || spent < FAIR_TARGETS * cpa || spent < BROAD * s.tally.spend.to_units() {
        return None;
    }
    let why = format!(
        "its budget of {} a day affords {} conversions, and broad keywords took {} for {}",
        money(budget),
        number(budget / cpa, 1),
        sum(spent),
        count(together.conversions)
    );
    let advice = "pause the broad keywords above target; keep to exact and phrase".to_owned();
    let mut f = found("broad", "Match types", why, excess, advice);
    f.tally = Some(together);
    for item in broad.into_iter().filter(|i| s.target.excess(&i.tally) > 0.0) {
        f = f.with(s, Subject::Item(item.item), Setting::Status(Status::Paused));
    }
    Some(f)
}

fn nothing_to_learn(s: &Scene) -> Option<Found> {
    let set = s.settings.campaign(s.campaign())?;
    let learns = matches!(
        set.strategy,
        Strategy::TargetCpa { .. }
            | Strategy::TargetRoas { .. }
            | Strategy::MostConversions
            | Strategy::MostValue
    );
    let days = s.window.days() as f64;
    let a_month = s.tally.conversions * 28.0 / days;
    if !learns || a_month >= LEAST_TO_LEARN || s.tally.spend.get() == 0 || days < 14.0 {
        return None;
    }
    let why = format!(
        "its strategy bids by predicted conversions and has {} in {} days to learn from",
        count(s.tally.conversions),
        s.window.days()
    );
    let excess = s.target.excess(&s.tally);
    let f =
        found("strategy", "Strategy", why, excess, "bid by hand until conversions come in".into());
    Some(f.with(s, Subject::Campaign(s.campaign()), Setting::Strategy(Strategy::ManualCpc)))
}

/// A return far above what is needed, and a budget that is not spent: the target is too high.
fn starved(s: &Scene) -> Option<Found> {
    let set = s.settings.campaign(s.campaign())?;
    let (Strategy::TargetRoas { target }, Target::Roas(wanted)) = (set.strategy, s.target) else {
        return None;
    };
    let used = s.entry.budget_use(s.window).used?;
    let roas = s.tally.roas()?;
    if used >= STARVED || roas < BETTER * wanted || target <= wanted {
        return None;
    }
    let to = (f64::midpoint(target, wanted) * 10.0).round() / 10.0;
    let why = format!(
        "it returns {} where {} is wanted and spends {}% of its budget: its own target of {} keeps it out of auctions that would pay",
        number(roas, 1),
        number(wanted, 1),
        percent(used),
        number(target, 1)
    );
    let excess = s.target.excess(&s.tally);
    let f = found(
        "target",
        "Target",
        why,
        excess,
        format!("target ROAS {} instead of {}", number(to, 1), number(target, 1)),
    );
    Some(f.with(
        s,
        Subject::Campaign(s.campaign()),
        Setting::Strategy(Strategy::TargetRoas { target: to }),
    ))
}

fn small_budget(s: &Scene) -> Option<Found> {
    let set = s.settings.campaign(s.campaign())?;
    let Strategy::TargetCpa { target } = set.strategy else { return None };
    let kind = s.entry.campaign.kind.as_str();
    let (_, times) = BUDGET_MULTIPLE.iter().find(|(k, _)| *k == kind)?;
    let (budget, needed) = (set.budget?.per_day().to_units(), times * target.to_units());
    if budget >= needed {
        return None;
    }
    let why = format!(
        "its budget of {} a day is under {} times its target of {}; it can’t learn",
        money(budget),
        number(*times, 0),
        money(target.to_units())
    );
    let f = found("budget", "Budget", why, 0.0, format!("budget {} a day", money(needed)));
    let set = Setting::Budget(Budget::Daily { amount: Micros::from_units(needed) });
    Some(f.with(s, Subject::Campaign(s.campaign()), set))
}

/// Broad and phrase matches, waste among their terms, and no negative keyword anywhere.
fn no_negatives(s: &Scene, items: &[ItemTally], searches: &Searches) -> Option<Found> {
    let set = s.settings.campaign(s.campaign())?;
    let none = set.negatives.is_empty()
        && s.settings.ad_groups_of(s.campaign()).all(|(_, g)| g.negatives.is_empty());
    let loose = items.iter().any(|i| matches!(i.match_type.as_str(), "broad" | "phrase"));
    let excess: f64 = searches.waste.iter().map(|w| w.excess).sum();
    if !none || !loose || searches.waste.is_empty() {
        return None;
    }
    let why = "broad match without negative keywords".to_owned();
    let mut f = found(
        "negatives",
        "Negative keywords",
        why,
        excess,
        "add the words below as negative keywords".into(),
    );
    f.proposals = searches.waste.iter().flat_map(|w| w.proposals.clone()).collect();
    Some(f)
}

fn ceilings(s: &Scene) -> Option<Found> {
    let budget = s.settings.campaign(s.campaign())?.budget?.per_day();
    let groups: Vec<_> = s.settings.ad_groups_of(s.campaign()).collect();
    let all: Option<Vec<Micros>> = groups.iter().map(|(_, g)| g.ceiling).collect();
    let together: Micros = all?.into_iter().sum();
    if groups.is_empty() || together >= budget {
        return None;
    }
    let lost = budget.to_units() - together.to_units();
    let why = format!(
        "the ceilings of its ad groups add up to {}; {} a day of its budget can’t be spent",
        money(together.to_units()),
        money(lost)
    );
    Some(found("ceilings", "Ceilings", why, 0.0, "raise a ceiling, or lower the budget".into()))
}

/// Ad groups that a pooled budget has starved before they had a test: a floor gives them one.
fn untried(s: &Scene, items: &[ItemTally]) -> Vec<Found> {
    let Some(set) = s.settings.campaign(s.campaign()) else { return Vec::new() };
    let Some(budget) = set.budget.map(|b| b.per_day().to_units()) else { return Vec::new() };
    // Pools of ads are tests; keywords and products get what is asked for.
    if !matches!(s.entry.campaign.kind.as_str(), "ad") {
        return Vec::new();
    }
    let groups: Vec<_> =
        s.settings.ad_groups_of(s.campaign()).filter(|(_, g)| g.status == Status::Active).collect();
    let Some(target) = s.target.as_cpa(s.tally.aov()) else { return Vec::new() };
    let units = |m: Option<Micros>| m.map(Micros::to_units);
    let own = |id| items.iter().filter(|i| i.ad_group == id).map(|i| i.tally).sum::<Tally>();
    let members: Vec<Member> = groups
        .iter()
        .map(|(id, g)| Member {
            spend: own(*id).spend.to_units(),
            results: own(*id).conversions,
            floor: units(g.floor),
            ceiling: units(g.ceiling),
        })
        .collect();
    let window = s.window;
    let seen = pool::Seen {
        days: s.entry.reported(window),
        dispersion: s.entry.lasting_dispersion(s.target.is_roas(), window),
    };
    groups
        .iter()
        .zip(pool::judge(budget, target, seen, &members))
        .filter_map(|((id, _), standing)| {
            let Advice::Floor(floor) = standing.advice else { return None };
            let name = s.settings.group_name(*id)?;
            let why = format!(
                "it got {} of {}, too little to show what it is worth",
                money(own(*id).spend.to_units()),
                sum(s.tally.spend.to_units())
            );
            let mut f = found(
                &format!("floor:{id}"),
                name,
                why,
                0.0,
                format!("a floor of {} a day until it has had its test", money(floor)),
            );
            f.tally = Some(own(*id));
            let floor = Micros::from_units((floor * 100.0).round() / 100.0);
            Some(f.with(s, Subject::AdGroup(*id), Setting::Floor(Some(floor))))
        })
        .collect()
}
