//! Budgets by the day and over a flight, one into the other (P3).

use tiller_core::ids::{CampaignId, PersonId};
use tiller_core::setting::{Budget, Setting};
use tiller_core::{Micros, PerDay, Window};
use tiller_store::PgPool;
use tiller_store::people::Account;

use crate::account::settings::Settings;
use crate::numerals::{full_day, money};
use crate::tray::proposal::{Origin, Proposal};
use crate::{DeskError, tray};
use tiller_core::spot::Subject;

/// A campaign's budget the other way round: a daily one over a flight, a flight's by the day.
pub fn converted(budget: Budget, flight: Option<Window>) -> Result<Budget, DeskError> {
    match (budget, flight) {
        (Budget::Daily { amount }, Some(flight)) => Ok(Budget::Lifetime {
            amount: Micros::from_units(PerDay::from(amount).over(flight)),
            starts: flight.from(),
            ends: flight.to(),
        }),
        (Budget::Daily { .. }, None) => Err(DeskError::Invalid(
            "type the first and the last day of the flight; it ends no earlier than it begins"
                .into(),
        )),
        (Budget::Lifetime { amount, starts, ends }, _) => {
            let flight = Window::new(starts, ends)
                .ok_or_else(|| DeskError::Invalid("its flight ends before it begins".into()))?;
            Ok(Budget::Daily {
                amount: Micros::from_units(PerDay::of(amount.to_units(), flight).units()),
            })
        }
    }
}

/// Puts the converted budget in the tray.
pub async fn convert(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    campaign: CampaignId,
    flight: Option<Window>,
) -> Result<usize, DeskError> {
    let settings = Settings::of_account(db, account.id).await?;
    let budget = settings
        .campaign(campaign)
        .and_then(|c| c.budget)
        .ok_or_else(|| DeskError::Invalid("the campaign has no budget of its own".into()))?;
    let to = converted(budget, flight)?;
    let reason = match to {
        Budget::Lifetime { starts, ends, .. } => format!(
            "{} a day from {} to {}, as a lifetime budget.",
            money(budget.per_day().to_units()),
            full_day(starts),
            full_day(ends)
        ),
        Budget::Daily { .. } => "The flight’s sum, by the day.".into(),
    };
    let proposal =
        Proposal::new(Subject::Campaign(campaign), Setting::Budget(to), Origin::Hand, reason);
    tray::propose(db, account, person, vec![proposal]).await
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::NaiveDate;

    /// The handbook's example: 20 a day for 7 days are 140, and back.
    #[test]
    fn there_and_back() {
        let day = |d| NaiveDate::from_ymd_opt(2026, 12, d).unwrap();
        let daily = Budget::Daily { amount: Micros::from_units(20.0) };
        let week = Window::new(day(1), day(7));
        let flight = converted(daily, week).unwrap();
        let amount = Micros::from_units(140.0);
        assert_eq!(flight, Budget::Lifetime { amount, starts: day(1), ends: day(7) });
        assert_eq!(converted(flight, None).unwrap(), daily);
        assert!(converted(daily, None).is_err());
    }
}
