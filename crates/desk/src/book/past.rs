//! An account as it was known on the evenings of past days.

use chrono::NaiveDate;
use tiller_store::PgPool;
use tiller_store::people::Account;

use super::{Book, Parts, PeriodChoice, load};
use crate::DeskError;
use crate::kept::Stamp;

/// All that makes up its books, read once for many evenings.
#[derive(Clone, Debug)]
pub struct Past {
    parts: Parts,
    choice: PeriodChoice,
}

impl Past {
    /// Of an account, from an evening on; none without reports.
    pub async fn of_account(
        db: &PgPool,
        account: &Account,
        choice: PeriodChoice,
        from: NaiveDate,
    ) -> Result<Option<Self>, DeskError> {
        let stamp = Stamp::read(db, account.id).await?;
        let parts = load::parts(db, account, choice, &stamp, Some(from)).await?;
        Ok(parts.map(|parts| Self { parts, choice }))
    }

    /// The book of an evening, without the days that no report covered yet; none before there were reports.
    pub fn evening(&self, day: NaiveDate) -> Result<Option<Book>, DeskError> {
        let settle_days = self.parts.account.settle_days();
        let period = self.choice.resolve(self.parts.covered(Some(day)), settle_days)?;
        Ok(period.map(|period| Book::new(&self.parts, period, Some(day))))
    }
}
