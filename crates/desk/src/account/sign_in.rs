//! Who is at the desk.

use std::sync::LazyLock;

use argon2::Argon2;
use argon2::password_hash::{PasswordHasher, PasswordVerifier, phc::PasswordHash};
use tiller_core::ids::PersonId;
use tiller_store::PgPool;
use tiller_store::people::{self, Account, Person, Role};
use tokio::sync::Semaphore;

use crate::DeskError;
use crate::kept::Stamp;

/// The shortest password that is taken.
pub const LEAST_PASSWORD: usize = 10;

/// Argon2id with its default costs, in PHC form. Slow on purpose: call it off the async threads.
pub fn hash(password: &str) -> Result<String, DeskError> {
    if password.chars().count() < LEAST_PASSWORD {
        return Err(DeskError::Invalid(format!(
            "a password needs at least {LEAST_PASSWORD} characters"
        )));
    }
    let hash = Argon2::default().hash_password(password.as_bytes());
    hash.map(|h| h.to_string())
        .map_err(|_| DeskError::Invalid("this password can't be used; choose another".into()))
}

/// One password is hashed a core at a time: each takes 19 MB and a twentieth of a second of it.
struct Hashing {
    /// Those being hashed.
    now: Semaphore,
    /// Those and the ones that wait.
    all: Semaphore,
}

/// Waiting for each core; more are turned away.
const WAITING: usize = 16;

static HASHING: LazyLock<Hashing> = LazyLock::new(|| {
    let cores = std::thread::available_parallelism().map_or(1, std::num::NonZero::get);
    Hashing { now: Semaphore::new(cores), all: Semaphore::new(cores * (1 + WAITING)) }
});

fn matches(password: &str, hash: &str) -> bool {
    PasswordHash::new(hash)
        .is_ok_and(|h| Argon2::default().verify_password(password.as_bytes(), &h).is_ok())
}

/// The person with this address and password. An unknown address takes as long as a wrong password.
pub async fn sign_in(
    db: &PgPool,
    email: &str,
    password: &str,
) -> Result<Option<Person>, DeskError> {
    // A hash that nothing matches, with the costs of a real one.
    const NOBODY: &str = "$argon2id$v=19$m=19456,t=2,p=1$c29tZXNhbHRzb21lc2FsdA$4BoDVTDJwgGQO8vZ7oYKZ7bDZrPBzRYyXLhIWkL3mEo";
    let _room = HASHING.all.try_acquire().map_err(|_| DeskError::Busy)?;
    let person = people::by_email(db, email.trim()).await?;
    let _core = HASHING.now.acquire().await.map_err(|_| DeskError::Busy)?;
    let hash = person.as_ref().map_or(NOBODY.to_owned(), |p| p.password_hash.clone());
    let password = password.to_owned();
    let right =
        tokio::task::spawn_blocking(move || matches(&password, &hash)).await.unwrap_or(false);
    Ok(person.filter(|_| right))
}

/// The person with an address, whose word is taken for it.
pub async fn known(db: &PgPool, email: &str) -> Result<Option<Person>, DeskError> {
    Ok(people::by_email(db, email).await?)
}

/// A signed-in person.
pub async fn person(db: &PgPool, id: PersonId) -> Result<Option<Person>, DeskError> {
    Ok(people::by_id(db, id).await?)
}

/// The accounts that a person may see, each with its state.
pub async fn accounts(
    db: &PgPool,
    person: PersonId,
) -> Result<Vec<(Account, Role, Stamp)>, DeskError> {
    let all = people::accounts_of(db, person).await?;
    Ok(all
        .into_iter()
        .map(|(account, role, version)| {
            let stamp = Stamp::of(db, account.id, version);
            (account, role, stamp)
        })
        .collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_right_password_matches() {
        let hash = hash("apiary on the hill").unwrap();
        assert!(matches("apiary on the hill", &hash));
        assert!(!matches("apiary on the Hill", &hash));
        assert!(!matches("apiary on the hill", "no hash"));
        assert!(super::hash("short").is_err());
    }
}
