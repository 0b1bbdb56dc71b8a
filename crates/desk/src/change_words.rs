//! Settings in words: what is set, what shall be, how far that is, and what it moves.

use tiller_core::Micros;
use tiller_core::course;
use tiller_core::learning::{Moved, relative};
use tiller_core::setting::{Budget, PlacesMode, Setting, Status, Strategy};
use tiller_core::strategy::Kind;
use tiller_core::week::WeekHour;

use crate::numerals::{counted, full_day, number};

/// What is set, as a heading.
pub fn title(setting: &Setting) -> &'static str {
    match setting {
        Setting::Status(_) => "Status",
        Setting::Budget(Budget::Daily { .. }) => "Daily budget",
        Setting::Budget(Budget::Lifetime { .. }) => "Lifetime budget",
        Setting::Bid(_) => "Bid",
        Setting::Strategy(Strategy::TargetCpa { .. }) => "Target CPA",
        Setting::Strategy(Strategy::TargetRoas { .. }) => "Target ROAS",
        Setting::Strategy(_) => "Bid strategy",
        Setting::Shared(_) => "Shared strategy",
        Setting::BidFloor(_) => "Lowest bid",
        Setting::BidCeiling(_) => "Highest bid",
        Setting::Floor(_) => "Floor",
        Setting::Ceiling(_) => "Ceiling",
        Setting::Hours(_) => "Hours",
        Setting::Adjustment(_) => "Bid adjustment",
        Setting::Places(_) => "Places",
        Setting::Negative { .. } => "Negative keyword",
        Setting::Keyword { .. } => "Keyword",
    }
}

/// What is set is told exactly: `1 234.50` is not `1 235`, and a dinar has a thousand coins.
fn units(m: Micros) -> String {
    let decimals = match m.get() {
        x if x % 1_000_000 == 0 && x.abs() >= 1_000_000_000 => 0,
        x if x % 10_000 == 0 => 2,
        _ => 3,
    };
    number(m.to_units(), decimals)
}

fn or_none(m: Option<Micros>) -> String {
    m.map_or_else(|| "none".to_owned(), units)
}

/// A value in a few words.
pub fn value(setting: &Setting) -> String {
    match setting {
        Setting::Status(Status::Active) => "active".into(),
        Setting::Status(Status::Paused) => "paused".into(),
        Setting::Status(Status::Ended) => "ended".into(),
        Setting::Budget(Budget::Daily { amount }) => units(*amount),
        Setting::Budget(Budget::Lifetime { amount, starts, ends }) => {
            format!("{} from {} to {}", units(*amount), full_day(*starts), full_day(*ends))
        }
        Setting::Bid(None) => "inherited".into(),
        Setting::Bid(Some(bid)) => units(*bid),
        Setting::Strategy(s) => strategy(*s),
        Setting::Shared(name) => name.as_ref().map_or("none".into(), |n| format!("‘{n}’")),
        Setting::BidFloor(m) | Setting::BidCeiling(m) | Setting::Floor(m) | Setting::Ceiling(m) => {
            or_none(*m)
        }
        Setting::Hours(None) => "always".into(),
        Setting::Hours(Some(hours)) => {
            format!("{} of {} hours of the week", hours.on(), WeekHour::COUNT)
        }
        Setting::Adjustment(a) => {
            let by = match a.percent {
                -100 => "left out".to_owned(),
                0 => "no adjustment".to_owned(),
                p => format!("{}{}%", if p > 0 { "+" } else { "−" }, p.abs()),
            };
            format!("{} {}: {by}", a.dimension.word(), a.segment)
        }
        Setting::Places(PlacesMode::In) => "only people in its places".into(),
        Setting::Places(PlacesMode::Interested) => {
            "also people elsewhere who are interested in them".into()
        }
        Setting::Negative { text, match_type, present } => {
            format!("‘{text}’, {}{}", match_type.word(), if *present { "" } else { ": none" })
        }
        Setting::Keyword { text, match_type, bid, present } => match (present, bid) {
            (false, _) => format!("‘{text}’, {}: none", match_type.word()),
            (true, Some(bid)) => format!("‘{text}’, {}, at {}", match_type.word(), units(*bid)),
            (true, None) => format!("‘{text}’, {}", match_type.word()),
        },
    }
}

