//! Accounts, members and targets.

pub mod connections;
pub mod decisions;
pub mod settings;
pub mod sign_in;
pub mod views;

use tiller_core::ids::{AccountId, PersonId};
use tiller_core::{Currency, Target};
use tiller_store::people::{self, NewAccount, Role};
use tiller_store::{Kind, PgPool};

use crate::DeskError;
use crate::account::decisions::Own;

/// Adds a person, or gives an existing one a new name and password.
pub async fn save_person(
    db: &PgPool,
    email: &str,
    name: &str,
    password: &str,
) -> Result<PersonId, DeskError> {
    let email = email.trim().to_lowercase();
    let parts = email.split_once('@');
    if parts.is_none_or(|(a, b)| a.is_empty() || b.is_empty())
        || email.contains(char::is_whitespace)
    {
        return Err(DeskError::Invalid(format!("‘{email}’ is not an e-mail address")));
    }
    if name.trim().is_empty() {
        return Err(DeskError::Invalid("a person needs a name".into()));
    }
    Ok(people::save(db, &email, name.trim(), &sign_in::hash(password)?).await?)
}

/// Adds an account.
pub async fn add(db: &PgPool, new: &NewAccount<'_>) -> Result<AccountId, DeskError> {
    new.currency.parse::<Currency>().map_err(|e| DeskError::Invalid(e.to_string()))?;
    if new.time_zone.parse::<chrono_tz::Tz>().is_err() {
        return Err(DeskError::Invalid(format!(
            "‘{}’ is not a time zone such as Europe/Copenhagen",
            new.time_zone
        )));
    }
    people::add_account(db, new).await.map_err(|e| {
        if e.kind() == Kind::Taken {
            DeskError::Invalid(format!("there is an account ‘{}’ already", new.slug))
        } else {
            e.into()
        }
    })
}

/// The account with a slug; for the command line, which needs no membership.
pub async fn by_slug(db: &PgPool, slug: &str) -> Result<people::Account, DeskError> {
    people::account_by_slug(db, slug).await?.ok_or(DeskError::NotFound("account"))
}

/// Makes a person a member.
pub async fn join(
    db: &PgPool,
    account: AccountId,
    person: PersonId,
    role: Role,
) -> Result<(), DeskError> {
    Ok(people::join(db, account, person, role).await?)
}

/// Sets the account's default target.
pub async fn set_default_target(
    db: &PgPool,
    account: AccountId,
    target: Option<Target>,
) -> Result<(), DeskError> {
    decisions::decide(db, account, None, None, &Own::Target(target)).await?;
    Ok(())
}
