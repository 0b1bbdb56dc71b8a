//! People, accounts, and who may do what where.

use chrono::{DateTime, NaiveDate, Utc};
use serde::{Deserialize, Serialize};
use sqlx::PgPool;
use tiller_core::{Currency, Micros};

use crate::StoreError;
use crate::versions::Version;
use tiller_core::ids::{AccountId, PersonId};

/// What a member may do in an account; each includes the ones before it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Role {
    /// See everything.
    Viewer,
    /// Import, plan, set targets.
    Analyst,
    /// Decide who is a member.
    Admin,
}

tiller_core::words!(Role: Viewer "viewer", Analyst "analyst", Admin "admin");
tiller_core::stored!(Role);

/// A person who may sign in.
#[derive(Clone, Debug)]
pub struct Person {
    /// Their id.
    pub id: PersonId,
    /// Address they sign in with, in lower case.
    pub email: String,
    /// Their name.
    pub name: String,
    /// Argon2 in PHC form.
    pub password_hash: String,
}

/// An account with its defaults.
#[derive(Clone, Debug)]
pub struct Account {
    /// Its id.
    pub id: AccountId,
    /// Its name in addresses.
    pub slug: String,
    /// Its name.
    pub name: String,
    /// ISO 4217 code of all its money.
    pub currency: String,
    /// IANA time zone of its days.
    pub time_zone: String,
    /// Default target, as a cost per acquisition.
    pub target_cpa: Option<f64>,
    /// Default target, as a return on ad spend.
    pub target_roas: Option<f64>,
    /// The events that count unless a campaign says otherwise; none: what each channel counts.
    pub counted_events: Option<Vec<String>>,
    /// Days after a click in which a conversion counts; none: as long as channels say.
    pub click_window: Option<i16>,
    /// Days until a click day is settled.
    pub settle_days: i16,
    /// The least difference from a target that anybody would act on, as a share.
    pub least_difference: f64,
}

impl Account {
    /// Days until a click day is settled.
    pub fn settle_days(&self) -> u64 {
        self.settle_days.max(0).unsigned_abs().into()
    }

    /// The nearest amount in whole smallest coins of its currency.
    pub fn coins(&self, amount: Micros) -> Micros {
        self.currency.parse::<Currency>().map_or(amount, |c| c.coins(amount))
    }
}

/// What makes a new account.
#[derive(Clone, Debug)]
pub struct NewAccount<'a> {
    /// Name in addresses.
    pub slug: &'a str,
    /// Name.
    pub name: &'a str,
    /// ISO 4217 code.
    pub currency: &'a str,
    /// IANA time zone.
    pub time_zone: &'a str,
}

/// The person with an address.
pub async fn by_email(db: &PgPool, email: &str) -> Result<Option<Person>, StoreError> {
    Ok(sqlx::query_as!(
        Person,
        r#"SELECT id AS "id: PersonId", email, name, password_hash FROM person WHERE email = lower($1)"#,
        email
    )
    .fetch_optional(db)
    .await?)
}

/// The person with an id.
pub async fn by_id(db: &PgPool, id: PersonId) -> Result<Option<Person>, StoreError> {
    Ok(sqlx::query_as!(
        Person,
        r#"SELECT id AS "id: PersonId", email, name, password_hash FROM person WHERE id = $1"#,
        id.0
    )
    .fetch_optional(db)
    .await?)
}

/// Adds a person; the address must be free.
pub async fn add(
    db: &PgPool,
    email: &str,
    name: &str,
    password_hash: &str,
) -> Result<PersonId, StoreError> {
    Ok(sqlx::query_scalar!(
        r#"INSERT INTO person (email, name, password_hash) VALUES (lower($1), $2, $3) RETURNING id AS "id: PersonId""#,
        email,
        name,
        password_hash
    )
    .fetch_one(db)
    .await?)
}

/// Gives a person a new password, and ends all of their sessions; false if nobody has the address.
pub async fn set_password(
    db: &PgPool,
    email: &str,
    password_hash: &str,
) -> Result<bool, StoreError> {
    let ended = sqlx::query_scalar!(
        r#"WITH changed AS (UPDATE person SET password_hash = $2 WHERE email = lower($1) RETURNING id),
                ended AS (DELETE FROM session s USING changed c WHERE s.data -> 0 -> 'person' = to_jsonb(c.id))
           SELECT count(*) AS "n!" FROM changed"#,
        email,
        password_hash
    )
    .fetch_one(db)
    .await?;
    Ok(ended > 0)
}

