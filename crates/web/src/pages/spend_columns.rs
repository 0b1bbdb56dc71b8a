//! Which columns of Spend are shown, and in which order.

use tiller_desk::AccountId;
use tiller_desk::figure::{Figure, usual};
use tiller_desk::spend::Level;
use tower_sessions::Session;

use crate::error::PageError;
use crate::params::Params;

/// The session's key for the chosen columns.
const COLUMNS_KEY: &str = "spend-columns";

/// The columns that are shown, in their order: those that were asked for, else those of last time, else the
/// usual ones. What is asked for is remembered.
pub async fn chosen(
    session: &Session,
    params: &Params,
    account: AccountId,
    by_value: bool,
    level: Level,
) -> Result<Vec<&'static Figure>, PageError> {
    // Another account looks at other figures: each keeps its own.
    let key = format!("{COLUMNS_KEY}-{account}");
    let asked = params.text("columns");
    let chosen = if asked.is_empty() {
        session.get::<String>(&key).await?.unwrap_or_default()
    } else {
        session.insert(&key, asked).await?;
        asked.to_owned()
    };
    let named: Vec<&Figure> =
        chosen.split(',').filter_map(Figure::of).filter(|c| c.fits(level)).collect();
    Ok(if named.is_empty() { usual(by_value, level).collect() } else { named })
}
