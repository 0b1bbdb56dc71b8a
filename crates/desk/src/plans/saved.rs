//! Plans as they are kept: opened, saved, copied, followed by a month.

use tiller_core::ids::{PersonId, PlanId};
use tiller_store::PgPool;
use tiller_store::people::Account;
use tiller_store::plans::{self, Plan};

use crate::DeskError;
use crate::book::Book;
use crate::plans::file::PlanFile;

/// A saved plan, read.
#[derive(Clone, Debug)]
pub struct Opened {
    /// As saved.
    pub plan: Plan,
    /// Its body.
    pub file: PlanFile,
}

/// Saves a new plan.
pub async fn add(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    name: &str,
    book: &Book,
    file: &PlanFile,
) -> Result<PlanId, DeskError> {
    Ok(plans::add(db, account.id, person, &named(name)?, book.period.window, &body(file)?).await?)
}

/// Saves changes to a plan.
pub async fn save(
    db: &PgPool,
    account: &Account,
    id: PlanId,
    name: &str,
    file: &PlanFile,
) -> Result<(), DeskError> {
    if plans::update(db, account.id, id, &named(name)?, &body(file)?).await? {
        Ok(())
    } else {
        Err(DeskError::NotFound("plan"))
    }
}

/// Saves a copy of a plan.
pub async fn duplicate(
    db: &PgPool,
    account: &Account,
    person: PersonId,
    id: PlanId,
) -> Result<PlanId, DeskError> {
    let opened = open(db, account, id).await?;
    let name = named(&format!("{}, copy", opened.plan.name))?;
    Ok(plans::add(db, account.id, person, &name, opened.plan.window, &opened.plan.body).await?)
}

/// The month follows a plan, or none: its pace is measured against it.
pub async fn follow(db: &PgPool, account: &Account, id: Option<PlanId>) -> Result<(), DeskError> {
    if plans::follow(db, account.id, id).await? { Ok(()) } else { Err(DeskError::NotFound("plan")) }
}

/// Removes a plan.
pub async fn remove(db: &PgPool, account: &Account, id: PlanId) -> Result<(), DeskError> {
    Ok(plans::delete(db, account.id, id).await?)
}

/// One plan.
pub async fn open(db: &PgPool, account: &Account, id: PlanId) -> Result<Opened, DeskError> {
    let plan = plans::get(db, account.id, id).await?.ok_or(DeskError::NotFound("plan"))?;
    let file = read(&plan)?;
    Ok(Opened { plan, file })
}

/// The account's plans.
pub async fn list(db: &PgPool, account: &Account) -> Result<Vec<Opened>, DeskError> {
    plans::list(db, account.id)
        .await?
        .into_iter()
        .map(|plan| Ok(Opened { file: read(&plan)?, plan }))
        .collect()
}

/// A saved plan, with its campaigns by their names of now.
fn read(plan: &Plan) -> Result<PlanFile, DeskError> {
    let mut file: PlanFile =
        serde_json::from_value(plan.body.clone()).map_err(tiller_store::StoreError::from)?;
    for line in &mut file.lines {
        if let Some(name) = plan.renamed.get(&line.id) {
            line.id.clone_from(name);
        }
    }
    Ok(file)
}

fn body(file: &PlanFile) -> Result<serde_json::Value, DeskError> {
    Ok(serde_json::to_value(file).map_err(tiller_store::StoreError::from)?)
}

fn named(name: &str) -> Result<String, DeskError> {
    let name = name.trim();
    match name.chars().count() {
        0 => Err(DeskError::Invalid("give the plan a name".into())),
        1..=120 => Ok(name.to_owned()),
        _ => Err(DeskError::Invalid("a name has at most 120 characters; shorten it".into())),
    }
}
