//! Decisions that go to no channel: targets, purposes, peers, what counts, what a month is to spend. Checked, written
//! down, taken back.

use tiller_core::Target;
use tiller_core::ids::{AccountId, CampaignId, DecisionId, PersonId};
use tiller_core::purpose::Purpose;
use tiller_core::strategy::Table;
pub use tiller_store::decisions::{Decision, Own};
use tiller_store::months::{Month, MonthBudget};
use tiller_store::people::{Account, Role};
use tiller_store::{PgPool, decisions as store};

use crate::DeskError;
use crate::numerals::{counted, money, percent, target as target_figure};
use crate::wording::measure;

/// A least difference above this would blind every verdict.
const MOST_DIFFERENCE: f64 = 0.5;

fn check(own: &Own) -> Result<(), DeskError> {
    let wrong = |text: &str| Err(DeskError::Invalid(text.into()));
    match own {
        Own::Target(Some(t)) if !(t.number() > 0.0 && t.number() < 1e9) => {
            wrong("a target is a number above 0; choose ‘no target’ for none")
        }
        Own::LeastDifference(share) if !(0.0..=MOST_DIFFERENCE).contains(share) => {
            wrong("the least difference is a share from 0% to 50%, such as 5%")
        }
        Own::Purpose(Some(word)) if Purpose::read(word).is_none() => {
            wrong("choose one of the purposes: brand, generic, prospecting, retargeting")
        }
        Own::Events(Some(events)) if events.is_empty() => {
            wrong("choose at least one event: where nothing counts, nothing can be judged")
        }
        Own::Strategies(Some(rows)) => match Table::new(rows.clone()) {
            Ok(_) => Ok(()),
            Err(faults) => {
                let all: Vec<String> = faults.iter().map(ToString::to_string).collect();
                wrong(&all.join("; "))
            }
        },
        Own::ClickWindow(Some(days)) if !(0..=90).contains(days) => {
            wrong("a window after the click takes 0 to 90 days")
        }
        _ => Ok(()),
    }
}

/// The least that somebody has to be to decide something.
pub fn least_role(own: &Own) -> Role {
    match own {
        Own::Strategies(_) => Role::Admin,
        _ => Role::Analyst,
    }
}

/// Sets something of the account, or of a campaign, and writes it down; false where it stood so already.
pub async fn decide(
    db: &PgPool,
    account: AccountId,
    person: Option<PersonId>,
    campaign: Option<CampaignId>,
    own: &Own,
) -> Result<bool, DeskError> {
    check(own)?;
    let done = store::decide(db, account, person, campaign, own, None).await?;
    let place = if campaign.is_some() { "campaign" } else { "channel" };
    done.ok_or(DeskError::NotFound(place))
}

/// Decisions of an account, the newest first.
pub async fn list(db: &PgPool, account: &Account) -> Result<Vec<Decision>, DeskError> {
    Ok(store::list(db, account.id).await?)
}

/// Sets again what stood before a decision; what follows from it is up to the caller. Tells what it was.
pub async fn undo(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    role: Role,
    id: DecisionId,
) -> Result<Own, DeskError> {
    let all = list(db, account).await?;
    let d = all.iter().find(|d| d.id == id).ok_or(DeskError::NotFound("decision"))?;
    if role < least_role(&d.was) {
        return Err(DeskError::Invalid("only an admin of the account can undo this".into()));
    }
    if d.undone {
        return Err(DeskError::Invalid("it has been undone already".into()));
    }
    let done = store::decide(db, account.id, Some(person), d.campaign, &d.was, Some(id)).await?;
    if done != Some(true) {
        return Err(DeskError::Invalid("it stands as it did before already".into()));
    }
    Ok(d.was.clone())
}

/// What is decided, as a heading.
pub fn title(own: &Own) -> &'static str {
    match own {
        Own::Target(_) => "Target",
        Own::LeastDifference(_) => "Least difference",
        Own::Purpose(_) => "Purpose",
        Own::Peers(_) => "Peers",
        Own::Events(_) => "What counts",
        Own::ClickWindow(_) => "Window after the click",
        Own::Month(_) => "Month’s budget",
        Own::Strategies(_) => "Strategy table",
        Own::Aim(_) => "Aim",
        Own::FearsRunaway(_) => "Runaway spend",
    }
}

/// Its value in a few words; of a campaign or of the account.
pub fn value(own: &Own, of_campaign: bool) -> String {
    match own {
        Own::Target(target) => target_words(*target, of_campaign),
        Own::LeastDifference(share) => format!("{}%", percent(*share)),
        Own::Purpose(None) => "as guessed".into(),
        Own::Purpose(Some(word)) => word.clone(),
        Own::Peers(peers) if peers.is_empty() => "same kind and purpose".into(),
        Own::Peers(peers) => {
            counted(peers.len() as u64, "campaign", "campaigns") + " of your choice"
        }
        Own::Events(None) if of_campaign => "as the account".into(),
        Own::Events(None) => "as each channel".into(),
        Own::Events(Some(events)) => events.join(", "),
        Own::ClickWindow(None) => "the channel’s own window".into(),
        Own::ClickWindow(Some(days)) => counted(days.unsigned_abs().into(), "day", "days"),
        Own::Month(month) => month_words(month),
        Own::Strategies(None) => "as shipped".into(),
        Own::Strategies(Some(rows)) => counted(rows.len() as u64, "row", "rows") + " of your own",
        Own::Aim(None) => "as its target tells".into(),
        Own::Aim(Some(aim)) => aim.word().into(),
        Own::FearsRunaway(true) => "feared more than missed results".into(),
        Own::FearsRunaway(false) => "not feared".into(),
    }
}

/// `Nov 2026: 12 000.00, of which 4 000.00 for Findle`.
fn month_words(month: &Month) -> String {
    let amount = |b: &MonthBudget| money(b.amount.to_units());
    let whole = month.budgets.iter().find(|b| b.channel.is_none()).map(amount);
    let parts: Vec<String> = month
        .budgets
        .iter()
        .filter_map(|b| Some(format!("{} for {}", amount(b), b.channel.as_ref()?)))
        .collect();
    let budgets = match (whole, parts.join(", ")) {
        (None, parts) if parts.is_empty() => "none".into(),
        (None, parts) => parts,
        (Some(whole), parts) if parts.is_empty() => whole,
        (Some(whole), parts) => format!("{whole}, of which {parts}"),
    };
    format!("{}: {budgets}", month.first.format("%b %Y"))
}

/// A target in words.
pub fn target_words(target: Option<Target>, of_campaign: bool) -> String {
    match target {
        Some(t) => format!("{} {}", measure(t), target_figure(t)),
        None if of_campaign => "as the account".into(),
        None => "none".into(),
    }
}
