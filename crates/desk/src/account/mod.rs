//! Accounts, members and targets.

pub mod channels;
pub mod connections;
pub mod decisions;
mod seal;
pub mod settings;
pub mod sign_in;
pub mod views;

use tiller_core::ids::{AccountId, PersonId};
use tiller_core::{Currency, Target, text};
use tiller_store::people::{self, NewAccount, Role};
use tiller_store::{Kind, PgPool};

use crate::DeskError;
use crate::account::decisions::Own;

/// Adds a person who may sign in.
pub async fn add_person(
    db: &PgPool,
    email: &str,
    name: &str,
    password: &str,
) -> Result<PersonId, DeskError> {
    let email = email.trim().to_lowercase();
    let parts = email.split_once('@');
    if parts.is_none_or(|(a, b)| a.is_empty() || b.is_empty())
        || email.contains(|c: char| c.is_whitespace() || c.is_control())
        || email.len() > 254
    {
        return Err(DeskError::Invalid(format!("‘{email}’ is not an e-mail address")));
    }
    let name = name.trim();
    text::line(name, text::NAME).map_err(|e| DeskError::Invalid(format!("this name: {e}")))?;
    if name.is_empty() {
        return Err(DeskError::Invalid("a person needs a name".into()));
    }
    people::add(db, &email, name, &sign_in::hash(password)?).await.map_err(|e| match e.kind() {
        Kind::Taken => DeskError::Invalid(format!(
            "there is somebody with the address {email} already; give them another password, or make them a member"
        )),
        _ => e.into(),
    })
}

/// Somebody who signs in without a password, where a server lets them: the demo's analyst. No password is right for them.
pub async fn person_without_password(
    db: &PgPool,
    email: &str,
    name: &str,
) -> Result<PersonId, DeskError> {
    const NONE: &str = "none";
    match people::by_email(db, email).await? {
        Some(there) => {
            if there.password_hash != NONE {
                people::set_password(db, email, NONE).await?;
            }
            Ok(there.id)
        }
        None => Ok(people::add(db, email, name, NONE).await?),
    }
}

/// Gives somebody a new password. Wherever they are signed in, they are no longer.
pub async fn set_password(db: &PgPool, email: &str, password: &str) -> Result<(), DeskError> {
    if people::set_password(db, email.trim(), &sign_in::hash(password)?).await? {
        return Ok(());
    }
    Err(DeskError::Invalid(format!("nobody has the address {email}; add them first")))
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