/// Adds an account; its slug must be free.
pub async fn add_account(db: &PgPool, new: &NewAccount<'_>) -> Result<AccountId, StoreError> {
    Ok(sqlx::query_scalar!(
        r#"INSERT INTO account (slug, name, currency, time_zone) VALUES ($1, $2, $3, $4) RETURNING id AS "id: AccountId""#,
        new.slug,
        new.name,
        new.currency,
        new.time_zone
    )
    .fetch_one(db)
    .await?)
}

/// Makes a person a member with a role, or changes the role.
pub async fn join(
    db: &PgPool,
    account: AccountId,
    person: PersonId,
    role: Role,
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT INTO membership (account_id, person_id, role) VALUES ($1, $2, $3)
         ON CONFLICT (account_id, person_id) DO UPDATE SET role = excluded.role",
        account.0,
        person.0,
        role.word()
    )
    .execute(db)
    .await?;
    Ok(())
}

/// The account with a slug, whoever asks: for the command line only.
pub async fn account_by_slug(db: &PgPool, slug: &str) -> Result<Option<Account>, StoreError> {
    Ok(sqlx::query_as!(
        Account,
        r#"SELECT id AS "id: AccountId", slug, name, currency, time_zone, target_cpa, target_roas,
                  counted_events, click_window, settle_days, least_difference
           FROM account WHERE slug = $1"#,
        slug
    )
    .fetch_optional(db)
    .await?)
}

/// The accounts that a person is a member of, with the role, by name.
pub async fn accounts_of(
    db: &PgPool,
    person: PersonId,
) -> Result<Vec<(Account, Role, Version)>, StoreError> {
    let rows = sqlx::query!(
        r#"SELECT a.id AS "id: AccountId", slug, name, currency, time_zone, target_cpa, target_roas, counted_events, click_window,
                  settle_days, least_difference, role AS "role: Role", figures, coalesce(d.version, 0) AS "decided!"
           FROM account a JOIN membership m ON m.account_id = a.id LEFT JOIN account_decided d ON d.account_id = a.id
           WHERE m.person_id = $1 ORDER BY a.id"#,
        person.0
    )
    .fetch_all(db)
    .await?;
    Ok(rows
        .into_iter()
        .map(|r| {
            let account = Account {
                id: r.id,
                slug: r.slug,
                name: r.name,
                currency: r.currency,
                time_zone: r.time_zone,
                target_cpa: r.target_cpa,
                target_roas: r.target_roas,
                counted_events: r.counted_events,
                click_window: r.click_window,
                settle_days: r.settle_days,
                least_difference: r.least_difference,
            };
            let version = Version { figures: r.figures, decided: r.decided };
            (account, r.role, version)
        })
        .collect())
}

/// The currency of an account.
pub async fn account_currency(db: &PgPool, account: AccountId) -> Result<String, StoreError> {
    Ok(sqlx::query_scalar!("SELECT currency FROM account WHERE id = $1", account.0)
        .fetch_one(db)
        .await?)
}

/// When a member last read the letter on Today, and the last reported day then.
pub async fn last_visit(
    db: &PgPool,
    account: AccountId,
    person: PersonId,
) -> Result<Option<(DateTime<Utc>, Option<NaiveDate>)>, StoreError> {
    let row = sqlx::query!(
        "SELECT visited_at, visited_day FROM membership WHERE account_id = $1 AND person_id = $2",
        account.0,
        person.0
    )
    .fetch_optional(db)
    .await?;
    Ok(row.and_then(|r| Some((r.visited_at?, r.visited_day))))
}

/// A member has read the letter: the next one tells what came after.
pub async fn visit(
    db: &PgPool,
    account: AccountId,
    person: PersonId,
    day: Option<NaiveDate>,
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE membership SET visited_at = now(), visited_day = $3 WHERE account_id = $1 AND person_id = $2",
        account.0,
        person.0,
        day
    )
    .execute(db)
    .await?;
    Ok(())
}

/// The account of an id: for jobs, which nobody asks for.
pub async fn account(db: &PgPool, id: AccountId) -> Result<Option<Account>, StoreError> {
    Ok(sqlx::query_as!(
        Account,
        r#"SELECT id AS "id: AccountId", slug, name, currency, time_zone, target_cpa, target_roas, counted_events, click_window, settle_days, least_difference FROM account WHERE id = $1"#,
        id.0
    )
    .fetch_optional(db)
    .await?)
}
