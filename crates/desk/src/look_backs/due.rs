//! Look-backs whose day has come: judged once, and written down as they were found.

use tiller_core::Micros;
use tiller_core::change_effect::spells::Apart;
use tiller_core::change_effect::{CameOfIt, Worth};
use tiller_store::PgPool;
use tiller_store::look_backs::{Found, found};
use tiller_store::people::Account;

use super::Judge;
use crate::DeskError;
use crate::book::{Book, PeriodChoice};

/// Judges what is due.
pub(crate) async fn judge(db: &PgPool, account: &Account) -> Result<(), DeskError> {
    let Some(book) = Book::load(db, account, PeriodChoice::default()).await? else {
        return Ok(());
    };
    let judge = Judge::of(db, &book).await?;
    let mut all = Vec::new();
    for (campaign, spell) in judge.spells(Apart::Days, |n, _| Some(n)) {
        let mut open = spell.due.keys().map(|n| &judge.moved[*n]).filter(|m| m.open).peekable();
        if open.peek().is_none() {
            continue;
        }
        let worth = judge.effect(campaign, &spell).map(|e| Worth::sum([&e]));
        let came = worth.map_or(CameOfIt::Untold, |w| w.came_of_it());
        let worth = worth.map(|w| {
            let range = w.wide_range();
            [w.mid, range.low, range.high].map(|x| Micros::from_units(x).get())
        });
        for m in open {
            let Some(look_back) = m.look_back else { continue };
            let with = spell.part - 1;
            all.push(Found { campaign, from: m.from, look_back, came, worth, with });
        }
    }
    // Changes of one day by several hands are written down together.
    all.dedup();
    Ok(found(db, account.id, &all).await?)
}
