//! What a campaign's target might start from, and whether its budget is large enough to learn by it.

use tiller_core::purpose::Purpose;
use tiller_core::setting::Strategy;
use tiller_core::strategy::{FirstTarget, Kind, Medium, budget_multiple, first_target};
use tiller_core::{Price, Tally};
use tiller_store::PgPool;

use crate::DeskError;
use crate::account::settings::Settings;
use crate::book::{Book, Entry};
use crate::numerals::{money, number};

/// Parts of names that tell of something to watch (common practice, no source).
const WATCHED: [&str; 5] = ["video", "film", "reel", "clip", "trailer"];

/// How a campaign meets people, as its kind, purpose and name tell.
pub fn medium(entry: &Entry) -> Medium {
    let name = entry.campaign.name.to_lowercase();
    match (entry.campaign.kind.as_str(), entry.purpose) {
        (_, Purpose::Retargeting) => Medium::Retargeting,
        ("keyword" | "listing", _) => Medium::Search,
        _ if WATCHED.iter().any(|w| name.contains(w)) => Medium::Video,
        _ => Medium::Display,
    }
}

/// What a conversion costs the account elsewhere, by medium.
fn running(book: &Book, but: &Entry) -> Vec<(Medium, Price)> {
    let Some(window) = book.settled() else { return Vec::new() };
    let others = || book.entries.iter().filter(|e| e.campaign.id != but.campaign.id);
    Medium::ALL
        .iter()
        .filter_map(|m| {
            let all: Tally = others().filter(|e| medium(e) == *m).map(|e| e.tally(window)).sum();
            Some((*m, all.cpa()?))
        })
        .collect()
}

/// Sentences for the page on which its target is set.
pub async fn hints(db: &PgPool, book: &Book, entry: &Entry) -> Result<Vec<String>, DeskError> {
    let mut hints = Vec::new();
    let medium = medium(entry);
    let own = book.settled().and_then(|w| entry.tally(w).cpa());
    if own.is_none()
        && let Some(start) = first_target(medium, &running(book, entry))
    {
        hints.push(start_words(medium, start));
    }
    let settings = Settings::of_book(db, book).await?;
    if let Some(set) = settings.campaign(entry.campaign.id) {
        let aimed = match set.strategy {
            Strategy::TargetCpa { target } => Some(Price::from(target)),
            _ => own,
        };
        let times = budget_multiple(medium, Kind::from(set.strategy));
        let budget = set.budget.map(|b| Price::from(b.per_day()));
        if let (Some(aimed), Some(times), Some(budget)) = (aimed, times, budget)
            && budget < aimed * times
        {
            hints.push(format!(
                "Its budget of {} a day is {} times its {} of {}; for {} with this strategy at least {} times is common practice.",
                money(budget),
                number(budget / aimed, 1),
                if matches!(set.strategy, Strategy::TargetCpa { .. }) { "target CPA" } else { "CPA" },
                money(aimed),
                medium.word(),
                number(times, 0)
            ));
        }
    }
    Ok(hints)
}

fn start_words(medium: Medium, start: FirstTarget) -> String {
    let range = match start.high {
        Some(high) if (high / start.low - 1.0).abs() < 1e-9 => money(start.low),
        Some(high) => format!("{} to {}", money(start.low), money(high)),
        None => format!("at least {}", money(start.low)),
    };
    format!(
        "It has no conversion yet. For {} after what {} costs here, common practice is to start from a target CPA of {range}; a lower one starves it while it learns.",
        medium.word(),
        start.from.word()
    )
}
