//! What runs of rules tell, sent by e-mail: each once, unless a server falls silent just after it took one.

use tiller_store::PgPool;
use tiller_store::rules::{self as store, Posted};

use crate::DeskError;
use crate::mail::{MailError, Mailer};
use crate::rules::tidings;

/// One that can't be delivered for the moment is tried so often.
const ATTEMPTS: i32 = 6;

/// Sends the next e-mail; false if there is none.
pub async fn run_next(db: &PgPool, mailer: &Mailer) -> Result<bool, DeskError> {
    let Some(letter) = store::claim_mail(db).await? else { return Ok(false) };
    let posted = match tidings::mail(db, &letter).await {
        Ok(None) => Ok(Posted::Failed),
        Ok(Some(mail)) => mailer.send(&mail).await.map(|()| Posted::Sent),
        Err(error) => Err(error.into()),
    };
    let posted = posted.unwrap_or_else(|error| {
        tracing::warn!(run = letter.run.0, %error, "an e-mail was not sent");
        match error {
            MailError::Passing(_) | MailError::Unwritten(_) if letter.attempts < ATTEMPTS => {
                Posted::Again(60.0 * 2f64.powi(letter.attempts - 1))
            }
            _ => Posted::Failed,
        }
    });
    store::posted(db, &letter, posted).await?;
    Ok(true)
}
