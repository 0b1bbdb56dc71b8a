//! What all rules say: when they run, on which campaigns, how much at once, and where their changes go.

use chrono::Weekday;
use tiller_core::ids::CampaignId;
use tiller_core::rule::Rule;
use tiller_core::schedule::{Missed, Schedule};
use tiller_core::week::DAYS;

use super::{Ask, Line, Naming, Piece, Slot, amount, one, options, say, typed};

/// The full name of a day.
fn day(day: Weekday) -> &'static str {
    match day {
        Weekday::Mon => "Monday",
        Weekday::Tue => "Tuesday",
        Weekday::Wed => "Wednesday",
        Weekday::Thu => "Thursday",
        Weekday::Fri => "Friday",
        Weekday::Sat => "Saturday",
        Weekday::Sun => "Sunday",
    }
}

fn days(schedule: &Schedule) -> String {
    match schedule.days[..] {
        [] => "no day".into(),
        _ if schedule.days == DAYS => "day".into(),
        _ if schedule.days == DAYS[..5] => "weekday".into(),
        [one] => day(one).into(),
        [ref all @ .., last] => {
            let all: Vec<&str> = all.iter().map(|d| day(*d)).collect();
            format!("{} and {}", all.join(", "), day(last))
        }
    }
}

/// `Every Monday at 6:00, `.
pub(super) fn when(rule: &Rule) -> Vec<Piece> {
    let schedule = &rule.schedule;
    let word = |d: &Weekday| d.to_string().to_lowercase();
    vec![
        say("Every "),
        Piece::Slot(Slot {
            name: "days".into(),
            label: "days on which it runs".into(),
            shown: days(schedule),
            values: schedule.days.iter().map(word).collect(),
            ask: Ask::Many(DAYS.iter().map(|d| (word(d), day(*d).to_owned())).collect()),
        }),
        say(" at "),
        typed(
            "at",
            "time at which it runs",
            schedule.at.to_string().trim_start_matches('0').into(),
        ),
        say(", "),
    ]
}

/// The campaigns that it is about.
pub(super) fn within(campaigns: &[CampaignId], naming: &Naming) -> Piece {
    let name = |id: &CampaignId| {
        let found = naming.campaigns.iter().find(|(c, _)| c == id);
        found.map_or_else(|| "a campaign that is gone".into(), |(_, n)| n.clone())
    };
    let shown = match campaigns {
        [] => "all campaigns".into(),
        some => crate::numerals::listed(&some.iter().map(name).collect::<Vec<_>>()),
    };
    Piece::Slot(Slot {
        name: "within".into(),
        label: "campaigns; none is all".into(),
        shown,
        values: campaigns.iter().map(ToString::to_string).collect(),
        ask: Ask::Many(
            naming.campaigns.iter().map(|(id, n)| (id.to_string(), n.clone())).collect(),
        ),
    })
}

/// How much at once, and where changes go.
pub(super) fn lines(rule: &Rule) -> Vec<Line> {
    let daily = &rule.daily;
    let count = |n: Option<u32>| n.map(|n| n.to_string()).unwrap_or_default();
    let money = |m: Option<tiller_core::Price>| m.map(|m| amount(m.units())).unwrap_or_default();
    let part = |name: &str, label: &str, value: String, after: &str| {
        vec![typed(name, label, value), say(after)]
    };
    let limits = Line {
        lead: vec![say("In a day, it makes at most ")],
        parts: vec![
            part("daily.actions", "most changes a day", count(daily.actions), " changes"),
            part("daily.pauses", "most pauses a day", count(daily.pauses), " pauses"),
            part(
                "daily.up",
                "most added to budgets a day",
                money(daily.budget_up),
                " added to budgets",
            ),
            part(
                "daily.down",
                "most taken from budgets a day",
                money(daily.budget_down),
                " taken from budgets",
            ),
        ],
    };
    let rest = Line {
        lead: vec![
            say("It leaves anything it has changed alone for "),
            typed(
                "cool_down",
                "days for which it leaves things alone",
                rule.cool_down().to_string(),
            ),
            say(" days. Its changes go "),
            one(
                "send",
                "where its changes go",
                rule.send.word(),
                options(&[("tray", "into the tray"), ("straight", "straight to the channels")]),
            ),
            say("; if a run is missed, it "),
            one(
                "missed",
                "what becomes of a run that was missed",
                rule.schedule.missed.word(),
                options(&[
                    (Missed::Once.word(), "catches up once"),
                    (Missed::Skip.word(), "skips it"),
                ]),
            ),
            say("."),
        ],
        parts: vec![],
    };
    vec![limits, rest]
}
