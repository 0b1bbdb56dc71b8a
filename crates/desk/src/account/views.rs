//! Saved views: a member's own names for ways to look at Spend.

use tiller_core::ids::PersonId;
use tiller_store::people::Account;
use tiller_store::{PgPool, views};

use crate::DeskError;

/// Names are no longer than this, in characters.
const LONGEST: usize = 60;

/// A member's views, by name: name and query.
pub async fn list(
    db: &PgPool,
    account: &Account,
    person: PersonId,
) -> Result<Vec<(String, String)>, DeskError> {
    Ok(views::list(db, account.id, person).await?)
}

/// Puts a view by; one of the same name is replaced.
pub async fn save(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    name: &str,
    query: &str,
) -> Result<(), DeskError> {
    let name = name.trim();
    if name.is_empty() || name.chars().count() > LONGEST {
        return Err(DeskError::Invalid(format!(
            "give the view a name of 1 to {LONGEST} characters"
        )));
    }
    Ok(views::save(db, account.id, person, name, query).await?)
}

/// Gives a view up.
pub async fn remove(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    name: &str,
) -> Result<(), DeskError> {
    let gone = views::remove(db, account.id, person, name).await?;
    gone.then_some(()).ok_or(DeskError::NotFound("view"))
}