fn strategy(s: Strategy) -> String {
    match s {
        Strategy::TargetCpa { target } => units(target),
        Strategy::TargetRoas { target } => number(target, 2),
        other => kind(other.into()).into(),
    }
}

/// A strategy with its target: `target CPA 52.00`.
pub fn strategy_in_full(s: Strategy) -> String {
    match s {
        Strategy::TargetCpa { .. } | Strategy::TargetRoas { .. } => {
            format!("{} {}", kind(s.into()), strategy(s))
        }
        other => strategy(other),
    }
}

/// A value with what it is of, within a sentence: `target CPA 52.00`, `highest bid 2.40`.
pub fn in_full(setting: &Setting) -> String {
    match setting {
        Setting::Strategy(s) => strategy_in_full(*s),
        other => format!("{} {}", title(other).to_lowercase(), value(other)),
    }
}

/// The name of a strategy.
pub fn kind(kind: Kind) -> &'static str {
    match kind {
        Kind::ManualCpc => "manual CPC",
        Kind::ManualCpm => "manual CPM",
        Kind::MostClicks => "most clicks",
        Kind::MostConversions => "most conversions",
        Kind::MostValue => "most value",
        Kind::TargetCpa => "target CPA",
        Kind::TargetRoas => "target ROAS",
    }
}

/// The number that a setting is, if it is one.
pub fn amount(setting: &Setting) -> Option<f64> {
    match setting {
        Setting::Budget(b) => Some(b.per_day().to_units()),
        Setting::Bid(m)
        | Setting::BidFloor(m)
        | Setting::BidCeiling(m)
        | Setting::Floor(m)
        | Setting::Ceiling(m) => m.map(Micros::to_units),
        Setting::Strategy(Strategy::TargetCpa { target }) => Some(target.to_units()),
        Setting::Strategy(Strategy::TargetRoas { target }) => Some(*target),
        _ => None,
    }
}

/// What a change moves, for the learning period.
pub(crate) fn moved(was: Option<&Setting>, set: &Setting) -> Moved {
    let amounts = || was.and_then(amount).zip(amount(set));
    match (was, set) {
        (Some(Setting::Strategy(a)), Setting::Strategy(b))
            if std::mem::discriminant(a) == std::mem::discriminant(b) =>
        {
            amounts().map_or(Moved::Other, |(from, to)| Moved::Target { from, to })
        }
        (_, Setting::Strategy(_)) => Moved::Strategy,
        (_, Setting::Budget(_)) => {
            amounts().map_or(Moved::Other, |(from, to)| Moved::Budget { from, to })
        }
        (_, Setting::Places(_)) => Moved::Targeting,
        _ => Moved::Other,
    }
}

/// How far it is from one to the other, as `+20%`; nothing where that says nothing.
pub fn distance(was: Option<&Setting>, set_to: &Setting) -> String {
    let both = was.and_then(amount).zip(amount(set_to));
    match both.and_then(|(a, b)| relative(a, b)) {
        Some(r) => by(r),
        None => String::new(),
    }
}

/// A relative change, as `+20%`.
pub fn by(r: f64) -> String {
    let points = 100.0 * r.abs();
    let decimals = usize::from(points < 10.0);
    format!("{}{}%", if r < 0.0 { "−" } else { "+" }, number(points, decimals))
}

/// The whole change as a sentence without its end.
pub fn sentence(was: Option<&Setting>, set_to: &Setting) -> String {
    match was.filter(|w| amount(w).is_some() && amount(set_to).is_some()) {
        Some(before) => format!("{} from {} to {}", title(set_to), value(before), value(set_to)),
        None => aim(set_to),
    }
}

/// What shall be set, as `Target CPA to 43.37` or `Places: only people in its places`.
pub fn aim(set_to: &Setting) -> String {
    let between = if amount(set_to).is_some() { " to " } else { ": " };
    format!("{}{between}{}", title(set_to), value(set_to))
}

/// How many changes, in words.
pub fn changes(n: u64) -> String {
    counted(n, "change", "changes")
}
/// What a course is for, for people.
pub fn course(kind: course::Kind) -> &'static str {
    match kind {
        course::Kind::Experiment => "step experiment",
        course::Kind::Lift => "budget lift",
        course::Kind::Ramp => "ramp",
    }
}
