//! Decisions that go to no channel: targets, purposes, peers, what counts, what a month is to spend. Checked, written
//! down, taken back.

use tiller_core::Target;
use tiller_core::break_even::ProductLine;
use tiller_core::ids::{AccountId, CampaignId, DecisionId, PersonId};
use tiller_core::purpose::Purpose;
use tiller_core::strategy::Table;
pub use tiller_store::decisions::{Decision, Own};
pub use tiller_store::lines::{Lines, of_account as lines};
use tiller_store::months::{Month, MonthBudget};
use tiller_store::people::{Account, Role};
use tiller_store::{PgPool, decisions as store};

use crate::DeskError;
use crate::numerals::{counted, money, percent, target as target_figure};
use crate::wording::measure;

/// What a target is set to.
#[derive(Clone, Debug, PartialEq)]
pub enum Chosen {
    /// A target, or none.
    Target(Option<Target>),
    /// That of a product line, by name.
    Line(String),
}

/// A least difference above this would blind every verdict.
const MOST_DIFFERENCE: f64 = 0.5;

fn check(own: &Own) -> Result<(), DeskError> {
    let wrong = |text: &str| Err(DeskError::Invalid(text.into()));
    match own {
        Own::Target(Some(t)) | Own::Follows { target: Some(t), .. }
            if !(t.number() > 0.0 && t.number() < 1e9) =>
        {
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
        Own::ProductLines(lines) => check_lines(lines),
        Own::ClickWindow(Some(days)) if !(0..=90).contains(days) => {
            wrong("a window after the click takes 0 to 90 days")
        }
        _ => Ok(()),
    }
}

/// Lines with names of their own, and prices and margins that leave something for advertising.
fn check_lines(lines: &[ProductLine]) -> Result<(), DeskError> {
    for (i, line) in lines.iter().enumerate() {
        let wrong = |why: String| Err(DeskError::Invalid(format!("{}: {why}", line.name)));
        if line.name.trim().is_empty() {
            return Err(DeskError::Invalid("give each product line a name".into()));
        }
        if lines[..i].iter().any(|l| l.name.eq_ignore_ascii_case(&line.name)) {
            return wrong("another line has this name; give each its own".into());
        }
        if let Err(error) = line.target() {
            return wrong(error.to_string());
        }
    }
    Ok(())
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

/// Sets a target, by hand or by a product line that it then follows; false where it stood so already.
pub async fn set_target(
    db: &PgPool,
    account: AccountId,
    person: PersonId,
    campaign: Option<CampaignId>,
    chosen: &Chosen,
) -> Result<bool, DeskError> {
    let lines = lines(db, account).await?;
    let follows = match campaign {
        None => lines.account.is_some(),
        Some(id) => lines.campaigns.contains_key(&id),
    };
    let own = match chosen {
        Chosen::Line(name) => {
            let line = lines.all.iter().find(|l| l.name == *name);
            let line = line.ok_or_else(|| {
                DeskError::Invalid(format!(
                    "there is no product line ‘{name}’ any more; choose another"
                ))
            })?;
            let target = line.target().map_err(|e| DeskError::Invalid(e.to_string()))?;
            Own::Follows { line: Some(line.name.clone()), target: Some(target) }
        }
        // Undone, it follows the line again.
        Chosen::Target(target) if follows => Own::Follows { line: None, target: *target },
        Chosen::Target(target) => Own::Target(*target),
    };
    decide(db, account, Some(person), campaign, &own).await
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
        Own::ProductLines(_) => "Product lines",
        Own::Follows { .. } => "Target",
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
        Own::ProductLines(lines) if lines.is_empty() => "none".into(),
        Own::ProductLines(lines) => lines.iter().map(line_words).collect::<Vec<_>>().join("; "),
        Own::Follows { line: None, target } => target_words(*target, of_campaign),
        Own::Follows { line: Some(line), target } => {
            format!("{}, from ‘{line}’", target_words(*target, of_campaign))
        }
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

/// `Kits: price 80.00, margin 35%, keeps 10%`.
fn line_words(line: &ProductLine) -> String {
    format!(
        "{}: price {}, margin {}%, keeps {}%",
        line.name,
        money(line.price),
        percent(line.margin),
        percent(line.keep)
    )
}

/// A target in words.
pub fn target_words(target: Option<Target>, of_campaign: bool) -> String {
    match target {
        Some(t) => format!("{} {}", measure(t), target_figure(t)),
        None if of_campaign => "as the account".into(),
        None => "none".into(),
    }
}
